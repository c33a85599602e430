"""Whether the drawing band is folded at a step, and how high it is: as it was left for the step's group of work."""

from __future__ import annotations

import math

from wyntaxis.core.steps import FOOTPRINT, RECORDS, Step
from wyntaxis.desk.window_state import WindowState

STRIP_PX = 56
"""The folded band's height at the base text size, in px."""
NIGHT_SHARE = 0.42
"""How much of the window's height the night's timeline takes at the most."""
EMPTY_PX = 130
"""How high the drawing of a rig without parts is."""
DRAWN_PX = {"Build": math.inf, "Compute": 240, "Connect": 240, "Measure": math.inf}
"""How high each group's drawing is to begin with, in px at the base text size: some take all that there is for them."""
PROGRAMS_PX = 64
"""What a row of programs adds to the wiring, in px at the base text size."""
USUAL_SHARES, OTHER_SHARE, ROOMY_SHARE = {"Build": 0.4, "Measure": 0.4}, 0.3, 0.45
"""How much of the window's height the band takes at the most until the user gives it more: so that the worklist need
not scroll, or, where it does in any case or has room left, the last share.
"""
ROOMY_FROM_PX = 1000
MOST_SHARE = 0.7
"""How much of it the user may give the band."""
FOLDING_STEPS = (RECORDS, FOOTPRINT)
"""Steps whose sheet needs the room: there the drawing folds by itself."""


class DrawingShape:
    """Remembers the band's shape in the window's state."""

    def __init__(self, settings: WindowState) -> None:
        self._settings = settings

    def is_collapsed(self, step: Step) -> bool:
        """Return whether the strip stands in place of the drawing: as chosen, else where the step needs the room."""
        chosen = self._settings.word(f"band_{step.group}", "")
        if step.group not in DRAWN_PX:
            return True
        return chosen == "folded" if chosen else step in FOLDING_STEPS

    def turn(self, step: Step) -> bool:
        """Fold or unfold; False where the group has no drawing to unfold."""
        if step.group not in DRAWN_PX:
            return False
        self._settings.put(f"band_{step.group}", "open" if self.is_collapsed(step) else "folded")
        return True

    def height(
        self, step: Step, window_px: int, text_scale: float, *, is_empty: bool = False, has_programs: bool = False
    ) -> int:
        """Return the height in px that the band is to have in a window: as it was left, else as it needs."""
        strip = round(STRIP_PX * max(text_scale, 1.0))
        if self.is_collapsed(step):
            return strip
        share = USUAL_SHARES.get(step.group, OTHER_SHARE)
        if step.group in USUAL_SHARES and (text_scale > 1 or window_px >= ROOMY_FROM_PX):
            share = ROOMY_SHARE
        most = round(window_px * share)
        needed = EMPTY_PX if is_empty and step.group != "Connect" else DRAWN_PX[step.group]
        usual = min(needed * max(text_scale, 1.0), most)
        if has_programs and step.group == "Connect":
            usual += PROGRAMS_PX * text_scale
        return round(self._settings.number(f"band_height_{step.group}", usual, strip, MOST_SHARE * window_px))

    def keep_height(self, step: Step, height_px: int) -> None:
        """Remember the height that the user gave the band."""
        if not self.is_collapsed(step):
            self._settings.put(f"band_height_{step.group}", float(height_px))

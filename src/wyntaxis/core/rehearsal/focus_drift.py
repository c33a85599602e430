"""What focus does through the night: the tube cools, filters shift it, and the focuser's play falls short of a move."""

from __future__ import annotations

import math
from dataclasses import dataclass

from wyntaxis.core.evidence.headers.names import DEFAULT_FILTER_NAMES
from wyntaxis.core.optics.focus import SEEING_GROWTH, depth_of_focus_seeing
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.train.lightpath import magnifications

SOFT_GROWTH = 0.5
"""A frame whose stars are larger than in focus by more than this share is lost."""


@dataclass(frozen=True)
class FocusDrift:
    """How focus moves: ``slope`` in steps/°C, ``lash_steps`` that a move against the run's direction falls short by.

    ``half_zone_steps`` is how far off stars grow by a tenth; None where the rig does not tell.
    ``offsets`` gives by filter what programs move by and what is right, in steps.
    """

    slope: float = 0.0
    lash_steps: float = 0.0
    half_zone_steps: float | None = None
    offsets: dict[str, tuple[float, float]] | None = None

    def growth(self, steps: float) -> float:
        """Return by what share stars are larger so many steps off: ``√(1 + 2 τ (z/z₀)²) − 1``, 0 where unknown."""
        if self.half_zone_steps is None:
            return 0.0
        return math.sqrt(1 + 2 * SEEING_GROWTH * (steps / self.half_zone_steps) ** 2) - 1

    def change(self, before: str | None, after: str | None) -> float:
        """Return how far focus is off after a change of filter that only moves by the offsets, in steps.

        Parameters
        ----------
        before, after
            Filters' names; None for whatever focus was found through.

        Returns
        -------
        float
            Moved less what was right; a move to lower counters falls short by the play that nothing takes up.
        """
        known, key = self.offsets or {}, DEFAULT_FILTER_NAMES.key
        was = known.get(key(before), (0.0, 0.0)) if before is not None else (0.0, 0.0)
        now = known.get(key(after), (0.0, 0.0)) if after is not None else (0.0, 0.0)
        move = now[0] - was[0]
        short = self.lash_steps if move < 0 else 0.0
        return move - (now[1] - was[1]) + min(short, abs(move))


def drift_of(rig: Rig, focuser: Device | None, wheel: Device | None) -> FocusDrift:
    """Return how focus moves with a rig: by what was measured, else stated; nothing moves where neither is there."""
    if focuser is None:
        return FocusDrift()
    lash, taken_up = focuser.best("backlash_steps") or 0.0, focuser.number("compensation_steps") or 0.0
    offsets = {
        DEFAULT_FILTER_NAMES.key(slot.name): (
            slot.focus_offset_steps or 0.0,
            slot.focus_offset_measured.value
            if slot.focus_offset_measured is not None
            else slot.focus_offset_steps or 0.0,
        )
        for slot in (wheel.slots if wheel is not None else ())
        if slot.name.strip()
    }
    return FocusDrift(
        focuser.best("temperature_slope_steps_c") or 0.0, max(lash - taken_up, 0.0), _half_zone(rig, focuser), offsets
    )


def _half_zone(rig: Rig, focuser: Device) -> float | None:
    """Return half the seeing's zone in steps."""
    step, seeing = focuser.best("step_um"), rig.site.seeing_fwhm_arcsec if rig.site is not None else None
    if not step or not seeing:
        return None
    focal = rig.telescope.focal_length_mm * math.prod(magnifications(rig.train))
    return depth_of_focus_seeing(focal / rig.telescope.aperture_mm, focal, seeing) / 2 / step

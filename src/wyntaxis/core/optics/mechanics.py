"""What hangs on the focuser, and whether its travel reaches focus."""

from __future__ import annotations

import math
from dataclasses import dataclass

from wyntaxis.core.optics.joints import guide_gaps, main_gaps
from wyntaxis.core.optics.lightpath import datum_index, magnifications, plates_of, total_shift
from wyntaxis.core.rig.model import Part, Rig, Telescope

STANDARD_GRAVITY = 9.80665
"""m/s², CGPM 1901."""


@dataclass(frozen=True)
class FocusReach:
    """Where the focuser has to stand for focus, in mm from racked in, and how far it goes."""

    telescope: Telescope
    focal_plane_mm: float
    glass_mm: float
    train_mm: float
    travel_mm: float

    @property
    def position_mm(self) -> float:
        """Return focal plane + glass shift − train; below 0 the train is too long, above the travel too short."""
        return self.focal_plane_mm + self.glass_mm - self.train_mm


def focus_reach(telescope: Telescope, parts: tuple[Part, ...], gaps_mm: list[float]) -> FocusReach | None:
    """Return the focus reach of a telescope with a train, None where its focuser is not described."""
    focuser = telescope.focuser
    if focuser is None or focuser.focal_plane_mm is None or focuser.travel_mm is None:
        return None
    length = math.fsum(part.optical_length_mm for part in parts) + math.fsum(gaps_mm)
    return FocusReach(telescope, focuser.focal_plane_mm, total_shift(plates_of(parts)), length, focuser.travel_mm)


def reach_cases(rig: Rig) -> list[tuple[Telescope, FocusReach | None]]:
    """Return the telescopes whose focus no corrector's distance fixes, each with its reach where that is known.

    A magnifying corrector without a required distance moves the focal plane by an unknown amount: then no case.
    """
    found = []
    if rig.train and datum_index(rig.train) is None and all(m == 1 for m in magnifications(rig.train)):
        found.append((rig.telescope, focus_reach(rig.telescope, rig.train, main_gaps(rig))))
    guide = rig.guiding.telescope
    if guide is not None and rig.guiding.path and guide.focuser is not None:
        found.append((guide, focus_reach(guide, rig.guiding.path, guide_gaps(rig))))
    return found


@dataclass(frozen=True)
class Load:
    """What hangs beyond the focuser: mass in g, moment about its face in N·m, and which parts state no mass."""

    mass_g: float
    moment_n_m: float
    centre_mm: float
    missing: tuple[str, ...]


def load(rig: Rig) -> Load:
    """Sum the masses beyond the focuser, each taken at its part's middle, the guide path at the prism.

    Moment ``Σ m g s`` with the train level, the worst attitude; s from the focuser's face.
    """
    items: list[tuple[Part, float]] = []
    at = 0.0
    tap_at = 0.0
    for part, gap in zip(rig.train, main_gaps(rig), strict=True):
        at += gap
        items.append((part, at + part.optical_length_mm / 2))
        if part.id == rig.guiding.taps and part.prism is not None:
            tap_at = at + part.prism.from_front_mm
        at += part.optical_length_mm
    if rig.guiding.kind == "off_axis":
        items += [(part, tap_at) for part in rig.guiding.path]
    mass = math.fsum(part.mass_g or 0.0 for part, _ in items)
    leverage = math.fsum((part.mass_g or 0.0) * place for part, place in items)
    return Load(
        mass_g=mass,
        moment_n_m=leverage * 1e-6 * STANDARD_GRAVITY,
        centre_mm=leverage / mass if mass else 0.0,
        missing=tuple(part.title for part, _ in items if part.mass_g is None),
    )

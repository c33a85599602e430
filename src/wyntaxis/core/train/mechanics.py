"""What hangs on the focuser, and whether its travel reaches focus."""

from __future__ import annotations

import math
from dataclasses import dataclass

from wyntaxis.core.optics.thinlens import focal_length_of, magnification_at
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import MAGNIFYING_KINDS, Part, Telescope
from wyntaxis.core.train.joints import guide_gaps, main_gaps
from wyntaxis.core.train.lightpath import back_focus, datum_index, magnifications, plates_of, total_shift

STANDARD_GRAVITY = 9.80665
"""m/s², CGPM 1901."""


@dataclass(frozen=True)
class FocusReach:
    """Where the focuser has to stand for focus, in mm from racked in, and how far it goes.

    Without a corrector the train counts up to the sensor. With one it counts up to the corrector's rear, and
    ``behind_mm`` is how far behind that the bare telescope would have its focus: ``d/m`` for a thin lens that brings it
    to d; then the position is an estimate, good to the ``uncertain_mm`` that the principal plane may lie elsewhere.
    """

    telescope: Telescope
    focal_plane_mm: float
    glass_mm: float
    train_mm: float
    travel_mm: float
    behind_mm: float = 0.0
    corrector: Part | None = None
    distance_mm: float = 0.0
    magnification: float = 1.0
    uncertain_mm: float = 0.0

    @property
    def position_mm(self) -> float:
        """Return focal plane + glass shift − train − d/m; below 0 too long a train, above the travel too short."""
        return self.focal_plane_mm + self.glass_mm - self.train_mm - self.behind_mm


def focus_reach(telescope: Telescope, parts: tuple[Part, ...], gaps_mm: list[float]) -> FocusReach | None:
    """Return the focus reach of a telescope with a train, None where its focuser is not described."""
    focuser = telescope.focuser
    if focuser is None or focuser.focal_plane_mm is None or focuser.travel_mm is None:
        return None
    length = math.fsum(part.optical_length_mm for part in parts) + math.fsum(gaps_mm)
    return FocusReach(telescope, focuser.focal_plane_mm, total_shift(plates_of(parts)), length, focuser.travel_mm)


def corrected_reach(rig: Rig) -> FocusReach | None:
    """Return the focus reach of a telescope with a corrector of stated distance and magnification, as a thin lens.

    The corrector brings to d behind it what the bare telescope would have at ``d/m`` behind it, m at the distance
    built (Gaussian optics). None where the focuser, or what the corrector does, is not described.
    """
    index, path, focuser = datum_index(rig.train), back_focus(rig), rig.telescope.focuser
    if index is None or path is None or focuser is None or focuser.focal_plane_mm is None or focuser.travel_mm is None:
        return None
    others = [part for part in rig.train if part.kind in MAGNIFYING_KINDS and part.magnification not in (None, 1)]
    magnification = path.corrector.magnification
    if any(part.id != path.corrector.id for part in others):
        return None
    distance = path.built_mm - path.glass_shift_mm
    lens = focal_length_of(magnification, path.stated_mm) if magnification is not None else None
    at_built = magnification_at(distance, lens) if lens is not None else 1.0
    if at_built <= 0 or distance <= 0:
        return None
    before = rig.train[: index + 1]
    length = math.fsum(part.optical_length_mm for part in before) + math.fsum(main_gaps(rig)[: index + 1])
    # The principal plane lies somewhere in the corrector: each mm of that moves focus by |1/m − 1| mm.
    unsure = abs(1 / at_built - 1) * path.corrector.optical_length_mm
    return FocusReach(
        rig.telescope,
        focuser.focal_plane_mm,
        total_shift(plates_of(before)),
        length,
        focuser.travel_mm,
        distance / at_built,
        path.corrector,
        distance,
        at_built,
        unsure,
    )


def reach_cases(rig: Rig) -> list[tuple[Telescope, FocusReach | None]]:
    """Return the telescopes of a rig that end in a camera, each with its focus reach where that is known."""
    found: list[tuple[Telescope, FocusReach | None]] = []
    if rig.train and datum_index(rig.train) is not None:
        found.append((rig.telescope, corrected_reach(rig)))
    elif rig.train:
        bare = all(m == 1 for m in magnifications(rig.train))
        found.append((rig.telescope, focus_reach(rig.telescope, rig.train, main_gaps(rig)) if bare else None))
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
    pickoff_at = 0.0
    for part, gap in zip(rig.train, main_gaps(rig), strict=True):
        at += gap
        items.append((part, at + part.optical_length_mm / 2))
        if part.id == rig.guiding.taps and part.prism is not None:
            pickoff_at = at + part.prism.from_front_mm
        at += part.optical_length_mm
    if rig.guiding.kind == "off_axis":
        items += [(part, pickoff_at) for part in rig.guiding.path]
    mass = math.fsum(part.mass_g or 0.0 for part, _ in items)
    leverage = math.fsum((part.mass_g or 0.0) * place for part, place in items)
    return Load(
        mass_g=mass,
        moment_n_m=leverage * 1e-6 * STANDARD_GRAVITY,
        centre_mm=leverage / mass if mass else 0.0,
        missing=tuple(part.title for part, _ in items if part.mass_g is None),
    )

"""The guide branch: where the guide sensor must stand to be in focus together with the main one."""

from __future__ import annotations

import math
from dataclasses import dataclass

from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import Part, Prism, Sensor
from wyntaxis.core.train.joints import guide_gaps, main_gaps
from wyntaxis.core.train.lightpath import (
    Plate,
    Stack,
    magnifications,
    plates_of,
    shift_standard,
    stack_of,
    total_shift,
)


@dataclass(frozen=True)
class Reach:
    """An adjustable part of the guide path, where it would have to be set, and by how much that is out of range.

    ``shortfall_mm`` is 0 inside the range; below 0 the part would have to be shorter than it can be, above 0 longer.
    """

    part: Part
    needed_mm: float
    low_mm: float
    high_mm: float

    @property
    def shortfall_mm(self) -> float:
        if self.needed_mm < self.low_mm:
            return self.needed_mm - self.low_mm
        return max(0.0, self.needed_mm - self.high_mm)

    @property
    def margin_mm(self) -> float:
        """Return how far the needed setting is from the nearer end of the range; below 0 when outside."""
        return min(self.needed_mm - self.low_mm, self.high_mm - self.needed_mm)


@dataclass(frozen=True)
class GuidePath:
    """The branch of a pick-off prism, in mm. Error > 0: the guide sensor sits too far from the prism."""

    pickoff: Part
    prism: Prism
    main_distance_mm: float
    main_plates: tuple[Plate, ...]
    guide_plates: tuple[Plate, ...]
    stack: Stack
    standard_mm: float
    reach: Reach | None

    @property
    def main_shift_mm(self) -> float:
        return total_shift(self.main_plates)

    @property
    def guide_shift_mm(self) -> float:
        return total_shift(self.guide_plates)

    @property
    def required_mm(self) -> float:
        """``X − G_main + G_guide``: glass after the prism in the main path makes the branch shorter."""
        return self.main_distance_mm - self.main_shift_mm + self.guide_shift_mm

    @property
    def built_mm(self) -> float:
        return self.stack.length_mm

    @property
    def error_mm(self) -> float:
        return self.built_mm - self.required_mm


def pickoff_index(rig: Rig) -> int | None:
    """Return the index in the train of the off-axis guider that guiding taps, or None."""
    if rig.guiding.kind != "off_axis":
        return None
    return next((i for i, part in enumerate(rig.train) if part.id == rig.guiding.taps), None)


def guide_path(rig: Rig) -> GuidePath | None:
    """Return the guide branch, or None where the geometry does not give one.

    That is: for other kinds of guiding, while a camera is missing at either end, and where a magnifying corrector
    stands behind the prism on either side, since then the two foci no longer move together one to one.
    """
    index = pickoff_index(rig)
    if index is None or rig.camera is None or rig.guiding.camera is None:
        return None
    pickoff = rig.train[index]
    if pickoff.prism is None:
        return None
    after, path = rig.train[index + 1 :], rig.guiding.path
    if any(factor != 1 for factor in magnifications(after) + magnifications(path)):
        return None
    main_plates = plates_of(after, with_back_focus_counted=True)
    guide_plates = plates_of(path)
    # A gap in front of the guider lies before the prism and does not count.
    after_stack = stack_of(rig.train[index:], [0.0, *main_gaps(rig)[index + 1 :]])
    stack = stack_of(path, guide_gaps(rig))
    distance = after_stack.length_mm - pickoff.prism.from_front_mm
    required = distance - total_shift(main_plates) + total_shift(guide_plates)
    return GuidePath(
        pickoff=pickoff,
        prism=pickoff.prism,
        main_distance_mm=distance,
        main_plates=main_plates,
        guide_plates=guide_plates,
        stack=stack,
        standard_mm=math.hypot(
            after_stack.standard_mm, stack.standard_mm, shift_standard(main_plates), shift_standard(guide_plates)
        ),
        reach=_reach(path, stack.length_mm - required),
    )


def _reach(path: tuple[Part, ...], error_mm: float) -> Reach | None:
    """Return the adjustable part that comes nearest to taking the error up."""
    found = [
        Reach(part, part.adjustable.set_mm - error_mm, part.adjustable.min_mm, part.adjustable.max_mm)
        for part in path
        if part.adjustable
    ]
    return max(found, key=lambda reach: reach.margin_mm, default=None)


@dataclass(frozen=True)
class GuideOptics:
    """Focal length (with its standard uncertainty, mm) and sensor that the guide camera works with."""

    focal_length_mm: float
    focal_length_standard_mm: float
    shares_main: bool
    sensor: Sensor


def guide_optics(rig: Rig, main_focal_length_mm: float, main_standard_mm: float) -> GuideOptics | None:
    """Return what the guide camera looks through: the main optics behind a prism, or a telescope of its own."""
    camera = rig.guiding.camera
    if camera is None or camera.sensor is None:
        return None
    if rig.guiding.kind == "off_axis":
        # Correctors behind the prism are not in the guide beam; those in the guide path are.
        behind = rig.train[(pickoff_index(rig) or 0) :]
        factor = math.prod(magnifications(rig.guiding.path)) / math.prod(magnifications(behind))
        return GuideOptics(main_focal_length_mm * factor, main_standard_mm * factor, True, camera.sensor)
    telescope = rig.guiding.telescope
    if telescope is None:
        return None
    factor = math.prod(magnifications(rig.guiding.path))
    standard = (telescope.focal_length_tolerance_mm or 0.0) / math.sqrt(3)
    return GuideOptics(telescope.focal_length_mm * factor, standard * factor, False, camera.sensor)

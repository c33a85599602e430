"""Back focus along the main train: the datum, what is built after it, what is required, and the tolerance stack."""

from __future__ import annotations

import math
from dataclasses import dataclass

from wyntaxis.core.ledger import rectangular, rss
from wyntaxis.core.optics.focus import plate_focus_shift
from wyntaxis.core.optics.uniform_sum import probability_inside
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import MAGNIFYING_KINDS, Glass, Part
from wyntaxis.core.train.joints import main_gaps


@dataclass(frozen=True)
class Contribution:
    """What one part lends to a length: its optical length and the half-width of its tolerance, in mm."""

    part_id: str
    title: str
    length_mm: float
    half_width_mm: float

    @property
    def standard_mm(self) -> float:
        return rectangular(self.half_width_mm)


@dataclass(frozen=True)
class Stack:
    """Parts in a row and how their lengths and tolerances add up."""

    contributions: tuple[Contribution, ...]

    @property
    def length_mm(self) -> float:
        return math.fsum(c.length_mm for c in self.contributions)

    @property
    def worst_case_mm(self) -> float:
        """Σ|a|: every part at the end of its tolerance on the same side."""
        return math.fsum(c.half_width_mm for c in self.contributions)

    @property
    def standard_mm(self) -> float:
        """Root sum of squares of the parts' standard uncertainties a/√3."""
        return rss(c.standard_mm for c in self.contributions)


@dataclass(frozen=True)
class Plate:
    """A glass plate in the beam, the part it sits in, and how far it shifts the focus, in mm."""

    part_id: str
    glass: Glass
    shift_mm: float
    half_width_mm: float


@dataclass(frozen=True)
class BackFocus:
    """Everything about the distance from the datum to the sensor, in mm. Error > 0: the sensor sits too far."""

    corrector: Part
    stack: Stack
    plates: tuple[Plate, ...]
    glass_shift_mm: float
    glass_standard_mm: float
    stated_mm: float
    tolerance_mm: float | None

    @property
    def required_mm(self) -> float:
        return self.stated_mm + self.glass_shift_mm

    @property
    def built_mm(self) -> float:
        return self.stack.length_mm

    @property
    def error_mm(self) -> float:
        return self.built_mm - self.required_mm

    @property
    def error_standard_mm(self) -> float:
        return math.hypot(self.stack.standard_mm, self.glass_standard_mm)

    @property
    def half_widths_mm(self) -> tuple[float, ...]:
        """The half-widths of all that the error rests on: lengths, and what plates' thicknesses do to the shift."""
        return (
            *(c.half_width_mm for c in self.stack.contributions),
            *(plate.half_width_mm for plate in self.plates),
        )

    @property
    def worst_case_mm(self) -> float:
        """Σ|a|: every part and every plate at the end of its tolerance on the same side."""
        return math.fsum(self.half_widths_mm)

    @property
    def probability_within(self) -> float | None:
        """P(error within ±tolerance) by the parts' own distributions, None where no tolerance is stated."""
        if self.tolerance_mm is None:
            return None
        return probability_inside(self.error_mm, self.half_widths_mm, self.tolerance_mm)


def datum_index(train: tuple[Part, ...]) -> int | None:
    """Return the index of the last corrector or extender with a required distance, or None without one."""
    found = [index for index, part in enumerate(train) if part.required_back_focus_mm is not None]
    return found[-1] if found else None


def magnifications(parts: tuple[Part, ...]) -> list[float]:
    """Return the magnification of every corrector and extender of a path; one that states none has 1."""
    return [part.magnification or 1.0 for part in parts if part.kind in MAGNIFYING_KINDS]


SAME_FACTOR = 0.01
"""How close a ratio comes to a known factor to be taken for it."""


@dataclass(frozen=True)
class LeftOut:
    """A part whose magnification explains a wrong focal length: left out, or counted twice."""

    part: Part
    magnification: float
    is_doubled: bool

    @property
    def kind(self) -> str:
        """Whether it is a reducer or an extender."""
        return "reducer" if self.magnification < 1 else "extender"


def left_out(rig: Rig, focal_ratio: float) -> LeftOut | None:
    """Return which part of the train a wrong focal length leaves out or counts twice, None where none explains it.

    Parameters
    ----------
    rig
        The rig, whose correctors and extenders are tried in turn.
    focal_ratio
        The wrong focal length over the right one; a pixel scale's is the other way round.

    Returns
    -------
    LeftOut or None
        The first part whose magnification, or one over it, is the ratio to 1 %.
    """
    for part in rig.train:
        factor = part.magnification
        if part.kind not in MAGNIFYING_KINDS or factor in (None, 1) or focal_ratio <= 0:
            continue
        for is_doubled, expected in ((False, 1 / factor), (True, factor)):
            if abs(focal_ratio / expected - 1) < SAME_FACTOR:
                return LeftOut(part, factor, is_doubled)
    return None


def stack_of(parts: tuple[Part, ...], gaps_mm: list[float]) -> Stack:
    """Return the stack of some parts and the bottoming gap in front of each; an adjustable part counts as set."""
    found: list[Contribution] = []
    for part, gap in zip(parts, gaps_mm, strict=True):
        if gap:
            found.append(Contribution(part.id, f"gap before {part.title}", gap, 0.0))
        found.append(Contribution(part.id, part.title, part.optical_length_mm, part.length_tolerance_mm or 0.0))
    return Stack(tuple(found))


def plates_of(parts: tuple[Part, ...], *, with_back_focus_counted: bool = False) -> tuple[Plate, ...]:
    """Return the plates that shift the focus of these parts.

    A plate counted inside a stated length adds nothing. For a guide branch, a plate that is counted only inside the
    corrector's required distance still stands in the main beam alone: ``with_back_focus_counted`` takes it in.
    """
    return tuple(
        Plate(
            part.id,
            glass,
            plate_focus_shift(glass.thickness_mm, glass.index),
            plate_focus_shift(glass.thickness_tolerance_mm or 0.0, glass.index),
        )
        for part in parts
        for glass in part.glass
        if not glass.counted or (with_back_focus_counted and glass.counted_in == "back_focus")
    )


def total_shift(plates: tuple[Plate, ...]) -> float:
    """Return the sum of the plates' shifts, in mm."""
    return math.fsum(plate.shift_mm for plate in plates)


def shift_standard(plates: tuple[Plate, ...]) -> float:
    """Return the standard uncertainty of the summed shift, in mm."""
    return rss(rectangular(plate.half_width_mm) for plate in plates)


def main_plates(rig: Rig) -> tuple[Plate, ...]:
    """Return the plates that shift the main focus: those after the datum, or all of the train without a datum."""
    index = datum_index(rig.train)
    return plates_of(rig.train if index is None else rig.train[index + 1 :])


def with_datum(rig: Rig) -> Rig:
    """Return the rig with the rear of its bare telescope as a part of no length, where that is the datum.

    It is where the telescope states a required distance, and nothing of the train does.
    """
    telescope = rig.telescope
    if telescope.required_back_focus_mm is None or datum_index(rig.train) is not None:
        return rig
    rear = Part(
        id=telescope.id,
        kind="corrector",
        name=telescope.title,
        length_mm=0.0,
        required_back_focus_mm=telescope.required_back_focus_mm,
        back_focus_tolerance_mm=telescope.back_focus_tolerance_mm,
        rear=telescope.rear,
    )
    return rig.model_copy(update={"train": (rear, *rig.train)})


def back_focus(rig: Rig) -> BackFocus | None:
    """Return the back focus of a rig, or None where nothing states a required distance or no camera ends the train.

    The datum is the rear of the last corrector with a distance, else that of a bare telescope with one.
    """
    rig = with_datum(rig)
    index = datum_index(rig.train)
    if index is None or rig.camera is None:
        return None
    corrector = rig.train[index]
    if corrector.required_back_focus_mm is None:
        return None
    after = rig.train[index + 1 :]
    plates = main_plates(rig)
    return BackFocus(
        corrector=corrector,
        stack=stack_of(after, main_gaps(rig)[index + 1 :]),
        plates=plates,
        glass_shift_mm=total_shift(plates),
        glass_standard_mm=shift_standard(plates),
        stated_mm=corrector.required_back_focus_mm,
        tolerance_mm=corrector.back_focus_tolerance_mm,
    )

"""The section of the light path in mm: where every part, plane and ray lies, ready to be drawn to scale.

Along the axis, 0 is the telescope's rear face and the sensor lies at the far end; across it, 0 is the optical axis.
Lengths along the axis are the document's. Radii that no maker states are conventional and only for drawing.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace

from wyntaxis.core.ledger import Verdict
from wyntaxis.core.optics.imaging import focal_ratio
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.device_kinds import DEVICE_KINDS
from wyntaxis.core.rig.marks import parse_path
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import MAGNIFYING_KINDS, Joint, Part
from wyntaxis.core.train.guidepath import guide_path
from wyntaxis.core.train.joints import guide_gaps, main_gaps, meetings
from wyntaxis.core.train.lightpath import back_focus, datum_index, magnifications

WALL_MM = 4.0
DEFAULT_OPENING_RADIUS_MM = 21.0
GUIDE_OPENING_RADIUS_MM = 7.0
CAMERA_BEHIND_SENSOR_MM = 9.0
_HOUSING_MM = {"off_axis_guider": 6.0, "filter_drawer": 8.0} | {
    kind.id: kind.housing_mm for kind in DEVICE_KINDS.values() if kind.is_part
}
"""How far parts stand out over their neighbours, for an opening of 42 mm."""
_THREAD_DIAMETER = re.compile(r"M([0-9]+(?:\.[0-9]+)?)x")
_INCHES = re.compile(r"([0-9]+(?:\.[0-9]+)?)in")


@dataclass(frozen=True)
class PlateShape:
    """A glass plate: its centre along the axis and its thickness in mm; its lean, along the axis over across it."""

    centre_mm: float
    thickness_mm: float
    lean: float = 0.0

    def outline(self, low_mm: float, high_mm: float) -> tuple[tuple[float, float], ...]:
        """Return its four corners between two heights over the axis: along the axis and across, in mm."""
        half = self.thickness_mm / 2
        ends = ((low_mm, -half), (low_mm, half), (high_mm, half), (high_mm, -half))
        return tuple((self.centre_mm + height * self.lean + side, height) for height, side in ends)


@dataclass(frozen=True)
class DeviceMark:
    """A device that a part is, or carries: whether it is connected, and who says so."""

    verdict: Verdict
    why: str


@dataclass(frozen=True)
class PartShape:
    """One part in section: from ``start_mm`` to ``end_mm`` along its own path, opening and outer radius."""

    part: Part
    place: DocumentPath
    number: str
    start_mm: float
    end_mm: float
    opening_radius_mm: float
    outer_radius_mm: float
    plates: tuple[PlateShape, ...]
    verdict: Verdict | None
    devices: tuple[DeviceMark, ...] = ()
    break_mm: float | None = None
    """Where it is drawn broken off, because it is shown shorter than it is (ISO 128, break line)."""
    assumed: frozenset[str] = frozenset()
    """Which of its values nobody gave."""

    @property
    def length_mm(self) -> float:
        return self.end_mm - self.start_mm

    @property
    def sensor_half_mm(self) -> float | None:
        return self.part.sensor.height_mm / 2 if self.part.sensor else None


@dataclass(frozen=True)
class Ray:
    """The light's edge at a place on the axis: radius on the axis, and of the bundle to the sensor's corner."""

    at_mm: float
    axial_mm: float
    corner_mm: float


@dataclass(frozen=True)
class Plane:
    """The sensor plane as required and as built, in mm along its path, and the half-width allowed."""

    built_mm: float
    required_mm: float
    allowed_mm: float | None
    standard_mm: float

    @property
    def error_mm(self) -> float:
        return self.built_mm - self.required_mm


@dataclass(frozen=True)
class Branch:
    """The guide path: where it leaves the axis, whether it turns up at a prism, its parts and its sensor plane."""

    at_mm: float
    height_mm: float
    turned: bool
    parts: tuple[PartShape, ...]
    plane: Plane | None
    is_stub: bool = False
    """Whether only its beginning is drawn, broken off."""

    @property
    def length_mm(self) -> float:
        return self.parts[-1].end_mm if self.parts else 0.0


@dataclass(frozen=True)
class JointMark:
    """A joint that cannot be trusted: where along its path (mm), on which path, and how bad."""

    at_mm: float
    on_branch: bool
    verdict: Verdict


@dataclass(frozen=True)
class Judged:
    """What a drawing tells of a rig beyond its geometry, once it is evaluated; parts by their id."""

    focal_ratio: float | None = None
    """As measured where it is; else the light is drawn as computed."""
    guide_allowed_mm: float | None = None
    """How far the guide sensor may be off its focus."""
    verdicts: Mapping[str, Verdict] = field(default_factory=dict)
    devices: Mapping[str, tuple[DeviceMark, ...]] = field(default_factory=dict)


@dataclass(frozen=True)
class Section:
    """Everything the section band draws."""

    parts: tuple[PartShape, ...]
    rays: tuple[Ray, ...]
    datum_mm: float | None
    plane: Plane | None
    branch: Branch | None
    telescope_radius_mm: float
    joints: tuple[JointMark, ...] = ()

    @property
    def length_mm(self) -> float:
        return self.parts[-1].end_mm if self.parts else 0.0

    @property
    def top_mm(self) -> float:
        """Return the greatest distance from the axis that anything drawn reaches."""
        tops = [shape.outer_radius_mm for shape in self.parts] + [self.telescope_radius_mm + WALL_MM]
        if self.branch is not None:
            ends = CAMERA_BEHIND_SENSOR_MM if any(s.part.kind == "camera" for s in self.branch.parts) else 0.0
            rise = (
                self.branch.length_mm + ends + 2
                if self.branch.turned
                else max((shape.outer_radius_mm for shape in self.branch.parts), default=0.0)
            )
            tops.append(self.branch.height_mm + rise)
        return max(tops)

    def all_parts(self) -> tuple[PartShape, ...]:
        """Return the parts of the train, then those of the guide path."""
        return self.parts + (self.branch.parts if self.branch else ())


def lay_out(rig: Rig, judged: Judged | None = None) -> Section:
    """Lay a rig out in mm.

    Parameters
    ----------
    rig
        The rig.
    judged
        What is known of it beyond its geometry, once it is evaluated; without it, nothing is marked.

    Returns
    -------
    Section
        Ready to be drawn.
    """
    known = judged or Judged()
    parts = _row(rig.train, ("train",), main_gaps(rig), known, _assumed(rig))
    length = parts[-1].end_mm if parts else 0.0
    index = datum_index(rig.train)
    path = back_focus(rig)
    branch = _branch(rig, parts, known)
    return Section(
        parts=parts,
        rays=_rays(rig, parts, known.focal_ratio or _computed_ratio(rig)),
        datum_mm=parts[index].end_mm if index is not None else 0.0 if path is not None else None,
        plane=Plane(length, length - path.error_mm, path.tolerance_mm, path.error_standard_mm) if path else None,
        branch=branch,
        telescope_radius_mm=_thread_radius(rig.telescope.rear) or (parts[0].outer_radius_mm if parts else 30.0),
        joints=tuple(_joint_marks(rig, parts, branch.parts if branch else ())),
    )


def _computed_ratio(rig: Rig) -> float:
    factor = math.prod(magnifications(rig.train))
    return focal_ratio(rig.telescope.focal_length_mm * factor, rig.telescope.aperture_mm)


def _joint_marks(rig: Rig, parts: tuple[PartShape, ...], branch: tuple[PartShape, ...]) -> Iterator[JointMark]:
    for meeting in meetings(rig):
        state = meeting.state
        on_branch = meeting.path == "guide"
        shapes = branch if on_branch else parts
        if meeting.place >= len(shapes):
            continue
        at = shapes[meeting.place].start_mm
        if (
            state.mating in ("thread", "pitch", "gender", "slip")
            or meeting.open_gap_mm > 0
            or state.seat == "no shoulder"
        ):
            yield JointMark(at, on_branch, Verdict.FAILS)
        elif state.seat == "may tilt":
            yield JointMark(at, on_branch, Verdict.TIGHT)


def _assumed(rig: Rig) -> dict[DocumentPath, frozenset[str]]:
    """Return what nobody gave of each part, by its place: the key, or the first one below it."""
    found: dict[DocumentPath, set[str]] = {}
    for text in rig.assumed:
        path = parse_path(text)
        depth = 2 if path[0] == "train" else 3
        if len(path) > depth:
            found.setdefault(path[:depth], set()).add(str(path[depth]))
    return {place: frozenset(keys) for place, keys in found.items()}


def _row(
    parts: tuple[Part, ...],
    where: DocumentPath,
    gaps_mm: list[float],
    judged: Judged,
    assumed: dict[DocumentPath, frozenset[str]],
) -> tuple[PartShape, ...]:
    shapes: list[PartShape] = []
    at = 0.0
    prefix, opening_mm = ("g", GUIDE_OPENING_RADIUS_MM) if where[0] == "guiding" else ("", DEFAULT_OPENING_RADIUS_MM)
    for index, part in enumerate(parts):
        at += gaps_mm[index]
        end = at + part.optical_length_mm
        opening = part.clear_aperture_mm / 2 if part.clear_aperture_mm else _opening(part, opening_mm)
        if prefix:
            opening = min(opening, opening_mm + 1)  # the branch is drawn slim, to leave the train in sight
        widest = max(
            (radius for radius in (_thread_radius(part.front), _thread_radius(part.rear)) if radius), default=0
        )
        housing = _HOUSING_MM.get(part.kind, 0.0) * opening_mm / DEFAULT_OPENING_RADIUS_MM
        shape = PartShape(
            part=part,
            place=(*where, index),
            number=f"{prefix}{index + 1}",
            start_mm=at,
            end_mm=end,
            opening_radius_mm=opening,
            outer_radius_mm=max(opening + WALL_MM, 0 if prefix else widest + 1.5) + housing,
            plates=(),
            verdict=judged.verdicts.get(part.id),
            devices=judged.devices.get(part.id, ()),
            assumed=assumed.get((*where, index), frozenset()),
        )
        shapes.append(replace(shape, plates=_plates(shape)))
        at = end
    return tuple(shapes)


def _opening(part: Part, default_mm: float) -> float:
    radii = [radius for radius in (_thread_radius(part.front), _thread_radius(part.rear)) if radius]
    return min(radii) - 1.5 if radii and min(radii) > 4 else default_mm


def _thread_radius(joint: Joint | None) -> float | None:
    if joint is None:
        return None
    if metric := _THREAD_DIAMETER.match(joint.thread):
        return float(metric[1]) / 2
    if inches := _INCHES.match(joint.thread):
        return float(inches[1]) * 25.4 / 2
    return None


def _plates(shape: PartShape) -> tuple[PlateShape, ...]:
    """Spread a part's plates evenly along it, drawn no thicker than the part."""
    count = len(shape.part.glass)
    declared = DEVICE_KINDS.get(shape.part.kind)
    tilt = math.radians(declared.plate_tilt_deg) if declared is not None else 0.0
    room = shape.length_mm / (count + 1)
    found = []
    for index, glass in enumerate(shape.part.glass):
        thick = min(glass.thickness_mm, room)
        lean = min(math.tan(tilt), (room - thick / 2) / 2 / shape.opening_radius_mm)
        found.append(PlateShape(shape.start_mm + room * (index + 1), thick, lean))
    return tuple(found)


def _rays(rig: Rig, parts: tuple[PartShape, ...], ratio: float) -> tuple[Ray, ...]:
    """Trace the cone back from the sensor; at a corrector's middle its slope changes by the magnification."""
    if not parts:
        return ()
    end = parts[-1].end_mm
    half_diagonal = rig.sensor.diagonal_mm / 2 if rig.sensor else 0.0
    pupil = rig.telescope.exit_pupil_distance_mm
    slope, radius, at = 1 / (2 * ratio), 0.0, end
    rays = [Ray(end, 0.0, half_diagonal)]

    def chief(place_mm: float) -> float:
        return half_diagonal * (1 - (end - place_mm) / pupil) if pupil else half_diagonal

    for shape in reversed(parts):
        if shape.part.kind in MAGNIFYING_KINDS:
            middle = (shape.start_mm + shape.end_mm) / 2
            radius += slope * (at - middle)
            slope *= shape.part.magnification or 1.0
            at = middle
            rays.append(Ray(at, radius, radius + chief(at)))
    radius += slope * at
    rays.append(Ray(0.0, radius, radius + chief(0.0)))
    return tuple(reversed(rays))


def _branch(rig: Rig, main: tuple[PartShape, ...], judged: Judged) -> Branch | None:
    parts = _row(rig.guiding.path, ("guiding", "path"), guide_gaps(rig), judged, _assumed(rig))
    if rig.guiding.kind == "none" or not parts:
        return None
    length = parts[-1].end_mm
    if rig.guiding.kind == "separate":
        top = max((shape.outer_radius_mm for shape in main), default=30.0)
        widest = max(shape.outer_radius_mm for shape in parts)
        end = main[-1].end_mm if main else length
        return Branch(end - length, top + widest + WALL_MM, False, parts, None)
    pickoff = next(shape for shape in main if shape.part.id == rig.guiding.taps)
    prism = pickoff.part.prism
    if prism is None:
        return None
    path = guide_path(rig)
    plane = Plane(length, length - path.error_mm, judged.guide_allowed_mm, path.standard_mm) if path else None
    return Branch(
        at_mm=pickoff.start_mm + prism.from_front_mm,
        height_mm=prism.edge_from_axis_mm + prism.height_mm / 2,
        turned=True,
        parts=parts,
        plane=plane,
    )

"""What the field's fault is: tilt of camera or telescope, spacing, collimation, flexure, a loose focuser, guiding.

One sweep tells a tilted plane from a bowl; which of camera and telescope is tilted, a second one tells with the camera
turned by half a turn: what turns with it is the camera's, what stays in the image's own frame is not.
"""

from __future__ import annotations

import datetime
import math
from collections.abc import Iterator
from dataclasses import dataclass

from wyntaxis.core.evidence.field.result import FieldResult, MeasuredSweep, Relation
from wyntaxis.core.evidence.field.surface import SURE
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.wording import number, plus_minus

MIN_TAIL, MIN_ALIKE = 0.06, 0.05
"""Skewness and ellipticity that are seen: (a² − b²)/(a² + b²) = 0.05 is 1.05 times as long as wide."""
TURN_SLACK_DEG = 15.0
OTHER_ALTITUDE_DEG = 15.0
OTHER_DAY = datetime.timedelta(hours=10)
OTHER_SPACING_MM = 0.05
CHI2_95 = 6.0
"""Two numbers that differ by chance alone have a squared distance below this in 95 of 100 cases."""


@dataclass(frozen=True)
class Cause:
    """One verdict on the field: what it is by key and in words, why, and what to do next."""

    key: str
    words: str
    evidence: tuple[str, ...]
    next: str


def relation_of(before: MeasuredSweep, after: MeasuredSweep) -> Relation:
    """Return how two sweeps differ by what their headers say.

    Parameters
    ----------
    before, after
        Sweeps in time.

    Returns
    -------
    Relation
        The strongest difference that is told.
    """
    spacings = (before.sweep.spacing_mm, after.sweep.spacing_mm)
    if None not in spacings and abs(spacings[1] - spacings[0]) >= OTHER_SPACING_MM:  # type: ignore[operator]
        return "spacing"
    one, other = before.sweep.header, after.sweep.header
    if one is not None and other is not None:
        if one.rotation_deg is not None and other.rotation_deg is not None:
            turned = abs((other.rotation_deg - one.rotation_deg + 180) % 360 - 180)
            if turned > 180 - TURN_SLACK_DEG:
                return "turned"
        if one.pier_side and other.pier_side and one.pier_side != other.pier_side:
            return "flip"
        heights = (one.altitude_deg, other.altitude_deg)
        if None not in heights and abs(heights[1] - heights[0]) > OTHER_ALTITUDE_DEG:  # type: ignore[operator]
            return "altitude"
    times = (before.sweep.time, after.sweep.time)
    if times[0] is not None and times[1] is not None and times[1] - times[0] > OTHER_DAY:
        return "day"
    return "repeat"


def causes(result: FieldResult) -> tuple[Cause, ...]:
    """Return what the field's faults are, each with its evidence and what to do next.

    Parameters
    ----------
    result
        Sweeps, measured.

    Returns
    -------
    tuple[Cause, ...]
        The gravest first; one that says so where nothing is wrong, none without a sweep.
    """
    entries = [entry for entry in result.sweeps if not entry.surface.why]
    if not entries:
        return ()
    found = []
    if len(entries) > 1:
        found += list(_compared(entries[-2], entries[-1], result))
    tilt_text = any(cause.key in ("tilt", "flexure", "loose") for cause in found)
    found += list(_of_one(entries[-1], result, tilt_text=tilt_text))
    if not found:
        evidence = tuple(_lines(entries[-1], result.optics.depth_um))
        found.append(Cause("flat", "the field is flat within the uncertainty of this sweep", evidence, ""))
    return tuple(found)


def _lines(entry: MeasuredSweep, depth_um: float | None) -> Iterator[str]:
    if depth_um is not None:
        yield f"half the depth of focus: {number(depth_um / 2, 1)} µm"
    for name, entries in (("tilt, middle to corner", entry.tilt_um), ("curvature at the corner", entry.curvature_um)):
        if entries is not None:
            yield f"{name}: {plus_minus(entries.value, entries.standard, 1)} µm"


def matters(estimate: Estimate | None, half_depth_um: float | None) -> bool:
    """Return whether a length in µm is certain, and over half the depth of focus where that is known."""
    if estimate is None or abs(estimate.value) < SURE * estimate.standard:
        return False
    return half_depth_um is None or abs(estimate.value) > half_depth_um


def _of_one(entry: MeasuredSweep, result: FieldResult, *, tilt_text: bool) -> Iterator[Cause]:
    """Yield what one sweep tells by itself."""
    half = result.optics.depth_um / 2 if result.optics.depth_um else None
    tilt, curvature, shape = entry.tilt_um, entry.curvature_um, entry.shape
    tail = shape.tail if shape.tail_deg is not None and (shape.tail or Estimate(0.0)).value > MIN_TAIL else None
    depth = "" if half is None else f"half the depth of focus: {number(half, 1)} µm"
    if matters(tilt, half) and not tilt_text:
        assert tilt is not None
        azimuth = entry.azimuth_deg
        where = "" if azimuth is None else f" toward {number(azimuth.value, 0)}°"
        lines = [f"plane: {plus_minus(tilt.value, tilt.standard, 1)} µm from middle to corner{where}", depth]
        vertex = entry.surface.vertex
        if vertex is not None and tail is not None:
            lines.append(
                "field curvature off the centre makes the same plane, and the stars' tails point one way: check that"
            )
        yield Cause(
            "tilt",
            "a tilt; this sweep cannot show whether the camera or the telescope is tilted",
            tuple(line for line in lines if line),
            "turn the camera by half a turn in its joint, change nothing else, and sweep again",
        )
    if matters(curvature, half):
        assert curvature is not None
        slope = result.flat.slope_um_mm
        yield Cause(
            "spacing",
            "field curvature: from the spacing behind the corrector, or the telescope’s own",
            tuple(
                line
                for line in (f"corner over middle: {plus_minus(curvature.value, curvature.standard, 1)} µm", depth)
                if line
            ),
            "see the spacing that makes it flat"
            if slope is not None
            else "change the spacing by half a millimetre and sweep again: two spacings show where it is flat",
        )
    if tail is not None:
        yield Cause(
            "collimation",
            "miscollimation: light is drawn out to one side everywhere",
            (
                f"skewness {plus_minus(tail.value, tail.standard, 2)} toward {number(shape.tail_deg or 0.0, 0)}° "
                "in the image, over the whole field",
            ),
            "collimate, then sweep again: field curvature off the centre looks like a tilt until then",
        )
    alike = shape.alike
    if alike is not None and shape.alike_deg is not None and alike.value > MIN_ALIKE:
        yield Cause(
            "guiding",
            "stars are long in one direction everywhere: guiding, wind or balance, not the field",
            (
                f"ellipticity {plus_minus(alike.value, alike.standard, 2)} along "
                f"{number(shape.alike_deg, 0)}° in the image",
            ),
            "look at the guide log of that time, or take one short exposure and look again",
        )


def _compared(before: MeasuredSweep, after: MeasuredSweep, result: FieldResult) -> Iterator[Cause]:
    """Yield what two sweeps tell together."""
    relation = result.relation or relation_of(before, after)
    if relation == "spacing":
        return
    planes = [_plane_um(entry) for entry in (before, after)]
    if planes[0] is not None and planes[1] is not None:
        half = result.optics.depth_um / 2 if result.optics.depth_um else None
        if relation == "turned":
            yield from _turned(planes[0], planes[1], half)
        else:
            yield from _changed(planes[0], planes[1], half, relation)
    if relation in ("repeat", "day"):
        yield from _jump(before, after, result)


@dataclass(frozen=True)
class _Plane:
    """A plane's rise toward +x and +y at the corner's distance, and its standard uncertainties; in µm."""

    x: float
    y: float
    u_x: float
    u_y: float

    def mixed(self, other: _Plane, sign: float, share: float) -> _Plane:
        return _Plane(
            share * (self.x + sign * other.x),
            share * (self.y + sign * other.y),
            share * math.hypot(self.u_x, other.u_x),
            share * math.hypot(self.u_y, other.u_y),
        )

    @property
    def length(self) -> Estimate:
        """Its length, what noise adds taken out."""
        noise = self.u_x**2 + self.u_y**2
        return Estimate(math.sqrt(max(self.x**2 + self.y**2 - noise, 0.0)), math.sqrt(noise / 2))

    @property
    def is_certain(self) -> bool:
        return (self.x / max(self.u_x, 1e-9)) ** 2 + (self.y / max(self.u_y, 1e-9)) ** 2 > CHI2_95

    @property
    def text(self) -> str:
        entries = self.length
        turn = f" toward {number(math.degrees(math.atan2(self.y, self.x)) % 360, 0)}°" if self.is_certain else ""
        return f"{plus_minus(entries.value, entries.standard, 1)} µm{turn}"


def _plane_um(entry: MeasuredSweep) -> _Plane | None:
    step = entry.step_um
    if step is None or entry.surface.tilt is None:
        return None
    (x, y), (u_x, u_y) = entry.surface.plane, entry.surface.plane_standard
    return _Plane(x * step.value, y * step.value, u_x * abs(step.value), u_y * abs(step.value))


def _turned(one: _Plane, other: _Plane, half: float | None) -> Iterator[Cause]:
    """Yield whose the tilt is: in the image, the camera's own stays when it is turned, the telescope's turns round."""
    camera, telescope = one.mixed(other, 1, 0.5), one.mixed(other, -1, 0.5)
    evidence = (
        f"before the turn {one.text}, after it {other.text}",
        f"half their sum, the camera’s: {camera.text}",
        f"half their difference, the telescope’s: {telescope.text}",
    )
    is_camera, is_telescope = (_counts(entry, half) for entry in (camera, telescope))
    if is_camera and is_telescope:
        words = "both are tilted: the camera’s side and the telescope’s"
        what = "square the camera’s side with its tilt plate first, then the focuser’s with its own"
    elif is_camera:
        words, what = "the camera’s side is tilted: it turned with the camera", "turn the tilt plate’s screws as listed"
    elif is_telescope:
        words = "the telescope’s side is tilted: it stayed when the camera was turned"
        what = "square the focuser, or the corrector in it; a tilt plate that turns with the camera can’t follow"
    elif _certain(one, half) or _certain(other, half):
        words, what = "a tilt; these two sweeps cannot show on which side", "repeat both sweeps with more frames"
    else:
        return
    yield Cause("tilt", words, evidence, what)


def _counts(plane: _Plane, half: float | None) -> bool:
    return plane.is_certain and (half is None or plane.length.value > half / 2)


def _certain(plane: _Plane, half: float | None) -> bool:
    return plane.is_certain and (half is None or plane.length.value > half)


def _changed(one: _Plane, other: _Plane, half: float | None, relation: Relation) -> Iterator[Cause]:
    """Yield whether the plane changed where nothing but the telescope's place, or the day, did."""
    change = other.mixed(one, -1, 1.0)
    evidence = (f"first {one.text}, then {other.text}", f"changed by {change.text}")
    if not _counts(change, half):
        if _certain(other, half):
            yield Cause(
                "tilt",
                "a tilt that stays the same; these sweeps cannot show whether the camera or the telescope is tilted",
                evidence,
                "turn the camera by half a turn in its joint, change nothing else, and sweep again",
            )
    elif relation in ("altitude", "flip"):
        yield Cause(
            "flexure",
            "flexure: the plane moves with where the telescope points",
            evidence,
            "look for what sags: focuser’s drawtube, slip joints, a heavy train; lock or brace it and sweep both again",
        )
    else:
        yield Cause(
            "loose",
            "something is loose: the plane is another, and nothing was changed",
            evidence,
            "tighten joints and the focuser’s lock, then sweep twice without touching anything",
        )


def _jump(before: MeasuredSweep, after: MeasuredSweep, result: FieldResult) -> Iterator[Cause]:
    """Yield whether best focus jumped between two sweeps."""
    one, other, depth = before.best_position, after.best_position, result.optics.depth_um
    if one is None or other is None or after.step_um is None or not depth:
        return
    if before.sweep.filter != after.sweep.filter:
        return
    change = Estimate(other.value - one.value, math.hypot(one.standard, other.standard))
    moved = after.in_um(change)
    if moved is None or abs(moved.value) < max(depth, 2 * SURE * moved.standard):
        return
    warm = (before.sweep.temperature_c, after.sweep.temperature_c)
    by = f"{number(warm[1] - warm[0], 1)} °C between them" if None not in warm else "no temperature is recorded"  # type: ignore[operator]
    yield Cause(
        "focuser",
        "best focus jumped between two sweeps: a loose focuser, or temperature",
        (
            f"by {plus_minus(change.value, change.standard, 1)} steps, "
            f"{plus_minus(moved.value, moved.standard, 0)} µm; {by}",
        ),
        "sweep twice in a row without touching anything: what jumps then is loose",
    )

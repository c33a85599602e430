"""What the field's fault is: tilt of camera or telescope, spacing, collimation, flexure, a loose focuser, guiding.

One sweep tells a tilted plane from a bowl; which of camera and telescope is tilted, a second one tells with the camera
turned: what stays the same in the image turned with the camera and is its own, what turns in the image is the
telescope's.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

from wyntaxis.core.evidence.field.result import FieldResult, MeasuredSweep, Relation
from wyntaxis.core.evidence.field.shares import Plane, is_flip_or_turn, plane_um, relation_in, tilt_shares, turn_in
from wyntaxis.core.evidence.field.surface import SURE
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.wording import number, plus_minus, signed

MIN_TAIL, MIN_ALIKE = 0.06, 0.05
"""Skewness and ellipticity that are seen: (a² − b²)/(a² + b²) = 0.05 is 1.05 times as long as wide."""


@dataclass(frozen=True)
class Cause:
    """One verdict on the field: what it is by key and in words, why, and what to do next."""

    key: str
    words: str
    evidence: tuple[str, ...]
    next: str


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
    pair = result.last_two
    if pair is not None:
        found += list(_compared(*pair, result))
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
            "turn the camera in its joint by 90° or more, change nothing else, and sweep the same stars again",
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
    relation = relation_in(result) or "repeat"
    if relation == "spacing":
        return
    planes = [plane_um(entry) for entry in (before, after)]
    if planes[0] is not None and planes[1] is not None:
        half = result.optics.depth_um / 2 if result.optics.depth_um else None
        if relation == "turned":
            yield from _turned((before, after), result, half)
        elif result.relation is None and relation == "flip" and is_flip_or_turn(before, after):
            yield Cause(
                "tilt",
                "the stars lie turned by half a turn: by a flip, or with the camera; nothing shows which",
                (f"first {planes[0].text}, then {planes[1].text}",),
                "choose how the last two sweeps differ: after the flip, or camera turned",
            )
        else:
            yield from _changed(planes[0], planes[1], half, relation)
    if relation in ("repeat", "day"):
        yield from _jump(before, after, result)


BY = {
    "stars": "as the stars show",
    "headers": "as the headers say",
    "said": "half a turn assumed: neither headers nor stars show the angle",
}


def _turned(pair: tuple[MeasuredSweep, MeasuredSweep], result: FieldResult, half: float | None) -> Iterator[Cause]:
    """Yield whose the tilt is."""
    planes = (plane_um(pair[0]), plane_um(pair[1]))
    answers, turn = tilt_shares(result), turn_in(result)
    if not answers or turn is None or planes[0] is None or planes[1] is None:
        return
    evidence = [
        f"before the turn {planes[0].text}, after it {planes[1].text}",
        f"the camera was turned by {number(abs(turn.angle_deg), 0)}°, {BY[turn.by]}",
    ]
    for shares in answers:
        way = "" if len(answers) == 1 else f", if the image turned by {signed(shares.turn_deg, 0)}°"
        evidence.append(f"the camera’s share{way}: {shares.camera.text}")
        evidence.append(f"the telescope’s share{way}: {shares.telescope.text}")
    sides = {(_counts(shares.camera, half), _counts(shares.telescope, half)) for shares in answers}
    is_tilted = any(_certain(plane, half) for plane in planes if plane is not None)
    if len(sides) > 1:
        found = (
            "a tilt; nothing shows which way the image turned, so neither on which side it is",
            "sweep once more over the same stars as before: they show the turn",
        )
    elif sides != {(False, False)}:
        found = SIDES[sides.pop()]
    elif is_tilted:
        found = ("a tilt; these two sweeps cannot show on which side", "repeat both sweeps with more frames")
    else:
        return
    words = f"{found[0]}, if the camera was turned by half a turn" if turn.by == "said" else found[0]
    yield Cause("tilt", words, tuple(evidence), found[1])


SIDES = {
    (True, True): (
        "both are tilted: the camera’s side and the telescope’s",
        "square the camera’s side with its tilt plate first, then the focuser’s with its own",
    ),
    (True, False): (
        "the camera’s side is tilted: it turned with the camera",
        "turn the tilt plate’s screws as listed",
    ),
    (False, True): (
        "the telescope’s side is tilted: it stayed when the camera was turned",
        "square the focuser, or the corrector in it; a tilt plate that turns with the camera can’t follow",
    ),
}
"""Whether the camera's side is tilted and the telescope's, in words, and what to do next."""


def _counts(plane: Plane, half: float | None) -> bool:
    return plane.is_certain and (half is None or plane.length.value > half / 2)


def _certain(plane: Plane, half: float | None) -> bool:
    return plane.is_certain and (half is None or plane.length.value > half)


def _changed(one: Plane, other: Plane, half: float | None, relation: Relation) -> Iterator[Cause]:
    """Yield whether the plane changed where nothing but the telescope's place, or the day, did."""
    change = other.plus(one, -1.0)
    evidence = (f"first {one.text}, then {other.text}", f"changed by {change.text}")
    if not _counts(change, half):
        if _certain(other, half):
            yield Cause(
                "tilt",
                "a tilt that stays the same; these sweeps cannot show whether the camera or the telescope is tilted",
                evidence,
                "turn the camera in its joint by 90° or more, change nothing else, and sweep the same stars again",
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

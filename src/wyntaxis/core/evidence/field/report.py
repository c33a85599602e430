"""How sweeps of the focuser are told: a row for each sweep, tilt and curvature, causes, and screws to turn."""

from __future__ import annotations

import math
from collections.abc import Iterator

from wyntaxis.core.evidence.field.causes import BY, causes
from wyntaxis.core.evidence.field.result import NO_STEP, RELATIONS, FieldResult, MeasuredSweep, ScrewAdvice
from wyntaxis.core.evidence.field.shape import FieldShape
from wyntaxis.core.evidence.field.shares import (
    Plane,
    relation_in,
    screws_for_all,
    screws_in,
    tilt_shares,
    turn_in,
)
from wyntaxis.core.evidence.reporting import Column, Report, Table, fact, text
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.wording import number, plus_minus, sentence

HINT = "of one frame: a hint, no measurement"


def _facts(result: FieldResult) -> JsonObject:
    """Return what JSON holds besides the sweeps: the last one, the spacing, the screws and the causes."""
    last, flat, screws = result.last, result.flat, screws_in(result)
    entries = _surface(last) if last is not None else _no_sweep(result)
    spacing: JsonObject = {"flat_at_mm": flat.flat_at_mm, "slope_um_mm": flat.slope_um_mm}
    spacing["points"] = [{"spacing_mm": mm, "curvature_um_corner": curvature} for mm, curvature in flat.points]
    if flat.why:
        spacing["why"] = flat.why
    return entries | {
        "spacing": spacing,
        "screws": _screws(screws),
        "tilt_left_um_corner": screws.left_um if screws is not None else None,
        "depth_of_focus_um": result.optics.depth_um,
        "verdicts": [
            {"cause": c.key, "verdict": c.words, "evidence": list(c.evidence), "next": c.next} for c in causes(result)
        ],
        "relation": relation_in(result),
        "camera_turn": _turn(result),
        "screws_for_all": _screws(screws_for_all(result)),
        "single_frames": [shape_json(shape) for shape in result.singles],
    }


def _no_sweep(result: FieldResult) -> JsonObject:
    why = "not a sweep: needs FOCUSPOS at four or more positions"
    keys = ("best_position", "tilt_arcmin", "tilt_azimuth_deg", "tilt_um_corner", "curvature_um_corner")
    return dict.fromkeys(keys) | {
        "zones": [],
        "why": why + (f"; single frames give {HINT[14:]}" if result.singles else ""),
    }


def _surface(entry: MeasuredSweep) -> JsonObject:
    """Return what one sweep tells of the surface of best focus."""
    surface, sweep = entry.surface, entry.sweep
    residuals = surface.residuals or (math.nan,) * len(entry.zoned.zones)
    entries: JsonObject = {
        "best_position": entry.best_position,
        "tilt_arcmin": entry.tilt_arcmin,
        "tilt_azimuth_deg": entry.azimuth_deg,
        "tilt_um_corner": entry.tilt_um,
        "curvature_um_corner": entry.curvature_um,
        "level_at_px": _level_px(entry),
        "step_um": entry.step_um,
        "step_is_measured": entry.step_is_measured,
        "sharpest_px": entry.zoned.sharpest_px,
        "zones": [
            {
                "x_px": zone.x,
                "y_px": zone.y,
                "best_position": zone.best_position,
                "stars": zone.stars,
                "residual_steps": None if math.isnan(left) else left,
            }
            | ({"why": zone.why} if zone.why else {})
            for zone, left in zip(entry.zoned.zones, residuals, strict=True)
        ],
        "shape": shape_json(entry.shape),
    }
    why = why_not(entry)
    if why:
        entries["why"] = why
    if surface.tilt is not None and surface.azimuth_deg is None:
        entries["why_no_azimuth"] = "the tilt is not certain: its direction is noise"
    return entries | {"sharpest_frame": sweep.sharpest.file}


def why_not(entry: MeasuredSweep) -> str:
    """Return why a sweep tells no tilt in µm, empty where it does."""
    if entry.surface.why:
        return entry.surface.why
    if entry.step_um is None:
        return NO_STEP
    return "" if entry.pixel_um is not None else "neither the rig nor the headers have the pixel size in µm"


def _level_px(entry: MeasuredSweep) -> dict[str, float] | None:
    vertex, sweep = entry.surface.vertex, entry.sweep
    if vertex is None:
        return None
    half = sweep.half_diagonal_px
    return {
        "x": vertex[0] * half + (sweep.size_px[0] - 1) / 2,
        "y": vertex[1] * half + (sweep.size_px[1] - 1) / 2,
    }


def _turn(result: FieldResult) -> JsonObject | None:
    """Return by how much the camera was turned, and whose the tilt is; a list of two where the sense is not known."""
    turn = turn_in(result)
    if turn is None:
        return None
    return {
        "image_turned_deg": turn.angle_deg,
        "by": turn.by,
        "shares": [
            {
                "image_turned_deg": shares.turn_deg,
                "camera": _plane(shares.camera),
                "telescope": _plane(shares.telescope),
            }
            for shares in tilt_shares(result)
        ],
    }


def _plane(plane: Plane) -> JsonObject:
    return {"tilt_um_corner": plane.length, "tilt_azimuth_deg": plane.azimuth_deg}


def _screws(advice: ScrewAdvice | None) -> list[JsonObject]:
    """Return the screws to turn; turns count above 0 where that side is to move away from the telescope."""
    if advice is None:
        return []
    return [
        {"azimuth_deg": s.azimuth_deg, "turns": s.turns, "move_um": s.move_um, "clock": s.clock, "words": s.words}
        for s in advice.turns
    ]


def shape_json(shape: FieldShape) -> JsonObject:
    """Return the shape of a frame's stars as JSON.

    Parameters
    ----------
    shape
        Of one frame.

    Returns
    -------
    dict
        Plain values.
    """
    entries: JsonObject = {
        "file": shape.file,
        "is": HINT,
        "alike": shape.alike,
        "alike_deg": shape.alike_deg,
        "radial": shape.radial,
        "tail": shape.tail,
        "tail_deg": shape.tail_deg,
        "zones": [
            {
                "x_px": zone.x,
                "y_px": zone.y,
                "stars": zone.stars,
                "fwhm_px": zone.fwhm_px,
                "elongation": zone.elongation,
                "position_angle_deg": zone.angle_deg,
                "radial": zone.radial,
            }
            for zone in shape.zones
        ],
    }
    return entries | ({"why": shape.why} if shape.why else {})


def summary_lines(result: FieldResult) -> Iterator[str]:
    """Yield what sweeps tell, a line each, with units; what could not be had, with the reason.

    Parameters
    ----------
    result
        Sweeps, measured.

    Yields
    ------
    str
        One line.
    """
    for entry in result.sweeps:
        why = why_not(entry)
        if why:
            yield f"{entry.sweep.name}: no tilt: {why}"
    for entry in result.sweeps:
        if entry.step_is_measured and entry.step_um is not None:
            stated = result.optics.step_um
            beside = "" if stated is None else f", not the {number(stated.value, 2)} µm stated"
            step = plus_minus(abs(entry.step_um.value), entry.step_um.standard, 2)
            yield f"{entry.sweep.name}: by how its discs grow a step is {step} µm at the sensor{beside}"
    last, half = result.last, (result.optics.depth_um or 0.0) / 2
    against = f", half the depth of focus is {number(half, 1)} µm" if half else ""
    if last is not None and last.tilt_um is not None and last.curvature_um is not None:
        tilt, angle = last.tilt_um, last.tilt_arcmin
        toward = last.azimuth_deg
        where = (
            "" if toward is None else f", rising toward {plus_minus(toward.value, toward.standard, 0)}° from the right"
        )
        arcmin = "" if angle is None else f" ({plus_minus(angle.value, angle.standard, 2)}′)"
        yield f"tilt: {plus_minus(tilt.value, tilt.standard, 1)} µm from middle to corner{arcmin}{where}{against}"
        yield f"corner to corner: {plus_minus(2 * tilt.value, 2 * tilt.standard, 1)} µm"
        curvature = last.curvature_um
        yield f"curvature: corner {plus_minus(curvature.value, curvature.standard, 1)} µm over the middle"
    flat = result.flat
    if flat.flat_at_mm is not None:
        built = result.optics.built_mm
        beside = "" if built is None else f"; built {number(built, 2)} mm"
        yield f"flat at {plus_minus(flat.flat_at_mm.value, flat.flat_at_mm.standard, 2)} mm{beside}"
    elif len(result.sweeps) > 1 or flat.points:
        yield f"spacing that makes it flat: not known: {flat.why}"
    relation, turn = relation_in(result), turn_in(result)
    if relation is not None:
        by = "" if turn is None else f" by {number(abs(turn.angle_deg), 0)}°, {BY[turn.by]}"
        yield f"the last two sweeps: {RELATIONS[relation]}{by}"
    yield from screw_lines(result)


def screw_lines(result: FieldResult) -> Iterator[str]:
    """Yield what to turn, a line each: for the camera's share first, where a turned camera shows it."""
    advice, whole, turn = screws_in(result), screws_for_all(result), turn_in(result)
    if advice is not None:
        if turn is not None:
            yield "for the camera’s share of the tilt:"
        yield from (entry.words for entry in advice.turns)
        yield f"left of it after these turns: {number(advice.left_um, 1)} µm from middle to corner"
    if turn is not None and whole is not None:
        yield "for all of the tilt, as long as the camera stays at this angle:"
        yield from (entry.words for entry in whole.turns)


def _used_zones(entry: MeasuredSweep) -> str:
    zones = entry.zoned.zones
    return f"{sum(zone.best_position is not None for zone in zones)} of {len(zones)}"


def _fact_of_surface(key: str) -> Column[MeasuredSweep]:
    return fact(key, lambda entry: _surface(entry).get(key), optional=key.startswith("why"))


Sweep = Column[MeasuredSweep]
IN_JSON_ALONE = (
    "tilt_arcmin",
    "level_at_px",
    "step_um",
    "step_is_measured",
    "sharpest_px",
    "zones",
    "shape",
    "why",
    "why_no_azimuth",
    "sharpest_frame",
)
SWEEPS = Table[FieldResult, MeasuredSweep](
    "sweeps",
    "Sweeps",
    lambda result: result.sweeps,
    (
        text("sweep", lambda entry: entry.sweep.name, "name"),
        text("filter", lambda entry: entry.sweep.filter, "filter"),
        Sweep("spacing", "mm", 2, lambda entry: entry.sweep.spacing_mm, "spacing_mm"),
        Sweep("zones", "", 0, _used_zones),
        Sweep("best position", "", 1, lambda entry: entry.best_position, "best_position"),
        Sweep("tilt", "µm", 1, lambda entry: entry.tilt_um, "tilt_um_corner"),
        Sweep("toward", "°", 0, lambda entry: entry.azimuth_deg, "tilt_azimuth_deg"),
        Sweep("curvature", "µm", 1, lambda entry: entry.curvature_um, "curvature_um_corner"),
        text("begun", lambda entry: entry.sweep.time, "begun"),
        fact("temperature_c", lambda entry: entry.sweep.temperature_c),
        *(_fact_of_surface(key) for key in IN_JSON_ALONE),
    ),
)


def _more(result: FieldResult) -> Iterator[str]:
    """Yield what a sheet shows in panels of its own: causes with their evidence, and the shape of single frames."""
    for cause in causes(result):
        yield cause.words + (f"; next: {cause.next}" if cause.next else "")
        yield from (f"    {line}" for line in cause.evidence)
    for shape in result.singles:
        yield f"{shape.file}, {HINT}: " + (shape.why or "zones")
        for zone in shape.zones:
            yield (
                f"    {zone.x:.0f}, {zone.y:.0f} px: FWHM {zone.fwhm_px:.2f} px, elongation {zone.elongation:.2f} "
                f"along {zone.angle_deg:.0f}°, {'radial' if zone.radial > 0 else 'tangential'} {abs(zone.radial):.2f}"
            )


def _answer(result: FieldResult) -> str:
    parts, last = [], result.last
    if last is not None and last.tilt_um is not None and last.curvature_um is not None:
        tilt, bend = last.tilt_um, last.curvature_um
        parts.append(f"tilt {plus_minus(tilt.value, tilt.standard, 0)} µm from middle to corner")
        parts.append(f"curvature {plus_minus(bend.value, bend.standard, 0)} µm")
    flat, built = result.flat.flat_at_mm, result.optics.built_mm
    if flat is not None:
        off = None if built is None else built - flat.value
        beside = "" if off is None else f": the sensor is {number(abs(off), 2)} mm too {'far' if off > 0 else 'near'}"
        parts.append(f"the field is flat at {plus_minus(flat.value, flat.standard, 2)} mm{beside}")
    return sentence("; ".join(parts))


REPORT = Report[FieldResult](
    (SWEEPS,), not_used=lambda result: result.not_used, answer=_answer, facts=_facts, lines=summary_lines, more=_more
)
"""How sweeps are told."""

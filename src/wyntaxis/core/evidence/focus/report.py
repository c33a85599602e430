"""How focus runs are told: a row for each run, its points, and what the runs tell together."""

from __future__ import annotations

import datetime
from collections.abc import Iterator
from typing import NamedTuple

from wyntaxis.core.evidence.focus.advice import (
    advice_of,
    drift_c_h,
    growth_percent,
    moved_filters,
    refocus_after_c,
    value_text,
)
from wyntaxis.core.evidence.focus.curve import FocusCurve
from wyntaxis.core.evidence.focus.focus_model import BACKLASH, SLOPE
from wyntaxis.core.evidence.focus.points import FocusPoint, FocusRun
from wyntaxis.core.evidence.focus.result import FocusResult
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.evidence.reporting import Column, Report, Table, entry_json, fact, text
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.rig.device_settings import SETTINGS
from wyntaxis.core.wording import number, plus_minus, sentence, short

FIRST_YEAR = 1980
"""Before it, a moment was told without a date."""


class RunWithCurve(NamedTuple):
    """A focus run and the curve fitted to it."""

    run: FocusRun
    curve: FocusCurve


def kind_of(curve: FocusCurve) -> str | None:
    """Return what a run is good for: to focus with, or to characterise the focuser; None without a curve."""
    if curve.best_position is None:
        return None
    return "characterising" if curve.characterises else "focusing"


def _begun(own: RunWithCurve) -> datetime.datetime | None:
    time = own.run.time
    return time if time is not None and time.year >= FIRST_YEAR else None


def _used(own: RunWithCurve) -> str:
    points = own.curve.points
    return f"{sum(point.used for point in points)} of {len(points)}"


def _far(own: RunWithCurve) -> dict[str, Estimate | None] | None:
    far = own.curve.far
    if far is None:
        return None
    return {"inner_px_step": far.inner_px_step, "outer_px_step": far.outer_px_step, "meet_at": far.meet_at}


Point = Column[FocusPoint]
POINT_COLUMNS: tuple[Column[FocusPoint], ...] = (
    text("frame or row", lambda point: point.file, "file"),
    Point("position", "steps", 0, lambda point: short(point.position)),
    Point("HFD", "px", 2, lambda point: point.hfd_px, "hfd_px"),
    Point("stars", "", 0, lambda point: point.stars),
    Point("saturated", "", 0, lambda point: point.saturated),
    text("counts", lambda point: point.used, "used"),
    text("why not", lambda point: point.why),
    fact("position", lambda point: point.position),
    fact("why", lambda point: point.why or None),
)
Run = Column[RunWithCurve]
RUNS = Table[FocusResult, RunWithCurve](
    "runs",
    "Focus runs",
    lambda result: [RunWithCurve(*pair) for pair in zip(result.runs, result.curves, strict=True)],
    (
        text("run", lambda own: own.run.name, "name"),
        text("filter", lambda own: own.run.filter, "filter"),
        Run("°C", "", 1, lambda own: own.run.temperature_c, "temperature_c"),
        text("way", lambda own: own.run.direction, "direction"),
        Run("points", "", 0, _used),
        Run("best position", "", 1, lambda own: own.curve.best_position, "best_position"),
        Run("HFD", "px", 2, lambda own: own.curve.hfd_px, "hfd_px"),
        Run("slope", "px/step", 4, lambda own: own.curve.slope_px_step, "slope_px_step"),
        Run("out/in", "", 2, lambda own: own.curve.symmetry, "symmetry", bare=True),
        text("kind", lambda own: kind_of(own.curve) or "no curve"),
        Run("took", "s", 0, lambda own: own.run.lasted_s, "lasted_s"),
        text("begun", _begun, "begun"),
        fact("kind", lambda own: kind_of(own.curve)),
        fact("points", lambda own: [entry_json(POINT_COLUMNS, point) for point in own.curve.points]),
        fact("far", _far),
        fact("why", lambda own: own.curve.why, optional=True),
    ),
)


def _facts(result: FocusResult) -> JsonObject:
    model, celsius, drift = result.model, refocus_after_c(result), drift_c_h(result)
    entries: JsonObject = {
        "step_um": result.step_um,
        "backlash_steps": model.backlash,
        "temperature": {"steps_per_c": model.slope, "span_c": model.span_c},
        "filters": [
            {"filter": entry.name, "offset_steps": entry.offset, "expected_steps": entry.expected_steps}
            | ({"why": entry.why} if entry.why else {})
            for entry in result.offsets
        ],
        "reference_filter": model.reference,
        "depth_of_focus_steps": result.depth_steps,
        "scatter_steps": model.scatter_steps,
        "triggers": {
            "temperature_c": celsius,
            "time_min": 60 * celsius / abs(drift) if celsius is not None and drift else None,
            "filters": moved_filters(result),
            "after_flip": True,
            "hfd_growth_percent": growth_percent(result),
        },
        "advice": [
            {"setting": entry.key, "value": entry.value, "arithmetic": entry.arithmetic} for entry in advice_of(result)
        ],
    }
    if result.why_no_step:
        entries["why_no_step"] = result.why_no_step
    if BACKLASH in model.why:
        entries["why_no_backlash"] = model.why[BACKLASH]
    if SLOPE in model.why:
        entries["temperature"]["why"] = model.why[SLOPE]
    return entries


def summary_lines(result: FocusResult) -> list[str]:
    """Return what runs tell together, a line each, with units; what could not be had, with the reason."""
    model = result.model

    def line(name: str, estimate: Estimate | None, digits: int, unit: str, why: str) -> str:
        if estimate is None:
            return f"{name}: not known: {why}"
        return f"{name}: {plus_minus(estimate.value, estimate.standard, digits)} {unit}"

    named = zip(result.runs, result.curves, strict=True)
    lines = [f"{run.name}: no curve: {curve.why}" for run, curve in named if curve.why]
    lines += [
        line("step", result.step_um, 3, "µm", result.why_no_step),
        line("backlash", model.backlash, 1, "steps, out minus in", model.why.get(BACKLASH, "")),
        line("temperature", model.slope, 2, "steps/°C", model.why.get(SLOPE, "")),
    ]
    for entry in result.offsets:
        glass = "" if entry.expected_steps is None else f"; by its glass {number(entry.expected_steps, 1)} steps"
        lines.append(line(f"{entry.name} against {model.reference}", entry.offset, 1, "steps", entry.why) + glass)
    if model.scatter_steps is not None:
        lines.append(f"scatter between runs: {number(model.scatter_steps, 1)} steps")
    if result.depth_steps is not None:
        lines.append(f"depth of focus: {number(result.depth_steps, 1)} steps")
    return lines


def _more(result: FocusResult) -> Iterator[str]:
    for curve in result.curves:
        for point in curve.points:
            if not point.used:
                yield f"not counted: {point.file}: {point.why}"
    for advice in advice_of(result):
        label = SETTINGS[advice.key].label.lower()
        yield f"set {label}: {value_text(advice)} ({'; '.join(advice.arithmetic)})"


def _answer(result: FocusResult) -> str:
    parts, backlash, slope = [], result.model.backlash, result.model.slope
    for key, name, estimate, digits, unit in (
        ("compensation_steps", "backlash", backlash, 1, "steps"),
        ("refocus_temperature_c", "temperature", slope, 2, "steps/°C"),
    ):
        if estimate is None:
            continue
        advice = next((entry for entry in advice_of(result) if entry.key == key), None)
        sets = f": set {SETTINGS[key].label.lower()} to {value_text(advice)}" if advice is not None else ""
        parts.append(f"{name} {plus_minus(estimate.value, estimate.standard, digits)} {unit}{sets}")
    best = [curve.best_position for curve in result.curves if curve.best_position is not None]
    if not parts and best:
        parts.append(f"best focus at {plus_minus(best[-1].value, best[-1].standard, 1)} steps")
    return sentence("; ".join(parts))


REPORT = Report[FocusResult](
    (RUNS,), not_used=lambda result: result.not_used, answer=_answer, facts=_facts, lines=summary_lines, more=_more
)
"""How focus runs are told."""

"""Focus runs as JSON, and as rows of texts for tables."""

from __future__ import annotations

from typing import Any

from wyntaxis.core.evidence.focus.advice import advice_of, drift_c_h, growth_percent, moved_filters, refocus_after_c
from wyntaxis.core.evidence.focus.curve import FarBranch, FocusCurve
from wyntaxis.core.evidence.focus.focus_model import BACKLASH, SLOPE
from wyntaxis.core.evidence.focus.points import FocusRun
from wyntaxis.core.evidence.focus.result import FocusResult
from wyntaxis.core.evidence.measured import Estimate, figure
from wyntaxis.core.wording import number, plus_minus


def focus_json(result: FocusResult) -> dict[str, Any]:
    """Return focus runs as ``wyntaxis focus --json`` prints them.

    Parameters
    ----------
    result
        Runs, measured.

    Returns
    -------
    dict
        Plain values; figures with their standard uncertainty, null with ``why`` beside where there is none.
    """
    model = result.model
    entries: dict[str, Any] = {
        "runs": [_run(run, curve) for run, curve in zip(result.runs, result.curves, strict=True)],
        "step_um": figure(result.step_um),
        "backlash_steps": figure(model.backlash),
        "temperature": {"steps_per_c": figure(model.slope), "span_c": model.span_c},
        "filters": [
            {"filter": entry.name, "offset_steps": figure(entry.offset), "expected_steps": entry.expected_steps}
            | ({"why": entry.why} if entry.why else {})
            for entry in result.offsets
        ],
        "reference_filter": model.reference,
        "depth_of_focus_steps": result.depth_steps,
        "scatter_steps": model.scatter_steps,
        "triggers": {
            "temperature_c": refocus_after_c(result),
            "time_min": _time_min(result),
            "filters": moved_filters(result),
            "after_flip": True,
            "hfd_growth_percent": growth_percent(result),
        },
        "advice": [
            {"setting": entry.key, "value": entry.value, "arithmetic": list(entry.arithmetic)}
            for entry in advice_of(result)
        ],
        "not_used": [{"file": entry.path, "why": entry.why} for entry in result.not_used],
    }
    if result.why_no_step:
        entries["why_no_step"] = result.why_no_step
    if BACKLASH in model.why:
        entries["why_no_backlash"] = model.why[BACKLASH]
    if SLOPE in model.why:
        entries["temperature"]["why"] = model.why[SLOPE]
    return entries


def _time_min(result: FocusResult) -> float | None:
    celsius, drift = refocus_after_c(result), drift_c_h(result)
    return 60 * celsius / abs(drift) if celsius is not None and drift else None


def _run(run: FocusRun, curve: FocusCurve) -> dict[str, Any]:
    entries: dict[str, Any] = {
        "name": run.name,
        "filter": run.filter,
        "temperature_c": run.temperature_c,
        "direction": run.direction,
        "points": [
            {"file": p.file, "position": p.position, "hfd_px": p.hfd_px, "used": p.used, "why": p.why or None}
            for p in curve.points
        ],
        "best_position": figure(curve.best_position),
        "hfd_px": figure(curve.hfd_px),
        "slope_px_step": figure(curve.slope_px_step),
        "symmetry": figure(curve.symmetry),
        "kind": kind_of(curve),
        "lasted_s": run.lasted_s,
        "begun": run.time.isoformat() if run.time is not None and run.time.year >= FIRST_YEAR else None,
        "far": _far(curve.far),
    }
    if curve.why:
        entries["why"] = curve.why
    return entries


def _far(far: FarBranch | None) -> dict[str, Any] | None:
    if far is None:
        return None
    return {
        "inner_px_step": figure(far.inner_px_step),
        "outer_px_step": figure(far.outer_px_step),
        "meet_at": figure(far.meet_at),
    }


def kind_of(curve: FocusCurve) -> str | None:
    """Return what a run is good for: to focus with, or to characterise the focuser; None without a curve."""
    if curve.best_position is None:
        return None
    return "characterising" if curve.characterises else "focusing"


def summary_lines(result: FocusResult) -> list[str]:
    """Return what runs tell together, a line each, with units; what could not be had, with the reason."""
    model = result.model

    def entries(name: str, estimate: Estimate | None, digits: int, unit: str, why: str) -> str:
        if estimate is None:
            return f"{name}: not known: {why}"
        return f"{name}: {plus_minus(estimate.value, estimate.standard, digits)} {unit}"

    named = zip(result.runs, result.curves, strict=True)
    lines = [f"{run.name}: no curve: {curve.why}" for run, curve in named if curve.why]
    lines += [
        entries("step", result.step_um, 3, "µm", result.why_no_step),
        entries("backlash", model.backlash, 1, "steps, out minus in", model.why.get(BACKLASH, "")),
        entries("temperature", model.slope, 2, "steps/°C", model.why.get(SLOPE, "")),
    ]
    for entry in result.offsets:
        glass = "" if entry.expected_steps is None else f"; by its glass {number(entry.expected_steps, 1)} steps"
        lines.append(entries(f"{entry.name} against {model.reference}", entry.offset, 1, "steps", entry.why) + glass)
    if model.scatter_steps is not None:
        lines.append(f"scatter between runs: {number(model.scatter_steps, 1)} steps")
    if result.depth_steps is not None:
        lines.append(f"depth of focus: {number(result.depth_steps, 1)} steps")
    return lines


FIRST_YEAR = 1980
"""Before it, a moment was told without a date."""
RUN_HEADINGS = (
    "run",
    "filter",
    "°C",
    "way",
    "points",
    "best position",
    "HFD px",
    "slope px/step",
    "out/in",
    "kind",
    "took s",
    "begun",
)


def run_row(run: FocusRun, curve: FocusCurve) -> list[str]:
    """Return one run as the cells under :data:`RUN_HEADINGS`.

    Parameters
    ----------
    run, curve
        A run and its curve.

    Returns
    -------
    list[str]
        Texts, units in the headings.
    """

    def entries(estimate: Estimate | None, digits: int) -> str:
        return "–" if estimate is None else plus_minus(estimate.value, estimate.standard, digits)

    return [
        run.name,
        run.filter or "–",
        "–" if run.temperature_c is None else number(run.temperature_c, 1),
        run.direction or "–",
        f"{sum(point.used for point in curve.points)} of {len(curve.points)}",
        entries(curve.best_position, 1),
        entries(curve.hfd_px, 2),
        entries(curve.slope_px_step, 4),
        "–" if curve.symmetry is None else number(curve.symmetry.value, 2),
        kind_of(curve) or "no curve",
        "–" if run.lasted_s is None else number(run.lasted_s, 0),
        "–" if run.time is None or run.time.year < FIRST_YEAR else run.time.strftime("%Y-%m-%d %H:%M"),
    ]

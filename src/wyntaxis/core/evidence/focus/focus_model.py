"""What several runs tell together: backlash, the tube's law of temperature, the filters' offsets, and the scatter.

One linear model of the best position, ``x₀ = c + s·(T − T̄) + offset(filter) ± backlash/2``, weighted by each run's
uncertainty and by how far runs scatter beyond it (Mandel and Paule, *Anal. Chem.* 42, 1970). What the runs cannot tell
apart is left open, with the reason.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from wyntaxis.core.evidence.focus.curve import FocusCurve
from wyntaxis.core.evidence.focus.points import FocusRun
from wyntaxis.core.evidence.headers.names import DEFAULT_FILTER_NAMES, FilterNames
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.fitting import LinearFit, extra_variance, student_factor, weighted_fit
from wyntaxis.core.json_values import JsonObject

MIN_TEMPERATURE_SPAN_C = 1.0
TELLABLE = 1e-6

SLOPE, BACKLASH, LEVEL = "slope", "backlash", "level"


@dataclass(frozen=True)
class FocusModel:
    """Backlash in steps, slope in steps/°C, offsets in steps by filter against the reference, and the runs' scatter.

    ``why`` tells of each of ``backlash``, ``slope`` and of each filter why it could not be had.
    """

    reference: str | None = None
    backlash: Estimate | None = None
    slope: Estimate | None = None
    mean_c: float | None = None
    span_c: float = 0.0
    offsets: Mapping[str, Estimate] = field(default_factory=dict)
    scatter_steps: float | None = None
    best_now: Estimate | None = None
    why: Mapping[str, str] = field(default_factory=dict)


def fit_focus_model(
    runs: Sequence[tuple[FocusRun, FocusCurve]],
    order: Sequence[str] = (),
    names: FilterNames = DEFAULT_FILTER_NAMES,
) -> FocusModel:
    """Return what runs tell together.

    Parameters
    ----------
    runs
        Runs with their curves; those without a best position count for nothing.
    order
        The filters of the wheel, in its order: of filters with as many runs, the first is the reference.
    names
        When two filters are one.

    Returns
    -------
    FocusModel
        Uncertainties are standard ones of so few runs that twice them cover 95 %.
    """
    good = [(run, curve.best_position) for run, curve in runs if curve.best_position is not None]
    if not good:
        none = "no run has a best position"
        return FocusModel(why={BACKLASH: none, SLOPE: none})
    why: dict[str, str] = {}
    filters = _filters(good, order, names)
    directions = {run.direction for run, _ in good}
    both = {"in", "out"} <= directions
    if not both:
        one = next((d for d in directions if d), None)
        why[BACKLASH] = (
            f"every run goes {one}; take one the other way" if one else "no run has a known focuser direction"
        )
    entries = [run.temperature_c for run, _ in good]
    known = [value for value in entries if value is not None]
    span = max(known) - min(known) if known else 0.0
    warm = len(known) == len(good) and span >= MIN_TEMPERATURE_SPAN_C
    if not warm:
        why[SLOPE] = (
            "not every run has a temperature"
            if len(known) < len(good)
            else f"the runs span {span:.1f} °C, and a slope needs {MIN_TEMPERATURE_SPAN_C:g} °C"
        )
    columns: JsonObject = {LEVEL: np.ones(len(good))}
    mean_c = sum(known) / len(known) if known else None
    if warm:
        columns[SLOPE] = np.array([value - (mean_c or 0.0) for value in known])
    if both:
        columns[BACKLASH] = np.array([{"out": 0.5, "in": -0.5}.get(run.direction or "", 0.0) for run, _ in good])
    for name in filters[1:]:
        columns[name] = np.array([float(run.filter is not None and names.same(run.filter, name)) for run, _ in good])
    found, scatter = _solved(columns, good)
    for name in columns:
        if found[name] is None:
            why[name] = "the runs change it together with something else; take more, one change at a time"
    return FocusModel(
        reference=filters[0] if filters else None,
        backlash=found.get(BACKLASH),
        slope=found.get(SLOPE),
        mean_c=mean_c if warm else None,
        span_c=span,
        offsets={name: entry for name in filters[1:] if (entry := found[name]) is not None},
        scatter_steps=scatter,
        best_now=found[LEVEL],
        why=why,
    )


def _filters(good: Sequence[tuple[FocusRun, Estimate]], order: Sequence[str], names: FilterNames) -> list[str]:
    """Return the runs' filters, the reference first."""
    counts: dict[str, list[str]] = {}
    for run, _ in good:
        if run.filter is not None:
            counts.setdefault(names.key(run.filter), []).append(run.filter)
    places = {names.key(name): place for place, name in reversed(list(enumerate(order)))}

    def rank(key: str) -> tuple[int, int]:
        return -len(counts[key]), places.get(key, len(order))

    return [counts[key][0] for key in sorted(counts, key=rank)]


def _solved(
    columns: Mapping[str, Any], good: Sequence[tuple[FocusRun, Estimate]]
) -> tuple[dict[str, Estimate | None], float | None]:
    """Return each parameter that the runs tell apart, and how far they scatter about the law, in steps."""
    design = np.stack(list(columns.values()), axis=-1)
    best = np.array([entry.value for _, entry in good])
    variance = np.maximum(np.array([entry.standard for _, entry in good]), 1e-6) ** 2
    rank = int(np.linalg.matrix_rank(design))
    free = len(best) - rank

    def fitted(extra: float) -> LinearFit:
        return weighted_fit(design, best, 1 / (variance + extra))

    def chi_square(extra: float) -> float:
        fit = fitted(extra)
        return float((fit.weights * fit.residuals**2).sum())

    extra = extra_variance(free, chi_square, float(np.ptp(best)) ** 2 + float(variance.max()))
    fit = fitted(extra)
    at, inverse, left = fit.parameters, fit.inverse, fit.residuals
    widened = student_factor(free) if free > 0 and extra > 0 else 1.0
    # A parameter is told where moving it alone changes what the runs would show.
    entries = np.linalg.pinv(design) @ design
    found: dict[str, Estimate | None] = {}
    for k, name in enumerate(columns):
        alone = abs(entries[k, k] - 1) < TELLABLE
        found[name] = Estimate(float(at[k]), widened * math.sqrt(float(inverse[k, k]))) if alone else None
    return found, math.sqrt(float(left @ left) / free) if free > 0 else None

"""What to set because of focus runs, each with its arithmetic: sampling, compensation, triggers, filter, exposure."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from wyntaxis.core.evidence.focus.curve import FocusCurve
from wyntaxis.core.evidence.focus.result import FocusResult
from wyntaxis.core.fitting import weighted_fit
from wyntaxis.core.limits import COMPENSATION_FACTOR, COMPENSATION_STEPS, REACH
from wyntaxis.core.rig.device_settings import SETTINGS
from wyntaxis.core.wording import number, short

REACH_RANGE = (2.5, 3.0)
RUN_POINTS, RUN_POINTS_RANGE = 9, (7, 11)
GROWTH_SIGMA = 3.0
MIN_GROWTH_PERCENT = 5.0
MAX_SATURATED_SHARE, MIN_STARS = 0.1, 10
MIN_DRIFT_H = 0.5


@dataclass(frozen=True)
class Advice:
    """One setting of the focuser and what it should be; ``arithmetic`` says why."""

    key: str
    value: float | bool | str
    arithmetic: tuple[str, ...]


def value_text(advice: Advice) -> str:
    """Return what is advised, with its unit."""
    if isinstance(advice.value, bool):
        return "yes" if advice.value else "no"
    if isinstance(advice.value, str):
        return advice.value
    return f"{short(advice.value)} {SETTINGS[advice.key].unit}".rstrip()


def run_step(curve: FocusCurve) -> float | None:
    """Return the step of the next focus run, in steps: so that the outermost of its points come to the reach."""
    if curve.hfd_px is None or curve.slope_px_step is None:
        return None
    half = curve.hfd_px.value * math.sqrt(REACH**2 - 1) / curve.slope_px_step.value
    return half / ((RUN_POINTS - 1) / 2)


def refocus_after_c(result: FocusResult) -> float | None:
    """Return the change of temperature in °C that moves focus by half its depth."""
    depth, slope = result.depth_steps, result.model.slope
    return depth / 2 / abs(slope.value) if depth and slope is not None and slope.value else None


def drift_c_h(result: FocusResult) -> float | None:
    """Return how fast the tube cooled over the runs, in °C/h; None where they tell no two times or temperatures."""
    entries = [(run.time, run.temperature_c) for run in result.runs if run.time and run.temperature_c is not None]
    if len(entries) < 2:
        return None
    first = min(time for time, _ in entries)
    hours = np.array([(time - first).total_seconds() / 3600 for time, _ in entries])
    if not MIN_DRIFT_H <= float(np.ptp(hours)) <= 24:
        return None
    design = np.stack([np.ones(len(hours)), np.asarray(hours, dtype=float)], axis=1)
    return float(weighted_fit(design, np.array([temperature for _, temperature in entries])).parameters[1])


def moved_filters(result: FocusResult) -> list[str]:
    """Return the filters that move focus by more than half its depth: after a change to them one must refocus."""
    depth = result.depth_steps
    if depth is None:
        return []
    return [entry.name for entry in result.offsets if entry.offset and abs(entry.offset.value) > depth / 2]


def growth_percent(result: FocusResult) -> float | None:
    """Return by how much the star size must grow before it is more than its scatter, in %."""
    scatters = [curve.scatter_share for curve in result.curves if curve.scatter_share is not None]
    return max(GROWTH_SIGMA * 100 * float(np.median(scatters)), MIN_GROWTH_PERCENT) if scatters else None


def advice_of(result: FocusResult) -> Iterator[Advice]:
    """Yield what to set, each with its arithmetic.

    Parameters
    ----------
    result
        What focus runs tell.

    Yields
    ------
    Advice
        In the units of the focuser's settings.
    """
    yield from _sampling(result)
    backlash = result.model.backlash
    if backlash is not None:
        most = abs(backlash.value) + 2 * backlash.standard
        value = COMPENSATION_STEPS * math.ceil(COMPENSATION_FACTOR * most / COMPENSATION_STEPS)
        sum_text = f"{number(abs(backlash.value), 1)} + 2 × {number(backlash.standard, 1)} = {number(most, 1)} steps"
        yield Advice("compensation_steps", float(value), (f"{sum_text}, a quarter more: {value} steps",))
    yield from _triggers(result)
    yield from _what_to_focus_with(result)


def _sampling(result: FocusResult) -> Iterator[Advice]:
    focusing = [curve for curve in result.curves if not curve.characterises] or list(result.curves)
    steps = [step for curve in focusing if (step := run_step(curve)) is not None]
    if not steps:
        return
    step = float(np.median(steps))
    curve = next(curve for curve in focusing if run_step(curve) is not None)
    assert curve.hfd_px is not None
    assert curve.slope_px_step is not None
    half = curve.hfd_px.value * math.sqrt(REACH**2 - 1) / curve.slope_px_step.value
    yield Advice(
        "run_step",
        float(max(round(step), 1)),
        (
            f"{short(REACH)} times the sharpest lies {number(curve.hfd_px.value, 2)} px × √({short(REACH)}² − 1) / "
            f"{number(curve.slope_px_step.value, 4)} px/step = {number(half, 0)} steps from focus",
            f"{number(half, 0)} / {(RUN_POINTS - 1) // 2} = {number(step, 0)} steps, {RUN_POINTS} points",
        ),
    )
    yield Advice("run_points", float(RUN_POINTS), (f"four on each side and one between: {RUN_POINTS} points",))


def _triggers(result: FocusResult) -> Iterator[Advice]:
    depth, slope, celsius = result.depth_steps, result.model.slope, refocus_after_c(result)
    if depth is not None and slope is not None and celsius is not None and abs(slope.value) > 2 * slope.standard:
        shown = f"{number(depth, 0)} steps / 2 / {number(abs(slope.value), 1)} steps/°C = {number(celsius, 2)} °C"
        yield Advice("refocus_temperature_c", float(f"{celsius:.2g}"), (f"half the depth of focus: {shown}",))
        drift = drift_c_h(result)
        if drift:
            minutes = 60 * celsius / abs(drift)
            text = f"{number(celsius, 2)} °C / {number(abs(drift), 2)} °C/h = {number(minutes, 0)} min"
            yield Advice("refocus_after_min", float(max(round(min(minutes, 600)), 5)), (text,))
    if depth is not None and result.offsets and any(entry.offset for entry in result.offsets):
        moved = moved_filters(result)
        most = max(abs(entry.offset.value) for entry in result.offsets if entry.offset is not None)
        text = f"filters move focus by up to {number(most, 0)} steps, half the depth of focus is {number(depth / 2, 0)}"
        yield Advice("refocus_on_filter", bool(moved), (text,))
    growth = growth_percent(result)
    if growth is not None:
        text = f"three times the scatter of the runs' points, at least {number(MIN_GROWTH_PERCENT, 0)} %"
        yield Advice("refocus_growth_percent", float(round(growth)), (f"{text}: {number(growth, 0)} %",))


def _what_to_focus_with(result: FocusResult) -> Iterator[Advice]:
    """Yield the filter whose runs tell best position most exactly, and the exposure that saturates few stars."""
    exact: dict[str, list[float]] = {}
    for run, curve in zip(result.runs, result.curves, strict=True):
        if run.filter and curve.best_position is not None:
            exact.setdefault(run.filter, []).append(curve.best_position.standard)
    if len(exact) > 1:
        best = min(exact, key=lambda name: float(np.median(exact[name])))
        text = ", ".join(f"{name} ± {number(float(np.median(u)), 1)}" for name, u in exact.items())
        yield Advice("focus_filter", best, (f"best position in steps through {text}",))
    yield from _exposure(result)


def _exposure(result: FocusResult) -> Iterator[Advice]:
    """Yield the exposure to focus with, where all runs had one."""
    points = [point for run in result.runs for point in run.points]
    taken = {point.took_s for point in points if point.took_s}
    counted = [(point.stars, point.saturated) for point in points if point.stars and point.saturated is not None]
    if len(taken) != 1 or not counted:
        return
    exposure = taken.pop()
    saturated = max(bad / stars for stars, bad in counted)
    fewest = min(stars for stars, _ in counted)
    if saturated > MAX_SATURATED_SHARE:
        value, why = exposure / 2, f"up to {number(100 * saturated, 0)} % of the stars are saturated: half the exposure"
    elif fewest < MIN_STARS:
        value, why = exposure * 2, f"as few as {fewest} stars were measured: twice the exposure"
    else:
        value, why = exposure, f"{fewest} stars or more, {number(100 * saturated, 0)} % saturated at the most"
    yield Advice("focus_exposure_s", float(f"{value:.3g}"), (f"{why}: {short(value)} s",))

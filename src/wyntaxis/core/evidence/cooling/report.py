"""How cooling runs are told: a row for each run, and the cooler's model."""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.evidence.cooling.cooler import RunFigures
from wyntaxis.core.evidence.cooling.kind import CoolingRuns
from wyntaxis.core.evidence.reporting import Column, Report, Table, fact, text
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.wording import number, plus_minus

Run = Column[RunFigures]

RUNS = Table[CoolingRuns, RunFigures](
    "runs",
    "Cooling runs",
    lambda cooled: cooled.measured.runs,
    (
        text("run", lambda run: run.name, "name"),
        Run("target", "°C", 1, lambda run: run.target_c, "target_c"),
        Run("to target", "min", 1, lambda run: run.to_target_min, "to_target_min"),
        Run("mean", "°C/min", 2, lambda run: run.mean_rate_c_min, "mean_rate_c_min"),
        Run("steepest", "°C/min", 2, lambda run: run.steepest_c_min, "steepest_c_min"),
        Run("overshoot", "°C", 2, lambda run: run.overshoot_c, "overshoot_c"),
        Run("settled", "min", 1, lambda run: run.settled_min, "settled_min"),
        Run("scatter", "°C", 3, lambda run: run.scatter_c, "scatter_c", bare=True),
        Run("power at rest", "%", 0, lambda run: run.rest_power, "rest_power", factor=100),
        Run("ambient", "°C", 1, lambda run: run.ambient_c, "ambient_c"),
        fact("start_c", lambda run: run.start_c),
    ),
)


def _facts(cooled: CoolingRuns) -> JsonObject:
    model = cooled.measured.model
    if model is None:
        return {"model": None}
    terms = {"tau_min": model.tau, "pull_c_min": model.pull, "depth_c": model.depth}
    return {"model": terms | {"residual_c": model.residual_c}}


def _lines(cooled: CoolingRuns) -> Iterator[str]:
    model = cooled.measured.model
    if model is not None:
        tau = plus_minus(model.tau.value, model.tau.standard, 3)
        pull = plus_minus(model.pull.value, model.pull.standard, 3)
        depth = plus_minus(model.depth.value, model.depth.standard, 2)
        left = number(model.residual_c, 3)
        yield f"τ = {tau} min, a = {pull} °C/min, a·τ = {depth} °C below ambient; the model leaves {left} °C"


def _answer(cooled: CoolingRuns) -> str:
    model = cooled.measured.model
    if model is not None:
        depth = plus_minus(model.depth.value, model.depth.standard, 1)
        return f"At full power the camera cools {depth} °C below the air."
    runs = [run for run in cooled.measured.runs if run.to_target_min is not None and run.target_c is not None]
    if not runs:
        return ""
    run = runs[-1]
    return f"{run.name}: at {number(run.target_c, 1)} °C after {number(run.to_target_min, 1)} min."


REPORT = Report[CoolingRuns](
    (RUNS,), not_used=lambda _cooled: (), answer=_answer, facts=_facts, lines=_lines, uncertainty="standard_uncertainty"
)
"""How cooling runs are told."""

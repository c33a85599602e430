"""Cooling runs as plain values and rows of texts, for JSON and tables."""

from __future__ import annotations

from collections.abc import Sequence

from wyntaxis.core.evidence.cooling.cooler import CoolerModel, RunFigures
from wyntaxis.core.evidence.measured import estimate_json
from wyntaxis.core.wording import number


def cooling_json(runs: Sequence[RunFigures], model: CoolerModel | None, notes: Sequence[str]) -> dict[str, object]:
    """Return cooling runs as ``wyntaxis cooling --json`` prints them.

    Parameters
    ----------
    runs
        Cooling runs, read and measured.
    model
        The cooler's model; None without one.
    notes
        What is to be said besides.

    Returns
    -------
    dict[str, object]
        Plain values, units in the keys.
    """
    return {
        "runs": [
            {
                "name": run.name,
                "target_c": run.target_c,
                "start_c": run.start_c,
                "to_target_min": run.to_target_min,
                "mean_rate_c_min": run.mean_rate_c_min,
                "steepest_c_min": run.steepest_c_min,
                "overshoot_c": run.overshoot_c,
                "settled_min": run.settled_min,
                "scatter_c": estimate_json(run.scatter_c),
                "rest_power": run.rest_power,
                "ambient_c": run.ambient_c,
            }
            for run in runs
        ],
        "model": None
        if model is None
        else {
            "tau_min": estimate_json(model.tau),
            "pull_c_min": estimate_json(model.pull),
            "depth_c": estimate_json(model.depth),
            "residual_c": model.residual_c,
        },
        "notes": list(notes),
    }


RUN_HEADINGS = (
    "run",
    "target °C",
    "to target min",
    "mean °C/min",
    "steepest °C/min",
    "overshoot °C",
    "settled min",
    "scatter °C",
    "power at rest %",
    "ambient °C",
)


def run_row(run: RunFigures) -> list[str]:
    """Return one run as the cells under :data:`RUN_HEADINGS`.

    Parameters
    ----------
    run
        One run.

    Returns
    -------
    list[str]
        Texts, units in the headings.
    """

    def maybe(value: float | None, digits: int) -> str:
        return "–" if value is None else number(value, digits)

    return [
        run.name,
        number(run.target_c, 1),
        maybe(run.to_target_min, 1),
        maybe(run.mean_rate_c_min, 2),
        "–" if run.steepest_c_min is None else number(run.steepest_c_min, 2),
        maybe(run.overshoot_c, 2),
        maybe(run.settled_min, 1),
        "–" if run.scatter_c is None else number(run.scatter_c.value, 3),
        maybe(None if run.rest_power is None else 100 * run.rest_power, 0),
        number(run.ambient_c, 1),
    ]

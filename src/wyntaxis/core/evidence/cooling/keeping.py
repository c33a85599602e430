"""What cooling runs found, kept in the rig as measured values of the camera."""

from __future__ import annotations

from wyntaxis.core.evidence.cooling.cooler import CoolerModel, RunFigures
from wyntaxis.core.evidence.measured import Estimate, camera_index, measured_values
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.model import Rig


def keep_cooling(rig: Rig, model: CoolerModel | None, runs: list[RunFigures], device_id: str | None = None) -> Change:
    """Return the edit that keeps the cooler's model and the last run's figures as measured values of a camera.

    Parameters
    ----------
    rig
        The rig whose camera it is.
    model, runs
        What was measured.
    device_id
        Which camera, by id; the main one by default.

    Returns
    -------
    Change
        One edit: measured values with their evidence.
    """
    index = camera_index(rig, device_id)
    if index is None:
        raise ValueError("the rig has no camera among its devices: add one on the Devices sheet")
    values = cooling_values(model, runs)
    if not values:
        raise ValueError("the runs give no number to keep")
    names = ", ".join(run.name for run in runs)[:180]
    return Change(
        "Keep the cooling runs", tuple(measured_values(index, values, "cooling_run", f"cooling runs {names}", None, ""))
    )


def cooling_values(model: CoolerModel | None, runs: list[RunFigures]) -> dict[str, Estimate]:
    """Return the measured numbers of a cooler, by setting key: the model's, and those of the last run that rested.

    A run at full power, made for the model, says nothing of how steeply the camera is cooled of an evening.

    Parameters
    ----------
    model, runs
        What was measured.

    Returns
    -------
    dict
        By setting key an estimate, in the setting's own unit.
    """
    values: dict[str, Estimate] = {}
    if model is not None:
        values |= {"cooler_tau_min": model.tau, "cooler_pull_c_min": model.pull, "cooling_reach_c": model.depth}
    rested = [run for run in runs if run.scatter_c is not None]
    steepest = (rested or runs)[-1].steepest_c_min if runs else None
    if steepest is not None:
        values["steepest_c_min"] = Estimate(steepest)
    if rested:
        last = rested[-1]
        assert last.scatter_c is not None
        values["scatter_c"] = last.scatter_c
        values["rest_ambient_c"] = Estimate(last.ambient_c)
        if last.rest_power is not None:
            values["rest_power_percent"] = Estimate(100 * last.rest_power)
    return values

"""Cooling runs as evidence: logs read, the cooler's model fitted, and kept as measured values of the camera."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from wyntaxis.core.evidence.cooling.cooler import (
    CoolerModel,
    CoolingLog,
    CoolingMeasured,
    RunFigures,
    measure_cooling,
)
from wyntaxis.core.evidence.cooling.log import read_cooling_log
from wyntaxis.core.evidence.foreign.keymap import KeyRule
from wyntaxis.core.evidence.kinds import MAIN_CAMERA, EvidenceKind, Keeping
from wyntaxis.core.evidence.measured import Estimate, Origin, camera_index
from wyntaxis.core.files.errors import Progress, in_one_line
from wyntaxis.core.rig.model import Rig


@dataclass(frozen=True)
class CoolingRuns:
    """The logs of one or more cooling runs, and what was measured of them."""

    logs: tuple[CoolingLog, ...]
    measured: CoolingMeasured

    def without(self, place: int, target_c: float | None, watch: Callable[[], None] = lambda: None) -> CoolingRuns:
        """Return the runs without one of them, measured anew toward a target in °C."""
        return measured_runs([log for at, log in enumerate(self.logs) if at != place], target_c, watch)


def measured_runs(
    logs: Sequence[CoolingLog], target_c: float | None, watch: Callable[[], None] = lambda: None
) -> CoolingRuns:
    """Return logs with what is measured of them; ``watch`` may cancel.

    Parameters
    ----------
    logs
        Logs of cooling runs.
    target_c
        The set temperature in °C; None for what each run came to.
    watch
        Called again and again; may raise to end the work.

    Returns
    -------
    CoolingRuns
        Logs and numbers.
    """
    return CoolingRuns(tuple(logs), measure_cooling(list(logs), target_c, watch))


def read(
    paths: Sequence[Path],
    target_c: float | None,
    progress: Progress = lambda _done, _of: None,
    rules: Callable[[Path], Sequence[KeyRule]] = lambda _path: (),
    before: CoolingRuns | None = None,
) -> CoolingRuns:
    """Read cooling logs, put them with those that are there, and fit the cooler's model.

    Parameters
    ----------
    paths
        Logs as text tables.
    target_c
        The temperature that the runs aim at, in °C; None for what each came to.
    progress
        Told of logs read and to read; may cancel.
    rules
        Which columns a log's values stand in, where its headings do not tell.
    before
        Runs that stay, but for those of the same name.

    Returns
    -------
    CoolingRuns
        Logs and numbers.

    Raises
    ------
    InputError
        In one line, for a log that cannot be read.
    """
    came = []
    for done, path in enumerate(paths):
        progress(done, len(paths))
        came.append(read_cooling_log(path, rules(path)))
    names = {log.name for log in came}
    kept = [log for log in before.logs if log.name not in names] if before is not None else []
    with in_one_line("these runs cannot be measured", paths[0] if len(paths) == 1 else None):
        return measured_runs([*kept, *came], target_c, lambda: progress(0, 0))


def target_of(rig: Rig) -> float | None:
    """Return the set temperature of the camera, in °C.

    Returns
    -------
    float or None
        In °C; None without a camera or a set temperature.
    """
    index = camera_index(rig)
    return rig.devices[index].number("set_temperature_c") if index is not None else None


def cooling_values(model: CoolerModel | None, runs: Sequence[RunFigures]) -> dict[str, Estimate]:
    """Return the measured numbers of a cooler, by setting key: the model's, and those of the last run that rested.

    A run at full power, made for the model, says nothing of how steeply the camera is cooled of an evening.

    Parameters
    ----------
    model, runs
        What was measured.

    Returns
    -------
    dict of Estimate
        By setting key, in the setting's own unit.
    """
    values: dict[str, Estimate] = {}
    if model is not None:
        values |= {"cooler_tau_min": model.tau, "cooler_pull_c_min": model.pull, "cooling_reach_c": model.depth}
    rested = [run for run in runs if run.scatter_c is not None]
    steepest = (rested or runs)[-1].steepest_c_min if runs else None
    if steepest is not None:
        values["steepest_c_min"] = Estimate(steepest)
    if rested and rested[-1].scatter_c is not None:
        last = rested[-1]
        values |= {"scatter_c": rested[-1].scatter_c, "rest_ambient_c": Estimate(last.ambient_c)}
        if last.rest_power is not None:
            values["rest_power_percent"] = Estimate(100 * last.rest_power)
    return values


def _values(_rig: Rig, runs: CoolingRuns) -> dict[str, Estimate]:
    return cooling_values(runs.measured.model, runs.measured.runs)


def _origin(runs: CoolingRuns, _key: str) -> Origin:
    return Origin(f"cooling runs {', '.join(run.name for run in runs.measured.runs)[:180]}")


COOLING = EvidenceKind(
    "cooling",
    read,
    _values,
    Keeping("Keep the cooling runs", "cooling_run", _origin, "the runs give no number to keep"),
    MAIN_CAMERA,
)
"""What cooling runs found, kept in the rig as measured values of the camera."""

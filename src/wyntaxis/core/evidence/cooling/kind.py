"""Cooling runs as evidence: logs read, the cooler's model fitted, and kept as measured values of the camera."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from wyntaxis.core.evidence.cooling.cooler import CoolingLog, CoolingMeasured, measure_cooling
from wyntaxis.core.evidence.cooling.keeping import cooling_values, keep_cooling
from wyntaxis.core.evidence.cooling.log import read_cooling_log
from wyntaxis.core.evidence.foreign.keymap import KeyRule
from wyntaxis.core.evidence.kinds import EvidenceKind
from wyntaxis.core.evidence.measured import Estimate, camera_index
from wyntaxis.core.files.errors import Progress, in_one_line
from wyntaxis.core.rig.edit import Change
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


def measures(rig: Rig, runs: CoolingRuns) -> dict[str, Estimate]:
    """Return the cooler's measured numbers, by ``device.setting``; empty without a camera.

    Parameters
    ----------
    rig
        The rig.
    runs
        Cooling runs, read and measured.

    Returns
    -------
    dict[str, Estimate]
        Estimates by id, each in its own unit.
    """
    index = camera_index(rig)
    if index is None:
        return {}
    values = cooling_values(runs.measured.model, list(runs.measured.runs))
    return {f"{rig.devices[index].id}.{key}": found for key, found in values.items()}


def keep(rig: Rig, runs: CoolingRuns) -> Change:
    """Return the edit that keeps the numbers; see :func:`~wyntaxis.core.evidence.cooling.keeping.keep_cooling`.

    Parameters
    ----------
    rig
        The rig.
    runs
        Cooling runs, read and measured.

    Returns
    -------
    Change
        One edit: measured values with their evidence.
    """
    return keep_cooling(rig, runs.measured.model, list(runs.measured.runs))


COOLING = EvidenceKind("cooling", read, measures, keep)

"""Bench frames of a camera as evidence: read, measured, and kept as measured values of the camera."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from wyntaxis.core.evidence.headers.headers import FolderHeaders, read_folder
from wyntaxis.core.evidence.kinds import EvidenceKind
from wyntaxis.core.evidence.measured import Estimate, camera_index
from wyntaxis.core.evidence.sensor.bench import measure_bench
from wyntaxis.core.evidence.sensor.bench_result import BenchResult
from wyntaxis.core.evidence.sensor.keeping import keep_sensor, sensor_values
from wyntaxis.core.files.errors import Progress, in_one_line
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.model import Rig


@dataclass(frozen=True)
class SensorBench:
    """A folder of bench frames, and what was measured of them."""

    headers: FolderHeaders
    result: BenchResult

    @property
    def folder(self) -> Path:
        """Where the frames lie, or lay."""
        return Path(self.headers.folder)


def read(folder: Path, rig: Rig, progress: Progress = lambda _done, _of: None) -> SensorBench:
    """Read the bench frames below a folder and measure them, with the rig's corrections and its converter's bits.

    Parameters
    ----------
    folder
        A folder of bias, dark and flat frames.
    rig
        The rig whose camera it is.
    progress
        Told of frames done and to do; may cancel.

    Returns
    -------
    SensorBench
        The headers and the numbers.

    Raises
    ------
    InputError
        In one line, when there is nothing to measure.
    """
    headers = read_folder(folder, _watch(progress))
    bits = rig.sensor.bit_depth if rig.sensor is not None else None
    with in_one_line("these frames cannot be measured", folder):
        return SensorBench(headers, measure_bench(headers, dict(rig.corrections), progress, bits))


def _watch(progress: Progress) -> Callable[[int, int], None]:
    """Let headers be cancelled while they are read; their count is not that of the frames to measure."""
    return lambda _done, _of: progress(0, 0)


def measures(rig: Rig, bench: SensorBench) -> dict[str, Estimate]:
    """Return the camera's measured numbers at its own gain and offset, by ``device.setting``; empty without one.

    Parameters
    ----------
    rig
        The rig.
    bench
        Bench frames, read and measured.

    Returns
    -------
    dict[str, Estimate]
        Estimates by id, each in its own unit.
    """
    index = camera_index(rig)
    if index is None:
        return {}
    device = rig.devices[index]
    try:
        return {f"{device.id}.{key}": found for key, found in sensor_values(device, bench.result).items()}
    except ValueError:  # frames at another gain than the rig's prove nothing of it
        return {}


def keep(rig: Rig, bench: SensorBench) -> Change:
    """Return the edit that keeps the numbers; see :func:`~wyntaxis.core.evidence.sensor.keeping.keep_sensor`.

    Parameters
    ----------
    rig
        The rig.
    bench
        Bench frames, read and measured.

    Returns
    -------
    Change
        One edit: measured values with their evidence.
    """
    return keep_sensor(rig, bench.result)


SENSOR = EvidenceKind("sensor", read, measures, keep)

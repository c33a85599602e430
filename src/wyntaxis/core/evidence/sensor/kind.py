"""Bench frames of a camera as evidence: read, measured, and kept as measured values of the camera."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from wyntaxis.core.evidence.headers.folder import FolderHeaders, read_folder
from wyntaxis.core.evidence.kinds import MAIN_CAMERA, EvidenceKind, Keeping, Value
from wyntaxis.core.evidence.measured import Estimate, Origin, camera_index
from wyntaxis.core.evidence.sensor.bench import measure_bench
from wyntaxis.core.evidence.sensor.bench_result import BenchResult
from wyntaxis.core.evidence.sensor.camera_values import sensor_values
from wyntaxis.core.files.errors import Progress, in_one_line, shown
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


def _values(rig: Rig, bench: SensorBench) -> dict[str, Estimate]:
    index = camera_index(rig)
    return {} if index is None else sensor_values(rig.devices[index], bench.result)


def _origin(bench: SensorBench, _key: str) -> Origin:
    name = shown(Path(bench.folder.name))
    frames = sum(len(entry.frames) for entry in bench.result.sorted.sets)
    return Origin(f"bench frames in {name}"[:200], name, f"{frames} frames")


def _skies(rig: Rig, bench: SensorBench) -> list[Value]:
    """Return the sky of each filter as values of the plan, where there is a plan."""
    if rig.plan is None:
        return []
    return [(("plan", "sky_e_s", sky.filter), float(f"{sky.sky.value:.4g}")) for sky in bench.result.skies]


SENSOR = EvidenceKind(
    "sensor",
    read,
    _values,
    Keeping("Keep the bench's numbers", "bench", _origin, "the frames give no number to keep", _skies),
    MAIN_CAMERA,
)
"""What bench frames found, kept in the rig as measured values of the camera."""

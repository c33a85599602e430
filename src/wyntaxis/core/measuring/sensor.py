"""Bench frames, measured with the rig's corrections and its converter's bits."""

from __future__ import annotations

from wyntaxis.core.evidence.sensor.kind import SENSOR, SensorBench
from wyntaxis.core.evidence.sensor.report import REPORT
from wyntaxis.core.measuring.measuring import Measuring, Request


def _read(request: Request) -> SensorBench:
    (folder,) = request.paths
    return SENSOR.read(folder, request.rig_numbers.rig, request.progress)


MEASURING = Measuring(SENSOR, REPORT, _read, ("camera.", "flats."), notes=lambda bench: bench.result.notes)

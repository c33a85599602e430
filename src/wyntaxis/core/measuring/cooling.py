"""Cooling runs, measured toward the set temperature of the rig's camera."""

from __future__ import annotations

from wyntaxis.core.evidence.cooling.kind import COOLING, CoolingRuns, target_of
from wyntaxis.core.evidence.cooling.report import REPORT
from wyntaxis.core.measuring.measuring import Measuring, Request


def _read(request: Request) -> CoolingRuns:
    target = request.options.get("target")
    target = target_of(request.rig_numbers.rig) if target is None else target
    return COOLING.read(request.paths, target, request.progress, request.rules, request.before)


def _notes(cooled: CoolingRuns) -> list[str]:
    why = cooled.measured.why_no_model
    return [why] if why else []


MEASURING = Measuring(COOLING, REPORT, _read, ("cooling.",), notes=_notes)

"""The section of an evaluated rig: its geometry, with the verdicts and the devices."""

from __future__ import annotations

from wyntaxis.core.evaluation import Evaluation
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantity_kinds import FOCAL_RATIO, GUIDE_PATH_ERROR
from wyntaxis.core.records.presence import presence
from wyntaxis.core.train.section import DeviceMark, Judged, Section, lay_out


def section(evaluation: Evaluation) -> Section:
    """Lay an evaluated rig out in mm, with all that is told of it."""
    allowed = evaluation.quantity(GUIDE_PATH_ERROR).target
    judged = Judged(
        focal_ratio=evaluation.value(FOCAL_RATIO),
        guide_allowed_mm=allowed.high if allowed else None,
        verdicts=_verdicts(evaluation),
        devices=_devices(evaluation),
    )
    return lay_out(evaluation.rig, judged)


def _devices(evaluation: Evaluation) -> dict[str, tuple[DeviceMark, ...]]:
    """Return the devices that each part is, or carries, by part id."""
    at: dict[str, tuple[DeviceMark, ...]] = {}
    for device in evaluation.rig.devices:
        if device.part is not None:
            found = presence(evaluation, device)
            at[device.part] = (*at.get(device.part, ()), DeviceMark(found.verdict, found.why))
    return at


def _verdicts(evaluation: Evaluation) -> dict[str, Verdict]:
    """Return the gravest verdict that a finding lays at a part, by part id."""
    marks: dict[str, Verdict] = {}
    for finding in evaluation.findings:
        if finding.verdict in (Verdict.FAILS, Verdict.TIGHT):
            for target in finding.parts(evaluation.rig):
                if marks.get(target) is not Verdict.FAILS:
                    marks[target] = finding.verdict
    return marks

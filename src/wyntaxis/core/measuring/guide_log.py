"""Guide logs, measured with the scales and limits of the rig."""

from __future__ import annotations

from wyntaxis.core.evidence.guide_log.kind import GUIDE_LOG
from wyntaxis.core.evidence.guide_log.report import REPORT
from wyntaxis.core.evidence.guide_log.result import GuideResult
from wyntaxis.core.measuring.measuring import Measuring, Request
from wyntaxis.core.quantities.guide_log import guide_log_optics

ABOUT = (
    "guiding.rms",
    "guiding.drift",
    "guiding.period",
    "guiding.aggression",
    "guiding.settling",
    "guiding.limit",
    "guiding.calibration_age",
    "guiding.scale_measured",
    "guiding.darks",
    "mount.polar",
)


def _read(request: Request) -> GuideResult:
    optics = guide_log_optics(request.rig_numbers)
    return GUIDE_LOG.read(
        request.paths,
        optics,
        request.progress,
        request.rules,
        request.before,
        without_gusts=bool(request.options.get("without_gusts", False)),
    )


MEASURING = Measuring(GUIDE_LOG, REPORT, _read, ABOUT)

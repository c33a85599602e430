"""Focus runs, measured with what the rig says of telescope, camera and filters."""

from __future__ import annotations

from wyntaxis.core.evidence.focus.kind import FOCUS
from wyntaxis.core.evidence.focus.report import REPORT
from wyntaxis.core.evidence.focus.result import FocusResult
from wyntaxis.core.measuring.measuring import Measuring, Request
from wyntaxis.core.quantities.focus_runs import focus_optics


def _read(request: Request) -> FocusResult:
    return FOCUS.read(request.paths, focus_optics(request.rig_numbers), request.progress, request.rules, request.before)


MEASURING = Measuring(FOCUS, REPORT, _read, ("focuser.",))

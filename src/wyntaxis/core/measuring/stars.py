"""Frames' stars, measured at the scale of the rig."""

from __future__ import annotations

from wyntaxis.core.evidence.stars.kind import STARS, StarsResult
from wyntaxis.core.evidence.stars.report import REPORT
from wyntaxis.core.measuring.measuring import Measuring, Request
from wyntaxis.core.quantities.stars import frame_scale


def _read(request: Request) -> StarsResult:
    options, numbers = request.options, request.numbers
    return STARS.read(
        request.paths,
        None if numbers is None else lambda header: frame_scale(numbers, header.binning),
        request.progress,
        options.get("every", 1),
        condensed=options.get("condensed", True),
        limit_px=options.get("limit_px"),
    )


MEASURING = Measuring(STARS, REPORT, _read, ("stars.",))

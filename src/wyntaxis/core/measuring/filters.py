"""Flats, measured with what the rig says of sensor, light and the surfaces where dust may lie."""

from __future__ import annotations

from wyntaxis.core.evidence.filters.kind import FILTERS
from wyntaxis.core.evidence.filters.report import REPORT
from wyntaxis.core.evidence.filters.result import FilterResult
from wyntaxis.core.findings.finding import Finding
from wyntaxis.core.measuring.measuring import Measuring, Request
from wyntaxis.core.quantities.flats import flat_optics


def _read(request: Request) -> FilterResult:
    one_way = frozenset(request.options.get("one_way") or ())
    return FILTERS.read(request.paths, flat_optics(request.rig_numbers), request.progress, one_way=one_way)


def _concerns(finding: Finding) -> bool:
    """Leave out what a bench once measured of the camera's flats."""
    return finding.id != "flats.level" or finding.subject.startswith("flats.")


MEASURING = Measuring(FILTERS, REPORT, _read, ("wheel.repeat", "wheel.dust", "flats."), _concerns)

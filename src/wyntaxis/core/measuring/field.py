"""Sweeps of the focuser, measured with what the rig says of train, sensor and tilt plate."""

from __future__ import annotations

from dataclasses import replace

from wyntaxis.core.evidence.field.kind import FIELD
from wyntaxis.core.evidence.field.report import REPORT
from wyntaxis.core.evidence.field.result import FieldResult
from wyntaxis.core.measuring.measuring import Measuring, Request
from wyntaxis.core.quantities.field_surface import field_optics


def _read(request: Request) -> FieldResult:
    options = request.options
    result = FIELD.read(
        request.paths,
        field_optics(request.rig_numbers),
        request.progress,
        request.before,
        spacings=options.get("spacings"),
    )
    return replace(result, relation=options["relation"]) if options.get("relation") else result


MEASURING = Measuring(FIELD, REPORT, _read, ("field.", "spacing.flat"))

"""What sweeps of the field prove: tilt, curvature, and the spacing that makes the field flat."""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.evidence.field.kind import CURVATURE, FIELD, FLAT_AT, TILT
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.findings.spacing import length_remedy
from wyntaxis.core.ledger import Quantity, QuantityValue, Target, Verdict, rss
from wyntaxis.core.quantities.field_surface import plate_screws
from wyntaxis.core.steps import FIELD as FIELD_STEP
from wyntaxis.core.wording import number, plus_minus, short

_SURFACE_SOURCE = "Best focus by zones, z = z₀ + αx + βy + c(x² + y²); half the depth of focus"
_LINE_SOURCE = "Curvature at several spacings, a straight line, where it crosses zero"


def _against_depth(row: Quantity) -> tuple[str, ...]:
    found = row.measured
    assert found is not None
    lines = [f"measured: {plus_minus(found.value, found.uncertainty, 1)} µm at the corner ({found.source})"]
    if row.target is not None:
        lines.append(f"half the depth of focus: {number(row.target.high, 1)} µm")
    return tuple(lines)


def _next(evaluation: Evaluation, keys: tuple[str, ...]) -> str:
    """Return what the sweeps that are held say is to be done next; empty without any."""
    result = evaluation.evidence.of(FIELD)
    if result is None:
        return ""
    from wyntaxis.core.evidence.field.causes import causes

    entries = [cause for cause in causes(result) if cause.key in keys]
    return f"{entries[0].words}: {entries[0].next}" if entries else ""


@finding("field.tilt", step=FIELD_STEP, after="stars.round")
def tilt(evaluation: Evaluation) -> Iterator[Finding]:
    """Is the sensor square to the surface of best focus?"""
    row = evaluation.rows.get(TILT)
    if row is None or row.measured is None:
        return
    found, good = row.measured, row.verdict is Verdict.HOLDS
    verdict = row.verdict if row.target is not None else Verdict.UNPROVEN
    plate = plate_screws(evaluation.rig.train)
    usual = (
        "turn the tilt plate’s screws as the Field sheet tells"
        if plate is not None
        else "turn the camera by half a turn and sweep again: it tells whose the tilt is"
    )
    yield Finding(
        "field.tilt",
        verdict,
        row.id,
        f"Best focus is {'square to' if good else 'tilted against'} the sensor: "
        f"{number(found.value, 0)} µm from middle to corner",
        _against_depth(row),
        NO_REMEDY if good else Remedy(_next(evaluation, ("tilt", "flexure", "loose")) or usual),
        _SURFACE_SOURCE,
        (row.id,),
    )


@finding("field.curvature", step=FIELD_STEP, after="field.tilt")
def curvature(evaluation: Evaluation) -> Iterator[Finding]:
    """Is the surface of best focus flat enough for the sensor?"""
    row = evaluation.rows.get(CURVATURE)
    if row is None or row.measured is None:
        return
    found, good = row.measured, row.verdict is Verdict.HOLDS
    way = "farther out" if found.value > 0 else "farther in"
    yield Finding(
        "field.curvature",
        row.verdict if row.target is not None else Verdict.UNPROVEN,
        row.id,
        f"The field is {'flat' if good else 'curved'}: the corner focuses {number(abs(found.value), 0)} µm {way}",
        _against_depth(row),
        NO_REMEDY
        if good
        else Remedy("sweep again at another spacing behind the corrector: two tell where the field is flat"),
        _SURFACE_SOURCE,
        (row.id,),
    )


@finding("spacing.flat", step=FIELD_STEP, after="field.curvature")
def flat_spacing(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the sensor stand where the field was measured to be flat?"""
    row, path = evaluation.quantities[FLAT_AT], evaluation.back_focus
    if row.measured is None or path is None:
        return
    found, error = row.measured, path.built_mm - row.measured.value
    lines = [
        f"flat at {plus_minus(found.value, found.uncertainty, 2)} mm ({found.source})",
        f"built {number(path.built_mm, 2)} mm: {number(path.built_mm, 2)} − {number(found.value, 2)} = "
        f"{number(error, 2)} mm",
        f"the maker’s distance and the glass make {number(path.required_mm, 2)} mm"
        + (f", allowed ±{short(path.tolerance_mm)} mm" if path.tolerance_mm is not None else ""),
    ]
    verdict = Verdict.UNPROVEN
    if path.tolerance_mm is not None:
        verdict = Target(-path.tolerance_mm, path.tolerance_mm).judge(
            QuantityValue(error, rss((found.uncertainty, path.stack.standard_mm)))
        )
    good = verdict is Verdict.HOLDS
    yield Finding(
        "spacing.flat",
        verdict,
        row.id,
        f"The field is flat at {number(found.value, 2)} mm; the sensor stands "
        + ("there" if good else f"{number(abs(error), 2)} mm too {'far' if error > 0 else 'near'}"),
        tuple(lines),
        NO_REMEDY if good else length_remedy(evaluation.rig, path, error),
        _LINE_SOURCE,
        (row.id,),
    )

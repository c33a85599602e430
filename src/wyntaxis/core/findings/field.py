"""What sweeps of the field prove: tilt, curvature, and the spacing that makes the field flat."""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.evidence.field.kind import FIELD
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Statement, finding, say
from wyntaxis.core.findings.spacing import LENGTH_REMEDIES, LengthRemedy, length_remedy
from wyntaxis.core.ledger import Quantity, QuantityValue, Target, Verdict, rss
from wyntaxis.core.quantities.field_surface import plate_screws
from wyntaxis.core.quantity_kinds import BACK_FOCUS_REQUIRED, FIELD_CURVATURE, FIELD_TILT
from wyntaxis.core.steps import FIELD as FIELD_STEP
from wyntaxis.core.wording import number, plus_minus, short

_SURFACE_SOURCE = "Best focus by zones, z = z₀ + αx + βy + c(x² + y²); half the depth of focus"


def _against_depth(row: Quantity) -> tuple[str, ...]:
    found = row.measured
    assert found is not None
    lines = [f"measured: {plus_minus(found.value, found.uncertainty, 1)} µm at the corner ({found.source})"]
    if row.target is not None:
        lines.append(f"half the depth of focus: {number(row.target.high, 1)} µm")
    return tuple(lines)


def _next(evaluation: Evaluation, keys: tuple[str, ...]) -> str:
    """Return the next thing to do according to the sweeps that are held; empty without any."""
    result = evaluation.evidence.of(FIELD)
    if result is None:
        return ""
    from wyntaxis.core.evidence.field.causes import causes

    found = [cause for cause in causes(result) if cause.key in keys]
    return f"{found[0].words}: {found[0].next}" if found else ""


@finding(
    "field.tilt",
    step=FIELD_STEP,
    listed=Listed(after="stars.round"),
    source=_SURFACE_SOURCE,
    titles={
        "holds": "Best focus is square to the sensor: {tilt:0} µm from middle to corner",
        "": "Best focus is tilted against the sensor: {tilt:0} µm from middle to corner",
    },
    remedies={
        "next": "{next}",
        "plate": "Turn the tilt plate’s screws as the Tilt & curvature sheet says.",
        "": "Rotate the camera by half a turn and sweep again: this shows whether the camera or the telescope is "
        "tilted.",
    },
)
def tilt(evaluation: Evaluation) -> Iterator[Statement]:
    """Is the sensor square to the surface of best focus?"""
    row = evaluation.rows.get(FIELD_TILT.id)
    if row is None or row.measured is None:
        return
    verdict = row.verdict if row.target is not None else Verdict.UNPROVEN
    todo = _next(evaluation, ("tilt", "flexure", "loose"))
    cure = "next" if todo else "plate" if plate_screws(evaluation.rig.train) is not None else ""
    named: dict[str, Named] = {"tilt": row.measured.value, "next": todo}
    cure = str(Verdict.HOLDS) if verdict is Verdict.HOLDS else cure
    yield say(row.id, row, verdict, named, cure=cure, lines=_against_depth(row))


@finding(
    "field.curvature",
    step=FIELD_STEP,
    listed=Listed(after="field.tilt"),
    source=_SURFACE_SOURCE,
    titles={
        "holds": "The field is flat: the corner focuses {size:0} µm {way}",
        "": "The field is curved: the corner focuses {size:0} µm {way}",
    },
    remedies="Sweep again at another spacing behind the corrector: two show at which spacing the field is flat.",
)
def curvature(evaluation: Evaluation) -> Iterator[Statement]:
    """Is the surface of best focus flat enough for the sensor?"""
    row = evaluation.rows.get(FIELD_CURVATURE.id)
    if row is None or row.measured is None:
        return
    found = row.measured
    named: dict[str, Named] = {"size": abs(found.value), "way": "farther out" if found.value > 0 else "farther in"}
    verdict = row.verdict if row.target is not None else Verdict.UNPROVEN
    yield say(row.id, row, verdict, named, lines=_against_depth(row))


@finding(
    "spacing.flat",
    step=FIELD_STEP,
    listed=Listed(after="field.curvature"),
    source="Curvature at several spacings, a straight line, where it crosses zero",
    titles={
        "holds": "The field is flat at {flat:2} mm, where the sensor is",
        "": "The field is flat at {flat:2} mm; the sensor is {size:2} mm too {way}",
    },
    remedies=LENGTH_REMEDIES,
)
def flat_spacing(evaluation: Evaluation) -> Iterator[Statement]:
    """Is the sensor where the field was measured to be flat?"""
    row, path = evaluation.quantity(BACK_FOCUS_REQUIRED), evaluation.back_focus
    if row.measured is None or path is None:
        return
    found, error = row.measured, path.built_mm - row.measured.value
    lines = (
        f"flat at {plus_minus(found.value, found.uncertainty, 2)} mm ({found.source})",
        f"built {number(path.built_mm, 2)} mm: {number(path.built_mm, 2)} − {number(found.value, 2)} = "
        f"{number(error, 2)} mm",
        f"the maker’s distance and the glass make {number(path.required_mm, 2)} mm"
        + (f", allowed ±{short(path.tolerance_mm)} mm" if path.tolerance_mm is not None else ""),
    )
    verdict = Verdict.UNPROVEN
    if path.tolerance_mm is not None:
        off = QuantityValue(error, rss((found.uncertainty, path.stack.standard_mm)))
        verdict = Target(-path.tolerance_mm, path.tolerance_mm).judge(off)
    remedy = LengthRemedy(str(verdict))
    if verdict is not Verdict.HOLDS:
        remedy = length_remedy(evaluation.rig, path, error)
    named = {**remedy.values, "flat": found.value, "size": abs(error), "way": "far" if error > 0 else "near"}
    yield say(row.id, row, verdict, named, cure=remedy.case, lines=lines).with_edit(remedy.change)

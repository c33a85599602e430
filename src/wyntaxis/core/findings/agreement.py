"""Do what is stated, computed and measured of one quantity agree?"""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Quantity, QuantityValue, Verdict, allowed_width
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.steps import LIGHT_PATH
from wyntaxis.core.train.lightpath import left_out
from wyntaxis.core.wording import MINUS, number, short, signed

_REPORTED_ELSEWHERE = frozenset({"calibration_pulse_ms"})

_SOURCE = "Legs agree when |a − b| ≤ max(tolerance, 2 √(u_a² + u_b²)): JCGM 100:2008 (GUM)"


@finding("legs.agree", at_quantity=True, step=LIGHT_PATH, after="rotation.exposure")
def values_agree(evaluation: Evaluation) -> Iterator[Finding]:
    """Compare every pair of values of every quantity that has more than one."""
    for row in evaluation.quantities.values():
        # What follows from the measured scale is told once, by scale.measured; a stated value is compared all the same.
        if (
            len(row.values) > 1
            and (row.stated is not None or row.id not in evaluation.derived)
            and row.id not in _REPORTED_ELSEWHERE
        ):
            yield _agreement(evaluation, row)


def _agreement(evaluation: Evaluation, row: Quantity) -> Finding:
    kind, verdict = row.kind, row.agreement
    holds = verdict is Verdict.HOLDS
    return Finding(
        id="legs.agree",
        verdict=verdict,
        subject=row.id,
        title=f"{kind.label}: {' and '.join(row.values)} {'agree' if verdict is not Verdict.FAILS else 'disagree'}",
        arithmetic=tuple(_lines(row)),
        remedy=NO_REMEDY if holds else _remedy(evaluation, row),
        source=_SOURCE,
        quantities=(row.id,),
    )


def _lines(row: Quantity) -> Iterator[str]:
    values = list(row.values.items())
    decimals, unit = row.kind.decimals + 1, row.kind.unit
    for index, (name, quantity_value) in enumerate(values):
        yield f"{name}: {_value_text(quantity_value, decimals)} {unit}".rstrip() + (
            f" ({quantity_value.source})" if quantity_value.source else ""
        )
        for other_name, other in values[:index]:
            allowed = allowed_width(quantity_value, other)
            yield (
                f"{name} {MINUS} {other_name}: {signed(quantity_value.value - other.value, decimals)} {unit}".rstrip()
                + f", allowed ±{number(allowed, decimals)}"
            )


def _value_text(quantity_value: QuantityValue, decimals: int) -> str:
    return number(quantity_value.value, decimals) + (
        f" ± {number(quantity_value.uncertainty, decimals)}" if quantity_value.uncertainty else ""
    )


def _remedy(evaluation: Evaluation, row: Quantity) -> Remedy:
    best, stated = row.measured or row.computed, row.stated
    if stated is None or best is None:
        return Remedy("measure again, and check the parts' lengths and the focal length that the computed leg rests on")
    value = round(best.value, row.kind.decimals)
    text = f"type {short(value, row.kind.decimals)} {row.kind.unit}".rstrip() + (
        f" into the {stated.source}" if stated.source else " wherever the stated value stands"
    )
    story = _story(evaluation, row, best.value / stated.value if stated.value else 0.0)
    change = Change.of(f"State {row.kind.label.lower()}", ("stated", row.id, "value"), value)
    return Remedy(f"{story}{text}", change)


def _story(evaluation: Evaluation, row: Quantity, ratio: float) -> str:
    """Name the likely mistake behind a ratio of focal lengths or scales."""
    if row.id not in {"effective_focal_length_mm", "pixel_scale_arcsec_px", "focal_ratio"} or ratio <= 0:
        return ""
    found = left_out(evaluation.rig, 1 / ratio if row.id != "pixel_scale_arcsec_px" else ratio)
    if found is None or found.is_doubled:
        return ""
    return f"the stated value leaves {found.part.title} out ({short(found.magnification, 4)}×): "

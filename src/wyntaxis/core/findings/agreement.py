"""Do the stated, computed and measured values of each quantity agree?"""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Statement, finding, say
from wyntaxis.core.ledger import Quantity, QuantityValue, Verdict, allowed_width
from wyntaxis.core.quantity_kinds import CALIBRATION_PULSE, FOCAL_LENGTH, FOCAL_RATIO, PIXEL_SCALE
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.steps import LIGHT_PATH
from wyntaxis.core.train.lightpath import left_out
from wyntaxis.core.wording import MINUS, number, short, signed

AGREEMENT_SOURCE = "Two values agree when |a − b| ≤ max(tolerance, 2 √(u_a² + u_b²)): JCGM 100:2008 (GUM)"

_REPORTED_ELSEWHERE = frozenset({CALIBRATION_PULSE})


@finding(
    "legs.agree",
    listed=Listed(at_quantity=True, after="rotation.exposure"),
    step=LIGHT_PATH,
    source=AGREEMENT_SOURCE,
    titles={"fails": "{label}: {values} disagree", "": "{label}: {values} agree"},
    remedies={
        "type": "{story}Enter {best} {where}.",
        "measure": "Measure again, and check the lengths of the parts and the focal length that the computed value "
        "depends on.",
    },
)
def values_agree(evaluation: Evaluation) -> Iterator[Statement]:
    """Compare every pair of values of every quantity that has more than one."""
    for row in evaluation.quantities.values():
        # What follows from the measured scale is said once, by scale.measured; a stated value is compared all the same.
        follows = row.stated is None and row.id in evaluation.derived
        if len(row.values) > 1 and not follows and row.kind not in _REPORTED_ELSEWHERE:
            yield _agreement(evaluation, row)


def _agreement(evaluation: Evaluation, row: Quantity) -> Statement:
    verdict, best, stated = row.agreement, row.measured or row.computed, row.stated
    named: dict[str, Named] = {"label": row.kind.label, "values": " and ".join(row.values)}
    lines = tuple(_lines(row))
    if stated is None or best is None or verdict is Verdict.HOLDS:
        cure = str(verdict) if verdict is Verdict.HOLDS else "measure"
        return say(row.id, row, verdict, named, cure=cure, lines=lines)
    value = round(best.value, row.kind.decimals)
    named |= {
        "story": _story(evaluation, row, best.value / stated.value if stated.value else 0.0),
        "best": f"{short(value, row.kind.decimals)} {row.kind.unit}".rstrip(),
        "where": f"in the {stated.source}" if stated.source else "wherever the stated value is held",
    }
    change = Change.of(f"State {row.kind.label.lower()}", ("stated", row.id, "value"), value)
    return say(row.id, row, verdict, named, cure="type", lines=lines).with_edit(change)


def _lines(row: Quantity) -> Iterator[str]:
    values = list(row.values.items())
    decimals, unit = row.kind.decimals + 1, row.kind.unit
    for index, (name, one) in enumerate(values):
        yield f"{name}: {_value_text(one, decimals)} {unit}".rstrip() + (f" ({one.source})" if one.source else "")
        for other_name, other in values[:index]:
            allowed = allowed_width(one, other)
            yield (
                f"{name} {MINUS} {other_name}: {signed(one.value - other.value, decimals)} {unit}".rstrip()
                + f", allowed ±{number(allowed, decimals)}"
            )


def _value_text(value: QuantityValue, decimals: int) -> str:
    return number(value.value, decimals) + (f" ± {number(value.uncertainty, decimals)}" if value.uncertainty else "")


def _story(evaluation: Evaluation, row: Quantity, ratio: float) -> str:
    """Name the likely mistake behind a ratio of focal lengths or scales; empty where there is none."""
    if row.kind not in (FOCAL_LENGTH, PIXEL_SCALE, FOCAL_RATIO) or ratio <= 0:
        return ""
    found = left_out(evaluation.rig, ratio if row.kind is PIXEL_SCALE else 1 / ratio)
    if found is None or found.is_doubled:
        return ""
    return f"The stated value leaves {found.part.title} out ({short(found.magnification, 4)}×). "

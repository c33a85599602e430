"""What the rehearsal of the night came to: frames, dark hours left over, and faults that end unsafe or never."""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.ledger import Quantity, QuantityValue, Target
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantities.rows import DeviceQuantity, rows
from wyntaxis.core.rehearsal.kind import REHEARSAL, Rehearsal
from wyntaxis.core.steps import REHEARSAL as STEP

NIGHT = "night"
KEPT = DeviceQuantity("frames_kept", "Frames kept, nothing wrong", "", 0, STEP)
SLACK = DeviceQuantity("slack_h", "Dark hours left over", "h", 2, STEP)
UNSAFE = DeviceQuantity("unsafe_faults", "Single faults that end unsafe", "", 0, STEP)
ENDLESS = DeviceQuantity("endless_faults", "Single faults with an endless wait", "", 0, STEP)
DRAWN = DeviceQuantity("drawn_ah", "Drawn in the night", "Ah", 1, STEP)
COMFORTABLE_SLACK_H = 0.25
BATTERY_COMFORT = 0.9
"""Of what a battery may give, drawn with an easy mind."""


def slack_h(result: Rehearsal) -> float:
    """Return how long it is dark with the object up after the last frame, in h; below 0 where frames found no time.

    Parameters
    ----------
    result
        What was played.

    Returns
    -------
    float
        In h; what is missing counts by the exposures of the frames that were not taken.
    """
    good, sky = result.good, result.setting.sky
    missing = good.frames_planned - good.frames_kept
    if missing > 0:
        return -missing * _each_s(result) / 3600
    last = max((span.to_s for span in good.spans if span.kind == "download"), default=0.0)
    up = [min(b, sky.dark_until_s) for a, b in sky.up if a <= last]
    return (max(up, default=sky.dark_until_s) - last) / 3600


def _each_s(result: Rehearsal) -> float:
    """Return the exposure of a frame in s: of those that were kept, else as the plan asks for them."""
    good = result.good
    if good.frames_kept:
        return good.kept_s / good.frames_kept
    asked = [
        (step.frames or 1, step.exposure_s or 0.0) for step in result.setting.script.steps if step.do == "sequence"
    ]
    return sum(count * exposure for count, exposure in asked) / max(sum(count for count, _ in asked), 1)


@rows
def night_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield what was played of the night, where it was."""
    result = numbers.evidence.of(REHEARSAL)
    if result is None:
        return
    good = result.good
    yield KEPT.row(NIGHT, "Night", computed=QuantityValue(good.frames_kept), target=Target(low=good.frames_planned))
    slack = Target(low=0.0, inner_low=COMFORTABLE_SLACK_H)
    yield SLACK.row(NIGHT, "Night", computed=QuantityValue(slack_h(result)), target=slack)
    unsafe = sum(row.grade == "unsafe" and row.applies for row in result.rows)
    beyond = sum(row.grade == "unsafe" and row.applies and row.fault.beyond_plan for row in result.rows)
    endless = sum(bool(row.outcome.endless) and row.applies for row in result.rows)
    by_plan = Target(high=float(beyond), inner_high=0)
    yield UNSAFE.row(NIGHT, "Night", computed=QuantityValue(unsafe), target=by_plan)
    for use in good.power:
        if use.usable_ah is not None:
            wish = Target(high=use.usable_ah, inner_high=BATTERY_COMFORT * use.usable_ah)
            yield DRAWN.row(use.load.supply.id, use.title, computed=QuantityValue(use.drawn_ah), target=wish)
    yield ENDLESS.row(NIGHT, "Night", computed=QuantityValue(endless), target=Target(high=0))

"""What each filter of the wheel does to both foci: errors through each, and how far they lie apart."""

from __future__ import annotations

import math
from collections.abc import Iterator

from wyntaxis.core.ledger import Quantity, QuantityValue, Target
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantities.rows import DeviceQuantity, rows
from wyntaxis.core.quantity_kinds import BACK_FOCUS_ERROR, GUIDE_PATH_ERROR
from wyntaxis.core.steps import GUIDE_BRANCH, LIGHT_PATH

BACK_FOCUS = DeviceQuantity("back_focus_error_mm", "Back focus error", "mm", 2, LIGHT_PATH, has_sign=True)
GUIDE_FOCUS = DeviceQuantity("guide_path_error_mm", "Guide path error", "mm", 2, GUIDE_BRANCH, has_sign=True)
GUIDE_SPREAD = DeviceQuantity("guide_path_spread_mm", "Guide focus, spread over the filters", "mm", 2, GUIDE_BRANCH)


def filter_id(device_id: str, place: int) -> str:
    """Return what a filter's rows are named by: its wheel, and its place among the filters of stated thickness.

    Parameters
    ----------
    device_id
        The wheel's id.
    place
        The filter's place, from 1.

    Returns
    -------
    str
        ``wheel.filterN``.
    """
    return f"{device_id}.filter{place}"


@rows
def filter_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield back focus and guide path error through each filter, and the spread of the latter over all."""
    main, guide = (numbers.evaluator.target(kind) for kind in (BACK_FOCUS_ERROR, GUIDE_PATH_ERROR))
    errors, wheel = [], ""
    for place, case in enumerate(numbers.slots, start=1):
        thing, title = filter_id(case.device.id, place), f"Through {case.name}"
        if case.back_focus is not None:
            quantity_value = QuantityValue(case.back_focus.error_mm, case.back_focus.error_standard_mm)
            yield BACK_FOCUS.row(thing, title, computed=quantity_value, target=main)
        if case.guide_path is not None and guide is not None:
            errors.append(case.guide_path.error_mm)
            wheel = wheel or case.device.id
            # The guide focuser may be set anew for all of them together: alone, one that is out is only a doubt.
            near = Target(inner_low=guide.low, inner_high=guide.high)
            yield GUIDE_FOCUS.row(thing, title, computed=QuantityValue(errors[-1]), target=near)
    if errors and guide is not None:
        # One setting of the guide focuser serves all filters only while they differ by less than the depth of focus.
        spread, depth = QuantityValue(max(errors) - min(errors)), Target(high=guide.high - guide.low)
        yield GUIDE_SPREAD.row(wheel, "All filters", computed=spread, target=depth)


def worst_filter(numbers: Numbers, found: dict[str, Quantity]) -> tuple[int, Quantity] | None:
    """Return the place and row of the filter through which the main sensor stands worst; None without any.

    Parameters
    ----------
    numbers
        The rig's numbers.
    found
        Every row by id.

    Returns
    -------
    tuple[int, Quantity] or None
        Its place, and its row in mm.
    """
    entries = [
        (place, found[key])
        for place, case in enumerate(numbers.slots)
        if (key := BACK_FOCUS.id_of(filter_id(case.device.id, place + 1))) in found
    ]
    return max(entries, key=lambda entry: (entry[1].verdict.severity, abs(_value(entry[1]))), default=None)


def _value(row: Quantity) -> float:
    return row.best.value if row.best is not None else math.nan

"""Where in its travel each focuser works, how fine its steps are, and when it is refocused; a rotator's range."""

from __future__ import annotations

import math
from collections.abc import Iterator

from wyntaxis.core.ledger import Quantity, QuantityValue, Target
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantities.read_tracking import apart
from wyntaxis.core.quantities.rows import DeviceQuantity, rows, setting_target
from wyntaxis.core.quantity_kinds import DEPTH_OF_FOCUS_DIFFRACTION, DEPTH_OF_FOCUS_SEEING
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.steps import DEVICES

MAX_BACKLASH_PERCENT, DOUBTFUL_BACKLASH_PERCENT = 10.0, 5.0
"""Backlash over a twentieth of the travel is a mistyped figure or a slipping clutch."""
MAX_REFOCUS_C, MAX_REFOCUS_MIN = 5.0, 240.0
"""Refocusing rarer than this is as good as none: tubes drift by their depth of focus in a few °C or an hour or two."""
DRIFT_SLACK = 1.25
"""A trigger by temperature may exceed what the measured law asks by a quarter before it is doubtful."""
TRAVEL_PERCENT, TRAVEL_INNER_PERCENT = (5.0, 95.0), (20.0, 80.0)
MOST_COVERED_PERCENT, COVERED_PERCENT = 105.0, 100.0
"""A counter that goes beyond the drawtube's travel lets the motor run against its end."""
MIN_STEPS, WANTED_STEPS = 1.0, 3.0
"""Steps in the depth of focus: with less than one no position is sharp; three find the sharpest."""

TRAVEL = DeviceQuantity("travel_percent", "Travel used", "%", 1, DEVICES)
STEPS = DeviceQuantity("steps_in_focus", "Steps in the depth of focus", "", 1, DEVICES)
COVERED = DeviceQuantity("counter_covers_percent", "Travel that the counter covers", "%", 1, DEVICES)
DRAWTUBE_STEPS = DeviceQuantity("drawtube_steps", "Drawtube's whole travel", "steps", 0, DEVICES)
MIDDLE = DeviceQuantity("counter_middle", "Middle of the counter", "steps", 0, DEVICES)
BACKLASH = DeviceQuantity("backlash_percent", "Backlash, share of the travel", "%", 1, DEVICES)


def focusers(numbers: Numbers) -> list[Device]:
    """Return the focusers among the devices.

    Returns
    -------
    list[Device]
        In their order.
    """
    return [device for device in numbers.rig.devices if device.kind == "focuser"]


def travel_of(device: Device) -> tuple[float, float] | None:
    """Return a focuser's lowest and highest position in steps; None where they are not stated, or no range.

    Returns
    -------
    tuple[float, float] or None
        In steps.
    """
    low, high = device.number("lowest_position"), device.number("highest_position")
    return (low, high) if low is not None and high is not None and high > low else None


def depth_of_focus_um(numbers: Numbers) -> float | None:
    """Return the whole depth of focus in µm: by the seeing, else by diffraction.

    Returns
    -------
    float or None
        In µm; None without a telescope that tells it.
    """
    return numbers.value(DEPTH_OF_FOCUS_SEEING) or numbers.value(DEPTH_OF_FOCUS_DIFFRACTION)


@rows
def focuser_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield travel used, backlash as a share of the travel, and steps in the depth of focus."""
    for device in apart(focusers(numbers)):
        travel, at = travel_of(device), device.number("position")
        if travel is not None and at is not None:
            used = QuantityValue(100 * (at - travel[0]) / (travel[1] - travel[0]))
            wish = Target(*TRAVEL_PERCENT, *TRAVEL_INNER_PERCENT)
            yield TRAVEL.row(device.id, device.title, computed=used, target=wish)
        backlash = device.best("backlash_steps")
        if travel is not None and backlash is not None:
            share = QuantityValue(100 * backlash / (travel[1] - travel[0]))
            small = Target(high=MAX_BACKLASH_PERCENT, inner_high=DOUBTFUL_BACKLASH_PERCENT)
            yield BACKLASH.row(device.id, device.title, computed=share, target=small)
    zone = depth_of_focus_um(numbers)
    for device in apart(focusers(numbers)):
        step = device.number("step_um") or device.geared_step_um
        if step is not None and zone is not None:
            fine = Target(low=MIN_STEPS, inner_low=WANTED_STEPS)
            yield STEPS.row(device.id, device.title, computed=QuantityValue(zone / step), target=fine)


@rows
def counter_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield the middle of each counter; of the first focuser, too, what the drawtube's travel is in its steps.

    Source: travel / step; (highest − lowest) · step / travel.
    """
    for device in apart(focusers(numbers)):
        travel = travel_of(device)
        if travel is not None:
            yield MIDDLE.row(device.id, device.title, computed=QuantityValue((travel[0] + travel[1]) / 2))
    drawtube = numbers.rig.telescope.focuser
    for device in focusers(numbers)[:1]:
        step, travel = device.best("step_um"), travel_of(device)
        if drawtube is None or drawtube.travel_mm is None or not step:
            continue
        whole = 1000 * drawtube.travel_mm / step
        yield DRAWTUBE_STEPS.row(device.id, device.title, computed=QuantityValue(whole))
        if travel is not None:
            share = QuantityValue(100 * (travel[1] - travel[0]) / whole)
            wish = Target(high=MOST_COVERED_PERCENT, inner_high=COVERED_PERCENT)
            yield COVERED.row(device.id, device.title, computed=share, target=wish)


def drift_limit_c(numbers: Numbers, device: Device) -> float:
    """Return the change of temperature in °C after which focus has moved by half its depth: by the measured law.

    Parameters
    ----------
    numbers, device
        The rig's numbers, and a focuser.

    Returns
    -------
    float
        :data:`MAX_REFOCUS_C` where no law was measured, or where focus hardly moves.
    """
    slope, step, zone = device.measured("temperature_slope_steps_c"), device.best("step_um"), depth_of_focus_um(numbers)
    if slope is None or not slope.value or not step or zone is None:
        return MAX_REFOCUS_C
    return min(zone / step / 2 / abs(slope.value), MAX_REFOCUS_C)


@setting_target("refocus_temperature_c")
def _in_time_by_temperature(numbers: Numbers, device: Device) -> Target | None:
    limit = drift_limit_c(numbers, device)
    if limit < MAX_REFOCUS_C:
        # By half the depth nothing is seen, by the whole depth it is; what time does is not known as well.
        return Target(high=2 * limit, inner_high=DRIFT_SLACK * limit)
    return _in_time(MAX_REFOCUS_C, device.number("refocus_after_min"), MAX_REFOCUS_MIN)


@setting_target("refocus_after_min")
def _in_time_by_time(numbers: Numbers, device: Device) -> Target | None:
    return _in_time(MAX_REFOCUS_MIN, device.number("refocus_temperature_c"), MAX_REFOCUS_C)


def _in_time(most: float, other: float | None, most_of_other: float) -> Target:
    """Return what is wanted of one trigger: over its limit it fails, unless the other one comes in time."""
    saved = other is not None and other <= most_of_other
    return Target(high=math.inf if saved else most, inner_high=most)


@setting_target("position_deg")
def _range(numbers: Numbers, device: Device) -> Target | None:
    low, high = device.number("lowest_deg"), device.number("highest_deg")
    if low is None and high is None:
        return None
    return Target(-math.inf if low is None else low, math.inf if high is None else high)

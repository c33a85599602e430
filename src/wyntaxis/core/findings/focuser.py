"""Can the focuser and the rotator do what is asked of them: travel, step, backlash, triggers, range?"""

from __future__ import annotations

import math
from collections.abc import Iterator

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Quantity, Verdict, worst
from wyntaxis.core.limits import COMPENSATION_FACTOR, COMPENSATION_STEPS
from wyntaxis.core.quantities.focus_runs import COMPENSATION
from wyntaxis.core.quantities.focuser import (
    BACKLASH,
    DOUBTFUL_BACKLASH_PERCENT,
    DRIFT_SLACK,
    MAX_REFOCUS_C,
    MAX_REFOCUS_MIN,
    STEPS,
    TRAVEL,
    WANTED_STEPS,
    depth_of_focus_um,
    drift_limit_c,
    focusers,
    travel_of,
)
from wyntaxis.core.quantities.read_tracking import apart
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.steps import DEVICES
from wyntaxis.core.wording import number, plus_minus, short

_TRAVEL_SOURCE = "The working position should lie in 20 to 80 % of the focuser's range"
_STEP_SOURCE = "A focuser step should be at most a third of the depth of focus"


@finding(
    "focuser.travel",
    step=DEVICES,
    condition=conditions.FOCUSER,
    after="cooling.setpoint",
    needed="no focuser is among the devices",
)
def focuser_travel(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the working position lie away from the ends of the travel?"""
    for device in apart(focusers(evaluation)):
        low, high, at = (device.number(key) for key in ("lowest_position", "highest_position", "position"))
        row = evaluation.rows.get(TRAVEL.id_of(device.id))
        if row is None or row.computed is None or low is None or high is None or at is None:
            missing = [
                n for n, v in (("lowest position", low), ("highest position", high), ("position", at)) if v is None
            ]
            what = ", ".join(missing) or "a highest position above the lowest"
            yield Finding(
                "focuser.travel",
                Verdict.UNPROVEN,
                device.id,
                f"{device.title}: where in its travel it works is not known",
                (),
                Remedy(f"state on the Devices sheet: {what}"),
                _TRAVEL_SOURCE,
            )
            continue
        percent, inside, fails = row.computed.value, row.verdict is Verdict.HOLDS, row.verdict is Verdict.FAILS
        yield Finding(
            "focuser.travel",
            row.verdict,
            device.id,
            f"{device.title} works at {number(percent, 0)} % of its travel"
            + ("" if inside else ": at the end of it" if fails else ": near the end of it"),
            (
                f"({short(at)} − {short(low)}) / ({short(high)} − {short(low)}) = {number(percent, 1)} %",
                "wanted: 20 to 80 %",
            ),
            NO_REMEDY
            if inside
            else Remedy(
                f"move the drawtube or a spacer so that focus falls near {number((low + high) / 2, 0)} steps, and set "
                "the position anew"
            ),
            _TRAVEL_SOURCE,
            (row.id,),
        )


@finding(
    "focuser.step",
    step=DEVICES,
    condition=conditions.FOCUSER,
    after="focuser.travel",
    needed="the focuser's step is not stated",
)
def focuser_step(evaluation: Evaluation) -> Iterator[Finding]:
    """Is the focuser's step fine enough for the depth of focus?"""
    zone = depth_of_focus_um(evaluation)
    for device in apart(focusers(evaluation)):
        step, row = device.number("step_um"), evaluation.rows.get(STEPS.id_of(device.id))
        if row is None or row.computed is None or step is None or zone is None:
            continue
        steps = row.computed.value
        yield Finding(
            "focuser.step",
            row.verdict,
            device.id,
            f"{device.title}: the depth of focus has {number(steps, 1)} steps",
            (f"{number(zone, 1)} µm / {short(step)} µm = {number(steps, 1)} steps, wanted {short(WANTED_STEPS)}",),
            NO_REMEDY
            if row.verdict is Verdict.HOLDS
            else Remedy(f"gear the focuser down to {number(zone / WANTED_STEPS, 1)} µm or less"),
            _STEP_SOURCE,
            (row.id,),
        )


@finding("focuser.backlash", step=DEVICES, after="focuser.step")
def focuser_backlash(evaluation: Evaluation) -> Iterator[Finding]:
    """Is the backlash one that a focuser can have?"""
    for device in apart(focusers(evaluation)):
        backlash, travel = device.best("backlash_steps"), travel_of(device)
        row = evaluation.rows.get(BACKLASH.id_of(device.id))
        if row is None or row.computed is None or backlash is None or travel is None:
            continue
        percent = number(row.computed.value, 1)
        over = evaluation.rows.get(COMPENSATION.id_of(device.id))
        if over is not None and over.verdict is not Verdict.HOLDS and row.verdict is Verdict.HOLDS:
            yield _not_compensated(evaluation, device, over)
            continue
        yield Finding(
            "focuser.backlash",
            row.verdict,
            device.id,
            f"{device.title}: a backlash of {short(backlash, 0)} steps is {percent} % of its travel",
            (
                f"{short(backlash, 0)} / ({short(travel[1])} − {short(travel[0])}) = {percent} %, "
                f"wanted at most {number(DOUBTFUL_BACKLASH_PERCENT, 0)} %",
            ),
            NO_REMEDY
            if row.verdict is Verdict.HOLDS
            else Remedy(
                "measure it: find the best position from both sides; look for a slipping clutch or a typing slip"
            ),
            "Backlash is the play of gears and thread, a small part of the travel",
            (row.id,),
        )


def _not_compensated(evaluation: Evaluation, device: Device, over: Quantity) -> Finding:
    """Return that a focuser overshoots by less than the backlash that runs measured."""

    found, compensation = device.measured("backlash_steps"), device.number("compensation_steps")
    assert found is not None
    assert compensation is not None
    most = found.value + 2 * found.standard_uncertainty
    value = float(COMPENSATION_STEPS * math.ceil(COMPENSATION_FACTOR * most / COMPENSATION_STEPS))
    path = ("devices", evaluation.rig.devices.index(device), "settings", "compensation_steps", "value")
    return Finding(
        "focuser.backlash",
        over.verdict,
        device.id,
        f"{device.title}: compensation of {short(compensation)} steps does not take up the backlash",
        (
            f"measured backlash {plus_minus(found.value, found.standard_uncertainty, 0)} steps, compensation "
            f"{short(compensation)}: it must exceed it",
        ),
        Remedy(f"overshoot by {number(value, 0)} steps", Change.of("Set the backlash compensation", path, value)),
        "Backlash is best position approached outward minus inward; compensation must exceed it",
        (over.id,),
    )


@finding("focuser.triggers", step=DEVICES, after="focuser.backlash")
def focuser_triggers(evaluation: Evaluation) -> Iterator[Finding]:
    """Would the focuser be refocused in time?"""
    for device in apart(focusers(evaluation)):
        celsius, minutes = device.number("refocus_temperature_c"), device.number("refocus_after_min")
        keys = [f"{device.id}.{key}" for key in ("refocus_temperature_c", "refocus_after_min")]
        judged = [evaluation.rows[key] for key in keys if key in evaluation.rows]
        if celsius is None and minutes is None:
            continue
        limit_c = drift_limit_c(evaluation, device)
        slack = DRIFT_SLACK if limit_c < MAX_REFOCUS_C else 1.0
        entries = [
            (celsius, slack * limit_c, "°C", "of temperature change"),
            (minutes, MAX_REFOCUS_MIN, "min", "of time"),
        ]
        late = [(value, most, unit, what) for value, most, unit, what in entries if value is not None and value > most]
        yield Finding(
            "focuser.triggers",
            worst(row.target_verdict for row in judged if row.stated is not None),
            device.id,
            f"{device.title} is refocused in time"
            if not late
            else f"{device.title} is refocused only after {short(late[0][0])} {late[0][2]}",
            tuple(f"{short(v)} {unit} {what}, wanted at most {short(most, 2)} {unit}" for v, most, unit, what in late)
            or tuple(f"{short(v)} {unit} {what}" for v, _, unit, what in entries if v is not None),
            _in_time_remedy(evaluation, device, limit_c) if late else NO_REMEDY,
            "A tube's focus drifts by its depth within a few °C",
            tuple(row.id for row in judged),
        )


def _in_time_remedy(evaluation: Evaluation, device: Device, limit_c: float) -> Remedy:
    """Return when to refocus: by the measured law in one edit, else by what tubes usually do."""
    if limit_c >= MAX_REFOCUS_C:
        return Remedy("refocus after the change that moves focus by half its depth: some 1 to 3 °C, or 60 to 120 min")
    value = float(f"{limit_c:.2g}")
    path = ("devices", evaluation.rig.devices.index(device), "settings", "refocus_temperature_c", "value")
    change = Change.of("Refocus after the change that moves focus by half its depth", path, value)
    return Remedy(
        f"refocus after {short(value)} °C: by the measured law focus has moved by half its depth then", change
    )


@finding("rotator.range", step=DEVICES, after="stars.round")
def rotator_range(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the rotator's position lie within its range?"""
    for device in evaluation.rig.devices:
        low, high, at = (device.number(key) for key in ("lowest_deg", "highest_deg", "position_deg"))
        if device.kind != "rotator" or at is None or (low is None and high is None):
            continue
        low, high = (-math.inf if low is None else low), (math.inf if high is None else high)
        row = evaluation.rows[f"{device.id}.position_deg"]
        inside = row.target_verdict is Verdict.HOLDS
        reaches = [at + turn for turn in (-360, 360, -180, 180) if low <= at + turn <= high]
        text = (
            f"go to {short(reaches[0])}°, which is the same frame" + (" upside down" if (reaches[0] - at) % 360 else "")
            if reaches
            else "choose an angle within the range, or turn the camera by hand"
        )
        yield Finding(
            "rotator.range",
            row.target_verdict,
            device.id,
            f"{device.title}: {short(at)}° lies {'within' if inside else 'outside'} its range",
            (f"{short(at)}°, range {short(low)} to {short(high)}°",),
            NO_REMEDY if inside else Remedy(text),
            "A rotator sent beyond its range stops, hunts, or winds up its cables",
            (row.id,),
        )

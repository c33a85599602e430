"""Can the focuser and the rotator do what is asked of them: travel, step, backlash, triggers, range?"""

from __future__ import annotations

import math
from collections.abc import Iterator

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.steps import DEVICES
from wyntaxis.core.wording import number, short

MAX_BACKLASH_SHARE = 0.05
"""Backlash over a twentieth of the travel is a mistyped figure or a slipping clutch."""
MAX_REFOCUS_C, MAX_REFOCUS_MIN = 5.0, 240.0
"""Refocusing rarer than this is as good as none: tubes drift by their depth of focus in a few °C or an hour or two."""
TRAVEL_INNER = (0.2, 0.8)
STEPS_PER_ZONE = 3.0
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
    for device in evaluation.rig.devices:
        low, high, at = (device.number(key) for key in ("lowest_position", "highest_position", "position"))
        if device.kind != "focuser":
            continue
        if low is None or high is None or at is None or high <= low:
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
        share = (at - low) / (high - low)
        inside = TRAVEL_INNER[0] <= share <= TRAVEL_INNER[1]
        fails = not 0.05 <= share <= 0.95
        yield Finding(
            "focuser.travel",
            Verdict.HOLDS if inside else Verdict.FAILS if fails else Verdict.TIGHT,
            device.id,
            f"{device.title} works at {number(100 * share, 0)} % of its travel"
            + ("" if inside else ": at the end of it" if fails else ": near the end of it"),
            (
                f"({short(at)} − {short(low)}) / ({short(high)} − {short(low)}) = {number(100 * share, 1)} %",
                "wanted: 20 to 80 %",
            ),
            NO_REMEDY
            if inside
            else Remedy(
                f"move the drawtube or a spacer so that focus falls near {number((low + high) / 2, 0)} steps, and set "
                "the position anew"
            ),
            _TRAVEL_SOURCE,
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
    zone = evaluation.value("depth_of_focus_seeing_um") or evaluation.value("depth_of_focus_diffraction_um")
    for device in evaluation.rig.devices:
        step = device.number("step_um")
        if device.kind != "focuser" or step is None or zone is None:
            continue
        steps = zone / step
        fine = steps >= STEPS_PER_ZONE
        yield Finding(
            "focuser.step",
            Verdict.HOLDS if fine else Verdict.TIGHT if steps >= 1 else Verdict.FAILS,
            device.id,
            f"{device.title}: the depth of focus has {number(steps, 1)} steps",
            (f"{number(zone, 1)} µm / {short(step)} µm = {number(steps, 1)} steps, wanted {short(STEPS_PER_ZONE)}",),
            NO_REMEDY if fine else Remedy(f"gear the focuser down to {number(zone / STEPS_PER_ZONE, 1)} µm or less"),
            _STEP_SOURCE,
        )


@finding("focuser.backlash", step=DEVICES, after="focuser.step")
def focuser_backlash(evaluation: Evaluation) -> Iterator[Finding]:
    """Is the backlash one that a focuser can have?"""
    for device in evaluation.rig.devices:
        backlash = device.best("backlash_steps")
        low, high = device.number("lowest_position"), device.number("highest_position")
        if device.kind != "focuser" or backlash is None or low is None or high is None or high <= low:
            continue
        share = backlash / (high - low)
        verdict = (
            Verdict.HOLDS
            if share <= MAX_BACKLASH_SHARE
            else Verdict.TIGHT
            if share <= 2 * MAX_BACKLASH_SHARE
            else Verdict.FAILS
        )
        yield Finding(
            "focuser.backlash",
            verdict,
            device.id,
            f"{device.title}: a backlash of {short(backlash)} steps is {number(100 * share, 1)} % of its travel",
            (
                f"{short(backlash)} / ({short(high)} − {short(low)}) = {number(100 * share, 1)} %, "
                f"wanted at most {number(100 * MAX_BACKLASH_SHARE, 0)} %",
            ),
            NO_REMEDY
            if verdict is Verdict.HOLDS
            else Remedy(
                "measure it: find the best position from both sides; look for a slipping clutch or a typing slip"
            ),
            "Backlash is the play of gears and thread, a small part of the travel",
        )


@finding("focuser.triggers", step=DEVICES, after="focuser.backlash")
def focuser_triggers(evaluation: Evaluation) -> Iterator[Finding]:
    """Would the focuser be refocused in time?"""
    for device in evaluation.rig.devices:
        celsius, minutes = device.number("refocus_temperature_c"), device.number("refocus_after_min")
        if device.kind != "focuser" or (celsius is None and minutes is None):
            continue
        told = [
            (celsius, MAX_REFOCUS_C, "°C", "of temperature change"),
            (minutes, MAX_REFOCUS_MIN, "min", "of time"),
        ]
        late = [(value, most, unit, what) for value, most, unit, what in told if value is not None and value > most]
        some = [value for value, most, *_ in told if value is not None and value <= most]
        verdict = Verdict.HOLDS if not late else Verdict.TIGHT if some else Verdict.FAILS
        yield Finding(
            "focuser.triggers",
            verdict,
            device.id,
            f"{device.title} is refocused in time"
            if not late
            else f"{device.title} is refocused only after {short(late[0][0])} {late[0][2]}",
            tuple(f"{short(v)} {unit} {what}, wanted at most {short(most)} {unit}" for v, most, unit, what in late)
            or tuple(f"{short(v)} {unit} {what}" for v, _, unit, what in told if v is not None),
            NO_REMEDY
            if not late
            else Remedy(
                "refocus after the change that moves focus by half its depth: some 1 to 3 °C, or 60 to 120 min"
            ),
            "A tube's focus drifts by its depth within a few °C",
        )


@finding("rotator.range", step=DEVICES, after="focuser.triggers")
def rotator_range(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the rotator's position lie within its range?"""
    for device in evaluation.rig.devices:
        low, high, at = (device.number(key) for key in ("lowest_deg", "highest_deg", "position_deg"))
        if device.kind != "rotator" or at is None or (low is None and high is None):
            continue
        low, high = (-math.inf if low is None else low), (math.inf if high is None else high)
        inside = low <= at <= high
        reaches = [at + turn for turn in (-360, 360, -180, 180) if low <= at + turn <= high]
        text = (
            f"go to {short(reaches[0])}°, which is the same frame" + (" upside down" if (reaches[0] - at) % 360 else "")
            if reaches
            else "choose an angle within the range, or turn the camera by hand"
        )
        yield Finding(
            "rotator.range",
            Verdict.HOLDS if inside else Verdict.FAILS,
            device.id,
            f"{device.title}: {short(at)}° lies {'within' if inside else 'outside'} its range",
            (f"{short(at)}°, range {short(low)} to {short(high)}°",),
            NO_REMEDY if inside else Remedy(text),
            "A rotator sent beyond its range stops, hunts, or winds up its cables",
        )

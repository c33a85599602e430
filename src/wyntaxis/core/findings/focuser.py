"""Can the focuser and the rotator do what is asked of them: travel, step, backlash, triggers, range?"""

from __future__ import annotations

import math
from collections.abc import Iterator

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Proof, Statement, finding, say
from wyntaxis.core.ledger import Quantity, Verdict, worst
from wyntaxis.core.limits import COMPENSATION_FACTOR, COMPENSATION_STEPS
from wyntaxis.core.quantities.focus_runs import COMPENSATION
from wyntaxis.core.quantities.focuser import (
    BACKLASH,
    COVERED,
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


@finding(
    "focuser.travel",
    step=DEVICES,
    proves=Proof(condition=conditions.FOCUSER, needed="no focuser is among the devices"),
    listed=Listed(after="cooling.setpoint"),
    source="The working position should lie in 20 to 80 % of the focuser's range",
    titles={
        "holds": "{device} works at {percent:0} % of its travel",
        "tight": "{device} works at {percent:0} % of its travel, near the end of it",
        "fails": "{device} works at {percent:0} % of its travel, at the end of it",
        "not known": "{device}: its working position within the travel is not known",
    },
    remedies={
        "": "Move the drawtube or add a spacer so that focus falls near {middle:0} steps, and enter the new position.",
        "not known": "Enter on the Devices sheet: {missing}.",
    },
)
def focuser_travel(evaluation: Evaluation) -> Iterator[Statement]:
    """Is the working position away from the ends of the travel?"""
    for device in apart(focusers(evaluation)):
        low, high, at = (device.number(key) for key in ("lowest_position", "highest_position", "position"))
        row = evaluation.rows.get(TRAVEL.id_of(device.id))
        if row is None or row.computed is None or low is None or high is None or at is None:
            named_values = (("lowest position", low), ("highest position", high), ("position", at))
            missing = ", ".join(name for name, value in named_values if value is None)
            named = {"device": device.title, "missing": missing or "a highest position above the lowest"}
            yield say(device.id, None, Verdict.UNPROVEN, named, case="not known")
            continue
        percent = row.computed.value
        lines = (
            f"({short(at)} − {short(low)}) / ({short(high)} − {short(low)}) = {number(percent, 1)} %",
            "wanted: 20 to 80 %",
        )
        yield say(
            device.id, row, None, {"device": device.title, "percent": percent, "middle": (low + high) / 2}, lines=lines
        )


@finding(
    "focuser.counter",
    step=DEVICES,
    listed=Listed(after="focuser.travel"),
    source="(highest − lowest position) · step / travel of the drawtube",
    titles={
        "holds": "{device}: its counter covers {percent:0} % of the drawtube's travel",
        "": "{device}: its counter reaches {over:1} mm beyond the drawtube's travel: the motor runs against the end",
    },
    remedies="Set the highest position to {highest:0} steps or less, or correct step or travel.",
)
def focuser_counter(evaluation: Evaluation) -> Iterator[Statement]:
    """Does the focuser's counter stay within the drawtube's travel?"""
    drawtube = evaluation.rig.telescope.focuser
    for device in focusers(evaluation)[:1]:
        row, travel, step = evaluation.rows.get(COVERED.id_of(device.id)), travel_of(device), device.best("step_um")
        if row is None or row.computed is None or travel is None or not step or drawtube is None:
            continue
        whole, counted_mm = drawtube.travel_mm or 0.0, (travel[1] - travel[0]) * step / 1000
        line = (
            f"({short(travel[1])} − {short(travel[0])}) × {short(step)} µm = {number(counted_mm, 1)} mm, the drawtube "
            f"travels {short(whole)} mm"
        )
        named: dict[str, Named] = {
            "device": device.title,
            "percent": row.computed.value,
            "over": counted_mm - whole,
            "highest": travel[0] + 1000 * whole / step,
        }
        yield say(device.id, row, None, named, lines=(line,))


@finding(
    "focuser.step",
    step=DEVICES,
    proves=Proof(condition=conditions.FOCUSER, needed="the focuser's step is not entered"),
    listed=Listed(after="focuser.counter"),
    source="A focuser step should be at most a third of the depth of focus",
    titles="{device}: the depth of focus has {steps:1} steps (at least {least})",
    remedies="Gear the focuser down to {finest:1} µm per step or less.",
)
def focuser_step(evaluation: Evaluation) -> Iterator[Statement]:
    """Is the focuser's step fine enough for the depth of focus?"""
    zone = depth_of_focus_um(evaluation)
    for device in apart(focusers(evaluation)):
        step, row = device.number("step_um"), evaluation.rows.get(STEPS.id_of(device.id))
        if row is None or row.computed is None or step is None or zone is None:
            continue
        steps = row.computed.value
        line = f"{number(zone, 1)} µm / {short(step)} µm = {number(steps, 1)} steps, wanted {short(WANTED_STEPS)}"
        named: dict[str, Named] = {
            "device": device.title,
            "steps": steps,
            "least": WANTED_STEPS,
            "finest": zone / WANTED_STEPS,
        }
        yield say(device.id, row, None, named, lines=(line,))


@finding(
    "focuser.backlash",
    step=DEVICES,
    listed=Listed(after="focuser.step"),
    source="Backlash is best position approached outward minus inward, a small part of the travel; compensation must "
    "exceed it",
    titles={
        "": "{device}: a backlash of {backlash:0} steps is {percent:1} % of its travel",
        "compensation": "{device}: compensation of {compensation} steps does not take up the backlash",
    },
    remedies={
        "": "Measure it: find the best position from both sides. Check for a slipping clutch or a typing error.",
        "compensation": "Set the backlash compensation to {enough:0} steps.",
    },
)
def focuser_backlash(evaluation: Evaluation) -> Iterator[Statement]:
    """Is the backlash one that a focuser can have, and is it compensated?"""
    for device in apart(focusers(evaluation)):
        backlash, travel = device.best("backlash_steps"), travel_of(device)
        row = evaluation.rows.get(BACKLASH.id_of(device.id))
        if row is None or row.computed is None or backlash is None or travel is None:
            continue
        over = evaluation.rows.get(COMPENSATION.id_of(device.id))
        if over is not None and over.verdict is not Verdict.HOLDS and row.verdict is Verdict.HOLDS:
            yield _not_compensated(evaluation, device, over)
            continue
        percent = row.computed.value
        line = (
            f"{short(backlash, 0)} / ({short(travel[1])} − {short(travel[0])}) = {number(percent, 1)} %, "
            f"wanted at most {number(DOUBTFUL_BACKLASH_PERCENT, 0)} %"
        )
        named: dict[str, Named] = {"device": device.title, "backlash": backlash, "percent": percent}
        yield say(device.id, row, None, named, lines=(line,))


def _not_compensated(evaluation: Evaluation, device: Device, over: Quantity) -> Statement:
    """Return that a focuser overshoots by less than the backlash that runs measured."""
    found, compensation = device.measured("backlash_steps"), device.number("compensation_steps")
    assert found is not None
    assert compensation is not None
    most = found.value + 2 * found.standard_uncertainty
    enough = float(COMPENSATION_STEPS * math.ceil(COMPENSATION_FACTOR * most / COMPENSATION_STEPS))
    path = ("devices", evaluation.rig.devices.index(device), "settings", "compensation_steps", "value")
    line = (
        f"measured backlash {plus_minus(found.value, found.standard_uncertainty, 0)} steps, compensation "
        f"{short(compensation)}: it must exceed it"
    )
    named: dict[str, Named] = {"device": device.title, "compensation": compensation, "enough": enough}
    change = Change.of("Set the backlash compensation", path, enough)
    return say(device.id, over, None, named, case="compensation", lines=(line,)).with_edit(change)


@finding(
    "focuser.triggers",
    step=DEVICES,
    listed=Listed(after="focuser.backlash"),
    source="A tube's focus drifts by its depth within a few °C",
    titles={
        "in time": "{device} is refocused in time",
        "late": "{device} is refocused only after {after} {unit} (at most {most:2} {unit})",
    },
    remedies={
        "in time": "",
        "usual": "Refocus after the change that moves focus by half its depth: usually 1 to 3 °C, or 60 to 120 min.",
        "measured": "Refocus after {celsius} °C: by the measured temperature model, focus has then moved by half its "
        "depth.",
    },
)
def focuser_triggers(evaluation: Evaluation) -> Iterator[Statement]:
    """Would the focuser be refocused in time?"""
    for device in apart(focusers(evaluation)):
        celsius, minutes = device.number("refocus_temperature_c"), device.number("refocus_after_min")
        keys = [f"{device.id}.{key}" for key in ("refocus_temperature_c", "refocus_after_min")]
        judged = [evaluation.rows[key] for key in keys if key in evaluation.rows]
        if celsius is None and minutes is None:
            continue
        limit_c = drift_limit_c(evaluation, device)
        factor = DRIFT_SLACK if limit_c < MAX_REFOCUS_C else 1.0
        triggers = [
            (celsius, factor * limit_c, "°C", "of temperature change"),
            (minutes, MAX_REFOCUS_MIN, "min", "of time"),
        ]
        known = [(value, most, unit, what) for value, most, unit, what in triggers if value is not None]
        late = [one for one in known if one[0] > one[1]]
        verdict = worst(row.target_verdict for row in judged if row.stated is not None)
        if not late:
            lines = [f"{short(value)} {unit} {what}" for value, _, unit, what in known]
            yield say(device.id, judged, verdict, {"device": device.title}, case="in time", lines=lines)
            continue
        lines = [f"{short(v)} {unit} {what}, wanted at most {short(most, 2)} {unit}" for v, most, unit, what in late]
        after, most, unit, _ = late[0]
        named: dict[str, Named] = {"device": device.title, "after": after, "unit": unit, "most": most}
        if limit_c >= MAX_REFOCUS_C:
            yield say(device.id, judged, verdict, named, case="late", cure="usual", lines=lines)
            continue
        value = float(f"{limit_c:.2g}")
        path = ("devices", evaluation.rig.devices.index(device), "settings", "refocus_temperature_c", "value")
        change = Change.of("Refocus after the change that moves focus by half its depth", path, value)
        named["celsius"] = value
        yield say(device.id, judged, verdict, named, case="late", cure="measured", lines=lines).with_edit(change)


@finding(
    "rotator.range",
    step=DEVICES,
    listed=Listed(after="stars.round"),
    source="A rotator sent beyond its range stops, hunts, or winds up its cables",
    titles={
        "holds": "{device}: {angle}° is within its range",
        "": "{device}: {angle}° is outside its range of {low} to {high}°",
    },
    remedies={
        "same": "Go to {other}°, which gives the same frame.",
        "upside down": "Go to {other}°, which gives the same frame upside down.",
        "by hand": "Choose an angle within the range, or turn the camera by hand.",
    },
)
def rotator_range(evaluation: Evaluation) -> Iterator[Statement]:
    """Is the rotator's position within its range?"""
    for device in evaluation.rig.devices:
        low, high, at = (device.number(key) for key in ("lowest_deg", "highest_deg", "position_deg"))
        if device.kind != "rotator" or at is None or (low is None and high is None):
            continue
        low, high = (-math.inf if low is None else low), (math.inf if high is None else high)
        row = evaluation.rows[f"{device.id}.position_deg"]
        verdict = row.target_verdict
        reaches = [at + turn for turn in (-360, 360, -180, 180) if low <= at + turn <= high]
        named: dict[str, Named] = {"device": device.title, "angle": at, "low": low, "high": high}
        cure = "by hand"
        if reaches:
            named["other"] = reaches[0]
            cure = "upside down" if (reaches[0] - at) % 360 else "same"
        cure = str(verdict) if verdict is Verdict.HOLDS else cure
        line = f"{short(at)}°, range {short(low)} to {short(high)}°"
        yield say(device.id, row, verdict, named, cure=cure, lines=(line,))

"""What focus runs prove of the focuser: best position, step, temperature, filters, travel, direction, sampling."""

from __future__ import annotations

import math
from collections.abc import Iterator

from wyntaxis.core.evidence.focus.kind import FOCUS
from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Proof, Statement, finding, say
from wyntaxis.core.ledger import Quantity, QuantityValue, Verdict, worst
from wyntaxis.core.limits import REACH
from wyntaxis.core.quantities.focus_runs import (
    COVERED,
    EXPANSION,
    LEFT,
    MAX_EXPANSION_PPM,
    OFFSET,
    REACH_ROW,
    SATURATED,
    SATURATED_PERCENT,
    SEASON_SPAN_C,
    STATED_REACH,
    WANTED_LEFT_PERCENT,
    measured_slots,
    stated_runs,
    travels,
)
from wyntaxis.core.quantities.focuser import focusers
from wyntaxis.core.quantities.read_tracking import apart, chosen
from wyntaxis.core.quantity_kinds import FOCAL_LENGTH
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.steps import TRAVEL
from wyntaxis.core.train.lightpath import magnifications
from wyntaxis.core.wording import number, plus_minus, short, signed

_CURVE_SOURCE = "HFD = √(a² + b²(x − x₀)²) over the counter's position; stars out of focus as a blurred annulus"
_SAMPLING_SOURCE = "The outermost point of a focus run at 2.5 to 3 times the sharpest size, 7 to 11 points"
_GLASS_SOURCE = "A plane plate moves focus by t (1 − 1/n)"
SURE = 2.0
"""So many standard uncertainties make a sign certain."""
_SAME_SHARE = 0.05
"""Relative difference within which a step is the stated one times the corrector's factor."""


def _compared(row: Quantity, unit: str) -> tuple[str, ...]:
    """Return the values of a row, a line each."""
    return tuple(f"{name}: {_value_text(name, one, row.kind.decimals, unit)}" for name, one in row.values.items())


def _value_text(name: str, one: QuantityValue, digits: int, unit: str) -> str:
    value = plus_minus(one.value, one.uncertainty, digits) if one.uncertainty else number(one.value, digits)
    within = f", allowed ±{short(one.tolerance)}" if name == "stated" and one.tolerance else ""
    return f"{value} {unit}{within}" + (f" ({one.source})" if one.source else "")


def _place(evaluation: Evaluation, device_id: str) -> int:
    return next(place for place, device in enumerate(evaluation.rig.devices) if device.id == device_id)


def _set(evaluation: Evaluation, device_id: str, key: str, title: str, value: object) -> Change:
    """Return the change that states a setting of a device."""
    return Change.of(title, ("devices", _place(evaluation, device_id), "settings", key, "value"), value)


@finding(
    "focuser.best",
    step=TRAVEL,
    listed=Listed(after="focuser.triggers"),
    source=_CURVE_SOURCE,
    titles={
        "": "{device}: best focus is at {best:0} steps; {stated:0} is set",
        "not stated": "{device}: best focus is at {best:0} steps; no position is entered",
    },
    remedies="Set the working position to {best:0}.",
)
def best_position(evaluation: Evaluation) -> Iterator[Statement]:
    """Does the working position agree with the best one that focus runs found?"""
    for device in apart(focusers(evaluation)):
        row = evaluation.rows.get(f"{device.id}.position")
        if row is None or row.measured is None:
            continue
        best = row.measured.value
        named: dict[str, Named] = {"device": device.title, "best": best}
        change = _set(evaluation, device.id, "position", "Set the working position as measured", round(best, 0))
        lines = _compared(row, "steps")
        if row.stated is None:
            yield say(device.id, row, Verdict.UNPROVEN, named, case="not stated", lines=lines).with_edit(change)
            continue
        named["stated"] = row.stated.value
        yield say(device.id, row, None, named, lines=lines).with_edit(None if row.verdict is Verdict.HOLDS else change)


@finding(
    "focuser.step_size",
    step=TRAVEL,
    listed=Listed(after="focuser.best"),
    source=_CURVE_SOURCE,
    titles={
        "": "{device}: a step is {step:2} µm; {stated} µm is entered",
        "not stated": "{device}: a step is {step:2} µm; none is entered",
    },
    remedies="Set the step to {step:3} µm.",
)
def step_size(evaluation: Evaluation) -> Iterator[Statement]:
    """Is a step as long as the focuser's maker says?"""
    for device in apart(focusers(evaluation)):
        row = evaluation.rows.get(f"{device.id}.step_um")
        if row is None or row.measured is None:
            continue
        found, lines = row.measured, list(_compared(row, "µm"))
        factor = math.prod(magnifications(evaluation.rig.train)) ** 2
        if row.stated is not None and row.verdict is not Verdict.HOLDS and abs(factor - 1) > _SAME_SHARE:
            moved = row.stated.value * factor
            if abs(moved - found.value) <= max(SURE * found.uncertainty, _SAME_SHARE * moved):
                lines.append(
                    f"{short(row.stated.value)} µm × {number(math.sqrt(factor), 2)}² = {number(moved, 2)} µm: "
                    "the corrector moves with the drawtube, and at the sensor a step is that"
                )
        named: dict[str, Named] = {"device": device.title, "step": found.value}
        verdict, case = row.verdict, ""
        if row.stated is None:
            verdict, case = Verdict.UNPROVEN, "not stated"
        else:
            named["stated"] = row.stated.value
        change = _set(evaluation, device.id, "step_um", "Set the step as measured", round(found.value, 3))
        change_or_none = None if verdict is Verdict.HOLDS else change
        yield say(device.id, row, verdict, named, case=case, cure=str(verdict), lines=lines).with_edit(change_or_none)


@finding(
    "focuser.temperature",
    step=TRAVEL,
    listed=Listed(after="focuser.step_size"),
    source="Expansion: aluminium 23, steel 12, carbon 1 to 3 ppm/K, and the glass's own",
    titles={
        "": "{device}: focus moves by {slope} steps/°C",
        "tight": "{device}: focus moves by {slope} steps/°C, more than a tube does",
        "fails": "{device}: focus moves by {slope} steps/°C, which is no temperature model of a tube",
    },
    remedies="Take runs in the same way, inward and outward apart, at temperatures 3 °C or more apart: backlash, a "
    "slipping "
    "drawtube or a counter that was reset look like this.",
)
def temperature_model(evaluation: Evaluation) -> Iterator[Statement]:
    """Is the slope over temperature one that a tube can have?"""
    for device in apart(focusers(evaluation)):
        row, slope = evaluation.rows.get(EXPANSION.id_of(device.id)), device.measured("temperature_slope_steps_c")
        if row is None or row.measured is None or slope is None:
            continue
        step, focal = device.best("step_um"), evaluation.value(FOCAL_LENGTH)
        line = (
            f"{number(abs(slope.value), 1)} steps/°C × {short(step or 0.0)} µm / {number(focal or 0.0, 0)} mm = "
            f"{number(row.measured.value, 1)} ppm/K, wanted at most {number(MAX_EXPANSION_PPM, 0)}"
        )
        named = {"device": device.title, "slope": plus_minus(slope.value, slope.standard_uncertainty, 1)}
        yield say(device.id, row, None, named, lines=(line,))


@finding(
    "focuser.offsets",
    step=TRAVEL,
    listed=Listed(after="focuser.temperature"),
    source=_GLASS_SOURCE,
    titles={"fails": "Focus offsets do not agree: {filters}", "": "Focus offsets of {count} filters"},
    remedies="Set the offsets as measured.",
)
def filter_offsets(evaluation: Evaluation) -> Iterator[Statement]:
    """Do the filters move focus by what is set, and by what their glass makes?"""
    found = [
        (wheel, slot, place, row)
        for wheel, slot, place in measured_slots(evaluation)
        if (row := evaluation.rows.get(OFFSET.id_of(f"{wheel.id}.slot{place}"))) is not None
        and row.measured is not None
    ]
    if not found:
        return
    verdict = worst(row.verdict for *_, row in found if len(row.values) > 1)
    lines = []
    for _, slot, _, row in found:
        values = ", ".join(f"{name} {signed(one.value, 1)}" for name, one in row.values.items())
        lines.append(f"{slot.name.strip()}: {values} steps")
    measured = [
        (
            ("devices", _place(evaluation, wheel.id), "slots", place - 1, "focus_offset_steps"),
            slot.focus_offset_measured,
        )
        for wheel, slot, place, _ in found
    ]
    settings = tuple((path, round(own.value, 1)) for path, own in measured if own is not None)
    change = None if verdict is Verdict.HOLDS else Change("Set the filters' offsets as measured", settings)
    bad = ", ".join(slot.name.strip() for _, slot, _, row in found if row.verdict is Verdict.FAILS)
    named: dict[str, Named] = {"filters": bad, "count": len(found)}
    yield say(found[0][0].id, [row for *_, row in found], verdict, named, lines=lines).with_edit(change)


@finding(
    "focuser.range",
    step=TRAVEL,
    listed=Listed(after="focuser.offsets"),
    source="The travel must cover the temperatures of a year and all filters",
    titles={
        "holds": "{device}: the travel leaves room for temperature and filters",
        "": "{device}: the travel ends near the working positions",
        "drawtube": "{device}: the travel covers a part of the drawtube only",
    },
    remedies={
        "middle": "Move the drawtube or add a spacer so that focus falls near the middle of the travel.",
        "by hand": "Focus by hand first, then set the counter to the middle of its range.",
        "both": "Move the drawtube or add a spacer so that focus falls near the middle of the travel. Focus by hand "
        "first, "
        "then set the counter to the middle of its range.",
    },
)
def travel_range(evaluation: Evaluation) -> Iterator[Statement]:
    """Does the travel cover temperature and filters, and which part of the drawtube does it cover?"""
    by_device = {travel.device.id: travel for travel in travels(evaluation)}
    for device in apart(focusers(evaluation)):
        left, covered = (evaluation.rows.get(kind.id_of(device.id)) for kind in (LEFT, COVERED))
        judged = [row for row in (left, covered) if row is not None and row.computed is not None]
        if not judged:
            continue
        lines, cures = [], []
        if left is not None and left.computed is not None:
            travel = by_device[device.id]
            low, high = travel.span
            lines.append(
                f"over {number(SEASON_SPAN_C, 0)} °C and all filters focus is from {number(low, 0)} to "
                f"{number(high, 0)} steps; the travel is {short(travel.low)} to {short(travel.high)}: "
                f"{number(left.computed.value, 1)} % left, wanted {number(WANTED_LEFT_PERCENT, 0)} %"
            )
            cures += ["middle"] if left.verdict is not Verdict.HOLDS else []
        if covered is not None and covered.computed is not None:
            lines.append(f"the motor covers {number(covered.computed.value, 1)} % of the drawtube's travel")
            cures += ["by hand"] if covered.verdict is not Verdict.HOLDS else []
        verdict = worst(row.verdict for row in judged)
        room_is_left = left is None or left.verdict is Verdict.HOLDS
        case = "drawtube" if room_is_left and verdict is not Verdict.HOLDS else str(verdict)
        cure = "both" if len(cures) > 1 else cures[0] if cures else "none"
        yield say(device.id, judged, verdict, {"device": device.title}, case=case, cure=cure, lines=lines)


@finding(
    "focuser.direction",
    step=TRAVEL,
    proves=Proof(condition=conditions.FOCUSER),
    listed=Listed(after="focuser.range"),
    source=_GLASS_SOURCE,
    titles={
        "holds": "{device}: the counter rises outward, as thicker filters show",
        "fails": "{device}: the counter rises inward, as thicker filters show",
        "unproven": "{device}: the direction of its counter is not verified",
    },
    remedies={
        "fails": "Reverse the direction in the focuser's settings, and set the counter again.",
        "unproven": "Measure the focus offsets of two filters of different thickness on the Focuser sheet, or bring "
        "in the "
        "direction that a program holds.",
    },
)
def counting_direction(evaluation: Evaluation) -> Iterator[Statement]:
    """Does the counter rise outward, by the filters' glass?"""
    rows = [
        evaluation.rows.get(OFFSET.id_of(f"{wheel.id}.slot{place}")) for wheel, _, place in measured_slots(evaluation)
    ]
    pairs = [
        (row.computed.value, row.measured)
        for row in rows
        if row is not None and row.computed is not None and row.measured is not None
    ]
    squares = sum(glass**2 for glass, _ in pairs)
    devices = focusers(evaluation)
    if not squares or not devices:
        yield from _direction_not_verified(evaluation)
        return
    device = devices[0]
    sign = sum(glass * found.value for glass, found in pairs) / squares
    standard = math.sqrt(sum((glass * found.uncertainty) ** 2 for glass, found in pairs)) / squares
    if abs(sign) <= SURE * standard:
        yield from _direction_not_verified(evaluation)
        return
    lines = [
        f"by its glass {signed(glass, 1)} steps, measured {signed(found.value, 1)} ± {number(found.uncertainty, 1)}"
        for glass, found in pairs
    ]
    verdict, change = Verdict.HOLDS, None
    if sign < 0:
        verdict = Verdict.FAILS
        change = _set(evaluation, device.id, "reversed", "Turn the focuser's direction", not device.truth("reversed"))
    yield say(device.id, rows, verdict, {"device": device.title}, lines=lines).with_edit(change)


def _direction_not_verified(evaluation: Evaluation) -> Iterator[Statement]:
    """Yield the focusers whose counting direction is unknown: from neither filters' glass nor a program's record."""
    spoken = chosen(evaluation.matrix.rows, lambda row: row.item.topic == "direction")
    held = {row.item.device for row in spoken if any(cell.state in ("agrees", "differs") for cell in row.cells)}
    for device in evaluation.rig.devices:
        if device.kind == "focuser" and device.id not in held:
            yield say(device.id, None, Verdict.UNPROVEN, {"device": device.title})


@finding(
    "focuser.run",
    step=TRAVEL,
    listed=Listed(after="focuser.direction"),
    source=_SAMPLING_SOURCE,
    titles={
        "": "{device}: {points} points {step} steps apart reach {reach:1} times the sharpest star",
        "too little": "{device}: {points} points {step} steps apart reach {reach:1} times the sharpest star, which "
        "is too "
        "little",
        "too far": "{device}: {points} points {step} steps apart reach {reach:1} times the sharpest star, which is "
        "too far",
        "not verified": "{device}: {points} points {step} steps apart are not verified without a step in µm and the "
        "seeing",
    },
    remedies={
        "steps": "Take steps of {wanted:0}, so that the outermost stars are 2.5 to 3 times the sharpest.",
        "points": "Take 7 to 11 points.",
        "not verified": "Read a focus run on the Focuser sheet, or enter the focuser's step in µm and the site's "
        "seeing.",
    },
)
def stated_run(evaluation: Evaluation) -> Iterator[Statement]:
    """Does the focus run that is set leave the noise, and not leave the stars?"""
    for run in stated_runs(evaluation):
        device, row = run.device, evaluation.rows.get(STATED_REACH.id_of(run.device.id))
        named: dict[str, Named] = {"device": device.title, "points": run.points, "step": run.step}
        if row is None or run.reach is None or run.sharpest_px is None or run.slope_px_step is None:
            yield say(device.id, None, Verdict.UNPROVEN, named, case="not verified")
            continue
        named["reach"] = run.reach
        case, cure, change = "", "none", None
        if row.verdict is not Verdict.HOLDS:
            case, cure = "too little" if run.reach < REACH else "too far", "points"
            half = run.sharpest_px * math.sqrt(REACH**2 - 1) / run.slope_px_step
            if run.points > 1:
                wanted = float(max(round(half / ((run.points - 1) / 2)), 1))
                change = _set(evaluation, device.id, "run_step", "Set the step of a focus run", wanted)
                cure, named["wanted"] = "steps", wanted
        blur = number(run.slope_px_step * run.half_steps, 2)
        lines = (
            f"{number(run.slope_px_step, 4)} px/step × {number(run.half_steps, 0)} steps = {blur} px; "
            f"seeing leaves {number(run.sharpest_px, 2)} px",
            f"√(1 + ({blur} / {number(run.sharpest_px, 2)})²) = {number(run.reach, 2)}, wanted 2.5 to 3",
        )
        yield say(device.id, row, None, named, case=case, cure=cure, lines=lines).with_edit(change)


@finding(
    "focuser.sampling",
    step=TRAVEL,
    listed=Listed(after="focuser.run"),
    source=_SAMPLING_SOURCE,
    titles={
        "holds": "{device}: focus runs reach {reach:1} times the sharpest star",
        "small": "{device}: the steps of the focus run are too small ({reach:1} times the sharpest star)",
        "far": "{device}: the focus run goes too far out ({reach:1} times the sharpest star)",
    },
    remedies={
        "steps": "Take steps of {step:0} in the next run.",
        "": "Take larger steps until the outermost stars are 2.5 to 3 times the sharpest.",
    },
)
def sampling(evaluation: Evaluation) -> Iterator[Statement]:
    """Do focus runs take steps that leave the noise, and do not leave the stars?"""
    result = evaluation.evidence.of(FOCUS)
    if result is None:
        return
    from wyntaxis.core.evidence.focus.advice import run_step

    for device in apart(focusers(evaluation)):
        row = evaluation.rows.get(REACH_ROW.id_of(device.id))
        if row is None or row.measured is None:
            continue
        reach = row.measured.value
        named: dict[str, Named] = {"device": device.title, "reach": reach}
        steps = [step for curve in result.curves if (step := run_step(curve)) is not None]
        case, cure, change = str(row.verdict), str(row.verdict), None
        if row.verdict is not Verdict.HOLDS:
            case, cure = "small" if reach < REACH else "far", ""
            if steps:
                named["step"] = step = float(max(round(sorted(steps)[len(steps) // 2]), 1))
                change, cure = _set(evaluation, device.id, "run_step", "Set the step of a focus run", step), "steps"
        line = f"outermost {number(reach, 2)} times the sharpest, wanted 2.5 to 3"
        yield say(device.id, row, None, named, case=case, cure=cure or "larger", lines=(line,)).with_edit(change)


@finding(
    "focuser.saturated",
    step=TRAVEL,
    listed=Listed(after="focuser.sampling"),
    source="A saturated star's middle is missing, so that its half-flux diameter is too large",
    titles={
        "holds": "Stars of the focus runs are not saturated",
        "": "{share:0} % of a focus run's stars are saturated (at most {most:0} %)",
    },
    remedies="Expose shorter for focus, or at a lower gain: a saturated star looks too large.",
)
def saturated(evaluation: Evaluation) -> Iterator[Statement]:
    """Are the stars of focus runs unsaturated?"""
    for device in apart(focusers(evaluation)):
        row = evaluation.rows.get(SATURATED.id_of(device.id))
        if row is None or row.measured is None:
            continue
        share, most = row.measured.value, SATURATED_PERCENT[0]
        line = f"{number(share, 0)} % at the worst point, wanted at most {number(most, 0)} %"
        yield say(device.id, row, None, {"share": share, "most": most}, lines=(line,))

"""What focus runs prove of the focuser: best position, step, temperature, filters, travel, direction, sampling."""

from __future__ import annotations

import math
from collections.abc import Iterator

from wyntaxis.core.evidence.focus.kind import FOCUS
from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Quantity, Verdict, worst
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
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.steps import TRAVEL
from wyntaxis.core.train.lightpath import magnifications
from wyntaxis.core.wording import number, plus_minus, short, signed

_CURVE_SOURCE = "HFD = √(a² + b²(x − x₀)²) over the counter's position; stars out of focus as a blurred annulus"
_MATERIAL_SOURCE = "Expansion: aluminium 23, steel 12, carbon 1 to 3 ppm/K, and the glass's own"
_SAMPLING_SOURCE = "The outermost point of a focus run at 2.5 to 3 times the sharpest size, 7 to 11 points"
_GLASS_SOURCE = "A plane plate moves focus by t (1 − 1/n)"
SURE = 2.0
"""So many standard uncertainties make a sign certain."""


def _compared(row: Quantity, unit: str) -> tuple[str, ...]:
    """Return the values of a row, a line each."""
    digits, lines = row.kind.decimals, []
    for name, quantity_value in row.values.items():
        value = (
            plus_minus(quantity_value.value, quantity_value.uncertainty, digits)
            if quantity_value.uncertainty
            else number(quantity_value.value, digits)
        )
        within = (
            f", allowed ±{short(quantity_value.tolerance)}" if name == "stated" and quantity_value.tolerance else ""
        )
        lines.append(
            f"{name}: {value} {unit}{within}" + (f" ({quantity_value.source})" if quantity_value.source else "")
        )
    return tuple(lines)


def _place(evaluation: Evaluation, device_id: str) -> int:
    return next(place for place, device in enumerate(evaluation.rig.devices) if device.id == device_id)


def _set_to_measured(evaluation: Evaluation, device_id: str, key: str, what: str, digits: int) -> Remedy:
    """Return the remedy that states a setting as it was measured."""
    place = _place(evaluation, device_id)
    found = evaluation.rig.devices[place].measured(key)
    assert found is not None
    value = round(found.value, digits)
    change = Change.of(f"Set {what} as measured", ("devices", place, "settings", key, "value"), value)
    return Remedy(f"set {what} to {number(value, digits)}", change)


@finding("focuser.best", step=TRAVEL, after="focuser.triggers")
def best_position(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the working position agree with the best one that focus runs found?"""
    for device in apart(focusers(evaluation)):
        row = evaluation.rows.get(f"{device.id}.position")
        if row is None or row.measured is None:
            continue
        found = row.measured
        stated = "no position is stated" if row.stated is None else f"set {number(row.stated.value, 0)}"
        good = row.verdict is Verdict.HOLDS or row.stated is None
        yield Finding(
            "focuser.best",
            Verdict.UNPROVEN if row.stated is None else row.verdict,
            device.id,
            f"{device.title}: best focus lies at {number(found.value, 0)} steps, {stated}",
            _compared(row, "steps"),
            NO_REMEDY
            if good and row.stated is not None
            else _set_to_measured(evaluation, device.id, "position", "the working position", 0),
            _CURVE_SOURCE,
            (row.id,),
        )


@finding("focuser.step_size", step=TRAVEL, after="focuser.best")
def step_size(evaluation: Evaluation) -> Iterator[Finding]:
    """Is a step as long as the focuser's maker says?"""
    for device in apart(focusers(evaluation)):
        row = evaluation.rows.get(f"{device.id}.step_um")
        if row is None or row.measured is None:
            continue
        found, lines = row.measured, list(_compared(row, "µm"))
        factor = math.prod(magnifications(evaluation.rig.train)) ** 2
        if row.stated is not None and row.verdict is not Verdict.HOLDS and abs(factor - 1) > 0.05:
            moved = row.stated.value * factor
            if abs(moved - found.value) <= max(SURE * found.uncertainty, 0.05 * moved):
                lines.append(
                    f"{short(row.stated.value)} µm × {number(math.sqrt(factor), 2)}² = {number(moved, 2)} µm: "
                    "the corrector moves with the drawtube, and at the sensor a step is that"
                )
        verdict = Verdict.UNPROVEN if row.stated is None else row.verdict
        stated = "none is stated" if row.stated is None else f"stated {short(row.stated.value)} µm"
        yield Finding(
            "focuser.step_size",
            verdict,
            device.id,
            f"{device.title}: a step is {number(found.value, 2)} µm, {stated}",
            tuple(lines),
            NO_REMEDY
            if verdict is Verdict.HOLDS
            else _set_to_measured(evaluation, device.id, "step_um", "the step", 3),
            _CURVE_SOURCE,
            (row.id,),
        )


@finding("focuser.temperature", step=TRAVEL, after="focuser.step_size")
def temperature_model(evaluation: Evaluation) -> Iterator[Finding]:
    """Is the slope over temperature one that a tube can have?"""
    for device in apart(focusers(evaluation)):
        row, slope = evaluation.rows.get(EXPANSION.id_of(device.id)), device.measured("temperature_slope_steps_c")
        if row is None or row.measured is None or slope is None:
            continue
        step, focal = device.best("step_um"), evaluation.value("effective_focal_length_mm")
        good = row.verdict is Verdict.HOLDS
        entries = plus_minus(slope.value, slope.standard_uncertainty, 1)
        yield Finding(
            "focuser.temperature",
            row.verdict,
            device.id,
            f"{device.title}: focus moves by {entries} steps/°C"
            + (
                "" if good else ", more than a tube does" if row.verdict is Verdict.TIGHT else ": no law of temperature"
            ),
            (
                f"{number(abs(slope.value), 1)} steps/°C × {short(step or 0.0)} µm / {number(focal or 0.0, 0)} mm = "
                f"{number(row.measured.value, 1)} ppm/K, wanted at most {number(MAX_EXPANSION_PPM, 0)}",
            ),
            NO_REMEDY
            if good
            else Remedy(
                "take runs the same way, in and out apart, at temperatures 3 °C or more apart: backlash, a slipping "
                "drawtube or a counter that was set anew look like this"
            ),
            _MATERIAL_SOURCE,
            (row.id,),
        )


@finding("focuser.offsets", step=TRAVEL, after="focuser.temperature")
def filter_offsets(evaluation: Evaluation) -> Iterator[Finding]:
    """Do the filters move focus by what is set, and by what their glass makes?"""
    entries = [
        (wheel, slot, place, row)
        for wheel, slot, place in measured_slots(evaluation)
        if (row := evaluation.rows.get(OFFSET.id_of(f"{wheel.id}.slot{place}"))) is not None
        and row.measured is not None
    ]
    if not entries:
        return
    verdict = worst(row.verdict for *_, row in entries if len(row.values) > 1)
    bad = [(wheel, slot, place) for wheel, slot, place, row in entries if row.verdict is Verdict.FAILS]
    lines = []
    for _, slot, _, row in entries:
        values = ", ".join(f"{name} {signed(quantity_value.value, 1)}" for name, quantity_value in row.values.items())
        lines.append(f"{slot.name.strip()}: {values} steps")
    change = Change(
        "Set the filters' offsets as measured",
        tuple(
            (
                ("devices", _place(evaluation, wheel.id), "slots", place - 1, "focus_offset_steps"),
                round(slot.focus_offset_measured.value, 1),
            )
            for wheel, slot, place, _ in entries
            if slot.focus_offset_measured is not None
        ),
    )
    names = ", ".join(slot.name.strip() for _, slot, _ in bad)
    yield Finding(
        "focuser.offsets",
        verdict,
        entries[0][0].id,
        f"Focus offsets do not agree: {names}" if bad else "Focus offsets of the filters",
        tuple(lines),
        NO_REMEDY if verdict is Verdict.HOLDS else Remedy("set the offsets as measured", change),
        _GLASS_SOURCE,
        tuple(row.id for *_, row in entries),
    )


@finding("focuser.range", step=TRAVEL, after="focuser.offsets")
def travel_range(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the travel hold what temperature and filters move focus by, and what of the drawtube does it cover?"""
    by_device = {travel.device.id: travel for travel in travels(evaluation)}
    for device in apart(focusers(evaluation)):
        left, covered = (evaluation.rows.get(kind.id_of(device.id)) for kind in (LEFT, COVERED))
        judged = [row for row in (left, covered) if row is not None and row.computed is not None]
        if not judged:
            continue
        verdict, lines, remedies = worst(row.verdict for row in judged), [], []
        if left is not None and left.computed is not None:
            travel = by_device[device.id]
            low, high = travel.span
            lines.append(
                f"over {number(SEASON_SPAN_C, 0)} °C and all filters focus lies from {number(low, 0)} to "
                f"{number(high, 0)} steps; the travel is {short(travel.low)} to {short(travel.high)}: "
                f"{number(left.computed.value, 1)} % left, wanted {number(WANTED_LEFT_PERCENT, 0)} %"
            )
            if left.verdict is not Verdict.HOLDS:
                remedies.append("move the drawtube or a spacer so that focus falls near the middle of the travel")
        if covered is not None and covered.computed is not None:
            lines.append(f"the motor covers {number(covered.computed.value, 1)} % of the drawtube's travel")
            if covered.verdict is not Verdict.HOLDS:
                remedies.append("focus by hand first, then set the counter to the middle of its range")
        title = "leaves room for temperature and filters" if verdict is Verdict.HOLDS else "comes near an end"
        if (covered is not None and left is None) or (left is not None and left.verdict is Verdict.HOLDS):
            title = title if verdict is Verdict.HOLDS else "covers a part of the drawtube only"
        yield Finding(
            "focuser.range",
            verdict,
            device.id,
            f"{device.title}: the travel {title}",
            tuple(lines),
            Remedy("; ".join(remedies)) if remedies else NO_REMEDY,
            "The travel must cover the temperatures of a year and all filters",
            tuple(row.id for row in judged),
        )


@finding("focuser.direction", step=TRAVEL, condition=conditions.FOCUSER, after="focuser.range")
def counting_direction(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the counter rise outward, as the filters' glass tells?"""
    pairs = [
        (row.computed.value, row.measured)
        for wheel, _, place in measured_slots(evaluation)
        if (row := evaluation.rows.get(OFFSET.id_of(f"{wheel.id}.slot{place}"))) is not None
        and row.computed is not None
        and row.measured is not None
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
    outward = sign > 0
    place = _place(evaluation, device.id)
    turned = not device.truth("reversed")
    change = Change.of("Turn the focuser's direction", ("devices", place, "settings", "reversed", "value"), turned)
    yield Finding(
        "focuser.direction",
        Verdict.HOLDS if outward else Verdict.FAILS,
        device.id,
        f"{device.title}: the counter rises {'outward' if outward else 'inward'}, as thicker filters show",
        tuple(
            f"by its glass {signed(glass, 1)} steps, measured {signed(found.value, 1)} ± {number(found.uncertainty, 1)}"
            for glass, found in pairs
        ),
        NO_REMEDY
        if outward
        else Remedy("turn the direction in the focuser's settings, and set the counter anew", change),
        _GLASS_SOURCE,
        tuple(OFFSET.id_of(f"{wheel.id}.slot{place}") for wheel, _, place in measured_slots(evaluation)),
    )


def _direction_not_verified(evaluation: Evaluation) -> Iterator[Finding]:
    """Yield the focusers of which nothing says which way they count: neither filters' glass nor a program's record."""
    spoken = chosen(evaluation.matrix.rows, lambda row: row.item.topic == "direction")
    held = {row.item.device for row in spoken if any(cell.state in ("agrees", "differs") for cell in row.cells)}
    for device in evaluation.rig.devices:
        if device.kind == "focuser" and device.id not in held:
            yield Finding(
                "focuser.direction",
                Verdict.UNPROVEN,
                device.id,
                f"{device.title}: the direction of its counter is not verified",
                (),
                Remedy(
                    "Measure the focus offsets of two filters of different thickness on the Travel sheet, or bring in "
                    "what a program holds of the focuser's direction."
                ),
                _GLASS_SOURCE,
            )


@finding("focuser.run", step=TRAVEL, after="focuser.direction")
def stated_run(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the focus run that is set leave the noise, and not leave the stars?"""
    for run in stated_runs(evaluation):
        device, row = run.device, evaluation.rows.get(STATED_REACH.id_of(run.device.id))
        words = f"{short(run.points)} points {short(run.step)} steps apart"
        if row is None or run.reach is None or run.sharpest_px is None or run.slope_px_step is None:
            title = f"{device.title}: {words} are not verified without a step in µm and the seeing"
            text = "Read a focus run on the Travel sheet, or enter the focuser's step in µm and the site's seeing."
            yield Finding("focuser.run", Verdict.UNPROVEN, device.id, title, (), Remedy(text), _SAMPLING_SOURCE)
            continue
        good = row.verdict is Verdict.HOLDS
        half = run.sharpest_px * math.sqrt(REACH**2 - 1) / run.slope_px_step
        wanted = max(round(half / ((run.points - 1) / 2)), 1) if run.points > 1 else None
        remedy = NO_REMEDY
        if not good and wanted is not None:
            path = ("devices", _place(evaluation, device.id), "settings", "run_step", "value")
            change = Change.of("Set the step of a focus run", path, float(wanted))
            remedy = Remedy(
                f"Take steps of {wanted}, so that the outermost stars are 2.5 to 3 times the sharpest.", change
            )
        elif not good:
            remedy = Remedy("Take 7 to 11 points.")
        yield Finding(
            "focuser.run",
            row.verdict,
            device.id,
            f"{device.title}: {words} reach {number(run.reach, 1)} times the sharpest star"
            + ("" if good else " – too little" if run.reach < REACH else " – too far"),
            (
                f"{number(run.slope_px_step, 4)} px/step × {number(run.half_steps, 0)} steps = "
                f"{number(run.slope_px_step * run.half_steps, 2)} px; seeing leaves {number(run.sharpest_px, 2)} px",
                f"√(1 + ({number(run.slope_px_step * run.half_steps, 2)} / {number(run.sharpest_px, 2)})²) = "
                f"{number(run.reach, 2)}, wanted 2.5 to 3",
            ),
            remedy,
            _SAMPLING_SOURCE,
            (row.id,),
        )


@finding("focuser.sampling", step=TRAVEL, after="focuser.run")
def sampling(evaluation: Evaluation) -> Iterator[Finding]:
    """Do focus runs take steps that leave the noise, and do not leave the stars?"""
    result = evaluation.evidence.of(FOCUS)
    if result is None:
        return
    from wyntaxis.core.evidence.focus.advice import run_step

    for device in apart(focusers(evaluation)):
        row = evaluation.rows.get(REACH_ROW.id_of(device.id))
        if row is None or row.measured is None:
            continue
        reach, good = row.measured.value, row.verdict is Verdict.HOLDS
        steps = [step for curve in result.curves if (step := run_step(curve)) is not None]
        remedy = Remedy("take larger steps until the outermost stars are 2.5 to 3 times the sharpest")
        if steps:
            value = float(max(round(sorted(steps)[len(steps) // 2]), 1))
            path = ("devices", _place(evaluation, device.id), "settings", "run_step", "value")
            change = Change.of("Set the step of a focus run", path, value)
            remedy = Remedy(f"take steps of {number(value, 0)} in the next run", change)
        what = "steps of the focus run are too small" if reach < REACH else "the focus run goes too far out"
        yield Finding(
            "focuser.sampling",
            row.verdict,
            device.id,
            f"{device.title}: focus runs reach {number(reach, 1)} times the sharpest star"
            if good
            else f"{device.title}: {what}",
            (f"outermost {number(reach, 2)} times the sharpest, wanted 2.5 to 3",),
            NO_REMEDY if good else remedy,
            _SAMPLING_SOURCE,
            (row.id,),
        )


@finding("focuser.saturated", step=TRAVEL, after="focuser.sampling")
def saturated(evaluation: Evaluation) -> Iterator[Finding]:
    """Are the stars of focus runs unsaturated?"""
    for device in apart(focusers(evaluation)):
        row = evaluation.rows.get(SATURATED.id_of(device.id))
        if row is None or row.measured is None:
            continue
        good, share = row.verdict is Verdict.HOLDS, number(row.measured.value, 0)
        yield Finding(
            "focuser.saturated",
            row.verdict,
            device.id,
            "Stars of the focus runs are not saturated" if good else f"{share} % of a focus run's stars are saturated",
            (f"{share} % at the worst point, wanted at most {number(SATURATED_PERCENT[0], 0)} %",),
            NO_REMEDY
            if good
            else Remedy("expose shorter for focus, or at a lower gain: a cut-off star looks too large"),
            "A saturated star's middle is missing, so that its half-flux diameter is too large",
            (row.id,),
        )

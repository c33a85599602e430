"""The camera as the bench measured it: gain, noise, full well, linearity, offset, dark current, setpoint, flats."""

from __future__ import annotations

import math
from collections.abc import Iterator
from functools import partial

from wyntaxis.core.evidence.sensor.dark import SETPOINT_SHARE
from wyntaxis.core.evidence.sensor.exposure import FLAT_RANGE_PERCENT, judge_flat_level
from wyntaxis.core.evidence.sensor.offset import MOST_PILED, WANTED_SIGMA
from wyntaxis.core.evidence.sensor.told import at_temperature, dark_current_at
from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import COVERAGE_FACTOR, Leg, Verdict, compare
from wyntaxis.core.quantities.devices import device_quantity
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.settings import CAMERAS
from wyntaxis.core.steps import SENSOR
from wyntaxis.core.wording import MINUS, number, plus_minus, short, signed

LINEAR_WITHIN_PERCENT, LINEAR_FAILS_PERCENT = 1.0, 3.0

_TRANSFER_SOURCE = "Photon transfer: EMVA Standard 1288 R4; Janesick, Photon Transfer"
_OFFSET_SOURCE = "Bias mean − 6σ above 0 ADU, and under 1e-5 of the pixels at the lowest code"
_DARK_SOURCE = "Arrhenius: ln D over 1/T; the warmest T with D·t ≤ 0.1 · read noise²"
_FLAT_SOURCE = "Flats at 30 to 60 % of saturation, where the sensor is linear"


def _cameras(evaluation: Evaluation) -> list[tuple[int, Device]]:
    return [(i, device) for i, device in enumerate(evaluation.rig.devices) if device.kind in CAMERAS]


_COMPARED = {
    "camera.gain": ("conversion_gain_e_adu", "the conversion gain"),
    "camera.read_noise": ("read_noise_e", "the read noise"),
    "camera.full_well": ("full_well_e", "the full well"),
    "camera.dark_current": ("dark_current_e_s", "the dark current"),
}


def _compared(evaluation: Evaluation, finding_id: str) -> Iterator[Finding]:
    key, name = _COMPARED[finding_id]
    source = _DARK_SOURCE if finding_id == "camera.dark_current" else _TRANSFER_SOURCE
    for index, device in _cameras(evaluation):
        row = device_quantity(device, key)
        if row is None:
            continue
        unit, digits = row.kind.unit, row.kind.decimals
        stated, measured = row.stated, row.measured
        if key == "dark_current_e_s" and stated is not None:
            stated = _at_the_measured_temperature(device, stated)
        lines = []
        if stated is not None:
            lines.append(f"stated: {number(stated.value, digits)} {unit}, allowed ±{number(stated.tolerance, digits)}")
        if measured is not None:
            lines.append(
                f"measured: {plus_minus(measured.value, measured.uncertainty, digits)} {unit}"
                + (f" ({measured.source})" if measured.source else "")
            )
        if stated is None or measured is None:
            missing = "stated" if stated is None else "measured"
            told = measured or stated
            assert told is not None
            remedy = "enter what the maker's sheet says" if stated is None else "measure it on the Sensor sheet"
            title = f"{device.title}: {name} is {number(told.value, digits)} {unit}; it is not {missing}"
            yield Finding(
                finding_id, Verdict.UNPROVEN, device.id, title, tuple(lines), Remedy(remedy), source, (row.id,)
            )
            continue
        verdict = compare(stated, measured)
        off = measured.value - stated.value
        lines.append(f"difference: {signed(off, digits)} {unit}")
        agrees = verdict is not Verdict.FAILS
        change = Change.of("State it as measured", ("devices", index, "settings", key, "value"), measured.value)
        yield Finding(
            finding_id,
            verdict,
            device.id,
            f"{device.title}: {name} {'is' if agrees else 'is not'} what is stated, "
            f"{number(measured.value, digits)} against {number(stated.value, digits)} {unit}",
            tuple(lines),
            NO_REMEDY
            if agrees
            else Remedy(
                "look whether the sheet speaks of this gain setting and readout mode; else go by the measured one",
                change,
            ),
            source,
            (row.id,),
        )


def _at_the_measured_temperature(device: Device, stated: Leg) -> Leg:
    """Return a stated dark current at the temperature at which it was measured."""
    sheet_c, found = device.number("dark_at_c"), device.measured("dark_at_c")
    if sheet_c is None or found is None:
        return stated
    factor = at_temperature(1.0, sheet_c, found.value, device.best("dark_doubling_c"))
    return Leg(stated.value * factor, stated.uncertainty * factor, stated.tolerance * factor, stated.source)


def _declare(number_name: str, after: str, condition: conditions.Condition | None = None) -> None:
    finding_id = f"camera.{number_name}"
    declare = finding(finding_id, step=SENSOR, condition=condition, after=after)
    declare(partial(_compared, finding_id=finding_id))


_declare("gain", "camera.offset")
_declare("read_noise", "camera.gain")
_declare("full_well", "camera.read_noise")
_declare("dark_current", "camera.linearity")


@finding("camera.linearity", step=SENSOR, after="camera.full_well")
def linearity(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the signal follow the light?"""
    for _, device in _cameras(evaluation):
        found = device.measured("linearity_percent")
        if found is None:
            continue
        stated = device.number("linearity_percent")
        allowed = stated if stated is not None else LINEAR_WITHIN_PERCENT
        worst_allowed = max(LINEAR_FAILS_PERCENT, allowed)
        value, spread = found.value, COVERAGE_FACTOR * found.standard_uncertainty
        verdict = (
            Verdict.FAILS
            if value - spread > worst_allowed
            else Verdict.HOLDS
            if value + spread <= allowed
            else Verdict.TIGHT
        )
        yield Finding(
            "camera.linearity",
            verdict,
            device.id,
            f"{device.title}: the signal is off the straight line by {number(value, 2)} % at the most",
            (f"largest deviation {plus_minus(value, found.standard_uncertainty, 2)} %, allowed {short(allowed)} %",),
            NO_REMEDY
            if verdict is Verdict.HOLDS
            else Remedy("keep flats and photometry under the level where it bends, and look at the lamp's steadiness"),
            _TRANSFER_SOURCE,
            (f"{device.id}.linearity_percent",),
        )


@finding("camera.offset", step=SENSOR, condition=conditions.GAIN, after="devices.parts")
def offset(evaluation: Evaluation) -> Iterator[Finding]:
    """Is the bias clear of the lowest code?"""
    for index, device in _cameras(evaluation):
        mean, noise = device.measured("bias_mean_adu"), device.measured("bias_noise_adu")
        if mean is None or noise is None or noise.value <= 0:
            continue
        piled, least = device.measured("pile_up_share"), device.measured("least_offset")
        share = piled.value if piled is not None else 0.0
        margin = mean.value - WANTED_SIGMA * noise.value
        sigmas = mean.value / noise.value
        fails = margin <= 0 or share >= MOST_PILED
        lines = [
            f"{number(mean.value, 1)} {MINUS} {short(WANTED_SIGMA)} × {number(noise.value, 2)} = "
            f"{number(margin, 1)} ADU",
            f"margin: {number(sigmas, 1)} σ, wanted {short(WANTED_SIGMA)}; at the lowest code: {share:.1e}, allowed "
            f"{MOST_PILED:.0e}",
        ]
        if least is not None:
            lines.append(f"the smallest offset that suffices: {short(least.value)}")
        set_it = None
        if least is not None:
            set_it = Change.of("Set the offset", ("devices", index, "settings", "offset", "value"), least.value)
        remedy = (
            NO_REMEDY
            if not fails
            else Remedy(f"set the offset to {short(least.value)} or more, and take new bias frames and darks", set_it)
            if least is not None
            else Remedy("raise the offset; bias frames at a second offset tell by how much")
        )
        yield Finding(
            "camera.offset",
            Verdict.FAILS if fails else Verdict.HOLDS,
            device.id,
            f"{device.title}: the offset {'clips the bias' if fails else 'keeps the bias clear of the lowest code'}",
            tuple(lines),
            remedy,
            _OFFSET_SOURCE,
            (f"{device.id}.bias_mean_adu",),
        )


@finding("camera.setpoint", step=SENSOR, condition=conditions.COOLING, after="camera.dark_current")
def setpoint(evaluation: Evaluation) -> Iterator[Finding]:
    """Is the set temperature cold enough for the longest exposure, and no colder than of use?"""
    plan = evaluation.rig.plan
    longest = (plan.longest_exposure_s or plan.exposure_s) if plan is not None else None
    for index, device in _cameras(evaluation):
        wanted, dark, noise = (
            device.number("set_temperature_c"),
            dark_current_at(device),
            device.best("read_noise_e"),
        )
        doubling = device.best("dark_doubling_c")
        if wanted is None or dark is None or noise is None or longest is None or dark <= 0:
            continue
        signal, allowed = dark * longest, SETPOINT_SHARE * noise**2
        lines = [
            f"{number(dark, 5)} e⁻/s × {short(longest)} s = {number(signal, 2)} e⁻ at {short(wanted)} °C",
            f"allowed: {short(SETPOINT_SHARE)} × {number(noise, 2)}² = {number(allowed, 2)} e⁻",
        ]
        warmest = None
        if doubling:
            warmest = wanted + doubling * math.log2(allowed / signal)
            lines.append(
                f"warmest that suffices: {short(wanted)} + {number(doubling, 1)} × log₂({number(allowed, 2)} / "
                f"{number(signal, 2)}) = {number(warmest, 1)} °C"
            )
        power = _rest_power(evaluation, device, wanted)
        if power is not None:
            lines.append(f"power at rest at {short(wanted)} °C: {number(100 * power, 0)} %")
            if warmest is not None and warmest > wanted:
                other = _rest_power(evaluation, device, warmest)
                lines.append(f"at {number(warmest, 1)} °C: {number(100 * (other or 0), 0)} %")
        holds = signal <= allowed
        change = None
        if warmest is not None and not holds:
            settings = ("devices", index, "settings")
            values: tuple[tuple[tuple[str | int, ...], object], ...] = (
                ((*settings, "set_temperature_c", "value"), math.floor(warmest)),
            )
            if device.best("dark_at_c") is None:  # the current on record stays that of the old temperature
                values += (((*settings, "dark_at_c", "value"), wanted),)
            change = Change("Set the temperature", values)
        yield Finding(
            "camera.setpoint",
            Verdict.HOLDS if holds else Verdict.TIGHT if signal <= 3 * allowed else Verdict.FAILS,
            device.id,
            f"{device.title}: at {short(wanted)} °C dark current adds {number(signal, 2)} e⁻ in {short(longest)} s, "
            f"{'less' if holds else 'more'} than a tenth of the read noise's square",
            tuple(lines),
            NO_REMEDY
            if holds
            else Remedy(f"set {number(math.floor(warmest), 0)} °C, or expose shorter", change)
            if warmest is not None
            else Remedy("cool further, or expose shorter"),
            _DARK_SOURCE,
            (f"{device.id}.dark_current_e_s",),
        )


@finding("camera.glow", step=SENSOR, after="camera.setpoint")
def glow(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the sensor's glow drown the read noise in the longest exposure?"""
    plan = evaluation.rig.plan
    longest = (plan.longest_exposure_s or plan.exposure_s) if plan is not None else None
    for _, device in _cameras(evaluation):
        found, noise = device.measured("glow_e_s"), device.best("read_noise_e")
        if found is None:
            continue
        lines = [
            f"brightest place above the typical one: {plus_minus(found.value, found.standard_uncertainty, 5)} e⁻/s/px"
        ]
        if longest is None or noise is None:
            missing = "the planned exposure" if longest is None else "the read noise"
            verdict, remedy = Verdict.UNPROVEN, Remedy(f"state {missing}")
            title = f"{device.title}: its glow cannot be judged without {missing}"
        else:
            signal, spread = found.value * longest, COVERAGE_FACTOR * found.standard_uncertainty * longest
            allowed = SETPOINT_SHARE * noise**2
            lines.append(
                f"{number(found.value, 5)} e⁻/s × {short(longest)} s = {number(signal, 2)} e⁻, allowed "
                f"{short(SETPOINT_SHARE)} × {number(noise, 2)}² = {number(allowed, 2)} e⁻"
            )
            verdict = (
                Verdict.HOLDS
                if signal <= max(allowed, spread)
                else Verdict.TIGHT
                if signal <= noise**2
                else Verdict.FAILS
            )
            title = f"{device.title}: at its brightest place glow adds {number(signal, 2)} e⁻ in {short(longest)} s"
            remedy = (
                NO_REMEDY
                if verdict is Verdict.HOLDS
                else Remedy("take darks of just this exposure, never scaled ones; expose shorter where it still shows")
            )
        quantities = (f"{device.id}.glow_e_s",)
        yield Finding("camera.glow", verdict, device.id, title, tuple(lines), remedy, _DARK_SOURCE, quantities)


def _rest_power(evaluation: Evaluation, device: Device, target_c: float) -> float | None:
    """Return the share of full power that holds a temperature on the warmest night, None where it is not known."""
    depth = device.best("cooling_reach_c")
    plan = evaluation.rig.plan
    ambient = plan.ambient_c if plan is not None and plan.ambient_c is not None else device.best("rest_ambient_c")
    return (ambient - target_c) / depth if depth and ambient is not None else None


@finding("flats.level", step=SENSOR, after="camera.glow")
def flats_level(evaluation: Evaluation) -> Iterator[Finding]:
    """Are flats bright enough, and not too bright?"""
    for _, device in _cameras(evaluation):
        level = device.measured("flat_level_percent")
        if level is None:
            continue
        low, high = FLAT_RANGE_PERCENT
        verdict = judge_flat_level(level.value)
        factor = 45.0 / level.value if level.value > 0 else math.inf
        yield Finding(
            "flats.level",
            verdict,
            device.id,
            f"{device.title}: flats lie at {number(level.value, 0)} % of saturation",
            (f"{number(level.value, 1)} %, wanted {short(low)} to {short(high)} %", level.source or ""),
            NO_REMEDY
            if verdict is Verdict.HOLDS
            else Remedy(f"expose flats {number(factor, 1)} times as long, or change the light alike"),
            _FLAT_SOURCE,
            (f"{device.id}.flat_level_percent",),
        )

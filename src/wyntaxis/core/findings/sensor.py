"""The camera as the bench measured it: gain, noise, full well, linearity, offset, dark current, setpoint, flats."""

from __future__ import annotations

import math
from collections.abc import Iterator
from functools import partial

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Quantity, Verdict, worst
from wyntaxis.core.limits import FLAT_RANGE_PERCENT, MAX_PILED, SETPOINT_SHARE, WANTED_SIGMA
from wyntaxis.core.quantities.read_tracking import apart
from wyntaxis.core.quantities.sensor import (
    BIAS_MARGIN,
    DARK_SIGNAL,
    GLOW_SIGNAL,
    DarkSignal,
    cameras,
    dark_signals,
    glow_allowed_e,
    linearity_allowed_percent,
    longest_exposure_s,
    offsets,
)
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.steps import SENSOR
from wyntaxis.core.wording import MINUS, number, plus_minus, short, signed

_TRANSFER_SOURCE = "Photon transfer: EMVA Standard 1288 R4; Janesick, Photon Transfer"
_OFFSET_SOURCE = "Bias mean − 6σ above 0 ADU, and under 1e-5 of the pixels at the lowest code"
_DARK_SOURCE = "Arrhenius: ln D over 1/T; the warmest T with D·t ≤ 0.1 · read noise²"
_FLAT_SOURCE = "Flats at 30 to 60 % of saturation, where the sensor is linear"


_COMPARED = {
    "camera.gain": ("conversion_gain_e_adu", "the conversion gain"),
    "camera.read_noise": ("read_noise_e", "the read noise"),
    "camera.full_well": ("full_well_e", "the full well"),
    "camera.dark_current": ("dark_current_e_s", "the dark current"),
}


def _compared(evaluation: Evaluation, finding_id: str) -> Iterator[Finding]:
    key, name = _COMPARED[finding_id]
    source = _DARK_SOURCE if finding_id == "camera.dark_current" else _TRANSFER_SOURCE
    for index, device in apart(cameras(evaluation)):
        row = evaluation.rows.get(f"{device.id}.{key}")
        if row is None:
            continue
        unit, digits = row.kind.unit, row.kind.decimals
        stated, measured = row.stated, row.measured
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
            entries = measured or stated
            assert entries is not None
            remedy = "enter what the maker's sheet says" if stated is None else "measure it on the Sensor sheet"
            title = f"{device.title}: {name} is {number(entries.value, digits)} {unit}; it is not {missing}"
            yield Finding(
                finding_id, Verdict.UNPROVEN, device.id, title, tuple(lines), Remedy(remedy), source, (row.id,)
            )
            continue
        verdict = row.verdict
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
    for _, device in apart(cameras(evaluation)):
        found = device.measured("linearity_percent")
        if found is None:
            continue
        row, allowed = evaluation.rows[f"{device.id}.linearity_percent"], linearity_allowed_percent(device)
        yield Finding(
            "camera.linearity",
            row.target_verdict,
            device.id,
            f"{device.title}: the signal is off the straight line by {number(found.value, 2)} % at the most",
            (
                f"largest deviation {plus_minus(found.value, found.standard_uncertainty, 2)} %, "
                f"allowed {short(allowed)} %",
            ),
            NO_REMEDY
            if row.target_verdict is Verdict.HOLDS
            else Remedy("keep flats and photometry under the level where it bends, and look at the lamp's steadiness"),
            _TRANSFER_SOURCE,
            (row.id,),
        )


@finding("camera.offset", step=SENSOR, condition=conditions.GAIN, after="devices.parts")
def offset(evaluation: Evaluation) -> Iterator[Finding]:
    """Is the bias clear of the lowest code?"""

    for entry in offsets(evaluation):
        device, mean, noise, least = entry.device, entry.mean, entry.noise, entry.least_offset
        row, piled = evaluation.rows[BIAS_MARGIN.id_of(device.id)], evaluation.rows.get(f"{device.id}.pile_up_share")
        verdict = worst([row.verdict, *([piled.target_verdict] if piled is not None and piled.measured else [])])
        fails = verdict is Verdict.FAILS
        lines = [
            f"{number(mean.value, 1)} {MINUS} {short(WANTED_SIGMA)} × {number(noise.value, 2)} = "
            f"{number(entry.margin_adu, 1)} ADU",
            f"margin: {number(mean.value / noise.value, 1)} σ, wanted {short(WANTED_SIGMA)}; at the lowest code: "
            f"{entry.piled_share:.1e}, allowed "
            f"{MAX_PILED:.0e}",
        ]
        if least is not None:
            lines.append(f"the smallest offset that suffices: {short(least)}")
        set_it = None
        if least is not None:
            set_it = Change.of("Set the offset", ("devices", entry.index, "settings", "offset", "value"), least)
        remedy = (
            NO_REMEDY
            if not fails
            else Remedy(f"set the offset to {short(least)} or more, and take new bias frames and darks", set_it)
            if least is not None
            else Remedy("raise the offset; bias frames at a second offset tell by how much")
        )
        yield Finding(
            "camera.offset",
            verdict,
            device.id,
            f"{device.title}: the offset {'clips the bias' if fails else 'keeps the bias clear of the lowest code'}",
            tuple(lines),
            remedy,
            _OFFSET_SOURCE,
            (f"{device.id}.bias_mean_adu", row.id),
        )


@finding("camera.setpoint", step=SENSOR, condition=conditions.COOLING, after="camera.dark_current")
def setpoint(evaluation: Evaluation) -> Iterator[Finding]:
    """Is the set temperature cold enough for the longest exposure, and no colder than of use?"""

    for entry in dark_signals(evaluation):
        device, wanted, dark, longest = entry.device, entry.set_c, entry.current_e_s, entry.exposure_s
        row, signal, allowed, warmest = (
            evaluation.rows[DARK_SIGNAL.id_of(device.id)],
            entry.signal_e,
            entry.allowed_e,
            entry.warmest_c,
        )
        lines = [
            f"{number(dark, 5)} e⁻/s × {short(longest)} s = {number(signal, 2)} e⁻ at {short(wanted)} °C",
            f"allowed: {short(SETPOINT_SHARE)} × {number(entry.read_noise_e, 2)}² = {number(allowed, 2)} e⁻",
        ]
        if warmest is not None:
            lines.append(
                f"warmest that suffices: {short(wanted)} + {number(entry.doubling_c or 0.0, 1)} × log₂("
                f"{number(allowed, 2)} / {number(signal, 2)}) = {number(warmest, 1)} °C"
            )
        if entry.cooler is not None:
            lines.append(f"power at rest at {short(wanted)} °C: {number(100 * entry.cooler.share, 0)} %")
            if warmest is not None and warmest > wanted:
                lines.append(f"at {number(warmest, 1)} °C: {number(100 * entry.cooler.power_at(warmest), 0)} %")
        if not entry.is_placed:
            yield _dark_without_temperature(entry, row, tuple(lines))
            continue
        holds = row.verdict is Verdict.HOLDS
        change = None
        if warmest is not None and not holds:
            settings = ("devices", entry.index, "settings")
            values: tuple[tuple[DocumentPath, object], ...] = (
                ((*settings, "set_temperature_c", "value"), math.floor(warmest)),
            )
            if device.best("dark_at_c") is None:  # the current on record stays that of the old temperature
                values += (((*settings, "dark_at_c", "value"), wanted),)
            change = Change("Set the temperature", values)
        yield Finding(
            "camera.setpoint",
            row.verdict,
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
            (f"{device.id}.dark_current_e_s", row.id),
        )


def _dark_without_temperature(entry: DarkSignal, row: Quantity, lines: tuple[str, ...]) -> Finding:
    """Return that the dark current is not verified at the set temperature: it was measured at a colder one."""
    title, at = entry.device.title, entry.device.best("dark_at_c")
    return Finding(
        "camera.setpoint",
        Verdict.UNPROVEN,
        entry.device.id,
        f"{title}: dark current at {short(entry.set_c)} °C is not verified: it was measured at {short(at or 0.0)} °C",
        lines,
        Remedy(
            "Measure darks at the set temperature on the Sensor sheet, or enter the temperature of the dark current."
        ),
        _DARK_SOURCE,
        (f"{entry.device.id}.dark_current_e_s", row.id),
    )


@finding("camera.glow", step=SENSOR, after="camera.setpoint")
def glow(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the sensor's glow drown the read noise in the longest exposure?"""

    longest = longest_exposure_s(evaluation)
    for _, device in apart(cameras(evaluation)):
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
            row = evaluation.rows[GLOW_SIGNAL.id_of(device.id)]
            assert row.measured is not None
            verdict, signal, allowed = row.verdict, row.measured.value, glow_allowed_e(noise)
            lines.append(
                f"{number(found.value, 5)} e⁻/s × {short(longest)} s = {number(signal, 2)} e⁻, allowed "
                f"{short(SETPOINT_SHARE)} × {number(noise, 2)}² = {number(allowed, 2)} e⁻"
            )
            title = f"{device.title}: at its brightest place glow adds {number(signal, 2)} e⁻ in {short(longest)} s"
            remedy = (
                NO_REMEDY
                if verdict is Verdict.HOLDS
                else Remedy("take darks of just this exposure, never scaled ones; expose shorter where it still shows")
            )
        quantities = (f"{device.id}.glow_e_s",)
        yield Finding("camera.glow", verdict, device.id, title, tuple(lines), remedy, _DARK_SOURCE, quantities)


def bench_flats_level(evaluation: Evaluation) -> Iterator[Finding]:
    """Yield whether the flats of bench frames are bright enough, and not too bright; see ``flats.level``."""
    for _, device in apart(cameras(evaluation)):
        level = device.measured("flat_level_percent")
        if level is None:
            continue
        low, high = FLAT_RANGE_PERCENT
        row = evaluation.rows[f"{device.id}.flat_level_percent"]
        verdict = row.target_verdict
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
            (row.id,),
        )

"""The camera as the bench measured it: gain, noise, full well, linearity, offset, dark current, setpoint, flats."""

from __future__ import annotations

import math
from collections.abc import Iterator
from functools import partial

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Proof, Statement, finding, say
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
_DARK_SOURCE = "Arrhenius: ln D over 1/T; the warmest T with D·t ≤ 0.1 · read noise²"

_COMPARED = {
    "gain": ("conversion_gain_e_adu", "conversion gain"),
    "read_noise": ("read_noise_e", "read noise"),
    "full_well": ("full_well_e", "full well"),
    "dark_current": ("dark_current_e_s", "dark current"),
}
_MIDDLE_PERCENT = 45.0
"""The middle of the range that flats belong in."""
BENCH_FLATS = (
    "{camera}: flats are at {level:0} % of saturation (wanted {low:0} to {high:0} %)",
    "Expose flats {factor:1} times as long, or change the light by as much.",
)
"""Title and remedy of what bench frames show of flats, see ``flats.level``."""


def _compared(evaluation: Evaluation, name: str) -> Iterator[Statement]:
    key, label = _COMPARED[name]
    for index, device in apart(cameras(evaluation)):
        row = evaluation.rows.get(f"{device.id}.{key}")
        if row is None:
            continue
        stated, measured = row.stated, row.measured
        unit, digits = row.kind.unit, row.kind.decimals
        named: dict[str, Named] = {"camera": device.title, "label": label, "unit": unit}
        lines = list(_compared_lines(row))
        if stated is None or measured is None:
            known = measured or stated
            assert known is not None
            named["value"] = number(known.value, digits)
            case = "not stated" if stated is None else "not measured"
            yield say(device.id, row, Verdict.UNPROVEN, named, case=case, lines=lines)
            continue
        lines.append(f"difference: {signed(measured.value - stated.value, digits)} {unit}")
        named |= {"measured": number(measured.value, digits), "stated": number(stated.value, digits)}
        change = Change.of("State it as measured", ("devices", index, "settings", key, "value"), measured.value)
        if row.verdict is not Verdict.FAILS:
            yield say(device.id, row, None, named, cure="none", lines=lines)
        else:
            yield say(device.id, row, None, named, lines=lines).with_edit(change)


def _compared_lines(row: Quantity) -> Iterator[str]:
    unit, digits = row.kind.unit, row.kind.decimals
    if row.stated is not None:
        yield f"stated: {number(row.stated.value, digits)} {unit}, allowed ±{number(row.stated.tolerance, digits)}"
    if row.measured is not None:
        yield (
            f"measured: {plus_minus(row.measured.value, row.measured.uncertainty, digits)} {unit}"
            + (f" ({row.measured.source})" if row.measured.source else "")
        )


def _declare(name: str, after: str) -> None:
    declare = finding(
        f"camera.{name}",
        step=SENSOR,
        listed=Listed(after=after),
        source=_DARK_SOURCE if name == "dark_current" else _TRANSFER_SOURCE,
        titles={
            "fails": "{camera}: the measured {label} disagrees with the stated one, {measured} against {stated} {unit}",
            "": "{camera}: the measured {label} agrees with the stated one, {measured} against {stated} {unit}",
            "not stated": "{camera}: the {label} is {value} {unit} as measured; it is not entered",
            "not measured": "{camera}: the {label} is {value} {unit} as stated; it is not measured",
        },
        remedies={
            "not stated": "Enter what the maker's data sheet says.",
            "not measured": "Measure it on the Sensor sheet.",
            "fails": "Check whether the data sheet is for this gain setting and readout mode; otherwise use the "
            "measured "
            "value.",
        },
    )
    declare(partial(_compared, name=name))


_declare("gain", "camera.offset")
_declare("read_noise", "camera.gain")
_declare("full_well", "camera.read_noise")
_declare("dark_current", "camera.linearity")


@finding(
    "camera.linearity",
    step=SENSOR,
    listed=Listed(after="camera.full_well"),
    source=_TRANSFER_SOURCE,
    titles="{camera}: the linearity error is up to {off:2} % (allowed {allowed} %)",
    remedies="Keep flats and photometry below the level where the response bends, and check that the lamp is steady.",
)
def linearity(evaluation: Evaluation) -> Iterator[Statement]:
    """Does the signal follow the light?"""
    for _, device in apart(cameras(evaluation)):
        found = device.measured("linearity_percent")
        if found is None:
            continue
        row, allowed = evaluation.rows[f"{device.id}.linearity_percent"], linearity_allowed_percent(device)
        line = (
            f"largest deviation {plus_minus(found.value, found.standard_uncertainty, 2)} %, allowed {short(allowed)} %"
        )
        named: dict[str, Named] = {"camera": device.title, "off": found.value, "allowed": allowed}
        yield say(device.id, row, row.target_verdict, named, lines=(line,))


@finding(
    "camera.offset",
    step=SENSOR,
    proves=Proof(condition=conditions.GAIN),
    listed=Listed(after="devices.parts"),
    source="Bias mean − 6σ above 0 ADU, and under 1e-5 of the pixels at the lowest code",
    titles={
        "fails": "{camera}: the offset clips the bias ({sigmas:1} σ above the lowest code, wanted {wanted})",
        "": "{camera}: the bias is clear of the lowest code ({sigmas:1} σ, wanted {wanted})",
    },
    remedies={
        "": "",
        "set": "Set the offset to {least} or more, and take new bias frames and darks.",
        "raise": "Raise the offset; bias frames at a second offset show by how much.",
    },
)
def offset(evaluation: Evaluation) -> Iterator[Statement]:
    """Is the bias clear of the lowest code?"""
    for entry in offsets(evaluation):
        device, mean, noise, least = entry.device, entry.mean, entry.noise, entry.least_offset
        row, piled = evaluation.rows[BIAS_MARGIN.id_of(device.id)], evaluation.rows.get(f"{device.id}.pile_up_share")
        verdict = worst([row.verdict, *([piled.target_verdict] if piled is not None and piled.measured else [])])
        sigmas = mean.value / noise.value
        lines = [
            f"{number(mean.value, 1)} {MINUS} {short(WANTED_SIGMA)} × {number(noise.value, 2)} = "
            f"{number(entry.margin_adu, 1)} ADU",
            f"margin: {number(sigmas, 1)} σ, wanted {short(WANTED_SIGMA)}; at the lowest code: "
            f"{entry.piled_share:.1e}, allowed {MAX_PILED:.0e}",
        ]
        if least is not None:
            lines.append(f"the smallest offset that suffices: {short(least)}")
        named: dict[str, Named] = {
            "camera": device.title,
            "sigmas": sigmas,
            "wanted": WANTED_SIGMA,
            "least": least if least is not None else 0.0,
        }
        path = ("devices", entry.index, "settings", "offset", "value")
        change, cure = None, ""
        if verdict is Verdict.FAILS:
            change = Change.of("Set the offset", path, least) if least is not None else None
            cure = "set" if least is not None else "raise"
        rows = (evaluation.rows.get(f"{device.id}.bias_mean_adu"), row)
        yield say(device.id, rows, verdict, named, cure=cure or "none", lines=lines).with_edit(change)


@finding(
    "camera.setpoint",
    step=SENSOR,
    proves=Proof(condition=conditions.COOLING),
    listed=Listed(after="camera.dark_current"),
    source=_DARK_SOURCE,
    titles={
        "holds": "{camera}: at {set} °C dark current adds {signal:2} e⁻ in {longest} s (allowed {allowed:2} e⁻)",
        "": "{camera}: at {set} °C dark current adds {signal:2} e⁻ in {longest} s, more than the allowed "
        "{allowed:2} e⁻",
        "other temperature": "{camera}: dark current at {set} °C is not verified: it was measured at {at} °C",
    },
    remedies={
        "set": "Set {warmest:0} °C, or expose shorter.",
        "": "Cool further, or expose shorter.",
        "other temperature": "Measure darks at the set temperature on the Sensor sheet, or enter the temperature of "
        "the "
        "dark current.",
    },
)
def setpoint(evaluation: Evaluation) -> Iterator[Statement]:
    """Is the set temperature cold enough for the longest exposure?"""
    for entry in dark_signals(evaluation):
        device, row = entry.device, evaluation.rows[DARK_SIGNAL.id_of(entry.device.id)]
        rows = (evaluation.rows.get(f"{device.id}.dark_current_e_s"), row)
        named: dict[str, Named] = {
            "camera": device.title,
            "set": entry.set_c,
            "signal": entry.signal_e,
            "longest": entry.exposure_s,
            "allowed": entry.allowed_e,
            "at": device.best("dark_at_c") or 0.0,
        }
        lines = list(_dark_lines(entry))
        if not entry.is_placed:
            yield say(device.id, rows, Verdict.UNPROVEN, named, case="other temperature", lines=lines)
            continue
        change, cure = None, str(row.verdict)
        if entry.warmest_c is not None and row.verdict is not Verdict.HOLDS:
            named["warmest"] = math.floor(entry.warmest_c)
            change, cure = _set_temperature(entry, entry.warmest_c), "set"
        yield say(device.id, rows, row.verdict, named, cure=cure, lines=lines).with_edit(change)


def _dark_lines(entry: DarkSignal) -> Iterator[str]:
    set_c, signal, allowed, warmest = entry.set_c, entry.signal_e, entry.allowed_e, entry.warmest_c
    yield (
        f"{number(entry.current_e_s, 5)} e⁻/s × {short(entry.exposure_s)} s = {number(signal, 2)} e⁻ at "
        f"{short(set_c)} °C"
    )
    yield f"allowed: {short(SETPOINT_SHARE)} × {number(entry.read_noise_e, 2)}² = {number(allowed, 2)} e⁻"
    if warmest is not None:
        yield (
            f"warmest that suffices: {short(set_c)} + {number(entry.doubling_c or 0.0, 1)} × log₂("
            f"{number(allowed, 2)} / {number(signal, 2)}) = {number(warmest, 1)} °C"
        )
    if entry.cooler is not None:
        yield f"power at rest at {short(set_c)} °C: {number(100 * entry.cooler.share, 0)} %"
        if warmest is not None and warmest > set_c:
            yield f"at {number(warmest, 1)} °C: {number(100 * entry.cooler.power_at(warmest), 0)} %"


def _set_temperature(entry: DarkSignal, warmest_c: float) -> Change:
    settings = ("devices", entry.index, "settings")
    values: tuple[tuple[DocumentPath, object], ...] = (
        ((*settings, "set_temperature_c", "value"), math.floor(warmest_c)),
    )
    if entry.device.best("dark_at_c") is None:  # the recorded current stays that of the old temperature
        values += (((*settings, "dark_at_c", "value"), entry.set_c),)
    return Change("Set the temperature", values)


@finding(
    "camera.glow",
    step=SENSOR,
    listed=Listed(after="camera.setpoint"),
    source=_DARK_SOURCE,
    titles={
        "": "{camera}: at its brightest place glow adds {signal:2} e⁻ in {longest} s (allowed {allowed:2} e⁻)",
        "not judged": "{camera}: its glow cannot be judged without {missing}",
    },
    remedies={
        "": "Take darks of exactly this exposure, never scaled ones. Expose shorter where it still shows.",
        "not judged": "Enter {missing}.",
    },
)
def glow(evaluation: Evaluation) -> Iterator[Statement]:
    """Does the sensor's glow exceed the read noise in the longest exposure?"""
    longest = longest_exposure_s(evaluation)
    for _, device in apart(cameras(evaluation)):
        found, noise = device.measured("glow_e_s"), device.best("read_noise_e")
        if found is None:
            continue
        glow_row = evaluation.rows.get(f"{device.id}.glow_e_s")
        bright = plus_minus(found.value, found.standard_uncertainty, 5)
        lines = [f"brightest place above the typical one: {bright} e⁻/s/px"]
        named: dict[str, Named] = {"camera": device.title}
        if longest is None or noise is None:
            named["missing"] = "the planned exposure" if longest is None else "the read noise"
            yield say(device.id, glow_row, Verdict.UNPROVEN, named, case="not judged", lines=lines)
            continue
        row = evaluation.rows[GLOW_SIGNAL.id_of(device.id)]
        assert row.measured is not None
        signal, allowed = row.measured.value, glow_allowed_e(noise)
        lines.append(
            f"{number(found.value, 5)} e⁻/s × {short(longest)} s = {number(signal, 2)} e⁻, allowed "
            f"{short(SETPOINT_SHARE)} × {number(noise, 2)}² = {number(allowed, 2)} e⁻"
        )
        named |= {"signal": signal, "longest": longest, "allowed": allowed}
        yield say(device.id, glow_row, row.verdict, named, lines=lines)


def bench_flats_level(evaluation: Evaluation) -> Iterator[Statement]:
    """Yield whether the flats of bench frames are bright enough, and not too bright; see ``flats.level``."""
    low, high = FLAT_RANGE_PERCENT
    for _, device in apart(cameras(evaluation)):
        level = device.measured("flat_level_percent")
        if level is None:
            continue
        row = evaluation.rows[f"{device.id}.flat_level_percent"]
        named: dict[str, Named] = {
            "camera": device.title,
            "level": level.value,
            "low": low,
            "high": high,
            "factor": _MIDDLE_PERCENT / level.value if level.value > 0 else math.inf,
        }
        lines = (f"{number(level.value, 1)} %, wanted {short(low)} to {short(high)} %", level.source or "")
        cure = "none" if row.target_verdict is Verdict.HOLDS else "bench"
        yield say(device.id, row, row.target_verdict, named, case="bench", cure=cure, lines=lines)

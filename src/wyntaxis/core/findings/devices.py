"""Is each device driven, set and placed as it should be? From the rig's own statements and what was measured."""

from __future__ import annotations

import math
import statistics
from collections.abc import Iterator
from datetime import UTC, datetime

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.agreement import AGREEMENT_SOURCE
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Proof, Statement, finding, say
from wyntaxis.core.ledger import Quantity, Verdict
from wyntaxis.core.quantities.cooling import Reached, reached
from wyntaxis.core.quantities.settling import GUIDING, SETTLE
from wyntaxis.core.quantity_kinds import DITHER_GUIDE
from wyntaxis.core.rig.device_settings import SETTINGS
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.steps import DEVICES
from wyntaxis.core.wording import number, plus_minus, short, signed

REPORTED_ELSEWHERE = frozenset({"set_temperature_c", "sensor_temperature_c"})
MAX_FRAMES_NAMED = 8
SIMULATED_WORDS = ("simulat", "dummy", "virtual", "emulat", "stand-in", "stand in")
_COOLER_WAS_OFF = (
    "The cooler was off: switch it on, wait until the temperature is reached, and take these frames again."
)
_RESERVE_C = 3.0
"""A set temperature so much warmer than what was reached is likely to hold."""


def moment(text: str) -> datetime:
    """Return a date or time of the rig file as a moment; without a zone it is taken as UTC."""
    found = datetime.fromisoformat(text)
    return found if found.tzinfo else found.replace(tzinfo=UTC)


def _is_plugged(device: Device) -> bool:
    """Return whether a device is plugged into the computer, as far as is known: the network's are not."""
    return device.connection is None or device.connection.kind not in ("network", "wireless", "none")


@finding(
    "driver.order",
    step=DEVICES,
    proves=Proof(condition=conditions.DRIVERS, needed="no device states its driver, and when it was installed"),
    listed=Listed(after="wheel.leftover"),
    source="udev rules and firmware are applied when a device is plugged in",
    titles={
        "unproven": "{device}: {missing} is not entered",
        "holds": "{device}: its driver was installed before it was plugged in",
        "fails": "{device}: its driver was installed after it was plugged in",
    },
    remedies={
        "unproven": "Enter {missing} on the Devices sheet.",
        "fails": "Unplug it, wait a few seconds, and plug it in again, so that rules and firmware take effect.",
    },
)
def driver_order(evaluation: Evaluation) -> Iterator[Statement]:
    """Was the driver there when the device was plugged in?"""
    for device in evaluation.rig.devices:
        driver, title = device.driver, device.title
        installed = driver.installed if driver else None
        plugged = device.connection.plugged_in if device.connection else None
        if installed is None or plugged is None:
            if _is_plugged(device) and driver is not None and (driver.name is not None or driver.version is not None):
                missing = "when its driver was installed" if installed is None else "when it was plugged in"
                yield say(device.id, None, Verdict.UNPROVEN, {"device": title, "missing": missing})
            continue
        verdict = Verdict.FAILS if moment(installed) > moment(plugged) else Verdict.HOLDS
        lines = (f"driver installed {installed}", f"plugged in {plugged}")
        yield say(device.id, None, verdict, {"device": title}, lines=lines)


@finding(
    "devices.measured",
    step=DEVICES,
    proves=Proof(condition=conditions.GAIN),
    listed=Listed(after="driver.order"),
    source=AGREEMENT_SOURCE,
    titles={"fails": "{label}: stated and measured value disagree", "": "{label}: stated and measured value agree"},
    remedies={"fails": "Set {stated}, or correct the rig."},
)
def settings_measured(evaluation: Evaluation) -> Iterator[Statement]:
    """Compare stated settings with what was measured of them; temperatures belong to cooling.setpoint."""
    for device in evaluation.rig.devices:
        for key, setting in device.settings.items():
            if setting.measured is None or key in REPORTED_ELSEWHERE or SETTINGS[key].sheet != "devices":
                continue
            row = evaluation.rows.get(f"{device.id}.{key}")
            if row is None or row.stated is None or row.measured is None:
                continue
            unit, decimals = row.kind.unit, row.kind.decimals
            lines = (
                f"stated {number(row.stated.value, decimals)} {unit}".rstrip(),
                f"measured {plus_minus(row.measured.value, row.measured.uncertainty, decimals)} {unit}".rstrip(),
            )
            named = {"label": row.kind.label, "stated": f"{short(row.stated.value)} {unit}".rstrip()}
            yield say(device.id, (), row.agreement, named, lines=lines)


@finding(
    "cooling.setpoint",
    step=DEVICES,
    proves=Proof(condition=conditions.COOLING, needed="no set temperature is entered", rank=-2),
    listed=Listed(after="cooling.on"),
    source="A set temperature is a wish; CCD-TEMP is what the sensor had",
    titles={
        "unproven": "{device}: nothing shows that {set:1} °C was reached",
        "fails": "{device}: {set:1} °C was not reached: {actual:1} °C (allowed ±{within} °C)",
        "": "{device}: {set:1} °C was reached",
        "all frames": "{device}: {set:1} °C was reached in all {count} frames",
        "some frames": "{device}: {set:1} °C was not reached in {off} of {count} frames: {actual:1} °C",
    },
    remedies={
        "unproven": "Read headers of frames on the Programs sheet, or enter the sensor's temperature as measured.",
        "cooler off": _COOLER_WAS_OFF,
        "too cold": "Choose a set temperature that the cooler holds tonight, such as {holding:0} °C.",
        "too early": "Wait until the ramp has ended before the first frame.",
        "most too warm": "Choose a set temperature that the cooler holds, such as {holding:0} °C or warmer.",
        "some frames": "Leave these {off} frames out, and wait until the ramp has ended before the first frame.",
    },
)
def setpoint(evaluation: Evaluation) -> Iterator[Statement]:
    """Has the sensor reached its set temperature? From headers of frames where they were read, else from the record."""
    for entry in reached(evaluation):
        device, wanted = entry.device, entry.set_c
        if entry.actual_c is None:
            yield say(device.id, None, Verdict.UNPROVEN, {"device": device.title, "set": wanted})
            continue
        row = evaluation.rows[entry.row_id]
        if entry.frames:
            yield _reached_in_frames(entry, row)
            continue
        off, cure = entry.actual_c - wanted, ""
        if row.verdict is Verdict.FAILS:
            cure = "too early" if off <= 0 else "cooler off" if entry.was_off else "too cold"
        line = (
            f"{number(entry.actual_c, 1)} − ({number(wanted, 1)}) = {signed(off, 1)} °C, "
            f"allowed ±{short(entry.within_c)} °C"
        )
        named = _reached_values(entry) | {"holding": entry.actual_c + _RESERVE_C}
        yield say(device.id, row, None, named, cure=cure or "none", lines=(line, entry.source))


def _reached_values(entry: Reached) -> dict[str, Named]:
    assert entry.actual_c is not None
    return {"device": entry.device.title, "set": entry.set_c, "actual": entry.actual_c, "within": entry.within_c}


def _reached_in_frames(one: Reached, row: Quantity) -> Statement:
    """Return what the frames show, each against its own set temperature: a library of darks has several.

    A few frames that are off were taken while the ramp still ran; where most are, the cooler does not hold.
    """
    assert one.actual_c is not None
    off, count = one.off, len(one.frames)
    line = (
        f"{number(one.actual_c, 1)} − ({number(one.set_c, 1)}) = {signed(one.actual_c - one.set_c, 1)} °C, "
        f"allowed ±{short(one.within_c)} °C"
    )
    named = _reached_values(one) | {"count": count, "off": len(off)}
    if not off:
        lines = (line, f"the farthest of {count} frames: {one.source}")
        return say(one.device.id, row, None, named, case="all frames", cure="none", lines=lines)
    listed = [f"{f.path}: {number(a, 1)} °C, {signed(a - s, 1)} °C" for s, a, f in off[:MAX_FRAMES_NAMED]]
    more = [f"and {len(off) - len(listed)} more"] if len(off) > len(listed) else []
    warm, cure = statistics.median(a - s for s, a, _ in off), "some frames"
    if one.was_off and warm > 0:
        cure = "cooler off"
    elif 2 * len(off) > count and warm > 0:
        cure = "most too warm"
        named["holding"] = math.ceil(statistics.median(a for _, a, _ in off))
    return say(one.device.id, row, None, named, case="some frames", cure=cure, lines=(line, *listed, *more))


@finding(
    "cooling.on",
    step=DEVICES,
    proves=Proof(condition=conditions.COOLING, needed="no set temperature is entered", rank=-2),
    listed=Listed(after="cooling.stability"),
    source="A set temperature does nothing while the cooler is off",
    titles={
        "unproven": "{device}: whether its cooler is on is not entered",
        "holds": "{device}: the cooler is on",
        "fails": "{device}: the cooler is off",
        "frames": "{device}: the cooler was off: lights are up to {warmer:0} °C warmer than the set temperature",
    },
    remedies={"": "Switch the cooler on, and record it in the rig.", "frames": _COOLER_WAS_OFF},
)
def cooler_on(evaluation: Evaluation) -> Iterator[Statement]:
    """Is the cooler on where a temperature is set?"""
    for entry in reached(evaluation):
        device, on = entry.device, entry.device.truth("cooler_on")
        if on is not False and entry.frames_show_it_off:
            yield _off_by_frames(entry)
            continue
        verdict = Verdict.UNPROVEN if on is None else Verdict.HOLDS if on else Verdict.FAILS
        line = f"set temperature {number(device.number('set_temperature_c') or 0.0, 1)} °C"
        yield say(device.id, None, verdict, {"device": device.title}, lines=(line,))


def _off_by_frames(entry: Reached) -> Statement:
    """Return that the frames show the cooler off, whatever the rig says."""
    device, lights = entry.device, [own for own in entry.frames if own[2].kind == "light"]
    asked, actual, frame = max(lights, key=lambda own: own[1] - own[0])
    line = f"{frame.path}: {number(actual, 1)} °C, set {number(asked, 1)} °C"
    named: dict[str, Named] = {"device": device.title, "warmer": actual - asked}
    return say(device.id, None, Verdict.FAILS, named, case="frames", lines=(line,))


@finding(
    "devices.simulated",
    step=DEVICES,
    listed=Listed(after="rotator.range"),
    source="A device for trying things out must not be used in a real role at night",
    titles="{device}, a simulated device, is entered as {role} in {where}",
    remedies="Choose the real device for this role: a simulated one takes no picture and moves nothing.",
)
def simulated(evaluation: Evaluation) -> Iterator[Statement]:
    """Is a simulated device left in a real role, by its name or driver, in the rig or in a program's list?"""
    rig = evaluation.rig
    found = [
        (device.id, device.title, device.kind, "the rig")
        for device in rig.devices
        if _is_simulated(device.name, device.driver.name if device.driver else None)
    ]
    found += [
        (entry.name, entry.name, entry.role, record.name)
        for record in rig.own_records
        for entry in record.entries
        if entry.role is not None and _is_simulated(entry.name, entry.driver)
    ]
    for subject, title, role, where in found:
        named = {"device": title, "role": str(role).replace("_", " "), "where": where}
        yield say(subject, None, Verdict.FAILS, named, lines=(f"its name or driver says so: {title}",))


def _is_simulated(*texts: str | None) -> bool:
    return any(word in text.casefold() for text in texts if text for word in SIMULATED_WORDS)


@finding(
    "guiding.settle",
    step=DEVICES,
    proves=Proof(condition=conditions.GUIDING, rank=-1),
    listed=Listed(after="devices.simulated"),
    source="A threshold under two centroid errors is crossed by noise alone",
    titles={
        "holds": "Settling within {asked} guide px is possible (at least {least})",
        "": "Settling within {asked} guide px is tighter than the noise (at least {least})",
    },
    remedies="Settle within {least} guide px or more, or every dither ends in a wait.",
)
def settle(evaluation: Evaluation) -> Iterator[Statement]:
    """Can the guider settle to what is asked? Not tighter than its own centroid error lets it."""
    settings = evaluation.rig.guiding.settings
    if settings is None or settings.settle_px is None or not evaluation.rig.devices:
        return
    row = evaluation.rows[SETTLE.id_of(GUIDING)]
    assert row.target is not None
    least = row.target.low
    named = {"asked": settings.settle_px, "least": least}
    yield say(DITHER_GUIDE.id, row, None, named, lines=(f"two centroid errors: {short(least)} guide px",))


@finding(
    "devices.parts",
    step=DEVICES,
    listed=Listed(after="devices.measured"),
    source="Devices are shown at their parts",
    titles="{device} is at the part “{part}”, which is not in this train",
    remedies="Choose the part that it is at, if it is used with this train.",
)
def parts_named(evaluation: Evaluation) -> Iterator[Statement]:
    """Find devices whose part is not in this train; another variant may well have it."""
    for device in evaluation.rig.devices:
        if device.part is not None and evaluation.rig.find(device.part) is None:
            yield say(device.id, None, Verdict.UNPROVEN, {"device": device.title, "part": device.part})

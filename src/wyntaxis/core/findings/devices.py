"""Is each device driven, set and placed as it should be? From the rig's own statements and what was measured."""

from __future__ import annotations

import math
import statistics
from collections.abc import Iterator
from datetime import UTC, datetime

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Quantity, Verdict
from wyntaxis.core.quantities.cooling import Reached, reached
from wyntaxis.core.quantities.settling import GUIDING, SETTLE
from wyntaxis.core.rig.device_settings import SETTINGS
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.steps import DEVICES
from wyntaxis.core.wording import number, plus_minus, short, signed

REPORTED_ELSEWHERE = frozenset({"set_temperature_c", "sensor_temperature_c"})
MAX_FRAMES_NAMED = 8
SIMULATED_WORDS = ("simulat", "dummy", "virtual", "emulat", "stand-in", "stand in")
_COOLER_WAS_OFF = Remedy(
    "the cooler was off: switch it on, wait until the temperature is reached, and take these again"
)
_SETPOINT_SOURCE = "A set temperature is a wish; CCD-TEMP is what the sensor had"
_DRIVER_SOURCE = "udev rules and firmware are applied when a device is plugged in"


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
    condition=conditions.DRIVERS,
    after="wheel.leftover",
    needed="no device states its driver, and when it was installed",
)
def driver_order(evaluation: Evaluation) -> Iterator[Finding]:
    """Was the driver there when the device was plugged in?"""
    for device in evaluation.rig.devices:
        installed = device.driver.installed if device.driver else None
        plugged = device.connection.plugged_in if device.connection else None
        if installed is None or plugged is None:
            if (
                _is_plugged(device)
                and device.driver is not None
                and (device.driver.name is not None or device.driver.version is not None)
            ):
                missing = "when its driver was installed" if installed is None else "when it was plugged in"
                yield Finding(
                    "driver.order",
                    Verdict.UNPROVEN,
                    device.id,
                    f"{device.title}: {missing} is not stated",
                    (),
                    Remedy(f"state {missing} on the Devices sheet"),
                    _DRIVER_SOURCE,
                )
            continue
        late = moment(installed) > moment(plugged)
        yield Finding(
            "driver.order",
            Verdict.FAILS if late else Verdict.HOLDS,
            device.id,
            f"{device.title}: its driver came {'after' if late else 'before'} it was plugged in",
            (f"driver installed {installed}", f"plugged in {plugged}"),
            Remedy("unplug it, wait a few seconds, and plug it in again, so that rules and firmware take hold")
            if late
            else NO_REMEDY,
            _DRIVER_SOURCE,
        )


@finding("devices.measured", step=DEVICES, condition=conditions.GAIN, after="driver.order")
def settings_measured(evaluation: Evaluation) -> Iterator[Finding]:
    """Compare what a setting is to be with what was measured of it; temperatures are told by cooling.setpoint."""
    for device in evaluation.rig.devices:
        for key, setting in device.settings.items():
            if setting.measured is None or key in REPORTED_ELSEWHERE or SETTINGS[key].sheet != "devices":
                continue
            row = evaluation.rows.get(f"{device.id}.{key}")
            if row is None or row.stated is None or row.measured is None:
                continue
            verdict = row.agreement
            unit, decimals = row.kind.unit, row.kind.decimals
            yield Finding(
                "devices.measured",
                verdict,
                device.id,
                f"{row.kind.label}: stated and measured {'disagree' if verdict is Verdict.FAILS else 'agree'}",
                (
                    f"stated {number(row.stated.value, decimals)} {unit}".rstrip(),
                    f"measured {plus_minus(row.measured.value, row.measured.uncertainty, decimals)} {unit}".rstrip(),
                ),
                Remedy(f"set {short(row.stated.value)} {unit}".rstrip() + ", or correct the rig")
                if verdict is Verdict.FAILS
                else NO_REMEDY,
                "Legs agree when |a − b| ≤ max(tolerance, 2 √(u_a² + u_b²)): JCGM 100:2008 (GUM)",
            )


@finding(
    "cooling.setpoint",
    step=DEVICES,
    condition=conditions.COOLING,
    after="cooling.on",
    needed="no set temperature is stated",
    rank=-2,
)
def setpoint(evaluation: Evaluation) -> Iterator[Finding]:
    """Has the sensor reached its set temperature? From frames' headers where they were read, else from the record."""
    for entry in reached(evaluation):
        device, wanted = entry.device, entry.set_c
        if entry.actual_c is None:
            yield Finding(
                "cooling.setpoint",
                Verdict.UNPROVEN,
                device.id,
                f"{device.title}: nothing shows that {number(wanted, 1)} °C was reached",
                (),
                Remedy("read frames' headers on the Records sheet, or enter the sensor's temperature as measured"),
                _SETPOINT_SOURCE,
            )
            continue
        row = evaluation.rows[entry.row_id]
        if entry.frames:
            yield _reached_in_frames(entry, row)
            continue
        off, fails = entry.actual_c - wanted, row.verdict is Verdict.FAILS
        actual = number(entry.actual_c, 1)
        yield Finding(
            "cooling.setpoint",
            row.verdict,
            device.id,
            f"{device.title}: {number(wanted, 1)} °C " + (f"was not reached: {actual} °C" if fails else "was reached"),
            (
                f"{actual} − ({number(wanted, 1)}) = {signed(off, 1)} °C, allowed ±{short(entry.within_c)} °C",
                entry.source,
            ),
            _COOLER_WAS_OFF
            if fails and off > 0 and entry.was_off
            else Remedy(
                f"choose a set temperature that the cooler holds tonight, such as {number(entry.actual_c + 3, 0)} °C"
            )
            if fails and off > 0
            else Remedy("wait until the ramp has ended before the first frame")
            if fails
            else NO_REMEDY,
            _SETPOINT_SOURCE,
            (row.id,),
        )


def _reached_in_frames(one: Reached, row: Quantity) -> Finding:
    """Tell what the frames say, each against its own set temperature: a library of darks has several.

    A few frames that are off were taken while the ramp still ran; where most are, the cooler does not hold.
    """
    assert one.actual_c is not None
    title, reported, off = one.device.title, one.frames, one.off
    wanted, actual = number(one.set_c, 1), number(one.actual_c, 1)
    if not off:
        words, remedy = f"{title}: {wanted} °C was reached in all {len(reported)} frames", NO_REMEDY
        files: tuple[str, ...] = (f"the farthest of {len(reported)} frames: {one.source}",)
    else:
        words = f"{title}: {wanted} °C was not reached in {len(off)} of {len(reported)} frames: {actual} °C"
        listed = [f"{f.path}: {number(a, 1)} °C, {signed(a - s, 1)} °C" for s, a, f in off[:MAX_FRAMES_NAMED]]
        more = [f"and {len(off) - len(listed)} more"] if len(off) > len(listed) else []
        files = (*listed, *more)
        warm = statistics.median(a - s for s, a, _ in off)
        if one.was_off and warm > 0:
            text = _COOLER_WAS_OFF.text
        elif 2 * len(off) > len(reported) and warm > 0:
            holds = math.ceil(statistics.median(a for _, a, _ in off))
            text = f"choose a set temperature that the cooler holds, such as {number(holds, 0)} °C or warmer"
        else:
            text = f"leave these {len(off)} frames out, and wait until the ramp has ended before the first frame"
        remedy = Remedy(text)
    line = f"{actual} − ({wanted}) = {signed(one.actual_c - one.set_c, 1)} °C, allowed ±{short(one.within_c)} °C"
    return Finding(
        "cooling.setpoint", row.verdict, one.device.id, words, (line, *files), remedy, _SETPOINT_SOURCE, (row.id,)
    )


@finding(
    "cooling.on",
    step=DEVICES,
    condition=conditions.COOLING,
    after="cooling.stability",
    needed="no set temperature is stated",
    rank=-2,
)
def cooler_on(evaluation: Evaluation) -> Iterator[Finding]:
    """Is the cooler on where a temperature is set?"""
    for entry in reached(evaluation):
        device, on = entry.device, entry.device.truth("cooler_on")
        if on is not False and entry.frames_show_it_off:
            yield _off_by_frames(entry)
            continue
        verdict = Verdict.UNPROVEN if on is None else Verdict.HOLDS if on else Verdict.FAILS
        words = {None: "nobody has said whether its cooler is on", True: "the cooler is on", False: "the cooler is off"}
        yield Finding(
            "cooling.on",
            verdict,
            device.id,
            f"{device.title}: {words[on]}",
            (f"set temperature {number(device.number('set_temperature_c') or 0.0, 1)} °C",),
            NO_REMEDY if on else Remedy("switch the cooler on, and state it in the rig"),
            "A set temperature does nothing while the cooler is off",
        )


def _off_by_frames(entry: Reached) -> Finding:
    """Return that the frames show the cooler off, whatever the rig says."""
    device, lights = entry.device, [own for own in entry.frames if own[2].kind == "light"]
    asked, actual, frame = max(lights, key=lambda own: own[1] - own[0])
    return Finding(
        "cooling.on",
        Verdict.FAILS,
        device.id,
        f"{device.title}: the cooler was off: the lights are up to {number(actual - asked, 0)} °C warmer than was set",
        (f"{frame.path}: {number(actual, 1)} °C, set {number(asked, 1)} °C",),
        _COOLER_WAS_OFF,
        "A set temperature does nothing while the cooler is off",
    )


@finding("devices.simulated", step=DEVICES, after="rotator.range")
def simulated(evaluation: Evaluation) -> Iterator[Finding]:
    """Is a simulated device left in a real role? Told by its name or driver, in the rig or in a program's list."""
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
        yield Finding(
            "devices.simulated",
            Verdict.FAILS,
            subject,
            f"{title}, a simulated device, stands as {str(role).replace('_', ' ')} in {where}",
            (f"its name or driver says so: {title}",),
            Remedy("choose the real device for this role; a simulated one takes no picture and moves nothing"),
            "A device for trying things out must not stand in a real role at night",
        )


def _is_simulated(*texts: str | None) -> bool:
    return any(word in text.casefold() for text in texts if text for word in SIMULATED_WORDS)


@finding("guiding.settle", step=DEVICES, condition=conditions.GUIDING, after="devices.simulated", rank=-1)
def settle(evaluation: Evaluation) -> Iterator[Finding]:
    """Can the guider settle to what is asked? Not tighter than its own centroid error lets it."""
    settings = evaluation.rig.guiding.settings
    if settings is None or settings.settle_px is None or not evaluation.rig.devices:
        return
    row = evaluation.rows[SETTLE.id_of(GUIDING)]
    assert row.target is not None
    holds, least = row.verdict is Verdict.HOLDS, row.target.low
    yield Finding(
        "guiding.settle",
        row.verdict,
        "dither_guide_px",
        f"Settled within {short(settings.settle_px)} guide px "
        + ("can be met" if holds else "is tighter than the noise"),
        (f"two centroid errors: {short(least)} guide px",),
        NO_REMEDY
        if holds
        else Remedy(f"settle within {short(least)} guide px or more, or every dither ends in a wait"),
        "A threshold under two centroid errors is crossed by noise alone",
        (row.id,),
    )


@finding("devices.parts", step=DEVICES, after="devices.measured")
def parts_named(evaluation: Evaluation) -> Iterator[Finding]:
    """Tell of devices whose part is not in this train; another variant may well have it."""
    for device in evaluation.rig.devices:
        if device.part is not None and evaluation.rig.find(device.part) is None:
            yield Finding(
                "devices.parts",
                Verdict.UNPROVEN,
                device.id,
                f"{device.title} sits at the part “{device.part}”, which is not in this train",
                (),
                Remedy("choose the part that it sits at, if it is used with this train"),
                "Devices are shown at their parts",
            )

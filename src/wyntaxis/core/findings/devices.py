"""Is each device driven, set and placed as it should be? From the rig's own statements and what was measured."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime

from wyntaxis.core.devices.quantities import device_quantity
from wyntaxis.core.findings import NO_REMEDY, Finding, Remedy, finding
from wyntaxis.core.ledger import Verdict, compare
from wyntaxis.core.reckon import Reckoning
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.rig.settings import CAMERAS, SETTINGS
from wyntaxis.core.wording import number, plus_minus, short, signed

REACHED_WITHIN_C = 1.0
"""A sensor within this of its set temperature has reached it, where the rig states no tolerance."""

TOLD_ELSEWHERE = frozenset({"set_temperature_c", "sensor_temperature_c"})
TRAVEL_INNER = (0.2, 0.8)
STEPS_PER_ZONE = 3.0
_TRAVEL_SOURCE = "The working position should lie in 20 to 80 % of the focuser's range"
_STEP_SOURCE = "A focuser step should be at most a third of the depth of focus"


def moment(text: str) -> datetime:
    """Return a date or time of the rig file as a moment; without a zone it is taken as UTC."""
    found = datetime.fromisoformat(text)
    return found if found.tzinfo else found.replace(tzinfo=UTC)


@finding("driver.order")
def driver_order(reckoning: Reckoning) -> Iterator[Finding]:
    """Was the driver there when the device was plugged in?"""
    for device in reckoning.rig.devices:
        installed = device.driver.installed if device.driver else None
        plugged = device.connection.plugged_in if device.connection else None
        if installed is None or plugged is None:
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
            "udev rules and firmware are applied when a device is plugged in",
        )


@finding("devices.measured")
def settings_measured(reckoning: Reckoning) -> Iterator[Finding]:
    """Compare what a setting is to be with what was measured of it; temperatures are told by cooling.setpoint."""
    for device in reckoning.rig.devices:
        for key, setting in device.settings.items():
            if setting.measured is None or key in TOLD_ELSEWHERE or SETTINGS[key].sheet != "devices":
                continue
            row = device_quantity(device, key)
            if row is None or row.stated is None or row.measured is None:
                continue
            verdict = compare(row.stated, row.measured)
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


@finding("cooling.setpoint")
def setpoint(reckoning: Reckoning) -> Iterator[Finding]:
    """Has the sensor reached its set temperature? From frames' headers where they were read, else from the record."""
    cameras = [device for device in reckoning.rig.devices if device.kind in CAMERAS]
    for device in cameras:
        wanted = device.number("set_temperature_c")
        if wanted is None:
            continue
        within = device.settings["set_temperature_c"].tolerance or REACHED_WITHIN_C
        seen = _reached(reckoning, device, wanted, first=device is cameras[0])
        if seen is None:
            yield Finding(
                "cooling.setpoint",
                Verdict.UNPROVEN,
                device.id,
                f"{device.title}: nothing shows that {number(wanted, 1)} °C was reached",
                (),
                Remedy("read frames' headers on the Records sheet, or enter the sensor's temperature as measured"),
                "A set temperature is a wish; CCD-TEMP is what the sensor had",
            )
            continue
        set_c, reached, where = seen
        off = reached - set_c
        fails = abs(off) > within
        yield Finding(
            "cooling.setpoint",
            Verdict.FAILS if fails else Verdict.HOLDS,
            device.id,
            f"{device.title}: {number(set_c, 1)} °C "
            + (f"was not reached: {number(reached, 1)} °C" if fails else "was reached"),
            (f"{number(reached, 1)} − ({number(set_c, 1)}) = {signed(off, 1)} °C, allowed ±{short(within)} °C", where),
            Remedy(f"choose a set temperature that the cooler holds tonight, such as {number(reached + 3, 0)} °C")
            if fails and off > 0
            else Remedy("wait until the ramp has ended before the first frame")
            if fails
            else NO_REMEDY,
            "A set temperature is a wish; CCD-TEMP is what the sensor had",
        )


def _reached(reckoning: Reckoning, device: Device, wanted: float, *, first: bool) -> tuple[float, float, str] | None:
    """Return what was set, what the sensor had where it was farthest from that, and where it was seen.

    Each frame is held to its own set temperature: a library of darks has several.
    """
    from wyntaxis.core.frames.audit import measured_temperatures

    if reckoning.frames is not None and first:
        told = measured_temperatures(reckoning.frames.frames)
        if told:
            set_c, actual, frame = max(told, key=lambda entry: abs(entry[1] - entry[0]))
            return set_c, actual, f"the farthest of {len(told)} frames: {frame.path}"
    for key in ("set_temperature_c", "sensor_temperature_c"):
        setting = device.settings.get(key)
        if setting is not None and setting.measured is not None:
            return wanted, setting.measured.value, setting.measured.source or "entered as measured"
    stated = device.number("sensor_temperature_c")
    return None if stated is None else (wanted, stated, "as the rig states the sensor's temperature")


@finding("cooling.on")
def cooler_on(reckoning: Reckoning) -> Iterator[Finding]:
    """Is the cooler on where a temperature is set?"""
    cooled = [device for device in reckoning.rig.devices if device.number("set_temperature_c") is not None]
    for device in cooled:
        on = device.truth("cooler_on")
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


@finding("focuser.travel")
def focuser_travel(reckoning: Reckoning) -> Iterator[Finding]:
    """Does the working position lie away from the ends of the travel?"""
    for device in reckoning.rig.devices:
        low, high, at = (device.number(key) for key in ("lowest_position", "highest_position", "position"))
        if device.kind != "focuser" or low is None or high is None or at is None or high <= low:
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


@finding("focuser.step")
def focuser_step(reckoning: Reckoning) -> Iterator[Finding]:
    """Is the focuser's step fine enough for the depth of focus?"""
    zone = reckoning.value("depth_of_focus_seeing_um") or reckoning.value("depth_of_focus_diffraction_um")
    for device in reckoning.rig.devices:
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


@finding("guiding.settle")
def settle(reckoning: Reckoning) -> Iterator[Finding]:
    """Can the guider settle to what is asked? Not tighter than its own centroid error lets it."""
    settings = reckoning.rig.guiding.settings
    if settings is None or settings.settle_px is None or not reckoning.rig.devices:
        return
    from wyntaxis.core.optics.guiding import CENTROID_ERROR_PX

    least = 2 * (settings.centroid_error_px or CENTROID_ERROR_PX[1])
    holds = settings.settle_px >= least
    yield Finding(
        "guiding.settle",
        Verdict.HOLDS if holds else Verdict.FAILS,
        "dither_guide_px",
        f"Settled within {short(settings.settle_px)} guide px "
        + ("can be met" if holds else "is tighter than the noise"),
        (f"two centroid errors: {short(least)} guide px",),
        NO_REMEDY
        if holds
        else Remedy(f"settle within {short(least)} guide px or more, or every dither ends in a wait"),
        "A threshold under two centroid errors is crossed by noise alone",
    )


@finding("devices.parts")
def parts_named(reckoning: Reckoning) -> Iterator[Finding]:
    """Tell of devices whose part is not in this train; another variant may well have it."""
    for device in reckoning.rig.devices:
        if device.part is not None and reckoning.rig.find(device.part) is None:
            yield Finding(
                "devices.parts",
                Verdict.UNPROVEN,
                device.id,
                f"{device.title} sits at the part “{device.part}”, which is not in this train",
                (),
                Remedy("choose the part that it sits at, if it is used with this train"),
                "Devices are shown at their parts",
            )

"""What each camera's cooler can do on the warmest night planned, and what is wanted of its run.

Source: ``dT/dt = (T_ambient − T)/τ − a·p``: at full power the sensor comes ``a·τ`` below ambient, and at rest it takes
the share ``(T_ambient − T)/(a·τ)`` of it.
"""

from __future__ import annotations

import math
import statistics
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.headers.kind import HEADERS
from wyntaxis.core.ledger import Quantity, QuantityValue, Target
from wyntaxis.core.limits import MAX_REST_POWER, TOLERANCE_C
from wyntaxis.core.quantities.devices import REACHED_WITHIN_C
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantities.read_tracking import apart
from wyntaxis.core.quantities.rows import DeviceQuantity, memoized_each, rows, setting_target
from wyntaxis.core.rig.device_settings import CAMERAS
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.steps import COOLING, DEVICES

if TYPE_CHECKING:
    from wyntaxis.core.evidence.headers.folder import FolderHeaders
    from wyntaxis.core.evidence.headers.headers import FrameHeader

STEADY_WITHIN_C = 0.1
RATE_SLACK, RATE_FAILS = 1.1, 1.5
"""A steepest rate this many times the ramp's is doubtful, or wrong: rates are read from noisy logs."""

COLDEST = DeviceQuantity("coldest_c", "Lowest reachable temperature", "°C", 1, COOLING)
POWER_NEEDED = DeviceQuantity("power_needed_percent", "Power at the set temperature", "%", 1, COOLING)
COOLER_OFF_C = 8.0
"""Lights that are this much warmer than was set were taken without the cooler: one at work falls short by a few °C."""
REACHED = DeviceQuantity("reached_c", "Temperature reached", "°C", 1, DEVICES)


@dataclass(frozen=True)
class Cooler:
    """A camera's cooler on the warmest night: set temperature, ambient and depth below it, in °C."""

    index: int
    device: Device
    set_c: float
    ambient_c: float
    ambient_from: str
    depth_c: float
    depth_standard_c: float

    @property
    def coldest_c(self) -> float:
        """The coldest temperature that it reaches, in °C: ``T_ambient − a·τ``."""
        return self.ambient_c - self.depth_c

    @property
    def share(self) -> float:
        """The share of full power that holds the set temperature: ``(T_ambient − T)/(a·τ)``."""
        return self.power_at(self.set_c)

    def power_at(self, temperature_c: float) -> float:
        """Return the share of full power that holds a temperature in °C."""
        return (self.ambient_c - temperature_c) / self.depth_c


@memoized_each
def coolers(numbers: Numbers) -> Iterator[Cooler]:
    """Yield the cooler of each camera that has a set temperature, where its depth and the ambient are known.

    Yields
    ------
    Cooler
        At the plan's warmest ambient, else at that of the cooling run.
    """
    plan = numbers.rig.plan
    for index, device in enumerate(numbers.rig.devices):
        set_c, reach = device.number("set_temperature_c"), cooler_depth(device)
        if device.kind not in CAMERAS or set_c is None or reach is None:
            continue
        planned = plan.ambient_c if plan is not None else None
        ambient = planned if planned is not None else device.best("rest_ambient_c")
        if ambient is not None and reach[0] > 0:
            text = "the warmest night planned" if planned is not None else "as in the cooling run"
            yield Cooler(index, device, set_c, ambient, text, *reach)


def cooler_depth(device: Device) -> tuple[float, float] | None:
    """Return how far below ambient a cooler comes at the most, and its standard uncertainty, in °C.

    Parameters
    ----------
    device
        A camera.

    Returns
    -------
    tuple of float or None
        As measured or stated; else a·τ, from the measured or stated pull and time constant.
    """
    measured = device.measured("cooling_reach_c")
    if measured is not None:
        return measured.value, measured.standard_uncertainty
    stated = device.number("cooling_reach_c")
    if stated is not None:
        return stated, 0.0
    tau, pull = device.best("cooler_tau_min"), device.best("cooler_pull_c_min")
    if tau is None or pull is None:
        return None
    evaluator = [device.measured(key) for key in ("cooler_tau_min", "cooler_pull_c_min")]
    relative = [
        quantity_value.standard_uncertainty / quantity_value.value
        if quantity_value is not None and quantity_value.value
        else 0.0
        for quantity_value in evaluator
    ]
    # τ and a are told apart by one run: their errors pull against each other, so this is no less than the truth.
    return tau * pull, tau * pull * math.hypot(*relative)


@rows
def cooler_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield the coldest reach and the power needed of each cooler."""

    for cooler in coolers(numbers):
        device, relative = cooler.device, cooler.depth_standard_c / cooler.depth_c
        coldest = QuantityValue(cooler.coldest_c, cooler.depth_standard_c, source=cooler.ambient_from)
        yield COLDEST.row(device.id, device.title, computed=coldest, target=Target(high=cooler.set_c))
        percent = 100 * cooler.share
        # Whether the set temperature is reached at all is the other row's to say, with the uncertainty of the depth.
        wish = Target(high=100, inner_high=100 * MAX_REST_POWER)
        needed = QuantityValue(percent, abs(percent) * relative, source=cooler.ambient_from)
        yield POWER_NEEDED.row(
            device.id, device.title, computed=needed, target=wish, verdict=wish.judge(QuantityValue(percent))
        )


@setting_target("steepest_c_min")
def _ramp(numbers: Numbers, device: Device) -> Target | None:
    ramp = device.number("ramp_c_min")
    return Target(high=RATE_FAILS * ramp, inner_high=RATE_SLACK * ramp) if ramp else None


@setting_target("scatter_c")
def _steadiness(numbers: Numbers, device: Device) -> Target:
    return Target(high=scatter_limit_c(device), inner_high=STEADY_WITHIN_C)


def scatter_limit_c(device: Device) -> float:
    """Return the scatter in °C above which a regulation is of no use: half the set temperature's tolerance.

    Returns
    -------
    float
        In °C.
    """

    setting = device.settings.get("set_temperature_c")
    return (setting.tolerance if setting is not None and setting.tolerance is not None else TOLERANCE_C) / 2


@dataclass(frozen=True)
class Reached:
    """What a camera's sensor had against its set temperature, in °C, and where that stands.

    ``frames`` are all frames that tell it, with set and actual temperature; ``off`` those beyond what is allowed.
    """

    device: Device
    set_c: float
    within_c: float
    actual_c: float | None = None
    source: str = ""
    frames: tuple[tuple[float, float, FrameHeader], ...] = ()

    @property
    def was_off(self) -> bool:
        """Whether the cooler was off: the rig says so, or most lights are far warmer than was asked."""
        return self.device.truth("cooler_on") is False or self.frames_show_it_off

    @property
    def frames_show_it_off(self) -> bool:
        """Whether most lights are so much warmer than was asked that no cooler was at work."""
        over = [actual - asked for asked, actual, frame in self.frames if frame.kind == "light"]
        return bool(over) and statistics.median(over) >= COOLER_OFF_C

    @property
    def is_own_value(self) -> bool:
        """Whether it is the measured value of the set temperature itself that tells it."""
        return self.device.measured("set_temperature_c") is not None and not self.frames

    @property
    def row_id(self) -> str:
        """The id of the row that compares the two."""
        return f"{self.device.id}.set_temperature_c" if self.is_own_value else REACHED.id_of(self.device.id)

    @property
    def off(self) -> list[tuple[float, float, FrameHeader]]:
        """The frames that are farther from their own set temperature than is allowed."""
        return [entries for entries in self.frames if abs(entries[1] - entries[0]) > self.within_c]


def _reported_by(
    headers: FolderHeaders, device: Device, cameras: list[Device], set_c: float
) -> list[tuple[float, float, FrameHeader]]:
    """Return what the frames of a camera tell: those that name it, and of the main camera those that name none."""
    from wyntaxis.core.evidence.headers.headers import measured_temperatures
    from wyntaxis.core.evidence.headers.names import same_device_name

    main = next((own for own in cameras if own.kind == "camera"), cameras[0])

    def is_own(frame: FrameHeader) -> bool:
        named = [own for own in cameras if frame.camera and same_device_name(frame.camera, own.title)]
        return (named[0] if named else main) is device

    return [own for own in measured_temperatures(headers.frames, set_c) if is_own(own[2])]


@memoized_each
def reached(numbers: Numbers) -> Iterator[Reached]:
    """Yield, for each camera with a set temperature, what its sensor had.

    Parameters
    ----------
    numbers
        The rig's numbers; where frames' headers were read, the camera's own frames tell it: the farthest one, each
        against its own set temperature. Else the rig's own word does.

    Yields
    ------
    Reached
        In °C.
    """
    headers = numbers.evidence.of(HEADERS)
    cameras = [device for device in numbers.rig.devices if device.kind in CAMERAS]
    for device in apart(cameras):
        set_c = device.number("set_temperature_c")
        if set_c is None:
            continue
        within = device.settings["set_temperature_c"].tolerance or REACHED_WITHIN_C
        entries = _reported_by(headers, device, cameras, set_c) if headers is not None else []
        if entries:
            own, actual, frame = max(entries, key=lambda entry: abs(entry[1] - entry[0]))
            yield Reached(device, own, within, actual, frame.path, tuple(entries))
            continue
        for key in ("set_temperature_c", "sensor_temperature_c"):
            measured = device.measured(key)
            if measured is not None:
                yield Reached(device, set_c, within, measured.value, measured.source or "entered as measured")
                break
        else:
            stated = device.number("sensor_temperature_c")
            yield Reached(device, set_c, within, stated, "as the rig states the sensor's temperature")


@rows
def reached_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield the set temperature of each camera beside what was reached, where that is not the setting's own value."""
    for entry in reached(numbers):
        if entry.actual_c is not None and not entry.is_own_value:
            wish, found = (
                QuantityValue(entry.set_c, tolerance=entry.within_c),
                QuantityValue(entry.actual_c, source=entry.source),
            )
            yield REACHED.row(entry.device.id, entry.device.title, stated=wish, measured=found)

"""What arrives at the end of each cable, the load of the mount, and how near the optics are to dew."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from math import fsum

from wyntaxis.core.ledger import Quantity, QuantityValue, Target, Verdict, rectangular
from wyntaxis.core.optics.electrics import cable_resistance, dew_point
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantities.plan import draw_of, draws_on, unknown_on
from wyntaxis.core.quantities.ports import HIGH_SPEED_MBIT, bus_of
from wyntaxis.core.quantities.rows import DeviceQuantity, memoized_each, rows
from wyntaxis.core.rehearsal.power import is_converter
from wyntaxis.core.rig.devices import Cable, Device, Supply
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import Part, Telescope
from wyntaxis.core.steps import DEVICES, PORTS

AT_REST = DeviceQuantity("arrives_at_rest_v", "Voltage at the device, typical", "V", 2, DEVICES)
AT_MOST = DeviceQuantity("arrives_at_most_v", "Voltage at the device, full load", "V", 2, DEVICES)
NEAR_END = DeviceQuantity("arrives_near_end_v", "Voltage at full load near the battery's end", "V", 2, DEVICES)
OUTLET = DeviceQuantity("outlet_a", "Highest current of the outlet", "A", 2, DEVICES)
CABLE = DeviceQuantity("cable_m", "Data cable", "m", 1, PORTS)
PAYLOAD = DeviceQuantity("payload_kg", "Load", "kg", 1, DEVICES)
DEW_POINT = DeviceQuantity("dew_point_c", "Dew point", "°C", 1, DEVICES)
DEW_MARGIN = DeviceQuantity("dew_margin_c", "Optics above the dew point", "°C", 1, DEVICES)

CABLE_LIMITS_M = {HIGH_SPEED_MBIT: 5.0, 5000.0: 3.0}
"""How long a cable may be without a repeater, by the link's speed in Mbit/s. Source: USB 2.0 and 3.2 practice."""
NEEDS_FAST_MB_S = 40.0
"""What 480 Mbit/s carry in practice, in MB/s: a camera that sends more is made for 5000."""
PAYLOAD_INNER_SHARE = 0.8
"""A mount is loaded with comfort up to four fifths of its rating."""
GLASS_BELOW_AIR_C = 2.0
"""How far glass under a clear sky falls below the air, by what it radiates: a usual value."""
DEW_WANTED_C = 1.0
HUMIDITY_HALF_WIDTH_PERCENT, AIR_HALF_WIDTH_C = 3.0, 0.5
"""What usual weather stations may be off, where none states better."""


# Cables


def resistance(cable: Cable | None, rig: Rig) -> float | None:
    """Return what a cable and its contacts resist, in Ω; None where its length or its cross-section is not stated.

    Of no length, only its contacts do.

    Parameters
    ----------
    cable, rig
        The cable, and the rig whose warmest night it lies in; 20 °C where the plan names none.

    Returns
    -------
    float or None
        In Ω, there and back.
    """
    if cable is not None and cable.length_m == 0:
        return (cable.contact_mohm or 0.0) / 1000
    if cable is None or cable.length_m is None or cable.cross_section_mm2 is None:
        return None
    warm = rig.plan.ambient_c if rig.plan is not None and rig.plan.ambient_c is not None else 20.0
    return cable_resistance(cable.length_m, cable.cross_section_mm2, warm) + (cable.contact_mohm or 0.0) / 1000


@dataclass(frozen=True)
class CableSegment:
    """A cable on the way to a device: what is before it, what flows through it as a rule and at the most, in A.

    ``ohm`` is None where the cable is not described.
    """

    before: Supply
    ohm: float | None
    usual_a: float
    peak_a: float

    def drop_v(self, *, at_most: bool) -> float:
        """Return what the cable loses, in V; nothing while it is not described."""
        return (self.ohm or 0.0) * (self.peak_a if at_most else self.usual_a)


@dataclass(frozen=True)
class SupplyVoltage:
    """What arrives at a device, and by which cables, from the source or the converter next to it. Volts.

    ``undescribed`` are the supplies on the way whose own cable is not described: what arrives is at the best as much.
    """

    device: Device
    source: Supply
    segments: tuple[CableSegment, ...]
    undescribed: tuple[Supply, ...] = ()
    unknown: tuple[Device, ...] = ()
    """Devices on the same cables that state no current."""

    def volts(self, start_v: float, *, at_most: bool) -> float:
        """Return the voltage at the device from that of the source."""
        return start_v - fsum(segment.drop_v(at_most=at_most) for segment in self.segments)

    @property
    def is_at_best(self) -> bool:
        """Whether less may arrive than is counted."""
        return bool(self.undescribed or self.unknown)


@memoized_each
def supply_voltages(numbers: Numbers) -> Iterator[SupplyVoltage]:
    """Yield each device whose supply line is stated, cable by cable, from the device to the source.

    Yields
    ------
    Arrival
        A supply that another feeds takes what hangs on it through its own cable.
    """
    rig = numbers.rig
    supplies = {supply.id: supply for supply in rig.supplies}
    for device in rig.devices:
        power = device.power
        supply = supplies.get(power.supply or "") if power is not None else None
        if power is None or supply is None:
            continue
        ohm, draw = resistance(power.cable, rig), draw_of(device)
        if ohm is None or draw is None:
            continue
        segments, source = [CableSegment(supply, ohm, draw.usual_a, draw.peak_a)], supply
        undescribed: list[Supply] = []
        unknown: list[Device] = []
        while (fed_by := supplies.get(source.fed_by or "")) is not None and not is_converter(source, fed_by):
            own = resistance(source.cable, rig)
            if own is None:
                undescribed.append(source)
            through = list(draws_on(rig, source.id))
            unknown += unknown_on(rig, source.id)
            usual, peak = fsum(d.usual_a for d in through), fsum(d.peak_a for d in through)
            segments.append(CableSegment(fed_by, own, usual, peak))
            source = fed_by
        yield SupplyVoltage(
            device, source, tuple(segments), tuple(undescribed), tuple({own.id: own for own in unknown}.values())
        )


@rows
def supply_voltage_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield what arrives at each device, as a rule, at the most, and near the battery's end."""
    for way in supply_voltages(numbers):
        device, source = way.device, way.source
        if source.voltage_v is None:
            continue
        least = device.power.least_v if device.power is not None else None
        wish = Target(low=least) if least is not None else None
        for number_of, at_most in ((AT_REST, False), (AT_MOST, True)):
            quantity_value = QuantityValue(way.volts(source.voltage_v, at_most=at_most))
            unsure = way.is_at_best and wish is not None and wish.judge(quantity_value) is not Verdict.FAILS
            verdict = Verdict.UNPROVEN if unsure else None
            yield number_of.row(device.id, device.title, computed=quantity_value, target=wish, verdict=verdict)
        if source.end_v is not None:
            low = QuantityValue(way.volts(source.end_v, at_most=True))
            # Near its end a battery is still within its hours: what falls short there is doubtful, and said.
            end_wish = Target(inner_low=least) if least is not None else None
            unsure = way.is_at_best and end_wish is not None and end_wish.judge(low) is Verdict.HOLDS
            verdict = Verdict.UNPROVEN if unsure else None
            yield NEAR_END.row(device.id, device.title, computed=low, target=end_wish, verdict=verdict)


@dataclass(frozen=True)
class OutletLoad:
    """An outlet with what hangs on it, in A at the most; ``rated_a`` as the outlet states it."""

    supply: Supply
    name: str
    rated_a: float | None
    devices: tuple[Device, ...]

    @property
    def key(self) -> str:
        """Its name in row ids."""
        return f"{self.supply.id}.{self.name}"

    @property
    def peak_a(self) -> float:
        """What it gives at the most, in A."""
        draws = [draw_of(device) for device in self.devices]
        return fsum(draw.peak_a for draw in draws if draw is not None)


@memoized_each
def outlet_loads(numbers: Numbers) -> Iterator[OutletLoad]:
    """Yield every outlet that something hangs on.

    Yields
    ------
    OutletLoad
        Currents in A.
    """
    for supply in numbers.rig.supplies:
        for outlet in supply.outlets:
            hangs = tuple(
                device
                for device in numbers.rig.devices
                if device.power is not None and (device.power.supply, device.power.outlet) == (supply.id, outlet.name)
            )
            if hangs:
                yield OutletLoad(supply, outlet.name, outlet.rated_a, hangs)


@rows
def outlet_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield the highest current of each outlet that states what it may give."""
    for load in outlet_loads(numbers):
        if load.rated_a is not None:
            wish = Target(high=load.rated_a)
            title = f"{load.supply.title}, {load.name}"
            yield OUTLET.row(load.key, title, computed=QuantityValue(load.peak_a), target=wish)


def link_speed_mbit(numbers: Numbers, device: Device) -> tuple[float, str]:
    """Return the speed that a device's link is to have, in Mbit/s, and how that is known.

    Parameters
    ----------
    numbers, device
        The rig's numbers, and one of its devices.

    Returns
    -------
    tuple of float and str
        As the ports say, where they have been read and it is faster; else by what the device sends.
    """
    rate = device.number("data_rate_mb_s")
    speed, why = float(HIGH_SPEED_MBIT), "taken as 480 Mbit/s"
    if rate is not None and rate > NEEDS_FAST_MB_S:
        speed, why = 5000.0, f"it sends {rate:g} MB/s, more than 480 Mbit/s carry"
    bus = bus_of(numbers)
    for match in bus.matches if bus is not None else []:
        if match.device.id == device.id and match.usb is not None and (match.usb.speed_mbit or 0) > speed:
            speed, why = 5000.0, f"its link runs at {match.usb.speed_mbit:g} Mbit/s"
    return speed, why


@rows
def cable_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield the length of each USB cable, beside what its speed allows without a repeater."""
    for device in numbers.rig.devices:
        link = device.connection
        if link is None or link.kind != "usb" or link.cable_m is None:
            continue
        limit = math.inf if link.repeater else CABLE_LIMITS_M[link_speed_mbit(numbers, device)[0]]
        yield CABLE.row(device.id, device.title, stated=QuantityValue(link.cable_m), target=Target(high=limit))


# The mount


@dataclass(frozen=True)
class Payload:
    """What the mount carries, in kg, with what states no mass."""

    known_kg: float
    missing: tuple[str, ...]


def payload_of(rig: Rig) -> Payload:
    """Return the mass of all that rides on the mount, cameras on.

    Returns
    -------
    Payload
        In kg: telescopes, train, guide path.
    """
    telescopes = [rig.telescope, *([rig.guiding.telescope] if rig.guiding.telescope is not None else [])]
    parts: list[Telescope | Part] = [*telescopes, *rig.train, *rig.guiding.path]
    known = fsum(part.mass_g or 0.0 for part in parts) / 1000
    return Payload(known, tuple(part.title for part in parts if part.mass_g is None))


@rows
def payload_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield what the mount carries of its rating; open where a part states no mass."""
    mount = numbers.rig.mount
    if mount is None or mount.payload_rating_kg is None:
        return
    carried, rating = payload_of(numbers.rig), mount.payload_rating_kg
    wish = Target(high=rating, inner_high=PAYLOAD_INNER_SHARE * rating)
    load = QuantityValue(carried.known_kg)
    unknown = bool(carried.missing) and wish.judge(load) is not Verdict.FAILS
    yield PAYLOAD.row("mount", "Mount", computed=load, target=wish, verdict=Verdict.UNPROVEN if unknown else None)


# Dew


@rows
def dew_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield each station's dew point, told and by its own air, and how far above it the optics stay."""
    for device in numbers.rig.devices:
        if device.kind != "weather":
            continue
        air, humidity, entries = device.best("air_c"), device.best("humidity_percent"), device.number("dew_point_c")
        found = device.measured("dew_point_c")
        computed_now = _dew_value(air, humidity) if air is not None and humidity else None
        stated = None if entries is None else QuantityValue(entries, tolerance=1.0)
        other = (
            None if found is None else QuantityValue(found.value, found.standard_uncertainty, source=found.source or "")
        )
        best = other or computed_now or stated
        if best is None:
            continue
        yield DEW_POINT.row(device.id, device.title, stated=stated, computed=computed_now, measured=other)
        if air is not None:
            margin = QuantityValue(air - GLASS_BELOW_AIR_C + warmed_c(numbers.rig) - best.value, best.uncertainty)
            wish = Target(low=0.0, inner_low=DEW_WANTED_C)
            yield DEW_MARGIN.row(device.id, device.title, computed=margin, target=wish)


def warmed_c(rig: Rig) -> float:
    """Return by how much the heaters keep the optics above the air, in °C: the weakest that says so, else nothing.

    Returns
    -------
    float
        In °C.
    """
    entries = [d.best("warms_c") for d in rig.devices if d.kind == "dew_heater"]
    return min((value for value in entries if value is not None), default=0.0)


def _dew_value(air_c: float, humidity_percent: float) -> QuantityValue:
    value = dew_point(air_c, humidity_percent)
    by_air = dew_point(air_c + AIR_HALF_WIDTH_C, humidity_percent) - value
    wet = min(humidity_percent + HUMIDITY_HALF_WIDTH_PERCENT, 100.0)
    by_water = value - dew_point(air_c, max(2 * humidity_percent - wet, humidity_percent / 2))
    return QuantityValue(value, math.hypot(rectangular(by_air), rectangular(by_water)))

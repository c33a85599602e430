"""What the night takes and what there is of it: hours, room on the disks, current, and hours of a battery."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from math import fsum

from wyntaxis.core.ledger import Quantity, QuantityValue, Target, Verdict
from wyntaxis.core.limits import USABLE_SHARE
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantities.rows import DeviceQuantity, memoized, memoized_each, rows
from wyntaxis.core.rig.devices import Device, Storage, Supply
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.plan import Plan
from wyntaxis.core.steps import DEVICES, READY

SUPPLY_RESERVE = 0.2
"""Of a supply's rated current, kept free."""
BATTERY_RESERVE = 1.2
SPACE_RESERVE = 1.1
"""Headers, restarts and test frames on top of the planned ones."""
ROOMY = 1.5
"""With this many times the room that the night takes, nobody has to think of it."""
BYTES_PER_GB = 1e9
NIGHT_PERCENT, NIGHT_FULL_PERCENT = 90.0, 105.0
"""Frames that take more of the night than the first leave it open whether focusing, dithers and the flip find time;
more than the second (hours are stated rounded) cannot fit.
"""

PLAN = "plan"
NIGHT_USED = DeviceQuantity("night_used_percent", "Share of the night for the frames", "%", 0, READY)
FREE = DeviceQuantity("free_gb", "Free space", "GB", 1, DEVICES)
CURRENT = DeviceQuantity("peak_a", "Highest current", "A", 2, DEVICES)
BATTERY = DeviceQuantity("battery_h", "Run time", "h", 1, DEVICES)


def imaging_hours(plan: Plan) -> float:
    """Return the hours that the planned frames take, one frame where their number is not stated.

    Parameters
    ----------
    plan
        The plan of the night.

    Returns
    -------
    float
        In h.
    """
    longest = max(plan.exposure_s, plan.longest_exposure_s or 0.0)
    return (longest if plan.frames is None else plan.frames * plan.exposure_s) / 3600


@rows
def night_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield the share of the night that the planned frames take."""
    plan = numbers.rig.plan
    if plan is None or plan.hours is None:
        return
    used = QuantityValue(100 * imaging_hours(plan) / plan.hours)
    wish = Target(high=NIGHT_FULL_PERCENT, inner_high=NIGHT_PERCENT)
    # A night that the frames nearly fill is open: nobody knows what focusing and dithers will take.
    open_still = Verdict.UNPROVEN if wish.judge(used) is Verdict.TIGHT else None
    yield NIGHT_USED.row(PLAN, "Plan", computed=used, target=wish, verdict=open_still)


# Room


@dataclass(frozen=True)
class Room:
    """A place for images, with its free space and what the night takes, in GB."""

    id: str
    device: Device
    storage: Storage
    free_gb: float
    wanted_gb: float


def night_gb(numbers: Numbers) -> float | None:
    """Return what the planned frames take, in GB (10⁹ bytes), with a reserve; None without a sensor or a number.

    Returns
    -------
    float or None
        In GB (10⁹ bytes).
    """
    plan, sensor = numbers.rig.plan, numbers.rig.sensor
    if plan is None or plan.frames is None or sensor is None:
        return None
    from wyntaxis.core.evidence.ports.match import frame_bytes

    return plan.frames * frame_bytes(sensor, sensor.binning) * SPACE_RESERVE / BYTES_PER_GB


@memoized_each
def rooms(numbers: Numbers) -> Iterator[Room]:
    """Yield every place for images whose free space is stated, against what the night takes.

    Yields
    ------
    Room
        Free and wanted space, in GB.
    """
    needed = night_gb(numbers)
    for device in numbers.rig.devices:
        for place, storage in enumerate(device.storage, start=1):
            if storage.free_gb is not None and needed is not None:
                yield Room(f"{device.id}.storage{place}", device, storage, storage.free_gb, needed)


@rows
def room_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield the free space of every place for images."""
    for room in rooms(numbers):
        wish = Target(low=room.wanted_gb, inner_low=ROOMY * room.wanted_gb)
        yield FREE.row(room.id, room.storage.name, stated=QuantityValue(room.free_gb), target=wish)


# Power


@dataclass(frozen=True)
class Draw:
    """What a device draws from its supply: usually, and at the most, in A."""

    device: Device
    usual_a: float
    peak_a: float


@dataclass(frozen=True)
class Fed:
    """A supply and what hangs on it, also by supplies that it feeds; ``unknown`` are the devices that state no current.

    Currents are those that flow from this supply, in A.
    """

    supply: Supply
    draws: tuple[Draw, ...]
    unknown: tuple[Device, ...] = ()

    @property
    def usual_a(self) -> float:
        """What all of it draws as a rule, in A."""
        return fsum(draw.usual_a for draw in self.draws)

    @property
    def peak_a(self) -> float:
        """What all of it draws at the most, in A."""
        return fsum(draw.peak_a for draw in self.draws)

    @property
    def allowed_a(self) -> float | None:
        """The rated current less its reserve, in A."""
        return None if self.supply.rated_a is None else self.supply.rated_a * (1 - SUPPLY_RESERVE)

    @property
    def usable_share(self) -> float:
        """The share of a battery's capacity that may be drawn."""

        return self.supply.usable_share or USABLE_SHARE

    @property
    def hours(self) -> float | None:
        """How long a battery lasts, in h: capacity × usable share / usual current."""
        capacity = self.supply.capacity_ah
        return None if capacity is None or self.usual_a <= 0 else capacity * self.usable_share / self.usual_a


@memoized
def fed(numbers: Numbers) -> list[Fed]:
    """Return every supply with the devices that state what they draw from it.

    Returns
    -------
    list[Fed]
        Currents in A.
    """
    return [
        Fed(supply, tuple(draws_on(numbers.rig, supply.id)), tuple(unknown_on(numbers.rig, supply.id)))
        for supply in numbers.rig.supplies
    ]


def draw_of(device: Device) -> Draw | None:
    """Return what a device draws; one current stands for the other where only one is stated.

    Parameters
    ----------
    device
        A device.

    Returns
    -------
    Draw or None
        Currents in A; None where neither is stated.
    """
    from wyntaxis.core.rehearsal.power import currents_of

    currents = currents_of(device)
    return None if currents is None else Draw(device, *currents)


def draws_on(rig: Rig, supply_id: str) -> Iterator[Draw]:
    """Yield what devices draw from a supply, and from the supplies that it feeds.

    Parameters
    ----------
    rig, supply_id
        The rig, and one of its supplies.

    Yields
    ------
    Draw
        Currents in A, as they flow from this supply: behind a converter as many as take the same watts.
    """
    from wyntaxis.core.rehearsal.power import taken_from_above

    own = next((supply for supply in rig.supplies if supply.id == supply_id), None)
    for device in rig.devices:
        draw = draw_of(device)
        if draw is not None and device.power is not None and device.power.supply == supply_id:
            yield draw
    for supply in rig.supplies:  # the document has no ring of them
        if supply.fed_by == supply_id and own is not None:
            factor = taken_from_above(supply, own)
            for draw in draws_on(rig, supply.id):
                yield Draw(draw.device, draw.usual_a * factor, draw.peak_a * factor)


def unknown_on(rig: Rig, supply_id: str) -> Iterator[Device]:
    """Yield the devices on a supply, and on those that it feeds, that state no current.

    Parameters
    ----------
    rig, supply_id
        The rig, and one of its supplies.

    Yields
    ------
    Device
        In their order.
    """
    for device in rig.devices:
        if device.power is not None and device.power.supply == supply_id and draw_of(device) is None:
            yield device
    for supply in rig.supplies:
        if supply.fed_by == supply_id:
            yield from unknown_on(rig, supply.id)


@rows
def supply_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield the highest current of every supply, and how long each battery lasts."""
    night = numbers.rig.plan.hours if numbers.rig.plan is not None else None
    for entry in fed(numbers):
        supply = entry.supply
        if supply.rated_a is not None and entry.draws:
            wish = Target(high=supply.rated_a, inner_high=entry.allowed_a or 0.0)
            flows = QuantityValue(entry.peak_a)
            yield CURRENT.row(
                supply.id, supply.title, computed=flows, target=wish, verdict=_at_best(entry, wish, flows)
            )
        if entry.hours is not None:
            lasts = Target(low=night, inner_low=BATTERY_RESERVE * night) if night is not None else None
            hours = QuantityValue(entry.hours)
            verdict = _at_best(entry, lasts, hours) if lasts is not None else None
            yield BATTERY.row(supply.id, supply.title, computed=hours, target=lasts, verdict=verdict)


def _at_best(entry: Fed, wish: Target, quantity_value: QuantityValue) -> Verdict | None:
    """Return that nothing is verified where a device states no current, unless what is known fails already."""
    return Verdict.UNPROVEN if entry.unknown and wish.judge(quantity_value) is not Verdict.FAILS else None

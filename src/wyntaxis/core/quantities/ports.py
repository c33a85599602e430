"""What the links of the bus carry, feed and buffer, against what the rig's devices ask of them.

Sources: USB 2.0, 7.2.1, and USB 3.2, 11.4.5, for the current of a port; the kernel's ``usbcore.usbfs_memory_mb``.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

from wyntaxis.core.ledger import Quantity, QuantityValue, Target
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantities.rows import DeviceQuantity, memoized, rows
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.steps import PORTS

if TYPE_CHECKING:
    from wyntaxis.core.evidence.ports.match import Match
    from wyntaxis.core.evidence.ports.tree import PortTree, UsbDevice

FULL_SPEED_MBIT, HIGH_SPEED_MBIT = 12, 480
FASTER_MBIT = HIGH_SPEED_MBIT + 1
CARRIES_MB_S = {1.5: 0.1, 12.0: 1.0, 480.0: 40.0, 5000.0: 400.0, 10000.0: 900.0, 20000.0: 1800.0}
"""What bulk transfers carry in practice, by the link's Mbit/s: some 80 % of what the protocol leaves."""
PORT_MA = {True: 900, False: 500}
"""Current of one port, by whether it is faster than 480 Mbit/s."""
BUS_POWERED_MA = 400
"""What a hub without a supply of its own has left for all its ports together."""
FRAMES_BUFFERED = 2
TRAFFIC_COMFORT = 0.9
"""Of what a link carries, what cameras may ask for without a doubt."""

LINK = DeviceQuantity("link_mbit", "Link speed", "Mbit/s", 0, PORTS)
TRAFFIC = DeviceQuantity("traffic_mb_s", "Cameras' traffic", "MB/s", 1, PORTS)
FEEDS = DeviceQuantity("feeds_ma", "Current drawn", "mA", 0, PORTS)
USB_MEMORY = DeviceQuantity("usbfs_memory_mb", "USB memory", "MB", 0, PORTS)
KERNEL = "kernel"
"""What the number of the whole computer is a number of."""


@dataclass(frozen=True)
class Bus:
    """The rig, the ports that were read, and which device is which."""

    rig: Rig
    tree: PortTree
    matches: list[Match]
    """What of the rig is on the bus."""
    cameras: list[tuple[Match, UsbDevice]]
    """The cameras that are on the bus."""
    ours: dict[str, Device]
    """The rig's devices by their name on the bus."""


@memoized
def bus_of(numbers: Numbers) -> Bus | None:
    """Return the rig beside the ports, None where they have not been read.

    Returns
    -------
    Bus or None
        The two together.
    """
    if numbers.ports is None:
        return None
    from wyntaxis.core.evidence.ports.match import is_camera, match_devices

    matches = match_devices(numbers.rig, numbers.ports)
    cameras = [(match, match.usb) for match in matches if match.usb is not None and is_camera(match.device)]
    ours = {match.usb.name: match.device for match in matches if match.usb is not None}
    return Bus(numbers.rig, numbers.ports, matches, cameras, ours)


# The link of each camera


def made_for_mbit(usb: UsbDevice) -> float:
    """Return the link that a camera has at the least, by the USB version that it tells: 12 or 480 Mbit/s.

    Parameters
    ----------
    usb
        A device of the bus.

    Returns
    -------
    float
        In Mbit/s.
    """
    return FULL_SPEED_MBIT if usb.version is not None and usb.version < 2.0 else HIGH_SPEED_MBIT


def is_slow_by_make(usb: UsbDevice) -> bool:
    """Return whether a device itself has no faster link than 480 Mbit/s; a USB 3 device on a slow link says 2.10.

    Parameters
    ----------
    usb
        A device of the bus.

    Returns
    -------
    bool
        Whether it is.
    """
    return usb.version is not None and usb.version < 2.1


def _wanted_link(match: Match, usb: UsbDevice) -> Target:
    """Return what is wanted of a camera's link: all that it is made for; a guide camera needs no more than 480."""
    least, fast = made_for_mbit(usb), FASTER_MBIT
    guide = match.device.kind == "guide_camera"
    if guide and (is_slow_by_make(usb) or usb.version is None):
        return Target(low=least)
    if guide or is_slow_by_make(usb):
        return Target(low=least, inner_low=fast)
    return Target(low=max(least, fast))


# Traffic


@dataclass(frozen=True)
class Load:
    """What the cameras below one hub ask of its link, in MB/s each, and what the link carries."""

    hub: UsbDevice
    asked: tuple[tuple[Device, float], ...]
    carries_mb_s: float

    @property
    def total_mb_s(self) -> float:
        """What all of them ask for together, in MB/s."""
        return math.fsum(rate for _, rate in self.asked)

    @property
    def wanted_share(self) -> float:
        """The share of what they ask for that the link carries with comfort."""
        return self.carries_mb_s * TRAFFIC_COMFORT / self.total_mb_s if self.total_mb_s else 1.0


def _is_narrowest(tree: PortTree, usb: UsbDevice) -> bool:
    """Return whether a device's own link is slower than every hub before it."""
    before = [hub.speed_mbit for hub in tree.chain(usb) if hub.speed_mbit is not None]
    return usb.speed_mbit is not None and all(usb.speed_mbit < speed for speed in before)


def traffic_loads(bus: Bus) -> list[Load]:
    """Return one load for each set of cameras: at the narrowest link that they share, the nearest of equal ones.

    Parameters
    ----------
    bus
        The rig and the ports. A camera's own link counts too: it may be slower than every hub before it.

    Returns
    -------
    list of Load
        Rates in MB/s: the data rate times the camera's traffic limit.
    """
    found: dict[tuple[str, ...], Load] = {}
    own = {usb.name for _, usb in bus.cameras if _is_narrowest(bus.tree, usb)}
    for hub in bus.tree.devices:
        known = [speed for speed in CARRIES_MB_S if hub.speed_mbit is not None and speed <= hub.speed_mbit]
        if not (hub.is_hub or hub.name in own) or not known:
            continue
        asked = []
        for match, usb in bus.cameras:
            rate, limit = match.device.number("data_rate_mb_s"), match.device.number("traffic_percent")
            if rate is not None and (hub in bus.tree.chain(usb) or hub.name == usb.name):
                asked.append((match.device, rate * (100.0 if limit is None else limit) / 100))
        load = Load(hub, tuple(asked), CARRIES_MB_S[max(known)])
        key = tuple(device.id for device, _ in asked)
        if asked and (key not in found or load.carries_mb_s <= found[key].carries_mb_s):
            found[key] = load
    return list(found.values())


# Current


@dataclass(frozen=True)
class HubFeed:
    """What hangs on a hub without a supply of its own, and what the hub can give, in mA; ``known`` are the rig's."""

    hub: UsbDevice
    below: tuple[UsbDevice, ...]
    known: tuple[Device, ...]

    @property
    def is_starved(self) -> bool:
        """Whether the hub lives on what one port gives it."""
        return self.hub.self_powered is False and not self.hub.is_root

    @property
    def port_ma(self) -> int:
        """What one of its ports gives, in mA."""
        return PORT_MA[(self.hub.speed_mbit or 0) > HIGH_SPEED_MBIT]

    @property
    def budget_ma(self) -> int:
        """What it can give in all, in mA."""
        return BUS_POWERED_MA if self.is_starved else self.port_ma * max(self.hub.ports, len(self.below))

    @property
    def total_ma(self) -> int:
        """What is asked of it, in mA."""
        return sum(usb.max_power_ma or 0 for usb in self.below)


def hub_feeds(bus: Bus) -> Iterator[HubFeed]:
    """Yield every hub that feeds a device of the rig, with all that it feeds.

    Parameters
    ----------
    bus
        The rig and the ports.

    Yields
    ------
    HubFeed
        Currents in mA.
    """
    for hub in bus.tree.devices if bus.ours else ():
        if not hub.is_hub:
            continue
        below = tuple(usb for usb in bus.tree.below(hub) if usb.max_power_ma and not usb.self_powered)
        known = tuple(bus.ours[usb.name] for usb in below if usb.name in bus.ours)
        if known:
            yield HubFeed(hub, below, known)


# Memory


@dataclass(frozen=True)
class UsbMemory:
    """What the kernel keeps for USB, and the size of each camera's frame, in MB (2²⁰ bytes)."""

    has_mb: float
    frames: tuple[tuple[Device, float], ...]

    @property
    def largest_mb(self) -> float:
        """The largest frame, in MB."""
        return max(size for _, size in self.frames)

    @property
    def wanted_mb(self) -> float:
        """Room for some frames of each camera, in MB."""
        return FRAMES_BUFFERED * sum(size for _, size in self.frames)


def usb_memory(bus: Bus) -> UsbMemory | None:
    """Return the kernel's USB memory beside the cameras' frames; None where either is not known.

    Parameters
    ----------
    bus
        The rig and the ports.

    Returns
    -------
    UsbMemory or None
        In MB (2²⁰ bytes).
    """
    from wyntaxis.core.evidence.ports.match import frame_bytes, sensor_of

    if bus.tree.usbfs_memory_mb is None:
        return None
    sizes = []
    for match, _ in bus.cameras:
        sensor = sensor_of(bus.rig, match.device)
        if sensor is not None:
            sizes.append((match.device, frame_bytes(sensor) / (1 << 20)))
    return UsbMemory(bus.tree.usbfs_memory_mb, tuple(sizes)) if sizes else None


@rows
def port_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield each camera's link, each shared link's traffic, each hub's current, and the kernel's USB memory."""
    bus = bus_of(numbers)
    if bus is None:
        return
    for match, usb in bus.cameras:
        if usb.speed_mbit is not None:
            device, link = match.device, QuantityValue(usb.speed_mbit, source=usb.name)
            yield LINK.row(device.id, device.title, measured=link, target=_wanted_link(match, usb))
    for load in traffic_loads(bus):
        wish = Target(high=load.carries_mb_s, inner_high=TRAFFIC_COMFORT * load.carries_mb_s)
        yield TRAFFIC.row(load.hub.name, load.hub.name, computed=QuantityValue(load.total_mb_s), target=wish)
    for feed in hub_feeds(bus):
        total = QuantityValue(feed.total_ma)
        yield FEEDS.row(feed.hub.name, feed.hub.title, computed=total, target=Target(high=feed.budget_ma))
    memory = usb_memory(bus)
    if memory is not None:
        # Zero sets no limit.
        room = Target(low=memory.largest_mb, inner_low=memory.wanted_mb) if memory.has_mb else Target()
        yield USB_MEMORY.row(KERNEL, "Kernel", measured=QuantityValue(memory.has_mb), target=room)

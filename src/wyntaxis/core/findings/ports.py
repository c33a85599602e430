"""What the kernel's tree of ports says of the rig's devices. Nothing is changed: each remedy is a text to copy."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from typing import TYPE_CHECKING

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantities.ports import (
    FEEDS,
    FRAMES_BUFFERED,
    HIGH_SPEED_MBIT,
    KERNEL,
    LINK,
    TRAFFIC,
    USB_MEMORY,
    bus_of,
    hub_feeds,
    is_slow_by_make,
    traffic_loads,
    usb_memory,
)
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.steps import PORTS
from wyntaxis.core.wording import number, short

if TYPE_CHECKING:
    from wyntaxis.core.evidence.ports.tree import PortTree, UsbDevice

MAX_EQUAL_NAMED = 12
_NUMBERED = re.compile(r"(/dev/)?tty(USB|ACM)[0-9]+")
_SOURCE = "Kernel ABI, sysfs-bus-usb"


def suspend_rule(usb: UsbDevice) -> str:
    """Return the udev rule that keeps a device awake."""
    return (
        f'ACTION=="add", SUBSYSTEM=="usb", ATTR{{idVendor}}=="{usb.vendor}", ATTR{{idProduct}}=="{usb.product}", '
        'TEST=="power/control", ATTR{power/control}="on"'
    )


def access_rule(usb: UsbDevice) -> str:
    """Return the udev rule that lets the user at the screen use a device."""
    return f'SUBSYSTEM=="usb", ATTR{{idVendor}}=="{usb.vendor}", ATTR{{idProduct}}=="{usb.product}", TAG+="uaccess"'


def _rule_remedy(rule: str) -> Remedy:
    return Remedy(f"put this line into /etc/udev/rules.d/70-rig.rules, then plug the device in again:\n{rule}")


@finding("ports.present", step=PORTS, condition=conditions.PRESENT, after="dew.point")
def present(evaluation: Evaluation) -> Iterator[Finding]:
    """Is each device of the rig on the bus?"""
    bus = bus_of(evaluation)
    for match in bus.matches if bus else []:
        device, usb = match.device, match.usb
        identity = device.identity
        wanted = f"{identity.usb_id} {identity.serial_number or ''}".strip() if identity else ""
        other = f"; {len(match.alike)} of the same kind with another serial number" if match.alike and not usb else ""
        yield Finding(
            "ports.present",
            Verdict.HOLDS if usb else Verdict.FAILS,
            device.id,
            f"{device.title} is on the bus" if usb else f"{device.title} is not on the bus: asleep, unplugged or unfed",
            (f"wanted: {wanted}", f"found: {usb.name} {usb.title}" if usb else f"found: nothing{other}"),
            NO_REMEDY if usb else Remedy("look at its power and its cable, plug it in again, and read the ports anew"),
            _SOURCE,
        )
    for device in evaluation.rig.devices if bus else ():
        link, identity = device.connection, device.identity
        if link is not None and link.kind == "usb" and (identity is None or identity.usb_id is None):
            yield Finding(
                "ports.present",
                Verdict.UNPROVEN,
                device.id,
                f"{device.title} is on USB, but its vendor:product is not stated",
                (),
                Remedy("enter its vendor:product on the Devices sheet, as the tree shows it"),
                _SOURCE,
            )


@finding("ports.suspend", step=PORTS, condition=conditions.AWAKE, after="ports.present")
def suspend(evaluation: Evaluation) -> Iterator[Finding]:
    """May the kernel put a device to sleep?"""
    bus = bus_of(evaluation)
    for match in bus.matches if bus else []:
        usb = match.usb
        if usb is None or usb.control is None:
            continue
        sleeps = usb.control != "on"
        status = f", now {usb.status}" if usb.status else ""
        yield Finding(
            "ports.suspend",
            Verdict.FAILS if sleeps else Verdict.HOLDS,
            match.device.id,
            f"{match.device.title} may be put to sleep, and drop off"
            if sleeps
            else f"{match.device.title} stays awake",
            (f"{usb.name}/power/control = {usb.control}{status}",),
            _rule_remedy(suspend_rule(usb)) if sleeps else NO_REMEDY,
            f"{_SOURCE}; power/control: auto lets the kernel suspend a device",
        )


@finding("ports.speed", step=PORTS, condition=conditions.USB, after="ports.suspend")
def speed(evaluation: Evaluation) -> Iterator[Finding]:
    """Has each camera the link that it is made for?"""
    bus = bus_of(evaluation)
    for match, usb in bus.cameras if bus else []:
        if usb.speed_mbit is None:
            continue
        row, own = evaluation.rows[LINK.id_of(match.device.id)], is_slow_by_make(usb)
        verdict = row.verdict
        chain = [hub for hub in bus.tree.chain(usb) if hub.speed_mbit] if bus else []
        narrow = next((hub for hub in chain if (hub.speed_mbit or 0) <= HIGH_SPEED_MBIT), None)
        made = f", made for USB {short(usb.version)}" if usb.version else ""
        yield Finding(
            "ports.speed",
            verdict,
            match.device.id,
            f"{match.device.title} runs at {short(usb.speed_mbit)} Mbit/s"
            + (" on a link that is too slow for it" if verdict is Verdict.FAILS else ""),
            (
                f"{usb.name}: {short(usb.speed_mbit)} Mbit/s{made}",
                *(f"through {hub.name} {hub.title}: {short(hub.speed_mbit or 0)} Mbit/s" for hub in chain),
            ),
            NO_REMEDY
            if verdict is Verdict.HOLDS
            else Remedy("the camera itself has no faster link: lower its traffic limit, and give it a port of its own")
            if own and verdict is Verdict.TIGHT
            else Remedy("it fell back to a slower link than its own: try another cable, then another port or hub")
            if own
            else Remedy(
                "plug it into a 5000 Mbit/s port"
                + (f", not behind {narrow.title}" if narrow and not narrow.is_root else "")
                + ", with a cable made for that speed"
            ),
            _SOURCE,
            (row.id,),
        )


@finding("ports.hub", step=PORTS, condition=conditions.USB, after="ports.speed")
def shared_hub(evaluation: Evaluation) -> Iterator[Finding]:
    """Do several cameras share one slow hub?"""
    bus = bus_of(evaluation)
    if bus is None or len(bus.cameras) < 2:
        return
    entries = False
    for hub in bus.tree.devices:
        if not hub.is_hub or hub.is_root or (hub.speed_mbit or HIGH_SPEED_MBIT) > HIGH_SPEED_MBIT:
            continue
        behind = [match.device.title for match, usb in bus.cameras if hub in bus.tree.chain(usb)]
        if len(behind) > 1:
            entries = True
            yield Finding(
                "ports.hub",
                Verdict.FAILS,
                bus.cameras[0][0].device.id,
                f"{' and '.join(behind)} share {hub.title}, a {short(hub.speed_mbit or HIGH_SPEED_MBIT)} Mbit/s hub",
                (f"{hub.name}: {', '.join(behind)}",),
                Remedy("give one of the cameras a port of its own on the computer, or use a 5000 Mbit/s hub"),
                _SOURCE,
            )
    if not entries:
        title = f"No slow hub is shared by the {len(bus.cameras)} cameras"
        subject = bus.cameras[0][0].device.id
        lines = tuple(f"{match.device.title}: {usb.name}" for match, usb in bus.cameras)
        yield Finding("ports.hub", Verdict.HOLDS, subject, title, lines, NO_REMEDY, _SOURCE)


@finding("ports.traffic", step=PORTS, condition=conditions.USB, after="ports.cable")
def traffic(evaluation: Evaluation) -> Iterator[Finding]:
    """Do the cameras on one link ask for no more than it carries?"""
    bus = bus_of(evaluation)
    for load in traffic_loads(bus) if bus else []:
        total, carries, hub = load.total_mb_s, load.carries_mb_s, load.hub
        first, row = load.asked[0][0], evaluation.rows[TRAFFIC.id_of(hub.name)]
        percent = 100 * load.wanted_share
        places = {device.id: index for index, device in enumerate(evaluation.rig.devices)}
        limits = tuple(
            (
                ("devices", places[device.id], "settings", "traffic_percent", "value"),
                float(max(1, int((device.number("traffic_percent") or 100.0) * percent / 100))),
            )
            for device, _ in load.asked
        )
        change = Change("Limit the cameras' traffic", limits)
        yield Finding(
            "ports.traffic",
            row.verdict,
            first.id,
            f"The cameras on {hub.name} ask for {number(total, 0)} MB/s of {number(carries, 0)} MB/s",
            (
                *(
                    f"{device.title}: {short(device.number('data_rate_mb_s') or 0)} MB/s × "
                    f"{short(device.number('traffic_percent') or 100)} % = {number(rate, 1)} MB/s"
                    for device, rate in load.asked
                ),
                f"{hub.name}: {short(hub.speed_mbit or 0)} Mbit/s carries some {number(carries, 0)} MB/s",
            ),
            NO_REMEDY
            if row.verdict is Verdict.HOLDS
            else Remedy(
                f"limit the traffic of each to {number(percent, 0)} % of what is set, or use a faster port", change
            ),
            f"{_SOURCE}; bulk transfers carry some 80 % of the protocol's limit",
            (row.id,),
        )


@finding("ports.power", step=PORTS, condition=conditions.USB, after="ports.traffic")
def hub_power(evaluation: Evaluation) -> Iterator[Finding]:
    """Can each hub feed what hangs on it?"""
    bus = bus_of(evaluation)
    if bus is None:
        return
    for feed in hub_feeds(bus):
        row = evaluation.rows[FEEDS.id_of(feed.hub.name)]
        yield Finding(
            "ports.power",
            row.verdict,
            feed.known[0].id,
            f"{feed.hub.title} feeds {feed.total_ma} mA of {feed.budget_ma} mA",
            (
                *(f"{usb.name} {usb.title}: {usb.max_power_ma} mA" for usb in feed.below),
                "the hub has no supply of its own" if feed.is_starved else f"{feed.port_ma} mA a port",
            ),
            NO_REMEDY
            if row.verdict is Verdict.HOLDS
            else Remedy("use a hub with a supply of its own, or spread the devices"),
            "USB 2.0, 7.2.1; USB 3.2, 11.4.5: current of a port",
            (row.id,),
        )


@finding("ports.usbfs_memory", step=PORTS, condition=conditions.USB, after="ports.power")
def usbfs_memory(evaluation: Evaluation) -> Iterator[Finding]:
    """Has the kernel's USB memory room for the frames?"""
    bus = bus_of(evaluation)
    memory = usb_memory(bus) if bus is not None else None
    if memory is None:
        return
    row, has, wanted = evaluation.rows[USB_MEMORY.id_of(KERNEL)], memory.has_mb, memory.wanted_mb
    suggestion = 1 << max(8, int(wanted).bit_length())
    yield Finding(
        "ports.usbfs_memory",
        row.verdict,
        memory.frames[0][0].id,
        f"The kernel keeps {has} MB for USB; the cameras' frames want {number(wanted, 0)} MB"
        if has
        else "The kernel sets no limit on USB memory",
        (
            *(f"{device.title}: a frame has {number(size, 1)} MB" for device, size in memory.frames),
            f"{FRAMES_BUFFERED} frames of each: {number(wanted, 0)} MB; usbfs_memory_mb = {has}",
        ),
        NO_REMEDY
        if row.verdict is Verdict.HOLDS
        else Remedy(
            f"at once, until the next start:\necho {suggestion} | sudo tee "
            "/sys/module/usbcore/parameters/usbfs_memory_mb\n"
            f"for good, as a kernel parameter:\nusbcore.usbfs_memory_mb={suggestion}"
        ),
        "Kernel parameters: usbcore.usbfs_memory_mb, 16 by default",
        (row.id,),
    )


@finding("ports.serial_name", step=PORTS, condition=conditions.CONNECTIONS, after="ports.usbfs_memory")
def serial_name(evaluation: Evaluation) -> Iterator[Finding]:
    """Is each serial port named by its stable name, and is it there?"""
    tree = evaluation.ports
    for index, device in enumerate(evaluation.rig.devices):
        port = device.connection.port if device.connection else None
        if port is None or not (_NUMBERED.fullmatch(port) or "serial/by-id" in port):
            continue
        name = port.rpartition("/")[2]
        numbered = bool(_NUMBERED.fullmatch(port))
        now = next((s for s in tree.serial if name in (s.name, s.by_id)), None) if tree else None
        stable = f"/dev/serial/by-id/{now.by_id}" if now is not None and now.by_id else None
        lines = [f"port: {port}"]
        if now is not None:
            lines.append(f"now: {now.name}" + (f", {stable}" if stable else ", no stable name"))
        change = Change.of("Use the stable name", ("devices", index, "connection", "port"), stable) if stable else None
        if tree is not None and now is None:
            verdict, words = Verdict.FAILS, f"{port} is not there now"
            remedy = Remedy("plug it in, or choose the port that it has now: " + _ports_now(tree))
        elif numbered:
            verdict, words = Verdict.FAILS, f"{port} is a number that may change at the next start"
            remedy = Remedy(f"use {stable or 'its name under /dev/serial/by-id'}", change)
        else:
            verdict, words, remedy = Verdict.HOLDS, "its port has a stable name", NO_REMEDY
        yield Finding(
            "ports.serial_name",
            verdict,
            device.id,
            f"{device.title}: {words}",
            tuple(lines),
            remedy,
            "Numbers of ttyUSB and ttyACM follow the order of plugging in; names under dev/serial/by-id do not",
        )


def _ports_now(tree: PortTree) -> str:
    return ", ".join(port.by_id or port.name for port in tree.serial) or "there is no serial port at all"


@finding("ports.identity", step=PORTS, condition=conditions.ONE_ENTRY, after="ports.serial_name")
def identity(evaluation: Evaluation) -> Iterator[Finding]:
    """Can two devices on the bus not be told apart?"""
    bus = bus_of(evaluation)
    if bus is None:
        return
    ours = {match.device.identity.usb_id: match.device for match in bus.matches if match.device.identity}
    alike: dict[tuple[str, str | None], list[UsbDevice]] = {}
    for usb in bus.tree.devices:
        if not usb.is_hub and usb.usb_id in ours:
            alike.setdefault((usb.usb_id, usb.serial_number), []).append(usb)
    for (usb_id, serial), devices in alike.items():
        if len(devices) < 2:
            continue
        count = "Two" if len(devices) == 2 else str(len(devices))
        more = (f"and {len(devices) - MAX_EQUAL_NAMED} more",) if len(devices) > MAX_EQUAL_NAMED else ()
        yield Finding(
            "ports.identity",
            Verdict.FAILS,
            ours[usb_id].id,
            f"{count} devices on the bus are {usb_id} {serial or 'without a serial number'}",
            (*(f"{usb.name} {usb.title}" for usb in devices[:MAX_EQUAL_NAMED]), *more),
            Remedy("tell them apart by their place: keep each in its own port, and name the port in the program"),
            _SOURCE,
        )


@finding("ports.permission", step=PORTS, condition=conditions.CONNECTIONS, after="ports.identity")
def permission(evaluation: Evaluation) -> Iterator[Finding]:
    """May the user open each device's node?"""
    bus = bus_of(evaluation)
    for match in bus.matches if bus else []:
        usb = match.usb
        if usb is None or usb.node is None:
            continue
        node = usb.node
        # Root may open everything: then only the mode speaks for the user who will run the programs.
        root = os.geteuid() == 0
        if node.open_to_all or (not root and node.usable):
            verdict = Verdict.HOLDS
        elif node.open_to_group:
            verdict = Verdict.UNPROVEN if root else Verdict.FAILS
        else:
            verdict = Verdict.FAILS
        yield Finding(
            "ports.permission",
            verdict,
            match.device.id,
            f"{match.device.title}: its node may {'' if verdict is not Verdict.FAILS else 'not '}be opened by the user",
            (f"{node.path}: mode {node.mode:04o}, group {node.group}",),
            NO_REMEDY
            if verdict is Verdict.HOLDS
            else Remedy(f"add the user to group {node.group}, then log in anew")
            if node.open_to_group
            else _rule_remedy(access_rule(usb)),
            f"{_SOURCE}; permissions of the device node",
        )

"""What the kernel's tree of ports says of the rig's devices. Nothing is changed: each remedy is a text to copy."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from typing import TYPE_CHECKING

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Proof, Statement, finding, say
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantities.ports import (
    FEEDS,
    FRAMES_BUFFERED,
    HIGH_SPEED_MBIT,
    KERNEL,
    LINK,
    TRAFFIC,
    USB_MEMORY,
    Load,
    bus_of,
    hub_feeds,
    is_slow_by_make,
    traffic_loads,
    usb_memory,
)
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.steps import PORTS
from wyntaxis.core.wording import number, short

if TYPE_CHECKING:
    from wyntaxis.core.evidence.ports.tree import PortTree, UsbDevice

MAX_EQUAL_NAMED = 12
_NUMBERED = re.compile(r"(/dev/)?tty(USB|ACM)[0-9]+")
_SOURCE = "Kernel ABI, sysfs-bus-usb"
_RULE = "Put this line into /etc/udev/rules.d/70-rig.rules, then plug the device in again:\n{rule}"


def suspend_rule(usb: UsbDevice) -> str:
    """Return the udev rule that keeps a device awake."""
    return (
        f'ACTION=="add", SUBSYSTEM=="usb", ATTR{{idVendor}}=="{usb.vendor}", ATTR{{idProduct}}=="{usb.product}", '
        'TEST=="power/control", ATTR{power/control}="on"'
    )


def access_rule(usb: UsbDevice) -> str:
    """Return the udev rule that lets the user at the screen use a device."""
    return f'SUBSYSTEM=="usb", ATTR{{idVendor}}=="{usb.vendor}", ATTR{{idProduct}}=="{usb.product}", TAG+="uaccess"'


@finding(
    "ports.present",
    step=PORTS,
    proves=Proof(condition=conditions.PRESENT),
    listed=Listed(after="dew.point"),
    source=_SOURCE,
    titles={
        "holds": "{device} is on the bus",
        "fails": "{device} is not on the bus: asleep, unplugged or without power",
        "unproven": "{device} is on USB, but its vendor:product is not entered",
    },
    remedies={
        "fails": "Check its power and its cable, plug it in again, and read the ports again.",
        "unproven": "Enter its vendor:product on the Devices sheet, as the tree shows it.",
    },
)
def present(evaluation: Evaluation) -> Iterator[Statement]:
    """Is each device of the rig on the bus?"""
    bus = bus_of(evaluation)
    for match in bus.matches if bus else []:
        device, usb = match.device, match.usb
        identity = device.identity
        wanted = f"{identity.usb_id} {identity.serial_number or ''}".strip() if identity else ""
        other = f"; {len(match.alike)} of the same kind with another serial number" if match.alike and not usb else ""
        lines = (f"wanted: {wanted}", f"found: {usb.name} {usb.title}" if usb else f"found: nothing{other}")
        yield say(device.id, None, Verdict.HOLDS if usb else Verdict.FAILS, {"device": device.title}, lines=lines)
    for device in evaluation.rig.devices if bus else ():
        link, identity = device.connection, device.identity
        if link is not None and link.kind == "usb" and (identity is None or identity.usb_id is None):
            yield say(device.id, None, Verdict.UNPROVEN, {"device": device.title})


@finding(
    "ports.suspend",
    step=PORTS,
    proves=Proof(condition=conditions.AWAKE),
    listed=Listed(after="ports.present"),
    source=f"{_SOURCE}; power/control: auto lets the kernel suspend a device",
    titles={"holds": "{device} stays awake", "": "{device} may be put to sleep, and drop off USB"},
    remedies=_RULE,
)
def suspend(evaluation: Evaluation) -> Iterator[Statement]:
    """May the kernel put a device to sleep?"""
    bus = bus_of(evaluation)
    for match in bus.matches if bus else []:
        usb = match.usb
        if usb is None or usb.control is None:
            continue
        verdict = Verdict.HOLDS if usb.control == "on" else Verdict.FAILS
        line = f"{usb.name}/power/control = {usb.control}" + (f", now {usb.status}" if usb.status else "")
        named = {"device": match.device.title, "rule": suspend_rule(usb)}
        yield say(match.device.id, None, verdict, named, lines=(line,))


@finding(
    "ports.speed",
    step=PORTS,
    proves=Proof(condition=conditions.USB),
    listed=Listed(after="ports.suspend"),
    source=_SOURCE,
    titles={
        "": "{device} runs at {speed} Mbit/s",
        "fails": "{device} runs at {speed} Mbit/s, on a link that is too slow for it",
    },
    remedies={
        "no faster link": "Lower the camera's traffic limit, and give it a port of its own: it has no faster link.",
        "fell back": "Try another cable, then another port or hub: the link is slower than the camera's own.",
        "": "Plug it into a 5000 Mbit/s port{not_behind}, with a cable made for that speed.",
    },
)
def speed(evaluation: Evaluation) -> Iterator[Statement]:
    """Has each camera the link that it is made for?"""
    bus = bus_of(evaluation)
    for match, usb in bus.cameras if bus else []:
        if usb.speed_mbit is None:
            continue
        row = evaluation.rows[LINK.id_of(match.device.id)]
        chain = [hub for hub in bus.tree.chain(usb) if hub.speed_mbit] if bus else []
        narrow = next((hub for hub in chain if (hub.speed_mbit or 0) <= HIGH_SPEED_MBIT), None)
        made = f", made for USB {short(usb.version)}" if usb.version else ""
        lines = (
            f"{usb.name}: {short(usb.speed_mbit)} Mbit/s{made}",
            *(f"through {hub.name} {hub.title}: {short(hub.speed_mbit or 0)} Mbit/s" for hub in chain),
        )
        cure = str(row.verdict)
        if is_slow_by_make(usb) and row.verdict is not Verdict.HOLDS:
            cure = "no faster link" if row.verdict is Verdict.TIGHT else "fell back"
        named: dict[str, Named] = {
            "device": match.device.title,
            "speed": usb.speed_mbit,
            "not_behind": f", not behind {narrow.title}" if narrow and not narrow.is_root else "",
        }
        yield say(match.device.id, row, None, named, cure=cure, lines=lines)


@finding(
    "ports.hub",
    step=PORTS,
    proves=Proof(condition=conditions.USB),
    listed=Listed(after="ports.speed"),
    source=_SOURCE,
    titles={
        "holds": "No slow hub is shared by the {count} cameras",
        "": "{cameras} share {hub}, a {speed} Mbit/s hub",
    },
    remedies="Give one of the cameras a port of its own on the computer, or use a 5000 Mbit/s hub.",
)
def shared_hub(evaluation: Evaluation) -> Iterator[Statement]:
    """Do several cameras share one slow hub?"""
    bus = bus_of(evaluation)
    if bus is None or len(bus.cameras) < 2:
        return
    subject, is_shared = bus.cameras[0][0].device.id, False
    for hub in bus.tree.devices:
        hub_speed = hub.speed_mbit or HIGH_SPEED_MBIT
        if not hub.is_hub or hub.is_root or hub_speed > HIGH_SPEED_MBIT:
            continue
        behind = [match.device.title for match, usb in bus.cameras if hub in bus.tree.chain(usb)]
        if len(behind) > 1:
            is_shared = True
            named: dict[str, Named] = {"cameras": " and ".join(behind), "hub": hub.title, "speed": hub_speed}
            yield say(subject, None, Verdict.FAILS, named, lines=(f"{hub.name}: {', '.join(behind)}",))
    if not is_shared:
        lines = tuple(f"{match.device.title}: {usb.name}" for match, usb in bus.cameras)
        yield say(subject, None, Verdict.HOLDS, {"count": len(bus.cameras)}, lines=lines)


@finding(
    "ports.traffic",
    step=PORTS,
    proves=Proof(condition=conditions.USB),
    listed=Listed(after="ports.cable"),
    source=f"{_SOURCE}; bulk transfers carry some 80 % of the protocol's limit",
    titles="The cameras on {hub} ask for {total:0} MB/s of {carries:0} MB/s",
    remedies="Limit the traffic of each to {percent:0} % of its present limit, or use a faster port.",
)
def traffic(evaluation: Evaluation) -> Iterator[Statement]:
    """Do the cameras on one link ask for no more than it carries?"""
    bus = bus_of(evaluation)
    for load in traffic_loads(bus) if bus else []:
        row, hub = evaluation.rows[TRAFFIC.id_of(load.hub.name)], load.hub
        lines = [
            f"{device.title}: {short(device.number('data_rate_mb_s') or 0)} MB/s × "
            f"{short(device.number('traffic_percent') or 100)} % = {number(rate, 1)} MB/s"
            for device, rate in load.asked
        ]
        lines.append(
            f"{hub.name}: {short(hub.speed_mbit or 0)} Mbit/s carries some {number(load.carries_mb_s, 0)} MB/s"
        )
        percent = 100 * load.wanted_share
        named: dict[str, Named] = {
            "hub": hub.name,
            "total": load.total_mb_s,
            "carries": load.carries_mb_s,
            "percent": percent,
        }
        change = None if row.verdict is Verdict.HOLDS else _limited(evaluation.rig, load)
        yield say(load.asked[0][0].id, row, None, named, lines=lines).with_edit(change)


def _limited(rig: Rig, load: Load) -> Change:
    places = {device.id: index for index, device in enumerate(rig.devices)}
    limits = tuple(
        (
            ("devices", places[device.id], "settings", "traffic_percent", "value"),
            float(max(1, int((device.number("traffic_percent") or 100.0) * load.wanted_share))),
        )
        for device, _ in load.asked
    )
    return Change("Limit the cameras' traffic", limits)


@finding(
    "ports.power",
    step=PORTS,
    proves=Proof(condition=conditions.USB),
    listed=Listed(after="ports.traffic"),
    source="USB 2.0, 7.2.1; USB 3.2, 11.4.5: current of a port",
    titles="{hub} feeds {total} mA of {budget} mA",
    remedies="Use a hub with a supply of its own, or spread the devices over several hubs.",
)
def hub_power(evaluation: Evaluation) -> Iterator[Statement]:
    """Can each hub feed what hangs on it?"""
    bus = bus_of(evaluation)
    if bus is None:
        return
    for feed in hub_feeds(bus):
        lines = (
            *(f"{usb.name} {usb.title}: {usb.max_power_ma} mA" for usb in feed.below),
            "the hub has no supply of its own" if feed.is_starved else f"{feed.port_ma} mA a port",
        )
        named: dict[str, Named] = {"hub": feed.hub.title, "total": feed.total_ma, "budget": feed.budget_ma}
        yield say(feed.known[0].id, evaluation.rows[FEEDS.id_of(feed.hub.name)], None, named, lines=lines)


@finding(
    "ports.usbfs_memory",
    step=PORTS,
    proves=Proof(condition=conditions.USB),
    listed=Listed(after="ports.power"),
    source="Kernel parameters: usbcore.usbfs_memory_mb, 16 by default",
    titles={
        "": "The kernel keeps {has} MB for USB; the cameras' frames need {wanted:0} MB",
        "no limit": "The kernel sets no limit on USB memory",
    },
    remedies="At once, until the next start:\necho {suggestion} | sudo tee "
    "/sys/module/usbcore/parameters/usbfs_memory_mb\n"
    "Permanently, as a kernel parameter:\nusbcore.usbfs_memory_mb={suggestion}",
)
def usbfs_memory(evaluation: Evaluation) -> Iterator[Statement]:
    """Has the kernel's USB memory room for the frames?"""
    bus = bus_of(evaluation)
    memory = usb_memory(bus) if bus is not None else None
    if memory is None:
        return
    row, has, wanted = evaluation.rows[USB_MEMORY.id_of(KERNEL)], memory.has_mb, memory.wanted_mb
    lines = (
        *(f"{device.title}: a frame has {number(size, 1)} MB" for device, size in memory.frames),
        f"{FRAMES_BUFFERED} frames of each: {number(wanted, 0)} MB; usbfs_memory_mb = {has}",
    )
    named: dict[str, Named] = {"has": has, "wanted": wanted, "suggestion": str(1 << max(8, int(wanted).bit_length()))}
    cure, case = str(row.verdict), "" if has else "no limit"
    yield say(memory.frames[0][0].id, row, None, named, case=case, cure=cure, lines=lines)


@finding(
    "ports.serial_name",
    step=PORTS,
    proves=Proof(condition=conditions.CONNECTIONS),
    listed=Listed(after="ports.usbfs_memory"),
    source="Numbers of ttyUSB and ttyACM follow the order of plugging in; names under dev/serial/by-id do not",
    titles={
        "holds": "{device}: its port has a stable name",
        "gone": "{device}: {port} does not exist now",
        "number": "{device}: {port} is a number that may change at the next start",
    },
    remedies={
        "gone": "Plug it in, or choose the port that it has now: {ports}.",
        "number": "Use {stable}.",
    },
)
def serial_name(evaluation: Evaluation) -> Iterator[Statement]:
    """Is each serial port named by its stable name, and does it exist?"""
    tree = evaluation.ports
    for index, device in enumerate(evaluation.rig.devices):
        port = device.connection.port if device.connection else None
        if port is None or not (_NUMBERED.fullmatch(port) or "serial/by-id" in port):
            continue
        name = port.rpartition("/")[2]
        now = next((s for s in tree.serial if name in (s.name, s.by_id)), None) if tree else None
        stable = f"/dev/serial/by-id/{now.by_id}" if now is not None and now.by_id else None
        lines, change, case = [f"port: {port}"], None, ""
        if now is not None:
            lines.append(f"now: {now.name}" + (f", {stable}" if stable else ", no stable name"))
        named = {"device": device.title, "port": port, "stable": stable or "its name under /dev/serial/by-id"}
        if tree is not None and now is None:
            case, named["ports"] = "gone", _ports_now(tree)
        elif _NUMBERED.fullmatch(port):
            case, path = "number", ("devices", index, "connection", "port")
            change = Change.of("Use the stable name", path, stable) if stable else None
        verdict = Verdict.FAILS if case else Verdict.HOLDS
        yield say(device.id, None, verdict, named, case=case, lines=lines).with_edit(change)


def _ports_now(tree: PortTree) -> str:
    return ", ".join(port.by_id or port.name for port in tree.serial) or "there is no serial port at all"


@finding(
    "ports.identity",
    step=PORTS,
    proves=Proof(condition=conditions.ONE_ENTRY),
    listed=Listed(after="ports.serial_name"),
    source=_SOURCE,
    titles="{count} devices on the bus are {usb_id} {serial}",
    remedies="Identify them by their place: keep each in its own port, and name the port in the program.",
)
def identity(evaluation: Evaluation) -> Iterator[Statement]:
    """Are two devices on the bus indistinguishable?"""
    bus = bus_of(evaluation)
    if bus is None:
        return
    ours = {match.device.identity.usb_id: match.device for match in bus.matches if match.device.identity}
    equal: dict[tuple[str, str | None], list[UsbDevice]] = {}
    for usb in bus.tree.devices:
        if not usb.is_hub and usb.usb_id in ours:
            equal.setdefault((usb.usb_id, usb.serial_number), []).append(usb)
    for (usb_id, serial), devices in equal.items():
        if len(devices) < 2:
            continue
        more = (f"and {len(devices) - MAX_EQUAL_NAMED} more",) if len(devices) > MAX_EQUAL_NAMED else ()
        lines = (*(f"{usb.name} {usb.title}" for usb in devices[:MAX_EQUAL_NAMED]), *more)
        named: dict[str, Named] = {
            "count": "Two" if len(devices) == 2 else len(devices),
            "usb_id": usb_id,
            "serial": serial or "without a serial number",
        }
        yield say(ours[usb_id].id, None, Verdict.FAILS, named, lines=lines)


@finding(
    "ports.permission",
    step=PORTS,
    proves=Proof(condition=conditions.CONNECTIONS),
    listed=Listed(after="ports.identity"),
    source=f"{_SOURCE}; permissions of the device node",
    titles={
        "fails": "{device}: the user may not open its node",
        "unproven": "{device}: users of group {group} may open its node",
        "holds": "{device}: the user may open its node",
    },
    remedies={"group": "Add the user to group {group}, then log in again.", "rule": _RULE},
)
def permission(evaluation: Evaluation) -> Iterator[Statement]:
    """May the user open each device's node?"""
    bus = bus_of(evaluation)
    for match in bus.matches if bus else []:
        usb = match.usb
        if usb is None or usb.node is None:
            continue
        node = usb.node
        # Root may open everything: then only the mode shows what the user who runs the programs may do.
        root = os.geteuid() == 0
        verdict = Verdict.FAILS
        if node.open_to_all or (not root and node.usable):
            verdict = Verdict.HOLDS
        elif node.open_to_group and root:
            verdict = Verdict.UNPROVEN
        cure = "none" if verdict is Verdict.HOLDS else "group" if node.open_to_group else "rule"
        named: dict[str, Named] = {"device": match.device.title, "group": node.group, "rule": access_rule(usb)}
        line = f"{node.path}: mode {node.mode:04o}, group {node.group}"
        yield say(match.device.id, None, verdict, named, cure=cure, lines=(line,))

"""Is a device there? Said by the kernel, by a program's list, or by hand; else nobody has looked."""

from __future__ import annotations

from dataclasses import dataclass

from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.records.entries import device_of
from wyntaxis.core.rig.devices import Device


@dataclass(frozen=True)
class Presence:
    """Whether a device is connected: holds, fails, or unproven, and who says so."""

    device: Device
    verdict: Verdict
    why: str


def presence(numbers: Numbers, device: Device) -> Presence:
    """Return whether a device is connected; what says that it is not outweighs the rest."""
    from wyntaxis.core.evidence.ports.match import match_devices

    said: list[tuple[bool, str]] = []
    if numbers.ports is not None:
        found = next((m for m in match_devices(numbers.rig, numbers.ports) if m.device.id == device.id), None)
        if found is not None:
            said.append((found.usb is not None, "the USB bus" if found.usb else "it is not on the USB bus"))
        port = device.connection.port if device.connection else None
        if found is None and port is not None and port.startswith(("/dev/tty", "/dev/serial/")):
            name = port.rpartition("/")[2]
            there = any(name in (serial.name, serial.by_id) for serial in numbers.ports.serial)
            said.append((there, "its serial port" if there else f"{port} is not there"))
    for record in numbers.rig.own_records:
        for entry in record.entries:
            if entry.connected is not None and device_of(entry, (device,)) is not None:
                said.append((entry.connected, record.name))
    if device.connected is not None:
        said.append((device.connected, "stated by hand"))
    if not said:
        return Presence(device, Verdict.UNPROVEN, f"{device.title}: whether it is connected is not checked")
    lost = [who for connected, who in said if not connected]
    if lost:
        return Presence(device, Verdict.FAILS, f"{device.title}: not connected ({', '.join(lost)})")
    return Presence(device, Verdict.HOLDS, f"{device.title}: connected ({', '.join(who for _, who in said)})")

"""Device lists: one device under two entries, two roles on one device, two devices on one port."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Literal, Protocol

from wyntaxis.core.rig.devices import Device, Record, RecordEntry
from wyntaxis.core.rig.model import Rig

Fault = Literal["duplicate", "role", "port"]


@dataclass(frozen=True)
class EntryFault:
    """What is wrong in a list: its kind, the names concerned, and the words for it."""

    fault: Fault
    names: tuple[str, ...]
    text: str


def entries_of_rig(devices: Iterable[Device]) -> list[RecordEntry]:
    """Return a rig's own devices in the form of a program's list."""
    from wyntaxis.core.rig.devices import RecordEntry

    found = []
    for device in devices:
        identity, link = device.identity, device.connection
        found.append(
            RecordEntry(
                name=device.title,
                role=device.kind,
                usb_id=identity.usb_id if identity else None,
                serial_number=identity.serial_number if identity else None,
                driver=device.driver.name if device.driver else None,
                port=_address(device) if link else None,
                connected=device.connected,
            )
        )
    return found


def _address(device: Device) -> str | None:
    link = device.connection
    if link is None:
        return None
    if link.host is not None:
        return f"{link.host}:{link.tcp_port}" if link.tcp_port else None
    return link.port


class _Identified(Protocol):
    """What has a vendor:product and a serial number: a line of a list, or a device's identity."""

    @property
    def usb_id(self) -> str | None: ...

    @property
    def serial_number(self) -> str | None: ...


def same_device(one: _Identified, other: _Identified) -> bool:
    """Return whether two entries are one device: the same serial number, and no other vendor:product."""
    if one.serial_number is None or other.serial_number is None:
        return False
    same = one.serial_number.strip().casefold() == other.serial_number.strip().casefold()
    return same and (one.usb_id is None or other.usb_id is None or one.usb_id == other.usb_id)


def device_of(entry: RecordEntry, devices: Iterable[Device]) -> Device | None:
    """Return the rig's device that an entry is: by serial number, else by the only device of its vendor:product."""
    devices = list(devices)
    for device in devices:
        if device.identity is not None and same_device(entry, device.identity):
            return device
    if entry.usb_id is None or entry.serial_number is not None:
        return None
    alike = [d for d in devices if d.identity is not None and d.identity.usb_id == entry.usb_id]
    return alike[0] if len(alike) == 1 else None


def faults_within(entries: tuple[RecordEntry, ...] | list[RecordEntry]) -> Iterator[EntryFault]:
    """Yield what a list says against itself."""
    for index, entry in enumerate(entries):
        for other in entries[index + 1 :]:
            names = (entry.name, other.name)
            if same_device(entry, other):
                where = f"both have the serial number {entry.serial_number}"
                if entry.role is not None and other.role is not None and entry.role != other.role:
                    text = (
                        f"“{entry.name}” as {_role(entry)} and “{other.name}” as {_role(other)} are one device: {where}"
                    )
                    yield EntryFault("role", names, text)
                else:
                    yield EntryFault("duplicate", names, f"“{entry.name}” and “{other.name}” are one device: {where}")
            elif entry.port is not None and entry.port == other.port:
                yield EntryFault("port", names, f"“{entry.name}” and “{other.name}” share the port {entry.port}")


def faults_of_lists(rig: Rig) -> Iterator[tuple[str, list[EntryFault]]]:
    """Yield, for the rig's own list and every record's, its name and its faults; lists of nothing are left out."""
    if len(rig.devices) > 1:
        yield "the rig's own list", list(faults_within(entries_of_rig(rig.devices)))
    for record in rig.own_records:
        if record.entries:
            yield record.name, [*faults_within(record.entries), *faults_against_rig(record, rig.devices)]


def faults_against_rig(record: Record, devices: tuple[Device, ...]) -> Iterator[EntryFault]:
    """Yield where a record takes one of the rig's devices for what it is not."""
    for entry in record.entries:
        device = device_of(entry, devices)
        if device is not None and entry.role is not None and entry.role != device.kind:
            text = f"{device.title}, the rig's {device.kind.replace('_', ' ')}, is taken as {_role(entry)}"
            yield EntryFault("role", (entry.name, device.title), text)


def _role(entry: RecordEntry) -> str:
    return str(entry.role).replace("_", " ")

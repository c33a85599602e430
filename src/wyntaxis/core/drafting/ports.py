"""What the ports tell of a rig's devices: identity, stable port, and which hub each is plugged into."""

from __future__ import annotations

from wyntaxis.core.drafting.rig_draft import RigDraft
from wyntaxis.core.evidence.ports.tree import PortTree, SerialPort, UsbDevice
from wyntaxis.core.json_values import JsonValue
from wyntaxis.core.rig.device_kinds import DEVICE_KINDS

OTHER = "other"
"""The kind of a device of which nothing tells what it is."""
KIND_WORDS = tuple(
    sorted(
        ((word, kind.id) for kind in DEVICE_KINDS.values() for word in kind.port_words),
        key=lambda entry: -len(entry[0]),
    )
)
"""Words in what a device calls itself, and the kind of device that they tell: a longer word tells more."""


def draft_ports(book: RigDraft, tree: PortTree) -> None:
    """Read what hangs on the ports into a draft.

    Parameters
    ----------
    book
        The rig that is being drafted.
    tree
        The ports. A device is known by its identity, by the name that frames give it, or by what it calls itself;
        what none of them tells is kept as another device, and asked.
    """
    for usb in tree.devices:
        if usb.is_root or usb.is_hub:
            continue
        origin = f"ports: {usb.name} {usb.title}"
        serial = next((port for port in tree.serial if port.usb_name == usb.name), None)
        at = _known(book, usb)
        if at is None:
            kind, why = _kind_of(book, usb)
            at = book.add_device(f"{kind or OTHER}_device", kind or OTHER, origin, name=usb.title)
            if kind is None:
                book.mark(("devices", at, "kind"))
                stable = f", /dev/serial/by-id/{serial.by_id}" if serial is not None and serial.by_id else ""
                question = f"{usb.title} ({usb.usb_id}{stable}) hangs on {usb.name}: which device is it?"
                book.ask(question, ("devices", at, "kind"))
            elif why:
                book.mark(("devices", at, "kind"))
                book.ask(f"{usb.title} is taken for a {kind.replace('_', ' ')}: {why}", ("devices", at, "kind"))
        _give(book, at, usb, serial, origin)
        _hubs(book, at, usb, tree)


def _known(book: RigDraft, usb: UsbDevice) -> int | None:
    """Return which device of the rig one on the bus is: by identity, else by name."""
    devices = book.list_of("devices")
    for at, device in enumerate(devices):
        identity = device.get("identity") or {}
        if identity.get("usb_id") == usb.usb_id and identity.get("serial_number") in (None, usb.serial_number):
            return at
    titles = {usb.title.casefold(), usb.model.casefold()} - {""}
    for at, device in enumerate(devices):
        name = (device.get("name") or "").casefold()
        if (
            name
            and not (device.get("identity") or {}).get("usb_id")
            and (name in titles or usb.title.casefold() in name)
        ):
            return at
    return None


def _kind_of(book: RigDraft, usb: UsbDevice) -> tuple[str | None, str]:
    """Return the kind of a device that the rig does not have yet, and what the guess rests on where it is one."""
    words = f"{usb.maker} {usb.model}".casefold()
    for word, kind in KIND_WORDS:
        if word in words:
            return kind, ""
    for device in book.list_of("devices"):
        own = (device.get("identity") or {}).get("usb_id") or ""
        maker = usb.maker.casefold()
        is_alike = own.partition(":")[0] == usb.vendor or bool(maker and maker in (device.get("name") or "").casefold())
        if device["kind"] == "camera" and is_alike:
            return "guide_camera", "it is of the main camera's maker, and another one"
    return None, ""


def _give(book: RigDraft, at: int, usb: UsbDevice, serial: SerialPort | None, origin: str) -> None:
    place: tuple[JsonValue, ...] = ("devices", at)
    book.give((*place, "identity", "usb_id"), usb.usb_id, origin)
    if usb.model:
        book.give((*place, "identity", "model"), usb.model[:200], origin)
    if usb.serial_number:
        book.give((*place, "identity", "serial_number"), usb.serial_number[:200], origin)
    if serial is None:
        book.give((*place, "connection", "kind"), "usb", origin)
        return
    book.give((*place, "connection", "kind"), "serial", origin)
    port = f"/dev/serial/by-id/{serial.by_id}" if serial.by_id else f"/dev/{serial.name}"
    book.give((*place, "connection", "port"), port[:200], origin)


def _hubs(book: RigDraft, at: int, usb: UsbDevice, tree: PortTree) -> None:
    """Give the hubs on a device's way to the computer, each plugged into the next."""
    for hub in (own for own in tree.chain(usb) if not own.is_root):
        known = next((d for d in book.list_of("devices") if d["id"] == f"hub_{_plain(hub.name)}"), None)
        origin = f"ports: {hub.name} {hub.title}"
        if known is None:
            added = book.add_device(f"hub_{_plain(hub.name)}", "hub", origin, name=hub.title)
            known = book.list_of("devices")[added]
            book.give(("devices", added, "identity", "usb_id"), hub.usb_id, origin)
        book.give(("devices", at, "connection", "hub"), known["id"], origin)
        at = book.list_of("devices").index(known)


def _plain(name: str) -> str:
    return "".join(char if char.isalnum() else "_" for char in name)

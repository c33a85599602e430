"""The tree of USB and serial ports as the kernel tells it in sysfs; only ever read, never written.

Source: the kernel's documented ABI, Documentation/ABI/testing/sysfs-bus-usb and sysfs-devices-power.
"""

from __future__ import annotations

import os
import re
import stat
from dataclasses import dataclass
from pathlib import Path

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.foreign_text import is_number, plain
from wyntaxis.core.files.opening import is_folder, is_there

DEFAULT_ROOT = Path("/sys")
MAX_DEVICES = 1024
MAX_BYTES = 4096
HUB_CLASS = "09"
SELF_POWERED = 0x40
"""Bit of bmAttributes: USB 2.0 specification, table 9-10."""
_DEVICE_NAME = re.compile(r"usb[0-9]+|[0-9]+-[0-9]+(\.[0-9]+)*")
_TTY = re.compile(r"tty(USB|ACM)[0-9]+")


@dataclass(frozen=True)
class Node:
    """A device node: its permission bits, its group's number, and whether this user may read and write it."""

    path: str
    mode: int
    group: int
    usable: bool

    @property
    def open_to_all(self) -> bool:
        return self.mode & 0o006 == 0o006

    @property
    def open_to_group(self) -> bool:
        return self.mode & 0o060 == 0o060 and self.group != 0


@dataclass(frozen=True)
class SerialPort:
    """A serial port: its numbered name, its stable one where there is one, and the USB device that it belongs to."""

    name: str
    by_id: str | None
    usb_name: str | None
    node: Node | None


@dataclass(frozen=True)
class UsbDevice:
    """One device of the bus. ``speed_mbit`` is negotiated, ``version`` what the device itself is made for."""

    name: str
    vendor: str
    product: str
    serial_number: str | None
    maker: str
    model: str
    speed_mbit: float | None
    version: float | None
    control: str | None
    status: str | None
    max_power_ma: int | None
    self_powered: bool | None
    is_hub: bool
    ports: int
    node: Node | None

    @property
    def usb_id(self) -> str:
        return f"{self.vendor}:{self.product}"

    @property
    def title(self) -> str:
        named = self.model or self.usb_id
        return named if not self.maker or self.maker.casefold() in named.casefold() else f"{self.maker} {named}"

    @property
    def is_root(self) -> bool:
        return self.name.startswith("usb")

    @property
    def parent(self) -> str | None:
        """The name of the hub that it hangs on; None for a root hub."""
        if self.is_root:
            return None
        head, _, tail = self.name.rpartition(".")
        return head if tail and head else f"usb{self.name.split('-')[0]}"


@dataclass(frozen=True)
class PortTree:
    """Everything read below one root."""

    root: str
    devices: tuple[UsbDevice, ...]
    serial: tuple[SerialPort, ...]
    usbfs_memory_mb: int | None

    def named(self, name: str | None) -> UsbDevice | None:
        return next((device for device in self.devices if device.name == name), None)

    def chain(self, device: UsbDevice) -> list[UsbDevice]:
        """Return the hubs between a device and its root hub, the nearest first."""
        found: list[UsbDevice] = []
        parent = self.named(device.parent)
        while parent is not None and len(found) < 10:
            found.append(parent)
            parent = self.named(parent.parent)
        return found

    def below(self, hub: UsbDevice) -> list[UsbDevice]:
        """Return the devices that hang directly on a hub."""
        return [device for device in self.devices if device.parent == hub.name]

    def in_order(self) -> list[tuple[int, UsbDevice]]:
        """Return every device with how deep it hangs, each hub followed by what hangs on it."""
        by_parent: dict[str | None, list[UsbDevice]] = {}
        known = {device.name for device in self.devices}
        for device in self.devices:
            by_parent.setdefault(device.parent if device.parent in known else None, []).append(device)
        found: list[tuple[int, UsbDevice]] = []
        waiting = [(0, device) for device in reversed(by_parent.get(None, []))]
        while waiting:
            depth, device = waiting.pop()
            found.append((depth, device))
            waiting += [(depth + 1, child) for child in reversed(by_parent.get(device.name, []))]
        return found


def read_ports(root: Path = DEFAULT_ROOT) -> PortTree:
    """Read the tree below a sysfs root: ``/sys``, or a folder that holds ``bus/usb`` or ``sys/bus/usb`` and ``dev``.

    Parameters
    ----------
    root
        The root of a sysfs.

    Returns
    -------
    PortTree
        USB devices with their speeds in Mbit/s, currents in mA and power management, and serial ports.

    Raises
    ------
    InputError
        With one line when there is no USB bus below the root.
    """
    sysfs = root / "sys" if is_folder(root / "sys" / "bus" / "usb") else root
    place = sysfs / "bus" / "usb" / "devices"
    try:
        names = sorted(entry.name for entry in os.scandir(place))
    except (OSError, ValueError) as error:
        reason = getattr(error, "strerror", None) or str(error)
        hint = "no USB bus is to be seen there; name the root of a sysfs with --sysfs"
        raise InputError(f"cannot be read ({reason}): {hint}", place) from None
    devices_folder = _dev_folder(root, sysfs)
    chosen = sorted((name for name in names if _DEVICE_NAME.fullmatch(name)), key=_bus_order)[:MAX_DEVICES]
    # A link into nothing is what a device leaves that has just been unplugged.
    devices = tuple(_device(place / name, devices_folder) for name in chosen if is_folder(place / name))
    by_id = _stable_names(devices_folder / "serial" / "by-id")
    owners = _owners_of_ttys(sysfs, names, chosen)
    ports = {
        tty: SerialPort(tty, by_id.get(tty), owner, _node(devices_folder / tty))
        for tty, owner in {**dict.fromkeys(by_id), **owners}.items()
    }
    memory = _text(sysfs / "module" / "usbcore" / "parameters" / "usbfs_memory_mb")
    return PortTree(
        str(root),
        devices,
        tuple(ports[name] for name in sorted(ports)),
        int(memory) if memory is not None and is_number(memory) else None,
    )


def _bus_order(name: str) -> list[int]:
    return [int(part[:18]) for part in re.findall(r"[0-9]+", name)]


def _dev_folder(root: Path, sysfs: Path) -> Path:
    """Return the folder of device nodes that goes with a sysfs; its own ``dev`` holds only numbers, and is not it."""
    for folder in (root / "dev", sysfs.parent / "dev"):
        if any(is_there(folder / name) for name in ("serial", "bus/usb")):
            return folder
    return sysfs.parent / "dev"


def _text(path: Path) -> str | None:
    """Return a small file's text, None where there is none; never waits on a pipe, never reads a large file."""
    try:
        descriptor = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    except (OSError, ValueError):
        return None
    try:
        if not stat.S_ISREG(os.fstat(descriptor).st_mode):
            return None
        data = os.read(descriptor, MAX_BYTES)
    except OSError:
        return None
    finally:
        os.close(descriptor)
    text = data.decode("utf-8", "surrogateescape").strip()
    return plain(text[:200])


def _number(text: str | None) -> float | None:
    found = re.match(r"\s*[0-9]{1,15}(\.[0-9]+)?", text or "")
    return float(found[0]) if found else None


def _device(folder: Path, dev: Path) -> UsbDevice:
    def read(name: str) -> str | None:
        return _text(folder / name)

    power, attributes = _number(read("bMaxPower")), read("bmAttributes")
    bus, number = _number(read("busnum")), _number(read("devnum"))
    node = _node(dev / "bus" / "usb" / f"{int(bus):03d}" / f"{int(number):03d}") if bus and number else None
    try:
        self_powered = bool(int(attributes, 16) & SELF_POWERED) if attributes else None
    except ValueError:
        self_powered = None
    ports = _number(read("maxchild"))
    return UsbDevice(
        name=folder.name,
        vendor=(read("idVendor") or "0000").lower(),
        product=(read("idProduct") or "0000").lower(),
        serial_number=read("serial") or None,
        maker=read("manufacturer") or "",
        model=read("product") or "",
        speed_mbit=_number(read("speed")),
        version=_number(read("version")),
        control=read("power/control"),
        status=read("power/runtime_status"),
        max_power_ma=int(power) if power is not None else None,
        self_powered=self_powered,
        is_hub=(read("bDeviceClass") or "") == HUB_CLASS or folder.name.startswith("usb") or bool(ports),
        ports=int(ports or 0),
        node=node,
    )


def _node(path: Path) -> Node | None:
    try:
        info = path.stat()
    except (OSError, ValueError):
        return None
    return Node(str(path), stat.S_IMODE(info.st_mode), info.st_gid, os.access(path, os.R_OK | os.W_OK))


def _stable_names(folder: Path) -> dict[str, str]:
    """Return the stable name of each numbered port."""
    found: dict[str, str] = {}
    try:
        entries = sorted(os.scandir(folder), key=lambda entry: entry.name)[:MAX_DEVICES]
    except (OSError, ValueError):
        return found
    for entry in entries:
        try:
            target = Path(entry.path).readlink().name
        except OSError:
            continue
        found.setdefault(target, entry.name)
    return found


def _owners_of_ttys(sysfs: Path, names: list[str], devices: list[str]) -> dict[str, str | None]:
    """Return each serial port with its USB device: by the bus's interfaces, else by the class of ttys."""
    place = sysfs / "bus" / "usb" / "devices"
    owners: dict[str, str | None] = {}
    interfaces = [place / name for name in names if ":" in name]
    for device in devices:
        interfaces += [place / device / name for name in _names(place / device) if ":" in name]
    for interface in interfaces:
        owners |= dict.fromkeys(_ttys(interface), interface.name.split(":")[0])
    for name in _names(sysfs / "class" / "tty"):
        if _TTY.fullmatch(name) and name not in owners:
            way = Path(os.path.realpath(sysfs / "class" / "tty" / name)).parts
            interface_name = next((part for part in reversed(way) if ":" in part and "-" in part), None)
            owners[name] = interface_name.split(":")[0] if interface_name else None
    return owners


def _names(folder: Path) -> list[str]:
    try:
        return sorted(entry.name for entry in os.scandir(folder))[:MAX_DEVICES]
    except (OSError, ValueError):
        return []


def _ttys(interface: Path) -> list[str]:
    return [name for folder in (interface, interface / "tty") for name in _names(folder) if _TTY.fullmatch(name)]

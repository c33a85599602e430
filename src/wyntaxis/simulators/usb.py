"""A simulated sysfs with its device nodes, made below a folder from a short description."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

DEMO_TREES = Path(__file__).parent.parent / "demo" / "ports"
_FILES = {
    "vendor": "idVendor",
    "product_id": "idProduct",
    "serial": "serial",
    "maker": "manufacturer",
    "model": "product",
    "speed": "speed",
    "version": "version",
    "max_power": "bMaxPower",
    "attributes": "bmAttributes",
    "class": "bDeviceClass",
    "ports": "maxchild",
    "busnum": "busnum",
    "devnum": "devnum",
}


def make_tree(root: Path, devices: Sequence[Mapping[str, Any]], *, usbfs_memory_mb: int | None = 16) -> Path:
    """Make ``sys`` and ``dev`` below a root and return it.

    Each device is a mapping with its bus ``name`` (``1-2.3``) and what it says of itself: ``vendor``, ``product_id``,
    ``serial``, ``model``, ``speed``, ``version``, ``max_power`` (mA), ``control``, ``mode`` of its node, and
    ``tty`` with ``by_id`` for a serial converter.
    """
    bus = root / "sys" / "bus" / "usb" / "devices"
    bus.mkdir(parents=True)
    if usbfs_memory_mb is not None:
        parameters = root / "sys" / "module" / "usbcore" / "parameters"
        parameters.mkdir(parents=True)
        (parameters / "usbfs_memory_mb").write_text(f"{usbfs_memory_mb}\n", "utf-8")
    numbers: dict[int, int] = {}
    for device in devices:
        name = str(device["name"])
        bus_number = int(name.removeprefix("usb").split("-")[0])
        numbers[bus_number] = numbers.get(bus_number, 0) + 1
        _make_device(root, bus, device, bus_number, numbers[bus_number])
    return root


def _make_device(root: Path, bus: Path, device: Mapping[str, Any], bus_number: int, number: int) -> None:
    name = str(device["name"])
    # As in the kernel's own tree, the bus lists links to where the device lies.
    folder = root / "sys" / "devices" / f"host{bus_number}" / name
    (folder / "power").mkdir(parents=True)
    entries = {"busnum": bus_number, "devnum": number, **device}
    if "max_power" in entries:
        entries["max_power"] = f"{entries['max_power']}mA"
    for key, file in _FILES.items():
        if key in entries:
            (folder / file).write_text(f"{entries[key]}\n", "utf-8")
    (folder / "power" / "control").write_text(f"{device.get('control', 'on')}\n", "utf-8")
    (folder / "power" / "runtime_status").write_text(f"{device.get('status', 'active')}\n", "utf-8")
    (bus / name).symlink_to(Path("../../../devices") / f"host{bus_number}" / name)
    node = root / "dev" / "bus" / "usb" / f"{bus_number:03d}" / f"{number:03d}"
    node.parent.mkdir(parents=True, exist_ok=True)
    node.write_bytes(b"")
    node.chmod(int(str(device.get("mode", "666")), 8))
    tty = device.get("tty")
    if tty:
        interface = f"{name}:1.0"
        (folder / interface / str(tty)).mkdir(parents=True)
        (bus / interface).symlink_to(Path("../../../devices") / f"host{bus_number}" / name / interface)
        (root / "dev" / str(tty)).write_bytes(b"")
        if device.get("by_id"):
            by_id = root / "dev" / "serial" / "by-id"
            by_id.mkdir(parents=True, exist_ok=True)
            (by_id / str(device["by_id"])).symlink_to(Path("../../") / str(tty))


def make_demo_tree(root: Path, name: str) -> Path:
    """Make one of the demo's trees below a root; its description ships with the demo."""
    document = json.loads((DEMO_TREES / f"{name}.json").read_text("utf-8"))
    return make_tree(root, document["devices"], usbfs_memory_mb=document["usbfs_memory_mb"])

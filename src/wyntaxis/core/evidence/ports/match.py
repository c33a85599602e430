"""Which device of the rig is which device of the bus, and what its link must carry."""

from __future__ import annotations

from dataclasses import dataclass

from wyntaxis.core.evidence.ports.tree import PortTree, UsbDevice
from wyntaxis.core.rig.device_settings import CAMERAS
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import Sensor

BYTES_PER_SAMPLE = 2
"""Cameras send 16 bits for every pixel, whatever the converter's depth."""


@dataclass(frozen=True)
class Match:
    """A device of the rig and what of it is on the bus; ``alike`` are others of the same vendor:product."""

    device: Device
    usb: UsbDevice | None
    alike: tuple[UsbDevice, ...] = ()


def match_devices(rig: Rig, tree: PortTree) -> list[Match]:
    """Return, for every device of the rig that has a USB identity, what of it is on the bus.

    A serial number decides where both sides have one; without, the vendor:product does if it is there once.

    Parameters
    ----------
    rig, tree
        The rig, and the ports that were read.

    Returns
    -------
    list of Match
        One for each such device, with its place on the bus or why it has none.
    """
    found = []
    for device in rig.devices:
        identity = device.identity
        if identity is None or identity.usb_id is None:
            continue
        alike = [usb for usb in tree.devices if usb.usb_id == identity.usb_id and not usb.is_root]
        exact = [usb for usb in alike if identity.serial_number and usb.serial_number == identity.serial_number]
        open_ones = [usb for usb in alike if identity.serial_number is None or usb.serial_number is None]
        chosen = exact[0] if exact else open_ones[0] if len(open_ones) == 1 else None
        found.append(Match(device, chosen, tuple(usb for usb in alike if usb is not chosen)))
    return found


def is_camera(device: Device) -> bool:
    """Return whether a device takes images, of the sky or for guiding.

    Returns
    -------
    bool
        Whether it does.
    """
    return device.kind in CAMERAS


def sensor_of(rig: Rig, device: Device) -> Sensor | None:
    """Return the sensor of a camera device: of the part it names, else of the camera in its place.

    Returns
    -------
    Sensor or None
        Pixels in µm; None where no part tells.
    """
    if device.part is not None:
        found = rig.find(device.part)
        if found is not None and found[1].sensor is not None:
            return found[1].sensor
    if device.kind == "camera":
        return rig.sensor
    camera = rig.guiding.camera if device.kind == "guide_camera" else None
    return camera.sensor if camera else None


def frame_bytes(sensor: Sensor, binning: int = 1) -> int:
    """Return how many bytes one frame has: 16 bits for every pixel.

    Parameters
    ----------
    sensor, binning
        The sensor, and how many pixels are binned along a side.

    Returns
    -------
    int
        Bytes.
    """
    return (sensor.width_px // binning) * (sensor.height_px // binning) * BYTES_PER_SAMPLE

"""What of a rig can be compared with a program's record: every number, name and list that a program may hold."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from wyntaxis.core.ledger import STATED_RELATIVE_TOLERANCE
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantity_kinds import QUANTITY_KINDS
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.rig.settings import SETTINGS, settings_of

Value = float | bool | str | tuple[str, ...]

SITE_TOLERANCE_DEG = 0.05
"""Some 5 km: closer makes no odds to horizon, flip or field solving."""
SITE_TOLERANCE_M = 100.0


@dataclass(frozen=True)
class Comparable:
    """One thing that the rig knows and a program may have on file; ``value`` is None where the rig does not say.

    ``device`` is the id of the device it belongs to, ``topic`` what kind of matter it is, for the findings.
    """

    id: str
    label: str
    unit: str
    type: Literal["number", "truth", "text", "list"]
    value: Value | None
    tolerance: float = 0.0
    decimals: int = 2
    topic: str = "setting"
    device: str | None = None


def comparables(numbers: Numbers) -> dict[str, Comparable]:
    """Return everything comparable of a rig by id, in the order in which the matrix lists it."""
    return {item.id: item for item in (*_optics(numbers), *_site(numbers), *_guiding(numbers), *_all(numbers))}


def _number(
    key: str,
    label: str,
    unit: str,
    value: float | None,
    *,
    topic: str,
    tolerance: float | None = None,
    decimals: int = 2,
    device: str | None = None,
) -> Comparable:
    width = abs(value or 0.0) * STATED_RELATIVE_TOLERANCE if tolerance is None else tolerance
    return Comparable(key, label, unit, "number", value, width, decimals, topic, device)


def _optics(numbers: Numbers) -> Iterator[Comparable]:
    rig, sensor = numbers.rig, numbers.rig.sensor
    for key, topic in (("effective_focal_length_mm", "focal_length"), ("pixel_scale_arcsec_px", "focal_length")):
        kind = QUANTITY_KINDS[key]
        yield _number(key, kind.label, kind.unit, numbers.value(key), topic=topic, decimals=kind.decimals)
    name = rig.telescope.name
    yield Comparable("telescope.name", "Telescope's name", "", "text", name, topic="setting")
    yield Comparable("observer", "Observer", "", "text", rig.observer, topic="setting")
    yield _number("aperture_mm", "Aperture", "mm", rig.telescope.aperture_mm, topic="focal_length", decimals=1)
    yield _number("pixel_um", "Pixel", "µm", sensor.pixel_um if sensor else None, topic="pixel")
    for key, label, unit, size in (
        ("width_px", "Pixels across", "px", sensor.width_px if sensor else None),
        ("height_px", "Pixels down", "px", sensor.height_px if sensor else None),
        ("binning", "Binning", "", sensor.binning if sensor else None),
    ):
        yield _number(key, label, unit, size, topic="pixel", tolerance=0.0, decimals=0)


def _guiding(numbers: Numbers) -> Iterator[Comparable]:
    guiding = numbers.rig.guiding
    optics, settings = numbers.guide_optics, guiding.settings
    if guiding.kind == "none":
        return
    focal = numbers.guide_focal_length.value if numbers.guide_focal_length else None
    pixel = optics.sensor.pixel_um if optics else None
    yield _number("guide_focal_length_mm", "Guide focal length", "mm", focal, topic="focal_length", decimals=1)
    yield _number("guide_pixel_um", "Guide pixel", "µm", pixel, topic="pixel")
    for key, label, unit in (
        ("exposure_s", "Guide exposure", "s"),
        ("rate_sidereal", "Guide rate", "× sidereal"),
        ("calibration_pulse_ms", "Calibration pulse", "ms"),
        ("dither_main_px", "Dither", "main px"),
        ("dither_every_frames", "Dither every", "frames"),
        ("settle_px", "Settled within", "guide px"),
        ("settle_s", "Settled for", "s"),
    ):
        value = getattr(settings, key) if settings else None
        yield _number(f"guiding.{key}", label, unit, value, topic="guiding")
    route = settings.pulse_route if settings else None
    yield Comparable("guiding.pulse_route", "Guide pulses go by", "", "text", route, topic="guiding")


def _site(numbers: Numbers) -> Iterator[Comparable]:
    site = numbers.rig.site
    name = site.name if site is not None else None
    yield Comparable("site.name", "Site's name", "", "text", name, topic="site")
    longitude = None if site is None else (site.longitude_deg + 180) % 360 - 180
    for key, label, unit, value, tolerance in (
        ("latitude_deg", "Latitude", "°", site.latitude_deg if site else None, SITE_TOLERANCE_DEG),
        ("longitude_deg", "Longitude, east", "°", longitude, SITE_TOLERANCE_DEG),
        ("elevation_m", "Elevation", "m", site.elevation_m if site else None, SITE_TOLERANCE_M),
    ):
        yield _number(f"site.{key}", label, unit, value, topic="site", tolerance=tolerance)


def _all(numbers: Numbers) -> Iterator[Comparable]:
    for device in numbers.rig.devices:
        yield from _device(device)


_TOPICS = {
    "gain": "gain",
    "offset": "offset",
    "set_temperature_c": "temperature",
    "reversed": "direction",
    "traffic_percent": "traffic",
}


def _device(device: Device) -> Iterator[Comparable]:
    title = device.title
    if device.kind == "filter_wheel":
        names = device.slot_names if device.slots else None
        yield Comparable(f"{device.id}.slots", f"{title}: filters", "", "list", names, topic="slots", device=device.id)
    for kind in settings_of(device.kind, "devices"):
        setting = device.settings.get(kind.key)
        value = setting.value if setting else None
        stated = setting.tolerance if setting else None
        width = kind.tolerance if stated is None else stated
        yield Comparable(
            f"{device.id}.{kind.key}",
            f"{title}: {kind.label.lower()}",
            kind.unit,
            kind.type,
            value,
            width,
            kind.decimals,
            _TOPICS.get(kind.key, "setting"),
            device.id,
        )
    driver, link, identity = device.driver, device.connection, device.identity
    for key, label, text, topic in (
        ("name", "name", device.name, "setting"),
        ("driver", "driver", driver.name if driver else None, "driver"),
        ("driver_version", "driver version", driver.version if driver else None, "driver"),
        ("port", "port", link.port if link else None, "connection"),
        ("host", "host", link.host if link else None, "connection"),
        ("mode", "connection mode", link.mode if link else None, "connection"),
        ("serial_number", "serial number", identity.serial_number if identity else None, "connection"),
    ):
        yield Comparable(f"{device.id}.{key}", f"{title}: {label}", "", "text", text, topic=topic, device=device.id)
    for key, label, number in (
        ("tcp_port", "TCP port", link.tcp_port if link else None),
        ("baud", "baud rate", link.baud if link else None),
    ):
        yield _number(
            f"{device.id}.{key}",
            f"{title}: {label}",
            "",
            number,
            topic="connection",
            tolerance=0.0,
            decimals=0,
            device=device.id,
        )


def label_of(key: str, known: dict[str, Comparable]) -> str:
    """Return what a quantity of a record is called, also one that the rig no longer knows."""
    if key in known:
        return known[key].label
    head, _, tail = key.partition(".")
    return f"{head}: {SETTINGS[tail].label.lower()}" if tail in SETTINGS else key

"""What of a rig can be compared with a program's record: every number, name and list that a program may hold."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

from pydantic import BaseModel

from wyntaxis.core.ledger import STATED_RELATIVE_TOLERANCE
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantities.read_tracking import apart
from wyntaxis.core.quantity_kinds import FOCAL_LENGTH, PIXEL_SCALE
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.device_settings import SETTINGS, settings_of
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.rig.display import compared_fields
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.own_settings import OwnSetting
from wyntaxis.core.rig.parts import Sensor, Telescope
from wyntaxis.core.rig.plan import GuideSettings, Site

Value = float | bool | str | tuple[str, ...]


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
    return numbers.evaluator.memoized_by_key("comparables", lambda: _comparables(numbers.tracked()))


def _comparables(numbers: Numbers) -> Iterator[tuple[str, Comparable]]:
    for work in apart((_scales, _telescope, _sensor, _site, _guide_optics, _guide_settings, _devices, _own_settings)):
        for item in work(numbers):
            yield item.id, item


def _number(
    key: str,
    label: str,
    unit: str,
    value: float | None,
    *,
    topic: str,
    decimals: int = 2,
) -> Comparable:
    width = abs(value or 0.0) * STATED_RELATIVE_TOLERANCE
    return Comparable(key, label, unit, "number", value, width, decimals, topic)


def _scales(numbers: Numbers) -> Iterator[Comparable]:
    for kind in apart((FOCAL_LENGTH, PIXEL_SCALE)):
        value = numbers.value(kind)
        yield _number(kind.id, kind.label, kind.unit, value, topic="focal_length", decimals=kind.decimals)


def _telescope(numbers: Numbers) -> Iterator[Comparable]:
    rig = numbers.rig
    yield Comparable("telescope.name", "Telescope's name", "", "text", rig.telescope.name)
    yield Comparable("observer", "Observer", "", "text", rig.observer)
    yield from _declared(Telescope, rig.telescope, "", "")


def _sensor(numbers: Numbers) -> Iterator[Comparable]:
    yield from _declared(Sensor, numbers.rig.sensor, "", "")


def _declared(
    model: type[BaseModel], held: BaseModel | None, prefix: str, title: str, device: str | None = None
) -> Iterator[Comparable]:
    """Yield the fields of a model that declare a topic, as what is held of it says; None for what is not."""
    for field, shown in apart(compared_fields(model)):
        value = _value_at(held, field.path)
        label = f"{title}: {_inside(field.label)}" if title else field.label
        kind: Literal["number", "text"] = "number" if field.kind in ("number", "whole") else "text"
        width = 0.0
        if kind == "number":
            width = abs(value or 0.0) * STATED_RELATIVE_TOLERANCE if shown.tolerance is None else shown.tolerance
        key = f"{prefix}{shown.key or field.path[-1]}"
        yield Comparable(key, label, field.unit, kind, value, width, shown.decimals, shown.topic or "setting", device)


def _value_at(held: Any, path: DocumentPath) -> Any:
    for step in path:
        held = None if held is None else getattr(held, str(step))
    return held


def _inside(label: str) -> str:
    """Return a label as it stands within a line; an abbreviation stays as it is."""
    return label[:1].lower() + label[1:] if label[1:2].islower() else label


def _guide_optics(numbers: Numbers) -> Iterator[Comparable]:
    if numbers.rig.guiding.kind == "none":
        return
    focal = numbers.guide_focal_length.value if numbers.guide_focal_length else None
    optics = numbers.guide_optics
    pixel = optics.sensor.pixel_um if optics else None
    yield _number("guide_focal_length_mm", "Guide focal length", "mm", focal, topic="focal_length", decimals=1)
    yield _number("guide_pixel_um", "Guide pixel", "µm", pixel, topic="pixel")


def _guide_settings(numbers: Numbers) -> Iterator[Comparable]:
    if numbers.rig.guiding.kind != "none":
        yield from _declared(GuideSettings, numbers.rig.guiding.settings, "guiding.", "")


def _site(numbers: Numbers) -> Iterator[Comparable]:
    site = numbers.rig.site
    for item in _declared(Site, site, "site.", ""):
        if item.id == "site.longitude_deg" and site is not None:
            # The rig may count east to 360°: programs count to 180° either way.
            yield replace(item, value=(site.longitude_deg + 180) % 360 - 180)
        else:
            yield item


def _devices(numbers: Numbers) -> Iterator[Comparable]:
    for device in numbers.rig.devices:
        yield from _device(device)


def _device(device: Device) -> Iterator[Comparable]:
    title = device.title
    if device.kind == "filter_wheel":
        names = device.slot_names if device.slots else None
        yield Comparable(f"{device.id}.slots", f"{title}: filters", "", "list", names, topic="slots", device=device.id)
    for kind in apart(settings_of(device.kind, "devices")):
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
            kind.topic,
            device.id,
        )
    yield from _declared(Device, device, f"{device.id}.", title, device.id)


OWN = "own"
"""What stands in the id of a quantity that is a setting of the imager's own, behind its device, program or part."""


def owners(rig: Rig) -> Iterator[tuple[str, str, str, Sequence[OwnSetting]]]:
    """Yield what has settings of the imager's own: how its ids begin, its own id, its title, and the settings."""
    for device in rig.devices:
        yield device.id, device.id, device.title, device.own_settings
    for program in rig.programs:
        yield f"program.{program.id}", program.id, program.title, program.own_settings
    for _, part in rig.parts():
        yield f"part.{part.id}", part.id, part.title, part.own_settings


def _own_settings(numbers: Numbers) -> Iterator[Comparable]:
    for begins, owner, title, settings in owners(numbers.rig):
        for own in settings:
            kind: Literal["number", "truth", "text"] = (
                "truth" if isinstance(own.value, bool) else "text" if isinstance(own.value, str) else "number"
            )
            label = f"{title}: {_inside(own.name)}"
            key = f"{begins}.{OWN}.{own.key}"
            yield Comparable(key, label, own.unit or "", kind, own.value, device=owner)


def label_of(key: str, known: Mapping[str, Comparable]) -> str:
    """Return what a quantity of a record is called, also one that the rig no longer knows."""
    if key in known:
        return known[key].label
    head, _, tail = key.partition(".")
    return f"{head}: {SETTINGS[tail].label.lower()}" if tail in SETTINGS else key

"""The train through each filter of its wheel: filters of different thickness move both foci by different amounts."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from wyntaxis.core.optics.focus import plate_focus_shift
from wyntaxis.core.rig.devices import Device, Slot
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import Glass, Part
from wyntaxis.core.train.guidepath import GuidePath, guide_path
from wyntaxis.core.train.lightpath import BackFocus, back_focus

DEFAULT_FILTER_INDEX = 1.52
"""Crown glass, where neither slot nor wheel says."""


@dataclass(frozen=True)
class SlotCase:
    """The train through one filter: its thickness and shift in mm, and both branches as they then are."""

    device: Device
    name: str
    thickness_mm: float
    shift_mm: float
    back_focus: BackFocus | None
    guide_path: GuidePath | None


def slot_cases(rig: Rig) -> list[SlotCase]:
    """Return the train through every named filter whose thickness is stated; empty where no wheel states any."""
    return list(_cases(rig))


def _cases(rig: Rig) -> Iterator[SlotCase]:
    for device in rig.devices:
        if device.kind != "filter_wheel" or all(slot.thickness_mm is None for slot in device.slots):
            continue
        index = _place(rig, device)
        if index is None:
            continue
        wheel = rig.train[index]
        branches: dict[tuple[Glass, ...], tuple[BackFocus | None, GuidePath | None]] = {}
        for slot in device.slots:
            if not slot.name.strip():
                continue
            glass = _with_filter(wheel, slot)
            if glass not in branches:
                through = wheel.model_copy(update={"glass": glass})
                train = (*rig.train[:index], through, *rig.train[index + 1 :])
                case = rig.model_copy(update={"train": train, "devices": (), "records": (), "variants": ()})
                branches[glass] = back_focus(case), guide_path(case)
            plate = glass[_filter_index(wheel)]
            shift = plate_focus_shift(plate.thickness_mm, plate.index)
            yield SlotCase(device, slot.name.strip(), plate.thickness_mm, shift, *branches[glass])


def _place(rig: Rig, device: Device) -> int | None:
    """Return where the wheel stands in the train: the part that it names, else the only wheel or drawer."""
    named = [i for i, part in enumerate(rig.train) if part.id == device.part]
    if device.part is not None:
        return named[0] if named else None
    wheels = [i for i, part in enumerate(rig.train) if part.kind == "filter_wheel"]
    return wheels[0] if len(wheels) == 1 else None


def _filter_index(wheel: Part) -> int:
    """Return which plate of a wheel is its filter: the one called so, else the first."""
    return next((i for i, glass in enumerate(wheel.glass) if "filter" in glass.name.casefold()), 0)


def _with_filter(wheel: Part, slot: Slot) -> tuple[Glass, ...]:
    plates = wheel.glass or (Glass(name="filter", thickness_mm=slot.thickness_mm or 1.0, index=DEFAULT_FILTER_INDEX),)
    at = _filter_index(wheel)
    told = {"thickness_mm": slot.thickness_mm, "index": slot.index}
    changed = plates[at].model_copy(update={key: value for key, value in told.items() if value is not None})
    return (*plates[:at], changed, *plates[at + 1 :])

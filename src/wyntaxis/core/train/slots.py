"""The train through each filter of its wheel: filters of different thickness move both foci by different amounts."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from wyntaxis.core.optics.focus import plate_focus_shift
from wyntaxis.core.rig.devices import Device, Slot
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import FILTER_KINDS, Glass, Part
from wyntaxis.core.train.guidepath import GuidePath, guide_path
from wyntaxis.core.train.lightpath import BackFocus, back_focus

DEFAULT_FILTER_INDEX = 1.52
"""Crown glass, where neither slot nor wheel says."""
FILTER_INDEX_RANGE = (1.46, 1.58)
"""Range of refractive index assumed for a filter of unknown glass: fused silica to dense crown."""
FILTER_THICKNESS_RANGE_MM = (1.0, 3.0)
"""Range of thickness in mm assumed for a filter of unknown thickness."""


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
            if not slot.name.strip() or not (wheel.glass or slot.thickness_mm is not None):
                continue  # an empty hole, or a filter of which nothing is known: see unknown_filters
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
    if not wheel.glass:
        assert slot.thickness_mm is not None
        return (_plate_of(slot, slot.thickness_mm),)
    at = _filter_index(wheel)
    entries = {"thickness_mm": slot.thickness_mm, "index": slot.index}
    changed = wheel.glass[at].model_copy(update={key: value for key, value in entries.items() if value is not None})
    return (*wheel.glass[:at], changed, *wheel.glass[at + 1 :])


def _plate_of(slot: Slot, thickness_mm: float) -> Glass:
    """Return the plate of a slot; where no index is stated, its shift is as uncertain as filters' glass differs."""
    if slot.index is not None:
        return Glass(name="filter", thickness_mm=thickness_mm, index=slot.index)
    low, high = (plate_focus_shift(thickness_mm, index) for index in FILTER_INDEX_RANGE)
    # Told as a tolerance of the thickness that moves the focus by as much.
    half = (high - low) / 2 / plate_focus_shift(1.0, DEFAULT_FILTER_INDEX)
    return Glass(name="filter", thickness_mm=thickness_mm, index=DEFAULT_FILTER_INDEX, thickness_tolerance_mm=half)


# Filters of which nothing is known


@dataclass(frozen=True)
class UnknownFilter:
    """A wheel or drawer that may hold a filter of which neither thickness nor glass is stated.

    ``is_named`` says that a filter is known to be there; else it may also be empty.
    """

    part: Part
    place: int
    is_named: bool

    @property
    def shift_mm(self) -> tuple[float, float]:
        """The least and the greatest shift of the focus that its filter may make, in mm."""
        thin, thick = FILTER_THICKNESS_RANGE_MM
        low = plate_focus_shift(thin, FILTER_INDEX_RANGE[0]) if self.is_named else 0.0
        return low, plate_focus_shift(thick, FILTER_INDEX_RANGE[1])


def unknown_filters(rig: Rig) -> list[UnknownFilter]:
    """Return the wheels and drawers of the train of whose filters nothing is known.

    Parameters
    ----------
    rig
        The rig. A part that states its glass, or that none is in the beam, is known; so is a wheel of which each named
        slot states its filter's thickness.

    Returns
    -------
    list of UnknownFilter
        In the order of the train.
    """
    found = []
    wheels = {_place(rig, device): device for device in rig.devices if device.kind == "filter_wheel"}
    for place, part in enumerate(rig.train):
        if part.kind not in FILTER_KINDS or part.glass or part.no_filter:
            continue
        device = wheels.get(place)
        slots = [slot for slot in device.slots if slot.name.strip() and slot.bandpass != "dark"] if device else []
        if slots and all(slot.thickness_mm is not None for slot in slots):
            continue
        is_named = bool(slots) or bool(rig.plan is not None and rig.plan.filters)
        found.append(UnknownFilter(part, place, is_named))
    return found


def with_known_filter(rig: Rig) -> Rig:
    """Return a rig whose wheel states the glass of its first filter, where only the wheel's slots state any."""
    for device in rig.devices:
        if device.kind != "filter_wheel":
            continue
        place = _place(rig, device)
        if place is None or rig.train[place].glass or rig.train[place].no_filter:
            continue
        known = next((slot for slot in device.slots if slot.name.strip() and slot.thickness_mm is not None), None)
        if known is not None and known.thickness_mm is not None:
            through = rig.train[place].model_copy(update={"glass": (_plate_of(known, known.thickness_mm),)})
            rig = rig.model_copy(update={"train": (*rig.train[:place], through, *rig.train[place + 1 :])})
    return rig

"""Has the night's plan what it needs: the devices for what it does, its filters, room for its frames, power?"""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Verdict, worst
from wyntaxis.core.quantities.plan import (
    BATTERY,
    CURRENT,
    FREE,
    NIGHT_USED,
    PLAN,
    SPACE_RESERVE,
    SUPPLY_RESERVE,
    Draw,
    draw_of,
    fed,
    imaging_hours,
    rooms,
)
from wyntaxis.core.records.presence import presence
from wyntaxis.core.rig.devices import Device, Storage
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.steps import DEVICES, READY
from wyntaxis.core.wording import number, short, terms

_PLAN_SOURCE = "What a run asks for must be connected before it starts"
_POWER_SOURCE = "Σ current per supply, with 20 % in reserve"
_SPACE_SOURCE = "Frames × bytes against free space, and a second copy"

# What each action of a plan needs: kinds of device, any one of a group.
_NEEDS: dict[str, tuple[tuple[str, ...], ...]] = {
    "cool": (("camera",),),
    "warm_up": (("camera",),),
    "guide": (("guide_camera",), ("mount",)),
    "dither": (("mount",),),
    "refocus": (("focuser",),),
    "flip": (("mount",),),
    "park": (("mount",),),
}
_WORDS = {
    "cool": "Cooling",
    "warm_up": "Warming up at the end",
    "guide": "Guiding",
    "dither": "Dithering",
    "refocus": "Refocusing",
    "flip": "The meridian flip",
    "park": "Parking at the end",
}


def _still_open(action: str, lines: list[str]) -> str:
    if action == "flip" and any("flip_margin_min" in line for line in lines):
        return "state the mount's flip margin on the Devices sheet"
    return "connect it, look at the ports, or state that it is connected"


def _flip_words(rig: Rig, verdicts: list[Verdict], lines: list[str]) -> Finding | None:
    """Add what the mounts say of the flip; a finding of its own for a mount that makes none."""
    if rig.mount is not None and rig.mount.kind == "alt_azimuth":
        assert rig.plan is not None
        rest = [action for action in rig.plan.actions if action != "flip"]
        return Finding(
            "plan.flip",
            Verdict.FAILS,
            "flip",
            "The plan asks for a meridian flip, which an alt-azimuth mount does not make",
            ("mount: alt-azimuth",),
            Remedy("take the flip out of the plan", Change.of("Take the flip out", ("plan", "actions"), rest)),
            _PLAN_SOURCE,
        )
    for mount in (device for device in rig.devices if device.kind == "mount"):
        margin = mount.number("flip_margin_min")
        if margin is None:
            verdicts.append(Verdict.UNPROVEN)
            lines.append(f"{mount.title}: how long after the meridian it flips is not stated (flip_margin_min)")
        else:
            lines.append(f"{mount.title}: flips {short(margin)} min after the meridian")
    return None


def _action(evaluation: Evaluation, action: str) -> Iterator[Finding]:
    rig = evaluation.rig
    if rig.plan is None or action not in rig.plan.actions:
        return
    verdicts, lines, missing = [], [], []
    guided = "guide" in rig.plan.actions and any(device.kind == "guide_camera" for device in rig.devices)
    for kinds in (*_NEEDS[action], *((("guide_camera",),) if action == "dither" and guided else ())):
        devices = [device for device in rig.devices if device.kind in kinds]
        if not devices:
            missing.append(" or ".join(kind.replace("_", " ") for kind in kinds))
            continue
        found = [presence(evaluation, device) for device in devices]
        best = min(found, key=lambda entry: entry.verdict.severity)
        verdicts.append(best.verdict)
        lines.append(best.why)
    if action == "dither" and not guided:
        lines.append("no guiding: the mount itself dithers, so nobody tells when it has settled")
    if action == "flip":
        refused = _flip_words(rig, verdicts, lines)
        if refused is not None:
            yield refused
            return
    if action == "park":
        for mount in (device for device in rig.devices if device.kind == "mount"):
            stored = mount.truth("park_set")
            verdicts.append(Verdict.HOLDS if stored else Verdict.UNPROVEN if stored is None else Verdict.FAILS)
            lines.append(
                f"{mount.title}: a park position is stored"
                if stored
                else f"{mount.title}: {'no park position is stored' if stored is False else 'park position not stated'}"
            )
    if missing:
        lines.append(f"not in the rig: {', '.join(missing)}")
        verdicts.append(Verdict.FAILS)
    verdict = worst(verdicts)
    words = {
        Verdict.HOLDS: "has what it needs",
        Verdict.UNPROVEN: "is on paper only",
        Verdict.TIGHT: "is doubtful",
        Verdict.FAILS: f"lacks {missing[0]}" if missing else "lacks a device that is connected",
    }
    yield Finding(
        f"plan.{action}",
        verdict,
        action,
        f"{_WORDS[action]} {words[verdict]}",
        tuple(lines),
        NO_REMEDY
        if verdict is Verdict.HOLDS
        else Remedy(_still_open(action, lines))
        if verdict is Verdict.UNPROVEN
        else Remedy(f"connect what is missing, or take “{action.replace('_', ' ')}” out of the plan"),
        _PLAN_SOURCE,
    )


def _declare(action: str, condition: conditions.Condition, after: str, needed: str = "", rank: int = 0) -> None:
    declare = finding(f"plan.{action}", step=READY, condition=condition, after=after, needed=needed, rank=rank)
    declare(partial(_action, action=action))


_declare("cool", conditions.COOLING, "guiding.settle", rank=2)
_declare("guide", conditions.GUIDING, "plan.cool", rank=-2)
_declare("dither", conditions.GUIDING, "plan.guide", rank=-2)
_declare("refocus", conditions.FOCUSER, "plan.dither")
_declare("flip", conditions.MOUNT, "plan.refocus", "the plan does not say whether the mount flips")
_declare("park", conditions.MOUNT, "plan.flip", "the plan does not say whether the mount parks")
_declare("warm_up", conditions.COOLING, "plan.park", rank=2)


@finding("plan.night", step=READY, after="plan.filters")
def night(evaluation: Evaluation) -> Iterator[Finding]:
    """Do the planned frames fit into the night?"""
    plan = evaluation.rig.plan
    if plan is None or plan.hours is None:
        return
    row, hours = evaluation.rows[NIGHT_USED.id_of(PLAN)], imaging_hours(plan)
    assert row.computed is not None
    if plan.frames is None:
        line = f"one frame: {short(3600 * hours)} s = {number(hours, 2)} h"
    else:
        line = f"{plan.frames} frames × {short(plan.exposure_s)} s / 3600 = {number(hours, 2)} h"
    yield Finding(
        "plan.night",
        row.verdict,
        "plan",
        f"The frames take {number(hours, 1)} h of a night of {short(plan.hours)} h",
        (line, f"{number(hours, 2)} / {short(plan.hours)} = {number(row.computed.value, 0)} %, wanted at most 90 %"),
        NO_REMEDY
        if row.verdict is Verdict.HOLDS
        else Remedy("plan fewer or shorter frames, or several nights; focusing, dithers and the flip need time too"),
        "Frames × exposure against the hours of the night",
        (row.id,),
    )


@finding("plan.filters", step=READY, condition=conditions.FILTERS, after="plan.warm_up")
def filters_asked(evaluation: Evaluation) -> Iterator[Finding]:
    """Has the wheel every filter that the plan asks for?"""
    plan = evaluation.rig.plan
    if plan is None or not plan.filters:
        return
    wheels = [device for device in evaluation.rig.devices if device.kind == "filter_wheel" and device.slots]
    names = {name for wheel in wheels for name in wheel.slot_names if name}
    gone = [name for name in plan.filters if name not in names]
    near = {name.casefold(): name for name in names}
    hints = [f"{name}: the wheel writes it {near[name.casefold()]}" for name in gone if name.casefold() in near]
    yield Finding(
        "plan.filters",
        Verdict.UNPROVEN if not wheels else Verdict.FAILS if gone else Verdict.HOLDS,
        wheels[0].id if wheels else "plan",
        "The plan asks for filters, but no wheel's slots are named"
        if not wheels
        else f"The plan asks for {', '.join(gone)}, which is in no slot: the run would wait for ever"
        if gone
        else "Every filter that the plan asks for is in a slot",
        (f"plan: {', '.join(plan.filters)}", f"wheel: {', '.join(sorted(names)) or '–'}", *hints),
        Remedy("name the wheel's slots on the Devices sheet")
        if not wheels
        else Remedy("correct the names in the plan, or put the filters in")
        if gone
        else NO_REMEDY,
        _PLAN_SOURCE,
    )


def _storages(evaluation: Evaluation) -> list[tuple[Device, Storage]]:
    return [(device, storage) for device in evaluation.rig.devices for storage in device.storage]


@finding(
    "storage.space",
    step=DEVICES,
    condition=conditions.STORAGE,
    after="plan.night",
    needed="no disk and no planned frames are stated",
)
def storage_space(evaluation: Evaluation) -> Iterator[Finding]:
    """Is there room for the planned frames?"""
    from wyntaxis.core.evidence.ports.match import frame_bytes

    plan, sensor, stores = evaluation.rig.plan, evaluation.rig.sensor, _storages(evaluation)
    places = [(device, storage) for device, storage in stores if storage.free_gb is not None]
    if plan is None or plan.frames is None or sensor is None or not places:
        if stores or (plan is not None and plan.frames is not None):
            missing = "free space of the disks" if not places else "frames planned" if sensor else "sensor"
            yield Finding(
                "storage.space",
                Verdict.UNPROVEN,
                stores[0][0].id if stores else "plan",
                f"Whether there is room for the night is not known: no {missing} stated",
                (),
                Remedy(f"state the {missing}"),
                _SPACE_SOURCE,
            )
        return
    size = frame_bytes(sensor, sensor.binning)
    for room in rooms(evaluation):
        row, free, wanted = evaluation.rows[FREE.id_of(room.id)], room.free_gb, room.wanted_gb
        device, storage, fits = room.device, room.storage, row.verdict is not Verdict.FAILS
        yield Finding(
            "storage.space",
            row.verdict,
            device.id,
            f"{storage.name} has {number(free, 0)} GB free, the night takes {number(wanted, 1)} GB",
            (
                f"{plan.frames} frames × {number(size / 1e6, 1)} MB × {short(SPACE_RESERVE)} = {number(wanted, 1)} GB",
                f"free: {number(free, 1)} GB",
            ),
            NO_REMEDY
            if fits
            else Remedy(f"free {number(wanted - free, 0)} GB on {storage.name}, or plan fewer frames"),
            _SPACE_SOURCE,
            (row.id,),
        )


@finding("storage.copy", step=DEVICES, condition=conditions.STORAGE, after="storage.space", needed="no disk is stated")
def storage_copy(evaluation: Evaluation) -> Iterator[Finding]:
    """Are the images kept in two places?"""
    places = _storages(evaluation)
    if not places:
        return
    device = places[0][0]
    images = [storage for _, storage in places if storage.holds in ("images", None)]
    copies = [storage for _, storage in places if storage.holds == "copy"]
    cards = [storage.name for storage in images if storage.kind == "card"]
    lines = [
        f"images: {', '.join(s.name for s in images) or '–'}",
        f"second copy: {', '.join(s.name for s in copies) or '–'}",
    ]
    if cards and not copies:
        lines.append(f"{cards[0]} is a card, which wears out by writing")
    yield Finding(
        "storage.copy",
        Verdict.HOLDS if copies and images else Verdict.FAILS,
        device.id,
        "Images are kept in two places" if copies else "Images are kept in one place only",
        tuple(lines),
        NO_REMEDY if copies else Remedy("send a second copy to another disk or over the network, and state it here"),
        _SPACE_SOURCE,
    )


def _no_figures(evaluation: Evaluation) -> Iterator[Finding]:
    """Yield what keeps the supplies from being proven: a supply without a rating, a device without its current."""
    rig = evaluation.rig
    for supply in rig.supplies:
        hangs = any(device.power is not None and device.power.supply == supply.id for device in rig.devices)
        if supply.rated_a is None and hangs:
            title, text = f"{supply.title} has no rating", "state the current that it is rated for"
            yield Finding("power.supply", Verdict.UNPROVEN, supply.id, title, (), Remedy(text), _POWER_SOURCE)
    for device in rig.devices if rig.supplies else ():
        power = device.power
        entries = power is not None and (power.current_a is not None or power.peak_a is not None)
        feeds = power is not None and power.supply is not None
        if not entries and (feeds or device.kind == "camera"):
            yield Finding(
                "power.supply",
                Verdict.UNPROVEN,
                device.id,
                f"What {device.title} draws is not stated",
                (),
                Remedy("state its usual and its highest current, and its supply, on the Devices sheet"),
                _POWER_SOURCE,
            )


@finding("power.supply", step=DEVICES, condition=conditions.POWER, after="storage.copy", needed="no supply is stated")
def power_supply(evaluation: Evaluation) -> Iterator[Finding]:
    """Can each supply feed all that hangs on it, with 20 % in reserve?"""
    yield from _no_figures(evaluation)
    for entry in fed(evaluation):
        supply, row = entry.supply, evaluation.rows.get(CURRENT.id_of(entry.supply.id))
        if row is None or supply.rated_a is None or entry.allowed_a is None:
            continue
        rated, peak, allowed = short(supply.rated_a), entry.peak_a, entry.allowed_a
        lines = [_draw_line(draw, evaluation.rig) for draw in entry.draws]
        lines += [f"{device.title}: not stated" for device in entry.unknown]
        lines.append(
            f"{terms([draw.peak_a for draw in entry.draws], 2)} = {number(peak, 2)} A at the most, rated {rated} A, "
            f"with {number(100 * SUPPLY_RESERVE, 0)} % in reserve {number(allowed, 2)} A"
        )
        yield Finding(
            "power.supply",
            row.verdict,
            supply.id,
            f"{supply.title} feeds {number(peak, 1)} A of its {rated} A",
            tuple(lines),
            NO_REMEDY
            if row.verdict is Verdict.HOLDS
            else Remedy(f"state what {entry.unknown[0].title} draws, on the Devices sheet")
            if row.verdict is Verdict.UNPROVEN
            else Remedy(f"move {number(peak - allowed, 1)} A to another supply, such as the dew heaters"),
            _POWER_SOURCE,
            (row.id,),
        )


def _draw_line(draw: Draw, rig: Rig) -> str:
    """Return what a device takes from a supply, with what it draws itself where a converter lies between."""
    own = draw_of(draw.device)
    line = f"{draw.device.title}: {short(draw.peak_a, 3)} A"
    if own is None or own.peak_a == draw.peak_a or draw.device.power is None:
        return line
    at = next((supply for supply in rig.supplies if supply.id == draw.device.power.supply), None)
    return line if at is None else f"{line} for {short(own.peak_a)} A at {short(at.voltage_v or 0.0)} V"


@finding("power.battery", step=DEVICES, condition=conditions.POWER, after="power.supply")
def power_battery(evaluation: Evaluation) -> Iterator[Finding]:
    """Does each battery last the night?"""
    for entry in fed(evaluation):
        supply, row = entry.supply, evaluation.rows.get(BATTERY.id_of(entry.supply.id))
        if row is None or supply.capacity_ah is None or entry.hours is None:
            continue
        wanted = evaluation.rig.plan.hours if evaluation.rig.plan else None
        yield Finding(
            "power.battery",
            row.verdict,
            supply.id,
            f"{supply.title} lasts {number(entry.hours, 1)} h",
            (
                f"{short(supply.capacity_ah)} Ah × {short(entry.usable_share)} / {number(entry.usual_a, 2)} A = "
                f"{number(entry.hours, 1)} h",
                f"the night: {short(wanted)} h" if wanted else "the plan does not say how long the night is",
            ),
            NO_REMEDY
            if row.verdict is Verdict.HOLDS
            else Remedy("state the hours of the night in the plan")
            if wanted is None
            else Remedy(f"state what {entry.unknown[0].title} draws, on the Devices sheet")
            if row.verdict is Verdict.UNPROVEN and entry.unknown
            else Remedy("take a larger battery, a warmer set temperature, or less dew heating"),
            "Hours = capacity × usable share / usual current",
            (row.id,),
        )

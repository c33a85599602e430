"""Has the night's plan what it needs: the devices for what it does, its filters, disk space, power?"""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Proof, Statement, finding, say
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
    Fed,
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
from wyntaxis.core.wording import counted, number, short, terms

_PLAN_SOURCE = "What a run asks for must be connected before it starts"
_SPACE_SOURCE = "Frames × bytes against free space, and a second copy"
_DRAW = "Enter what {unknown} draws on the Devices sheet."

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
_ACTION_TITLES = {
    "holds": "{action} has what it needs",
    "unproven": "{action} is not verified: {open}",
    "tight": "{action} is doubtful",
    "fails": "{action} lacks a device that is connected",
    "lacks": "{action} lacks {device}",
    "alt-azimuth": "The plan asks for a meridian flip, which an alt-azimuth mount does not make",
}
_ACTION_REMEDIES = {
    "unproven": "Connect it, read the ports, or enter that it is connected.",
    "margin": "Enter the mount's flip margin on the Devices sheet.",
    "": "Connect what is missing, or take “{verb}” out of the plan.",
    "alt-azimuth": "Take the flip out of the plan.",
}


def _action(evaluation: Evaluation, action: str) -> Iterator[Statement]:
    rig = evaluation.rig
    if rig.plan is None or action not in rig.plan.actions:
        return
    if action == "flip" and rig.mount is not None and rig.mount.kind == "alt_azimuth":
        rest = [own for own in rig.plan.actions if own != "flip"]
        change = Change.of("Take the flip out", ("plan", "actions"), rest)
        yield say("flip", None, Verdict.FAILS, case="alt-azimuth", lines=("mount: alt-azimuth",)).with_edit(change)
        return
    found, missing = _devices_for(evaluation, action)
    if action in _OF_MOUNTS:
        found += [_OF_MOUNTS[action](device) for device in rig.devices if device.kind == "mount"]
    lines = [line for _, line in found]
    if action == "dither" and not _is_guided(rig):
        lines.append("no guiding: the mount itself dithers, so nothing shows when it has settled")
    if missing:
        lines.append(f"not in the rig: {', '.join(missing)}")
    verdict = worst([*(own for own, _ in found), *([Verdict.FAILS] if missing else [])])
    open_lines = [line for own, line in found if own is Verdict.UNPROVEN]
    named: dict[str, Named] = {
        "action": _WORDS[action],
        "verb": action.replace("_", " "),
        "device": missing[0] if missing else "",
        "open": open_lines[0] if open_lines else "nothing shows that it is connected",
    }
    lacks_margin = action == "flip" and any(d.kind == "mount" and _flip_margin(d) is None for d in rig.devices)
    cure = "margin" if verdict is Verdict.UNPROVEN and lacks_margin else str(verdict)
    case = "lacks" if missing and verdict is Verdict.FAILS else ""
    yield say(action, None, verdict, named, case=case, cure=cure, lines=lines)


def _is_guided(rig: Rig) -> bool:
    return (
        rig.plan is not None
        and "guide" in rig.plan.actions
        and any(device.kind == "guide_camera" for device in rig.devices)
    )


def _devices_for(evaluation: Evaluation, action: str) -> tuple[list[tuple[Verdict, str]], list[str]]:
    """Return how present the devices are that an action needs, each in a line, and which kinds the rig lacks."""
    found, missing = [], []
    also = (("guide_camera",),) if action == "dither" and _is_guided(evaluation.rig) else ()
    for kinds in (*_NEEDS[action], *also):
        devices = [device for device in evaluation.rig.devices if device.kind in kinds]
        if not devices:
            missing.append(" or ".join(kind.replace("_", " ") for kind in kinds))
            continue
        best = min((presence(evaluation, device) for device in devices), key=lambda entry: entry.verdict.severity)
        found.append((best.verdict, best.why))
    return found, missing


def _flip_margin(mount: Device) -> float | None:
    return mount.number("flip_margin_min")


def _flip_of(mount: Device) -> tuple[Verdict, str]:
    margin = _flip_margin(mount)
    if margin is None:
        return Verdict.UNPROVEN, f"{mount.title}: how long after the meridian it flips is not entered (flip_margin_min)"
    return Verdict.HOLDS, f"{mount.title}: flips {short(margin)} min after the meridian"


def _park_of(mount: Device) -> tuple[Verdict, str]:
    stored = mount.truth("park_set")
    if stored is None:
        return Verdict.UNPROVEN, f"{mount.title}: park position not entered"
    words = "a park position is stored" if stored else "no park position is stored"
    return Verdict.HOLDS if stored else Verdict.FAILS, f"{mount.title}: {words}"


_OF_MOUNTS = {"flip": _flip_of, "park": _park_of}
"""What an action asks of each mount."""


def _declare(action: str, condition: conditions.Condition, after: str, needed: str = "", rank: int = 0) -> None:
    declare = finding(
        f"plan.{action}",
        step=READY,
        proves=Proof(condition=condition, needed=needed, rank=rank),
        listed=Listed(after=after),
        source=_PLAN_SOURCE,
        titles=_ACTION_TITLES,
        remedies=_ACTION_REMEDIES,
    )
    declare(partial(_action, action=action))


_declare("cool", conditions.COOLING, "guiding.settle", rank=2)
_declare("guide", conditions.GUIDING, "plan.cool", rank=-2)
_declare("dither", conditions.GUIDING, "plan.guide", rank=-2)
_declare("refocus", conditions.FOCUSER, "plan.dither")
_declare("flip", conditions.MOUNT, "plan.refocus", "the plan does not say whether the mount flips")
_declare("park", conditions.MOUNT, "plan.flip", "the plan does not say whether the mount parks")
_declare("warm_up", conditions.COOLING, "plan.park", rank=2)


@finding(
    "plan.night",
    step=READY,
    listed=Listed(after="plan.filters"),
    source="Frames × exposure against the hours of the night",
    titles="The frames take {used:1} h of a night of {hours} h",
    remedies="Plan fewer or shorter frames, or several nights. Focusing, dithers and the flip need time too.",
)
def night(evaluation: Evaluation) -> Iterator[Statement]:
    """Do the planned frames fit into the night?"""
    plan = evaluation.rig.plan
    if plan is None or plan.hours is None:
        return
    row, hours = evaluation.rows[NIGHT_USED.id_of(PLAN)], imaging_hours(plan)
    assert row.computed is not None
    if plan.frames is None:
        line = f"one frame: {short(3600 * hours)} s = {number(hours, 2)} h"
    else:
        line = f"{counted(plan.frames, 'frame')} × {short(plan.exposure_s)} s / 3600 = {number(hours, 2)} h"
    share = f"{number(hours, 2)} / {short(plan.hours)} = {number(row.computed.value, 0)} %, wanted at most 90 %"
    yield say("plan", row, None, {"used": hours, "hours": plan.hours}, lines=(line, share))


@finding(
    "plan.filters",
    step=READY,
    proves=Proof(condition=conditions.FILTERS),
    listed=Listed(after="plan.warm_up"),
    source=_PLAN_SOURCE,
    titles={
        "unproven": "The plan asks for filters, but no wheel's slots are named",
        "holds": "Every filter that the plan asks for is in a slot",
        "fails": "The plan asks for {gone}, which is in no slot: the run would wait for ever",
    },
    remedies={
        "unproven": "Name the wheel's slots on the Devices sheet.",
        "fails": "Correct the names in the plan, or put the filters in.",
    },
)
def filters_asked(evaluation: Evaluation) -> Iterator[Statement]:
    """Has the wheel every filter that the plan asks for?"""
    plan = evaluation.rig.plan
    if plan is None or not plan.filters:
        return
    wheels = [device for device in evaluation.rig.devices if device.kind == "filter_wheel" and device.slots]
    names = {name for wheel in wheels for name in wheel.slot_names if name}
    gone = [name for name in plan.filters if name not in names]
    near = {name.casefold(): name for name in names}
    hints = [f"{name}: the wheel writes it {near[name.casefold()]}" for name in gone if name.casefold() in near]
    verdict = Verdict.UNPROVEN if not wheels else Verdict.FAILS if gone else Verdict.HOLDS
    lines = (f"plan: {', '.join(plan.filters)}", f"wheel: {', '.join(sorted(names)) or '–'}", *hints)
    yield say(wheels[0].id if wheels else "plan", None, verdict, {"gone": ", ".join(gone)}, lines=lines)


def _storages(evaluation: Evaluation) -> list[tuple[Device, Storage]]:
    return [(device, storage) for device in evaluation.rig.devices for storage in device.storage]


@finding(
    "storage.space",
    step=DEVICES,
    proves=Proof(condition=conditions.STORAGE, needed="no disk and no planned frames are entered"),
    listed=Listed(after="plan.night"),
    source=_SPACE_SOURCE,
    titles={
        "": "{disk} has {free:0} GB free; the night takes {wanted:1} GB",
        "not known": "Disk space for the night is not verified: {missing} not entered",
    },
    remedies={
        "": "Free {lacking:0} GB on {disk}, or plan fewer frames.",
        "fits": "",
        "not known": "Enter {missing}.",
    },
)
def storage_space(evaluation: Evaluation) -> Iterator[Statement]:
    """Is there disk space for the planned frames?"""
    from wyntaxis.core.evidence.ports.match import frame_bytes

    plan, sensor, stores = evaluation.rig.plan, evaluation.rig.sensor, _storages(evaluation)
    places = [(device, storage) for device, storage in stores if storage.free_gb is not None]
    if plan is None or plan.frames is None or sensor is None or not places:
        if stores or (plan is not None and plan.frames is not None):
            missing = "the free space of the disks"
            if places:
                missing = "the planned number of frames" if sensor else "the sensor"
            subject = stores[0][0].id if stores else "plan"
            yield say(subject, None, Verdict.UNPROVEN, {"missing": missing}, case="not known")
        return
    size = frame_bytes(sensor, sensor.binning)
    for room in rooms(evaluation):
        row, free, wanted = evaluation.rows[FREE.id_of(room.id)], room.free_gb, room.wanted_gb
        lines = (
            f"{counted(plan.frames, 'frame')} × {number(size / 1e6, 1)} MB × {short(SPACE_RESERVE)} = "
            f"{number(wanted, 1)} GB",
            f"free: {number(free, 1)} GB",
        )
        named: dict[str, Named] = {"disk": room.storage.name, "free": free, "wanted": wanted, "lacking": wanted - free}
        cure = "" if row.verdict is Verdict.FAILS else "fits"
        yield say(room.device.id, row, None, named, cure=cure, lines=lines)


@finding(
    "storage.copy",
    step=DEVICES,
    proves=Proof(condition=conditions.STORAGE, needed="no disk is entered"),
    listed=Listed(after="storage.space"),
    source=_SPACE_SOURCE,
    titles={"holds": "Images are kept in two places", "": "Images are kept in one place only"},
    remedies="Send a second copy to another disk or over the network, and enter it here.",
)
def storage_copy(evaluation: Evaluation) -> Iterator[Statement]:
    """Are the images kept in two places?"""
    places = _storages(evaluation)
    if not places:
        return
    images = [storage for _, storage in places if storage.holds in ("images", None)]
    copies = [storage for _, storage in places if storage.holds == "copy"]
    cards = [storage.name for storage in images if storage.kind == "card"]
    lines = [
        f"images: {', '.join(s.name for s in images) or '–'}",
        f"second copy: {', '.join(s.name for s in copies) or '–'}",
    ]
    if cards and not copies:
        lines.append(f"{cards[0]} is a card, which wears out by writing")
    yield say(places[0][0].id, None, Verdict.HOLDS if copies and images else Verdict.FAILS, lines=lines)


@finding(
    "power.supply",
    step=DEVICES,
    proves=Proof(condition=conditions.POWER, needed="no supply is entered"),
    listed=Listed(after="storage.copy"),
    source="Σ current per supply, with 20 % in reserve",
    titles={
        "": "{supply} feeds {peak:1} A of its {rated} A",
        "no rating": "{supply} has no rating",
        "no draw": "What {device} draws is not entered",
    },
    remedies={
        "": "Move {excess:1} A to another supply, such as the dew heaters.",
        "unproven": _DRAW,
        "no rating": "Enter the current that it is rated for.",
        "no draw": "Enter its usual and its highest current, and its supply, on the Devices sheet.",
    },
)
def power_supply(evaluation: Evaluation) -> Iterator[Statement]:
    """Can each supply feed all that hangs on it, with 20 % in reserve?"""
    yield from _no_figures(evaluation)
    for entry in fed(evaluation):
        supply, row = entry.supply, evaluation.rows.get(CURRENT.id_of(entry.supply.id))
        if row is None or supply.rated_a is None or entry.allowed_a is None:
            continue
        lines = [_draw_line(draw, evaluation.rig) for draw in entry.draws]
        lines += [f"{device.title}: not entered" for device in entry.unknown]
        lines.append(
            f"{terms([draw.peak_a for draw in entry.draws], 2)} = {number(entry.peak_a, 2)} A at the most, rated "
            f"{short(supply.rated_a)} A, with {number(100 * SUPPLY_RESERVE, 0)} % in reserve "
            f"{number(entry.allowed_a, 2)} A"
        )
        named: dict[str, Named] = {
            "supply": supply.title,
            "peak": entry.peak_a,
            "rated": supply.rated_a,
            "excess": entry.peak_a - entry.allowed_a,
            "unknown": _unknown(entry),
        }
        yield say(supply.id, row, None, named, lines=lines)


def _unknown(entry: Fed) -> str:
    return entry.unknown[0].title if entry.unknown else "each device"


def _no_figures(evaluation: Evaluation) -> Iterator[Statement]:
    """Yield what keeps the supplies from being verified: a supply without a rating, a device without its current."""
    rig = evaluation.rig
    for supply in rig.supplies:
        hangs = any(device.power is not None and device.power.supply == supply.id for device in rig.devices)
        if supply.rated_a is None and hangs:
            yield say(supply.id, None, Verdict.UNPROVEN, {"supply": supply.title}, case="no rating")
    for device in rig.devices if rig.supplies else ():
        power = device.power
        known = power is not None and (power.current_a is not None or power.peak_a is not None)
        feeds = power is not None and power.supply is not None
        if not known and (feeds or device.kind == "camera"):
            yield say(device.id, None, Verdict.UNPROVEN, {"device": device.title}, case="no draw")


def _draw_line(draw: Draw, rig: Rig) -> str:
    """Return what a device takes from a supply, with what it draws itself where a converter is in between."""
    own = draw_of(draw.device)
    line = f"{draw.device.title}: {short(draw.peak_a, 3)} A"
    if own is None or own.peak_a == draw.peak_a or draw.device.power is None:
        return line
    at = next((supply for supply in rig.supplies if supply.id == draw.device.power.supply), None)
    return line if at is None else f"{line} for {short(own.peak_a)} A at {short(at.voltage_v or 0.0)} V"


@finding(
    "power.battery",
    step=DEVICES,
    proves=Proof(condition=conditions.POWER),
    listed=Listed(after="power.supply"),
    source="Hours = capacity × usable share / usual current",
    titles="{battery} lasts {hours:1} h",
    remedies={
        "": "Use a larger battery, a warmer set temperature, or less dew heating.",
        "no night": "Enter the hours of the night in the plan.",
        "no draw": _DRAW,
    },
)
def power_battery(evaluation: Evaluation) -> Iterator[Statement]:
    """Does each battery last the night?"""
    wanted = evaluation.rig.plan.hours if evaluation.rig.plan else None
    for entry in fed(evaluation):
        supply, row = entry.supply, evaluation.rows.get(BATTERY.id_of(entry.supply.id))
        if row is None or supply.capacity_ah is None or entry.hours is None:
            continue
        lines = (
            f"{short(supply.capacity_ah)} Ah × {short(entry.usable_share)} / {number(entry.usual_a, 2)} A = "
            f"{number(entry.hours, 1)} h",
            f"the night: {short(wanted)} h" if wanted else "the plan does not say how long the night is",
        )
        cure = str(row.verdict)
        if row.verdict is not Verdict.HOLDS and wanted is None:
            cure = "no night"
        elif row.verdict is Verdict.UNPROVEN and entry.unknown:
            cure = "no draw"
        named: dict[str, Named] = {"battery": supply.title, "hours": entry.hours, "unknown": _unknown(entry)}
        yield say(supply.id, row, None, named, cure=cure, lines=lines)

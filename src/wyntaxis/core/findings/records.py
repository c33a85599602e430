"""Do the programs hold the rig's values? One finding for each difference, or one that says a topic agrees."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Proof, Statement, finding, say
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantities.read_tracking import chosen
from wyntaxis.core.records.compare import Cell, Matrix, Row, value_text
from wyntaxis.core.records.likely_causes import is_placeholder, likely_cause_of_list
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.steps import RECORDS
from wyntaxis.core.wording import counted, number, short

MAX_NAMED = 4
_SOURCE = "A program's record is compared with the rig, quantity by quantity"
_SLOTS_SOURCE = "Slots named in order, none blank or unused, no name twice, the same order in every record"
_ENTRIES_SOURCE = "One device, one entry, one role, one port: identity is vendor:product and serial number"

_TOPICS = {
    "focal_length": "Focal lengths and scales",
    "pixel": "Pixel sizes",
    "gain": "Gain",
    "offset": "Offset",
    "temperature": "Set temperature",
    "driver": "Drivers and their versions",
    "connection": "Ports and connection modes",
    "direction": "Directions of motors",
    "traffic": "USB traffic limits",
    "guiding": "Guide settings",
    "site": "Site",
    "setting": "Other settings",
}
"""What each topic of the comparison is called."""


def _record_name(found: Matrix, record_id: str) -> str:
    return next(record.name for record in found.records if record.id == record_id)


def _topic(evaluation: Evaluation, topic: str) -> Iterator[Statement]:
    found = evaluation.matrix
    rows = chosen(found.rows, lambda row: row.item.topic == topic)
    compared = [cell for row in rows for cell in row.cells if cell.state in ("agrees", "differs")]
    for row in rows:
        for cell in row.differing:
            yield _difference(found, row, cell)
    if compared and all(cell.state == "agrees" for cell in compared):
        names = ", ".join(dict.fromkeys(_record_name(found, cell.record) for cell in compared))
        lines = tuple(f"{row.item.label}: {_with_unit(row.text, row)}" for row in rows if row.item.value is not None)
        yield say(topic, None, Verdict.HOLDS, {"topic": _TOPICS[topic], "programs": names}, lines=lines)


def _with_unit(text: str, row: Row) -> str:
    return f"{text} {row.item.unit}".rstrip()


def _difference(found: Matrix, row: Row, cell: Cell) -> Statement:
    program, has, wanted = _record_name(found, cell.record), _with_unit(cell.text, row), _with_unit(row.text, row)
    lines = [f"{program}: {has}", f"rig: {wanted}"]
    if cell.by:
        allowed = f", allowed ±{short(row.item.tolerance, 3)} {row.item.unit}".rstrip() if row.item.tolerance else ""
        lines.append(f"difference: {cell.by}{allowed}")
    named = {
        "program": program,
        "label": row.item.label,
        "has": has,
        "wanted": wanted,
        "story": f" ({cell.story})" if cell.story else "",
    }
    return say(row.item.device or row.item.id, row.item, Verdict.FAILS, named, lines=lines)


def _declare(topic: str, condition: conditions.Condition, after: str, needed: str = "", rank: int = 0) -> None:
    declare = finding(
        f"records.{topic}",
        step=RECORDS,
        proves=Proof(condition=condition, needed=needed, rank=rank),
        listed=Listed(after=after),
        source=_SOURCE,
        titles={
            "fails": "{label}: {program} has {has}, the rig {wanted}{story}",
            "holds": "{topic}: {programs} and the rig agree",
        },
        remedies="Enter {wanted} in {program}, or correct the rig if the program is right.",
    )
    declare(partial(_topic, topic=topic))


_declare("focal_length", conditions.FOCAL_LENGTH, "legs.agree", "no program's focal length is recorded")
_declare("pixel", conditions.FOCAL_LENGTH, "records.focal_length", "no program's pixel size is recorded")
_declare("gain", conditions.GAIN, "records.pixel", "no program's gain is recorded")
_declare("offset", conditions.GAIN, "records.gain", "no program's offset is recorded")
_declare("temperature", conditions.COOLING, "records.offset", rank=1)
_declare("driver", conditions.DRIVERS, "records.temperature", "no program's driver version is recorded")
_declare("connection", conditions.CONNECTIONS, "records.driver")
_declare("direction", conditions.FOCUSER, "records.connection")
_declare("traffic", conditions.USB, "records.direction", rank=1)
_declare("guiding", conditions.SETTINGS, "records.traffic")
_declare("site", conditions.SETTINGS, "records.guiding", "no program's site is recorded")
_declare("setting", conditions.SETTINGS, "records.site", rank=-1)


def _slot_lists(evaluation: Evaluation) -> Iterator[tuple[str, Row, Cell]]:
    found = evaluation.matrix
    for row in chosen(found.rows, lambda row: row.item.topic == "slots"):
        for cell in row.cells:
            if isinstance(cell.value, tuple):
                yield _record_name(found, cell.record), row, cell


@finding(
    "wheel.order",
    step=RECORDS,
    proves=Proof(condition=conditions.FILTERS, needed="no program's order of filters is recorded"),
    listed=Listed(after="records.port"),
    source=_SLOTS_SOURCE,
    titles={
        "fails": "The filters in {program} are not those of the wheel: {cause}",
        "holds": "The order of the filters agrees in {programs}",
    },
    remedies="Name the filters in {program} in this order: {order}.",
)
def wheel_order(evaluation: Evaluation) -> Iterator[Statement]:
    """Compare every program's list of filters with the wheel's slots."""
    agreeing = []
    for name, row, cell in _slot_lists(evaluation):
        has, wanted = cell.value, row.item.value
        assert isinstance(has, tuple)
        if not isinstance(wanted, tuple):
            continue
        kept = tuple(n for n in has if n in wanted or not is_placeholder(n))
        if kept == wanted:
            agreeing.append((name, row))
            continue
        named = {"program": name, "cause": likely_cause_of_list(kept, wanted), "order": row.text}
        lines = (f"{name}: {value_text(has, row.item)}", f"wheel: {row.text}")
        yield say(row.item.device or row.item.id, row.item, Verdict.FAILS, named, lines=lines)
    if agreeing:
        row = agreeing[0][1]
        named = {"programs": ", ".join(name for name, _ in agreeing)}
        yield say(row.item.device or row.item.id, None, Verdict.HOLDS, named, lines=(row.text,))


@finding(
    "wheel.leftover",
    step=RECORDS,
    proves=Proof(condition=conditions.FILTERS, needed="the wheel's slots are not named"),
    listed=Listed(after="wheel.order"),
    source=_SLOTS_SOURCE,
    titles={
        "fails": "{list}: {faults}; a run that asks for it waits for ever or exposes through the wrong filter",
        "holds": "No slot is left over in {lists} of filters",
    },
    remedies="Take the unused slots out of the list of {list}, and name every filter once.",
)
def wheel_leftover(evaluation: Evaluation) -> Iterator[Statement]:
    """Find slots that are blank, unnamed, unused or named twice, in the wheel itself and in every program's list."""
    lists = [(f"{device.title}, the wheel itself", device.id, device.slot_names) for device in _wheels(evaluation)]
    lists += [
        (name, row.item.device or row.item.id, cell.value)
        for name, row, cell in _slot_lists(evaluation)
        if isinstance(cell.value, tuple)
    ]
    clean = []
    for name, subject, names in lists:
        spare = [(index + 1, text) for index, text in enumerate(names) if is_placeholder(text)]
        twice = sorted({text for text in names if names.count(text) > 1 and not is_placeholder(text)})
        if not spare and not twice:
            clean.append((name, subject))
            continue
        faults = [f"slot {index} is {f'“{text}”' if text.strip() else 'blank'}" for index, text in spare]
        faults += [f"“{text}” is listed {names.count(text)} times" for text in twice]
        lines = tuple(f"{index}: {text or '(blank)'}" for index, text in enumerate(names, start=1))
        yield say(subject, None, Verdict.FAILS, {"list": name, "faults": ", ".join(faults)}, lines=lines)
    if clean:
        named: dict[str, Named] = {"lists": counted(len(clean), "list")}
        yield say(clean[0][1], None, Verdict.HOLDS, named, lines=tuple(name for name, _ in clean))


def _wheels(evaluation: Evaluation) -> list[Device]:
    return [device for device in evaluation.rig.devices if device.kind == "filter_wheel" and device.slots]


@finding(
    "records.sides",
    step=RECORDS,
    proves=Proof(condition=conditions.SIDES),
    listed=Listed(after="records.setting"),
    source="Server and client of one program each keep a profile; both must hold the same",
    titles={
        "fails": "{one} and {other} differ in {off} of {common} values that both hold",
        "": "{one} and {other} hold the same {common} values",
    },
    remedies={"fails": "Make both ends the same, then restart the one that was changed."},
)
def sides(evaluation: Evaluation) -> Iterator[Statement]:
    """Compare the two ends of one program: what its server and its client hold of the same quantity."""
    found = evaluation.matrix
    for index, record in enumerate(found.records):
        for other in found.records[index + 1 :]:
            if record.pair is None or record.pair != other.pair or record.side == other.side:
                continue
            common = [key for key in record.values if key in other.values]
            off = [key for key in common if record.values[key] != other.values[key]]
            differing = chosen(found.rows, lambda row, keys=frozenset(off): row.item.id in keys)  # type: ignore[misc]
            items = {row.item.id: row.item for row in differing}
            lines = [
                f"{items[key].label}: {record.name} {value_text(record.values[key], items[key])}, "
                f"{other.name} {value_text(other.values[key], items[key])}"
                for key in off
            ]
            verdict = Verdict.FAILS if off else Verdict.HOLDS if common else Verdict.UNPROVEN
            named: dict[str, Named] = {
                "one": record.name,
                "other": other.name,
                "off": len(off),
                "common": len(common),
            }
            subject = off[0] if off else record.pair
            yield say(subject, [items[key] for key in off], verdict, named, lines=lines)


@finding(
    "records.unknown",
    step=RECORDS,
    listed=Listed(after="records.sides"),
    source=_SOURCE,
    titles="{program} holds what the rig does not state: {labels}",
    remedies="State it in the rig, or take it out of the record of {program}.",
)
def not_compared(evaluation: Evaluation) -> Iterator[Statement]:
    """Find values of programs that nothing in the rig can be compared with."""
    found = evaluation.matrix
    for record in found.records:
        cells = [
            (row, cell)
            for row in found.rows
            for cell in row.cells
            if cell.record == record.id and cell.state == "unknown"
        ]
        if cells:
            labels = [row.item.label for row, _ in cells]
            more = f" and {len(labels) - MAX_NAMED} more" if len(labels) > MAX_NAMED else ""
            lines = [f"{row.item.label}: {_with_unit(cell.text, row)}" for row, cell in cells]
            named = {"program": record.name, "labels": ", ".join(labels[:MAX_NAMED]) + more}
            yield say(record.id, None, Verdict.UNPROVEN, named, lines=lines)


@finding(
    "records.version",
    step=RECORDS,
    listed=Listed(after="records.unknown"),
    source=_SOURCE,
    titles={
        "tight": "{program} has version {version}, {other} has {other_version}",
        "holds": "{program} and {other} have the same version, {version}",
        "unproven": "{program} has version {version}: nothing shows whether that is the right one",
    },
    remedies={
        "tight": "Update the older of the two.",
        "unproven": "Read its record again after each update: a change of version is shown beside what it affects.",
    },
)
def versions(evaluation: Evaluation) -> Iterator[Statement]:
    """Have the two ends of a program the same version? One that has no other end is not compared with anything."""
    # By their ids: it is one question of the two, in whatever order they are listed.
    records = sorted(evaluation.matrix.records, key=lambda own: own.id)
    for record in records:
        if record.version is None:
            continue
        others = [own for own in records if own is not record and record.pair is not None and own.pair == record.pair]
        known = [own for own in others if own.version is not None]
        off = [own for own in known if own.version != record.version]
        if known and records.index(known[0]) < records.index(record):
            continue  # said with the first of the two
        # Two ends may differ by a version and still understand each other: doubtful, not wrong.
        verdict = Verdict.TIGHT if off else Verdict.HOLDS if known else Verdict.UNPROVEN
        named: dict[str, Named] = {"program": record.name, "version": record.version}
        if known:
            other = (off or known)[0]
            named |= {"other": other.name, "other_version": other.version or ""}
        yield say(record.id, None, verdict, named)


def _entry_findings(evaluation: Evaluation, fault: str) -> Iterator[Statement]:
    rig, lists, is_found = evaluation.rig, evaluation.entry_faults, False
    for name, faults in lists:
        for entry in faults:
            if entry.fault == fault:
                is_found = True
                subject = next((d.id for d in rig.devices if d.title in entry.names), entry.names[0])
                yield say(subject, None, Verdict.FAILS, {"list": name, "fault": entry.text}, lines=entry.names)
    if lists and not is_found:
        named: dict[str, Named] = {"lists": counted(len(lists), "list")}
        yield say("devices", None, Verdict.HOLDS, named, lines=[name for name, _ in lists])


def _declare_entries(fault: str, after: str, holds: str, remedy: str) -> None:
    declare = finding(
        f"records.{fault}",
        step=RECORDS,
        proves=Proof(condition=conditions.ONE_ENTRY),
        listed=Listed(after=after),
        source=_ENTRIES_SOURCE,
        titles={"fails": "In {list}, {fault}", "holds": f"In {{lists}} of devices, {holds}"},
        remedies=remedy,
    )
    declare(partial(_entry_findings, fault=fault))


_declare_entries(
    "duplicate",
    "records.version",
    "no device is entered twice",
    "Remove one of the two entries, and choose the other wherever it was chosen.",
)
_declare_entries(
    "role",
    "records.duplicate",
    "each device has one role",
    "Choose the right device for each role, by its serial number.",
)
_declare_entries(
    "port",
    "records.role",
    "no port is shared",
    "Give each device its own stable port, from dev/serial/by-id.",
)


def summary(found: Matrix) -> str:
    """Return how many values agree, differ and are missing, in words."""
    counts = {"agrees": 0, "differs": 0, "missing": 0, "unknown": 0}
    for row in found.rows:
        for cell in row.cells:
            counts[cell.state] += 1
    return (
        f"{number(counts['agrees'], 0)} agree, {number(counts['differs'], 0)} differ, "
        f"{number(counts['missing'], 0)} not recorded, {number(counts['unknown'], 0)} not stated in the rig"
    )

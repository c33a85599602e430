"""Do the programs hold what the rig says? One finding for each difference, or one that says a matter agrees."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantities.read_tracking import chosen
from wyntaxis.core.records.compare import Cell, Matrix, Row, value_text
from wyntaxis.core.records.likely_causes import is_placeholder, likely_cause_of_list
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.steps import RECORDS
from wyntaxis.core.wording import number, short

MAX_NAMED = 4
_SOURCE = "A program's record is compared with the rig, quantity by quantity"
_SLOTS_SOURCE = "Slots named in order, none blank or unused, no name twice, the same order in every record"
_ENTRIES_SOURCE = "One device, one entry, one role, one port: identity is vendor:product and serial number"

# Which topic of the comparison each finding speaks of, and what the matter is called.
_TOPICS = {
    "records.focal_length": ("focal_length", "Focal lengths and scales"),
    "records.pixel": ("pixel", "Pixel sizes"),
    "records.gain": ("gain", "Gain"),
    "records.offset": ("offset", "Offset"),
    "records.temperature": ("temperature", "Set temperature"),
    "records.driver": ("driver", "Drivers and their versions"),
    "records.connection": ("connection", "Ports and connection modes"),
    "records.direction": ("direction", "Directions of motors"),
    "records.traffic": ("traffic", "USB traffic limits"),
    "records.guiding": ("guiding", "Guide settings"),
    "records.site": ("site", "The site"),
    "records.setting": ("setting", "Other settings"),
}


def _record_name(found: Matrix, record_id: str) -> str:
    return next(record.name for record in found.records if record.id == record_id)


def _topic(evaluation: Evaluation, finding_id: str) -> Iterator[Finding]:
    topic, name = _TOPICS[finding_id]
    found = evaluation.matrix
    rows = chosen(found.rows, lambda row: row.item.topic == topic)
    entries = [cell for row in rows for cell in row.cells if cell.state in ("agrees", "differs")]
    for row in rows:
        for cell in row.differing:
            yield _difference(finding_id, found, row, cell)
    if entries and all(cell.state == "agrees" for cell in entries):
        names = ", ".join(dict.fromkeys(_record_name(found, cell.record) for cell in entries))
        title = f"{name}: what {names} {'hold' if ',' in names else 'holds'} agrees with the rig"
        lines = tuple(f"{row.item.label}: {_with_unit(row.text, row)}" for row in rows if row.item.value is not None)
        yield Finding(finding_id, Verdict.HOLDS, topic, title, lines, NO_REMEDY, _SOURCE)


def _with_unit(text: str, row: Row) -> str:
    return f"{text} {row.item.unit}".rstrip()


def _difference(finding_id: str, found: Matrix, row: Row, cell: Cell) -> Finding:
    name = _record_name(found, cell.record)
    story = f": {cell.story}" if cell.story else ""
    label = row.item.label if row.item.device else row.item.label[:1].lower() + row.item.label[1:]
    lines = [f"{name}: {_with_unit(cell.text, row)}", f"rig: {_with_unit(row.text, row)}"]
    if cell.by:
        allowed = f", allowed ±{short(row.item.tolerance, 3)} {row.item.unit}".rstrip() if row.item.tolerance else ""
        lines.append(f"difference: {cell.by}{allowed}")
    return Finding(
        finding_id,
        Verdict.FAILS,
        row.item.device or row.item.id,
        f"{name} has {label} {_with_unit(cell.text, row)}, the rig {_with_unit(row.text, row)}{story}",
        tuple(lines),
        Remedy(f"type {_with_unit(row.text, row)} into {name}, or correct the rig if the program is right"),
        _SOURCE,
        (row.item.id,),
    )


def _declare(matter: str, condition: conditions.Condition, after: str, needed: str = "", rank: int = 0) -> None:
    finding_id = f"records.{matter}"
    declare = finding(finding_id, step=RECORDS, condition=condition, after=after, needed=needed, rank=rank)
    declare(partial(_topic, finding_id=finding_id))


_declare("focal_length", conditions.FOCAL_LENGTH, "legs.agree", "no program has the focal length on file")
_declare("pixel", conditions.FOCAL_LENGTH, "records.focal_length", "no program has the pixel size on file")
_declare("gain", conditions.GAIN, "records.pixel", "no program has the gain on file")
_declare("offset", conditions.GAIN, "records.gain", "no program has the offset on file")
_declare("temperature", conditions.COOLING, "records.offset", rank=1)
_declare("driver", conditions.DRIVERS, "records.temperature", "no program has a driver's version on file")
_declare("connection", conditions.CONNECTIONS, "records.driver")
_declare("direction", conditions.FOCUSER, "records.connection")
_declare("traffic", conditions.USB, "records.direction", rank=1)
_declare("guiding", conditions.SETTINGS, "records.traffic")
_declare("site", conditions.SETTINGS, "records.guiding", "no program has the site on file")
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
    condition=conditions.FILTERS,
    after="records.port",
    needed="no program has the filters' order on file",
)
def wheel_order(evaluation: Evaluation) -> Iterator[Finding]:
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
        yield Finding(
            "wheel.order",
            Verdict.FAILS,
            row.item.device or row.item.id,
            f"The filters of {name} are not those of the wheel: {likely_cause_of_list(kept, wanted)}",
            (f"{name}: {value_text(has, row.item)}", f"wheel: {row.text}"),
            Remedy(f"name the filters of {name} in this order: {row.text}"),
            _SLOTS_SOURCE,
            (row.item.id,),
        )
    if agreeing:
        names = ", ".join(name for name, _ in agreeing)
        row = agreeing[0][1]
        title = f"The order of the filters agrees in {names}"
        subject = row.item.device or row.item.id
        yield Finding("wheel.order", Verdict.HOLDS, subject, title, (row.text,), NO_REMEDY, _SLOTS_SOURCE)


@finding(
    "wheel.leftover",
    step=RECORDS,
    condition=conditions.FILTERS,
    after="wheel.order",
    needed="the wheel's slots are not named",
)
def wheel_leftover(evaluation: Evaluation) -> Iterator[Finding]:
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
        faults += [f"“{text}” stands {names.count(text)} times" for text in twice]
        yield Finding(
            "wheel.leftover",
            Verdict.FAILS,
            subject,
            f"{name}: {', '.join(faults)}; a run that asks for it hangs or shoots through the wrong filter",
            tuple(f"{index}: {text or '(blank)'}" for index, text in enumerate(names, start=1)),
            Remedy(f"take the unused slots out of the list of {name}, and name every filter once"),
            _SLOTS_SOURCE,
        )
    if clean:
        title = f"No slot is left over in {len(clean)} list{'s' if len(clean) > 1 else ''} of filters"
        lines = tuple(name for name, _ in clean)
        yield Finding("wheel.leftover", Verdict.HOLDS, clean[0][1], title, lines, NO_REMEDY, _SLOTS_SOURCE)


def _wheels(evaluation: Evaluation) -> list[Device]:
    return [device for device in evaluation.rig.devices if device.kind == "filter_wheel" and device.slots]


@finding("records.sides", step=RECORDS, condition=conditions.SIDES, after="records.setting")
def sides(evaluation: Evaluation) -> Iterator[Finding]:
    """Compare the two ends of one program: what its server and its client hold of the same quantity."""
    found = evaluation.matrix
    for index, record in enumerate(found.records):
        for other in found.records[index + 1 :]:
            if record.pair is None or record.pair != other.pair or record.side == other.side:
                continue
            common = [key for key in record.values if key in other.values]
            off = [key for key in common if record.values[key] != other.values[key]]
            differing = chosen(found.rows, lambda row, keys=frozenset(off): row.item.id in keys)  # type: ignore[misc]
            labels = {row.item.id: row.item for row in differing}
            lines = tuple(
                f"{labels[key].label}: {record.name} {value_text(record.values[key], labels[key])}, "
                f"{other.name} {value_text(other.values[key], labels[key])}"
                for key in off
            )
            subject = off[0] if off else record.pair
            yield Finding(
                "records.sides",
                Verdict.FAILS if off else Verdict.HOLDS if common else Verdict.UNPROVEN,
                subject,
                f"{record.name} and {other.name} differ in {len(off)} of {len(common)} values that both hold"
                if off
                else f"{record.name} and {other.name} hold the same {len(common)} values",
                lines,
                Remedy("make both ends the same, then restart the one that was changed") if off else NO_REMEDY,
                "Server and client of one program each keep a profile; both must hold the same",
                tuple(off),
            )


def _entry_findings(evaluation: Evaluation, finding_id: str, fault: str, remedy: str) -> Iterator[Finding]:
    rig, lists, entries = evaluation.rig, evaluation.entry_faults, False
    for name, faults in lists:
        for entry in faults:
            if entry.fault == fault:
                entries = True
                subject = next((d.id for d in rig.devices if d.title in entry.names), entry.names[0])
                title, fix = f"In {name}, {entry.text}", Remedy(remedy)
                yield Finding(finding_id, Verdict.FAILS, subject, title, entry.names, fix, _ENTRIES_SOURCE)
    if lists and not entries:
        words = {"duplicate": "no device stands twice", "role": "each device has one role", "port": "no port is shared"}
        title = f"In {len(lists)} list{'s' if len(lists) > 1 else ''} of devices {words[fault]}"
        lines = tuple(name for name, _ in lists)
        yield Finding(finding_id, Verdict.HOLDS, "devices", title, lines, NO_REMEDY, _ENTRIES_SOURCE)


def _declare_entries(fault: str, after: str, remedy: str) -> None:
    finding_id = f"records.{fault}"
    declare = finding(finding_id, step=RECORDS, condition=conditions.ONE_ENTRY, after=after)
    declare(partial(_entry_findings, finding_id=finding_id, fault=fault, remedy=remedy))


@finding("records.unknown", step=RECORDS, after="records.sides")
def not_compared(evaluation: Evaluation) -> Iterator[Finding]:
    """Tell what programs hold that nothing in the rig can be held against."""
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
            yield Finding(
                "records.unknown",
                Verdict.UNPROVEN,
                record.id,
                f"{record.name} holds what the rig does not state: {', '.join(labels[:MAX_NAMED])}{more}",
                tuple(f"{row.item.label}: {_with_unit(cell.text, row)}" for row, cell in cells),
                Remedy(f"State it in the rig, or take it out of the record of {record.name}."),
                _SOURCE,
            )


@finding("records.version", step=RECORDS, after="records.unknown")
def versions(evaluation: Evaluation) -> Iterator[Finding]:
    """Are the two ends of a program of one version? One that has no other end is not compared with anything."""
    # By their ids: it is one question of the two, in whatever order they are listed.
    records = sorted(evaluation.matrix.records, key=lambda own: own.id)
    for record in records:
        if record.version is None:
            continue
        others = [own for own in records if own is not record and record.pair is not None and own.pair == record.pair]
        entries = [own for own in others if own.version is not None]
        off = [own for own in entries if own.version != record.version]
        if entries and records.index(entries[0]) < records.index(record):
            continue  # said with the first of the two
        # Two ends may differ by a version and still understand each other: doubtful, not wrong.
        verdict = Verdict.TIGHT if off else Verdict.HOLDS if entries else Verdict.UNPROVEN
        title = (
            f"{record.name} is of version {record.version}, {off[0].name} of {off[0].version}"
            if off
            else f"{record.name} and {entries[0].name} are of one version, {record.version}"
            if entries
            else f"{record.name} is of version {record.version}: nothing says whether that is the right one"
        )
        remedy = (
            Remedy("Update the older of the two.")
            if off
            else NO_REMEDY
            if entries
            else Remedy(
                "Bring in its record again after each update: a change of version is shown beside what it affects."
            )
        )
        yield Finding("records.version", verdict, record.id, title, (), remedy, _SOURCE)


_declare_entries(
    "duplicate", "records.version", "remove one of the two entries, and choose the other wherever it was chosen"
)
_declare_entries("role", "records.duplicate", "choose the right device for each role, by its serial number")
_declare_entries("port", "records.role", "give each device its own stable port, from dev/serial/by-id")


def summary(found: Matrix) -> str:
    """Return how many values agree, differ and are missing, in words."""
    counts = {"agrees": 0, "differs": 0, "missing": 0, "unknown": 0}
    for row in found.rows:
        for cell in row.cells:
            counts[cell.state] += 1
    return (
        f"{number(counts['agrees'], 0)} agree, {number(counts['differs'], 0)} differ, "
        f"{number(counts['missing'], 0)} not on file, {number(counts['unknown'], 0)} not stated in the rig"
    )

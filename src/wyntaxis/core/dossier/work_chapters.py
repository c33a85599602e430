"""Chapters to work by: what to type where, building anew from nothing, packing and reassembly, photographs."""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.dossier.blocks import Block, Lines, Photo, Words, table
from wyntaxis.core.dossier.dossier_input import DossierInput
from wyntaxis.core.dossier.photos import photo_data
from wyntaxis.core.dossier.section_picture import camera_angle
from wyntaxis.core.dossier.typing_pages import typing_pages
from wyntaxis.core.next_measurements import next_measurements
from wyntaxis.core.records.incidents import matching, title_of
from wyntaxis.core.records.start_order import start_order
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.rig.parts import Part
from wyntaxis.core.wording import short

TYPED_MARKS = {"agrees": "✓ agrees", "differs": "✕ differs", "missing": "◌ missing", "unknown": "◌ rig says nothing"}
FIRST_DEVICES = ("computer", "power_box", "hub", "relay_switch", "mount", "camera", "guide_camera", "filter_wheel")
MAX_MEASUREMENTS = 6
TRAVELLED = ("sweep", "solved_frame", "focus_night", "star_frames", "guide_calibration")
"""Kinds of measurement that a journey puts in doubt."""


def typing(given: DossierInput) -> Iterator[Block]:
    """Yield a page for each program: each value in the unit and form that it wants, differences marked."""
    pages = typing_pages(given.evaluation)
    if not pages:
        yield Words("No program's record is kept yet: bring one in on the Programs sheet.")
    for page in pages:
        rows = [
            [line.label, line.type_this, line.unit, line.there_now, TYPED_MARKS[line.mark], line.note]
            for line in page.lines
            if not (given.private and line.quantity.startswith("site."))
        ]
        version = f" {page.record.version}" if page.record.version else ""
        title = f"{page.record.name}{version}: {page.differing} of {len(page.lines)} differ"
        bold = [place for place, line in enumerate(page.lines) if line.mark == "differs"] if not given.private else []
        yield table(
            "what | type this | unit | there now | stands | form, or likely cause", rows, title=title, bold=bold, wide=5
        )


def rebuild(given: DossierInput) -> Iterator[Block]:
    """Yield the order in which everything is built anew from nothing, and what is to be installed, with versions."""
    rig = given.evaluation.rig
    lines = [
        "Put the train together in the order of the parts list, each spacer where it says; measure what is measured."
    ]
    for supply in rig.supplies:
        fed = [device.title for device in rig.devices if device.power is not None and device.power.supply == supply.id]
        if fed:
            lines.append(f"Feed from {supply.title}: {', '.join(fed)}.")
    lines.append("Install what the list below says, the drivers before anything is plugged in; restart the computer.")
    ordered = sorted(rig.devices, key=lambda own: FIRST_DEVICES.index(own.kind) if own.kind in FIRST_DEVICES else 99)
    lines += [
        f"Plug {_plugged(device)}." for device in ordered if device.connection is not None and device.connection.kind
    ]
    switched = [d for d in rig.devices if d.connection is not None and d.connection.mode]
    lines += [f"Set the switch of {d.title} to {d.connection.mode}." for d in switched if d.connection is not None]
    lines.append("Switch everything on, and look at the ports: each device is there, by its own identity (Ports).")
    order = start_order(rig.programs).order
    if order:
        lines.append(f"Start the programs in this order: {', '.join(program.name for program in order)}.")
    lines += [
        "Type into each program what its page says, or bring its file back and compare (Programs).",
        "Set each device as the settings say.",
    ]
    yield Lines(tuple(lines), "Order", "numbered")
    rows: list[list[object]] = []
    for device in rig.devices:
        driver = device.driver
        if driver is not None and (driver.name or driver.version):
            rows.append([driver.name, driver.version, f"driver of {device.title}", driver.installed])
    named = {program.id for program in rig.programs}
    held = [(own.name, own.version) for own in rig.programs]
    held += [(own.name, own.version) for own in rig.records if own.program not in named]
    rows += [[name, version, "program", None] for name, version in held]
    for device in rig.devices:
        if device.identity is not None and device.identity.firmware:
            rows.append([device.title, device.identity.firmware, "firmware", None])
    if rows:
        yield table("what | version | is | installed", rows, title="To install", wide=2)
    yield Words(
        "The file that holds everything (Dossier, ZIP) brings rig, shelf, key maps and history back on a new computer."
    )


def _plugged(device: Device) -> str:
    link = device.connection
    assert link is not None
    at = link.port or link.host or ""
    hub = f" at {link.hub}" if link.hub else ""
    return f"{device.title} by {link.kind}{hub}{f' ({at})' if at else ''}"


def packing(given: DossierInput) -> Iterator[Block]:
    """Yield what to note before the rig is taken apart, how it goes together again, and what to measure first then."""
    evaluation, rig = given.evaluation, given.evaluation.rig
    notes: list[list[object]] = []
    for _, part in rig.parts():
        entries = [f"mark: {part.mark}"] if part.mark else []
        if part.adjustable is not None:
            entries.append(f"set at {short(part.adjustable.set_mm, 2)} mm")
        if part.prism is not None:
            entries.append(f"prism {short(part.prism.edge_from_axis_mm)} mm from the axis")
        if entries:
            notes.append([part.title, "; ".join(entries)])
    for device in rig.devices:
        for key, unit in (("position", "steps"), ("position_deg", "°")):
            value = device.best(key)
            if value is not None:
                notes.append([device.title, f"counter at {short(value, 1)} {unit}"])
    if camera_angle(rig):
        notes.append(["Camera", camera_angle(rig)])
    yield table("part | index mark and reading", notes, title="Before it is taken apart", wide=1)
    order = [_assembled(part, place) for place, part in enumerate(rig.train)]
    order += [f"guide branch: {part.title} ({short(part.optical_length_mm, 2)} mm)" for part in rig.guiding.path]
    yield Lines(tuple(order), "Putting it together, from the telescope on", "numbered")
    found = [
        measurement
        for measurement in next_measurements(evaluation, given.shelf)
        if measurement.settles or measurement.out_of_date
    ]
    found.sort(key=lambda measurement: (measurement.kind.key not in TRAVELLED, -measurement.worth))
    rows = [
        [measurement.title, measurement.kind.needs, f"{measurement.kind.minutes:g}", len(measurement.settles)]
        for measurement in found[:MAX_MEASUREMENTS]
    ]
    if rows:
        yield table(
            "measurement | needs | minutes | numbers it settles", rows, title="Measure again first, after a journey",
            numbers=(2, 3), wide=0,
        )  # fmt: skip


def _assembled(part: Part, place: int) -> str:
    joint = f", by {part.front.thread}" if part.front is not None else ""
    mark = f", mark {part.mark}" if part.mark else ""
    return f"{part.title} ({short(part.optical_length_mm, 2)} mm{joint}{mark})"


def photographs(given: DossierInput) -> Iterator[Block]:
    """Yield the photographs, embedded or named; what cannot be shown says why."""
    for photo in given.evaluation.rig.photos:
        caption = photo.caption or photo.file
        if given.photos == "named":
            yield Photo(photo.file, caption)
            continue
        data, why = photo_data(photo.file, given.folder)
        yield Photo(photo.file, caption, data) if data else Words(f"{photo.file}: {why}")


def incidents(given: DossierInput) -> Iterator[Block]:
    """Yield what went wrong on nights before, the newest first, and what cured it."""
    rig = given.evaluation.rig
    rows: list[list[object]] = [
        [own.date, title_of(rig, own), own.symptom, own.tried, own.cure, own.frames_lost] for own in matching(rig)
    ]
    if rows:
        yield table("date | of | symptom | tried | cure | frames lost", rows, wide=4)

"""The chapter that lists every value of the file that no other chapter prints."""

from __future__ import annotations

from collections.abc import Iterator
from fnmatch import fnmatchcase

from wyntaxis.core.dossier.blocks import Block, table
from wyntaxis.core.dossier.dossier_input import DossierInput
from wyntaxis.core.dossier.typing_pages import typing_pages
from wyntaxis.core.files.errors import path_text
from wyntaxis.core.json_values import JsonObject, JsonValue
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.marks import marked_field, parse_path, value_at
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.store import document_of
from wyntaxis.core.wording import short

_PART = (
    "name", "kind", "length_mm", "length_tolerance_mm", "length_basis", "mass_g", "mark", "front.thread",
    "front.gender", "front.depth_mm", "rear.thread", "rear.gender", "rear.depth_mm",
)  # fmt: skip
_DEVICE = (
    "name", "kind", "identity.model", "identity.serial_number", "identity.usb_id", "identity.firmware", "driver.name",
    "driver.version", "connection.kind", "connection.port", "connection.host", "connection.tcp_port",
    "connection.baud", "connection.hub", "connection.mode", "power.outlet", "settings.*.value", "settings.*.tolerance",
    "settings.*.measured.value", "settings.*.measured.standard_uncertainty",
)  # fmt: skip
_SLOT = ("name", "bandpass", "thickness_mm", "index", "focus_offset_steps", "focus_offset_measured.value")
_SUPPLY = (
    "name", "kind", "voltage_v", "rated_a", "capacity_ah", "fed_by", "outlets.*.name", "outlets.*.rated_a",
)  # fmt: skip
_STEP = ("do", "filter", "frames", "exposure_s", "limit_s", "attempts", "pause_s", "reconnect", "then")
REPORTED: tuple[str, ...] = (
    "name", "note", "telescope.name", "telescope.aperture_mm", "telescope.focal_length_mm", "telescope.mass_g",
    "telescope.rear.thread", "telescope.rear.gender", "telescope.rear.depth_mm", "telescope.focuser.load_rating_g",
    "telescope.focuser.moment_rating_n_m", "telescope.focuser.focal_plane_mm", "telescope.focuser.travel_mm",
    *(f"{where}.*.{key}" for where in ("train", "guiding.path") for key in _PART),
    *(f"devices.*.{key}" for key in _DEVICE), *(f"devices.*.slots.*.{key}" for key in _SLOT),
    *(f"supplies.*.{key}" for key in _SUPPLY), *(f"plan.steps.*.{key}" for key in _STEP),
    "plan.exposure_s", "plan.frames", "plan.filters", "plan.file_names", "framing.*", "mount.name", "mount.kind",
    "mount.worm_period_s", "mount.payload_rating_kg", "site.name", "site.latitude_deg", "site.longitude_deg",
    "site.elevation_m", "site.seeing_fwhm_arcsec", "variants.*.name", "variants.*.telescope.name", "records.*.name",
    "records.*.version", "photos.*.file", "photos.*.caption",
)  # fmt: skip
"""Paths of values that other chapters print. A star stands for an index, a key, or the rest of the path."""
EXCEPTIONS = {
    "format": "says which program's file it is",
    "version": "says which form of the file it is",
    "*.id": "links entries; they are named instead",
    "site.horizon.*": "is drawn",
    "*.rests_on.*": "is kept so that a change is noticed; the change is reported",
    "*.changed": "is kept so that a change is noticed; the change is reported",
    "*.evidence.sha256": "shows whether a file is the one that was measured",
}
"""What is not printed, with the reason."""


def leaves_of(node: JsonValue, path: DocumentPath = ()) -> Iterator[tuple[DocumentPath, JsonValue]]:
    """Yield every value of a document with its path; a list of plain values is one."""
    if isinstance(node, dict):
        for key, value in node.items():
            yield from leaves_of(value, (*path, key))
    elif isinstance(node, list) and any(isinstance(entry, dict | list) for entry in node):
        for place, value in enumerate(node):
            yield from leaves_of(value, (*path, place))
    elif node is not None and node not in ("", [], {}):
        yield path, node


def _is_of(path: DocumentPath, patterns: JsonValue) -> bool:
    text = ".".join(str(step) for step in path)
    return any(fnmatchcase(text, pattern) and _as_deep(path, pattern) for pattern in patterns)


def _as_deep(path: DocumentPath, pattern: str) -> bool:
    """Return whether a star inside a pattern stands for one step; one at either end stands for any number."""
    return pattern.startswith("*") or pattern.endswith("*") or pattern.count(".") == len(path) - 1


def is_left_out(path: DocumentPath) -> bool:
    """Return whether a value is printed nowhere, by :data:`EXCEPTIONS`."""
    return _is_of(path, EXCEPTIONS)


def is_reported(document: JsonObject, path: DocumentPath) -> bool:
    """Return whether another chapter tells a value in its place.

    An adjustable part is told by what it is set to, and a device on an outlet by the outlet.
    """
    if path[-1] in ("length_mm", "length_basis"):
        part: JsonValue = document
        for step in path[:-1]:
            part = part[step]
        if part.get("adjustable") is not None:
            return False
    return _is_of(path, REPORTED)


def _shown(value: JsonValue) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return ", ".join(_shown(entry) for entry in value)
    return short(value, 6) if isinstance(value, int | float) else str(value)


def _row(rig: Rig, path: DocumentPath, value: JsonValue) -> list[object]:
    """Return what a value is called by how the window shows it, else by its keys; where it stands; and its unit."""
    text, unit = path_text(path), ""
    try:
        field = marked_field(rig, text)
        title, unit = field.title, "" if isinstance(value, str | bool) else field.unit
    except (LookupError, ValueError):
        title = text
    return [title, text, f"{_shown(value)} {unit}".rstrip()]


def rest(given: DossierInput) -> Iterator[Block]:
    """Yield every value that no other chapter prints, grouped by its top key, and the assumed values."""
    rig = given.evaluation.rig
    document = document_of(rig)
    assumed = document.pop("assumed", [])
    places = {record.id: place for place, record in enumerate(rig.records)}
    typed = {
        ("records", places[page.record.id], "values", line.quantity)
        for page in typing_pages(given.evaluation)
        if page.record.id in places
        for line in page.lines
    }
    by_thing: dict[str, list[list[object]]] = {}
    for path, value in leaves_of(document):
        if not is_left_out(path) and not is_reported(document, path) and path not in typed:
            by_thing.setdefault(str(path[0]), []).append(_row(rig, path, value))
    for thing, rows in by_thing.items():
        yield table("what | where in the file | value", rows, title=_TITLES.get(thing, thing.capitalize()), wide=0)
    if assumed:
        rows = [_row(rig, parse_path(path), value_at(rig, parse_path(path))) for path in assumed]
        yield table("what | where in the file | value", rows, title="Assumed values, not entered yet", wide=0)


_TITLES = {
    "guiding": "Guide branch and guiding", "sources": "Sources and reasons", "origin": "Origin of drafted values",
    "measured": "Measured", "stated": "Stated by programs or makers", "train": "Parts of the train",
    "variants": "Variants", "records": "Programs’ records", "accepted": "Accepted findings", "plan": "Plan",
}  # fmt: skip

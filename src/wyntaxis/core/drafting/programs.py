"""What programs have on file, by key map: a record of each, and of it what nothing else told."""

from __future__ import annotations

from pathlib import Path

from wyntaxis.core.drafting.rig_draft import RigDraft
from wyntaxis.core.evidence.foreign.keymap import KeyMaps
from wyntaxis.core.evidence.foreign.readers import read_foreign
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.quantities.numbers import numbers_of
from wyntaxis.core.records.bring_in import record_of
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.device_settings import SETTINGS
from wyntaxis.core.rig.parts import MAGNIFYING_KINDS

SITE_KEYS = ("latitude_deg", "longitude_deg", "elevation_m", "name")


def draft_program(book: RigDraft, path: Path, maps: KeyMaps) -> None:
    """Read a program's settings file into a draft.

    Parameters
    ----------
    book
        The rig that is being drafted.
    path, maps
        The file, and the key maps that there are; the one that suits it best is taken.
    """
    try:
        file = read_foreign(path)
    except InputError as error:
        book.leave_out(path.name, error.reason)
        return
    chosen = maps.suiting(file)
    if chosen is None:
        book.leave_out(path.name, "no key map suits it; make one with wyntaxis map, or on the Programs sheet")
        return
    rig = book.rig()
    try:
        change, faults = record_of(numbers_of(rig), path, file, chosen)
        book.take(edit.apply(rig, change))
    except InputError as error:
        book.leave_out(path.name, error.reason)
        return
    for fault in faults:
        book.ask(f"{path.name}: {fault}")
    record = next(own for own in book.list_of("records") if own["name"] == chosen.name)
    places = _places(book)
    for key, value in record["values"].items():
        if key in places and book.is_open(places[key]):
            book.give(places[key], value, f"{chosen.name}: {path.name}")


def _places(book: RigDraft) -> dict[str, DocumentPath]:
    """Return where in the document each value stands that a program may have on file."""
    found: dict[str, DocumentPath] = {"aperture_mm": ("telescope", "aperture_mm")}
    train = book.list_of("train")
    if not any(part["kind"] in MAGNIFYING_KINDS for part in train):
        found["effective_focal_length_mm"] = ("telescope", "focal_length_mm")
    at = next((index for index, part in enumerate(train) if part["kind"] == "camera"), None)
    if at is not None:
        found |= {key: ("train", at, "sensor", key) for key in ("pixel_um", "width_px", "height_px")}
    if book.document.get("site") is not None:
        found |= {f"site.{key}": ("site", key) for key in SITE_KEYS}
    for index, device in enumerate(book.list_of("devices")):
        found |= {f"{device['id']}.{key}": ("devices", index, "settings", key, "value") for key in SETTINGS}
    return found

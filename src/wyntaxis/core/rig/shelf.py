"""The shelf: the imager's own stock of parts, one file shared by all rigs, and its exchange as CSV."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable
from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field, ValidationError, model_validator

from wyntaxis.core.files.errors import InputError, describe, quoted
from wyntaxis.core.files.opening import is_there, parse_json, read_bytes
from wyntaxis.core.files.saving import document_bytes, write_atomically
from wyntaxis.core.files.tables import separator_of
from wyntaxis.core.json_values import JsonObject, JsonValue
from wyntaxis.core.rig.base import StrictModel
from wyntaxis.core.rig.merging import merged_documents
from wyntaxis.core.rig.parts import Part, Telescope

FORMAT = "wyntaxis-shelf"
STARTER = Path(__file__).parents[2] / "assets" / "starter-shelf.json"
CSV_LIMIT_BYTES = 4 * 1024 * 1024

_COLUMNS: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("id", ("id",)),
    ("kind", ("kind",)),
    ("name", ("name",)),
    ("owned", ("owned",)),
    ("length_mm", ("length_mm",)),
    ("length_tolerance_mm", ("length_tolerance_mm",)),
    ("length_basis", ("length_basis",)),
    ("front_thread", ("front", "thread")),
    ("front_gender", ("front", "gender")),
    ("front_depth_mm", ("front", "depth_mm")),
    ("rear_thread", ("rear", "thread")),
    ("rear_gender", ("rear", "gender")),
    ("rear_depth_mm", ("rear", "depth_mm")),
    ("clear_aperture_mm", ("clear_aperture_mm",)),
    ("mass_g", ("mass_g",)),
)
"""The columns of the CSV, and where each stands in the part."""

_REQUIRED = ("id", "kind", "length_mm")
_TEXTS = frozenset({"id", "kind", "name", "length_basis", "front_thread", "front_gender", "rear_thread", "rear_gender"})


class ShelfPart(StrictModel):
    """A part of the shelf and how many copies of it are owned; a camera that ``guides`` takes no pictures."""

    owned: Annotated[int, Field(ge=0, le=999)] = 1
    cost: Annotated[float, Field(ge=0, le=1e9)] | None = None
    guides: bool = False
    part: Part


class ShelfTelescope(StrictModel):
    """A telescope of the shelf, as a rig has it; one that ``guides`` is looked through by a guide camera alone."""

    owned: Annotated[int, Field(ge=0, le=999)] = 1
    cost: Annotated[float, Field(ge=0, le=1e9)] | None = None
    guides: bool = False
    telescope: Telescope


class Shelf(StrictModel):
    """The whole shelf file."""

    format: Literal["wyntaxis-shelf"] = "wyntaxis-shelf"
    version: Literal[1] = 1
    parts: Annotated[tuple[ShelfPart, ...], Field(strict=False, max_length=5000)] = ()
    telescopes: Annotated[tuple[ShelfTelescope, ...], Field(strict=False, max_length=500)] = ()

    @model_validator(mode="after")
    def _ids_are_unique(self) -> Shelf:
        seen: set[str] = set()
        names = [(f"parts[{index}].part.id", entry.part.id) for index, entry in enumerate(self.parts)]
        names += [(f"telescopes[{i}].telescope.id", entry.telescope.id) for i, entry in enumerate(self.telescopes)]
        for place, name in names:
            if name in seen:
                raise ValueError(f'{place}: "{name}" is twice on the shelf')
            seen.add(name)
        return self

    def with_parts(self, parts: Iterable[ShelfPart], telescopes: Iterable[ShelfTelescope] | None = None) -> Shelf:
        """Return the shelf with other parts; its telescopes stay where no others are given."""
        return Shelf(parts=tuple(parts), telescopes=self.telescopes if telescopes is None else tuple(telescopes))

    def find(self, part_id: str) -> ShelfPart | None:
        """Return the part of that id, or None."""
        return next((entry for entry in self.parts if entry.part.id == part_id), None)


def validated_shelf(document: JsonValue) -> Shelf:
    """Return the shelf of a parsed document, or raise an :class:`InputError` of one line."""
    if not isinstance(document, dict) or document.get("format") != FORMAT:
        raise InputError(f'format: must be "{FORMAT}"; is it a shelf file?')
    try:
        return Shelf.model_validate(document)
    except ValidationError as error:
        raise InputError(describe(error, Shelf)) from None


def load_shelf(path: Path) -> Shelf:
    """Read a shelf: its JSON, or a CSV by its suffix; :class:`InputError` of one line when it is none."""
    data = read_bytes(path, CSV_LIMIT_BYTES)
    try:
        return from_csv(data) if path.suffix.lower() == ".csv" else validated_shelf(parse_json(data))
    except InputError as error:
        raise InputError(str(error), path) from None


def load_own_shelf(path: Path) -> Shelf:
    """Return the imager's shelf, or the starter shelf while there is none; a broken one is an error."""
    return load_shelf(path if is_there(path) else STARTER)


def save_shelf(shelf: Shelf, path: Path) -> None:
    """Write a shelf atomically and keep the version before; CSV by its suffix."""
    if path.suffix.lower() == ".csv":
        data = to_csv(shelf)
    else:
        document = shelf.model_dump(mode="json", exclude_unset=True) | {"format": FORMAT, "version": 1}
        data = document_bytes(document, indent=1)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputError(f"cannot be made: {error.strerror}", path.parent) from None
    write_atomically(data, path, keep_previous=True)


def merged(before: Shelf, now: Shelf, other: Shelf) -> Shelf:
    """Return a shelf that somebody else has changed meanwhile, with one's own change made in it.

    Parameters
    ----------
    before, now
        The shelf before and after one's own change.
    other
        The shelf as it has become meanwhile.

    Returns
    -------
    Shelf
        Both changes, field by field: one's name of a part and the other's mass of it both stay.
    """
    plain = [shelf.model_dump(mode="json", exclude_unset=True) for shelf in (before, now, other)]
    found = merged_documents(*plain)
    return validated_shelf({"format": FORMAT, "version": 1} | found.document)


def to_csv(shelf: Shelf) -> bytes:
    """Return the shelf as CSV with a header row, units in the columns' names."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow([name for name, _ in _COLUMNS])
    for entry in shelf.parts:
        document = entry.part.model_dump(mode="json", exclude_none=True) | {"owned": entry.owned}
        row = []
        for _, path in _COLUMNS:
            node: JsonValue = document
            for key in path:
                node = node.get(key) if isinstance(node, dict) else None
            row.append("" if node is None else f"{node:.10g}" if isinstance(node, float) else str(node))
        writer.writerow(row)
    return text.getvalue().encode()


def from_csv(data: bytes) -> Shelf:
    """Return the shelf in a CSV with a header row, separated by commas or semicolons; errors name the line.

    Raises
    ------
    InputError
        With one line such as ``line 4: length_mm: must be a number, got "12,5 mm"``.
    """
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise InputError(f"is not UTF-8 text (byte {error.start})") from None
    separator = separator_of(text, among=",;")
    reader = csv.reader(io.StringIO(text), delimiter=separator, strict=True)
    parts: list[JsonValue] = []
    try:
        header = [name.strip() for name in next(reader, [])]
        _check_header(header)
        for row in reader:
            if any(cell.strip() for cell in row):
                parts.append(_entry(dict(zip(header, row, strict=False)), len(row) - len(header), separator))
                _check_entry(parts[-1])
    except csv.Error as error:
        raise InputError(f"line {reader.line_num}: broken CSV: {error}") from None
    except InputError as error:
        raise InputError(f"line {reader.line_num}: {error}") from None
    return validated_shelf({"format": FORMAT, "version": 1, "parts": parts})


def _check_header(header: list[str]) -> None:
    known = [name for name, _ in _COLUMNS]
    for name in header:
        if name not in known:
            raise InputError(f"unknown column {quoted(name)}; the columns are {', '.join(known)}")
    for name in _REQUIRED:
        if name not in header:
            raise InputError(f"the column {name} is missing from the header row")
    if len(set(header)) != len(header):
        raise InputError("a column is twice in the header row")


def _entry(cells: dict[str, str], surplus: int, separator: str) -> JsonObject:
    if surplus > 0:
        raise InputError(f"has {surplus} more cells than the header row; is a decimal comma unquoted?")
    part: JsonObject = {}
    owned: JsonValue = 1
    for name, path in _COLUMNS:
        cell = cells.get(name, "").strip()
        if not cell:
            continue
        value: JsonValue = cell if name in _TEXTS else _number(name, cell, separator)
        if name == "owned":
            owned = int(value) if float(value).is_integer() else value
            continue
        node = part
        for key in path[:-1]:
            node = node.setdefault(key, {})
        node[path[-1]] = value
    return {"owned": owned, "part": part}


def _number(name: str, cell: str, separator: str) -> float:
    plain = cell.replace(",", ".") if separator == ";" else cell
    try:
        return float(plain)
    except ValueError:
        raise InputError(f"{name}: must be a number, got {quoted(cell)}") from None


def _check_entry(entry: JsonObject) -> None:
    try:
        ShelfPart.model_validate(entry)
    except ValidationError as error:
        raise InputError(describe(error, ShelfPart).replace("part.", "", 1)) from None

"""Read and write rig files: safely in, atomically out.

Reading never runs anything that the file holds. Writing goes to a file beside the target, which is synced and renamed
over it, so that at every instant the name holds either the whole old or the whole new version.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from pathlib import Path

from pydantic import ValidationError

from wyntaxis.core.files.errors import InputError, describe, quoted
from wyntaxis.core.files.opening import parse_json, read_bytes
from wyntaxis.core.files.saving import document_bytes, write_atomically
from wyntaxis.core.json_values import JsonObject, JsonValue
from wyntaxis.core.rig.model import FORMAT, VERSION, Rig

SUFFIX = ".rig.json"


@dataclass(frozen=True)
class StoredRig:
    """A rig as it was read, and the SHA-256 of the bytes it came from."""

    rig: Rig
    sha256: str


def load(path: Path) -> StoredRig:
    """Read and validate a rig file.

    Raises
    ------
    InputError
        With one line, opening with the file's name, for anything that keeps it from being a rig.
    """
    data = read_bytes(path)
    try:
        rig = parse(data)
    except InputError as error:
        raise InputError(str(error), path) from None
    return StoredRig(rig, hashlib.sha256(data).hexdigest())


def parse(data: bytes) -> Rig:
    """Return the rig that the bytes of a file hold, or raise an :class:`InputError` of one line."""
    return validated(parse_json(data))


def validated(document: JsonValue) -> Rig:
    """Return the rig of a parsed document, or raise an :class:`InputError` that names the path within it."""
    if not isinstance(document, dict):
        raise InputError("must be a JSON object in braces")
    if document.get("format") != FORMAT:
        raise InputError(f'format: must be "{FORMAT}", got {quoted(document.get("format"))}; is it a rig file?')
    version = document.get("version")
    if isinstance(version, int) and not isinstance(version, bool) and version > VERSION:
        raise InputError(
            f"version: the file is of version {quoted(version)}, this program reads up to {VERSION}; use a newer one"
        )
    try:
        return Rig.model_validate(document)
    except ValidationError as error:
        raise InputError(describe(error, Rig)) from None
    except RecursionError:
        raise InputError("nested too deeply") from None


def to_bytes(rig: Rig) -> bytes:
    """Return a rig as it is written; :class:`InputError` when it would be too large to be opened again."""
    return document_bytes(document_of(rig), indent=2)


def document_of(rig: Rig) -> JsonObject:
    """Return a rig as its file holds it: plain dictionaries and lists, only what was set."""
    document = _tidy(rig.model_dump(mode="json", exclude_unset=True))
    assert isinstance(document, dict)
    return document


@dataclass(frozen=True)
class Saved:
    """The SHA-256 of the bytes written, and what could not be kept of the file that was there."""

    sha256: str
    notes: tuple[str, ...] = ()


def save(rig: Rig, path: Path, *, protected: bool = False) -> Saved:
    """Write a rig file atomically, and keep the version before as ``NAME.rig.json~``.

    Raises
    ------
    InputError
        With one line when the place cannot be written, or is write-protected and ``protected`` does not say
        otherwise; the file there is then as it was.
    """
    try:
        data = to_bytes(rig)
    except InputError as error:
        raise InputError(error.reason, path) from None
    notes = write_atomically(data, path, keep_previous=True, protected=protected)
    return Saved(hashlib.sha256(data).hexdigest(), notes)


def _tidy(node: JsonValue) -> JsonValue:
    """Write whole numbers without a trailing ``.0``, as people do."""
    if isinstance(node, dict):
        return {key: _tidy(value) for key, value in node.items()}
    if isinstance(node, list):
        return [_tidy(value) for value in node]
    if isinstance(node, float) and node.is_integer() and abs(node) < 1e15:
        return int(node)
    return node

"""The lines of a history file: one for each save, torn and foreign ones left aside and told."""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.opening import is_there, parse_json, read_bytes
from wyntaxis.core.json_values import JsonObject, JsonValue
from wyntaxis.core.rig.store import SUFFIX

FORMAT, VERSION = "wyntaxis-history", 1
HISTORY_SUFFIX = ".history.jsonl"
SIZE_LIMIT_BYTES = 128 * 1024 * 1024
END_BYTES = 32 * 1024 * 1024
"""How much is read of the end of a larger file: more than the lines between two whole documents can have."""
COMPACT_LIMIT_BYTES = 4 * 1024 * 1024 * 1024
"""How large a history is still compacted."""
HINT = "a history of that size is compacted first: wyntaxis history FILE --compact DAYS"
_OPENING = f'{{"format":"{FORMAT}"'
MAX_LABELS, MAX_TEXT = 40, 500


@dataclass(frozen=True)
class Entry:
    """One save: when (UTC), what was edited, why, and how the document went from one state to another.

    ``before`` and ``after`` are digests of the document; ``patch`` is the JSON Patch between them (RFC 6902), ``rig``
    the whole document after it where the line holds one. ``line`` counts from 1.
    """

    date: str
    labels: tuple[str, ...]
    after: str
    before: str | None = None
    reason: str | None = None
    computer: str | None = None
    patch: list[JsonObject] | None = field(default=None, repr=False)
    rig: JsonObject | None = field(default=None, repr=False)
    line: int = 0

    @property
    def words(self) -> str:
        """What was edited, in a line."""
        return "; ".join(self.labels) or "saved"

    @property
    def key(self) -> tuple[str, str | None, str]:
        """What tells it from every other."""
        return self.date, self.before, self.after

    def as_line(self) -> bytes:
        """Return the line that a file holds."""
        reported: JsonObject = {
            "format": FORMAT,
            "version": VERSION,
            "date": self.date,
            "labels": list(self.labels),
        }
        for key in ("reason", "computer", "before", "after", "patch", "rig"):
            value = getattr(self, key)
            if value is not None:
                reported[key] = value
        return json.dumps(reported, ensure_ascii=False, separators=(",", ":"), allow_nan=False).encode() + b"\n"


@dataclass(frozen=True)
class Damaged:
    """A line that tells nothing, and why."""

    line: int
    why: str


@dataclass(frozen=True)
class Lines:
    """What a history file holds; ``torn`` tells that its last line is not whole, ``is_end`` that it is a part alone."""

    entries: tuple[Entry, ...] = ()
    damaged: tuple[Damaged, ...] = ()
    torn: bool = False
    is_end: bool = False


def history_path(path: Path) -> Path:
    """Return where the history of a rig file stands: beside it, under its name."""
    return path.with_name(path.name.removesuffix(SUFFIX) + HISTORY_SUFFIX)


def digest(document: JsonValue) -> str:
    """Return what tells one state of a document from another, whatever the order of its keys."""
    text = json.dumps(document, sort_keys=True, separators=(",", ":"), ensure_ascii=False)
    return hashlib.sha256(text.encode()).hexdigest()[:24]


def read_lines(path: Path, last: int | None = None, limit: int = SIZE_LIMIT_BYTES) -> Lines:
    """Read a history file, or only so many lines at its end; nothing where there is none.

    Parameters
    ----------
    path
        The history file.
    last
        How many lines at its end; of a file larger than the limit the end is read all the same.
    limit
        How large a file is read as a whole, in bytes.

    Raises
    ------
    InputError
        For a file that is no history, or cannot be read.
    """
    if not is_there(path):
        return Lines()
    if last is not None and path.is_file() and path.stat().st_size > limit:
        return _read_end(path, last)
    data = read_bytes(path, limit, HINT)
    if not data.strip():
        return Lines()
    if not _is_ours(data):
        raise InputError("is no history of a rig; rename it: nothing is written over it", path)
    return _parsed(data, last)


def _read_end(path: Path, last: int) -> Lines:
    """Read the end of a file that is larger than one is read as a whole; its lines are not numbered."""
    with path.open("rb") as file:
        if not _is_ours(file.read(END_BYTES).rpartition(b"\n")[0]):
            raise InputError("is no history of a rig; rename it: nothing is written over it", path)
        file.seek(-END_BYTES, os.SEEK_END)
        data = file.read(END_BYTES).partition(b"\n")[2]
    found = _parsed(data, last)
    return Lines(
        tuple(replace(entry, line=0) for entry in found.entries),
        tuple(replace(damaged, line=0) for damaged in found.damaged),
        found.torn,
        is_end=True,
    )


def _parsed(data: bytes, last: int | None) -> Lines:
    whole = data.endswith(b"\n")
    raw = data.split(b"\n")
    entries, damaged = [], []
    first = 0 if last is None else max(len(raw) - 1 - last, 0)
    for number, text in enumerate(raw[first:], start=first + 1):
        if not text.strip():
            continue
        try:
            entries.append(_entry(parse_json(text), number))
        except InputError as error:
            is_last = number == len(raw) and not whole
            damaged.append(Damaged(number, "torn: the save was cut short" if is_last else error.reason))
    return Lines(tuple(entries), tuple(damaged), not whole)


def _is_ours(data: bytes) -> bool:
    """Return whether some line opens as ours do: a first line may be torn, or damaged."""
    opening = _OPENING.encode()
    if opening.startswith(data[: len(opening)]):
        return True
    return any(line.replace(b" ", b"").startswith(opening) for line in data.split(b"\n", maxsplit=200)[:200])


def _entry(reported: JsonValue, line: int) -> Entry:
    """Return the entry that a line holds, or raise an :class:`InputError`."""
    if not isinstance(reported, dict) or reported.get("format") != FORMAT:
        raise InputError("is no line of a history")
    version = reported.get("version")
    if version != VERSION:
        raise InputError("is of a later version of this program")
    date, after, before = reported.get("date"), reported.get("after"), reported.get("before")
    patch, rig = reported.get("patch"), reported.get("rig")
    if not isinstance(date, str) or not isinstance(after, str) or not isinstance(before, str | None):
        raise InputError("lacks its date, or what it leads to")
    if not isinstance(rig, dict | None) or not isinstance(patch, list | None):
        raise InputError("holds neither a rig nor a patch")
    if patch is not None and not all(isinstance(step, dict) for step in patch):
        raise InputError("holds a patch that is none")
    labels, reason = reported.get("labels"), reported.get("reason")
    computer = reported.get("computer")
    return Entry(
        date[:MAX_TEXT],
        tuple(str(label)[:MAX_TEXT] for label in labels[:MAX_LABELS]) if isinstance(labels, list) else (),
        after,
        before,
        str(reason)[:MAX_TEXT] if isinstance(reason, str) and reason.strip() else None,
        str(computer)[:MAX_TEXT] if isinstance(computer, str) else None,
        patch,
        rig,
        line,
    )


def unrepeated(entries: Iterable[Entry]) -> Iterator[Entry]:
    """Yield entries, each once: what two computers' files both hold stands twice where they were joined."""
    seen = set()
    for entry in entries:
        if entry.key not in seen:
            seen.add(entry.key)
            yield entry

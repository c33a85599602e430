"""The rig at any date: the chain of patches walked back to a whole document, and forward again."""

from __future__ import annotations

import copy
import datetime
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path

import jsonpatch
import jsonpointer

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.history.entries import (
    SIZE_LIMIT_BYTES,
    Damaged,
    Entry,
    Lines,
    digest,
    history_path,
    read_lines,
    unrepeated,
)
from wyntaxis.core.json_values import JsonObject, JsonValue
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.store import validated


@dataclass(frozen=True)
class RigHistory:
    """Every save of a rig that is told, in the order of the file."""

    entries: tuple[Entry, ...] = ()
    damaged: tuple[Damaged, ...] = ()
    path: Path | None = field(default=None, compare=False)

    @classmethod
    def of(cls, lines: Lines, path: Path | None = None) -> RigHistory:
        """Return the history that lines tell."""
        return cls(tuple(unrepeated(lines.entries)), lines.damaged, path)

    @cached_property
    def _leading_to(self) -> dict[str, int]:
        """By state the first entry that leads to it and holds a whole document, else the first that leads to it."""
        found: dict[str, int] = {}
        for index, entry in enumerate(self.entries):
            held = found.get(entry.after)
            if held is None or (self.entries[held].rig is None and entry.rig is not None):
                found[entry.after] = index
        return found

    def is_branch(self, index: int) -> bool:
        """Return whether an entry does not go on from the one ahead of it: another computer's, or changed outside."""
        return index > 0 and self.entries[index].before not in (None, self.entries[index - 1].after)

    def document_at(self, index: int) -> JsonObject:
        """Return the document as an entry left it.

        Raises
        ------
        InputError
            Where a damaged line keeps it from being rebuilt.
        """
        chain, at, seen = [], index, set()
        while self.entries[at].rig is None:
            entry = self.entries[at]
            chain.append(entry)
            seen.add(at)
            leads = self._leading_to.get(entry.before or "")
            if leads is None or leads in seen:
                raise InputError(f"line {self.entries[index].line}: what it goes on from is lost", self.path)
            at = leads
        document = copy.deepcopy(self.entries[at].rig)
        for entry in reversed(chain):
            document = patched(document, entry.patch or [], entry.line, self.path)
        if digest(document) != self.entries[index].after:
            raise InputError(f"line {self.entries[index].line}: rebuilt, it is not what was saved", self.path)
        assert isinstance(document, dict)
        return document

    def is_whole_at(self, index: int) -> bool:
        """Return whether the document can be rebuilt as an entry left it."""
        try:
            self.document_at(index)
        except InputError:
            return False
        return True

    def walked(self) -> Iterator[tuple[Entry, JsonObject | None]]:
        """Yield every entry with the document as it left it, None where that cannot be rebuilt.

        Each goes on from the one before where it can, so that a long history takes no longer than its length.
        """
        document: JsonObject | None = None
        for index, entry in enumerate(self.entries):
            goes_on = document is not None and index > 0 and entry.before == self.entries[index - 1].after
            try:
                if goes_on and entry.rig is None:
                    document = patched(copy.deepcopy(document), entry.patch or [], entry.line, self.path)
                    if digest(document) != entry.after:
                        document = None
                else:
                    document = self.document_at(index)
            except InputError:
                document = None
            yield entry, document

    def rig_at(self, index: int) -> Rig:
        """Return the rig as an entry left it; :class:`InputError` where it cannot be rebuilt."""
        return validated(self.document_at(index))

    def index_at(self, when: str) -> int:
        """Return the last entry of a date (its whole day, UTC) or a moment, or of one before it.

        Entries count in the order in which they were saved: where a clock was put back, a later save has an earlier
        date.

        Raises
        ------
        InputError
            For a text that is no date, or one before the history begins.
        """
        until = moment_of(when)
        found = [index for index, entry in enumerate(self.entries) if entry.date <= until]
        if not found:
            begins = min((entry.date for entry in self.entries), default=None)
            raise InputError(
                f"the history begins on {begins[:10]}, after {when}" if begins else "nothing has been saved yet"
            )
        return found[-1]


def moment_of(text: str) -> str:
    """Return a date (its end) or a time as the history writes it, UTC; :class:`InputError` for what is neither."""
    try:
        if len(text.strip()) == len("2026-11-26"):
            day = datetime.date.fromisoformat(text.strip())
            return f"{day.isoformat()}T23:59:59Z"
        moment = datetime.datetime.fromisoformat(text.strip())
    except ValueError:
        raise InputError(f"“{text[:30]}” is no date: write it as 2026-11-26, or 2026-11-26T21:30:00Z") from None
    if moment.tzinfo is not None:
        moment = moment.astimezone(datetime.UTC)
    return moment.strftime("%Y-%m-%dT%H:%M:%SZ")


def patched(document: JsonValue, patch: list[JsonObject], line: int = 0, path: Path | None = None) -> JsonValue:
    """Return a document with a JSON Patch applied (RFC 6902); :class:`InputError` where it does not fit."""
    faults = (jsonpatch.JsonPatchException, jsonpointer.JsonPointerException, LookupError, TypeError, ValueError)
    try:
        return jsonpatch.apply_patch(document, patch, in_place=True)
    except faults:
        raise InputError(f"line {line}: its patch does not fit", path) from None


def patch_between(before: JsonValue, after: JsonValue) -> list[JsonObject]:
    """Return a JSON Patch that leads from one document to another, tried out; the whole document where none does."""
    patch: list[JsonObject] = jsonpatch.make_patch(before, after).patch
    try:
        if patched(copy.deepcopy(before), patch) == after:
            return patch
    except InputError:
        pass
    return [{"op": "replace", "path": "", "value": after}]


def read_history(rig_path: Path, limit: int = SIZE_LIMIT_BYTES) -> RigHistory:
    """Read the history beside a rig file; an empty one where there is none.

    Parameters
    ----------
    rig_path
        The rig file.
    limit
        How large a file is read, in bytes.

    Raises
    ------
    InputError
        For a file that is no history, or cannot be read.
    """
    path = history_path(rig_path)
    return RigHistory.of(read_lines(path, limit=limit), path)

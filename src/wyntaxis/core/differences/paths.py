"""Which values of two documents differ, path by path: entries of a list told apart by their ids."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from wyntaxis.core.files.errors import path_text
from wyntaxis.core.json_values import JsonObject, JsonValue
from wyntaxis.core.rig.base import DocumentPath

UNREPORTED = frozenset({"format", "version", "rests_on", "changed", "origin"})
"""Keys that are kept for the program's own use."""


@dataclass(frozen=True)
class PathChange:
    """One value that differs: where it stands in the later document (in the earlier one, where it was taken out)."""

    path: DocumentPath
    before: JsonValue
    after: JsonValue
    named: tuple[str, ...] = ()
    """The path with ids for places in lists, which stays the same whatever the order."""

    @property
    def text(self) -> str:
        """The path within the file."""
        return path_text(self.path)


def changes_between(before: JsonValue, after: JsonValue) -> tuple[PathChange, ...]:
    """Return every value that differs between two documents.

    Parameters
    ----------
    before, after
        Documents as files hold them.

    Returns
    -------
    tuple of PathChange
        In the order of the later document; a whole part that came or went is one change.
    """
    return tuple(_changes(before, after, (), ()))


def _changes(before: JsonValue, after: JsonValue, path: DocumentPath, named: tuple[str, ...]) -> Iterator[PathChange]:
    if (before == after and type(before) is type(after)) or (_is_nothing(before) and _is_nothing(after)):
        return
    if isinstance(before, dict) and isinstance(after, dict):
        for key in dict.fromkeys([*after, *before]):
            if key not in UNREPORTED:
                yield from _changes(before.get(key), after.get(key), (*path, key), (*named, key))
    elif _has_ids(before) and _has_ids(after):
        yield from _lists(before, after, path, named)
    elif _same_length(before, after):
        for place, (one, other) in enumerate(zip(before, after, strict=True)):
            yield from _changes(one, other, (*path, place), (*named, str(place)))
    elif before != after:
        yield PathChange(path, before, after, named)


def _lists(
    before: list[JsonObject], after: list[JsonObject], path: DocumentPath, named: tuple[str, ...]
) -> Iterator[PathChange]:
    then = {entry["id"]: entry for entry in before}
    now = {entry["id"] for entry in after}
    for place, entry in enumerate(after):
        own = entry["id"]
        yield from _changes(then.get(own), entry, (*path, place), (*named, own))
    for place, entry in enumerate(before):
        if entry["id"] not in now:
            yield PathChange((*path, place), entry, None, (*named, entry["id"]))
    kept_before = [entry["id"] for entry in before if entry["id"] in now]
    kept_after = [entry["id"] for entry in after if entry["id"] in then]
    if kept_before != kept_after:
        yield PathChange(path, kept_before, kept_after, (*named, "order"))


def _is_nothing(value: JsonValue) -> bool:
    """Return whether a value says nothing: none, or an empty list or group that a file may leave out."""
    return value is None or value in ([], {})


def _has_ids(value: JsonValue) -> bool:
    if not isinstance(value, list) or not value:
        return False
    ids = [entry.get("id") if isinstance(entry, dict) else None for entry in value]
    return None not in ids and len(set(ids)) == len(ids)


def _same_length(before: JsonValue, after: JsonValue) -> bool:
    return (
        isinstance(before, list)
        and isinstance(after, list)
        and len(before) == len(after)
        and any(isinstance(entry, dict) for entry in after)
    )


def value_named(document: JsonValue, named: tuple[str, ...]) -> JsonValue:
    """Return the value that a named path leads to; None where there is none."""
    node = document
    for step in named:
        if step == "order" and _has_ids(node):
            return [entry["id"] for entry in node]
        if isinstance(node, dict):
            node = node.get(step)
        elif isinstance(node, list):
            found = next((entry for entry in node if isinstance(entry, dict) and entry.get("id") == step), None)
            at = int(step) if step.isdecimal() else len(node)
            node = found if found is not None else node[at] if at < len(node) else None
        else:
            return None
    return node

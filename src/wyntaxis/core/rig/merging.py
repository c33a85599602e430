"""Two changes of one document made at the same time, brought together value by value."""

from __future__ import annotations

import copy
from collections.abc import Callable
from dataclasses import dataclass

from wyntaxis.core.files.errors import path_text
from wyntaxis.core.json_values import JsonValue
from wyntaxis.core.rig.base import DocumentPath

_ABSENT = object()
Key = Callable[[JsonValue], str | None]


@dataclass(frozen=True)
class Merged:
    """Both changes in one document, and what became of them.

    ``taken`` are the paths of what came from the other side. At the paths of ``disputed`` both sides set something, and
    one's own stays.
    """

    document: JsonValue
    taken: tuple[str, ...]
    conflicting: tuple[str, ...]


def merged_documents(base: JsonValue, mine: JsonValue, theirs: JsonValue) -> Merged:
    """Return a document with what two sides changed in it since they had it in common.

    Parameters
    ----------
    base, mine, theirs
        Plain documents: as it was, and as each side has it now. Entries of lists are told by their ids.

    Returns
    -------
    Merged
        One's own order of a list's entries; what only the other side added comes at its place behind the entry that it
        follows there.
    """
    taken: list[str] = []
    conflicting: list[str] = []
    document = _merged(base, mine, theirs, (), taken, conflicting)
    return Merged(copy.deepcopy(document), tuple(taken), tuple(conflicting))


def _merged(
    base: JsonValue, mine: JsonValue, theirs: JsonValue, path: DocumentPath, taken: list[str], conflicting: list[str]
) -> JsonValue:
    if _same(mine, theirs) or _same(theirs, base):
        return mine
    if isinstance(mine, dict) and isinstance(theirs, dict):
        base = base if isinstance(base, dict) else {}
        found = {}
        for key in dict.fromkeys([*mine, *theirs]):
            at = (*path, key)
            was, own, other = (one.get(key, _ABSENT) for one in (base, mine, theirs))
            value = _merged(was, own, other, at, taken, conflicting)
            if value is not _ABSENT:
                found[key] = value
        return found
    if _has_keys(mine) and _has_keys(theirs) and _has_keys(base):
        return _merged_list(base, mine, theirs, path, taken, conflicting)
    if _same(mine, base):
        taken.append(path_text(path))
        return theirs
    conflicting.append(path_text(path))
    # Taken out on one side and changed on the other: what is there is not lost.
    return theirs if mine is _ABSENT else mine


def _merged_list(
    base: list[JsonValue],
    mine: list[JsonValue],
    theirs: list[JsonValue],
    path: DocumentPath,
    taken: list[str],
    conflicting: list[str],
) -> list[JsonValue]:
    was, own, other = ({_key_of(entry): entry for entry in entries} for entries in (base, mine, theirs))
    order = [_key_of(entry) for entry in mine]
    for place, entry in enumerate(theirs):
        key = _key_of(entry)
        if key not in own and (key not in was or not _same(entry, was[key])):
            ahead = _key_of(theirs[place - 1]) if place else None
            order.insert(order.index(ahead) + 1 if ahead in order else 0 if ahead is None else len(order), key)
    found: list[JsonValue] = []
    for key in order:
        at = (*path, len(found))
        sides = [one.get(key, _ABSENT) for one in (was, own, other)]
        value = _merged(sides[0], sides[1], sides[2], at, taken, conflicting)
        if value is not _ABSENT:
            found.append(value)
    return found


def _key_of(entry: JsonValue) -> str | None:
    """Return what tells an entry of a list from the others: its id, its part's, its name."""
    if isinstance(entry, str):
        return f"text {entry}"
    if not isinstance(entry, dict):
        return None
    part = entry.get("part")
    for holder, key in ((entry, "id"), (part, "id"), (entry, "name"), (entry, "file"), (entry, "finding")):
        if isinstance(holder, dict) and isinstance(holder.get(key), str):
            return f"{key} {holder[key]}" + (f" {entry.get('subject')}" if key == "finding" else "")
    return None


def _has_keys(entries: JsonValue) -> bool:
    """Return whether a list's entries can be told from one another."""
    if not isinstance(entries, list):
        return False
    keys = [_key_of(entry) for entry in entries]
    return None not in keys and len(set(keys)) == len(keys)


def _same(one: JsonValue, other: JsonValue) -> bool:
    return one is other or (one is not _ABSENT and other is not _ABSENT and bool(one == other))

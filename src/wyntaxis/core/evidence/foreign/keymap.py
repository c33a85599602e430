"""Key maps: which path of a program's file holds which of our quantities, kept and used again for such files."""

from __future__ import annotations

import re
import time
from collections.abc import Iterable
from functools import lru_cache
from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field, ValidationError

from wyntaxis.core.evidence.foreign.readers import MAX_VALUES, Flat, ForeignFile
from wyntaxis.core.files.errors import InputError, describe
from wyntaxis.core.files.foreign_text import is_number
from wyntaxis.core.files.opening import is_there, parse_json, read_bytes
from wyntaxis.core.files.saving import document_bytes, write_atomically
from wyntaxis.core.rig.base import StrictModel, Text

FORMAT = "wyntaxis-key-maps"
LONGEST_PATH = 2000
MAX_SECONDS = 5.0
MAX_TRIED = 400
"""In a file of more values, no path is tried out against all of them."""
MIN_SHARE = 0.6
"""A map is taken for a file when it finds at least this share of its paths there."""
LIST_SEPARATORS = {"comma": ",", "semicolon": ";", "space": None, "bar": "|"}


class KeyRule(StrictModel):
    """One path and the quantity it holds. ``*`` in a path stands for any text between dots and brackets,
    ``list[key=value]`` for the entries of a list whose ``key`` holds that value.

    A list is read from one text with ``separator``, or from every path that a ``*`` matches, in order.
    """

    path: Annotated[str, Field(min_length=1, max_length=LONGEST_PATH)]
    quantity: Text
    unit: Text | None = None
    separator: Literal["comma", "semicolon", "space", "bar"] | None = None


class KeyMap(StrictModel):
    """The rules for one kind of file."""

    name: Text
    form: Literal["json", "toml", "yaml", "ini", "xml", "csv", "fits", "any"]
    rules: Annotated[tuple[KeyRule, ...], Field(strict=False, max_length=500)] = ()


class KeyMaps(StrictModel):
    """Every map the imager has made."""

    format: Literal["wyntaxis-key-maps"] = "wyntaxis-key-maps"
    version: Literal[1] = 1
    maps: Annotated[tuple[KeyMap, ...], Field(strict=False, max_length=200)] = ()

    def with_map(self, added: KeyMap) -> KeyMaps:
        """Return the maps with one put in, in place of one of that name."""
        kept = tuple(key_map for key_map in self.maps if key_map.name != added.name)
        return self.model_copy(update={"maps": (*kept, added)})

    def named(self, name: str) -> KeyMap | None:
        return next((key_map for key_map in self.maps if key_map.name == name), None)

    def suiting(self, file: ForeignFile) -> KeyMap | None:
        """Return the map that finds most of its paths in a file, None where none finds enough."""
        best, most, until = None, 0.0, time.monotonic() + MAX_SECONDS
        for key_map in self.maps:
            if key_map.form in (file.form, "any") and key_map.rules:
                share = sum(_has(rule, file.values, until) for rule in key_map.rules) / len(key_map.rules)
                if share >= MIN_SHARE and share > most:
                    best, most = key_map, share
        return best


def _has(rule: KeyRule, values: Flat, until: float) -> bool:
    if time.monotonic() > until:
        raise InputError(f"finding the key map for it took more than {MAX_SECONDS:g} s; name the map")
    return bool(matches(rule.path, values))


def load_maps(path: Path) -> KeyMaps:
    """Return the imager's maps, none where there is no file yet; a broken file is an error of one line.

    Returns
    -------
    KeyMaps
        All maps of the file.
    """
    if not is_there(path):
        return KeyMaps()
    try:
        document = parse_json(read_bytes(path))
        if not isinstance(document, dict) or document.get("format") != FORMAT:
            raise InputError(f'format: must be "{FORMAT}"; is it a file of key maps?')
        return KeyMaps.model_validate(document)
    except ValidationError as error:
        raise InputError(describe(error, KeyMaps), path) from None
    except InputError as error:
        raise error.about(path) from None


def save_maps(maps: KeyMaps, path: Path) -> None:
    """Write the maps atomically and keep the version before."""
    document = maps.model_dump(mode="json", exclude_none=True)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputError(f"cannot be made: {error.strerror}", path.parent) from None
    write_atomically(document_bytes(document, indent=1), path, keep_previous=True)


_SELECTOR = re.compile(r"(?P<head>.*?)\[(?P<key>[^\[\]=]+)=(?P<value>[^\]]*)\](?P<tail>.*)", re.DOTALL)
SIBLING_KEYS = ("name", "id", "key", "label", "property", "parameter", "setting")
"""By what a list's entries are told apart, rather than by their place."""


def matches(pattern: str, values: Iterable[str] | Flat) -> list[str]:
    """Return the paths that a pattern names, a path with ``*`` in natural order (slot2 before slot10).

    ``list[key=value]`` names the entries of a list whose ``key`` holds the value, wherever they stand; in a table the
    rows whose column ``key`` holds it.

    Parameters
    ----------
    pattern
        A path, with ``*`` and ``[key=value]``.
    values
        The paths of a file, or all it holds.

    Returns
    -------
    list of str
        The paths that it names.
    """
    found = _SELECTOR.fullmatch(pattern)
    if found is not None and isinstance(values, dict):
        return _selected(found, values)
    if "*" not in pattern:
        return [pattern] if pattern in values else []
    wanted = _segments(pattern)
    return sorted((path for path in values if _fits(wanted, _segments(path))), key=_natural)


@lru_cache(maxsize=2 * MAX_VALUES)
def _segments(path: str) -> tuple[str, ...]:
    """Return what stands between dots and brackets, and these, in turn."""
    return tuple(re.split(r"([.\[\]])", path))


def _fits(wanted: tuple[str, ...], path: tuple[str, ...]) -> bool:
    return len(wanted) == len(path) and all(map(_fits_segment, wanted, path))


def _fits_segment(pattern: str, text: str) -> bool:
    """Return whether a text has the pieces of a pattern between its stars, in order: in one pass, however many."""
    first, *others = pattern.split("*")
    if not others:
        return pattern == text
    last, at = others.pop(), len(first)
    if not text.startswith(first) or not text.endswith(last) or len(text) < len(first) + len(last):
        return False
    for piece in others:
        at = text.find(piece, at, len(text) - len(last))
        if at < 0:
            return False
        at += len(piece)
    return True


def _selected(found: re.Match[str], values: Flat) -> list[str]:
    head, key, wanted, tail = (found[name] for name in ("head", "key", "value", "tail"))
    paths = []
    for path, value in values.items():
        if value is None or str(value).strip() != wanted.strip():
            continue
        entry = None
        in_list = re.fullmatch(rf"({re.escape(head)}(?:\[[0-9]+\])?)\.{re.escape(key)}", path)
        in_table = re.fullmatch(rf"{re.escape(key)}(\[[0-9]+\])", path)
        if in_list:
            entry = in_list[1]
        elif in_table:
            entry = head + in_table[1]
        if entry is not None:
            paths += matches(entry + tail, values)
    return sorted(set(paths), key=_natural)


_last_folded: tuple[Flat, dict[str, str]] = {}, {}


def _folded(values: Flat) -> dict[str, str]:
    """Return the first path of each, whatever its capitals; kept for the file that is asked about again and again."""
    global _last_folded  # noqa: PLW0603 (one file at a time is worked on)
    if _last_folded[0] is not values:
        index: dict[str, str] = {}
        for path in values:
            index.setdefault(path.casefold(), path)
        _last_folded = values, index
    return _last_folded[1]


def stable_path(path: str, values: Flat) -> str:
    """Return a path that still finds its value when the list it stands in grows: by a sibling's value, not by place.

    Parameters
    ----------
    path
        The file.
    values
        Every value of the file by path.

    Returns
    -------
    str
        A path of the same value.
    """
    places = list(re.finditer(r"\[[0-9]+\]", path))
    if not places:
        return path
    place, folded = places[-1], _folded(values)
    head, index, tail = path[: place.start()], place[0], path[place.end() :]
    own = tail.removeprefix(".")
    for key in SIBLING_KEYS:
        for sibling, at in ((f"{head}{index}.", key), ("", f"{key}{index}")):
            named = folded.get(f"{sibling}{at}".casefold())
            if named is None or named == path or own.casefold() == key:
                continue
            value, word = values[named], named.removesuffix(index).rpartition(".")[2]
            chosen = f"{head}[{word}={value}]{tail}"
            entries = isinstance(value, str) and "]" not in value and len(values) <= MAX_TRIED
            if entries and matches(chosen, values) == [path]:
                return chosen
    return path


def _natural(text: str) -> list[tuple[int, str]]:
    return [(int(part), "") if is_number(part) else (0, part) for part in re.split(r"([0-9]+)", text)]

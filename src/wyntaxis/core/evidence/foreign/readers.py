"""JsonValue JSON, TOML, YAML, INI, XML, CSV or FITS-header file as a flat table of paths and plain values.

Nothing in a file can run code, build objects, fetch or expand anything: YAML is only composed, never constructed; XML
with a document type is refused; every reader stops at the same limits of size, depth and number of values.
"""

from __future__ import annotations

import configparser
import json
import math
import re
import tomllib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from wyntaxis.core.files.errors import InputError, path_text
from wyntaxis.core.files.fits import first_line, headers_of
from wyntaxis.core.files.opening import read_bytes
from wyntaxis.core.files.tables import table_rows
from wyntaxis.core.json_values import JsonValue
from wyntaxis.core.rig.base import DocumentPath

Scalar = float | bool | str | None
Flat = dict[str, Scalar]

SIZE_LIMIT_BYTES = 8 << 20
SLOW_LIMIT_BYTES = 1 << 20
"""Reading TOML and YAML is some fifty times slower than reading JSON."""
MAX_VALUES = 20_000
MAX_LEVELS = 60
LONGEST_TEXT = 4000
FORMS = ("json", "toml", "yaml", "ini", "xml", "csv", "fits")
_SUFFIXES = {
    ".json": "json",
    ".toml": "toml",
    ".yaml": "yaml",
    ".yml": "yaml",
    ".ini": "ini",
    ".cfg": "ini",
    ".conf": "ini",
    ".xml": "xml",
    ".csv": "csv",
    ".tsv": "csv",
    ".fit": "fits",
    ".fits": "fits",
    ".fts": "fits",
}
_KEY = r"""(?:[\w-]++|"[^"\n]*"|'[^'\n]*')"""
_DEEP_KEY = re.compile(rf"(?<![\w-])(?:{_KEY}[ \t]*\.[ \t]*){{{MAX_LEVELS}}}")
FITS_TELLS_NOTHING = frozenset({"", "COMMENT", "HISTORY", "END", "CONTINUE"})


@dataclass(frozen=True)
class ForeignFile:
    """A program's file, flattened: its form, and every value by its path, in the file's order."""

    form: str
    values: Flat
    name: str


def read_foreign(path: Path) -> ForeignFile:
    """Read a program's file of any known form.

    Parameters
    ----------
    path
        JSON, TOML, YAML, INI, XML, CSV or a FITS header, at most some 8 MB.

    Returns
    -------
    ForeignFile
        Its values by path, flat, each a text, a number, a truth or None.

    Raises
    ------
    InputError
        With one line, opening with the file's name, saying what keeps it from being read.
    """
    form = _SUFFIXES.get(path.suffix.lower())
    if form == "fits" or (path.suffix.lower() in (".gz", ".fz") and _SUFFIXES.get(Path(path.stem).suffix) == "fits"):
        return ForeignFile("fits", _bounded(_fits(path), path), path.name)
    data = read_bytes(path, SIZE_LIMIT_BYTES, "a settings file is at most some 8 MB")
    if data.startswith(b"SIMPLE  ="):
        return ForeignFile("fits", _bounded(_fits(path), path), path.name)
    try:
        text = _text(data)
        form = form or _form_of(text)
        return ForeignFile(form, _bounded(_READERS[form](text), path), path.name)
    except InputError:
        raise
    except RecursionError:
        raise InputError("nested too deeply to be a settings file", path) from None
    except Exception as error:  # the parsers raise many kinds for broken files
        raise InputError(f"is no readable {(form or 'text').upper()}: {first_line(error)}", path) from None


def _text(data: bytes) -> str:
    if not data.strip():
        raise ValueError("the file is empty")
    for mark, coding in ((b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16")):
        if data.startswith(mark):
            return data.decode(coding)
    if b"\x00" in data:
        raise ValueError("it holds NUL bytes, so it is no text file")
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("latin-1")


def _form_of(text: str) -> str:
    """Return the form of a text without a known ending, by what it begins with."""
    start = text.lstrip()
    if start.startswith("<"):
        return "xml"
    if start.startswith("{"):
        return "json"
    if start.startswith("[") and "=" not in text:
        return "json"
    lines = [line for line in text.splitlines() if line.strip() and not line.lstrip().startswith(("#", ";"))]
    if sum("=" in line for line in lines) * 2 >= len(lines):
        return "ini"
    if sum(":" in line for line in lines) * 2 > len(lines):
        return "yaml"
    return "csv"


def _bounded(values: Iterator[tuple[DocumentPath, Scalar]], path: Path) -> Flat:
    """Collect values by path text, within the limits."""
    found: Flat = {}
    for steps, value in values:
        if len(found) >= MAX_VALUES:
            raise InputError(f"holds more than {MAX_VALUES} values; is it a settings file?", path)
        found[path_text(steps)] = _printable(value) if isinstance(value, str) else value
    if not found:
        raise InputError("holds no values", path)
    return found


def _printable(text: str) -> str:
    return "".join(char if char.isprintable() else " " for char in text[:LONGEST_TEXT]).strip()


def _walk(node: JsonValue) -> Iterator[tuple[DocumentPath, Scalar]]:
    """Yield the leaves of nested dictionaries and lists with their paths, without recursion."""
    waiting: list[tuple[DocumentPath, JsonValue]] = [((), node)]
    while waiting:
        steps, value = waiting.pop()
        if len(steps) > MAX_LEVELS:
            raise ValueError(f"it is nested more than {MAX_LEVELS} levels deep")
        if isinstance(value, dict):
            waiting += [((*steps, str(key)), child) for key, child in reversed(list(value.items()))]
        elif isinstance(value, list):
            waiting += [((*steps, index), child) for index, child in reversed(list(enumerate(value)))]
        else:
            yield steps or ("value",), _scalar(value)


def _scalar(value: JsonValue) -> Scalar:
    if value is None or isinstance(value, (bool, str)):
        return value
    if isinstance(value, (int, float)):
        number = float(value) if abs(value) < 1e300 else math.inf
        return number if math.isfinite(number) else str(value)[:40]
    return str(value)[:LONGEST_TEXT]


def _json(text: str) -> Iterator[tuple[DocumentPath, Scalar]]:
    return _walk(json.loads(text, parse_constant=str))


def _toml(text: str) -> Iterator[tuple[DocumentPath, Scalar]]:
    if len(text) > SLOW_LIMIT_BYTES:
        raise ValueError(f"it has more than {SLOW_LIMIT_BYTES >> 20} MB")
    if _DEEP_KEY.search(text):
        raise ValueError(f"it is nested more than {MAX_LEVELS} levels deep")
    return _walk(tomllib.loads(text))


def _yaml(text: str) -> Iterator[tuple[DocumentPath, Scalar]]:
    """Walk the composed nodes: what an alias repeats counts each time, so a bomb of aliases meets the limits."""
    import yaml

    if len(text) > SLOW_LIMIT_BYTES:
        raise ValueError(f"it has more than {SLOW_LIMIT_BYTES >> 20} MB")
    root = yaml.compose(text, Loader=getattr(yaml, "CSafeLoader", yaml.SafeLoader))
    waiting: list[tuple[DocumentPath, JsonValue]] = [((), root)] if root is not None else []
    visits = 0
    while waiting:
        steps, node = waiting.pop()
        visits += 1
        if len(steps) > MAX_LEVELS or visits > 3 * MAX_VALUES:
            raise ValueError("its aliases or levels expand without end")
        if isinstance(node, yaml.MappingNode):
            waiting += [((*steps, str(getattr(key, "value", ""))[:200]), child) for key, child in reversed(node.value)]
        elif isinstance(node, yaml.SequenceNode):
            waiting += [((*steps, index), child) for index, child in reversed(list(enumerate(node.value)))]
        else:
            yield steps or ("value",), _yaml_scalar(node)


def _yaml_scalar(node: JsonValue) -> Scalar:
    kind, text = str(node.tag).rsplit(":", 1)[-1], str(node.value)
    if kind == "null":
        return None
    if kind == "bool":
        return text.lower() in ("true", "yes", "on")
    if kind in ("int", "float"):
        try:
            return _scalar(float(text.replace("_", "")))
        except ValueError:
            return text
    return text


def _ini(text: str) -> Iterator[tuple[DocumentPath, Scalar]]:
    # No section's values count for the others: many sections times many such values would have no end.
    parser = configparser.RawConfigParser(
        strict=False, allow_no_value=True, delimiters=("=", ":"), default_section="\0"
    )
    parser.optionxform = str  # type: ignore[assignment,method-assign]  # keys keep their case
    try:
        parser.read_string(text)
    except configparser.MissingSectionHeaderError:
        parser.read_string(f"[file]\n{text}")
    for section in parser.sections():
        for key, value in parser.items(section):
            yield (section, key), value


def _xml(text: str) -> Iterator[tuple[DocumentPath, Scalar]]:
    from defusedxml import ElementTree

    root = ElementTree.fromstring(text, forbid_dtd=True, forbid_entities=True, forbid_external=True)
    waiting: list[tuple[DocumentPath, JsonValue]] = [((_tag(root),), root)]
    while waiting:
        steps, node = waiting.pop()
        if len(steps) > 2 * MAX_LEVELS:
            raise ValueError(f"it is nested more than {MAX_LEVELS} levels deep")
        for key, value in node.attrib.items():
            yield (*steps, key), value
        if node.text and node.text.strip():
            yield steps, node.text
        children = list(node)
        names = [_tag(child) for child in children]
        counted: dict[str, int] = {}
        below = []
        for child, name in zip(children, names, strict=True):
            place = (*steps, name)
            if names.count(name) > 1 if len(names) < 200 else True:
                place = (*place, counted.setdefault(name, 0))
                counted[name] += 1
            below.append((place, child))
        waiting += reversed(below)


def _tag(node: JsonValue) -> str:
    return str(node.tag).rpartition("}")[2] if isinstance(node.tag, str) else "other"


def _csv(text: str) -> Iterator[tuple[DocumentPath, Scalar]]:
    """Two columns are keys and values; more are a table under its headings."""
    rows = table_rows(text, MAX_VALUES + 1, 3 * MAX_VALUES)
    if all(len(row) <= 2 for row in rows):
        for row in rows:
            yield (row[0].strip(),), row[1].strip() if len(row) > 1 else None
        return
    headings = [cell.strip() or f"column {index + 1}" for index, cell in enumerate(rows[0])]
    for number, row in enumerate(rows[1:]):
        # A row may be shorter than the headings; what is longer stands under none of them.
        for heading, cell in zip(headings, row, strict=False):
            yield (heading, number), cell.strip()


def _fits(path: Path) -> Iterator[tuple[DocumentPath, Scalar]]:
    for index, header in enumerate(headers_of(path)):
        for card in header.cards:
            if card.keyword not in FITS_TELLS_NOTHING:
                steps = (card.keyword,) if index == 0 else (f"hdu{index}", card.keyword)
                try:
                    yield steps, _scalar(card.value)
                except Exception:  # a card that cannot be parsed says nothing; the others do
                    yield steps, None


_READERS: dict[str, Callable[[str], Iterator[tuple[DocumentPath, Scalar]]]] = {
    "json": _json,
    "toml": _toml,
    "yaml": _yaml,
    "ini": _ini,
    "xml": _xml,
    "csv": _csv,
}

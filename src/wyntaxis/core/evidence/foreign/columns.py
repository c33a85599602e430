"""Which column of a foreign table holds what: by a key map's rules, else by the words and units of the headings."""

from __future__ import annotations

import datetime
import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from wyntaxis.core.evidence.foreign.keymap import KeyRule
from wyntaxis.core.evidence.foreign.units import convert
from wyntaxis.core.files.errors import ColumnsUnknownError, InputError
from wyntaxis.core.files.opening import read_bytes
from wyntaxis.core.files.tables import table_rows

MAX_BYTES = 32 << 20
MAX_CELLS = 4_000_000
MAX_HEADINGS_NAMED = 12
_UNITS = {
    "s": "s", "sec": "s", "secs": "s", "second": "s", "seconds": "s", "ms": "ms", "msec": "ms", "milliseconds": "ms",
    "min": "min", "mins": "min", "minute": "min", "minutes": "min", "h": "h", "hr": "h", "hrs": "h", "hour": "h",
    "hours": "h", "d": "d", "day": "d", "days": "d", "c": "°C", "°c": "°C", "degc": "°C", "celsius": "°C", "k": "K",
    "kelvin": "K", "f": "°F", "°f": "°F", "degf": "°F", "fahrenheit": "°F", "%": "%", "percent": "%", "share": "share",
    "fraction": "share",
}  # fmt: skip
_UNIT = re.compile(rf"(?:[\[(_ ,])({'|'.join(map(re.escape, _UNITS))})[\])]?$", re.IGNORECASE)
_NO_UNIT = frozenset({"", "-", "–", "n/a", "none", "1", "steps", "step", "px", "pixel", "pixels", "count"})
"""What a row of units holds under columns that have none, or none that is converted."""
_CLOCK = re.compile(r"\s*([0-9]{1,2}):([0-5]?[0-9])(?::([0-5]?[0-9](?:[.,][0-9]+)?))?\s*", re.ASCII)
"""A time of day: HH:MM or HH:MM:SS."""


@dataclass(frozen=True)
class TableColumn:
    """A quantity that a table's column may hold: our unit, and words of headings that mean it, the surest first.

    ``untold`` is the unit of a column that names none; ``choices`` the units it may be in, where they are not those
    that ours can be told in.
    """

    label: str
    unit: str
    words: tuple[str, ...]
    unreported: str | None = None
    choices: tuple[str, ...] = ()


@dataclass(frozen=True)
class Place:
    """Where a quantity stands in a table: the column and its unit."""

    index: int
    unit: str

    def text(self, row: Sequence[str]) -> str:
        """Return the cell of a row, empty where the row is too short."""
        return row[self.index].strip() if self.index < len(row) else ""


def read_table(path: Path, what: str, max_rows: int) -> list[list[str]]:
    """Return the rows of a table in a text file, headings first.

    Parameters
    ----------
    path
        The file.
    what
        What such a table is called, for the message.
    max_rows
        At most so many rows are taken, and one more.

    Returns
    -------
    list
        Rows of texts.

    Raises
    ------
    InputError
        When it cannot be read, is too large or no text.
    """
    return rows_of_bytes(read_bytes(path, MAX_BYTES, f"{what} is at most some {MAX_BYTES >> 20} MB"), max_rows)


def table_headings(path: Path) -> list[str]:
    """Return the headings of a table, to point rules at, as they stand in the file.

    Raises
    ------
    InputError
        When it cannot be read.
    """
    rows = read_table(path, "such a table", 0)
    return [cell.strip() for cell in rows[0]] if rows else []


def rows_of_bytes(data: bytes, max_rows: int) -> list[list[str]]:
    """Return the rows of a table's bytes, one more than allowed at the most; ValueError for what is no text."""
    if b"\x00" in data:
        raise InputError("holds NUL bytes, so it is no CSV text")
    return table_rows(data.decode("utf-8-sig", "replace"), max_rows + 1, MAX_CELLS)


def find_columns(
    headings: Sequence[str], columns: Mapping[str, TableColumn], rules: Sequence[KeyRule] = ()
) -> dict[str, Place]:
    """Return where each quantity stands, by key: as a key map's rules say, else by the headings' words.

    Parameters
    ----------
    headings
        The table's first row, without blanks around.
    columns
        What may be found, by key; the last is looked for first, so name what others contain before them.
    rules
        What a key map says.

    Returns
    -------
    dict of str to Place
        What was found.
    """
    found: dict[str, Place] = {}
    for rule in rules:
        if rule.quantity in columns and rule.path in headings:
            found[rule.quantity] = Place(headings.index(rule.path), rule.unit or columns[rule.quantity].unit)
    taken = {place.index for place in found.values()}
    for key, column in reversed(list(columns.items())):
        if key in found:
            continue
        for index, heading in enumerate(headings):
            plain = heading.lower()
            if index not in taken and any(word in plain for word in column.words):
                unit = _UNIT.search(plain)
                entries = _UNITS.get(unit[1].lower(), unit[1].lower()) if unit else column.unreported
                found[key] = Place(index, column.unit if entries is None else entries)
                taken.add(index)
                break
    return found


def with_units_row(rows: Sequence[list[str]]) -> tuple[list[str], Sequence[list[str]]]:
    """Return the headings and the rows below; a row of units under the headings is written behind them.

    Parameters
    ----------
    rows
        A table's rows, headings first.

    Returns
    -------
    tuple
        Headings without blanks around, and the rows of values.
    """
    headings = [cell.strip() for cell in rows[0]]
    if len(rows) < 2:
        return headings, rows[1:]
    entries = [cell.strip().strip("[]()").strip().lower() for cell in rows[1]]
    if not any(word in _UNITS for word in entries) or not all(word in _UNITS or word in _NO_UNIT for word in entries):
        return headings, rows[1:]
    entries += [""] * (len(headings) - len(entries))
    named = [f"{name} ({word})" if word in _UNITS else name for name, word in zip(headings, entries, strict=False)]
    return named, rows[2:]


def check_found(
    found: Mapping[str, Place], needed: Sequence[str], columns: Mapping[str, TableColumn], headings: Sequence[str]
) -> None:
    """Raise :class:`InputError` for the first column that is needed and was not found."""
    for key in needed:
        if key not in found:
            text = ", ".join(headings[:MAX_HEADINGS_NAMED])
            raise ColumnsUnknownError(f"no column for {columns[key].label.lower()} among {text}; point one at it")


def clock_seconds(text: str) -> float | None:
    """Return a time of day, HH:MM or HH:MM:SS, in s since midnight; None for what is none."""
    clock = _CLOCK.fullmatch(text)
    if clock is None:
        return None
    hours, minutes, seconds = (float(part.replace(",", ".") if part else 0) for part in clock.groups())
    return 3600 * hours + 60 * minutes + seconds


def moment_seconds(text: str, unit: str = "s") -> float:
    """Return a moment in s: a number in a unit of time, a time of day, or ISO 8601; NaN for what is none."""
    clock = clock_seconds(text)
    if clock is not None:
        return clock
    try:
        number = convert(float(text), unit or "s", "s")
    except ValueError:
        try:
            number = datetime.datetime.fromisoformat(text).timestamp()
        except (ValueError, OverflowError, OSError):
            return math.nan
    return number if math.isfinite(number) else math.nan

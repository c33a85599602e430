"""Guide logs as text: sections of rows under headings, facts and events between them, read in pieces."""

from __future__ import annotations

import csv
import math
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.evidence.foreign.columns import Place, moment_seconds
from wyntaxis.core.evidence.foreign.keymap import KeyRule
from wyntaxis.core.evidence.guide_log.events import DITHER, LOST, event_of
from wyntaxis.core.evidence.guide_log.headings import (
    COLUMNS,
    SECONDS_PER,
    columns_of,
    is_calibration,
    is_guiding,
    units_of_row,
    unknown_unit,
)
from wyntaxis.core.evidence.guide_log.rows import ByteRows, ListRows, list_rows, number_in
from wyntaxis.core.files.errors import ColumnsUnknownError, InputError, Progress
from wyntaxis.core.files.opening import read_bytes
from wyntaxis.core.json_values import JsonObject

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats, Ints, Numbers

MAX_BYTES = 256 << 20
PIECE_BYTES = 1 << 20
"""What a processor's cache holds with the columns that are made of it."""
MAX_ROWS, MAX_SECTIONS, MAX_EVENTS = 6_000_000, 500, 100_000
MAX_LINE = 4000
"""No log has a longer line: what lies beyond is not read."""
MAX_CELLS = 200
SEPARATORS = ",;\t|"
DAY_S = 86_400.0
MAX_VALUE = 1e9
_NEWLINE = 10
_BYTE_ORDER_MARK = b"\xef\xbb\xbf"
_BEGINS_ROW = np.isin(np.arange(256), list(b"0123456789+-.\"' \t"))
_AXES = ("guide.ra", "guide.dec", "guide.x", "guide.y")
_FACT = re.compile(r"([A-Za-zα-ω][A-Za-zα-ω /_.()\-]{0,40}?)\s*[=:]\s*([^,;=\t]{1,80})")
_DECIMAL_COMMA = re.compile(r"[+-]?[0-9]+,[0-9]+")
_PLAIN_NUMBER = re.compile(r"[+-]?[0-9]+(?:\.[0-9]+)?(?:[:T-][0-9:.T-]+)?Z?")
MAX_LONGER_SHARE = 0.2
"""So many rows may hold more numbers than there are headings, such as notes that hold commas."""
_CLOCK = re.compile(r"[0-9]{1,2}:[0-9]{2}(:[0-9]{2})?")
_TRUE = frozenset({"1", "true", "yes", "y", "x", "lost", "dither", "on"})
_SIGNS = {"w": 1.0, "west": 1.0, "n": 1.0, "north": 1.0, "+": 1.0, "e": -1.0, "east": -1.0, "s": -1.0, "south": -1.0}
_SIGNS["-"] = -1.0
_NUMBERS = frozenset(
    f"guide.{key}" for key in ("ra", "dec", "x", "y", "ra_pulse", "dec_pulse", "strength", "frame", "step", "pulse")
)


@dataclass
class Section:
    """Rows under one line of headings.

    ``values`` holds an array for each column of numbers, NaN where a cell holds none, times in s; ``events`` (row,
    kind) of what stands between the rows or in a column; ``ways`` the texts of a calibration's directions; ``facts``
    what lines before it tell, by their words.
    """

    line: int
    headings: tuple[str, ...]
    places: dict[str, Place]
    values: JsonObject = field(default_factory=dict)
    events: list[tuple[int, str]] = field(default_factory=list)
    ways: list[str] = field(default_factory=list)
    facts: dict[str, str] = field(default_factory=dict)
    rows: int = 0
    clock: bool = False

    @property
    def is_calibration(self) -> bool:
        return is_calibration(self.places)


def read_sections(path: Path, rules: Sequence[KeyRule] = (), progress: Progress = lambda _a, _b: None) -> list[Section]:
    """Return the sections of a log that hold rows of a guided run or of a calibration.

    Parameters
    ----------
    path
        A text file.
    rules
        Which heading holds what, where headings do not tell.
    progress
        Told of bytes read and to read; may cancel.

    Returns
    -------
    list of Section
        In the order of the file.

    Raises
    ------
    InputError
        In one line, for what is no text, too large, or has no such table.
    """
    data = read_bytes(path, MAX_BYTES, f"a guide log is at most some {MAX_BYTES >> 20} MB")
    try:
        return sections_of(data, rules, progress)
    except InputError as error:
        raise error.about(path) from None


def sections_of(data: bytes, rules: Sequence[KeyRule] = (), progress: Progress = lambda _a, _b: None) -> list[Section]:
    """Return the sections that a log's bytes hold; see :func:`read_sections`.

    Raises
    ------
    InputError
        In one line.
    """
    if b"\x00" in data:
        raise InputError("holds NUL bytes, so it is no text table")
    if not data.strip():
        raise InputError("is empty; a guide log holds a line of headings and rows below it")
    reader = _Reader(rules)
    for piece, done in _pieces(data):
        reader.take(piece)
        progress(done, len(data))
    sections = reader.finished()
    if not data.endswith((b"\n", b"\r")):
        _drop_cut_row(sections[-1])
    return sections


def _drop_cut_row(section: Section) -> None:
    """Leave the last row of a file out where it ends in the middle of it: that is no lost star."""
    errors = [section.values[key] for key in _AXES if key in section.values]
    if section.rows > 1 and any(math.isnan(values[-1]) for values in errors):
        section.rows -= 1
        section.values = {key: values[: section.rows] for key, values in section.values.items()}
        section.ways = section.ways[: section.rows]
        section.events = [event for event in section.events if event[0] < section.rows]


def _pieces(data: bytes) -> Iterator[tuple[bytes, int]]:
    """Yield a file piece by piece, each of whole lines, and how much has been read."""
    at = len(_BYTE_ORDER_MARK) if data.startswith(_BYTE_ORDER_MARK) else 0
    while at < len(data):
        end = min(at + PIECE_BYTES, len(data))
        if end < len(data):
            line_end = data.rfind(b"\n", at, end)
            # A line longer than a piece is no row of a table: it is cut where the piece ends.
            end = end if line_end < at else line_end + 1
        yield data[at:end], end
        at = end


class _Reader:
    """Takes pieces in turn; the rows of a piece that belong to one section are worked through together."""

    def __init__(self, rules: Sequence[KeyRule]) -> None:
        self._rules = rules
        self._sections: list[Section] = []
        self._facts: dict[str, str] = {}
        self._separator: str | None = None
        self._comma = False
        self._need = 0
        self._parts: dict[str, list[Any]] = {}
        self._line = 0
        self._first_headings = ""
        self._events = 0

    # Lines

    def take(self, piece: bytes) -> None:
        """Take some lines."""
        if b"\n" not in piece and b"\r" in piece:
            piece = piece.replace(b"\r", b"\n")
        codes = np.frombuffer(piece, np.uint8)
        ends = np.flatnonzero(codes == _NEWLINE)
        if not len(ends) or ends[-1] != len(codes) - 1:
            ends = np.append(ends, len(codes))
        starts = np.concatenate([[0], ends[:-1] + 1])
        line, first = 0, self._line
        while line < len(starts):
            if not self._sections:
                self._line = first + line + 1
                self._other(_text(piece, starts[line], ends[line]))
                line += 1
                continue
            line = self._rows_from(piece, codes, starts, ends, line, first)
        self._line = first + len(starts)

    def _rows_from(self, piece: bytes, codes: Numbers, starts: Ints, ends: Ints, line: int, first: int) -> int:
        """Work through rows from a line on, up to the headings of another section; return the line behind them."""
        own_starts, own_ends = starts[line:], ends[line:]
        letters = codes[np.minimum(own_starts, len(codes) - 1)]
        plain = _BEGINS_ROW[letters] & (own_ends > own_starts) & (own_ends - own_starts < MAX_LINE)
        for odd in np.flatnonzero(~plain).tolist():
            text, self._line = _text(piece, own_starts[odd], own_ends[odd]), first + line + odd + 1
            if self._is_row(text):
                plain[odd] = True
            elif not plain[:odd].any() and self._take_units(text):
                continue
            elif self._begins_section(text):
                self._work(piece, codes, own_starts[:odd][plain[:odd]], own_ends[:odd][plain[:odd]])
                self._other(text)
                return line + odd + 1
            else:
                self._other(text, rows_before=int(plain[:odd].sum()))
        self._work(piece, codes, own_starts[plain], own_ends[plain])
        return len(starts)

    def _is_row(self, text: str) -> bool:
        """Return whether a line that begins with a word is a row all the same: its time or an error is a number."""
        if not text or text[0] in "#%":
            return False
        cells = _cells(text, self._separator)
        places = self._sections[-1].places
        keys = [key for key in (*_AXES, "guide.time", "guide.frame") if key in places]
        numbers = sum(places[key].index < len(cells) and is_number(cells[places[key].index]) for key in keys)
        return len(cells) > self._need and numbers >= min(2, len(keys))

    def _take_units(self, text: str) -> bool:
        """Take the first line below the headings as their units, where it is one."""
        section = self._sections[-1]
        if section.rows or self._parts or text[:1] in "#%":
            return False
        units = units_of_row(_cells(text, self._separator))
        if units is None:
            return False
        for key, place in section.places.items():
            choices = COLUMNS[key].choices
            if choices and place.index < len(units) and units[place.index] in choices:
                section.places[key] = Place(place.index, units[place.index])
        return True

    def _begins_section(self, text: str) -> bool:
        cells = cells_of(text)
        return 2 <= len(cells) <= MAX_CELLS and self._is_headings(cells)

    def _other(self, line: str, rows_before: int = 0) -> None:
        """Take a line that is no row: headings, an event, facts."""
        if not line:
            return
        bare = line.lstrip("#%/ ")
        separator = _separator_of(bare)
        if self._begins_section(line):
            self._begin(_cells(bare, separator), separator)
            return
        event = event_of(line)
        if event is not None and self._sections:
            self._note(self._sections[-1], self._sections[-1].rows + rows_before, event)
        self._facts |= {key.strip().lower(): value.strip() for key, value in _FACT.findall(line[:400])}

    def _is_headings(self, cells: list[str]) -> bool:
        if sum(is_number(cell) for cell in cells) > 1:
            return False
        if not self._first_headings and len(cells) > 2:
            self._first_headings = ", ".join(cell[:30] for cell in cells[:12])
        places = columns_of(cells, self._rules)
        return is_guiding(places) or is_calibration(places)

    def _begin(self, cells: list[str], separator: str | None) -> None:
        self._close()
        if len(self._sections) >= MAX_SECTIONS:
            raise InputError(f"has more than {MAX_SECTIONS} sections; give its nights one by one")
        places = columns_of(cells, self._rules)
        foreign = unknown_unit(cells, places)
        if foreign:
            raise InputError(
                f"its column “{foreign[:40]}” is in a unit that cannot be converted to arcsec or px; convert it first"
            )
        facts = dict(self._facts)
        self._sections.append(Section(self._line, tuple(cells), places, facts=facts))
        self._separator, self._comma = separator, False
        keys = [key for key in ("guide.time", "guide.frame", "guide.ra", "guide.dec") if key in places]
        # Cells behind the time may be left away where the star was lost.
        first = min((places[key].index for key in keys), default=0)
        self._need = first if "guide.way" not in places else 2
        self._parts = {}

    def _note(self, section: Section, row: int, event: str) -> None:
        self._events += 1
        if self._events <= MAX_EVENTS:
            section.events.append((row, event))

    # Rows

    def _work(self, piece: bytes, codes: Numbers, starts: Ints, ends: Ints) -> None:
        """Work through rows, told by where their lines begin and end."""
        if not len(starts):
            return
        section = self._sections[-1]
        rows = self._split(piece, codes, starts, ends)
        if not len(rows):
            return
        if section.rows + len(rows) > MAX_ROWS:
            raise InputError(f"has more than {MAX_ROWS:,} rows; give its nights one by one")
        if not self._parts:
            self._comma = _has_decimal_commas(rows.head(50), section, self._separator)
        rows = replace(rows, comma=self._comma)
        start = section.rows
        section.rows += len(rows)
        for key, place in section.places.items():
            if key == "guide.time":
                values = self._times(rows, place, section)
            elif key in _NUMBERS:
                values = rows.numbers(place.index)
            elif key in ("guide.ra_way", "guide.dec_way"):
                cells, which = rows.kinds(place.index)
                signs = [_SIGNS.get(cell.strip().strip('"').lower(), math.nan) for cell in cells]
                values = np.array(signs)[which]
            elif key == "guide.way":
                section.ways += [cell.strip().strip('"')[:40] for cell in rows.texts(place.index)]
                continue
            else:
                self._note_cells(section, key, rows, start)
                continue
            self._parts.setdefault(key, []).append(values)

    def _split(self, piece: bytes, codes: Numbers, starts: Ints, ends: Ints) -> ByteRows | ListRows:
        separator = self._separator
        if separator is None or b'"' in piece:
            lines = [_text(piece, at, to) for at, to in zip(starts.tolist(), ends.tolist(), strict=True)]
            return list_rows([line for line in lines if line], separator, self._need)
        marks = np.flatnonzero(codes == ord(separator))
        first = np.searchsorted(marks, starts)
        counts = np.searchsorted(marks, ends) - first
        enough = counts >= self._need
        if not enough.all():
            starts, ends, first, counts = (array[enough] for array in (starts, ends, first, counts))
        return ByteRows(piece, codes, starts, ends, marks, first, counts, separator)

    def _times(self, rows: ByteRows | ListRows, place: Place, section: Section) -> Floats:
        """Return times in s: numbers, times of day, or ISO 8601."""
        first = next((cells[place.index] for cells in rows.head(20) if place.index < len(cells)), "").strip(' "')
        if is_number(first):
            return rows.numbers(place.index) * SECONDS_PER[place.unit or "s"]
        if _CLOCK.match(first):
            section.clock = True
        texts = [cell.strip().strip('"').removesuffix("Z").replace(",", ".") for cell in rows.texts(place.index)]
        try:
            dated = ["1970-01-01T" + text for text in texts] if section.clock else texts
            return np.array(dated, dtype="datetime64[us]").astype(np.int64) / 1e6
        except ValueError:
            return np.array([moment_seconds(text, place.unit) for text in texts])

    def _note_cells(self, section: Section, key: str, rows: ByteRows | ListRows, start: int) -> None:
        """Note the events that a column tells."""
        cells, which = rows.kinds(section.places[key].index)
        for number, cell in enumerate(cells):
            plain = cell.strip().strip('"').lower()
            if key == "guide.mark":
                event = event_of(plain)
            else:
                entries = plain in _TRUE or (is_number(plain) and number_in(plain.replace(",", ".")) != 0)
                event = (LOST if key == "guide.lost" else DITHER) if entries else None
            if event is not None:
                for row in np.flatnonzero(which == number).tolist():
                    self._note(section, start + row, event)

    def _close(self) -> None:
        if self._sections:
            own = self._sections[-1]
            own.values = {key: np.concatenate(parts) for key, parts in self._parts.items()}
            own.events.sort(key=lambda event: event[0])
            for values in own.values.values():
                values[~(np.abs(values) < 1e12)] = math.nan
            for key in _NUMBERS & own.values.keys():
                own.values[key][np.abs(own.values[key]) > MAX_VALUE] = math.nan

    def finished(self) -> list[Section]:
        """Return the sections that hold rows; what lines tell below the last of them counts for it."""
        self._close()
        if not self._sections:
            text = f" among {self._first_headings}" if self._first_headings else ""
            raise ColumnsUnknownError(
                f"has no line of headings with a time and an error on an axis{text}; point columns at them"
            )
        kept = [section for section in self._sections if section.rows]
        if not kept:
            raise InputError("holds no row under its headings")
        return kept


def _separator_of(line: str) -> str | None:
    """Return the sign that separates a line's cells; None for blanks."""
    best = max(SEPARATORS, key=line.count)
    return best if line.count(best) else None


def cells_of(line: str) -> list[str]:
    """Return the cells of a line by the sign that stands in it most often, without blanks around."""
    bare = line.lstrip("#%/ ")
    return _cells(bare, _separator_of(bare))


def _cells(line: str, separator: str | None) -> list[str]:
    if separator is None:
        return line.split()
    try:
        return [cell.strip() for cell in next(csv.reader([line], delimiter=separator), [])]
    except csv.Error:
        return line.split(separator)


def is_number(text: str) -> bool:
    """Return whether a cell holds a number, with a decimal point or comma."""
    return not math.isnan(number_in(text.replace(",", ".")))


def _text(piece: bytes, start: int, end: int) -> str:
    """Return a line's text, as much as a line may have of it."""
    return piece[start : min(end, start + MAX_LINE)].decode("utf-8", "replace").strip()


def _has_decimal_commas(rows: list[list[str]], section: Section, separator: str | None) -> bool:
    """Return whether numbers are written with a decimal comma.

    Raises
    ------
    InputError
        Where the comma separates cells too, so that nobody can tell them apart.
    """
    places = section.places
    keys = [key for key in places if key in _NUMBERS]
    cells = [row[places[key].index].strip() for row in rows for key in keys if places[key].index < len(row)]
    found = any(_DECIMAL_COMMA.fullmatch(cell) for cell in cells)
    if separator == "," and not found:
        bare = [list(row) if row[-1].strip() else row[:-1] for row in rows if row]
        # More numbers in a row than there are headings: some of them are the decimals of others.
        longer = [row for row in bare if len(row) > len(section.headings) and all(_is_plain(cell) for cell in row)]
        if len(longer) > MAX_LONGER_SHARE * len(rows):
            raise InputError(
                "its rows hold more cells than it has headings: is the comma both decimal point and separator? "
                "Write it with semicolons"
            )
    return found


def _is_plain(cell: str) -> bool:
    return not cell.strip() or bool(_PLAIN_NUMBER.fullmatch(cell.strip()))

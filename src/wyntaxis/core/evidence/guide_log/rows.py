"""Rows of a text table, column by column: plain numbers are read many at a time, straight from the file's bytes."""

from __future__ import annotations

import csv
import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats, Ints, Numbers

LONGEST_NUMBER = 24
MAX_DIGITS = 18
"""More do not fit into 64 bits: such a cell is read one by one."""
PACKED = 7
"""Cells of so many bytes are told apart by one number of 64 bits, their length in its last byte."""
_POWERS = 10.0 ** np.arange(LONGEST_NUMBER + 1)
_PLUS, _MINUS, _POINT, _COMMA, _BLANK, _RETURN, _TAB = b"+-., \r\t"


@dataclass(frozen=True)
class ListRows:
    """Rows as lists of cells, for lines that are no plain table: separated by blanks, or quoted."""

    rows: list[list[str]]
    comma: bool = False

    def __len__(self) -> int:
        return len(self.rows)

    def texts(self, index: int) -> list[str]:
        """Return the cells of a column."""
        return [row[index] if index < len(row) else "" for row in self.rows]

    def kinds(self, index: int) -> tuple[list[str], Any]:
        """Return the different cells of a column, and of each row which of them it holds."""
        cells = self.texts(index)
        known = {cell: place for place, cell in enumerate(dict.fromkeys(cells))}
        return list(known), np.array([known[cell] for cell in cells], dtype=np.intp)

    def numbers(self, index: int) -> Floats:
        """Return the numbers of a column, NaN where a cell holds none."""
        cells = self.texts(index)
        if self.comma:
            cells = [cell.replace(",", ".") for cell in cells]
        try:
            return np.array(cells, dtype=float)
        except ValueError:
            return np.array([number_in(cell) for cell in cells])

    def head(self, most: int) -> list[list[str]]:
        """Return the cells of the first rows."""
        return self.rows[:most]


def list_rows(lines: list[str], separator: str | None, need: int) -> ListRows:
    """Return the rows of lines that hold more than ``need`` cells."""
    if separator is not None and any('"' in line for line in lines):
        split = [row for row in csv.reader(lines, delimiter=separator) if row]
    else:
        split = [line.split(separator) for line in lines]
    return ListRows([row for row in split if len(row) > need])


@dataclass(frozen=True)
class ByteRows:
    """Rows of one separator within a block of bytes: where lines begin and end, and where their separators stand."""

    block: bytes
    codes: Numbers
    starts: Ints
    ends: Ints
    marks: Ints
    """The places of all separators of the block."""
    first: Ints
    """Of each row, the number of its first separator among these."""
    counts: Ints
    separator: str = ","
    comma: bool = False

    def __len__(self) -> int:
        return len(self.starts)

    def _bounds(self, index: int) -> tuple[Ints, Ints]:
        """Return where the cells of a column begin and end; both alike where a row has no such cell."""
        if not len(self.marks):
            return (self.starts, self.ends) if index == 0 else (self.ends, self.ends)
        last = len(self.marks) - 1
        begin = self.starts if index == 0 else self.marks[np.minimum(self.first + index - 1, last)] + 1
        end = np.where(index < self.counts, self.marks[np.minimum(self.first + index, last)], self.ends)
        there = index <= self.counts
        return np.where(there, begin, self.ends), np.where(there, end, self.ends)

    def texts(self, index: int) -> list[str]:
        """Return the cells of a column."""
        begin, end = self._bounds(index)
        if not (end > begin).any():
            return [""] * len(self)
        block = self.block
        return [block[at:to].decode("utf-8", "replace") for at, to in zip(begin.tolist(), end.tolist(), strict=True)]

    def kinds(self, index: int) -> tuple[list[str], Any]:
        """Return the different cells of a column, and of each row which of them it holds."""
        begin, end = self._bounds(index)
        width, last = end - begin, len(self.codes) - 1
        packed = width.astype(np.uint64) << np.uint64(56)
        for place in range(min(int(width.max(initial=0)), PACKED)):
            code = np.where(width > place, self.codes[np.minimum(begin + place, last)], 0)
            packed ^= code.astype(np.uint64) << np.uint64(8 * place)
        if int(width.max(initial=0)) > PACKED:
            rows = np.flatnonzero(width > PACKED)
            tails = [self.block[at:to] for at, to in zip(begin[rows].tolist(), end[rows].tolist(), strict=True)]
            known = {tail: number for number, tail in enumerate(dict.fromkeys(tails))}
            packed[rows] = (np.uint64(255) << np.uint64(56)) | np.array([known[tail] for tail in tails], np.uint64)
        _, where, inverse = np.unique(packed, return_index=True, return_inverse=True)
        cells = [self.block[begin[row] : end[row]].decode("utf-8", "replace") for row in where.tolist()]
        return cells, inverse.reshape(-1)

    def numbers(self, index: int) -> Floats:
        """Return the numbers of a column, NaN where a cell holds none."""
        begin, end = self._bounds(index)
        width, point = end - begin, _COMMA if self.comma else _POINT
        count, last = len(begin), len(self.codes) - 1
        value, digits = np.zeros(count, np.int64), np.zeros(count, np.uint8)
        behind = np.zeros(count, np.uint8)
        pointed, negative, bad = np.zeros(count, bool), np.zeros(count, bool), width > LONGEST_NUMBER
        for place in range(min(int(width.max(initial=0)), LONGEST_NUMBER)):
            inside = width > place
            code = self.codes[np.minimum(begin + place, last)]
            figure = code - np.uint8(48)
            is_digit = (figure < 10) & inside
            value *= np.where(is_digit, 10, 1)
            value += np.where(is_digit, figure, 0)
            digits += is_digit
            behind += is_digit & pointed
            rest = inside & ~is_digit
            is_point = rest & (code == point)
            bad |= is_point & pointed
            pointed |= is_point
            is_minus = rest & (code == _MINUS)
            negative |= is_minus
            signed = is_minus | (rest & (code == _PLUS))
            bad |= signed & ((digits > 0) | pointed)
            blank = (code == _BLANK) | (code == _RETURN) | (code == _TAB)
            bad |= rest & ~(is_point | signed | blank)
        bad |= (digits == 0) | (digits > MAX_DIGITS)
        found = value / _POWERS[behind]
        np.negative(found, where=negative, out=found)
        for row in np.flatnonzero(bad).tolist():
            text = self.block[begin[row] : end[row]].decode("utf-8", "replace")
            found[row] = number_in(text.replace(",", ".") if self.comma else text)
        return found

    def head(self, most: int) -> list[list[str]]:
        """Return the cells of the first rows."""
        lines = [
            self.block[at:to].decode("utf-8", "replace")
            for at, to in zip(self.starts[:most].tolist(), self.ends[:most].tolist(), strict=True)
        ]
        return [line.split(self.separator) for line in lines]


def number_in(text: str) -> float:
    """Return the number that a cell holds, NaN for none."""
    try:
        return float(text)
    except ValueError:
        try:
            return float(text.strip().strip("\"'"))
        except ValueError:
            return math.nan

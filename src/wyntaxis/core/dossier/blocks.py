"""What a dossier is made of: chapters of tables, pictures, lists and words, without a word of markup."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

LEAST_COLUMN, MOST_WORD, MOST_COLUMN, MOST_WIDE = 4.0, 18, 26.0, 60.0
"""Widths of columns in letters."""
MARKS = {"fails": "✕ fails", "tight": "◆ tight", "unproven": "◌ not verified", "holds": "✓ holds"}
"""A verdict on paper: a shape and a word."""


@dataclass(frozen=True)
class Table:
    """A table: headings, rows of texts, which columns are numbers, and which rows stand out."""

    headings: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    title: str = ""
    numbers: frozenset[int] = frozenset()
    bold: frozenset[int] = frozenset()
    wide: int = -1
    """The column that holds the most words; none for -1."""

    @property
    def shares(self) -> tuple[float, ...]:
        """How wide each column stands, in %: by what its cells hold, so that none is starved."""
        wanted = []
        for place, heading in enumerate(self.headings):
            cells = [row[place] for row in self.rows if place < len(row)]
            longest_word = max((len(word) for cell in (heading, *cells) for word in cell.split()), default=1)
            usual = sorted(len(cell) for cell in cells)[int(0.8 * (len(cells) - 1))] if cells else 1
            most = MOST_WIDE if place == self.wide else MOST_COLUMN
            wanted.append(max(min(longest_word, MOST_WORD) + 2.0, min(float(usual), most), LEAST_COLUMN))
        return tuple(100 * own / sum(wanted) for own in wanted)


@dataclass(frozen=True)
class Picture:
    """A drawing: its markup, and what is written below it."""

    markup: str = field(repr=False)
    caption: str = ""


@dataclass(frozen=True)
class Lines:
    """A list: of steps in order, of boxes to tick, or plain."""

    lines: tuple[str, ...]
    title: str = ""
    form: str = "plain"


@dataclass(frozen=True)
class Words:
    """A paragraph."""

    text: str
    title: str = ""


@dataclass(frozen=True)
class Photo:
    """A photograph: embedded as a data URI, or named."""

    file: str
    caption: str
    data: str = field(default="", repr=False)


Block = Table | Picture | Lines | Words | Photo


@dataclass(frozen=True)
class Chapter:
    """A chapter: its key, title and blocks; ``pages`` begins each block with a title on a page of its own."""

    key: str
    title: str
    blocks: tuple[Block, ...]
    pages: bool = False


def table(
    headings: str, rows: Iterable[Iterable[object]], *, title: str = "", numbers: Iterable[int] = (), wide: int = -1,
    bold: Iterable[int] = (),
) -> Table:  # fmt: skip
    """Return a table from headings set apart by bars; a cell of None is a dash."""
    entries = tuple(tuple("–" if cell is None or cell == "" else str(cell) for cell in row) for row in rows)
    return Table(
        tuple(h.strip() for h in headings.split("|")), entries, title, frozenset(numbers), frozenset(bold), wide
    )

"""What a drawing is made on: lines, shapes, words and marks, for the window and for paper alike.

A drawing of the core is made of these alone; :mod:`wyntaxis.desk.qt_canvas` puts them on the screen and
:mod:`wyntaxis.core.dossier.svg` on paper. Colours are named by what they are for (ink, faded, paper, panel, accent,
chosen, or a verdict); lengths are in px, and y counts down.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal, Protocol

if TYPE_CHECKING:
    from wyntaxis.core.ledger import Verdict

Point = tuple[float, float]
WIDE_PX, NARROW_PX = 1.6, 0.9
CHAIN_DASHES = (14.0, 3.0, 2.0, 3.0)
"""Long dash, dot: axes (ISO 128, line type 04)."""
DASHES = (6.0, 3.0)
"""Dashed (ISO 128, line type 02): here, what was not entered."""


@dataclass(frozen=True)
class Box:
    """A rectangle by its upper left corner and its size, in px."""

    left: float
    top: float
    width: float
    height: float

    @property
    def right(self) -> float:
        return self.left + self.width

    @property
    def bottom(self) -> float:
        return self.top + self.height

    @property
    def middle(self) -> Point:
        return self.left + self.width / 2, self.top + self.height / 2

    @property
    def corners(self) -> tuple[Point, Point, Point, Point]:
        """The corners, clockwise from the upper left one."""
        return (self.left, self.top), (self.right, self.top), (self.right, self.bottom), (self.left, self.bottom)

    def grown(self, by: float) -> Box:
        """Return the box with a margin all round; a negative one makes it smaller."""
        return Box(self.left - by, self.top - by, self.width + 2 * by, self.height + 2 * by)

    def contains(self, x: float, y: float) -> bool:
        """Return whether a point lies inside, or on the edge."""
        return self.left <= x <= self.right and self.top <= y <= self.bottom


@dataclass(frozen=True)
class Stroke:
    """How a line is drawn: its colour, its width and its dashes in px; none for a full line."""

    color: str = "ink"
    width: float = NARROW_PX
    dashes: tuple[float, ...] = ()


@dataclass(frozen=True)
class Lettering:
    """How words are written: ``at`` is their left end, middle or right end; ``ground`` is filled behind them."""

    small: bool = True
    align: Literal["left", "centre", "right"] = "centre"
    color: str = "ink"
    bold: bool = False
    ground: str | None = None


class Canvas(Protocol):
    """What lines, shapes, words and marks are put on."""

    def line(self, points: Sequence[Point], stroke: Stroke) -> None:
        """Draw a line through points."""

    def shape(self, points: Sequence[Point], fill: str | None, stroke: Stroke | None) -> None:
        """Draw a closed shape, filled, outlined, or both."""

    def circle(self, at: Point, radius: float, fill: str | None, stroke: Stroke | None) -> None:
        """Draw a circle, filled, outlined, or both."""

    def words(self, at: Point, text: str, lettering: Lettering) -> Box:
        """Write one line of text, its middle at the height of ``at``; return the box that it takes."""

    def width_of(self, text: str, lettering: Lettering) -> float:
        """Return how wide a text would be."""

    def mark(self, box: Box, verdict: Verdict, ground: str) -> None:
        """Draw a verdict's own shape into a square."""


def elided(canvas: Canvas, text: str, room: float, lettering: Lettering) -> str:
    """Return a text as far as it has room, with three dots in place of what is cut off."""
    if canvas.width_of(text, lettering) <= room:
        return text
    kept = text
    while kept and canvas.width_of(f"{kept}…", lettering) > room:
        kept = kept[:-1]
    return f"{kept}…" if kept else ""

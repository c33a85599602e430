"""Line types and small figures of the drafting sheet, after ISO 128 (lines, hatching) and ISO 129 (dimensions)."""

from __future__ import annotations

import math
from collections.abc import Callable, Hashable, Sequence
from copy import copy
from dataclasses import dataclass
from functools import cached_property, lru_cache

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QBrush, QColor, QFont, QFontMetricsF, QPainter, QPainterPath, QPen, QPolygonF, QTransform

from wyntaxis.core.canvas import DASHES, NARROW_PX, WIDE_PX
from wyntaxis.core.files.foreign_text import plain
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.section.pieces import CLEAR, Pieces

DOUBLE_CHAIN_DASHES = (12.0, 3.0, 2.0, 3.0, 2.0, 3.0)
"""Long dash, two dots: another position of a part (ISO 128, line type 05)."""
ARROW_PX = 7.0
MAX_WIDTHS, MAX_FONTS = 4000, 64


class _Lettering:
    """A font with its metrics, and the widths of texts in it: measuring one costs more than drawing a line."""

    def __init__(self, font: QFont, key: str) -> None:
        self.font, self.key, self.metrics = font, key, QFontMetricsF(font)
        self._widths: dict[str, float] = {}

    @classmethod
    def of(cls, font: QFont) -> _Lettering:
        """Return a font's lettering, the same one each time."""
        key = font.key()
        if key not in _LETTERINGS:
            if len(_LETTERINGS) >= MAX_FONTS:
                _LETTERINGS.clear()
            _LETTERINGS[key] = cls(QFont(font), key)
        return _LETTERINGS[key]

    @cached_property
    def bold(self) -> _Lettering:
        font = QFont(self.font)
        font.setBold(True)
        return _Lettering.of(font)

    def width_of(self, text: str) -> float:
        if text not in self._widths:
            if len(self._widths) > MAX_WIDTHS:
                self._widths.clear()
            self._widths[text] = self.metrics.horizontalAdvance(text)
        return self._widths[text]


_LETTERINGS: dict[str, _Lettering] = {}


@lru_cache(maxsize=512)
def _pen(palette: Palette, color: str, width: float, dashes: tuple[float, ...]) -> QPen:
    pen = QPen(palette.color(color), width)
    if dashes:
        pen.setDashPattern([dash / width for dash in dashes])
        pen.setCapStyle(Qt.PenCapStyle.FlatCap)
    return pen


@lru_cache(maxsize=16)
def _arrow_head(angle_deg: float) -> QPolygonF:
    """Return an arrow head whose tip is the origin."""
    half = ARROW_PX * math.tan(math.radians(14))
    head = QPolygonF([QPointF(0, 0), QPointF(-ARROW_PX, half), QPointF(-ARROW_PX, -half)])
    return QTransform().rotate(angle_deg).map(head)


PieceOf = Callable[["DraftingPainter"], object]
"""What draws a piece about the origin of the sheet that it is given."""


@dataclass
class DraftingPainter:
    """A painter with the palette and fonts that everything on the drafting sheet shares."""

    painter: QPainter
    palette: Palette
    text: QFont
    small: QFont
    pieces: Pieces | None = None
    """What is kept of the drawing from one painting to the next; without them, all is drawn each time."""

    def __post_init__(self) -> None:
        self._letters = _Lettering.of(self.text), _Lettering.of(self.small)
        self.look = (self.palette.name, *(own.key for own in self._letters))

    def onto(self, painter: QPainter) -> DraftingPainter:
        """Return what draws alike with another painter, and keeps nothing."""
        other = copy(self)
        other.painter, other.pieces = painter, None
        return other

    def piece(
        self, key: Hashable, x: float, y: float, extent: QRectF, how: PieceOf, *, ground: str | None = None
    ) -> None:
        """Draw something about (x, y): ``how`` draws it about the origin from its key alone, within an extent.

        What lies within the extent beneath it is not seen where it has a ground.
        """
        if self.pieces is None:
            self.painter.save()
            self.painter.translate(x, y)
            how(self)
            self.painter.restore()
            return
        self.pieces.draw(
            self.painter,
            (key, self.look),
            x,
            y,
            extent,
            lambda painter: how(self.onto(painter)),
            self.palette.color(ground) if ground else CLEAR,
        )

    def pen(self, color: str = "ink", width: float = NARROW_PX, dashes: Sequence[float] | None = None) -> QPen:
        return _pen(self.palette, color, width, tuple(dashes or ()))

    def line(self, x1: float, y1: float, x2: float, y2: float, pen: QPen | None = None) -> None:
        if pen is not None:
            self.painter.setPen(pen)
        self.painter.drawLine(QPointF(x1, y1), QPointF(x2, y2))

    def hatched(self, path: QPainterPath, *, forward: bool, chosen: bool = False, assumed: bool = False) -> None:
        """Draw cut metal: thin 45° hatching inside a wide outline; neighbours are hatched the other way.

        A part whose length nobody gave has no hatching, and a grey dashed outline.
        """
        if assumed:
            self.painter.fillPath(path, self.palette.color("chosen" if chosen else "paper"))
            self.painter.setBrush(Qt.BrushStyle.NoBrush)
            self.painter.setPen(self.pen("accent" if chosen else "faded", WIDE_PX, DASHES))
            self.painter.drawPath(path)
            return
        self.painter.fillPath(path, self.palette.color("chosen" if chosen else "panel"))
        pattern = Qt.BrushStyle.FDiagPattern if forward else Qt.BrushStyle.BDiagPattern
        self.painter.fillPath(path, QBrush(self.palette.color("metal", 200), pattern))
        self.painter.setBrush(Qt.BrushStyle.NoBrush)
        self.painter.setPen(self.pen("accent" if chosen else "ink", WIDE_PX * (1.6 if chosen else 1)))
        self.painter.drawPath(path)

    def arrow(self, x: float, y: float, angle_deg: float, color: str = "ink") -> None:
        """Draw a dimension arrow head with its tip at (x, y), pointing along the angle (0 is to the right)."""
        self.painter.setPen(Qt.PenStyle.NoPen)
        self.painter.setBrush(self.palette.color(color))
        self.painter.drawPolygon(_arrow_head(angle_deg).translated(x, y))

    def dimension(self, x1: float, x2: float, y: float, color: str = "ink") -> None:
        """Draw a dimension line between x1 and x2; where arrows have no room, dots stand for them (ISO 129)."""
        left, right = min(x1, x2), max(x1, x2)
        self.line(left, y, right, y, self.pen(color))
        if right - left >= 2.2 * ARROW_PX:
            self.arrow(left, y, 180, color)
            self.arrow(right, y, 0, color)
            return
        self.painter.setPen(Qt.PenStyle.NoPen)
        self.painter.setBrush(self.palette.color(color))
        for x in (left, right):
            self.painter.drawEllipse(QPointF(x, y), 1.8, 1.8)

    def write(self, at: tuple[float, float], text: str, *, small: bool = False, bold: bool = False, color: str = "ink",
              align: str = "centre", ground: str | None = None) -> QRectF:  # fmt: skip
        """Write a line of text, ``at`` being its left end, middle or right end; return the box that it takes."""
        x, y = at
        text = plain(text)
        letters = self._letters[small].bold if bold else self._letters[small]
        width, height = letters.width_of(text), letters.metrics.height()
        left = {"left": x, "centre": x - width / 2, "right": x - width}[align]
        box = QRectF(left, y - height / 2, width, height)
        if ground is not None:
            self.painter.fillRect(box.adjusted(-2, 0, 2, 0), self.palette.color(ground))
        self.painter.setFont(letters.font)
        self.painter.setPen(self.palette.color(color))
        self.painter.drawText(QPointF(left, y - height / 2 + letters.metrics.ascent()), text)
        return box

    def width_of(self, text: str, *, small: bool = False) -> float:
        return self._letters[small].width_of(text)

    def height_of(self, *, small: bool = False) -> float:
        return self._letters[small].metrics.height()

    def balloon(self, x: float, y: float, text: str, *, chosen: bool) -> float:
        """Draw an item number in a circle (ISO 6433) and return its radius."""
        radius = self.balloon_radius(text)
        self.painter.setPen(self.pen("accent" if chosen else "ink", WIDE_PX if chosen else NARROW_PX))
        self.painter.setBrush(self.palette.color("chosen" if chosen else "paper"))
        self.painter.drawEllipse(QPointF(x, y), radius, radius)
        self.write((x, y), text, small=True)
        return radius

    def balloon_radius(self, text: str) -> float:
        """Return how large the circle of an item number is."""
        return max(self.width_of(text, small=True) / 2 + 4, self.height_of(small=True) / 2 + 1)

    def tint(self, path: QPainterPath | QPolygonF, color: str, alpha: int) -> None:
        """Fill a shape with a transparent colour and no outline."""
        self.painter.setPen(Qt.PenStyle.NoPen)
        fill: QColor = self.palette.color(color, alpha)
        self.painter.setBrush(fill)
        if isinstance(path, QPolygonF):
            self.painter.drawPolygon(path)
        else:
            self.painter.drawPath(path)

"""Line types and small figures of the drafting sheet, after ISO 128 (lines, hatching) and ISO 129 (dimensions)."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QBrush, QColor, QFont, QFontMetricsF, QPainter, QPainterPath, QPen, QPolygonF

from wyntaxis.core.files.foreign_text import plain
from wyntaxis.desk.palette import Palette

WIDE_PX, NARROW_PX = 1.6, 0.9
CHAIN_DASHES = [14.0, 3.0, 2.0, 3.0]
"""Long dash, dot: axes (ISO 128, line type 04)."""
DASHES = [6.0, 3.0]
"""Dashed (ISO 128, line type 02): here, what nobody gave."""
DOUBLE_CHAIN_DASHES = [12.0, 3.0, 2.0, 3.0, 2.0, 3.0]
"""Long dash, two dots: another position of a part (ISO 128, line type 05)."""
ARROW_PX = 7.0
MAX_WIDTHS = 4000
_WIDTHS: dict[str, dict[str, float]] = {}
"""Widths of texts by font: measuring one costs more than drawing a line."""


@lru_cache(maxsize=512)
def _pen(palette: Palette, color: str, width: float, dashes: tuple[float, ...]) -> QPen:
    pen = QPen(palette.color(color), width)
    if dashes:
        pen.setDashPattern([dash / width for dash in dashes])
        pen.setCapStyle(Qt.PenCapStyle.FlatCap)
    return pen


@dataclass
class DraftingPainter:
    """A painter with the palette and fonts that everything on the drafting sheet shares."""

    painter: QPainter
    palette: Palette
    text: QFont
    small: QFont

    def __post_init__(self) -> None:
        self._metrics = QFontMetricsF(self.text), QFontMetricsF(self.small)
        self._widths = _WIDTHS.setdefault(self.text.key(), {}), _WIDTHS.setdefault(self.small.key(), {})

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
        self.painter.save()
        self.painter.translate(x, y)
        self.painter.rotate(angle_deg)
        self.painter.setPen(Qt.PenStyle.NoPen)
        self.painter.setBrush(self.palette.color(color))
        half = ARROW_PX * math.tan(math.radians(14))
        self.painter.drawPolygon(QPolygonF([QPointF(0, 0), QPointF(-ARROW_PX, half), QPointF(-ARROW_PX, -half)]))
        self.painter.restore()

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

    def write(self, x: float, y: float, text: str, *, small: bool = False, color: str = "ink", align: str = "centre",
              ground: str | None = None) -> QRectF:  # fmt: skip
        """Write a line of text centred on height y, at x as its left, centre or right; return the box it takes."""
        text = plain(text)
        font, metrics = self.small if small else self.text, self._metrics[small]
        width, height = self.width_of(text, small=small), metrics.height()
        left = {"left": x, "centre": x - width / 2, "right": x - width}[align]
        box = QRectF(left, y - height / 2, width, height)
        if ground is not None:
            self.painter.fillRect(box.adjusted(-2, 0, 2, 0), self.palette.color(ground))
        self.painter.setFont(font)
        self.painter.setPen(self.palette.color(color))
        self.painter.drawText(QPointF(left, y - height / 2 + metrics.ascent()), text)
        return box

    def width_of(self, text: str, *, small: bool = False) -> float:
        known = self._widths[small]
        if text not in known:
            if len(known) > MAX_WIDTHS:
                known.clear()
            known[text] = self._metrics[small].horizontalAdvance(text)
        return known[text]

    def height_of(self, *, small: bool = False) -> float:
        return self._metrics[small].height()

    def balloon(self, x: float, y: float, text: str, *, chosen: bool) -> float:
        """Draw an item number in a circle (ISO 6433) and return its radius."""
        radius = max(self.width_of(text, small=True) / 2 + 4, self.height_of(small=True) / 2 + 1)
        self.painter.setPen(self.pen("accent" if chosen else "ink", WIDE_PX if chosen else NARROW_PX))
        self.painter.setBrush(self.palette.color("chosen" if chosen else "paper"))
        self.painter.drawEllipse(QPointF(x, y), radius, radius)
        self.write(x, y, text, small=True)
        return radius

    def tint(self, path: QPainterPath | QPolygonF, color: str, alpha: int) -> None:
        """Fill a shape with a transparent colour and no outline."""
        self.painter.setPen(Qt.PenStyle.NoPen)
        fill: QColor = self.palette.color(color, alpha)
        self.painter.setBrush(fill)
        if isinstance(path, QPolygonF):
            self.painter.drawPolygon(path)
        else:
            self.painter.drawPath(path)

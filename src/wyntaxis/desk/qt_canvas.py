"""The canvas of the core's drawings on the screen."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPen, QPolygonF

from wyntaxis.core.canvas import Box, Lettering, Point, Stroke
from wyntaxis.core.ledger import Verdict
from wyntaxis.desk.glyphs import draw_verdict
from wyntaxis.desk.section.drafting import DraftingPainter


class QtCanvas:
    """Draws with a drafting sheet's painter, palette and fonts; a :class:`~wyntaxis.core.canvas.Canvas`."""

    def __init__(self, sheet: DraftingPainter) -> None:
        self._sheet = sheet

    def _outlined(self, fill: str | None, stroke: Stroke | None) -> None:
        painter, palette = self._sheet.painter, self._sheet.palette
        painter.setPen(self._pen(stroke) if stroke is not None else QPen(Qt.PenStyle.NoPen))
        if fill is None:
            painter.setBrush(Qt.BrushStyle.NoBrush)
        else:
            painter.setBrush(palette.color(fill))

    def _pen(self, stroke: Stroke) -> QPen:
        return self._sheet.pen(stroke.color, stroke.width, stroke.dashes)

    def line(self, points: Sequence[Point], stroke: Stroke) -> None:
        self._sheet.painter.setPen(self._pen(stroke))
        self._sheet.painter.drawPolyline(_polygon(points))

    def shape(self, points: Sequence[Point], fill: str | None, stroke: Stroke | None) -> None:
        self._outlined(fill, stroke)
        self._sheet.painter.drawPolygon(_polygon(points))

    def circle(self, at: Point, radius: float, fill: str | None, stroke: Stroke | None) -> None:
        self._outlined(fill, stroke)
        self._sheet.painter.drawEllipse(QPointF(*at), radius, radius)

    def words(self, at: Point, text: str, lettering: Lettering) -> Box:
        how = lettering
        box = self._sheet.write(
            at, text, small=how.small, bold=how.bold, color=how.color, align=how.align, ground=how.ground
        )
        return Box(box.left(), box.top(), box.width(), box.height())

    def width_of(self, text: str, lettering: Lettering) -> float:
        return self._sheet.width_of(text, small=lettering.small)

    def mark(self, box: Box, verdict: Verdict, ground: str) -> None:
        palette = self._sheet.palette
        draw_verdict(self._sheet.painter, rect_of(box), verdict, palette.verdict(verdict), palette.color(ground))


def box_of(rect: QRectF) -> Box:
    """Return a rectangle of Qt's as a box."""
    return Box(rect.left(), rect.top(), rect.width(), rect.height())


def rect_of(box: Box) -> QRectF:
    """Return a box as Qt has it."""
    return QRectF(box.left, box.top, box.width, box.height)


def _polygon(points: Sequence[Point]) -> QPolygonF:
    return QPolygonF([QPointF(x, y) for x, y in points])

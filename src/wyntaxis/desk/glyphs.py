"""The shape of each verdict, so that colour is never alone."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF

from wyntaxis.core.ledger import Verdict


def draw_verdict(painter: QPainter, box: QRectF, verdict: Verdict, color: QColor, ground: QColor) -> None:
    """Draw a verdict's shape into a square: ticked ring, half-filled lozenge, crossed square, dotted ring."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    size = min(box.width(), box.height())
    unit = size / 12
    painter.translate(box.center())
    pen = QPen(color, 1.5 * unit)
    painter.setPen(pen)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    match verdict:
        case Verdict.HOLDS:
            painter.drawEllipse(QPointF(0, 0), 5 * unit, 5 * unit)
            painter.drawPolyline(_points([(-2.4, 0.2), (-0.6, 2.2), (2.6, -2.2)], unit))
        case Verdict.TIGHT:
            painter.drawPolygon(_points([(0, -5.4), (5.4, 0), (0, 5.4), (-5.4, 0)], unit))
            painter.setBrush(color)
            painter.drawPolygon(_points([(0, -5.4), (0, 5.4), (-5.4, 0)], unit))
        case Verdict.FAILS:
            painter.setBrush(color)
            painter.drawRect(QRectF(-4.8 * unit, -4.8 * unit, 9.6 * unit, 9.6 * unit))
            painter.setPen(QPen(ground, 1.8 * unit))
            painter.drawLine(QPointF(-2.6 * unit, -2.6 * unit), QPointF(2.6 * unit, 2.6 * unit))
            painter.drawLine(QPointF(-2.6 * unit, 2.6 * unit), QPointF(2.6 * unit, -2.6 * unit))
        case Verdict.UNPROVEN:
            pen.setStyle(Qt.PenStyle.DotLine)
            painter.setPen(pen)
            painter.drawEllipse(QPointF(0, 0), 5 * unit, 5 * unit)
    painter.restore()


def _points(points: list[tuple[float, float]], unit: float) -> QPolygonF:
    return QPolygonF([QPointF(x * unit, y * unit) for x, y in points])

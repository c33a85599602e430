"""Small figures for kinds of device; supplies by IEC 60617 where it has a symbol."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPolygonF

from wyntaxis.desk.section.drafting import DraftingPainter

Points = list[tuple[float, float]]


def draw_symbol(sheet: DraftingPainter, kind: str, box: QRectF) -> None:
    """Draw the figure of a kind of device or supply into a square; an empty square where it has none."""
    sheet.painter.setPen(sheet.pen("ink", 1.1))
    sheet.painter.setBrush(Qt.BrushStyle.NoBrush)
    _FIGURES.get(kind, _square)(sheet, box)


def _at(box: QRectF, x: float, y: float) -> QPointF:
    return QPointF(box.left() + x * box.width(), box.top() + y * box.height())


def _lines(*strokes: Points) -> Callable[[DraftingPainter, QRectF], None]:
    def draw(sheet: DraftingPainter, box: QRectF) -> None:
        for stroke in strokes:
            sheet.painter.drawPolyline(QPolygonF([_at(box, x, y) for x, y in stroke]))

    return draw


def _square(sheet: DraftingPainter, box: QRectF) -> None:
    sheet.painter.drawRect(box.adjusted(2, 2, -2, -2))


def _ring(radius: float, *strokes: Points) -> Callable[[DraftingPainter, QRectF], None]:
    def draw(sheet: DraftingPainter, box: QRectF) -> None:
        sheet.painter.drawEllipse(box.center(), radius * box.width(), radius * box.height())
        _lines(*strokes)(sheet, box)

    return draw


_BODY: Points = [(0.1, 0.25), (0.9, 0.25), (0.9, 0.85), (0.1, 0.85), (0.1, 0.25)]
_FIGURES: dict[str, Callable[[DraftingPainter, QRectF], None]] = {
    "computer": _lines([(0.1, 0.15), (0.9, 0.15), (0.9, 0.7), (0.1, 0.7), (0.1, 0.15)], [(0.3, 0.9), (0.7, 0.9)]),
    "hub": _lines(
        [(0.5, 0.1), (0.5, 0.45)], [(0.15, 0.9), (0.15, 0.45), (0.85, 0.45), (0.85, 0.9)], [(0.5, 0.45), (0.5, 0.9)]
    ),
    "camera": _lines(_BODY, [(0.35, 0.4), (0.65, 0.4), (0.65, 0.7), (0.35, 0.7), (0.35, 0.4)]),
    "guide_camera": _lines(_BODY, [(0.5, 0.4), (0.5, 0.7)], [(0.35, 0.55), (0.65, 0.55)]),
    "filter_wheel": _ring(0.4, [(0.5, 0.1), (0.5, 0.9)], [(0.15, 0.3), (0.85, 0.7)], [(0.15, 0.7), (0.85, 0.3)]),
    "focuser": _lines(
        [(0.1, 0.3), (0.1, 0.7)],
        [(0.9, 0.3), (0.9, 0.7)],
        [(0.2, 0.5), (0.8, 0.5)],
        [(0.35, 0.38), (0.2, 0.5), (0.35, 0.62)],
        [(0.65, 0.38), (0.8, 0.5), (0.65, 0.62)],
    ),
    "rotator": _ring(0.38, [(0.5, 0.12), (0.66, 0.04)], [(0.5, 0.12), (0.66, 0.22)]),
    "mount": _lines([(0.2, 0.9), (0.5, 0.5), (0.8, 0.9)], [(0.5, 0.5), (0.75, 0.15)], [(0.3, 0.35), (0.7, 0.65)]),
    "dew_heater": _lines([(0.1, 0.5), (0.2, 0.3), (0.35, 0.7), (0.5, 0.3), (0.65, 0.7), (0.8, 0.3), (0.9, 0.5)]),
    "power_box": _lines(
        [(0.1, 0.2), (0.9, 0.2), (0.9, 0.8), (0.1, 0.8), (0.1, 0.2)],
        [(0.3, 0.4), (0.3, 0.6)],
        [(0.5, 0.4), (0.5, 0.6)],
        [(0.7, 0.4), (0.7, 0.6)],
    ),
    "battery": _lines(
        [(0.0, 0.5), (0.35, 0.5)], [(0.35, 0.15), (0.35, 0.85)], [(0.55, 0.35), (0.55, 0.65)], [(0.55, 0.5), (1.0, 0.5)]
    ),
    "mains": _ring(0.42, [(0.25, 0.5), (0.37, 0.33), (0.5, 0.5), (0.63, 0.67), (0.75, 0.5)]),
    "weather": _lines(
        [(0.5, 0.9), (0.5, 0.4)], [(0.2, 0.4), (0.8, 0.4)], [(0.2, 0.25), (0.2, 0.55)], [(0.8, 0.25), (0.8, 0.55)]
    ),
    "roof": _lines([(0.05, 0.6), (0.5, 0.2), (0.95, 0.6)], [(0.2, 0.5), (0.2, 0.9), (0.8, 0.9), (0.8, 0.5)]),
    "dome": _lines(
        [(0.1, 0.85), (0.1, 0.6), (0.25, 0.3), (0.5, 0.2), (0.75, 0.3), (0.9, 0.6), (0.9, 0.85), (0.1, 0.85)]
    ),
    "cover": _lines([(0.2, 0.9), (0.2, 0.4), (0.8, 0.4), (0.8, 0.9)], [(0.2, 0.4), (0.85, 0.1)]),
    "flat_panel": _ring(0.4, [(0.3, 0.5), (0.7, 0.5)], [(0.5, 0.3), (0.5, 0.7)]),
    "relay_switch": _lines([(0.05, 0.7), (0.35, 0.7), (0.75, 0.35)], [(0.7, 0.7), (0.95, 0.7)]),
    "safety_monitor": _lines(
        [(0.5, 0.1), (0.95, 0.88), (0.05, 0.88), (0.5, 0.1)], [(0.5, 0.4), (0.5, 0.65)], [(0.5, 0.74), (0.5, 0.8)]
    ),
    "clock": _ring(0.4, [(0.5, 0.25), (0.5, 0.5), (0.7, 0.6)]),
}

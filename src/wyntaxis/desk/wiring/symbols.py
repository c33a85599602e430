"""Small figures for kinds of device; supplies by IEC 60617 where it has a symbol."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPolygonF

from wyntaxis.core.rig.device_kinds import DEVICE_KINDS
from wyntaxis.core.rig.device_kinds.declaration import Figure
from wyntaxis.desk.section.drafting import DraftingPainter

_SUPPLIES = {
    "battery": Figure(
        (
            ((0.0, 0.5), (0.35, 0.5)),
            ((0.35, 0.15), (0.35, 0.85)),
            ((0.55, 0.35), (0.55, 0.65)),
            ((0.55, 0.5), (1.0, 0.5)),
        )
    ),
    "mains": Figure((((0.25, 0.5), (0.37, 0.33), (0.5, 0.5), (0.63, 0.67), (0.75, 0.5)),), ring=0.42),
}


def draw_symbol(sheet: DraftingPainter, kind: str, box: QRectF) -> None:
    """Draw the figure of a kind of device or supply into a square; an empty square where it has none."""
    painter = sheet.painter
    painter.setPen(sheet.pen("ink", 1.1))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    declared = DEVICE_KINDS.get(kind)
    figure = _SUPPLIES.get(kind, declared.figure if declared is not None else Figure())
    if figure == Figure():
        painter.drawRect(box.adjusted(2, 2, -2, -2))
    if figure.ring is not None:
        painter.drawEllipse(box.center(), figure.ring * box.width(), figure.ring * box.height())
    for line in figure.lines:
        at = [QPointF(box.left() + x * box.width(), box.top() + y * box.height()) for x, y in line]
        painter.drawPolyline(QPolygonF(at))

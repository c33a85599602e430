"""The details beside the section: the error between required and built plane, magnified until it can be seen."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF

from wyntaxis.core.wording import number, short, signed
from wyntaxis.desk.glyphs import draw_verdict
from wyntaxis.desk.section.drafting import DOUBLE_CHAIN_DASHES, WIDE_PX, DraftingPainter

if TYPE_CHECKING:
    from wyntaxis.core.ledger import Quantity, Verdict
    from wyntaxis.core.train.section import Plane


def draw_detail(sheet: DraftingPainter, box: QRectF, title: str, plane: Plane, verdict: Verdict | None) -> None:
    """Draw one detail: the tolerance band, the required plane, the built plane with ±2u, and the error between.

    Without a verdict, before the rig is reckoned, the room of its sign is left free.
    """
    painter = sheet.painter
    painter.setPen(sheet.pen("rule"))
    painter.setBrush(sheet.palette.color("paper"))
    painter.drawRect(box)
    line = sheet.height_of()
    half_mm = _half_width(plane)
    scale = (box.width() / 2 - 14) / half_mm
    centre = box.center().x()

    mark = QRectF(box.left() + 7, box.top() + 6, line * 0.85, line * 0.85)
    if verdict is not None:
        draw_verdict(painter, mark, verdict, sheet.palette.verdict(verdict), sheet.palette.color("paper"))
    size = sheet.write(box.right() - 6, mark.center().y(), f"{signed(plane.error_mm, 2)} mm", align="right")
    room = size.left() - mark.right() - 12
    short_title, color = title.split(maxsplit=1)[0], "ink" if verdict is None else str(verdict)
    texts = (title, short_title) if verdict is None else (f"{title}: {verdict}", f"{short_title}: {verdict}", color)
    text = next((text for text in texts if sheet.width_of(text) <= room), texts[-1])
    sheet.write(mark.right() + 5, mark.center().y(), text, align="left", color=color)

    top, bottom = box.top() + 1.75 * line, box.bottom() - 2.3 * sheet.height_of(small=True)
    if plane.allowed_mm is not None:
        width = max(plane.allowed_mm * scale, 1.0)
        painter.fillRect(QRectF(centre - width, top, 2 * width, bottom - top), sheet.palette.color("holds", 55))
    sheet.line(centre, top, centre, bottom, sheet.pen("holds", WIDE_PX, DOUBLE_CHAIN_DASHES))
    built = centre + plane.error_mm * scale
    spread = 2 * plane.standard_mm * scale
    middle = (top + bottom) / 2
    painter.fillRect(QRectF(built - spread, top + 3, 2 * spread, bottom - top - 6), sheet.palette.color("ink", 45))
    sheet.line(built, top, built, bottom, sheet.pen("ink", 2.2))
    if abs(built - centre) > 3:
        sheet.dimension(centre, built, middle, color)
    _draw_scale(sheet, box, centre, scale, half_mm, bottom)
    text = f"band ±{short(plane.allowed_mm)} mm, " if plane.allowed_mm is not None else ""
    y = box.bottom() - 0.6 * sheet.height_of(small=True)
    caption = f"{text}shade ±2u = ±{number(2 * plane.standard_mm, 2)} mm"
    for shorter in (caption.replace("shade ", ""), text.rstrip(", ")):
        if sheet.width_of(caption, small=True) > box.width() - 10:
            caption = shorter
    sheet.write(centre, y, caption, small=True, color="faded")


def draw_measured(sheet: DraftingPainter, box: QRectF, rows: list[Quantity]) -> None:
    """Draw what is stated and what was measured of the element under test, as many lines as there is room for."""
    painter, line = sheet.painter, sheet.height_of(small=True) * 1.15
    painter.setPen(sheet.pen("rule"))
    painter.setBrush(sheet.palette.color("paper"))
    painter.drawRect(box)
    y = box.top() + line * 0.8
    columns = box.right() - 8.2 * line, box.right() - 2.4 * line
    sheet.write(box.left() + 8, y, "Under test", align="left", small=True, color="faded")
    for x, heading in zip(columns, ("stated", "measured"), strict=True):
        sheet.write(x, y, heading, align="right", small=True, color="faded")
    compared = sorted(rows, key=lambda row: -row.verdict.severity if row.measured is not None else 1)
    shown = compared[: max(int((box.bottom() - y) / line) - 1, 0)]
    metrics = QFontMetricsF(sheet.small)
    for row in shown:
        y += line
        room = columns[0] - box.left() - 6 * line
        label = metrics.elidedText(row.kind.label, Qt.TextElideMode.ElideRight, room)
        sheet.write(box.left() + 8, y, label, align="left", small=True)
        for x, leg in zip(columns, (row.stated or row.computed, row.measured), strict=True):
            text = "–" if leg is None else f"{number(leg.value, row.kind.decimals)} {row.kind.unit}".strip()
            sheet.write(x, y, text, align="right", small=True, color="faded" if leg is None else "ink")
        mark = QRectF(box.right() - 1.6 * line, y - line * 0.36, line * 0.72, line * 0.72)
        draw_verdict(painter, mark, row.verdict, sheet.palette.verdict(row.verdict), sheet.palette.color("paper"))
    if not rows:
        sheet.write(box.center().x(), box.center().y(), "Nothing measured yet.", small=True, color="faded")


def _half_width(plane: Plane) -> float:
    """Return the half-width to show, in mm: round, and wide enough for the error, its spread and the tolerance."""
    wanted = max(abs(plane.error_mm) * 1.3 + 2 * plane.standard_mm, 1.6 * (plane.allowed_mm or 0.0), 0.05)
    power = 10 ** math.floor(math.log10(wanted))
    return float(next(step * power for step in (1, 1.5, 2, 3, 4, 5, 8, 10) if step * power >= wanted))


def _draw_scale(sheet: DraftingPainter, box: QRectF, centre: float, scale: float, half_mm: float, y: float) -> None:
    """Draw the axis of the detail in mm from the required plane."""
    sheet.line(box.left() + 8, y, box.right() - 8, y, sheet.pen("faded"))
    decimals = max(0, 1 - math.floor(math.log10(half_mm)))
    for share in (-1.0, -0.5, 0.0, 0.5, 1.0):
        x = centre + share * half_mm * scale
        sheet.painter.setPen(sheet.pen("faded"))
        sheet.painter.drawLine(QPointF(x, y), QPointF(x, y + 4))
        label = "required" if share == 0 else signed(share * half_mm, decimals)
        align = "left" if share == -1 else "right" if share == 1 else "centre"
        if abs(share) != 0.5:
            sheet.write(x, y + 4 + sheet.height_of(small=True) / 2, label, small=True, color="faded", align=align)

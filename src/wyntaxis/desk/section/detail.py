"""The details beside the section: the error between required and built plane, magnified until it can be seen."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from PyQt6.QtCore import QPointF, QRectF

from wyntaxis.core.canvas import WIDE_PX
from wyntaxis.core.wording import number, short, signed
from wyntaxis.desk.glyphs import draw_verdict
from wyntaxis.desk.section.drafting import DOUBLE_CHAIN_DASHES, DraftingPainter

if TYPE_CHECKING:
    from wyntaxis.core.ledger import Verdict
    from wyntaxis.core.train.section import Plane


def draw_detail(sheet: DraftingPainter, box: QRectF, title: str, plane: Plane, verdict: Verdict | None) -> None:
    """Draw one detail: the tolerance band, the required plane, the built plane with ±2u, and the error between.

    Without a verdict, before the rig is evaluated, the room of its sign is left free.
    """
    line, half_mm = sheet.height_of(), _half_width(plane)
    own = QRectF(0, 0, box.width(), box.height())
    scale = (box.width() / 2 - 14) / half_mm
    middle = QRectF(0, 1.75 * line, box.width(), box.height() - 1.75 * line - 2.3 * sheet.height_of(small=True))
    sheet.piece(
        ("detail", box.width(), box.height(), half_mm, plane.allowed_mm),
        box.left(),
        box.top(),
        own.adjusted(-2, -2, 2, 2),
        lambda on: _draw_ground(on, own, middle, plane.allowed_mm, half_mm, scale),
        ground="paper",
    )
    y = box.top() + 6 + line * 0.425
    size = sheet.write((box.right() - 6, y), f"{signed(plane.error_mm, 2)} mm", align="right")
    _write_title(sheet, box.left() + 7, y, size.left() - box.left() - 19 - line * 0.85, title, verdict)
    centre, middle = box.center().x(), middle.translated(box.topLeft())
    built = centre + plane.error_mm * scale
    spread = 2 * plane.standard_mm * scale
    shade = QRectF(built - spread, middle.top() + 3, 2 * spread, middle.height() - 6)
    sheet.painter.fillRect(shade, sheet.palette.color("ink", 45))
    sheet.line(built, middle.top(), built, middle.bottom(), sheet.pen("ink", 2.2))
    if abs(built - centre) > 3:
        sheet.dimension(centre, built, middle.center().y(), "ink" if verdict is None else str(verdict))
    text = f"band ±{short(plane.allowed_mm)} mm, " if plane.allowed_mm is not None else ""
    caption = f"{text}shade ±2u = ±{number(2 * plane.standard_mm, 2)} mm"
    for shorter in (caption.replace("shade ", ""), text.rstrip(", ")):
        if sheet.width_of(caption, small=True) > box.width() - 10:
            caption = shorter
    _write_piece(sheet, centre, box.bottom() - 0.6 * sheet.height_of(small=True), caption)


def _write_title(sheet: DraftingPainter, x: float, y: float, room: float, title: str, verdict: Verdict | None) -> None:
    """Write which sensor it is and how it stands, as much as there is room for, behind the verdict's mark."""
    size = sheet.height_of() * 0.85
    short_title = title.split(maxsplit=1)[0]
    texts = (title, short_title) if verdict is None else (f"{title}: {verdict}", f"{short_title}: {verdict}", verdict)
    text = next((text for text in texts if sheet.width_of(text) <= room), texts[-1])

    def draw(on: DraftingPainter) -> None:
        if verdict is not None:
            mark, colors = QRectF(0, -size / 2, size, size), on.palette
            draw_verdict(on.painter, mark, verdict, colors.verdict(verdict), colors.color("paper"))
        on.write((size + 5, 0), text, align="left", color="ink" if verdict is None else str(verdict))

    extent = QRectF(-2, -size, size + sheet.width_of(text) + 12, 2 * size)
    sheet.piece(("title", text, verdict), x, y, extent, draw)


def _write_piece(sheet: DraftingPainter, x: float, y: float, text: str) -> None:
    """Write a small, faded line about its middle, which most edits leave as it is."""
    width, height = sheet.width_of(text, small=True), sheet.height_of(small=True)
    extent = QRectF(-width / 2 - 2, -height, width + 4, 2 * height)
    sheet.piece(("line", text), x, y, extent, lambda on: on.write((0, 0), text, small=True, color="faded"))


def _draw_ground(
    sheet: DraftingPainter, box: QRectF, middle: QRectF, allowed_mm: float | None, half_mm: float, scale: float
) -> None:
    """Draw a detail's frame, what is allowed, the required plane and the axis."""
    painter, centre = sheet.painter, box.center().x()
    painter.setPen(sheet.pen("rule"))
    painter.setBrush(sheet.palette.color("paper"))
    painter.drawRect(box)
    if allowed_mm is not None:
        width = max(allowed_mm * scale, 1.0)
        allowed = QRectF(centre - width, middle.top(), 2 * width, middle.height())
        painter.fillRect(allowed.intersected(box), sheet.palette.color("holds", 55))
    pen = sheet.pen("holds", WIDE_PX, DOUBLE_CHAIN_DASHES)
    sheet.line(centre, middle.top(), centre, middle.bottom(), pen)
    _draw_scale(sheet, box, centre, scale, half_mm, middle.bottom())


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
            sheet.write((x, y + 4 + sheet.height_of(small=True) / 2), label, small=True, color="faded", align=align)

"""What is written and drawn beside the section itself: its title, scale, the missing part, details, a drop's place."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QFontMetricsF

from wyntaxis.core.canvas import DASHES
from wyntaxis.core.quantity_kinds import BACK_FOCUS_ERROR, FOCAL_LENGTH, FOCAL_RATIO, GUIDE_PATH_ERROR, PIXEL_SCALE
from wyntaxis.core.wording import number
from wyntaxis.desk.section.chain import DimensionBox
from wyntaxis.desk.section.detail import draw_detail
from wyntaxis.desk.section.drafting import DraftingPainter
from wyntaxis.desk.section.drawing import STUB_MM, View

if TYPE_CHECKING:
    from wyntaxis.core.ledger import Quantity
    from wyntaxis.core.train.section import Section
    from wyntaxis.desk.section.drawable import Drawable


def draw_ghost(sheet: DraftingPainter, box: QRectF, after: str) -> None:
    """Draw the part that is still missing, dashed: what comes next?"""
    sheet.painter.setPen(sheet.pen("faded", 1.6, DASHES))
    sheet.painter.setBrush(sheet.palette.color("paper"))
    sheet.painter.drawRect(box)
    middle, line = box.center(), sheet.height_of(small=True)
    sheet.write((middle.x(), middle.y() - line), "What comes next?")
    metrics = QFontMetricsF(sheet.small)
    entries = metrics.elidedText(after, Qt.TextElideMode.ElideRight, box.width() - 12)
    sheet.write((middle.x(), middle.y() + 0.3 * line), entries, small=True, color="faded")
    sheet.write((middle.x(), middle.y() + 1.4 * line), "click, or Ctrl+Enter", small=True, color="faded")


def draw_scale_note(sheet: DraftingPainter, view: View, right: float) -> None:
    """Draw a scale bar of a round length, and say that only the half above the axis is drawn."""
    steps = (1, 2, 5, 10, 20, 50, 100, 200)
    length = next((mm for mm in steps if mm * view.scale >= 46), steps[-1])
    width, text = length * view.scale, f"{length} mm"
    half = max(width, sheet.width_of(text, small=True)) / 2 + 2
    extent = QRectF(-width / 2 - half, -6, 2 * half, 14 + sheet.height_of(small=True))
    draw = partial(_draw_scale_bar, width, text)
    sheet.piece(("scale", text, width), right - 12, 14, extent, draw)


def draw_title(
    sheet: DraftingPainter, shown: Drawable, section: Section, view: View, dimensions: Sequence[DimensionBox]
) -> None:
    """Write the rig's name and its main numbers into the upper left corner, as in a drawing's title block."""
    y, line = 8 + sheet.height_of() / 2, sheet.height_of() * 1.15
    texts = [shown.rig.name, shown.rig.telescope.title]
    focal, ratio, scale = (
        shown.quantities[kind.id].computed if kind.id in shown.quantities else None
        for kind in (FOCAL_LENGTH, FOCAL_RATIO, PIXEL_SCALE)
    )
    if focal is not None and ratio is not None:
        words = f"{number(focal.value, 1)} mm, f/{number(ratio.value, 2)}"
        texts.append(words + _doubt(shown.quantities[FOCAL_RATIO.id]))
    if scale is not None:
        texts.append(f"{number(scale.value, 3)} ″/px{_doubt(shown.quantities[PIXEL_SCALE.id])}")
    metrics = QFontMetricsF(sheet.text)
    left_end = view.x(-STUB_MM)
    if section.branch is not None and section.branch.turned:
        left_end = min([left_end] + [d.box.left() for d in dimensions])
    room = max(left_end - 20, 6 * sheet.height_of())
    entries = tuple(metrics.elidedText(text, Qt.TextElideMode.ElideRight, room) for text in texts)
    wide = max(sheet.width_of(text) for text in entries)
    extent = QRectF(-2, -line, wide + 4, (len(entries) + 1) * line)
    sheet.piece(("title", entries), 10, y, extent, partial(_draw_title, entries, line))


def draw_details(sheet: DraftingPainter, shown: Drawable, area: QRectF) -> None:
    """Draw each sensor with its plane, one below the other."""
    section, rows = shown.section, shown.quantities
    found = []
    if section.plane is not None:
        found.append(("Main sensor", section.plane, rows.get(BACK_FOCUS_ERROR.id)))
    if section.branch is not None and section.branch.plane is not None:
        found.append(("Guide sensor", section.branch.plane, rows.get(GUIDE_PATH_ERROR.id)))
    gap = 6.0
    height = (area.height() - gap * (len(found) + 1)) / len(found)
    height = min(height, 15 * sheet.height_of())
    for index, (title, plane, row) in enumerate(found):
        box = QRectF(area.left() + 2, gap + index * (height + gap), area.width() - 10, height)
        draw_detail(sheet, box, title, plane, row.verdict if row is not None else None)


def draw_drop(sheet: DraftingPainter, section: Section, view: View, drop: tuple[str, int]) -> None:
    """Draw where a dragged part would go in."""
    path, index = drop
    pen = sheet.pen("accent", 3)
    if path == "train":
        starts = [s.start_mm for s in section.parts] + [section.length_mm]
        x = view.x(starts[index])
        sheet.line(x, view.y(section.telescope_radius_mm + 8), x, view.axis_y + 8, pen)
    elif section.branch is not None:
        starts = [s.start_mm for s in section.branch.parts] + [section.branch.length_mm]
        at, wide = starts[index], max(s.outer_radius_mm for s in section.branch.parts) + 4
        if section.branch.turned:
            y = view.y(section.branch.height_mm + at)
            middle = section.branch.at_mm
            sheet.line(view.x(middle - wide), y, view.x(middle + wide), y, pen)
        else:
            x, middle = view.x(section.branch.at_mm + at), section.branch.height_mm
            sheet.line(x, view.y(middle - wide), x, view.y(middle + wide), pen)


def _doubt(row: Quantity) -> str:
    """Return a question mark for a number that depends on an assumed value."""
    return " ?" if row.assumed else ""


def _draw_scale_bar(width: float, text: str, sheet: DraftingPainter) -> None:
    """Draw a bar that ends at the origin, with its length below."""
    sheet.line(-width, 0, 0, 0, sheet.pen(width=1.4))
    for x in (-width, 0):
        sheet.line(x, -4, x, 4, sheet.pen(width=1.4))
    sheet.write((-width / 2, 5 + sheet.height_of(small=True) / 2), text, small=True, color="faded")


def _draw_title(texts: tuple[str, ...], line: float, sheet: DraftingPainter) -> None:
    """Write lines below each other, the first one in ink."""
    for index, text in enumerate(texts):
        sheet.write((0, index * line), text, align="left", color="faded" if index else "ink", ground="paper")

"""The dimension chain under the axis: every part's length, and what is built and required from the datum."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPolygonF

from wyntaxis.core.wording import number, short
from wyntaxis.desk.section.drafting import DraftingPainter
from wyntaxis.desk.section.drawing import View, branch_box

if TYPE_CHECKING:
    from wyntaxis.core.train.section import PartShape, Section

MAX_LEADER_ROWS = 3
LEFT_OUT = -1
ARROWS_PX = 18.0
"""Room that a dimension's two arrows take beside its number."""


@dataclass(frozen=True)
class DimensionBox:
    """Where a part's length is written, so that it can be clicked and edited there."""

    part_id: str
    box: QRectF


def row_height(sheet: DraftingPainter) -> float:
    """Return the height of one row of the chain, in px."""
    return sheet.height_of(small=True) + 5


def chain_height(sheet: DraftingPainter, section: Section | None, leader_rows: int) -> float:
    """Return how much room the chain needs under the axis, in px."""
    rows = 1.5 + leader_rows + (1.1 if section is not None and section.datum_mm is not None else 0.0)
    return rows * row_height(sheet) + 4


def length_text(shape: PartShape) -> str:
    """Return a part's length as its dimension reads: with its tolerance, or its range when it can be set."""
    part, text = shape.part, short(shape.part.optical_length_mm)
    if "length_mm" in shape.assumed:
        return f"{text} ?"
    if part.adjustable is not None:
        return f"{text} ({short(part.adjustable.min_mm)}…{short(part.adjustable.max_mm)})"
    return f"{text} ±{short(part.length_tolerance_mm)}" if part.length_tolerance_mm else text


@dataclass(frozen=True)
class _Label:
    """A length's text, and the leader row it stands on; row 0 is inside the dimension line."""

    shape: PartShape
    text: str
    row: int


def _labels(sheet: DraftingPainter, section: Section, view: View, chosen: str | None = None) -> list[_Label]:
    """Place every length: inside its dimension where it fits, else on the first free row below, on a leader.

    Where not all find room, lengths on leaders go without their tolerance; what then still has no room is left out
    (zooming in brings it back), but never the chosen part's.
    """
    for with_tolerance in (True, False):
        labels = [_place(sheet, shape, view, with_tolerance) for shape in section.parts]
        taken = [-1e9] * MAX_LEADER_ROWS
        complete = True
        for index, label in enumerate(labels):
            if label.row == 0:
                continue
            middle, half = (
                view.x((label.shape.start_mm + label.shape.end_mm) / 2),
                sheet.width_of(label.text, small=True) / 2,
            )
            row = next((row for row, right in enumerate(taken) if middle - half > right), None)
            if row is None:
                complete = False
                row = min(range(len(taken)), key=taken.__getitem__) if label.shape.part.id == chosen else -1
            if row >= 0:
                taken[row] = middle + half + 7
            labels[index] = replace(label, row=row + 1 if row >= 0 else LEFT_OUT)
        if complete:
            break
    return labels


def _place(sheet: DraftingPainter, shape: PartShape, view: View, with_tolerance: bool) -> _Label:
    texts = [length_text(shape), short(shape.part.optical_length_mm)]
    room = shape.length_mm * view.scale - ARROWS_PX
    inside = next((text for text in texts if sheet.width_of(text, small=True) <= room), None)
    if inside is not None:
        return _Label(shape, inside, 0)
    return _Label(shape, texts[0 if with_tolerance else 1], 1)


def leader_rows_needed(sheet: DraftingPainter, section: Section, view: View) -> int:
    """Return how many rows below the chain its leaders take at this scale."""
    return max((label.row for label in _labels(sheet, section, view)), default=0)


def draw_chain(sheet: DraftingPainter, section: Section, view: View, chosen: str | None) -> list[DimensionBox]:
    """Draw the chain and return where each length stands."""
    boxes: list[DimensionBox] = []
    step = row_height(sheet)
    y = view.axis_y + step * 0.9
    for x in {view.x(s.start_mm) for s in section.parts} | {view.x(s.end_mm) for s in section.parts}:
        sheet.line(x, view.axis_y + 3, x, y + 5, sheet.pen("faded"))
    labels = _labels(sheet, section, view, chosen)
    for label in labels:
        if label.row > 0:
            middle = view.x((label.shape.start_mm + label.shape.end_mm) / 2)
            sheet.line(middle, y, middle, y + (label.row - 0.5) * step + 2, sheet.pen("faded"))
    for label in labels:
        shape = label.shape
        is_chosen = shape.part.id == chosen
        start, length = view.x(shape.start_mm), round(shape.length_mm * view.scale, 2)
        text = "" if label.row == LEFT_OUT else label.text
        down, wide = label.row * step if text else 0.0, sheet.width_of(text, small=True)
        low, high = min(0.0, (length - wide) / 2), max(length, (length + wide) / 2)
        sheet.piece(
            ("length", text, length, down, is_chosen),
            start,
            y,
            QRectF(low - 8, -step, high - low + 16, down + 2 * step),
            partial(_draw_length, length, text, down, chosen=is_chosen),
        )
        if not text:
            continue
        height = sheet.height_of(small=True)
        box = QRectF(start + (length - wide) / 2, y + down - height / 2, wide, height)
        boxes.append(DimensionBox(shape.part.id, box.adjusted(-5, -2, 5, 2)))
    rows = max((label.row for label in labels), default=0)
    _draw_totals(sheet, section, view, y + (rows + 1.05) * step)
    boxes += _draw_branch_lengths(sheet, section, view, chosen)
    return boxes


def _draw_length(length: float, text: str, down: float, sheet: DraftingPainter, *, chosen: bool) -> None:
    """Draw a dimension from the origin to the right, its text on it or on a leader below, boxed where it is chosen."""
    color = "accent" if chosen else "ink"
    sheet.dimension(0, length, 0, color)
    if not text:
        return
    box = sheet.write((length / 2, down), text, small=True, color=color, ground="paper")
    if chosen:
        sheet.painter.setPen(sheet.pen("accent"))
        sheet.painter.setBrush(Qt.BrushStyle.NoBrush)
        sheet.painter.drawRect(box.adjusted(-3, 0, 3, 0))


def _draw_totals(sheet: DraftingPainter, section: Section, view: View, y: float) -> None:
    """Draw the datum, and one line each for what is required and what is built from there."""
    if section.datum_mm is None:
        return
    datum = view.x(section.datum_mm)
    sheet.line(datum, view.axis_y + 3, datum, y + 6, sheet.pen(width=1.2))
    _datum_mark(sheet, datum, view.axis_y + 2)
    plane = section.plane
    if plane is None:
        return
    built = view.x(plane.built_mm)
    sheet.line(built, view.axis_y + 3, built, y + 6, sheet.pen("faded"))
    sheet.dimension(datum, built, y)
    size = plane.built_mm - section.datum_mm
    needed = plane.required_mm - section.datum_mm
    text = f"built {number(size, 2)} mm, required {number(needed, 2)}"
    text += f" ±{short(plane.allowed_mm)} mm" if plane.allowed_mm is not None else " mm"
    sheet.write(((datum + built) / 2, y), text, small=True, ground="paper")


def _datum_mark(sheet: DraftingPainter, x: float, y: float) -> None:
    """Draw the filled triangle of a datum feature (ISO 5459)."""
    sheet.painter.setPen(sheet.pen())
    sheet.painter.setBrush(sheet.palette.color("ink"))
    sheet.painter.drawPolygon(QPolygonF([QPointF(x, y), QPointF(x - 5, y + 8), QPointF(x + 5, y + 8)]))


def _draw_branch_lengths(
    sheet: DraftingPainter, section: Section, view: View, chosen: str | None
) -> list[DimensionBox]:
    branch = section.branch
    if branch is None or branch.is_stub:
        return []
    boxes = []
    main_top = view.y(max((s.outer_radius_mm for s in section.parts), default=0.0))
    side = max(s.outer_radius_mm for s in branch.parts) * view.scale + 10
    lowest = main_top - sheet.height_of(small=True) * 0.7
    for shape in branch.parts:
        area = branch_box(branch, shape, view)
        color = "accent" if shape.part.id == chosen else "ink"
        text = length_text(shape)
        if branch.turned:
            # What stands inside the main parts is labelled above them.
            y = min(area.center().y(), lowest)
            box = _piece_of_rise(sheet, area.center().x() - side, y, area, text, color)
            lowest = y - sheet.height_of(small=True) * 1.1
        else:
            box = sheet.write((area.center().x(), area.bottom() + 8), text, small=True, color=color, ground="paper")
        boxes.append(DimensionBox(shape.part.id, box.adjusted(-5, -2, 5, 2)))
    return boxes


def _piece_of_rise(sheet: DraftingPainter, x: float, y: float, area: QRectF, text: str, color: str) -> QRectF:
    """Draw an upright dimension beside an area, its text at its left, and return where that stands."""
    wide, height = sheet.width_of(text, small=True), sheet.height_of(small=True)
    top, bottom = area.top() - y, area.bottom() - y

    def draw(on: DraftingPainter) -> None:
        on.line(4, top, 4, bottom, on.pen(color))
        on.arrow(4, top, -90, color)
        on.arrow(4, bottom, 90, color)
        on.write((0, 0), text, small=True, color=color, align="right", ground="paper")

    above, below = min(top, -height), max(bottom, height)
    extent = QRectF(-wide - 4, above - 2, wide + 14, below - above + 4)
    sheet.piece(("rise", text, color, round(top, 2), round(bottom, 2)), x, y, extent, draw)
    return QRectF(x - wide, y - height / 2, wide, height)

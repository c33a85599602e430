"""The section as it is painted: fitted, zoomed, with its dimensions, details and what stands where."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QFont, QFontMetricsF, QPainter, QPaintEvent, QPen, QPixmap
from PyQt6.QtWidgets import QWidget

from wyntaxis.core.canvas import DASHES
from wyntaxis.core.quantity_kinds import BACK_FOCUS_ERROR, FOCAL_LENGTH, FOCAL_RATIO, GUIDE_PATH_ERROR, PIXEL_SCALE
from wyntaxis.core.train.next_part import open_end
from wyntaxis.core.wording import number
from wyntaxis.desk.palette import DAY, Palette
from wyntaxis.desk.plain_widgets import Picture
from wyntaxis.desk.section.chain import DimensionBox, draw_chain, length_text
from wyntaxis.desk.section.detail import draw_detail, draw_measured
from wyntaxis.desk.section.drafting import DraftingPainter
from wyntaxis.desk.section.drawing import (
    CAMERA_BODY_MM,
    MARK_PX,
    STUB_MM,
    View,
    branch_box,
    draw_balloons,
    draw_joints,
    draw_section,
)
from wyntaxis.desk.section.fitting import Room, fitted
from wyntaxis.desk.section.pieces import Pieces

if TYPE_CHECKING:
    from wyntaxis.core.ledger import Quantity
    from wyntaxis.core.train.section import PartShape, Section
    from wyntaxis.desk.section.drawable import Drawable

ZOOM_RANGE = (0.5, 40.0)
DETAIL_SHARE, DETAIL_LIMITS_PX = 0.30, (230.0, 440.0)
NAMED_ROWS = (
    "effective_focal_length_mm",
    "focal_ratio",
    "pixel_scale_arcsec_px",
    "back_focus_error_mm",
    "guide_path_error_mm",
)
"""The numbers that are written into the picture."""
TEST_SHARE = 0.55
"""How much of the band the numbers of what is measured take."""
GHOST_EM = 11.0
"""How wide the part that is still missing is drawn, in sizes of the text."""


def _doubt(row: Quantity) -> str:
    """Return the question mark behind a number that rests on what nobody gave."""
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


class SectionPicture(Picture):
    """Paints the open rig's section to scale, and knows what stands where on it."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.palette_in_use: Palette = DAY
        self._shown: Drawable | None = None
        self.zoom_factor, self.panned = 1.0, QPointF(0, 0)
        self._fitted_for: tuple[Section | None, tuple[int, int, int], View, Section | None] | None = None
        self.dimensions: list[DimensionBox] = []
        self.pieces = Pieces()
        self.kept_picture: tuple[tuple[object, ...] | None, QPixmap] | None = None
        self._drop: tuple[str, int] | None = None
        self.lit_part: str | None = None
        self._test_rows: list[Quantity] | None = None
        self._overlay: Callable[[DraftingPainter, Section, View], None] | None = None
        self.waiting_text = ""
        self.setMinimumHeight(150)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)  # nothing beneath need be painted

    def close_editor(self) -> None:
        """Put away what is laid over the picture: another rig, or another zoom, is to be shown."""

    def _painted(self) -> None:
        """Follow up on the picture having been painted anew."""

    def sizeHint(self) -> QSize:
        return QSize(1280, 330)

    # What is shown

    def show_rig(self, shown: Drawable) -> None:
        """Show another rig."""
        self._shown = shown
        self.close_editor()
        self.fit()

    def show_under_test(self, part_id: str | None, rows: list[Quantity] | None) -> None:
        """Light the part that is measured, with its numbers beside it; None shows the errors of the sensors again."""
        if (self._test_rows is None) != (rows is None):
            self._fitted_for = None
        self.lit_part, self._test_rows = part_id, rows

    def show_over(self, overlay: Callable[[DraftingPainter, Section, View], None] | None) -> None:
        """Draw something more over the section; None for nothing."""
        self._overlay = overlay

    def refresh(self) -> None:
        """Draw the rig anew, after an edit or another choice."""
        shape = self._chosen_shape()
        description = f"Chosen: {shape.number} {shape.part.title}, {length_text(shape)} mm" if shape else "None chosen"
        self.setAccessibleDescription(description)
        self.update()

    def set_palette(self, palette: Palette) -> None:
        """Draw in another palette."""
        self.palette_in_use = palette
        self.update()

    def fit(self) -> None:
        """Show the whole train."""
        self.zoom_factor, self.panned = 1.0, QPointF(0, 0)
        self.refresh()

    def zoom(self, factor: float, at: QPointF | None = None) -> None:
        """Zoom about a point of the widget, the middle by default."""
        point = at or QPointF(self._drawing_width() / 2, self.height() / 2)
        wanted = min(max(self.zoom_factor * factor, ZOOM_RANGE[0]), ZOOM_RANGE[1])
        factor = wanted / self.zoom_factor
        base = self._fitted()
        fixed = QPointF(base.origin_x, base.axis_y) + self.panned
        self.panned += (point - fixed) * (1 - factor)
        self.zoom_factor = wanted
        self.close_editor()
        self.update()

    def view(self) -> View:
        """Return how mm are mapped to pixels now."""
        base = self._fitted()
        return View(base.scale * self.zoom_factor, base.origin_x + self.panned.x(), base.axis_y + self.panned.y())

    def _small_font(self) -> QFont:
        font = QFont(self.font())
        font.setPixelSize(max(9, round(self.fontInfo().pixelSize() * 0.85)))
        return font

    def _sheet(self, painter: QPainter) -> DraftingPainter:
        return DraftingPainter(painter, self.palette_in_use, self.font(), self._small_font(), self.pieces)

    def _drawing_width(self) -> float:
        return self.width() - self._detail_width()

    def _detail_width(self) -> float:
        section = self._shown.section if self._shown else None
        if self._test_rows is not None:
            return self.width() * TEST_SHARE
        if section is None or (section.plane is None and (section.branch is None or section.branch.plane is None)):
            return 0.0
        low, high = DETAIL_LIMITS_PX
        return min(max(self.width() * DETAIL_SHARE, low), high, self.width() * 0.45)

    @property
    def drawn(self) -> Section | None:
        """The section as it is drawn at this size: a long guide branch broken off, so that the train is not small."""
        self._fitted()
        return self._fitted_for[3] if self._fitted_for is not None else None

    def _fitted(self) -> View:
        """Return the view that shows the whole train, computed once for each rig, size and font."""
        section = self._shown.section if self._shown else None
        key = (self.width(), self.height(), self.fontInfo().pixelSize())
        known = self._fitted_for
        if known is None or known[0] is not section or known[1] != key:
            view, drawn = self._fit_again(section)
            known = self._fitted_for = (section, key, view, drawn)
        return known[2]

    def _fit_again(self, section: Section | None) -> tuple[View, Section | None]:
        em, behind = self.fontInfo().pixelSize(), 0.0
        if self._shown is not None and section is not None and section.parts and open_end(self._shown.rig) is not None:
            behind = GHOST_EM * em
        if (
            section is not None
            and self._test_rows is not None
            and any(s.part.id == self.lit_part for s in section.parts)
        ):
            section = replace(section, branch=None, joints=tuple(m for m in section.joints if not m.on_branch))
        return fitted(self._sheet(QPainter()), section, Room(self._drawing_width(), self.height(), em, behind))

    # Painting

    def paintEvent(self, a0: QPaintEvent | None) -> None:
        shows = self._shows()
        if self.kept_picture is None or shows is None or self.kept_picture[0] != shows:
            drawn, self.kept_picture = self._empty_picture(), None
            with QPainter(drawn) as onto:
                self._draw(onto)
            self.pieces.finish()
            self.kept_picture = (shows, drawn)
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self.kept_picture[1])
        if self.drawn is not None and self.drawn.parts:
            self._painted()
        if self.hasFocus():
            painter.setPen(QPen(self.palette_in_use.color("accent"), 1.5))
            painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))

    def _empty_picture(self) -> QPixmap:
        """Return what is drawn onto: the picture of before, where it has the size, for memory is dear to get anew."""
        ratio = self.devicePixelRatioF()
        size = self.size() * ratio
        if self.kept_picture is not None and self.kept_picture[1].size() == size:
            return self.kept_picture[1]
        picture = QPixmap(size)
        picture.setDevicePixelRatio(ratio)
        return picture

    def forget_picture(self) -> None:
        """Draw anew at the next repaint, also what has not changed."""
        self.kept_picture, self.pieces = None, Pieces()

    def _shows(self) -> tuple[object, ...] | None:
        """Return all that the picture is drawn from: while it stays the same, the picture does; None is drawn anew."""
        shown = self._shown
        if self._overlay is not None or self._test_rows is not None:
            return None
        look = (self.size(), self.devicePixelRatioF(), self.palette_in_use.name, self.font(), self.waiting_text)
        if shown is None:
            return look
        rows, view = shown.quantities, self.view()
        entries = [rows.get(key) for key in NAMED_ROWS]
        titles = (shown.rig.name, shown.rig.telescope.title)
        chosen = self.lit_part or shown.chosen_part
        return (*look, self.drawn, view, entries, titles, chosen, open_end(shown.rig), self._drop)

    def _draw(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        sheet = self._sheet(painter)
        painter.fillRect(self.rect(), self.palette_in_use.color("paper"))
        section = self.drawn
        if section is None or not section.parts:
            self._paint_empty(sheet, no_parts=section is not None)
        else:
            chosen = self.lit_part or (self._shown.chosen_part if self._shown else None)
            width = self._drawing_width()
            painter.setClipRect(QRectF(0, 0, width, self.height()))
            view = self.view()
            draw_section(sheet, section, view, chosen)
            self.dimensions = draw_chain(sheet, section, view, chosen)
            draw_joints(sheet, section, view)
            if self._overlay is not None:
                self._overlay(sheet, section, view)
            draw_balloons(sheet, section, view, chosen)
            self._paint_ghost(sheet)
            self._paint_drop(sheet, view)
            self._paint_scale_note(sheet, view)
            if self._test_rows is None:
                self._paint_title(sheet, view)
            painter.setClipping(False)
            self._paint_details(sheet)

    def ghost_box(self) -> QRectF | None:
        """Return where the part that is still missing is drawn; None where the train ends in its camera."""
        shown, section = self._shown, self.drawn
        if shown is None or section is None or open_end(shown.rig) is None:
            return None
        height = 4.5 * self.fontInfo().pixelSize()
        width = GHOST_EM * self.fontInfo().pixelSize()
        if not section.parts:
            return QRectF(self.width() / 2 - width / 2, self.height() / 2 - height / 2, width, height)
        view = self.view()
        top = view.y(section.parts[-1].outer_radius_mm)
        return QRectF(view.x(section.length_mm) + 3, min(top, view.axis_y - height), width, height)

    def _paint_ghost(self, sheet: DraftingPainter) -> None:
        """Draw the part that is still missing, dashed: what comes next?"""
        box = self.ghost_box()
        if box is None or self._shown is None:
            return
        end = open_end(self._shown.rig)
        sheet.painter.setPen(sheet.pen("faded", 1.6, DASHES))
        sheet.painter.setBrush(sheet.palette.color("paper"))
        sheet.painter.drawRect(box)
        middle, line = box.center(), sheet.height_of(small=True)
        sheet.write((middle.x(), middle.y() - line), "What comes next?")
        metrics = QFontMetricsF(sheet.small)
        after = f"after {end.after}" if end is not None else ""
        entries = metrics.elidedText(after, Qt.TextElideMode.ElideRight, box.width() - 12)
        sheet.write((middle.x(), middle.y() + 0.3 * line), entries, small=True, color="faded")
        sheet.write((middle.x(), middle.y() + 1.4 * line), "click, or Ctrl+Enter", small=True, color="faded")

    def _paint_empty(self, sheet: DraftingPainter, *, no_parts: bool) -> None:
        middle = QPointF(self.width() / 2, self.height() / 2)
        if not no_parts:
            sheet.write((middle.x(), middle.y()), self.waiting_text or "Opening the rig …", color="faded")
            return
        self._paint_ghost(sheet)

    def _paint_scale_note(self, sheet: DraftingPainter, view: View) -> None:
        """Draw a scale bar of a round length, and say that only the half above the axis is drawn."""
        steps = (1, 2, 5, 10, 20, 50, 100, 200)
        length = next((mm for mm in steps if mm * view.scale >= 46), steps[-1])
        width, text = length * view.scale, f"{length} mm"
        half = max(width, sheet.width_of(text, small=True)) / 2 + 2
        extent = QRectF(-width / 2 - half, -6, 2 * half, 14 + sheet.height_of(small=True))
        draw = partial(_draw_scale_bar, width, text)
        sheet.piece(("scale", text, width), self._drawing_width() - 12, 14, extent, draw)

    def _paint_title(self, sheet: DraftingPainter, view: View) -> None:
        """Write the rig's name and its main numbers into the upper left corner, as in a drawing's title block."""
        if self._shown is None:
            return
        shown, y, line = self._shown, 8 + sheet.height_of() / 2, sheet.height_of() * 1.15
        texts = [self._shown.rig.name, self._shown.rig.telescope.title]
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
        section = self.drawn
        assert section is not None
        left_end = view.x(-STUB_MM)
        if section.branch is not None and section.branch.turned:
            left_end = min([left_end] + [d.box.left() for d in self.dimensions])
        room = max(left_end - 20, 6 * sheet.height_of())
        entries = tuple(metrics.elidedText(text, Qt.TextElideMode.ElideRight, room) for text in texts)
        wide = max(sheet.width_of(text) for text in entries)
        extent = QRectF(-2, -line, wide + 4, (len(entries) + 1) * line)
        sheet.piece(("title", entries), 10, y, extent, partial(_draw_title, entries, line))

    def _paint_details(self, sheet: DraftingPainter) -> None:
        shown = self._shown
        if shown is None or self._detail_width() == 0:
            return
        if self._test_rows is not None:
            box = QRectF(self._drawing_width() + 2, 6, self._detail_width() - 10, self.height() - 12)
            draw_measured(sheet, box, self._test_rows)
            return
        section, rows = shown.section, shown.quantities
        found = []
        if section.plane is not None:
            found.append(("Main sensor", section.plane, rows.get(BACK_FOCUS_ERROR.id)))
        if section.branch is not None and section.branch.plane is not None:
            found.append(("Guide sensor", section.branch.plane, rows.get(GUIDE_PATH_ERROR.id)))
        left, gap = self._drawing_width() + 2, 6.0
        height = (self.height() - gap * (len(found) + 1)) / len(found)
        height = min(height, 15 * sheet.height_of())
        for index, (title, plane, row) in enumerate(found):
            box = QRectF(left, gap + index * (height + gap), self._detail_width() - 10, height)
            draw_detail(sheet, box, title, plane, row.verdict if row is not None else None)

    def _shape_at(self, point: QPointF) -> PartShape | None:
        if self._shown is None or point.x() > self._drawing_width():
            return None
        dimension = next((d for d in self.dimensions if d.box.contains(point)), None)
        section, view = self.drawn, self.view()
        if section is None:
            return None
        if dimension is not None:
            return next((s for s in section.all_parts() if s.part.id == dimension.part_id), None)
        if section.branch is not None:
            for shape in section.branch.parts:
                if branch_box(section.branch, shape, view).contains(point):
                    return shape
        for shape in section.parts:
            end = shape.end_mm + (CAMERA_BODY_MM if shape.part.kind == "camera" else 0)
            box = view.box(shape.start_mm, end, 0, shape.outer_radius_mm + MARK_PX * 2 / view.scale)
            if box.adjusted(0, 0, 0, 22).contains(point):
                return shape
        return None

    def _chosen_shape(self) -> PartShape | None:
        if self._shown is None:
            return None
        chosen = self._shown.chosen_part
        return next((s for s in self._shown.section.all_parts() if s.part.id == chosen), None)

    def drop_place(self, point: QPointF) -> tuple[str, int]:
        """Return the path ("train" or "guide") and the index before which a part dropped there would stand."""
        section, view = self.drawn, self.view()
        if section is None:
            return "train", 0
        if section.branch is not None and section.branch.parts:
            boxes = [branch_box(section.branch, shape, view) for shape in section.branch.parts]
            if any(box.adjusted(-6, -6, 6, 6).contains(point) for box in boxes):
                if section.branch.turned:
                    return "guide", sum(point.y() < box.center().y() for box in boxes)
                return "guide", sum(point.x() > box.center().x() for box in boxes)
        return "train", sum(point.x() > view.x((s.start_mm + s.end_mm) / 2) for s in section.parts)

    def _paint_drop(self, sheet: DraftingPainter, view: View) -> None:
        """Draw where a dragged part would go in."""
        section = self.drawn
        if self._drop is None or section is None:
            return
        path, index = self._drop
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

"""The section as it is painted: fitted, zoomed, with its dimensions, details and what stands where."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFont, QPainter, QPaintEvent, QPen, QPixmap
from PyQt6.QtWidgets import QWidget

from wyntaxis.core.train.next_part import open_end
from wyntaxis.desk.palette import DAY, Palette
from wyntaxis.desk.plain_widgets import Picture
from wyntaxis.desk.section.chain import DimensionBox, draw_chain, length_text
from wyntaxis.desk.section.drafting import DraftingPainter
from wyntaxis.desk.section.drawing import (
    View,
    draw_balloons,
    draw_joints,
    draw_section,
)
from wyntaxis.desk.section.fitting import Room, fitted
from wyntaxis.desk.section.notes import draw_details, draw_drop, draw_ghost, draw_scale_note, draw_title
from wyntaxis.desk.section.pieces import Pieces
from wyntaxis.desk.section.places import shape_at

if TYPE_CHECKING:
    from wyntaxis.core.train.section import PartShape, Section
    from wyntaxis.desk.section.drawable import Drawable

ZOOM_RANGE = (0.5, 40.0)
DETAIL_SHARE, DETAIL_LIMITS_PX = 0.30, (230.0, 560.0)
NAMED_ROWS = (
    "effective_focal_length_mm",
    "focal_ratio",
    "pixel_scale_arcsec_px",
    "back_focus_error_mm",
    "guide_path_error_mm",
)
"""The numbers that are written into the picture."""
GHOST_EM = 11.0
"""How wide the part that is still missing is drawn, in sizes of the text."""


LEAST_TEXT_PX, MOST_TEXT_PX = 11, 18
"""How small and how large the words of the drawing are, whatever the size of the text around it: it needs the room."""


def _letters(widget: QWidget) -> tuple[QFont, QFont]:
    """Return the fonts of a drawing: what is written in it, and what is written small."""
    size = min(max(widget.fontInfo().pixelSize(), LEAST_TEXT_PX), MOST_TEXT_PX)
    fonts = QFont(widget.font()), QFont(widget.font())
    for font, own in zip(fonts, (size, max(round(0.85 * size), LEAST_TEXT_PX)), strict=True):
        font.setPixelSize(own)
    return fonts


def _empty_picture(widget: QWidget, kept: tuple[object, QPixmap] | None) -> QPixmap:
    """Return the picture to draw onto: the last one where it has the size, for allocating another is slow."""
    ratio = widget.devicePixelRatioF()
    size = widget.size() * ratio
    if kept is not None and kept[1].size() == size:
        return kept[1]
    picture = QPixmap(size)
    picture.setDevicePixelRatio(ratio)
    return picture


class SectionPicture(Picture):
    """Paints the open rig's section to scale, and knows what stands where on it."""

    painted = pyqtSignal()
    """The section has been painted: what lies over it may follow."""

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
        self.waiting_text = ""
        self.setMinimumHeight(150)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)  # nothing beneath need be painted

    def close_editor(self) -> None:
        """Put away what is laid over the picture: another rig, or another zoom, is to be shown."""

    def sizeHint(self) -> QSize:
        return QSize(1280, 330)

    # What is shown

    def show_rig(self, shown: Drawable) -> None:
        """Show another rig."""
        self._shown = shown
        self.close_editor()
        self.fit()

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

    def _sheet(self, painter: QPainter) -> DraftingPainter:
        return DraftingPainter(painter, self.palette_in_use, *_letters(self), self.pieces)

    @property
    def _em(self) -> int:
        """The size of the drawing's text, in px."""
        return _letters(self)[0].pixelSize()

    def _drawing_width(self) -> float:
        return self.width() - self._detail_width()

    def _detail_width(self) -> float:
        section = self._shown.section if self._shown else None
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
        key = (self.width(), self.height(), self._em)
        known = self._fitted_for
        if known is None or known[0] is not section or known[1] != key:
            view, drawn = self._fit_again(section)
            known = self._fitted_for = (section, key, view, drawn)
        return known[2]

    def _fit_again(self, section: Section | None) -> tuple[View, Section | None]:
        em, behind = self._em, 0.0
        if self._shown is not None and section is not None and section.parts and open_end(self._shown.rig) is not None:
            behind = GHOST_EM * em
        return fitted(self._sheet(QPainter()), section, Room(self._drawing_width(), self.height(), em, behind))

    # Painting

    def paintEvent(self, a0: QPaintEvent | None) -> None:
        shows = self._shows()
        if self.kept_picture is None or shows is None or self.kept_picture[0] != shows:
            drawn, self.kept_picture = _empty_picture(self, self.kept_picture), None
            with QPainter(drawn) as onto:
                self._draw(onto)
            self.pieces.finish()
            self.kept_picture = (shows, drawn)
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self.kept_picture[1])
        if self.drawn is not None and self.drawn.parts:
            self.painted.emit()
        if self.hasFocus():
            painter.setPen(QPen(self.palette_in_use.color("accent"), 1.5))
            painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))

    def forget_picture(self) -> None:
        """Draw anew at the next repaint, also what has not changed."""
        self.kept_picture, self.pieces = None, Pieces()

    def _shows(self) -> tuple[object, ...] | None:
        """Return all that the picture is drawn from: while it stays the same, the picture does; None is drawn anew."""
        shown = self._shown
        look = (self.size(), self.devicePixelRatioF(), self.palette_in_use.name, self.font(), self.waiting_text)
        if shown is None:
            return look
        rows, view = shown.quantities, self.view()
        entries = [rows.get(key) for key in NAMED_ROWS]
        titles = (shown.rig.name, shown.rig.telescope.title)
        chosen = shown.chosen_part
        return (*look, self.drawn, view, entries, titles, chosen, open_end(shown.rig), self._drop)

    def _draw(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        sheet = self._sheet(painter)
        painter.fillRect(self.rect(), self.palette_in_use.color("paper"))
        section = self.drawn
        if section is None or not section.parts:
            if section is None:
                middle = QPointF(self.width() / 2, self.height() / 2)
                sheet.write((middle.x(), middle.y()), self.waiting_text or "Opening the rig …", color="faded")
            self._draw_missing(sheet)
        else:
            chosen = self._shown.chosen_part if self._shown else None
            width = self._drawing_width()
            painter.setClipRect(QRectF(0, 0, width, self.height()))
            view = self.view()
            draw_section(sheet, section, view, chosen)
            self.dimensions = draw_chain(sheet, section, view, chosen)
            draw_joints(sheet, section, view)
            draw_balloons(sheet, section, view, chosen)
            self._draw_missing(sheet)
            if self._drop is not None:
                draw_drop(sheet, section, view, self._drop)
            draw_scale_note(sheet, view, width)
            if self._shown is not None:
                draw_title(sheet, self._shown, section, view, self.dimensions)
            painter.setClipping(False)
            beside = QRectF(width, 0, self._detail_width(), self.height())
            if self._shown is not None and beside.width():
                draw_details(sheet, self._shown, beside)

    def _draw_missing(self, sheet: DraftingPainter) -> None:
        box, end = self.ghost_box(), open_end(self._shown.rig) if self._shown is not None else None
        if box is not None and end is not None:
            draw_ghost(sheet, box, f"after {end.after}")

    def ghost_box(self) -> QRectF | None:
        """Return where the part that is still missing is drawn; None where the train ends in its camera."""
        shown, section = self._shown, self.drawn
        if shown is None or section is None or open_end(shown.rig) is None:
            return None
        height = 4.5 * self._em
        width = GHOST_EM * self._em
        if not section.parts:
            return QRectF(self.width() / 2 - width / 2, self.height() / 2 - height / 2, width, height)
        view = self.view()
        top = view.y(section.parts[-1].outer_radius_mm)
        return QRectF(view.x(section.length_mm) + 3, min(top, view.axis_y - height), width, height)

    def _shape_at(self, point: QPointF) -> PartShape | None:
        section = self.drawn
        if section is None or point.x() > self._drawing_width():
            return None
        return shape_at(section, self.view(), self.dimensions, point)

    def _chosen_shape(self) -> PartShape | None:
        if self._shown is None:
            return None
        chosen = self._shown.chosen_part
        return next((s for s in self._shown.section.all_parts() if s.part.id == chosen), None)

"""The section band across the top of the window: choose a part, read its length, change it where it stands."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QEvent, QMimeData, QPointF, QRect, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QDrag,
    QDragEnterEvent,
    QDragLeaveEvent,
    QDragMoveEvent,
    QDropEvent,
    QFont,
    QFontMetricsF,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import QApplication, QLineEdit, QToolTip, QWidget

from wyntaxis.core.wording import number, short
from wyntaxis.desk.numbers_in import parse_number
from wyntaxis.desk.palette import DAY, Palette
from wyntaxis.desk.section.chain import DimensionBox, chain_height, draw_chain, leader_rows_needed, length_text
from wyntaxis.desk.section.detail import draw_detail
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
from wyntaxis.desk.section.pens import Sheet

if TYPE_CHECKING:
    from wyntaxis.core.section import PartShape, Section
    from wyntaxis.desk.session import Session

SHELF_MIME = "application/x-wyntaxis-shelf-part"
PART_MIME = "application/x-wyntaxis-part"
ZOOM_STEP = 1.25
ZOOM_RANGE = (0.5, 40.0)
DETAIL_SHARE, DETAIL_LIMITS_PX = 0.30, (230.0, 440.0)
LARGEST_SCALE_PX_MM = 14.0


class SectionBand(QWidget):
    """Draws the open rig's section; ``length_entered`` carries a length typed at its dimension."""

    part_chosen = pyqtSignal(str)
    length_entered = pyqtSignal(str, float)
    refused = pyqtSignal(str)
    shelf_part_dropped = pyqtSignal(str, str, int)
    part_dropped = pyqtSignal(str, str, int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.palette_in_use: Palette = DAY
        self._session: Session | None = None
        self._zoom, self._pan = 1.0, QPointF(0, 0)
        self._dragged_from: QPointF | None = None
        self._fitted_for: tuple[Section | None, tuple[int, int, int], View] | None = None
        self._dimensions: list[DimensionBox] = []
        self._editor: QLineEdit | None = None
        self._edited_part = ""
        self.waiting_text = ""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAcceptDrops(True)
        self._pressed: tuple[QPointF, str] | None = None
        self._drop: tuple[str, int] | None = None
        self.setMinimumHeight(150)
        self.setAccessibleName("Section of the light path")
        self.setToolTipDuration(8000)

    def sizeHint(self) -> QSize:
        return QSize(1280, 330)

    # What is shown

    def show_session(self, session: Session) -> None:
        """Show another rig."""
        self._session = session
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
        self._zoom, self._pan = 1.0, QPointF(0, 0)
        self.refresh()

    def zoom(self, factor: float, at: QPointF | None = None) -> None:
        """Zoom about a point of the widget, the middle by default."""
        point = at or QPointF(self._drawing_width() / 2, self.height() / 2)
        wanted = min(max(self._zoom * factor, ZOOM_RANGE[0]), ZOOM_RANGE[1])
        factor = wanted / self._zoom
        base = self._fitted()
        fixed = QPointF(base.origin_x, base.axis_y) + self._pan
        self._pan += (point - fixed) * (1 - factor)
        self._zoom = wanted
        self.close_editor()
        self.update()

    def view(self) -> View:
        """Return how mm are mapped to pixels now."""
        base = self._fitted()
        return View(base.scale * self._zoom, base.origin_x + self._pan.x(), base.axis_y + self._pan.y())

    def _small_font(self) -> QFont:
        font = QFont(self.font())
        font.setPixelSize(max(9, round(self.fontInfo().pixelSize() * 0.85)))
        return font

    def _sheet(self, painter: QPainter) -> Sheet:
        return Sheet(painter, self.palette_in_use, self.font(), self._small_font())

    def _drawing_width(self) -> float:
        return self.width() - self._detail_width()

    def _detail_width(self) -> float:
        section = self._session.section if self._session else None
        if section is None or (section.plane is None and (section.branch is None or section.branch.plane is None)):
            return 0.0
        low, high = DETAIL_LIMITS_PX
        return min(max(self.width() * DETAIL_SHARE, low), high, self.width() * 0.45)

    def _fitted(self) -> View:
        """Return the view that shows the whole train, reckoned once for each rig, size and font."""
        section = self._session.section if self._session else None
        key = (self.width(), self.height(), self.fontInfo().pixelSize())
        known = self._fitted_for
        if known is None or known[0] is not section or known[1] != key:
            known = self._fitted_for = (section, key, self._fit_anew(section))
        return known[2]

    def _fit_anew(self, section: Section | None) -> View:
        sheet = self._sheet(QPainter())
        width = self._drawing_width()
        if section is None or not section.parts:
            return View(3.0, width / 3, self.height() - chain_height(sheet, section, 0))
        rows = 0
        view = self._fitted_with(sheet, section, width, rows)
        # Rows under the chain cost height, a lower scale may cost more rows: until no more are needed.
        while (needed := leader_rows_needed(sheet, section, view)) > rows:
            rows = needed
            view = self._fitted_with(sheet, section, width, rows)
        return view

    def _fitted_with(self, sheet: Sheet, section: Section, width: float, leader_rows: int) -> View:
        axis_y = self.height() - chain_height(sheet, section, leader_rows)
        margin = 34.0
        left_mm, right_mm = STUB_MM + 2, CAMERA_BODY_MM + 2
        labels = 0.0
        if section.branch is not None and not section.branch.turned:
            left_mm = max(left_mm, -section.branch.at_mm)
        if section.branch is not None and section.branch.turned:
            labels = max(sheet.width_of(length_text(s), small=True) for s in section.branch.parts)
        across = (axis_y - 10) / (section.top_mm + 2)
        along = (width - 2 * margin) / (section.length_mm + left_mm + right_mm)
        scale = max(min(across, along, LARGEST_SCALE_PX_MM), 0.2)
        drawn = scale * (section.length_mm + left_mm + right_mm)
        origin = (width - drawn) / 2 + left_mm * scale
        if section.branch is not None and section.branch.turned:
            origin = max(origin, labels + 24 + 20 * scale - section.branch.at_mm * scale)
        return View(scale, origin, axis_y)

    # Painting

    def paintEvent(self, a0: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        sheet = self._sheet(painter)
        painter.fillRect(self.rect(), self.palette_in_use.color("paper"))
        section = self._session.section if self._session else None
        if section is None or not section.parts:
            self._paint_empty(sheet, no_parts=section is not None)
        else:
            chosen = self._session.chosen_part if self._session else None
            width = self._drawing_width()
            painter.setClipRect(QRectF(0, 0, width, self.height()))
            view = self.view()
            draw_section(sheet, section, view, chosen)
            self._dimensions = draw_chain(sheet, section, view, chosen)
            draw_joints(sheet, section, view)
            draw_balloons(sheet, section, view, chosen)
            self._paint_drop(sheet, view)
            self._paint_scale_note(sheet, view)
            self._paint_title(sheet, view)
            painter.setClipping(False)
            self._paint_details(sheet)
            self._place_editor()
        if self.hasFocus():
            painter.setPen(sheet.pen("accent", 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))

    def _paint_empty(self, sheet: Sheet, *, no_parts: bool) -> None:
        middle = QPointF(self.width() / 2, self.height() / 2)
        if not no_parts:
            sheet.write(middle.x(), middle.y(), self.waiting_text or "Opening the rig …", color="faded")
            return
        sheet.write(middle.x(), middle.y() - 12, "The train has no parts yet.")
        sheet.write(
            middle.x(), middle.y() + 12, "Part → Add: begin at the telescope, end with the camera.", color="faded"
        )

    def _paint_scale_note(self, sheet: Sheet, view: View) -> None:
        """Draw a scale bar of a round length, and say that only the half above the axis is drawn."""
        steps = (1, 2, 5, 10, 20, 50, 100, 200)
        length = next((mm for mm in steps if mm * view.scale >= 46), steps[-1])
        right, y = self._drawing_width() - 12, 14.0
        left = right - length * view.scale
        sheet.line(left, y, right, y, sheet.pen(width=1.4))
        for x in (left, right):
            sheet.line(x, y - 4, x, y + 4, sheet.pen(width=1.4))
        sheet.write(
            (left + right) / 2, y + 5 + sheet.height_of(small=True) / 2, f"{length} mm", small=True, color="faded"
        )

    def _paint_title(self, sheet: Sheet, view: View) -> None:
        """Write the rig's name and its main numbers into the upper left corner, as in a drawing's title block."""
        if self._session is None:
            return
        rows, y, line = self._session.evaluation.quantities, 8 + sheet.height_of() / 2, sheet.height_of() * 1.15
        texts = [self._session.rig.name, self._session.rig.telescope.title]
        focal, ratio, scale = (
            rows[key].computed for key in ("effective_focal_length_mm", "focal_ratio", "pixel_scale_arcsec_px")
        )
        if focal is not None and ratio is not None:
            texts.append(f"{number(focal.value, 1)} mm, f/{number(ratio.value, 2)}")
        if scale is not None:
            texts.append(f"{number(scale.value, 3)} ″/px")
        metrics = QFontMetricsF(sheet.text)
        section = self._session.section
        left_end = view.x(-STUB_MM)
        if section.branch is not None and section.branch.turned:
            left_end = min([left_end] + [d.box.left() for d in self._dimensions])
        room = max(left_end - 20, 6 * sheet.height_of())
        for index, text in enumerate(texts):
            elided = metrics.elidedText(text, Qt.TextElideMode.ElideRight, room)
            color = "ink" if index == 0 else "faded"
            sheet.write(10, y + index * line, elided, align="left", color=color, ground="paper")

    def _paint_details(self, sheet: Sheet) -> None:
        session = self._session
        if session is None or self._detail_width() == 0:
            return
        section, rows = session.section, session.evaluation.quantities
        found = []
        if section.plane is not None:
            found.append(("Main sensor", section.plane, rows["back_focus_error_mm"].verdict))
        if section.branch is not None and section.branch.plane is not None:
            found.append(("Guide sensor", section.branch.plane, rows["guide_path_error_mm"].verdict))
        left, gap = self._drawing_width() + 2, 6.0
        height = (self.height() - gap * (len(found) + 1)) / len(found)
        height = min(height, 15 * sheet.height_of())
        for index, (title, plane, verdict) in enumerate(found):
            box = QRectF(left, gap + index * (height + gap), self._detail_width() - 10, height)
            draw_detail(sheet, box, title, plane, verdict)

    # Choosing and editing

    def _shape_at(self, point: QPointF) -> PartShape | None:
        if self._session is None or point.x() > self._drawing_width():
            return None
        dimension = next((d for d in self._dimensions if d.box.contains(point)), None)
        section, view = self._session.section, self.view()
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
        if self._session is None:
            return None
        chosen = self._session.chosen_part
        return next((s for s in self._session.section.all_parts() if s.part.id == chosen), None)

    def step_choice(self, step: int) -> None:
        """Choose the next part toward the sensor (1) or toward the telescope (−1), the guide path after the train."""
        if self._session is None or not self._session.section.all_parts():
            return
        shapes = self._session.section.all_parts()
        chosen = self._session.chosen_part
        ids = [shape.part.id for shape in shapes]
        at = ids.index(chosen) + step if chosen in ids else (0 if step > 0 else len(ids) - 1)
        self.part_chosen.emit(ids[min(max(at, 0), len(ids) - 1)])

    def jump_between_paths(self) -> None:
        """Go from the train to the guide path, or back."""
        if self._session is None or self._session.section.branch is None:
            return
        branch = self._session.section.branch.parts
        in_branch = any(shape.part.id == self._session.chosen_part for shape in branch)
        back = self._session.rig.guiding.taps or self._session.section.parts[0].part.id
        self.part_chosen.emit(back if in_branch else branch[0].part.id)

    def edit_length(self, first_text: str = "") -> None:
        """Open an editor at the chosen part's dimension."""
        shape = self._chosen_shape()
        place = next((d for d in self._dimensions if shape and d.part_id == shape.part.id), None)
        if shape is None or place is None:
            return
        self.close_editor()
        editor = QLineEdit(self)
        editor.setAccessibleName(f"Length of {shape.part.title} in mm")
        editor.setText(first_text or short(shape.part.optical_length_mm, 4))
        if not first_text:
            editor.selectAll()
        editor.installEventFilter(self)
        self._editor, self._edited_part = editor, shape.part.id
        self._place_editor()
        editor.show()
        editor.setFocus()

    def _place_editor(self) -> None:
        """Keep the editor at its part's dimension, wherever that is drawn now."""
        place = next((d for d in self._dimensions if d.part_id == self._edited_part), None)
        editor = self._editor
        if editor is None or place is None:
            return
        width = max(editor.fontMetrics().horizontalAdvance("0000.000") + 16, round(place.box.width()))
        height = editor.sizeHint().height()
        left = min(max(place.box.center().x() - width / 2, 2), self.width() - width - 2)
        top = min(place.box.center().y() - height / 2, self.height() - height - 2)
        box = QRect(round(left), round(top), width, height)
        if box != editor.geometry():
            editor.setGeometry(box)

    def _commit(self) -> None:
        editor = self._editor
        if editor is None:
            return
        try:
            value = parse_number(editor.text(), "mm")
            if value is None:
                raise ValueError("a part needs a length; type a number in mm, or press Esc")
        except ValueError as error:
            self.mark_refused()
            self.refused.emit(str(error))
            return
        self.length_entered.emit(self._edited_part, value)
        if self._editor is editor and not editor.property("invalid"):
            self.close_editor()
            self.setFocus()

    def mark_refused(self) -> None:
        """Keep the editor open, marked, with what was typed."""
        if self._editor is not None:
            self._editor.setProperty("invalid", True)
            style = self._editor.style()
            if style is not None:
                style.polish(self._editor)

    def close_editor(self) -> None:
        """Close the editor without a change."""
        if self._editor is not None:
            editor, self._editor = self._editor, None
            editor.removeEventFilter(self)
            editor.hide()
            editor.deleteLater()

    # Events

    def eventFilter(self, a0: object, a1: QEvent | None) -> bool:
        if a0 is self._editor and self._editor is not None and a1 is not None:
            if a1.type() == QEvent.Type.KeyPress and isinstance(a1, QKeyEvent):
                if a1.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                    self._commit()
                    return True
                if a1.key() == Qt.Key.Key_Escape:
                    self.close_editor()
                    self.setFocus()
                    return True
                self._editor.setProperty("invalid", False)
            elif a1.type() == QEvent.Type.FocusOut and not self._editor.property("invalid"):
                self._commit()
        return False

    def event(self, a0: QEvent | None) -> bool:
        if a0 is not None and a0.type() == QEvent.Type.ToolTip:
            point = QPointF(a0.pos())  # type: ignore[attr-defined]
            shape = self._shape_at(point)
            if shape is not None:
                kind = shape.part.kind.replace("_", " ")
                QToolTip.showText(
                    a0.globalPos(),  # type: ignore[attr-defined]
                    "\n".join(
                        [
                            f"{shape.number}  {shape.part.title} ({kind}), {length_text(shape)} mm",
                            *(device.why for device in shape.devices),
                        ]
                    ),
                    self,
                )
            else:
                QToolTip.hideText()
            return True
        return super().event(a0)

    def mousePressEvent(self, a0: QMouseEvent | None) -> None:
        if a0 is None:
            return
        shape = self._shape_at(a0.position())
        if shape is not None and a0.button() == Qt.MouseButton.LeftButton:
            self._pressed = (a0.position(), shape.part.id)
            self.part_chosen.emit(shape.part.id)
        else:
            self._dragged_from = a0.position()

    def mouseMoveEvent(self, a0: QMouseEvent | None) -> None:
        if a0 is not None and self._pressed is not None and a0.buttons() & Qt.MouseButton.LeftButton:
            start, part_id = self._pressed
            if (a0.position() - start).manhattanLength() >= QApplication.startDragDistance():
                self._pressed = None
                self._drag_part(part_id)
        if a0 is not None and self._dragged_from is not None:
            self._pan += a0.position() - self._dragged_from
            self._dragged_from = a0.position()
            self.close_editor()
            self.update()

    def mouseReleaseEvent(self, a0: QMouseEvent | None) -> None:
        self._dragged_from = self._pressed = None

    # Dragging parts in from the shelf, and along the train

    def _drag_part(self, part_id: str) -> None:
        data = QMimeData()
        data.setData(PART_MIME, part_id.encode())
        drag = QDrag(self)
        drag.setMimeData(data)
        drag.exec(Qt.DropAction.MoveAction)

    def drop_place(self, point: QPointF) -> tuple[str, int]:
        """Return the path ("train" or "guide") and the index before which a part dropped there would stand."""
        section, view = (self._session.section if self._session else None), self.view()
        if section is None:
            return "train", 0
        if section.branch is not None and section.branch.parts:
            boxes = [branch_box(section.branch, shape, view) for shape in section.branch.parts]
            if any(box.adjusted(-6, -6, 6, 6).contains(point) for box in boxes):
                if section.branch.turned:
                    return "guide", sum(point.y() < box.center().y() for box in boxes)
                return "guide", sum(point.x() > box.center().x() for box in boxes)
        return "train", sum(point.x() > view.x((s.start_mm + s.end_mm) / 2) for s in section.parts)

    def _paint_drop(self, sheet: Sheet, view: View) -> None:
        """Draw where a dragged part would go in."""
        section = self._session.section if self._session else None
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

    def dragEnterEvent(self, a0: QDragEnterEvent | None) -> None:
        data = a0.mimeData() if a0 is not None else None
        if a0 is not None and data is not None and (data.hasFormat(SHELF_MIME) or data.hasFormat(PART_MIME)):
            a0.acceptProposedAction()

    def dragMoveEvent(self, a0: QDragMoveEvent | None) -> None:
        if a0 is not None:
            self._drop = self.drop_place(a0.position())
            a0.acceptProposedAction()
            self.update()

    def dragLeaveEvent(self, a0: QDragLeaveEvent | None) -> None:
        self._drop = None
        self.update()

    def dropEvent(self, a0: QDropEvent | None) -> None:
        self._drop = None
        self.update()
        data = a0.mimeData() if a0 is not None else None
        if a0 is None or data is None:
            return
        path, index = self.drop_place(a0.position())
        for mime, signal in ((SHELF_MIME, self.shelf_part_dropped), (PART_MIME, self.part_dropped)):
            if data.hasFormat(mime):
                signal.emit(bytes(data.data(mime).data()).decode("utf-8", "replace"), path, index)
                a0.acceptProposedAction()
                return

    def mouseDoubleClickEvent(self, a0: QMouseEvent | None) -> None:
        if a0 is not None and (shape := self._shape_at(a0.position())) is not None:
            self.part_chosen.emit(shape.part.id)
            self.edit_length()

    def wheelEvent(self, a0: QWheelEvent | None) -> None:
        if a0 is not None and a0.angleDelta().y():
            self.zoom(ZOOM_STEP ** (a0.angleDelta().y() / 120), a0.position())

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        if a0 is None:
            return
        key, text = a0.key(), a0.text()
        if key == Qt.Key.Key_Right:
            self.step_choice(1)
        elif key == Qt.Key.Key_Left:
            self.step_choice(-1)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.jump_between_paths()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_F2):
            self.edit_length()
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom(ZOOM_STEP)
        elif key == Qt.Key.Key_Minus:
            self.zoom(1 / ZOOM_STEP)
        elif text and text in "0123456789.,":
            self.edit_length(text)
        else:
            super().keyPressEvent(a0)

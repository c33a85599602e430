"""The section band across the top of the window: choose a part, read its length, change it where it stands."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QEvent, QMimeData, QPointF, QRect, Qt, pyqtSignal
from PyQt6.QtGui import (
    QDrag,
    QDragEnterEvent,
    QDragLeaveEvent,
    QDragMoveEvent,
    QDropEvent,
    QFocusEvent,
    QKeyEvent,
    QMouseEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import QApplication, QLineEdit, QMenu, QToolTip, QWidget

from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.rig.parts import PART_KINDS
from wyntaxis.core.train.next_part import fitting, open_end
from wyntaxis.core.wording import short
from wyntaxis.desk.numbers_in import parse_number
from wyntaxis.desk.plain_widgets import tip
from wyntaxis.desk.section.chain import length_text
from wyntaxis.desk.section.picture import SectionPicture
from wyntaxis.desk.section.places import drop_place

if TYPE_CHECKING:
    from wyntaxis.desk.session import Session

SHELF_MIME = "application/x-wyntaxis-shelf-part"
PART_MIME = "application/x-wyntaxis-part"
ZOOM_STEP = 1.25
MAX_FITTING = 12
"""How many of the shelf's pieces the list of what may come next has."""


class LengthEditor(QLineEdit):
    """A field at a dimension: ``entered`` by Enter, or by going elsewhere unless it is marked; ``left`` by Escape."""

    entered = pyqtSignal()
    left = pyqtSignal()

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        if a0 is not None and a0.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.entered.emit()
        elif a0 is not None and a0.key() == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            self.setProperty("invalid", False)
            super().keyPressEvent(a0)

    def focusOutEvent(self, a0: QFocusEvent | None) -> None:
        super().focusOutEvent(a0)
        if not self.property("invalid"):
            self.entered.emit()


class SectionView(SectionPicture):
    """Draws the open rig's section; ``length_entered`` carries a length typed at its dimension."""

    part_chosen = pyqtSignal(str)
    length_entered = pyqtSignal(str, float)
    refused = pyqtSignal(str)
    shelf_part_dropped = pyqtSignal(str, str, int)
    part_dropped = pyqtSignal(str, str, int)
    next_chosen = pyqtSignal(str, str, bool)
    guiding_chosen = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session: Session | None = None
        self._dragged_from: QPointF | None = None
        self.editor: LengthEditor | None = None
        self._edited_part = ""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAcceptDrops(True)
        self._pressed: tuple[QPointF, str] | None = None
        self.next_menu: QMenu | None = None
        self.setAccessibleName("Section of the light path")
        self.setToolTipDuration(8000)
        self.painted.connect(self._place_editor)

    def show_session(self, session: Session) -> None:
        """Show another rig."""
        self._session = session
        self.show_rig(session)

    # Choosing and editing

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
        if shape is not None and all(d.part_id != shape.part.id for d in self.dimensions):
            self.repaint()  # a part that has just come in has its dimension only now
        place = next((d for d in self.dimensions if shape and d.part_id == shape.part.id), None)
        if shape is None or place is None:
            return
        self.close_editor()
        editor = LengthEditor(self)
        editor.entered.connect(self._commit)
        editor.left.connect(self.close_editor)
        editor.setAccessibleName(f"Length of {shape.part.title} in mm")
        editor.setText(first_text or short(shape.part.optical_length_mm, 4))
        if not first_text:
            editor.selectAll()
        self.editor, self._edited_part = editor, shape.part.id
        self._place_editor()
        editor.show()
        editor.setFocus()

    def _place_editor(self) -> None:
        """Keep the editor at its part's dimension, wherever that is drawn now."""
        place = next((d for d in self.dimensions if d.part_id == self._edited_part), None)
        editor = self.editor
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
        editor = self.editor
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
        if self.editor is editor and not editor.property("invalid"):
            self.close_editor()
            self.setFocus()

    def mark_refused(self) -> None:
        """Keep the editor open, marked, with what was typed."""
        if self.editor is not None:
            self.editor.setProperty("invalid", True)
            style = self.editor.style()
            if style is not None:
                style.polish(self.editor)

    def close_editor(self) -> None:
        """Close the editor without a change."""
        if self.editor is not None:
            editor, self.editor = self.editor, None
            if editor.hasFocus():
                editor.blockSignals(True)
                self.setFocus()
            editor.blockSignals(True)
            editor.hide()
            editor.deleteLater()

    # What comes next

    def ask_next(self) -> None:
        """Open a list of what may come next at the open end: the shelf's pieces that mate first, then the kinds."""
        session = self._session
        if session is None:
            return
        on_guide = session.chosen is not None and session.chosen[0][0] == "guiding"
        guide = on_guide or open_end(session.rig) is None
        end = open_end(session.rig, guide=guide)
        if end is None and session.rig.guiding.kind == "none":
            self._ask_guiding(session)
            return
        if end is None:
            self.refused.emit("the train ends in its camera, and so does the guide path: nothing comes next")
            return
        menu = QMenu(self)
        menu.setAccessibleName(f"What comes next after {end.after}?")
        used = frozenset(part.title for _, part in session.rig.parts())
        for part in fitting(session.stock.shelf.parts, end, used)[:MAX_FITTING]:
            entry = menu.addAction(plain(f"{part.title}, {short(part.optical_length_mm)} mm").replace("&", "&&"))
            if entry is not None:
                entry.triggered.connect(lambda _on, own=part.id: self.next_chosen.emit("", own, guide))
        if not menu.isEmpty():
            menu.addSeparator()
        for kind in PART_KINDS:
            entry = menu.addAction(f"&{kind.replace('_', ' ').capitalize()}")
            if entry is not None:
                entry.triggered.connect(lambda _on, own=kind: self.next_chosen.emit(own, "", guide))
        self._pop_up(menu)

    def _ask_guiding(self, session: Session) -> None:
        """Ask how the rig guides, now that a camera ends its train."""
        menu = QMenu(self)
        menu.setAccessibleName("How does it guide?")
        prism = next((part for part in session.rig.train if part.prism is not None), None)
        if prism is not None:
            entry = menu.addAction(plain(f"Guide through the prism of {prism.title}").replace("&", "&&"))
            if entry is not None:
                entry.triggered.connect(lambda _on: self.guiding_chosen.emit("off_axis"))
        entry = menu.addAction("Guide by a telescope of its own")
        if entry is not None:
            entry.triggered.connect(lambda _on: self.guiding_chosen.emit("separate"))
        self._pop_up(menu)

    def _pop_up(self, menu: QMenu) -> None:
        self.next_menu = menu
        box = self.ghost_box()
        at = box.bottomLeft().toPoint() if box is not None else self.rect().center()
        menu.popup(self.mapToGlobal(at))
        first = menu.actions()
        if first:
            menu.setActiveAction(first[0])

    # Events

    def event(self, a0: QEvent | None) -> bool:
        if a0 is not None and a0.type() == QEvent.Type.ToolTip:
            point = QPointF(a0.pos())  # type: ignore[attr-defined]
            shape = self._shape_at(point)
            if shape is not None:
                kind = shape.part.kind.replace("_", " ")
                QToolTip.showText(
                    a0.globalPos(),  # type: ignore[attr-defined]
                    tip(
                        "\n".join(
                            [
                                f"{shape.number}  {shape.part.title} ({kind}), {length_text(shape)} mm",
                                *(device.why for device in shape.devices),
                            ]
                        )
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
        ghost = self.ghost_box()
        if ghost is not None and ghost.contains(a0.position()):
            self.ask_next()
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
            self.panned += a0.position() - self._dragged_from
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

    def dragEnterEvent(self, a0: QDragEnterEvent | None) -> None:
        data = a0.mimeData() if a0 is not None else None
        if a0 is not None and data is not None and (data.hasFormat(SHELF_MIME) or data.hasFormat(PART_MIME)):
            a0.acceptProposedAction()

    def dragMoveEvent(self, a0: QDragMoveEvent | None) -> None:
        if a0 is not None:
            self._drop = drop_place(self.drawn, self.view(), a0.position())
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
        path, index = drop_place(self.drawn, self.view(), a0.position())
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

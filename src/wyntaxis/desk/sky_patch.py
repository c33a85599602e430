"""The sky patch: moving the frame in use by mouse and keys."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QWheelEvent

from wyntaxis.desk.sky_picture import HANDLE_PX, SkyPicture

ZOOM_STEP = 1.25
COMMIT_MS = 500
"""Keys that move the frame make one edit when they have been still this long."""


class SkyPatch(SkyPicture):
    """Lets the frame be moved about: ``moved`` tells of every change, ``entered`` when it has come to rest."""

    moved = pyqtSignal()
    entered = pyqtSignal(str)
    target_chosen = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self._drag: str | None = None
        self._last = QPointF()
        self._pending = ""
        self._idle = QTimer(self)
        self._idle.setSingleShot(True)
        self._idle.setInterval(COMMIT_MS)
        self._idle.timeout.connect(self.commit)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(200, 220)
        self.setMouseTracking(True)
        self.setAccessibleName("Sky patch")
        self.setAccessibleDescription(
            "Arrow keys move the frame, with Shift finely; bracket keys turn it by one degree, with Shift by a tenth; "
            "plus and minus zoom; Home centres the view."
        )

    # Mouse and keys

    def mousePressEvent(self, a0: QMouseEvent | None) -> None:
        if a0 is None or a0.button() != Qt.MouseButton.LeftButton:
            return
        self.setFocus()
        point, handle, frame = a0.position(), self.handle(), self.view.frame
        self._last = point
        if handle is not None and math.hypot(*_xy(point - handle)) <= 2 * HANDLE_PX:
            self._drag = "turn"
        elif frame is not None and self._polygon(frame.corners()).containsPoint(point, Qt.FillRule.OddEvenFill):
            self._drag = "move"
        else:
            self._drag = "view"

    def mouseMoveEvent(self, a0: QMouseEvent | None) -> None:
        if a0 is None:
            return
        point, frame = a0.position(), self.view.frame
        if self._drag is None:
            self._show_cursor(point)
            return
        if self._drag == "turn" and frame is not None:
            center = self.pixel_of(frame.center)
            out = point - center
            angle = math.degrees(math.atan2(-out.x(), -out.y()))
            step = 1.0 if a0.modifiers() & Qt.KeyboardModifier.ControlModifier else 0.1
            self.view.frame = frame.moved(frame.center, (round(angle / step) * step) % 360)
            self._changed("Turn the frame")
        elif self._drag == "move" and frame is not None:
            moved = self.pixel_of(frame.center) + (point - self._last)
            self.view.put_frame(self.position_of(moved))
            self._changed("Move the frame")
        elif self._drag == "view":
            middle = QPointF(self.width() / 2, self.height() / 2)
            self.view.center = self.position_of(middle - (point - self._last))
            self.moved.emit()
        self._last = point
        self.update()

    def _show_cursor(self, point: QPointF) -> None:
        handle, frame = self.handle(), self.view.frame
        if handle is not None and math.hypot(*_xy(point - handle)) <= 2 * HANDLE_PX:
            self.setCursor(Qt.CursorShape.PointingHandCursor)
        elif frame is not None and self._polygon(frame.corners()).containsPoint(point, Qt.FillRule.OddEvenFill):
            self.setCursor(Qt.CursorShape.SizeAllCursor)
        else:
            self.setCursor(Qt.CursorShape.ArrowCursor)

    def mouseReleaseEvent(self, a0: QMouseEvent | None) -> None:
        self._drag = None
        self.commit()

    def mouseDoubleClickEvent(self, a0: QMouseEvent | None) -> None:
        """Choose the object under the pointer."""
        if a0 is None:
            return
        self._drag = None
        point = a0.position()
        near = [
            (math.hypot(*_xy(self.pixel_of((o.ra_deg, o.dec_deg)) - point)), o)
            for o in self.view.objects
        ]  # fmt: skip
        if near:
            distance, target = min(near, key=lambda pair: pair[0])
            if distance < 30:
                self.target_chosen.emit(target)

    def wheelEvent(self, a0: QWheelEvent | None) -> None:
        if a0 is None:
            return
        under = self.position_of(a0.position())
        self.view.zoom(1 / ZOOM_STEP if a0.angleDelta().y() > 0 else ZOOM_STEP)
        # What was under the pointer stays there.
        shift = self.pixel_of(under) - a0.position()
        self.view.center = self.position_of(QPointF(self.width() / 2, self.height() / 2) + shift)
        self.moved.emit()
        self.update()
        a0.accept()

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        if a0 is None:
            return
        frame, key = self.view.frame, a0.key()
        fine = bool(a0.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal, Qt.Key.Key_Minus):
            self.view.zoom(ZOOM_STEP if key == Qt.Key.Key_Minus else 1 / ZOOM_STEP)
            self.moved.emit()
        elif key == Qt.Key.Key_Home:
            self.view.look_at_frame()
            self.moved.emit()
        elif frame is not None and key in _MOVES:
            left, up = _MOVES[key]
            step = min(frame.size_deg) / (200 if fine else 20)
            self.view.move_frame(left * step, up * step)
            self._changed("Move the frame")
            self._idle.start()
        elif frame is not None and key in _TURNS:
            by = _TURNS[key] * (0.1 if fine or key in (Qt.Key.Key_BraceLeft, Qt.Key.Key_BraceRight) else 1.0)
            self.view.turn_frame(by)
            self._changed("Turn the frame")
            self._idle.start()
        else:
            super().keyPressEvent(a0)
            return
        self.update()

    def _changed(self, label: str) -> None:
        self._pending = label
        self.moved.emit()

    @property
    def pending(self) -> bool:
        """Whether the frame has been moved and not yet entered."""
        return bool(self._pending)

    def commit(self) -> None:
        """Enter the frame as it lies, as one edit."""
        self._idle.stop()
        if self._pending:
            label, self._pending = self._pending, ""
            self.entered.emit(label)

    def focusOutEvent(self, a0: object) -> None:
        self.commit()
        super().focusOutEvent(a0)  # type: ignore[arg-type]


_MOVES: dict[int, tuple[int, int]] = {
    Qt.Key.Key_Left: (1, 0),
    Qt.Key.Key_Right: (-1, 0),
    Qt.Key.Key_Up: (0, 1),
    Qt.Key.Key_Down: (0, -1),
}
_TURNS: dict[int, int] = {
    Qt.Key.Key_BracketLeft: -1,
    Qt.Key.Key_BracketRight: 1,
    Qt.Key.Key_BraceLeft: -1,
    Qt.Key.Key_BraceRight: 1,
}


def _xy(point: QPointF) -> tuple[float, float]:
    return point.x(), point.y()

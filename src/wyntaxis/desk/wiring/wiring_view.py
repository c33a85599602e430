"""The wiring in the band: blocks and lines; a click chooses a device, a dragged line plugs it in elsewhere."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFont, QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QToolTip

from wyntaxis.core.canvas import DASHES, WIDE_PX, Stroke
from wyntaxis.core.wiring import Wire, Wiring, wiring
from wyntaxis.core.wiring_drawing import Sizes, WiringLayout, draw_wiring, laid_out
from wyntaxis.desk.palette import DAY, Palette
from wyntaxis.desk.plain_widgets import Picture, tip
from wyntaxis.desk.qt_canvas import QtCanvas
from wyntaxis.desk.section.drafting import DraftingPainter

if TYPE_CHECKING:
    from wyntaxis.desk.session import Session

GRAB_PX = 6.0


class WiringView(Picture):
    """Draws the open rig's wiring.

    ``device_chosen`` carries a device or supply, ``plugged`` a device and the hub or supply that its line was dragged
    to.
    """

    device_chosen = pyqtSignal(str)
    plugged = pyqtSignal(str, str)

    def __init__(self) -> None:
        super().__init__()
        self.palette_in_use: Palette = DAY
        self._session: Session | None = None
        self._wiring = Wiring((), ())
        self.layout_shown = WiringLayout({}, (), 0.0)
        """Where blocks and lines were painted last."""
        self._chosen = ""
        self._dragged: tuple[str, QPointF] | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("Wiring: computer, hubs, devices and supplies")
        self.setMinimumHeight(120)

    def sizeHint(self) -> QSize:
        return QSize(1280, 240)

    def show_session(self, session: Session) -> None:
        """Show another rig."""
        self._session = session
        self._chosen = ""
        self.refresh()

    def refresh(self) -> None:
        """Draw the rig anew."""
        before = self._wiring, self.accessibleDescription()
        if self._session is not None and self.isVisible():
            self._wiring = wiring(self._session.evaluation)
            block = next((b for b in self._wiring.blocks if b.id == self._chosen), None)
            entries = [
                wire.story for wire in self._wiring.wires if block is not None and block.id in (wire.start, wire.end)
            ]
            self.setAccessibleDescription(f"Chosen: {block.title}. {'; '.join(entries)}" if block else "None chosen")
        if before != (self._wiring, self.accessibleDescription()):
            self.update()

    def set_palette(self, palette: Palette) -> None:
        """Draw in another palette."""
        self.palette_in_use = palette
        self.update()

    # Painting

    def paintEvent(self, a0: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        small = QFont(self.font())
        small.setPixelSize(max(9, round(self.fontInfo().pixelSize() * 0.85)))
        text = QFont(self.font())
        text.setPixelSize(self.fontInfo().pixelSize())
        sheet = DraftingPainter(painter, self.palette_in_use, text, small)
        painter.fillRect(self.rect(), self.palette_in_use.color("paper"))
        if self._session is None:
            return
        canvas = QtCanvas(sheet)
        em = text.pixelSize()
        sizes = Sizes(self.width(), self.height(), sheet.height_of(small=True), em)
        self.layout_shown = laid_out(self._wiring, sizes)
        if len(self._wiring.blocks) <= 1:
            middle = QPointF(self.width() / 2, self.height() / 2)
            sheet.write((middle.x(), middle.y()), "No devices yet: add them on the Devices sheet, or read the ports.")
        draw_wiring(canvas, self._wiring, self.layout_shown, self._chosen)
        if self._dragged is not None:
            device, to = self._dragged
            start = self.layout_shown.boxes[device].middle
            canvas.line((start, (to.x(), to.y())), Stroke("accent", 1.5 * WIDE_PX, DASHES))
        if self.hasFocus():
            painter.setPen(sheet.pen("accent", 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))

    # Choosing and plugging

    def block_at(self, point: QPointF) -> str | None:
        """Return the id of the block at a point."""
        return self.layout_shown.block_at(point.x(), point.y())

    def wire_at(self, point: QPointF) -> Wire | None:
        """Return the line that passes by a point."""
        return self.layout_shown.wire_at(point.x(), point.y(), GRAB_PX)

    def mousePressEvent(self, a0: QMouseEvent | None) -> None:
        if a0 is None or a0.button() != Qt.MouseButton.LeftButton:
            return
        at = self.block_at(a0.position())
        wire = None if at is not None else self.wire_at(a0.position())
        chosen = at if at is not None else wire.end if wire is not None else None
        if chosen is not None:
            self._choose(chosen)
            self._dragged = (chosen, a0.position())

    def mouseMoveEvent(self, a0: QMouseEvent | None) -> None:
        if a0 is not None and self._dragged is not None:
            self._dragged = (self._dragged[0], a0.position())
            self.update()

    def mouseReleaseEvent(self, a0: QMouseEvent | None) -> None:
        dragged, self._dragged = self._dragged, None
        self.update()
        if a0 is None or dragged is None:
            return
        to = self.block_at(a0.position())
        if to is not None and to != dragged[0]:
            self.plugged.emit(dragged[0], to)

    def _choose(self, block_id: str) -> None:
        self._chosen = block_id
        self.refresh()
        self.device_chosen.emit(block_id)

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        if a0 is None:
            return
        ids = list(self.layout_shown.boxes)
        step = {Qt.Key.Key_Right: 1, Qt.Key.Key_Left: -1}.get(Qt.Key(a0.key()))
        if step is None or not ids:
            super().keyPressEvent(a0)
            return
        at = ids.index(self._chosen) + step if self._chosen in ids else 0
        self._choose(ids[at % len(ids)])

    def event(self, a0: QEvent | None) -> bool:
        if isinstance(a0, QHelpEvent) and a0.type() == QEvent.Type.ToolTip:
            point = QPointF(a0.pos())
            at, wire = self.block_at(point), self.wire_at(point)
            stories = [w.story for w in self._wiring.wires if at in (w.start, w.end)] if at else []
            text = "\n".join(stories) if stories else wire.story if wire is not None else ""
            QToolTip.showText(a0.globalPos(), tip(text), self) if text else QToolTip.hideText()
            return True
        return super().event(a0)

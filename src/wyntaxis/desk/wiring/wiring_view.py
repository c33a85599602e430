"""The wiring in the band: blocks and lines; a click chooses a device, a dragged line plugs it in elsewhere."""

from __future__ import annotations

from itertools import pairwise
from typing import TYPE_CHECKING

from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFont, QFontMetricsF, QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QToolTip

from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.wiring import Block, Wire, Wiring, wiring
from wyntaxis.desk.glyphs import draw_verdict
from wyntaxis.desk.palette import DAY, Palette
from wyntaxis.desk.plain_widgets import Picture, tip
from wyntaxis.desk.section.drafting import CHAIN_DASHES, DASHES, WIDE_PX, DraftingPainter
from wyntaxis.desk.wiring.symbols import draw_symbol

if TYPE_CHECKING:
    from wyntaxis.desk.session import Session

EDGE_PX, GAP_PX = 12.0, 10.0
GRAB_PX = 6.0
LINES = {"network": DASHES, "wireless": [2.0, 3.0], "serial": CHAIN_DASHES}
"""How each kind of line is drawn; USB and power in full."""
WIDEST_EM, HEAD_EM = 9.5, 10.0


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
        self._boxes: dict[str, QRectF] = {}
        self._paths: list[tuple[Wire, list[QPointF]]] = []
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

    # Where everything lies

    def _place(self, sheet: DraftingPainter) -> None:
        """Give each block its place, and each line its way."""
        line = sheet.height_of(small=True)
        tall = 2.35 * line
        rows = {"head": EDGE_PX, "device": (self.height() - tall) / 2, "supply": self.height() - tall - EDGE_PX}
        self._boxes = {}
        for row, top in rows.items():
            blocks = self._wiring.row(row)  # type: ignore[arg-type]
            if not blocks:
                continue
            room = self.width() - 2 * EDGE_PX
            em = sheet.text.pixelSize() or line
            widest = (WIDEST_EM if row == "device" else HEAD_EM) * em
            width = min((room + GAP_PX) / len(blocks) - GAP_PX, widest)
            step = (room - width) / max(len(blocks) - 1, 1) if row == "device" else width + 3 * em
            step = min(step, width + 3 * em)
            start = EDGE_PX + (room - width - step * (len(blocks) - 1)) / 2 if row == "device" else EDGE_PX
            if row == "head":
                start = self._beside_the_gaps(room, em, width)
            for index, block in enumerate(blocks):
                self._boxes[block.id] = QRectF(start + index * step, top, width, tall)
        self._paths = list(self._routes())

    def _beside_the_gaps(self, room: float, em: float, head_width: float) -> float:
        """Return where the heads begin, so that a gap between two devices lies under the first: its supply comes up
        there."""
        count = len(self._wiring.row("device"))
        if count < 2:
            return EDGE_PX
        width = min((room + GAP_PX) / count - GAP_PX, WIDEST_EM * em)
        step = min((room - width) / (count - 1), width + 3 * em)
        first = EDGE_PX + (room - width - step * (count - 1)) / 2
        return max(first + step - (step - width) / 2 - head_width / 2, EDGE_PX)

    def _routes(self) -> list[tuple[Wire, list[QPointF]]]:
        """Return each line's way: out of its start, along a level of its own, into its end."""
        found = []
        for carries, below in (("data", True), ("power", False)):
            wires = [
                w
                for w in self._wiring.wires
                if w.carries == carries and w.start in self._boxes and w.end in self._boxes
            ]
            sources = list(dict.fromkeys(wire.start for wire in wires))
            for wire in wires:
                start, end = self._boxes[wire.start], self._boxes[wire.end]
                if abs(start.top() - end.top()) < 1:  # a hub on the computer, a supply on another
                    left, right = sorted((start, end), key=lambda box: box.left())
                    y = left.center().y()
                    found.append((wire, [QPointF(left.right(), y), QPointF(right.left(), y)]))
                    continue
                upper, lower = (start, end) if below else (end, start)
                share = (sources.index(wire.start) + 1) / (len(sources) + 1)
                room = lower.top() - upper.bottom()
                level = (
                    upper.bottom() + room * (0.12 + 0.4 * share) if below else lower.top() - room * (0.12 + 0.4 * share)
                )
                out, into = start.center().x(), end.center().x() + (0 if below else GAP_PX / 2)
                if below:
                    way = [
                        QPointF(out, start.bottom()),
                        QPointF(out, level),
                        QPointF(into, level),
                        QPointF(into, end.top()),
                    ]
                else:
                    way = [
                        QPointF(out, start.top()),
                        QPointF(out, level),
                        QPointF(into, level),
                        QPointF(into, end.bottom()),
                    ]
                found.append((wire, way))
        return found

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
        self._place(sheet)
        if len(self._wiring.blocks) <= 1:
            middle = QPointF(self.width() / 2, self.height() / 2)
            sheet.write(middle.x(), middle.y(), "No devices yet: add them on the Devices sheet, or read the ports.")
        for wire, way in self._paths:
            self._paint_wire(sheet, wire, way)
        for wire, way in self._paths:
            self._paint_labels(sheet, wire, way)
        for block in self._wiring.blocks:
            if block.id in self._boxes:
                self._paint_block(sheet, block, self._boxes[block.id])
        if self._dragged is not None:
            device, to = self._dragged
            start = self._boxes[device].center()
            sheet.line(start.x(), start.y(), to.x(), to.y(), sheet.pen("accent", WIDE_PX * 1.5, DASHES))
        if self.hasFocus():
            painter.setPen(sheet.pen("accent", 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))

    def _pen_of(self, sheet: DraftingPainter, wire: Wire) -> QPen:
        is_chosen = self._chosen in (wire.start, wire.end) and bool(self._chosen)
        severe = wire.verdict is not None and wire.verdict.severity >= 2
        color = str(wire.verdict) if severe else "accent" if is_chosen else "ink"
        dashes = LINES.get(wire.form)
        width = WIDE_PX * (1.5 if is_chosen else 1.0) if wire.carries == "power" else (1.8 if is_chosen else 1.0)
        return sheet.pen(color, width, dashes)

    def _paint_wire(self, sheet: DraftingPainter, wire: Wire, way: list[QPointF]) -> None:
        sheet.painter.setPen(self._pen_of(sheet, wire))
        for start, end in pairwise(way):
            sheet.painter.drawLine(start, end)
        if len(way) == 4 and abs(way[1].x() - way[2].x()) > 1:  # lines that meet are joined by a dot (IEC 60617)
            sheet.painter.setBrush(sheet.painter.pen().color())
            sheet.painter.setPen(Qt.PenStyle.NoPen)
            sheet.painter.drawEllipse(way[1], 2.2, 2.2)

    def _paint_labels(self, sheet: DraftingPainter, wire: Wire, way: list[QPointF]) -> None:
        """Write a line's labels beside its last stretch, with its mark where it is not in order."""
        line = sheet.height_of(small=True)
        if len(way) == 2:
            middle = (way[0].x() + way[1].x()) / 2
            for index, label in enumerate(wire.labels[-1:]):
                sheet.write(
                    middle, way[0].y() - line * 0.6 - index * line, label, small=True, color="faded", ground="paper"
                )
            return
        first, last = way[2], way[3]
        x, down = last.x(), last.y() > first.y()
        y = last.y() - line * 0.75 if down else last.y() + line * 0.75
        right = x
        for label in reversed(wire.labels) if down else wire.labels:
            box = sheet.write(x, y, label, small=True, color="faded", ground="paper")
            right = max(right, box.right())
            y += -line if down else line
        if wire.verdict is not None and wire.verdict.severity >= 2:
            size = line * 0.75
            left = right + 5
            top = last.y() - line * 0.75 - size / 2 if down else last.y() + line * 0.75 - size / 2
            mark = QRectF(left, top, size, size)
            sheet.painter.fillRect(mark.adjusted(-1, -1, 1, 1), sheet.palette.color("paper"))
            draw_verdict(
                sheet.painter, mark, wire.verdict, sheet.palette.verdict(wire.verdict), sheet.palette.color("paper")
            )

    def _paint_block(self, sheet: DraftingPainter, block: Block, box: QRectF) -> None:
        painter, is_chosen = sheet.painter, block.id == self._chosen and bool(self._chosen)
        painter.setBrush(sheet.palette.color("chosen" if is_chosen else "panel"))
        painter.setPen(sheet.pen("accent" if is_chosen else "ink", WIDE_PX * (1.5 if is_chosen else 1.0)))
        painter.drawRect(box)
        line = sheet.height_of(small=True)
        icon = QRectF(box.left() + 5, box.top() + 4, line, line)
        draw_symbol(sheet, block.symbol, icon)
        if block.verdict is not None:
            mark = QRectF(box.right() - line * 0.8 - 4, box.top() + 4, line * 0.8, line * 0.8)
            draw_verdict(
                painter, mark, block.verdict, sheet.palette.verdict(block.verdict), sheet.palette.color("panel")
            )
        kind = block.symbol.replace("_", " ")
        metrics = QFontMetricsF(sheet.small)
        room = box.width() - line * 2 - 14
        entries = metrics.elidedText(kind, Qt.TextElideMode.ElideRight, room)
        sheet.write(icon.right() + 4, icon.center().y(), entries, align="left", small=True, color="faded")
        name = metrics.elidedText(plain(block.title), Qt.TextElideMode.ElideRight, box.width() - 10)
        sheet.write(box.left() + 5, box.bottom() - line * 0.65, name, align="left", small=True)

    # Choosing and plugging

    def block_at(self, point: QPointF) -> str | None:
        """Return the id of the block at a point."""
        return next((block_id for block_id, box in self._boxes.items() if box.contains(point)), None)

    def wire_at(self, point: QPointF) -> Wire | None:
        """Return the line that passes by a point."""
        for wire, way in self._paths:
            for start, end in pairwise(way):
                box = QRectF(start, end).normalized().adjusted(-GRAB_PX, -GRAB_PX, GRAB_PX, GRAB_PX)
                if box.contains(point):
                    return wire
        return None

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
        ids = list(self._boxes)
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

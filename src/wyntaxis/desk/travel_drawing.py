"""Draws the travel of a focuser: the drawtube's whole travel, the motor's part of it, and where focus lies."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QBrush, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QVBoxLayout, QWidget

from wyntaxis.core.travel_picture import TravelPicture
from wyntaxis.core.wording import number, short
from wyntaxis.desk.palette import DAY, Palette
from wyntaxis.desk.plain_widgets import Picture, PlainLabel

HEIGHT_EM = 7.8
EDGE_EM = 1.2


class TravelDrawing(Picture):
    """One focuser's travel as a tube in section, to scale along it."""

    def __init__(self) -> None:
        super().__init__()
        self._picture: TravelPicture | None = None
        self._palette = DAY
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_picture(self, picture: TravelPicture | None, palette: Palette) -> None:
        """Draw a travel."""
        self._picture, self._palette = picture, palette
        self.setVisible(picture is not None)
        self.setAccessibleName("Travel: " + "; ".join(picture.words) if picture is not None else "Travel")
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(300, round(HEIGHT_EM * self.fontInfo().pixelSize()))

    def minimumSizeHint(self) -> QSize:
        return self.sizeHint()

    def paintEvent(self, a0: QPaintEvent | None) -> None:
        picture = self._picture
        if picture is None:
            return
        painter, palette = QPainter(self), self._palette
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        em = self.fontInfo().pixelSize()
        painter.fillRect(self.rect(), palette.color("field"))
        left, right = EDGE_EM * em, self.width() - EDGE_EM * em
        tube = QRectF(left, 3.9 * em, right - left, 1.9 * em)
        motor = QRectF(tube)
        if picture.whole_mm is not None and picture.motor_mm is not None:
            scale = tube.width() / picture.whole_mm
            motor.setLeft(left + picture.motor_mm[0] * scale)
            motor.setRight(left + picture.motor_mm[1] * scale)
        self._tube(painter, tube, motor)
        self._marks(painter, picture, motor, em)
        self._ends(painter, picture, motor, em)
        self._arrow(painter, picture, tube, em)
        painter.end()

    def _tube(self, painter: QPainter, tube: QRectF, motor: QRectF) -> None:
        """Draw the drawtube's travel hatched, and the motor's part of it as a clear rack."""
        palette = self._palette
        painter.setPen(QPen(palette.color("rule"), 1))
        painter.setBrush(QBrush(palette.color("metal", 120), Qt.BrushStyle.BDiagPattern))
        painter.drawRect(tube)
        painter.setPen(QPen(palette.color("ink"), 1.4))
        painter.setBrush(palette.color("panel"))
        painter.drawRect(motor)

    def _marks(self, painter: QPainter, picture: TravelPicture, motor: QRectF, em: float) -> None:
        """Draw the middle, what temperature and filters need, and the working position."""
        palette = self._palette

        def at(steps: float) -> float:
            return motor.left() + min(max(picture.share(steps), 0.0), 1.0) * motor.width()

        painter.setPen(QPen(palette.color("faded"), 1, Qt.PenStyle.DashDotLine))
        middle = motor.center().x()
        painter.drawLine(QPointF(middle, motor.top() - 0.3 * em), QPointF(middle, motor.bottom() + 0.3 * em))
        if picture.span is not None:
            low, high = (at(value) for value in picture.span)
            painter.fillRect(
                QRectF(low, motor.top() + 1, max(high - low, 3), motor.height() - 2), palette.color("light")
            )
        working = picture.working
        if working is not None:
            x, tip = at(working), motor.top() - 0.15 * em
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(palette.color("accent"))
            painter.drawPolygon(
                QPolygonF(
                    [QPointF(x, tip), QPointF(x - 0.4 * em, tip - 0.7 * em), QPointF(x + 0.4 * em, tip - 0.7 * em)]
                )
            )
            painter.setPen(QPen(palette.color("accent"), 1.6))
            painter.drawLine(QPointF(x, motor.top()), QPointF(x, motor.bottom()))
            name = "best" if picture.best is not None else "set"
            share = number(100 * picture.share(working), 0)
            self._text(painter, x, tip - 1.0 * em, f"{name} {number(working, 0)} steps, {share} %", palette.ink, em)

    def _ends(self, painter: QPainter, picture: TravelPicture, motor: QRectF, em: float) -> None:
        """Write the counter's ends and its middle."""
        palette, below = self._palette, motor.bottom() + 1.0 * em
        unit = (
            ""
            if picture.step_um is None
            else f" · {number((picture.high - picture.low) * picture.step_um / 1000, 1)} mm"
        )
        self._text(painter, motor.left(), below, f"{short(picture.low)}", palette.ink, em)
        end = f"{short(picture.high)} steps{unit}"
        self._text(painter, motor.right(), below, end, palette.ink, em)
        middle = f"middle {number((picture.low + picture.high) / 2, 0)}"
        wide = painter.fontMetrics().horizontalAdvance
        if motor.width() / 2 > wide(middle) / 2 + wide(end) + em:
            self._text(painter, motor.center().x(), below, middle, palette.faded, em)

    def _arrow(self, painter: QPainter, picture: TravelPicture, tube: QRectF, em: float) -> None:
        """Draw which way the counter rises, and what of the drawtube the motor covers."""
        palette, y = self._palette, 0.9 * em
        start, end = tube.left(), tube.left() + 3.2 * em
        if not picture.outward:
            start, end = end, start
        painter.setPen(QPen(palette.color("ink"), 1.4))
        painter.drawLine(QPointF(start, y), QPointF(end, y))
        way = 0.5 * em if end > start else -0.5 * em
        painter.setBrush(palette.color("ink"))
        painter.drawPolygon(QPolygonF([QPointF(end, y), QPointF(end - way, y - 3), QPointF(end - way, y + 3)]))
        words = "counter rises outward" if picture.outward else "reversed: counter rises inward"
        painter.drawText(QPointF(tube.left() + 3.8 * em, y + 0.35 * em), words)

    def _text(self, painter: QPainter, x: float, y: float, text: str, color: str, em: float) -> None:
        """Write a text centred on a place, kept inside the drawing."""
        wide = painter.fontMetrics().horizontalAdvance(text)
        left = min(max(x - wide / 2, 0.3 * em), max(self.width() - wide - 0.3 * em, 0.0))
        painter.setPen(self._palette.color("ink") if color == self._palette.ink else self._palette.color("faded"))
        painter.drawText(QPointF(left, y + 0.35 * em), text)


class TravelView(QWidget):
    """A focuser's travel, drawn and in words."""

    def __init__(self) -> None:
        super().__init__()
        self.drawing, self.words = TravelDrawing(), PlainLabel()
        self.words.setWordWrap(True)
        self.words.setProperty("role", "faded")
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.drawing)
        column.addWidget(self.words)
        column.addStretch(1)

    def show_picture(self, picture: TravelPicture | None, palette: Palette) -> None:
        """Draw a travel."""
        self.drawing.show_picture(picture, palette)
        words = "; ".join(picture.words) if picture is not None else ""
        self.words.setText(f"{words[:1].upper()}{words[1:]}.")

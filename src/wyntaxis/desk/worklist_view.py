"""The worklist down the left: steps in bench order, each with its worst verdict and its counts. It navigates."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QEnterEvent, QFocusEvent, QFont, QFontMetricsF, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from wyntaxis.core.ledger import Verdict, worst
from wyntaxis.core.steps import GROUPS, Step, steps
from wyntaxis.core.worklist import Tally
from wyntaxis.desk.glyphs import draw_verdict
from wyntaxis.desk.palette import DAY, Palette
from wyntaxis.desk.section.drafting import DraftingPainter


class _Line(QWidget):
    """One line of the worklist: a group's heading or a step."""

    activated = pyqtSignal()

    def __init__(self, title: str, *, heading: bool) -> None:
        super().__init__()
        self.title, self.heading = title, heading
        self.verdict: Verdict | None = None
        self.counts = ""
        self.current = False
        self.folded = False
        self.hovered = False
        self.palette_in_use: Palette = DAY
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def _small(self) -> QFont:
        font = QFont(self.font())
        font.setPixelSize(max(9, round(self.fontInfo().pixelSize() * 0.85)))
        return font

    def sizeHint(self) -> QSize:
        size = self.fontInfo().pixelSize()
        return QSize(round(size * 13), round(size * (1.9 if self.heading else 2.9)))

    def describe(self) -> None:
        """Tell assistive technology what the line says."""
        verdict = f", {self.verdict}" if self.verdict else ""
        self.setAccessibleName(f"{self.title}{verdict}")
        self.setAccessibleDescription(self.counts)
        self.setToolTip(self.counts)
        self.update()

    def paintEvent(self, a0: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        bold = QFont(self.font())
        bold.setBold(self.heading or self.current)
        sheet = DraftingPainter(painter, self.palette_in_use, bold, self._small())
        ground = "chosen" if self.current else "panel"
        painter.fillRect(self.rect(), sheet.palette.color(ground))
        line = sheet.height_of()
        y = line / 2 + (4 if self.heading else 5)
        left = 10.0 if self.heading else 22.0
        if self.heading:
            painter.fillRect(QRectF(0, self.height() - 1, self.width(), 1), sheet.palette.color("rule"))
            sheet.write(left, y, ("▸ " if self.folded else "▾ ") + self.title, align="left")
        else:
            sheet.write(left, y, self.title, align="left")
            room = self.width() - left - 6
            counts = QFontMetricsF(sheet.small).elidedText(self.counts, Qt.TextElideMode.ElideRight, room)
            sheet.write(left, y + line * 0.95, counts, align="left", small=True, color="faded")
        if self.current:
            painter.fillRect(QRectF(0, 0, 4, self.height()), sheet.palette.color("accent"))
        if self.verdict is not None:
            size = line * 0.8
            box = QRectF(self.width() - size - 10, y - size / 2, size, size)
            draw_verdict(painter, box, self.verdict, sheet.palette.verdict(self.verdict), sheet.palette.color(ground))
        if self.hasFocus() or self.hovered:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(sheet.pen("accent" if self.hasFocus() else "rule", 1.2))
            painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))

    def mousePressEvent(self, a0: QMouseEvent | None) -> None:
        self.activated.emit()

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        if a0 is None:
            return
        if a0.key() in (Qt.Key.Key_Return, Qt.Key.Key_Space, Qt.Key.Key_Enter):
            self.activated.emit()
        elif a0.key() == Qt.Key.Key_Down:
            self.focusNextChild()
        elif a0.key() == Qt.Key.Key_Up:
            self.focusPreviousChild()
        else:
            super().keyPressEvent(a0)

    def enterEvent(self, event: QEnterEvent | None) -> None:
        self.hovered = True
        self.update()

    def leaveEvent(self, a0: QEvent | None) -> None:
        self.hovered = False
        self.update()

    def focusInEvent(self, a0: QFocusEvent | None) -> None:
        super().focusInEvent(a0)
        self.update()


class WorklistView(QScrollArea):
    """The worklist; ``step_chosen`` carries a step's key."""

    step_chosen = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName("Worklist")
        body = QWidget()
        body.setProperty("role", "panel")
        layout = QVBoxLayout(body)
        layout.setContentsMargins(0, 4, 0, 4)
        layout.setSpacing(0)
        self._headings: dict[str, _Line] = {}
        self._lines: dict[str, _Line] = {}
        for group in GROUPS:
            heading = _Line(group, heading=True)
            heading.activated.connect(lambda group=group: self._fold(group))
            self._headings[group] = heading
            layout.addWidget(heading)
            for step in steps():
                if step.group == group:
                    line = _Line(step.title, heading=False)
                    line.activated.connect(lambda key=step.key: self.step_chosen.emit(key))
                    self._lines[step.key] = line
                    layout.addWidget(line)
        layout.addStretch(1)
        self.setWidget(body)
        self.setMinimumWidth(150)

    def show_tallies(self, tallies: list[Tally]) -> None:
        """Show how every step stands."""
        by_group: dict[str, list[Verdict]] = {}
        for tally in tallies:
            line = self._lines[tally.step.key]
            if (line.verdict, line.counts) != (tally.verdict, tally.text):
                line.verdict, line.counts = tally.verdict, tally.text
                line.describe()
            if tally.verdict is not None:
                by_group.setdefault(tally.step.group, []).append(tally.verdict)
        for group, heading in self._headings.items():
            verdicts = by_group.get(group)
            verdict = worst(verdicts) if verdicts else None
            if heading.verdict is not verdict:
                heading.verdict = verdict
                heading.describe()

    def show_current(self, step: Step) -> None:
        """Mark the step whose sheet is shown."""
        for key, line in self._lines.items():
            line.current = key == step.key
            line.update()

    def set_palette(self, palette: Palette) -> None:
        """Draw in another palette."""
        for line in (*self._headings.values(), *self._lines.values()):
            line.palette_in_use = palette
            line.update()

    def fit_to_font(self) -> None:
        """Take new heights after the text size has changed."""
        for line in (*self._headings.values(), *self._lines.values()):
            line.updateGeometry()

    def _fold(self, group: str) -> None:
        heading = self._headings[group]
        heading.folded = not heading.folded
        for step in steps():
            if step.group == group:
                self._lines[step.key].setVisible(not heading.folded)
        heading.update()

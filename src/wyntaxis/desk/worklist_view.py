"""The worklist down the left: one line a step, in bench order, with what is open by mark at its right. It navigates."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QEnterEvent,
    QFocusEvent,
    QFont,
    QFontMetrics,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QResizeEvent,
)
from PyQt6.QtWidgets import QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from wyntaxis.core.ledger import Verdict, worst
from wyntaxis.core.steps import GROUPS, Step, steps
from wyntaxis.core.worklist import Tally
from wyntaxis.desk.glyphs import draw_verdict
from wyntaxis.desk.palette import DAY, Palette
from wyntaxis.desk.plain_widgets import Pressed
from wyntaxis.desk.section.drafting import DraftingPainter

COMFORTABLE = 1.5
"""A line's height where there is room, in heights of its text."""


class _Line(Pressed):
    """One line of the worklist: a group's heading or a step."""

    activated = pyqtSignal()

    def __init__(self, title: str, *, heading: bool) -> None:
        super().__init__()
        self.title, self.heading = title, heading
        self.verdict: Verdict | None = None
        self.marks: tuple[tuple[Verdict, int], ...] = ()
        self.accepted = 0
        self.counts = ""
        self.current = False
        self.folded = False
        self.hovered = False
        self.palette_in_use: Palette = DAY
        self.clicked.connect(lambda _checked: self.activated.emit())
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def _small(self) -> QFont:
        font = QFont(self.font())
        font.setPixelSize(max(9, round(self.fontInfo().pixelSize() * 0.85)))
        return font

    def least_height(self) -> int:
        """Return the height that the text needs, in px."""
        return QFontMetrics(self.font()).height()

    def sizeHint(self) -> QSize:
        return QSize(round(self.fontInfo().pixelSize() * 13), self.least_height())

    def describe(self) -> None:
        """Tell assistive technology what the line says."""
        verdict = f", {self.verdict}" if self.verdict else ""
        self.setAccessibleName(f"{self.title}{verdict}")
        self.setAccessibleDescription(self.counts)
        self.setChecked(not self.folded if self.heading else self.current)
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
        y = self.height() / 2
        left = 10.0 if self.heading else 22.0
        if self.heading:
            painter.fillRect(QRectF(0, self.height() - 1, self.width(), 1), sheet.palette.color("rule"))
            sheet.write((left, y), ("▸ " if self.folded else "▾ ") + self.title, align="left")
        else:
            sheet.write((left, y), self.title, align="left")
        if self.current:
            painter.fillRect(QRectF(0, 0, 4, self.height()), sheet.palette.color("accent"))
        self._draw_marks(sheet, y, line * 0.72, ground)
        if self.hasFocus() or self.hovered:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(sheet.pen("accent" if self.hasFocus() else "rule", 1.2))
            painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))

    def _draw_marks(self, sheet: DraftingPainter, y: float, size: float, ground: str) -> None:
        """Draw what is open, mark and number, from the right edge; the check mark where all holds."""
        right = self.width() - 8.0
        shown = self.marks or (((self.verdict, 0),) if self.verdict is not None else ())
        for verdict, count in reversed(shown):
            if count:
                right = sheet.write((right, y), str(count), align="right", small=True).left() - 2
            box = QRectF(right - size, y - size / 2, size, size)
            draw_verdict(sheet.painter, box, verdict, sheet.palette.verdict(verdict), sheet.palette.color(ground))
            right -= size + 6
        if self.accepted:
            sheet.write((right, y), f"{self.accepted} acc.", align="right", small=True, color="faded")

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
        self.headings: dict[str, _Line] = {}
        self.lines: dict[str, _Line] = {}
        for group in GROUPS:
            heading = _Line(group, heading=True)
            heading.activated.connect(lambda group=group: self._section(group))
            self.headings[group] = heading
            layout.addWidget(heading)
            for step in steps():
                if step.group == group:
                    line = _Line(step.title, heading=False)
                    line.activated.connect(lambda key=step.key: self.step_chosen.emit(key))
                    self.lines[step.key] = line
                    layout.addWidget(line)
        layout.addStretch(1)
        self.setWidget(body)
        self.setMinimumWidth(150)

    def _share_height(self) -> None:
        """Give every line the same height: what is there, between what its text needs and what is comfortable."""
        lines = [*self.headings.values(), *(line for line in self.lines.values() if not line.isHidden())]
        view = self.viewport()
        if not lines or view is None:
            return
        least = lines[0].least_height()
        height = min(max((view.height() - 8) // len(lines), least), round(least * COMFORTABLE))
        for line in (*self.headings.values(), *self.lines.values()):
            if line.height() != height or line.minimumHeight() != height:
                line.setFixedHeight(height)

    def resizeEvent(self, a0: QResizeEvent | None) -> None:
        super().resizeEvent(a0)
        self._share_height()

    def show_tallies(self, tallies: list[Tally]) -> None:
        """Show how every step stands."""
        by_group: dict[str, list[Verdict]] = {}
        for tally in tallies:
            line = self.lines[tally.step.key]
            if (line.verdict, line.counts) != (tally.verdict, tally.text):
                line.verdict, line.counts, line.accepted = tally.verdict, tally.text, tally.accepted
                line.marks = tally.open_marks
                line.describe()
            if tally.verdict is not None:
                by_group.setdefault(tally.step.group, []).append(tally.verdict)
        for group, heading in self.headings.items():
            verdicts = by_group.get(group)
            verdict = worst(verdicts) if verdicts else None
            if heading.verdict is not verdict:
                heading.verdict = verdict
                heading.describe()

    def show_current(self, step: Step | None) -> None:
        """Mark the step whose sheet is shown; none where another page is."""
        for key, line in self.lines.items():
            line.current = step is not None and key == step.key
            line.setChecked(line.current)
            line.update()

    def set_palette(self, palette: Palette) -> None:
        """Draw in another palette."""
        for line in (*self.headings.values(), *self.lines.values()):
            line.palette_in_use = palette
            line.update()

    def fit_to_font(self) -> None:
        """Take new heights after the text size has changed."""
        for line in (*self.headings.values(), *self.lines.values()):
            line.updateGeometry()
        self._share_height()

    def _section(self, group: str) -> None:
        heading = self.headings[group]
        heading.folded = not heading.folded
        for step in steps():
            if step.group == group:
                self.lines[step.key].setVisible(not heading.folded)
        heading.describe()
        self._share_height()

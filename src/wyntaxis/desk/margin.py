"""The margin on the right: every finding in a line, and the chosen one with its arithmetic, remedy and source."""

from __future__ import annotations

from functools import lru_cache
from typing import TYPE_CHECKING

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QIcon, QPainter, QPixmap
from PyQt6.QtWidgets import (
    QApplication,
    QCheckBox,
    QFrame,
    QHBoxLayout,
    QListWidget,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from wyntaxis.core.files.foreign_text import plain
from wyntaxis.desk.glyphs import draw_verdict
from wyntaxis.desk.palette import DAY, Palette
from wyntaxis.desk.plain_widgets import PlainLabel, list_item, tip

if TYPE_CHECKING:
    from wyntaxis.core.findings.finding import Finding
    from wyntaxis.core.ledger import Verdict
    from wyntaxis.core.rig.edit import Change


@lru_cache(maxsize=64)
def verdict_icon(verdict: Verdict, palette: Palette, size: int) -> QIcon:
    """Return a verdict's shape as an icon."""
    scale = 2
    pixmap = QPixmap(size * scale, size * scale)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    box = QRectF(scale, scale, (size - 2) * scale, (size - 2) * scale)
    draw_verdict(painter, box, verdict, palette.verdict(verdict), palette.color("field"))
    painter.end()
    pixmap.setDevicePixelRatio(scale)
    icon = QIcon(pixmap)
    icon.addPixmap(pixmap, QIcon.Mode.Selected)
    return icon


class _Text(PlainLabel):
    """A wrapped, selectable text that never reads markup out of a rig file."""

    def __init__(self, role: str = "") -> None:
        super().__init__()
        self.setProperty("role", role)
        self.setWordWrap(True)
        self.setTextInteractionFlags(
            Qt.TextInteractionFlag.TextSelectableByMouse | Qt.TextInteractionFlag.TextSelectableByKeyboard
        )


class Margin(QWidget):
    """Tells findings. ``remedy_asked`` carries the change that a remedy makes."""

    finding_chosen = pyqtSignal(int)
    remedy_asked = pyqtSignal(object)
    all_asked = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self._palette_in_use: Palette = DAY
        self._findings: tuple[Finding, ...] = ()
        self._drawn_with = ("", 0)
        self._change: Change | None = None
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 8, 8, 8)
        layout.setSpacing(6)
        heading = PlainLabel("Findings")
        heading.setProperty("role", "title")
        self.all_box = QCheckBox("all steps")
        self.all_box.setProperty("role", "faded")
        self.all_box.setToolTip("List the findings of all steps, not only of the step shown")
        self.all_box.clicked.connect(lambda _on: self.all_asked.emit())
        top = QHBoxLayout()
        top.addWidget(heading)
        top.addStretch(1)
        top.addWidget(self.all_box)
        layout.addLayout(top)
        self.list = QListWidget()
        self.list.setAccessibleName("Findings")
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setTextElideMode(Qt.TextElideMode.ElideNone)
        self.list.setWordWrap(True)
        self.list.setResizeMode(QListWidget.ResizeMode.Adjust)
        self.list.setFrameShape(QFrame.Shape.NoFrame)
        self.list.currentRowChanged.connect(self._row_changed)
        layout.addWidget(self.list)
        layout.addWidget(self._build_detail(), 1)
        self.setAccessibleName("Margin")
        self.setMinimumWidth(210)

    @property
    def all_steps(self) -> bool:
        return self.all_box.isChecked()

    def _build_detail(self) -> QScrollArea:
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 4, 4, 4)
        column.setSpacing(6)
        self.verdict = _Text("heading")
        self.title = _Text("heading")
        self._mark = PlainLabel()
        top = QHBoxLayout()
        top.addWidget(self._mark, 0, Qt.AlignmentFlag.AlignTop)
        top.addWidget(self.title, 1)
        column.addLayout(top)
        self.remedy = _Text()
        self.apply_button = QPushButton("Apply")
        self.apply_button.setToolTip("Make this change; undo takes it back")
        self.apply_button.clicked.connect(self._ask)
        self.arithmetic = _Text()
        self.arithmetic.setTextFormat(Qt.TextFormat.RichText)
        self.source = _Text("faded")
        self._remedy_heading, self._arithmetic_heading = self._heading("Remedy"), self._heading("Arithmetic")
        for widget in (self._remedy_heading, self.remedy):
            column.addWidget(widget)
        buttons = QHBoxLayout()
        buttons.addWidget(self.apply_button)
        self.copy_button = QPushButton("Copy")
        self.copy_button.setToolTip("Copy the finding as text")
        self.copy_button.clicked.connect(self._copy)
        buttons.addWidget(self.copy_button)
        buttons.addStretch(1)
        column.addLayout(buttons)
        for widget in (self._arithmetic_heading, self.arithmetic, self._heading("Source"), self.source):
            column.addWidget(widget)
        column.addStretch(1)
        area.setWidget(body)
        return area

    @staticmethod
    def _heading(text: str) -> PlainLabel:
        label = PlainLabel(text)
        label.setProperty("role", "faded")
        return label

    def set_palette(self, palette: Palette) -> None:
        """Draw in another palette."""
        self._palette_in_use = palette
        self.show_findings(self._findings, self._shown)

    _shown: Finding | None = None

    def show_findings(self, findings: tuple[Finding, ...], chosen: Finding | None) -> None:
        """Show all findings, and one of them in full."""
        self._findings, self._shown = findings, chosen
        size = max(10, round(self.fontInfo().pixelSize() * 1.05))
        self.list.blockSignals(True)
        self.list.setIconSize(QSize(size, size))
        while self.list.count() > len(findings):
            self.list.takeItem(self.list.count() - 1)
        for index, finding in enumerate(findings):
            item = self.list.item(index)
            if item is None:
                item = list_item()
                self.list.addItem(item)
            told = f"{finding.verdict}: {finding.title}"
            if (item.toolTip(), self._drawn_with) != (tip(told), (self._palette_in_use.name, size)):
                item.setIcon(verdict_icon(finding.verdict, self._palette_in_use, size))
                item.setText(plain(finding.title))
                item.setToolTip(tip(told))
                item.setData(Qt.ItemDataRole.AccessibleTextRole, told)
        self._drawn_with = (self._palette_in_use.name, size)
        if chosen in findings:
            self.list.setCurrentRow(findings.index(chosen))
        self.list.blockSignals(False)
        # Wrapped titles have their height only then; PyQt6 has the method, its stubs have not.
        self.list.doItemsLayout()  # type: ignore[attr-defined]
        model = self.list.model()
        places = range(self.list.count()) if model is not None else ()
        rows = sum(self.list.visualRect(model.index(row, 0)).height() for row in places if model is not None)
        self.list.setFixedHeight(min(rows + 6, round(self.fontInfo().pixelSize() * 12.5)))
        self._show_detail(chosen)

    def _show_detail(self, finding: Finding | None) -> None:
        self._change = finding.remedy.change if finding else None
        self.title.setText(f"{str(finding.verdict).capitalize()}: {finding.title}" if finding else "No findings yet")
        size = max(12, round(self.fontInfo().pixelSize() * 1.3))
        if finding is not None:
            self._mark.setPixmap(verdict_icon(finding.verdict, self._palette_in_use, size).pixmap(size, size))
        self.arithmetic.set_paragraphs(finding.arithmetic if finding else ())
        self.remedy.setText(finding.remedy.text[:1].upper() + finding.remedy.text[1:] if finding else "")
        self.source.setText(finding.source if finding else "")
        self.apply_button.setVisible(self._change is not None)
        for heading, text in ((self._remedy_heading, self.remedy), (self._arithmetic_heading, self.arithmetic)):
            heading.setVisible(bool(text.text()))
            text.setVisible(bool(text.text()))

    def _row_changed(self, row: int) -> None:
        if 0 <= row < len(self._findings):
            self.finding_chosen.emit(row)

    def _ask(self) -> None:
        if self._change is not None:
            self.remedy_asked.emit(self._change)

    def _copy(self) -> None:
        clipboard = QApplication.clipboard()
        if clipboard is not None and self._shown is not None:
            lines = [self.title.text(), *self._shown.arithmetic, self._shown.remedy.text, self._shown.source]
            clipboard.setText("\n".join(line for line in lines if line))

"""The margin on the right: every finding in a line, and the chosen one with its arithmetic, remedy and source."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import lru_cache
from typing import TYPE_CHECKING

from PyQt6.QtCore import QEvent, QObject, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QIcon, QKeyEvent, QPainter, QPixmap, QResizeEvent
from PyQt6.QtWidgets import (
    QApplication,
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLineEdit,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from wyntaxis.core.findings.conditions import CONDITION
from wyntaxis.core.guide import why_of
from wyntaxis.core.wording import counted
from wyntaxis.desk.findings_list import FindingsList
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.glyphs import draw_verdict
from wyntaxis.desk.palette import DAY, Palette
from wyntaxis.desk.paragraphs import Paragraphs
from wyntaxis.desk.plain_widgets import PlainLabel, PushButton, ToolButton

if TYPE_CHECKING:
    from wyntaxis.core.findings.finding import Finding
    from wyntaxis.core.ledger import Verdict
    from wyntaxis.core.rig.edit import Change


WHICH: dict[str, Callable[[Finding], bool]] = {
    "all": lambda _finding: True,
    "open": lambda finding: finding.is_open and not finding.accepted,
    "fails": lambda finding: finding.verdict == "fails",
    "tight": lambda finding: finding.verdict == "tight",
    "not verified": lambda finding: finding.verdict == "unproven",
    "accepted": lambda finding: bool(finding.accepted),
}
"""Which findings can be listed."""
FEW_LINES = 6
"""Of a longer arithmetic, what is shown until all of it is asked for."""
NARROWEST_EM = 6
MAX_REASON = 400
"""How long a reason for accepting a finding may be."""


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

    def sizeHint(self) -> QSize:
        """Return the size at the width it has: it fills its column, and need not try out which width would suit it."""
        width = max(self.width(), NARROWEST_EM * self.fontMetrics().height())
        return QSize(width, self.heightForWidth(width))

    def resizeEvent(self, a0: QResizeEvent | None) -> None:
        super().resizeEvent(a0)
        if a0 is not None and a0.oldSize().width() != a0.size().width():
            self.updateGeometry()  # or a layout goes on measuring it at the width it had

    def minimumSizeHint(self) -> QSize:
        return QSize(NARROWEST_EM * self.fontMetrics().height(), self.fontMetrics().height())


class FindingsPanel(QWidget):
    """Tells findings. ``remedy_asked`` carries the change that a remedy makes, ``accept_asked`` why one is accepted."""

    finding_chosen = pyqtSignal(int)
    remedy_asked = pyqtSignal(object)
    accept_asked = pyqtSignal(str)
    withdraw_asked = pyqtSignal()
    all_asked = pyqtSignal()
    guide_asked = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self._palette_in_use: Palette = DAY
        self._findings: tuple[Finding, ...] = ()
        self._named: Callable[[Finding], str] = lambda _finding: ""
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
        self.which = QComboBox()
        self.which.addItems(list(WHICH))
        self.which.setAccessibleName("Which findings")
        self.which.setToolTip("Which findings are listed, by their verdict")
        self.which.activated.connect(lambda _at: self.all_asked.emit())
        top = FlowRow()
        for widget in (heading, self.which, self.all_box):
            top.addWidget(widget)
        layout.addLayout(top)
        self.list = FindingsList(verdict_icon)
        self.list.finding_chosen.connect(self.finding_chosen)
        layout.addWidget(self.list)
        layout.addWidget(self._build_detail(), 1)
        self.setAccessibleName("Margin")
        self.setMinimumWidth(210)

    @property
    def all_steps(self) -> bool:
        return self.all_box.isChecked()

    def lists(self, finding: Finding) -> bool:
        """Return whether a finding is one of those that are to be listed."""
        return WHICH[self.which.currentText()](finding)

    def _build_detail(self) -> QScrollArea:
        area = QScrollArea()
        area.setAccessibleName("The chosen finding")
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 4, 4, 4)
        column.setSpacing(6)
        self.title = _Text("heading")
        self._mark = PlainLabel()
        top = QHBoxLayout()
        top.addWidget(self._mark, 0, Qt.AlignmentFlag.AlignTop)
        top.addWidget(self.title, 1)
        self.guide_button = ToolButton()
        self.guide_button.setText("?")
        self.guide_button.setAccessibleName("This finding in the guide")
        self.guide_button.setToolTip("What the guide says of this finding: why, and what to do")
        self.guide_button.clicked.connect(self._ask_guide)
        top.addWidget(self.guide_button, 0, Qt.AlignmentFlag.AlignTop)
        column.addLayout(top)
        self.remedy = Paragraphs("Remedy")
        self.arithmetic = Paragraphs("Arithmetic")
        self.more_button = ToolButton()
        self.more_button.setCheckable(True)
        self.more_button.toggled.connect(lambda _on: self._show_arithmetic())
        self.why = _Text()
        self.before = _Text()
        self._before_heading = self._heading("Noted before")
        self._why_heading = self._heading("Why it matters")
        self.source = _Text("faded")
        self._remedy_heading, self._arithmetic_heading = self._heading("Remedy"), self._heading("Arithmetic")
        for widget in (self._remedy_heading, self.remedy):
            column.addWidget(widget)
        column.addLayout(self._build_buttons())
        self.reason = QLineEdit()
        self.reason.setPlaceholderText("Why it may stay; Enter accepts, Esc leaves it")
        self.reason.setAccessibleName("Why the finding is accepted")
        self.reason.returnPressed.connect(self._accept)
        self.reason.installEventFilter(self)
        self.reason.hide()
        column.addWidget(self.reason)
        self.accepted = _Text()
        column.addWidget(self.accepted)
        for below in (
            self._arithmetic_heading,
            self.arithmetic,
            self.more_button,
            self._why_heading,
            self.why,
            self._before_heading,
            self.before,
            self._heading("Source"),
            self.source,
        ):
            column.addWidget(below)
        column.addStretch(1)
        area.setWidget(body)
        return area

    def _build_buttons(self) -> FlowRow:
        self.apply_button = PushButton("Apply")
        self.apply_button.setToolTip("Make this change; undo takes it back")
        self.apply_button.clicked.connect(self._ask)
        self.copy_button = PushButton("Copy")
        self.copy_button.setToolTip("Copy the finding as text")
        self.copy_button.clicked.connect(self._copy)
        self.accept_button = PushButton("Accept …")
        self.accept_button.setToolTip("Live with it, and say why; it stays visible, and lapses when its number changes")
        self.accept_button.clicked.connect(self._accept_or_withdraw)
        row = FlowRow()
        for button in (self.apply_button, self.copy_button, self.accept_button):
            row.addWidget(button)
        return row

    def _ask_guide(self) -> None:
        if self._shown is not None:
            self.guide_asked.emit(self._shown)

    @staticmethod
    def _heading(text: str) -> PlainLabel:
        label = PlainLabel(text)
        label.setProperty("role", "faded")
        return label

    def set_palette(self, palette: Palette) -> None:
        """Draw in another palette."""
        self._palette_in_use = palette
        self.show_findings(self._findings, self._shown)

    _before: tuple[str, ...] = ()
    _shown: Finding | None = None
    _asked_of: tuple[str, str] = ("", "")

    def show_findings(
        self,
        findings: tuple[Finding, ...],
        chosen: Finding | None,
        named: Callable[[Finding], str] | None = None,
        before: Sequence[str] | None = None,
    ) -> None:
        """Show all findings, and one of them in full.

        ``named`` says what a finding's subject is called, ``before`` what was noted of the chosen one's subject.
        """
        self._before = self._before if before is None else tuple(before)
        self._findings, self._shown = findings, chosen
        self.list.show_findings(findings, chosen, named or self._named, self._palette_in_use)
        self._named = named or self._named
        self._show_detail(chosen)

    def _show_detail(self, finding: Finding | None) -> None:
        self._change = finding.remedy.change if finding else None
        self.title.setText(f"{finding.verdict.words.capitalize()}: {finding.title}" if finding else "No findings yet")
        size = max(12, round(self.fontInfo().pixelSize() * 1.3))
        if finding is not None:
            self._mark.setAccessibleName(finding.verdict.words)
            self._mark.setPixmap(verdict_icon(finding.verdict, self._palette_in_use, size).pixmap(size, size))
        if finding is None or (finding.id, finding.subject) != self._asked_of:
            self.more_button.setChecked(False)
        self._show_arithmetic()
        self.why.setText(why_of(finding) if finding else "")
        self.before.setText("\n".join(self._before) if finding else "")
        remedy = finding.remedy.text[:1].upper() + finding.remedy.text[1:] if finding else ""
        self.remedy.show_lines([remedy] if remedy else [])
        self.source.setText(finding.source if finding else "")
        self.apply_button.setVisible(self._change is not None)
        self.apply_button.setText((finding.remedy.button if finding is not None else "") or "Apply")
        is_condition = finding is not None and finding.id.startswith(CONDITION)
        self.guide_button.setVisible(finding is not None and not is_condition)
        lived_with = finding is not None and bool(finding.accepted)
        since = f" since {finding.accepted_on[:10]}" if finding is not None and finding.accepted_on else ""
        self.accepted.setText(f"Accepted{since}: {finding.accepted}" if finding is not None and lived_with else "")
        self.accepted.setVisible(lived_with)
        self.accept_button.setText("No longer accept" if lived_with else "Accept …")
        may_be_accepted = finding is not None and finding.is_open and not finding.assumed and not is_condition
        self.accept_button.setVisible(lived_with or may_be_accepted)
        if finding is None or (finding.id, finding.subject) != self._asked_of:
            self._asked_of = (finding.id, finding.subject) if finding is not None else ("", "")
            self.reason.hide()
        for widgets, entries in (
            ((self._remedy_heading, self.remedy), bool(self.remedy.lines)),
            ((self._arithmetic_heading, self.arithmetic), bool(self.arithmetic.lines)),
            ((self._why_heading, self.why), bool(self.why.text())),
            ((self._before_heading, self.before), bool(self.before.text())),
        ):
            for one in widgets:
                one.setVisible(entries)

    def _show_arithmetic(self) -> None:
        """Show the arithmetic of the chosen finding; of a long one its beginning, until all of it is asked for."""
        lines = self._shown.arithmetic if self._shown is not None else ()
        whole, more = self.more_button.isChecked(), len(lines) - FEW_LINES
        self.arithmetic.show_lines(lines if whole else lines[:FEW_LINES])
        self.more_button.setVisible(more > 0)
        self.more_button.setText("Show less" if whole else f"Show {counted(more, 'more line')}")

    def eventFilter(self, a0: QObject | None, a1: QEvent | None) -> bool:
        if a0 is self.reason and isinstance(a1, QKeyEvent) and a1.key() == Qt.Key.Key_Escape:
            self.reason.hide()
            self.accept_button.setFocus()
            return True
        return super().eventFilter(a0, a1)

    def _accept_or_withdraw(self) -> None:
        if self._shown is not None and self._shown.accepted:
            self.withdraw_asked.emit()
            return
        self.reason.show()
        self.reason.setFocus()

    def _accept(self) -> None:
        reason = self.reason.text().strip()
        if reason:
            self.reason.clear()
            self.reason.hide()
            self.accept_asked.emit(reason[:MAX_REASON])

    def _ask(self) -> None:
        if self._change is not None:
            self.remedy_asked.emit(self._change)

    def _copy(self) -> None:
        clipboard = QApplication.clipboard()
        if clipboard is not None and self._shown is not None:
            lines = [self.title.text(), *self._shown.arithmetic, self._shown.remedy.text, self._shown.source]
            clipboard.setText("\n".join(line for line in lines if line))

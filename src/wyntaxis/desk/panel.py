"""A titled box of a sheet, and the buttons that stand in one."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6 import sip
from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import (
    QApplication,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLayout,
    QProgressBar,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from wyntaxis.desk.background import Job
from wyntaxis.desk.plain_widgets import PlainLabel, PushButton


class Panel(QFrame):
    """A titled box of the sheet."""

    def __init__(self, title: str) -> None:
        super().__init__()
        self.setProperty("role", "panel")
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(10, 7, 10, 9)
        self.column.setSpacing(5)
        self.heading = PlainLabel(title)
        self.heading.setProperty("role", "heading")
        self.heading.setWordWrap(True)
        self.column.addWidget(self.heading)

    def add_text(self) -> PlainLabel:
        """Put a label of wrapped plain text in."""
        label = PlainLabel()
        label.setWordWrap(True)
        self.column.addWidget(label)
        return label


def push_button(text: str, tip: str, action: Callable[[], object], row: QLayout | None = None) -> QPushButton:
    """Return a button that acts, put into a row where one is given."""
    button = PushButton(text)
    button.setToolTip(tip)
    button.setAccessibleDescription(tip)
    button.clicked.connect(lambda _checked: action())
    if row is not None:
        row.addWidget(button)
    return button


class SideScroll(QScrollArea):
    """Holds a wide grid: as high as the grid, and scrolled sideways where the sheet is narrower."""

    def __init__(self, held: QWidget, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setWidgetResizable(True)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setProperty("role", "card")
        self.setWidget(held)

    def sizeHint(self) -> QSize:
        held = self.widget()
        if held is None:
            return super().sizeHint()
        hint, bar = held.minimumSizeHint(), self.horizontalScrollBar()
        narrow = hint.width() > self.width() and bar is not None
        return QSize(hint.width(), hint.height() + (bar.sizeHint().height() + 2 if narrow and bar is not None else 0))

    def minimumSizeHint(self) -> QSize:
        return QSize(80, self.sizeHint().height())

    def resizeEvent(self, a0: QResizeEvent | None) -> None:
        super().resizeEvent(a0)
        self.updateGeometry()


class GridPanel(Panel):
    """A titled box around a grid of fields that is built anew when what it shows has other rows."""

    def __init__(self, title: str) -> None:
        super().__init__(title)
        self._holder: SideScroll | None = None

    def cells_beside(self, cell_em: float) -> int:
        """Return how many cells of a width, in sizes of the text, have room beside one another."""
        return max(int((self.width() - 24) // (cell_em * self.fontInfo().pixelSize())), 1)

    def fresh_grid(self) -> QGridLayout:
        """Take the grid of before out, and return an empty one in its place."""
        if self._holder is not None:
            self.column.removeWidget(self._holder)
            self._holder.hide()
            self._holder.deleteLater()
        held = QWidget()
        held.setProperty("role", "card")
        grid = QGridLayout(held)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(6)
        grid.setVerticalSpacing(3)
        self._holder = SideScroll(held, self.heading.text())
        self.column.insertWidget(1, self._holder)
        return grid


class JobBar(QFrame):
    """The progress of a job with a button to cancel it; out of sight while nothing runs.

    The button has the keyboard while the job runs, and whoever had it gets it back: a button that is disabled under
    the focus would hand it on to the next widget, and the sheet would scroll there. Make the bar before anything else
    listens to the job.
    """

    def __init__(self, job: Job, word: str) -> None:
        super().__init__()
        self._word = word
        self._had_focus: QWidget | None = None
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        self.text = PlainLabel()
        row.addWidget(self.text)
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        row.addWidget(self.bar, 1)
        self.cancel_button = push_button("Cancel", f"Stop: {word}", job.cancel, row)
        job.progressed.connect(self._progressed)
        job.running_changed.connect(self._running)
        self.hide()

    def _running(self, running: bool) -> None:
        focus = QApplication.focusWidget()
        if running and isinstance(focus, QPushButton) and focus is not self.cancel_button:
            self._had_focus = focus
        if self._had_focus is not None and sip.isdeleted(self._had_focus):
            self._had_focus = None  # its card was built anew meanwhile
        if not running and self._had_focus is not None:
            self._had_focus.setEnabled(True)  # its sheet does so right after; the focus must have somewhere to go now
            if focus is self.cancel_button:
                self._had_focus.setFocus()
            self._had_focus = None
        self.setVisible(running)
        if running and self._had_focus is not None:
            self.cancel_button.setFocus()
        if running:
            self.text.setText(f"{self._word} …")
            self.bar.setRange(0, 0)

    def _progressed(self, done: int, of: int) -> None:
        if sip.isdeleted(self.bar):
            return  # its sheet has gone while the work goes on to its next progress call
        self.bar.setRange(0, max(of, 0))  # of nought: nobody knows how much there is
        self.bar.setValue(done)
        self.text.setText(f"{self._word}: {done} of {of}" if of > 0 else f"{self._word} …")

"""The history of the open rig: its saves and why, the rig as it was taken back as an edit, the next save's reason."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QLineEdit, QVBoxLayout, QWidget

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.history.entries import history_path
from wyntaxis.core.history.states import RigHistory, read_history
from wyntaxis.core.wording import moment
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.tables import TextTable

HEADINGS = ("date, UTC", "what was edited", "why", "on")


class HistoryPanel(QWidget):
    """A table of saves, the latest first; ``compare_asked`` carries the entry to be compared with now."""

    compare_asked = pyqtSignal(int)

    def __init__(self, session: Session, palette: Palette) -> None:
        super().__init__()
        self.session, self._palette = session, palette
        self.history = RigHistory()
        self._mark: object = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.reason = QLineEdit()
        self.reason.setPlaceholderText("Why, for the next save")
        self.reason.setAccessibleName("Why the edits since the last save were made; it goes into the history")
        self.reason.textEdited.connect(self._reason_typed)
        column.addWidget(self.reason)
        self.state = PlainLabel()
        self.state.setWordWrap(True)
        column.addWidget(self.state)
        self.table = TextTable("Saves", HEADINGS, left=(0, 1, 2, 3), stretch=1, widest_em=22)
        self.table.itemSelectionChanged.connect(self._chose)
        column.addWidget(self.table)
        row = FlowRow()
        self.compare_button = push_button("Compare with now", "What differs since the chosen save", self.compare, row)
        self.back_button = push_button(
            "Take this back", "Make the rig what it was then, as one edit that can be undone", self.take_back, row
        )
        column.addLayout(row)
        session.saved_changed.connect(self.refresh)

    def _reason_typed(self, text: str) -> None:
        self.session.next_reason = text

    @property
    def chosen(self) -> int | None:
        """The chosen entry of the history."""
        row = self.table.currentRow()
        return len(self.history.entries) - 1 - row if 0 <= row < len(self.history.entries) else None

    def _chose(self) -> None:
        for button in (self.compare_button, self.back_button):
            button.setEnabled(self.chosen is not None)

    def compare(self) -> None:
        """Ask for the differences between the chosen save and now."""
        if self.chosen is not None:
            self.compare_asked.emit(self.chosen)

    def take_back(self) -> None:
        """Make the rig what it was at the chosen save, as one edit."""
        if self.chosen is None:
            return
        entry = self.history.entries[self.chosen]
        try:
            rig = self.history.rig_at(self.chosen)
        except InputError as error:
            self.session.refused.emit(str(error))
            return
        if not self.session.take_back(rig, f"As on {entry.date[:10]}"):
            self.state.setText("The rig is just as it was then.")

    def refresh(self) -> None:
        """Read the history anew and show it."""
        if self.reason.text() != self.session.next_reason:
            self.reason.setText(self.session.next_reason)
        path = self.session.path
        mark = _mark_of(path)
        if mark == self._mark:
            return
        self._mark = mark
        text = "The history begins with the first save of this rig." if path is None else ""
        self.history = RigHistory()
        if path is not None:
            try:
                self.history = read_history(path)
            except InputError as error:
                text = str(error)
        damaged = len(self.history.damaged)
        if damaged:
            lines = f"{damaged} line{'s' if damaged > 1 else ''}"
            text = f"{lines} of the history cannot be used: {self.history.damaged[0].why}"
        elif not text and not self.history.entries:
            text = "This rig has no history yet: it begins with the next save."
        self.state.setText(text)
        self.state.setVisible(bool(text))
        rows = [[moment(e.date), e.words, e.reason or "", e.computer or ""] for e in reversed(self.history.entries)]
        self.table.show_rows(rows, palette=self._palette)
        self.table.setVisible(bool(rows))
        self._chose()

    def set_palette(self, palette: Palette) -> None:
        """Draw in another palette."""
        self._palette, self._mark = palette, None
        self.refresh()


def _mark_of(path: Path | None) -> object:
    """Return what tells whether a history has changed since it was read: its size and time."""
    if path is None:
        return "unsaved"
    try:
        info = history_path(path).stat()
    except OSError:
        return path, None
    return path, info.st_size, info.st_mtime_ns

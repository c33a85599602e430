"""The Ready sheet: the conditions of the night with their verdicts, and why."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QApplication, QHBoxLayout

from wyntaxis.core.evidence.headers.kind import HEADERS
from wyntaxis.core.evidence.ports.kind import PORTS
from wyntaxis.core.findings.conditions import OWN, ConditionVerdict, overall
from wyntaxis.core.steps import READY, Step
from wyntaxis.core.wording import counted
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.base import StepSheet, sheet_of
from wyntaxis.desk.sheets.setup_panel import SetupPanel
from wyntaxis.desk.tables import TextTable


@sheet_of(READY)
class ReadySheet(StepSheet):
    """May the night begin?"""

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette, ledger="foot")
        self._palette = palette
        self.found: Sequence[ConditionVerdict] = []
        column = self.add_wide_column()
        self.sentence = PlainLabel()
        self.sentence.setProperty("role", "heading")
        self.sentence.setWordWrap(True)
        column.addWidget(self.sentence)
        self.seen = PlainLabel()
        self.seen.setProperty("role", "faded")
        self.seen.setWordWrap(True)
        column.addWidget(self.seen)
        self.table = TextTable(
            "Conditions of the night",
            ("Condition", "Verdict", "Why, and what to do"),
            left=(0, 1, 2),
            stretch=2,
            widest_em=22,
        )
        self.table.setWordWrap(True)
        self.table.wraps = True
        self.table.itemSelectionChanged.connect(self._selected)
        column.addWidget(self.table)
        row = QHBoxLayout()
        tip = "The chosen condition of your own is so now (Space)"
        self.tick_button = push_button("Tick", tip, self.tick, row)
        push_button("Copy", "Copy the conditions as text", self.copy, row)
        self.left_out = PlainLabel()
        self.left_out.setProperty("role", "faded")
        self.left_out.setWordWrap(True)
        row.addStretch(1)
        column.addLayout(row)
        column.addWidget(self.left_out)
        self.table.installEventFilter(self)
        self.setup = SetupPanel(session)
        self.inputs.addWidget(self.setup)
        self.inputs.addStretch(1)
        self.refresh()

    def refresh(self) -> None:
        super().refresh()
        session = self.session
        headers = session.evidence.of(HEADERS)
        self.found = [e for e in session.evaluation.conditions if e.applies or e.condition.key.startswith(OWN)]
        self.sentence.setText(overall(session.evaluation.conditions) + ".")
        left_out = [entry for entry in session.evaluation.conditions if entry not in self.found]
        why = "; ".join(dict.fromkeys(entry.why for entry in left_out))
        self.left_out.setText(f"{counted(len(left_out), 'condition')} left out: {why}." if left_out else "")
        self.left_out.setVisible(bool(left_out))
        ports = "the ports were read" if session.evidence.of(PORTS) is not None else "the ports have not been read"
        frames = (
            f"{len(headers.frames)} frames' headers were read"
            if headers is not None
            else "no frames' headers have been read"
        )
        self.seen.setText(f"Besides the rig file: {ports}; {frames}. A chosen row is explained at the right.")
        rows = [[item.condition.title, item.verdict.words, item.why] for item in self.found]
        chosen = self.table.currentRow()
        self.table.blockSignals(True)
        self.table.show_rows(rows, verdicts=[entry.verdict for entry in self.found], palette=self._palette)
        self.table.setCurrentCell(chosen, 0)
        self.table.blockSignals(False)
        self.setup.refresh()
        self._show_tick()

    @property
    def own_chosen(self) -> str | None:
        """The id of the imager's own condition that is chosen; None for others."""
        row = self.table.currentRow()
        key = self.found[row].condition.key if 0 <= row < len(self.found) else ""
        return key.removeprefix(OWN) if key.startswith(OWN) else None

    def _show_tick(self) -> None:
        self.tick_button.setEnabled(self.own_chosen is not None)

    def tick(self) -> None:
        """Tick the chosen condition of the imager's own, and go to the next row."""
        own, row = self.own_chosen, self.table.currentRow()
        if own is not None:
            self.setup.tick(own)
            self.table.setCurrentCell(min(row + 1, self.table.rowCount() - 1), 0)

    def eventFilter(self, a0: QObject | None, a1: QEvent | None) -> bool:
        """Take Space in the table for a tick."""
        pressed = isinstance(a1, QKeyEvent) and a1.type() == QEvent.Type.KeyPress and a1.key() == Qt.Key.Key_Space
        if pressed and a0 is self.table:
            self.tick()
            return True
        return super().eventFilter(a0, a1)

    def _selected(self) -> None:
        row = self.table.currentRow()
        self._show_tick()
        if 0 <= row < len(self.found):
            self.session.choose_condition(self.found[row])

    def copy(self) -> None:
        """Put the conditions on the clipboard."""
        clipboard = QApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(self.sentence.text() + "\n" + self.table.as_text())

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        self._palette = palette
        self.refresh()

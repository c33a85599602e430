"""All numbers of the rig in one table: sorted by a click on a heading, narrowed by typing, step or verdict."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QApplication, QComboBox, QFileDialog, QLineEdit, QVBoxLayout, QWidget

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.places import home
from wyntaxis.core.files.saving import write_atomically
from wyntaxis.core.numbers_table import HEADINGS, NumberRow, number_rows, numbers_csv
from wyntaxis.core.quantities.rows import is_judged
from wyntaxis.core.wording import counted
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.tables import TextTable

EVERY_STEP, EVERY_VERDICT, NO_CLAIM = "all steps", "all verdicts", "no verdict"
VERDICTS = (EVERY_VERDICT, "fails", "tight", "not verified", "holds", NO_CLAIM)
WIDEST_EM = 30


class NumbersPage(QWidget):
    """The table; a double click or Enter on a row goes to its step, with its finding chosen."""

    step_asked = pyqtSignal(str)
    refused = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self._session: Session | None = None
        self._rows: list[NumberRow] = []
        self.shown: list[NumberRow] = []
        """The rows in the table, from the top."""
        self._sorted_by: tuple[int, bool] | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 8, 12, 10)
        heading = PlainLabel("All numbers")
        heading.setProperty("role", "title")
        hint = PlainLabel("A click on a heading sorts; a double click or Enter on a row goes to its step.")
        hint.setProperty("role", "faded")
        hint.setWordWrap(True)
        fields = FlowRow()
        self.words, self.step_box, self.verdict_box = QLineEdit(), QComboBox(), QComboBox()
        self.words.setPlaceholderText("device or number")
        self.words.setAccessibleName("Words that the rows shown hold")
        self.words.setClearButtonEnabled(True)
        self.words.textChanged.connect(lambda _text: self._narrow())
        self.step_box.setAccessibleName("Step whose numbers are shown")
        self.step_box.activated.connect(lambda _at: self._narrow())
        self.verdict_box.setAccessibleName("Verdict of the numbers shown")
        self.verdict_box.addItems(VERDICTS)
        self.verdict_box.activated.connect(lambda _at: self._narrow())
        for widget in (self.words, self.step_box, self.verdict_box):
            fields.addWidget(widget)
        push_button("Copy", "Copy the rows shown as text, with tabs between the columns", self.copy, fields)
        push_button("Save CSV …", "Save the rows shown as CSV", self.ask_save, fields)
        self.state = PlainLabel()
        self.state.setProperty("role", "faded")
        self.table = TextTable(
            "All numbers", ("Step", "Number", *HEADINGS[1:]), left=(0, 1, 6, 7), stretch=1, widest_em=WIDEST_EM
        )
        self.table.fills = True
        self.table.itemDoubleClicked.connect(lambda item: self._go(item.row()))
        self.table.itemActivated.connect(lambda item: self._go(item.row()))
        header = self.table.horizontalHeader()
        assert header is not None
        header.setSectionsClickable(True)
        header.sectionClicked.connect(self.sort_by)
        for part in (heading, hint):
            column.addWidget(part)
        column.addLayout(fields)
        column.addWidget(self.state)
        column.addWidget(self.table, 1)

    def show_session(self, session: Session, palette: Palette) -> None:
        """Show the numbers of a session's rig as it is now."""
        self._session, self._palette = session, palette
        self._rows = number_rows(session.evaluation.rows)
        titles = list(dict.fromkeys(row.step.title for row in self._rows))
        if [self.step_box.itemText(k) for k in range(1, self.step_box.count())] != titles:
            before = self.step_box.currentText()
            self.step_box.clear()
            self.step_box.addItems([EVERY_STEP, *titles])
            self.step_box.setCurrentIndex(max(self.step_box.findText(before), 0))
        self._narrow()

    def sort_by(self, column: int) -> None:
        """Sort by a column; a second time, the other way round."""
        turned = self._sorted_by is not None and self._sorted_by[0] == column and not self._sorted_by[1]
        self._sorted_by = (column, turned)
        self._narrow()

    def _narrow(self) -> None:
        """Show the rows that were asked for, in the order that was asked for."""
        shown = [row for row in self._rows if self._is_asked_for(row)]
        header = self.table.horizontalHeader()
        assert header is not None
        if self._sorted_by is not None:
            column, turned = self._sorted_by
            order = {row.step.key: place for place, row in enumerate(self._rows)}
            shown.sort(key=lambda row: (order[row.step.key], *row.sort_keys)[column], reverse=turned)
            way = Qt.SortOrder.DescendingOrder if turned else Qt.SortOrder.AscendingOrder
            header.setSortIndicatorShown(True)
            header.setSortIndicator(column, way)
        self.shown = shown
        verdicts = {
            (place, 7): row.quantity.verdict for place, row in enumerate(shown) if is_judged(row.quantity)
        }  # the mark stands before the word
        self.table.show_rows(
            [[row.step.title, *row.cells] for row in shown], cell_verdicts=verdicts, palette=self._palette
        )
        self.state.setText(f"{len(shown)} of {counted(len(self._rows), 'number')}.")

    def _is_asked_for(self, row: NumberRow) -> bool:
        step, verdict = self.step_box.currentText(), self.verdict_box.currentText()
        wanted = row.verdict if is_judged(row.quantity) else NO_CLAIM
        text = f"{row.step.title} {row.quantity.kind.label} {row.quantity.id}".casefold()
        return (
            step in ("", EVERY_STEP, row.step.title)
            and verdict in (EVERY_VERDICT, wanted)
            and all(word in text for word in self.words.text().casefold().split())
        )

    def _go(self, place: int) -> None:
        """Go to the step of a row."""
        if self._session is not None and 0 <= place < len(self.shown):
            row = self.shown[place]
            self.step_asked.emit(row.step.key)
            self._session.choose_finding_of(row.quantity.id)

    def copy(self) -> None:
        """Copy the rows shown."""
        clipboard = QApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(self.table.as_text())

    def ask_save(self) -> None:
        """Ask for a file, and save the rows shown."""
        chosen, _ = QFileDialog.getSaveFileName(self, "Save the numbers", str(home() / "numbers.csv"), "CSV (*.csv)")
        if chosen:
            self.save(Path(chosen))

    def save(self, path: Path) -> None:
        """Save the rows shown as CSV."""
        try:
            write_atomically(numbers_csv(self.shown).encode("utf-8"), path, keep_previous=False)
        except InputError as error:
            self.refused.emit(str(error))

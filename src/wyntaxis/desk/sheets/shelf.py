"""The Shelf sheet: the imager's parts in a table, and the search for spacers among them."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QFileDialog,
    QHBoxLayout,
    QLayout,
    QLineEdit,
    QProgressBar,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from wyntaxis.core.files.errors import Progress
from wyntaxis.core.files.places import home
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.steps import SHELF, Step
from wyntaxis.core.train.spacers import SpacerResult, find_spacers
from wyntaxis.core.wording import number, short
from wyntaxis.desk.background import Job
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.plain_widgets import PlainLabel, PushButton
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.base import StepSheet, sheet_of
from wyntaxis.desk.sheets.shelf_tables import FoundSets, ShelfModel, ShelfTable
from wyntaxis.desk.sheets.specs import shelf_specs

EXCHANGE_FILTER = "CSV (*.csv);;Shelf (*.json)"


@sheet_of(SHELF)
class ShelfSheet(StepSheet):
    """The shelf above, the search below."""

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette, ledger="foot")
        self.job = Job(self)
        self.job.done.connect(self._searched)
        self.job.failed.connect(self._no_answer)
        self.job.cancelled.connect(lambda: self._no_answer("Search cancelled."))
        self.job.running_changed.connect(lambda _running: self._show_state())
        self.add_wide(self._build_bar())
        end = "M48×0.75 female, 4.5"
        self.table = ShelfTable("Shelf", 0, ("", "000.000", "0.000", end, end, "Opening", "0000", "Owned"))
        self.model = ShelfModel(session.stock, self.table)
        self.model.refused.connect(session.refused)
        self.table.setModel(self.model)
        self.filter.textChanged.connect(self.model.refresh)
        self.table.setDragEnabled(True)
        self.table.setDragDropMode(QAbstractItemView.DragDropMode.DragOnly)
        self.table.setMinimumHeight(170)
        self.table.acted.connect(lambda _row: self.put_in())
        self.add_wide(self.table)
        self.card = self.add_card(3)
        self.card.entered.disconnect()
        self.card.entered.connect(self._card_entered)
        chosen = self.table.selectionModel()
        assert chosen is not None
        chosen.currentRowChanged.connect(lambda *_: self._show_card())
        self.add_wide(self._build_search())
        self.results = ShelfTable("Sets of spacers found", 3, ("Error0.0", "Worst case0", "P(inside)0", ""), wraps=True)
        self.found = FoundSets(self.results)
        self.results.setModel(self.found)
        self.results.setMinimumHeight(150)
        self.results.acted.connect(lambda _row: self.apply_found())
        self.add_wide(self.results)
        self._searched_rig: Rig | None = None
        session.stock.changed.connect(self._stock_changed)
        self.refresh()

    def _stock_changed(self) -> None:
        """Show the shelf as it stands, with the same row chosen."""
        row = self._row()
        self.model.refresh()
        if row is not None and self.model.rowCount():
            self.table.setCurrentIndex(self.model.index(min(row, self.model.rowCount() - 1), 0))
        self._show_card()

    def _show_card(self) -> None:
        """Show all of the chosen shelf part; the table may still list what an undo has just taken out."""
        row, known = self._row(), len(self.session.stock.shelf.parts)
        if row is None or row >= self.model.rowCount() or self.model.shelf_index(row) >= known:
            self.card.show_object("Choose a part of the shelf to see and change all of it.", (), (), None)
            return
        index = self.model.shelf_index(row)
        shelf = self.session.stock.shelf
        self.card.show_object(shelf.parts[index].part.title, ("parts", index, "part"), shelf_specs(), shelf)

    def _card_entered(self, path: DocumentPath, value: object, _label: str) -> None:
        index = int(path[1])
        if not self.session.stock.set_value(index, tuple(str(step) for step in path[3:]), value):
            self._show_card()

    def _button(self, name: str, tip: str, action: Callable[[], object], row: QLayout) -> QPushButton:
        button = PushButton(name)
        button.setToolTip(tip)
        button.clicked.connect(lambda _checked: action())
        row.addWidget(button)
        return button

    def _build_bar(self) -> QWidget:
        bar = QWidget()
        row = FlowRow(bar)
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("name, kind, thread")
        self.filter.setAccessibleName("Filter of the shelf")
        self.filter.setClearButtonEnabled(True)
        row.add_stretched(self.filter)
        self._button("Put in", "Put a copy behind the chosen part (Return)", self.put_in, row)
        self._button("Keep chosen", "Put a copy of the section's chosen part on the shelf", self.keep_chosen, row)
        self._button("Take off", "Take the part off the shelf", self.take_off, row)
        self.undo_button = self._button("Undo", "Undo the last edit of the shelf", self.session.stock.undo, row)
        self._button("Import …", "Add the parts of a CSV or shelf file", self.ask_import, row)
        self._button("Export …", "Write the shelf to a CSV or shelf file", self.ask_export, row)
        return bar

    def _build_search(self) -> QWidget:
        box = QWidget()
        column = QVBoxLayout(box)
        column.setContentsMargins(0, 4, 0, 0)
        row = QHBoxLayout()
        self.search_button = self._button(
            "Search spacers", "Find the sets that mate and bring the error inside the tolerance", self.search, row
        )
        self.cancel_button = self._button("Cancel", "Stop the search", self.cancel, row)
        self.apply_button = self._button("Put this set in", "Replace the loose spacers (Return)", self.apply_found, row)
        self.progress = QProgressBar()
        self.progress.setRange(0, 0)
        self.progress.setTextVisible(False)
        self.progress.setMaximumWidth(120)
        row.addWidget(self.progress)
        row.addStretch(1)
        column.addLayout(row)
        self.answer = PlainLabel()
        self.answer.setWordWrap(True)
        self.answer.setTextFormat(Qt.TextFormat.PlainText)
        self.answer.setText(
            "Spacers and adapters behind the corrector go back to the stock for the search; other parts stay. "
            "A part marked to keep with the next leaves no place behind it."
        )
        column.addWidget(self.answer)
        return box

    # The shelf

    def _row(self) -> int | None:
        index = self.table.currentIndex()
        return index.row() if index.isValid() else None

    def put_in(self) -> None:
        """Put a copy of the chosen shelf part into the train, behind the section's chosen part."""
        row = self._row()
        if row is None:
            self.session.refused.emit("choose a part of the shelf first")
            return
        where, index = self.session.place_after_chosen()
        self.session.put_in(self.model.entry(row).part, where, index)

    def keep_chosen(self) -> None:
        """Put a copy of the section's chosen part on the shelf."""
        if self.session.chosen is None:
            self.session.refused.emit("choose a part in the section first")
            return
        self.session.stock.add(self.session.chosen[1])

    def take_off(self) -> None:
        """Take the chosen part off the shelf."""
        row = self._row()
        if row is not None:
            self.session.stock.remove(self.model.shelf_index(row))

    def ask_import(self) -> None:
        """Ask for a file and add its parts."""
        chosen, _ = QFileDialog.getOpenFileName(self, "Import parts", str(home()), EXCHANGE_FILTER)
        if chosen:
            count = self.session.stock.import_file(Path(chosen))
            if count is not None:
                self.answer.setText(f"{count} parts imported from {chosen}")

    def ask_export(self) -> None:
        """Ask for a file and write the shelf to it."""
        start = str(home() / "shelf.csv")
        chosen, _ = QFileDialog.getSaveFileName(self, "Export the shelf", start, EXCHANGE_FILTER)
        if chosen and self.session.stock.export_file(Path(chosen)):
            self.answer.setText(f"Shelf written to {chosen}")

    # The search

    def search(self) -> None:
        """Search in the background; the answer comes with :meth:`_searched`."""
        if self.job.running:
            return
        rig, parts = self.session.rig, self.session.stock.shelf.parts
        self._searched_rig = rig

        def work(progress: Progress) -> SpacerResult:
            def stopped() -> bool:
                progress(0, 0)  # ends the work when it was cancelled
                return False

            return find_spacers(rig, parts, should_stop=stopped)

        self.job.start(work)

    @property
    def searching(self) -> bool:
        """Whether a search runs."""
        return self.job.running

    def cancel(self) -> None:
        """Stop the search that runs."""
        self.job.cancel()

    def _no_answer(self, line: str) -> None:
        self.found.show_result(None)
        self.answer.setText(line[:1].upper() + line[1:])
        self._show_state()

    def _searched(self, result: SpacerResult) -> None:
        self.found.show_result(result)
        self.results.setCurrentIndex(self.found.index(0, 0))
        fill = f"to fill: {number(result.wanted_mm, 3)} mm, error allowed ±{short(result.tolerance_mm)} mm"
        if result.sets:
            line = f"{result.outcome}; {fill}"
        else:
            nearest = "; the nearest set is shown" if result.nearest else ""
            line = f"{result.outcome}, {fill}{nearest}. To buy: {result.buy}"
        self.answer.setText(line[:1].upper() + line[1:])
        self._show_state()

    def apply_found(self) -> None:
        """Put the chosen set in, in place of what stands in its places."""
        index, result = self.results.currentIndex(), self.found.result
        if result is None or not index.isValid():
            return
        try:
            self.session.apply_spacers(result, self.found.sets[index.row()])
        except ValueError:
            self.session.refused.emit("the rig has changed since the search: search again")

    def _show_state(self) -> None:
        self.search_button.setEnabled(not self.job.running)
        self.cancel_button.setVisible(self.job.running)
        self.progress.setVisible(self.job.running)
        self.results.setVisible(bool(self.found.sets))
        self.apply_button.setVisible(bool(self.found.sets))

    def refresh(self) -> None:
        super().refresh()
        if hasattr(self, "_searched_rig"):
            self._show_card()
            self.undo_button.setEnabled(self.session.stock.can_undo)
            if self.found.result is not None and self.session.rig != self._searched_rig:
                self.found.show_result(None)
                self.answer.setText("The rig has changed since the search: search again.")
            self._show_state()

    def fit_to_font(self) -> None:
        super().fit_to_font()
        self.table.fit_to_font()
        self.results.fit_to_font()

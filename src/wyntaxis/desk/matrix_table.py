"""The matrix of quantities by records: each record's cell is edited where it stands."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QModelIndex, Qt, pyqtSignal
from PyQt6.QtWidgets import QAbstractItemView, QLineEdit, QStyledItemDelegate, QTableWidgetItem, QWidget

from wyntaxis.core.evidence.foreign.units import parse_foreign_number, parse_foreign_truth
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.records.compare import Cell, Matrix, value_text
from wyntaxis.core.records.quantities import Comparable
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.plain_widgets import tip
from wyntaxis.desk.tables import TextTable

FIRST_RECORD = 2
_WORDS = {"agrees": "agrees", "differs": "differs", "missing": "not on file", "unknown": "the rig does not say"}


class _PlainValue(QStyledItemDelegate):
    """Edits the value alone, without the story that is shown behind it."""

    def setEditorData(self, editor: QWidget | None, index: QModelIndex) -> None:
        if isinstance(editor, QLineEdit):
            editor.setText(index.data(Qt.ItemDataRole.UserRole) or "")


class MatrixTable(TextTable):
    """``entered`` carries a record's id, a quantity, and the value typed, None for an emptied cell."""

    entered = pyqtSignal(str, str, object)
    refused = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__(
            "Quantities by records", ("Quantity", "Rig"), left=tuple(range(102)), stretch=None, widest_em=22
        )
        self.setEditTriggers(
            QAbstractItemView.EditTrigger.DoubleClicked
            | QAbstractItemView.EditTrigger.EditKeyPressed
            | QAbstractItemView.EditTrigger.AnyKeyPressed
        )
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectItems)
        self._matrix: Matrix | None = None
        self.setItemDelegate(_PlainValue(self))
        self.itemChanged.connect(self._changed)

    def show_matrix(self, matrix: Matrix, palette: Palette) -> None:
        """Fill the table; a cell that differs has its mark, how much, and the likely story."""
        self.blockSignals(True)
        self._matrix = matrix
        headings = ("Quantity", "Rig", *(record.name for record in matrix.records))
        if headings != self.headings:
            self.headings = headings
            self.setColumnCount(len(headings))
            self.setHorizontalHeaderLabels(list(headings))
            self.forget_shown()
        rows, marks = [], {}
        for at, row in enumerate(matrix.rows):
            label = f"{row.item.label}, {row.item.unit}" if row.item.unit else row.item.label
            rows.append([label, row.text, *(_cell_text(cell) for cell in row.cells)])
            for column, cell in enumerate(row.cells, start=FIRST_RECORD):
                if cell.state in ("agrees", "differs"):
                    marks[at, column] = Verdict(cell.verdict)
        self.show_rows(rows, cell_verdicts=marks, palette=palette)
        for at, row in enumerate(matrix.rows):
            for column in range(len(headings)):
                item = self.item(at, column)
                if item is not None:
                    self._dress(item, row.item, row.cells[column - FIRST_RECORD] if column >= FIRST_RECORD else None)
        self.blockSignals(False)

    def _dress(self, item: QTableWidgetItem, quantity: Comparable, cell: Cell | None) -> None:
        if cell is None:
            item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsEditable)
            return
        plain = "" if cell.value is None else value_text(cell.value, quantity)
        item.setData(Qt.ItemDataRole.UserRole, plain)
        item.setToolTip(tip(f"{_WORDS[cell.state]}. {cell.story or cell.by}".strip()))

    def _changed(self, item: QTableWidgetItem) -> None:
        if self._matrix is None or item.column() < FIRST_RECORD:
            return
        row = self._matrix.rows[item.row()]
        record = self._matrix.records[item.column() - FIRST_RECORD]
        try:
            value = typed_value(item.text(), row.item)
        except ValueError as error:
            self.refused.emit(f"{row.item.label} in {record.name}: “{item.text()[:40]}” {error}")
            value = row.cells[item.column() - FIRST_RECORD].value
            value = list(value) if isinstance(value, tuple) else value
        self.entered.emit(record.id, row.item.id, value)

    def quantity_at(self, row: int) -> str | None:
        """Return the id of the quantity in a row."""
        return self._matrix.rows[row].item.id if self._matrix and 0 <= row < len(self._matrix.rows) else None


def _cell_text(cell: Cell) -> str:
    entries = cell.story or cell.by
    return f"{cell.text} ({entries})" if entries else cell.text


def typed_value(text: str, item: Comparable) -> Any:
    """Return what was typed as a value of a quantity, None for nothing; ValueError when it is none."""
    plain = text.strip()
    if not plain or plain == "–":
        return None
    if item.type == "number":
        return parse_foreign_number(plain)
    if item.type == "truth":
        return parse_foreign_truth(plain)
    if item.type == "list":
        return [part.strip() for part in plain.split(",")]
    return plain

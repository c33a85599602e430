"""The tables of the shelf: its parts, and the sets that the spacer search found."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import QAbstractTableModel, QMimeData, QModelIndex, QObject, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QTableView,
)

from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.rig.parts import Joint
from wyntaxis.core.rig.shelf import ShelfPart
from wyntaxis.core.train.joints import joint_text
from wyntaxis.core.train.spacers import SpacerResult, SpacerSet, pieces_text
from wyntaxis.core.wording import number, short, signed
from wyntaxis.desk.numbers_in import parse_number
from wyntaxis.desk.plain_widgets import tip
from wyntaxis.desk.section.section_view import SHELF_MIME
from wyntaxis.desk.stock import ShelfStock

_Text = Callable[[ShelfPart], str]


def _maybe(value: float | None) -> str:
    return "" if value is None else short(value, 4)


def _end(joint: Joint | None) -> str:
    return joint_text(joint).removesuffix(" mm") if joint is not None else "–"


_COLUMNS: tuple[tuple[str, tuple[str, ...], _Text], ...] = (
    ("Part", ("name",), lambda e: e.part.title),
    ("Length\nmm", ("length_mm",), lambda e: short(e.part.length_mm, 4)),
    ("±\nmm", ("length_tolerance_mm",), lambda e: _maybe(e.part.length_tolerance_mm)),
    ("Front\nthread, depth mm", (), lambda e: _end(e.part.front)),
    ("Rear\nthread, depth mm", (), lambda e: _end(e.part.rear)),
    ("Opening\nmm", ("clear_aperture_mm",), lambda e: _maybe(e.part.clear_aperture_mm)),
    ("Mass\ng", ("mass_g",), lambda e: _maybe(e.part.mass_g)),
    ("Owned", ("owned",), lambda e: str(e.owned)),
)


def _as_text(text: str, role: int) -> str:
    """Return a name as a cell or its tooltip shows it; as an editor takes it, it stays what it is."""
    if role == Qt.ItemDataRole.EditRole:
        return text
    return tip(text) if role == Qt.ItemDataRole.ToolTipRole else plain(text)


class ShelfModel(QAbstractTableModel):
    """The shelf's parts, as many as the filter lets through."""

    refused = pyqtSignal(str)

    def __init__(self, stock: ShelfStock, parent: QObject) -> None:
        super().__init__(parent)
        self.stock = stock
        self._filter = ""
        self._rows = self._matching()

    def _matching(self) -> list[int]:
        words = self._filter.casefold().replace("×", "x").split()
        found = []
        for index, entry in enumerate(self.stock.shelf.parts):
            ends = " ".join(end.thread + " " + end.gender for end in (entry.part.front, entry.part.rear) if end)
            text = f"{entry.part.title} {entry.part.kind} {ends}".casefold()
            if all(word in text for word in words):
                found.append(index)
        return found

    def refresh(self, words: str | None = None) -> None:
        """Show the shelf as it stands, through a filter of words."""
        self._filter = self._filter if words is None else words
        self.beginResetModel()
        self._rows = self._matching()
        self.endResetModel()

    def entry(self, row: int) -> ShelfPart:
        return self.stock.shelf.parts[self._rows[row]]

    def shelf_index(self, row: int) -> int:
        return self._rows[row]

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008 (Qt's signature)
        return 0 if parent.isValid() else len(self._rows)

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        return len(_COLUMNS)

    def headerData(
        self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole
    ) -> str | None:
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return _COLUMNS[section][0]
        return None

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole, Qt.ItemDataRole.ToolTipRole):
            found = _COLUMNS[index.column()][2](self.entry(index.row()))
            return _as_text(found, role) if isinstance(found, str) else found
        if role == Qt.ItemDataRole.TextAlignmentRole and index.column() not in (0, 3, 4):
            return int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        return None

    def flags(self, index: QModelIndex) -> Qt.ItemFlag:
        flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable | Qt.ItemFlag.ItemIsDragEnabled
        return flags | Qt.ItemFlag.ItemIsEditable if _COLUMNS[index.column()][1] else flags

    def setData(self, index: QModelIndex, value: str, role: int = Qt.ItemDataRole.EditRole) -> bool:
        title, path, text = _COLUMNS[index.column()]
        entered = str(value).strip()
        if entered == text(self.entry(index.row())):
            return False
        unit = title.partition("\n")[2]
        try:
            parsed: Any = entered or None if path == ("name",) else parse_number(entered, unit)
        except ValueError as error:
            self.refused.emit(str(error))
            return False
        if path == ("owned",) and parsed is not None and parsed == int(parsed):
            parsed = int(parsed)
        return self.stock.set_value(self._rows[index.row()], path, parsed)

    def mimeTypes(self) -> list[str]:
        return [SHELF_MIME]

    def mimeData(self, indexes: Any) -> QMimeData:
        data = QMimeData()
        rows = [index.row() for index in indexes]
        if rows:
            data.setData(SHELF_MIME, self.entry(rows[0]).part.id.encode())
        return data


class FoundSets(QAbstractTableModel):
    """The sets that a search found."""

    HEADINGS = ("Error\nmm", "Worst case\n± mm", "P(inside)\n%", "Pieces")

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self.result: SpacerResult | None = None

    def show_result(self, result: SpacerResult | None) -> None:
        self.beginResetModel()
        self.result = result
        self.endResetModel()

    @property
    def sets(self) -> tuple[SpacerSet, ...]:
        if self.result is None:
            return ()
        return self.result.sets or ((self.result.nearest,) if self.result.nearest else ())

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.sets)

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        return len(self.HEADINGS)

    def headerData(
        self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole
    ) -> str | None:
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return self.HEADINGS[section]
        return None

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        found = self.sets[index.row()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole):
            return (
                signed(found.error_mm, 3),
                number(found.worst_case_mm, 2),
                number(100 * found.probability, 1),
                _as_text(pieces_text(self.result, found), role) if self.result else "",
            )[index.column()]
        if role == Qt.ItemDataRole.TextAlignmentRole and index.column() < 3:
            return int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        return None


class ShelfTable(QTableView):
    """A table whose Return key acts on the chosen row."""

    acted = pyqtSignal(int)

    def __init__(self, name: str, stretch: int, widths: tuple[str, ...], *, wraps: bool = False) -> None:
        super().__init__()
        self._wraps = wraps
        self.setAccessibleName(name)
        self._stretch, self._widths = stretch, widths
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setAlternatingRowColors(True)
        self.setTabKeyNavigation(False)
        self.setEditTriggers(QAbstractItemView.EditTrigger.DoubleClicked | QAbstractItemView.EditTrigger.EditKeyPressed)

    def fit_to_font(self) -> None:
        """Size rows and columns to the text."""
        self.ensurePolished()
        rows, columns = self.verticalHeader(), self.horizontalHeader()
        assert rows is not None
        assert columns is not None
        rows.hide()
        rows.setDefaultSectionSize(self.fontMetrics().height() + 5)
        columns.setHighlightSections(False)
        for index, sample in enumerate(self._widths):
            columns.resizeSection(index, self.fontMetrics().horizontalAdvance(sample) + 12)
        columns.setSectionResizeMode(self._stretch, QHeaderView.ResizeMode.Stretch)
        if self._wraps:
            self.setWordWrap(True)
            rows.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)

    def keyPressEvent(self, e: QKeyEvent | None) -> None:
        if e is not None and e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.currentIndex().isValid():
            self.acted.emit(self.currentIndex().row())
        else:
            super().keyPressEvent(e)

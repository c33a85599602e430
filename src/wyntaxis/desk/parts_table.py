"""The parts of one path as a table, each number edited in its cell."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import QAbstractTableModel, QModelIndex, QObject, QRect, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QValidator
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QLineEdit,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QWidget,
)

from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.wording import short
from wyntaxis.desk.glyphs import draw_verdict
from wyntaxis.desk.numbers_in import parse_number
from wyntaxis.desk.palette import DAY, Palette
from wyntaxis.desk.plain_widgets import tip

if TYPE_CHECKING:
    from wyntaxis.core.train.section import PartShape
    from wyntaxis.desk.session import Session


@dataclass(frozen=True)
class Column:
    """A column: its heading, the part's key path it edits, and how a part's value reads."""

    title: str
    path: DocumentPath
    unit: str
    text: Callable[[PartShape], str]
    hint: str = ""


def _maybe(value: float | None) -> str:
    return "" if value is None else short(value, 4)


def _range(shape: PartShape) -> str:
    way = shape.part.adjustable
    return f"{short(way.min_mm)}…{short(way.max_mm)}" if way else ""


def _glass(key: str) -> Callable[[PartShape], str]:
    def text(shape: PartShape) -> str:
        plates = shape.part.glass
        return _maybe(getattr(plates[0], key)) + (f" +{len(plates) - 1}" if len(plates) > 1 else "") if plates else ""

    return text


COLUMNS = (
    Column("", (), "", lambda s: s.number, "item number in the section"),
    Column("Part", ("name",), "", lambda s: s.part.title, "name of the part"),
    Column("Kind", (), "", lambda s: s.part.kind.replace("_", " "), "set below the table"),
    Column("Length\nmm", ("length_mm",), "mm", lambda s: short(s.part.length_mm, 4), "optical length along the axis"),
    Column("±\nmm", ("length_tolerance_mm",), "mm", lambda s: _maybe(s.part.length_tolerance_mm), "length tolerance"),
    Column(
        "Set at\nmm",
        ("adjustable", "set_mm"),
        "mm",
        lambda s: _maybe(s.part.adjustable.set_mm) if s.part.adjustable else "",
        "where an adjustable part is set",
    ),
    Column("Range\nmm", (), "mm", _range, "range of an adjustable part; set below the table"),
    Column(
        "Glass\nmm", ("glass", 0, "thickness_mm"), "mm", _glass("thickness_mm"), "thickness of the plate in the beam"
    ),
    Column("Index\nn", ("glass", 0, "index"), "", _glass("index"), "refractive index of the plate"),
)
NUMBER, NAME = 0, 1
ADJUSTABLE_COLUMNS = (5, 6)


class PartsModel(QAbstractTableModel):
    """The parts of the train or of the guide path, straight from the session's section."""

    refused = pyqtSignal(str)

    def __init__(self, session: Session, guide: bool, parent: QObject) -> None:
        super().__init__(parent)
        self.session, self.guide = session, guide
        self._shapes = self._now()

    def _now(self) -> tuple[PartShape, ...]:
        section = self.session.section
        if not self.guide:
            return section.parts
        return section.branch.parts if section.branch else ()

    def refresh(self) -> None:
        """Tell the view what has changed: the cells, or the whole table when parts came or went."""
        before, self._shapes = self._shapes, self._now()
        if [s.part.id for s in before] != [s.part.id for s in self._shapes]:
            self.beginResetModel()
            self.endResetModel()
            return
        # Styled cells are slow to paint: only those that read differently are painted anew, told one by one, since
        # a view paints all of itself for two that are told at once.
        for row, (old, new) in enumerate(zip(before, self._shapes, strict=True)):
            if old.verdict is not new.verdict:
                self.dataChanged.emit(self.index(row, 0), self.index(row, 0))
            if (old.part is not new.part and old.part != new.part) or old.assumed != new.assumed:
                for number, column in enumerate(COLUMNS):
                    if self._reads(old, column) != self._reads(new, column):
                        self.dataChanged.emit(self.index(row, number), self.index(row, number))

    def any_adjustable(self) -> bool:
        return any(shape.part.adjustable for shape in self._shapes)

    def shape(self, row: int) -> PartShape:
        return self._shapes[row]

    def row_of(self, part_id: str | None) -> int | None:
        return next((i for i, shape in enumerate(self._shapes) if shape.part.id == part_id), None)

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008 (Qt's signature)
        return 0 if parent.isValid() else len(self._shapes)

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        return len(COLUMNS)

    def headerData(
        self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole
    ) -> str | None:
        if orientation == Qt.Orientation.Horizontal:
            if role == Qt.ItemDataRole.DisplayRole:
                return COLUMNS[section].title
            if role == Qt.ItemDataRole.ToolTipRole:
                return COLUMNS[section].hint
        return None

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        shape, column = self._shapes[index.row()], COLUMNS[index.column()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            if role == Qt.ItemDataRole.EditRole:
                return column.text(shape)
            return self._reads(shape, column)
        if role == Qt.ItemDataRole.TextAlignmentRole and index.column() > 2:
            return int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        if role == Qt.ItemDataRole.ToolTipRole:
            if self._is_assumed(shape, column.path):
                return "Assumed, not entered. Type it to confirm it, even if the value is right"
            return tip(column.text(shape)) or column.hint
        if role == Qt.ItemDataRole.AccessibleTextRole:
            return f"{column.title.replace(chr(10), ' ')} {column.text(shape)}"
        return None

    def _reads(self, shape: PartShape, column: Column) -> str:
        """Return what stands in a part's cell."""
        text = plain(column.text(shape))
        return f"{text} ?" if text and self._is_assumed(shape, column.path) else text

    @staticmethod
    def _is_assumed(shape: PartShape, path: DocumentPath) -> bool:
        return bool(path) and path[0] in shape.assumed

    def flags(self, index: QModelIndex) -> Qt.ItemFlag:
        flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        return flags | Qt.ItemFlag.ItemIsEditable if self._editable(index) else flags

    def _editable(self, index: QModelIndex) -> bool:
        shape, path = self._shapes[index.row()], COLUMNS[index.column()].path
        if path == ("length_mm",):
            return shape.part.adjustable is None
        if path[:1] == ("adjustable",):
            return shape.part.adjustable is not None
        if path[:2] == ("glass", 0) and path[-1] == "index":
            return bool(shape.part.glass)
        return bool(path)

    def setData(self, index: QModelIndex, value: str, role: int = Qt.ItemDataRole.EditRole) -> bool:
        shape, column = self._shapes[index.row()], COLUMNS[index.column()]
        text = str(value).strip()
        if text == column.text(shape) and not self._is_assumed(shape, column.path):
            return False
        label = f"Change {column.hint.split(';')[0]} of {shape.part.title}"
        if column.path == ("name",):
            return self.session.set_value((*shape.place, "name"), text or None, label)
        try:
            entered = parse_number(text, column.unit)
        except ValueError as error:
            self.refused.emit(str(error))
            return False
        if column.path[:2] == ("glass", 0):
            return self._set_glass(shape, column.path, entered, label)
        return self.session.set_value((*shape.place, *column.path), entered, label)

    def _set_glass(self, shape: PartShape, path: DocumentPath, value: float | None, label: str) -> bool:
        """Change the first plate; a thickness where there was none puts a plate in, an empty one takes it out."""
        if path[-1] == "thickness_mm" and not shape.part.glass:
            if value is None:
                return False
            plate = {"name": "filter", "thickness_mm": value, "index": DEFAULT_GLASS_INDEX}
            place = (*shape.place, "glass", 0)
            label = f"Put glass into {shape.part.title}"
            return self.session.apply(Change(label, ((place, plate),), ((*place, "index"),)))
        if path[-1] == "thickness_mm" and not value:
            return self.session.set_value((*shape.place, "glass", 0), None, f"Take glass out of {shape.part.title}")
        return self.session.set_value((*shape.place, *path), value, label)


DEFAULT_GLASS_INDEX = 1.52
"""Crown glass, of which most filters are made."""


class _NumberValidator(QValidator):
    """Keeps an editor open on Enter until its text can be read, and says why."""

    def __init__(self, parent: QObject, model: PartsModel, unit: str) -> None:
        super().__init__(parent)
        self._model, self._unit = model, unit

    def validate(self, a0: str | None, a1: int) -> tuple[QValidator.State, str, int]:
        try:
            parse_number(a0 or "", self._unit)
        except ValueError:
            return QValidator.State.Intermediate, a0 or "", a1
        return QValidator.State.Acceptable, a0 or "", a1

    def fixup(self, a0: str | None) -> str:
        try:
            parse_number(a0 or "", self._unit)
        except ValueError as error:
            self._model.refused.emit(str(error))
        return a0 or ""


class _NumberDelegate(QStyledItemDelegate):
    """Draws the worst finding's shape beside a part's number."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self.palette_in_use: Palette = DAY

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        super().paint(painter, option, index)
        model = index.model()
        if painter is None or not isinstance(model, PartsModel):
            return
        verdict = model.shape(index.row()).verdict
        if verdict is not None:
            rect: QRect = option.rect
            size = min(rect.height() - 8, 14)
            box = QRectF(rect.right() - size - 3, rect.center().y() - size / 2 + 0.5, size, size)
            colors = self.palette_in_use
            draw_verdict(painter, box, verdict, colors.verdict(verdict), colors.color("field"))


class _PartsDelegate(QStyledItemDelegate):
    """Edits numbers as people type them; it leaves the painting to Qt, which does it faster."""

    def createEditor(self, parent: QWidget | None, option: QStyleOptionViewItem, index: QModelIndex) -> QWidget | None:
        editor = super().createEditor(parent, option, index)
        model = index.model()
        if isinstance(editor, QLineEdit) and isinstance(model, PartsModel) and index.column() != NAME:
            column = COLUMNS[index.column()]
            editor.setValidator(_NumberValidator(editor, model, column.unit))
            editor.setAccessibleName(f"{column.hint} of {model.shape(index.row()).part.title} in {column.unit}")
        return editor


class PartsTable(QTableView):
    """The table of a path's parts; choosing a row chooses the part everywhere."""

    part_chosen = pyqtSignal(str)

    def __init__(self, session: Session, *, guide: bool) -> None:
        super().__init__()
        self.parts = PartsModel(session, guide, self)
        self.setModel(self.parts)
        self._numbers = _NumberDelegate(self)
        self.setItemDelegate(_PartsDelegate(self))
        self.setItemDelegateForColumn(NUMBER, self._numbers)
        self.setAccessibleName("Parts of the guide path" if guide else "Parts of the train")
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(
            QAbstractItemView.EditTrigger.DoubleClicked
            | QAbstractItemView.EditTrigger.EditKeyPressed
            | QAbstractItemView.EditTrigger.AnyKeyPressed
        )
        self.setTabKeyNavigation(False)
        self.setAlternatingRowColors(True)
        rows, columns = self.verticalHeader(), self.horizontalHeader()
        assert rows is not None
        assert columns is not None
        rows.hide()
        columns.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        columns.setSectionResizeMode(NAME, QHeaderView.ResizeMode.Stretch)
        columns.setHighlightSections(False)
        self.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        chosen = self.selectionModel()
        assert chosen is not None
        chosen.currentRowChanged.connect(self._row_chosen)
        self._following = False
        self.fit_to_font()

    def fit_to_font(self) -> None:
        """Size rows and columns to the text."""
        self.ensurePolished()
        metrics = self.fontMetrics()
        rows, columns = self.verticalHeader(), self.horizontalHeader()
        assert rows is not None
        assert columns is not None
        rows.setDefaultSectionSize(metrics.height() + 5)
        samples = ["g12 ▢▢", "", "off axis guider", "1000.00", "0.000", "00.000", "00.0…00.0", "0.00 +1", "1.520"]
        for index, sample in enumerate(samples):
            if sample:
                columns.resizeSection(index, metrics.horizontalAdvance(sample) + 10)
        columns.setMinimumSectionSize(metrics.horizontalAdvance("0000000"))
        self.updateGeometry()

    def sizeHint(self) -> QSize:
        rows, columns = self.verticalHeader(), self.horizontalHeader()
        assert rows is not None
        assert columns is not None
        count = max(1, min(self.parts.rowCount(), 9))
        return QSize(560, columns.sizeHint().height() + count * rows.defaultSectionSize() + 4)

    def minimumSizeHint(self) -> QSize:
        return QSize(20 * self.fontInfo().pixelSize(), self.sizeHint().height())

    def set_palette(self, palette: Palette) -> None:
        """Draw the verdicts in another palette."""
        self._numbers.palette_in_use = palette

    def refresh(self, chosen: str | None) -> None:
        """Show the parts as they stand, and the chosen one."""
        self._following = True
        self.parts.refresh()
        adjustable = self.parts.any_adjustable()
        for column in ADJUSTABLE_COLUMNS:
            self.setColumnHidden(column, not adjustable)
        row = self.parts.row_of(chosen)
        if row is None:
            self.clearSelection()
        elif self.currentIndex().row() != row:
            column = max(self.currentIndex().column(), NAME)
            self.setCurrentIndex(self.parts.index(row, column))
        elif not self.selectedIndexes():
            self.selectRow(row)
        self._following = False
        self.updateGeometry()

    def _row_chosen(self, now: QModelIndex, _before: QModelIndex) -> None:
        if now.isValid() and not self._following:
            self.part_chosen.emit(self.parts.shape(now.row()).part.id)

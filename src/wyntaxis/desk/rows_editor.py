"""A short list of the document as rows of fields: slots of a wheel, disks, supplies, lines of a device list."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout

from wyntaxis.core.json_values import JsonObject, JsonValue
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.display import DisplayedField
from wyntaxis.desk.card import make_field, value_at
from wyntaxis.desk.panel import GridPanel
from wyntaxis.desk.plain_widgets import PlainLabel, PushButton
from wyntaxis.desk.session import Session
from wyntaxis.desk.value_field import Field

if TYPE_CHECKING:
    from wyntaxis.core.rig.model import Rig

CELL_EM = 7.5
"""How wide a field with its heading is, in sizes of the text."""


class RowsEditor(GridPanel):
    """A titled grid: a row for each entry of a list, a column for each field, a button to add and to remove."""

    def __init__(
        self,
        session: Session,
        title: str,
        columns: Sequence[DisplayedField],
        word: str,
        fresh: Callable[[], JsonObject],
    ) -> None:
        super().__init__(title)
        self._session, self._columns, self._word, self._fresh = session, tuple(columns), word, fresh
        self._base: DocumentPath = ()
        self._count = -1
        self._beside = 0
        self.fields: list[list[Field]] = []
        row = QHBoxLayout()
        self.add_button = PushButton(f"Add {word}")
        self.add_button.setAccessibleName(f"Add {word}")
        self.add_button.clicked.connect(lambda _checked: self.add())
        row.addWidget(self.add_button)
        row.addStretch(1)
        self.column.addLayout(row)

    def show_list(self, title: str, base: DocumentPath, count: int, document: Rig) -> None:
        """Show a list of the document; fields are kept where only values have changed."""
        self.heading.setText(title)
        if (base, count) != (self._base, self._count):
            self._base, self._count = base, count
            self._build()
        for row in self.fields:
            for field in row:
                field.show_value(value_at(document, field.path))

    def _build(self) -> None:
        grid = self.fresh_grid()
        self.fields = []
        self._beside = min(self.cells_beside(CELL_EM), len(self._columns))
        if self._beside < len(self._columns):
            for index in range(self._count):
                self.fields.append(self._block(grid, index))
            return
        for at, spec in enumerate(self._columns):
            heading = PlainLabel(f"{spec.label}, {spec.unit}" if spec.unit else spec.label)
            heading.setProperty("role", "faded")
            grid.addWidget(heading, 0, at + 1)
            heading.setVisible(self._count > 0)
            grid.setColumnStretch(at + 1, 3 if spec.kind == "text" else 2)
        for index in range(self._count):
            self.fields.append(self._row(grid, index))

    def resizeEvent(self, a0: QResizeEvent | None) -> None:
        super().resizeEvent(a0)
        if self._count < 0 or min(self.cells_beside(CELL_EM), len(self._columns)) == self._beside:
            return
        if not any(field.hasFocus() for row in self.fields for field in row):
            self._build()
            self.show_list(self.heading.text(), self._base, self._count, self._session.rig)

    def _block(self, grid: QGridLayout, index: int) -> list[Field]:
        """Lay an entry out in several rows, each field under its heading: the sheet is too narrow for one row."""
        lines = -(-len(self._columns) // self._beside)
        top = index * (2 * lines + 1)
        head = QHBoxLayout()
        head.addWidget(PlainLabel(f"{self._word} {index + 1}"))
        head.addStretch(1)
        for button in self._buttons(index):
            head.addWidget(button)
        grid.addLayout(head, top, 0, 1, self._beside)
        fields: list[Field] = []
        for at, spec in enumerate(self._columns):
            row, column = top + 1 + 2 * (at // self._beside), at % self._beside
            heading = PlainLabel(f"{spec.label}, {spec.unit}" if spec.unit else spec.label)
            heading.setProperty("role", "faded")
            field = self._field(spec, index)
            heading.setBuddy(field)
            grid.addWidget(heading, row, column)
            grid.addWidget(field, row + 1, column)
            grid.setColumnStretch(column, 1)
            fields.append(field)
        return fields

    def _field(self, spec: DisplayedField, index: int) -> Field:
        field = make_field(spec, (*self._base, index), self._session.refused.emit)
        field.setAccessibleName(f"{self._word} {index + 1}: {field.accessibleName()}")
        field.entered.connect(lambda path, value, spec=spec: self._enter(path, value, spec))
        return field

    def _buttons(self, index: int) -> list[PushButton]:
        found = []
        for step, text, tip in ((-1, "↑", "Move up"), (1, "↓", "Move down"), (0, "×", "Remove")):
            button = PushButton(text)
            button.setFixedWidth(button.fontMetrics().horizontalAdvance("×××") + 8)
            button.setToolTip(f"{tip}: {self._word} {index + 1}")
            button.setAccessibleName(f"{tip}: {self._word} {index + 1}")
            button.setEnabled(0 <= index + step < self._count)
            button.clicked.connect(lambda _checked, step=step: self.act(index, step))
            found.append(button)
        return found

    def _row(self, grid: QGridLayout, index: int) -> list[Field]:
        label = PlainLabel(str(index + 1))
        label.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        grid.addWidget(label, index + 1, 0)
        fields: list[Field] = []
        for at, spec in enumerate(self._columns):
            field = self._field(spec, index)
            grid.addWidget(field, index + 1, at + 1)
            fields.append(field)
        for at, button in enumerate(self._buttons(index), start=len(self._columns) + 1):
            grid.addWidget(button, index + 1, at)
        return fields

    def _enter(self, path: DocumentPath, value: str | None, spec: DisplayedField) -> None:
        # A slot's name may be blank: an empty hole is a fact worth stating.
        if value is None and not spec.optional:
            value = ""
        self._session.set_value(path, value, f"Change {spec.label.lower()} of {self._word}")

    def _entries(self) -> list[JsonValue]:
        found = value_at(self._session.rig, self._base) or ()
        return [entry.model_dump(mode="json", exclude_unset=True) for entry in found]

    def add(self) -> None:
        """Add an entry at the end."""
        self._session.set_value((*self._base, len(self._entries())), self._fresh(), f"Add {self._word}")

    def act(self, index: int, step: int) -> None:
        entries = self._entries()
        if step == 0:
            del entries[index]
        else:
            entries[index], entries[index + step] = entries[index + step], entries[index]
        label = f"{'Move' if step else 'Remove'} {self._word}"
        self._session.set_value(self._base, entries or None, label)

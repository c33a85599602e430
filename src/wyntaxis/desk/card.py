"""A card of labelled fields bound to one object of the document: a part, the telescope, the site, a sensor."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFrame, QGridLayout, QScrollArea, QVBoxLayout, QWidget

from wyntaxis.core.files.errors import path_text
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.display import DisplayedField
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.value_field import ChoiceField, Field, TickField, TruthField, ValueField


def make_field(spec: DisplayedField, base: DocumentPath, refused: Callable[[str], object]) -> Field:
    """Return the field of a spec, bound to its place below ``base``; what cannot be read is told to ``refused``."""
    path = (*base, *spec.path)
    if spec.kind == "choice":
        return ChoiceField(path, spec.label, spec.choices, optional=spec.optional)
    if spec.kind == "truth":
        return TruthField(path, spec.label)
    if spec.kind == "tick":
        return TickField(path, spec.label)
    field = ValueField(path, spec.label, spec.unit, spec.kind)
    field.refused.connect(refused)
    return field


EDGES_PX = 44
"""What panels around a card take of the sheet's width."""
COLUMN_EM = 18
"""How many text heights one column of labels and fields takes."""


class Card(QFrame):
    """A titled grid of fields. ``entered`` carries the full path, the value, and a label for undo."""

    entered = pyqtSignal(tuple, object, str)
    refused = pyqtSignal(str)

    def __init__(self, most_columns: int) -> None:
        super().__init__()
        self.setProperty("role", "panel")
        self._most_columns = self._columns = most_columns
        self._fields: dict[DocumentPath, Field] = {}
        self._specs: tuple[DisplayedField, ...] = ()
        self._base: DocumentPath = ()
        self._width: int | None = None
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 7, 10, 9)
        layout.setSpacing(5)
        self.heading = PlainLabel()
        self.heading.setProperty("role", "heading")
        self.heading.setWordWrap(True)
        layout.addWidget(self.heading)
        self._grid_holder: QWidget | None = None

    def show_object(self, title: str, base: DocumentPath, specs: tuple[DisplayedField, ...], document: Any) -> None:
        """Show an object of the document; the fields are kept where only values have changed."""
        self.heading.setText(title)
        self.heading.setVisible(bool(title))
        if base != self._base or specs != self._specs:
            self._base, self._specs = base, specs
            self._build()
            width = self._width if self._width is not None else self._room()
            if width is not None:
                self.fit_to_width(width)
        assumed, origin = getattr(document, "assumed", ()), getattr(document, "origin", {})
        for path, field in self._fields.items():
            field.show_value(value_at(document, (*base, *path)))
            if isinstance(field, ValueField) and (assumed or origin):
                text = path_text((*base, *path))
                field.show_mark(assumed=text in assumed, origin=origin.get(text, ""))
            elif isinstance(field, ValueField):
                field.show_mark()

    def _room(self) -> int | None:
        """Return how wide the sheet is that the card stands in, somewhere within a panel; None outside of one."""
        parent = self.parentWidget()
        while parent is not None and not isinstance(parent, QScrollArea):
            parent = parent.parentWidget()
        viewport = parent.viewport() if isinstance(parent, QScrollArea) else None
        return viewport.width() - EDGES_PX if viewport is not None else None

    def fit_to_width(self, width: int) -> None:
        """Take as many columns as a width has room for, also of fields that are shown later."""
        self._width = width
        room = int(width // (COLUMN_EM * self.fontInfo().pixelSize()))
        columns = min(max(room, 1), self._most_columns)
        while columns > 1 and self._least_width(columns) > width - 20:
            columns -= 1
        if columns != self._columns:
            self._columns = columns
            if self._grid_holder is not None:
                self._place()

    def _least_width(self, columns: int) -> int:
        """Return the width in px that so many columns of labels and fields need."""
        if not self._fields:
            return 0
        for path, field in self._fields.items():  # what has not been dressed yet is smaller than it will be
            field.ensurePolished()
            self._labels[path].ensurePolished()
        rows = -(-len(self._fields) // columns)
        paths = list(self._fields)
        stacks = [paths[start : start + rows] for start in range(0, len(paths), rows)]
        return sum(
            max(self._text_width(path) for path in stack)
            + max(max(self._fields[p].minimumSizeHint().width(), self._fields[p].minimumWidth()) for p in stack)
            + 14
            for stack in stacks
        )

    def _text_width(self, path: DocumentPath) -> int:
        """Return the width of a label's text in one line; its size hint is smaller while it is wrapped."""
        label = self._labels[path]
        return label.fontMetrics().horizontalAdvance(label.text()) + 2

    def _build(self) -> None:
        if self._grid_holder is not None:
            self._grid_holder.hide()
            self._grid_holder.deleteLater()
        self._fields = {}
        holder = QWidget()
        holder.setProperty("role", "card")
        self.grid = QGridLayout(holder)
        self.grid.setContentsMargins(0, 0, 0, 0)
        self.grid.setHorizontalSpacing(7)
        self.grid.setVerticalSpacing(4)
        self._labels: dict[DocumentPath, PlainLabel] = {}
        for spec in self._specs:
            field = self._field(spec)
            label = PlainLabel(f"{spec.label}, {spec.unit}" if spec.unit else spec.label)
            label.setBuddy(field)
            self._fields[spec.path], self._labels[spec.path] = field, label
        self._place()
        layout = self.layout()
        assert layout is not None
        layout.addWidget(holder)
        self._grid_holder = holder

    def _place(self) -> None:
        """Lay the fields out column by column."""
        rows = -(-len(self._specs) // self._columns)
        for column in range(2 * self._most_columns):
            self.grid.setColumnStretch(column, column % 2 if column < 2 * self._columns else 0)
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        for index, (path, field) in enumerate(self._fields.items()):
            row, column = index % rows, 2 * (index // rows)
            label = self._labels[path]
            label.setWordWrap(self._columns == 1)
            self.grid.addWidget(label, row, column, right if self._columns > 1 else Qt.AlignmentFlag.AlignVCenter)
            self.grid.addWidget(field, row, column + 1)
        # Tab follows the reading order, which is the order of the fields.
        fields = list(self._fields.values())
        for entry, other in itertools.pairwise(fields):
            QWidget.setTabOrder(entry, other)

    def _field(self, spec: DisplayedField) -> Field:
        field = make_field(spec, self._base, self.refused.emit)
        field.entered.connect(
            lambda path, value, label=spec.label: self.entered.emit(path, value, f"Change {label.lower()}")
        )
        return field

    def field(self, *path: str | int) -> Field:
        """Return the field at a path below the card's object."""
        return self._fields[path]


def value_at(document: Any, path: DocumentPath) -> Any:
    """Return the value at a path of the document's models, None where there is none."""
    node = document
    for step in path:
        if node is None:
            return None
        if isinstance(step, int):
            node = node[step] if step < len(node) else None
        else:
            node = node.get(step) if isinstance(node, dict) else getattr(node, step, None)
    return node

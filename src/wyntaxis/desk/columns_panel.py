"""Which column of a foreign table holds what, where its headings do not tell: pointed at once, and remembered."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QWidget

from wyntaxis.core.evidence.foreign.columns import Place, TableColumn, table_headings
from wyntaxis.core.evidence.foreign.keymap import KeyMap, KeyMaps, KeyRule, load_maps, save_maps
from wyntaxis.core.evidence.foreign.units import units_for
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.foreign_text import plain
from wyntaxis.desk.panel import Panel, SideScroll, push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session


class KnownColumns:
    """The key maps that serve tables of one kind; ``name`` is what a new one is called."""

    def __init__(
        self,
        session: Session,
        columns: Mapping[str, TableColumn],
        name: str,
        headings: Callable[[Path], Sequence[str]] = table_headings,
    ) -> None:
        self.headings = headings
        folder = session.stock.folder
        self._session, self._columns, self._name = session, columns, name
        self._path = folder / "key-maps.json" if folder is not None else None

    def _maps(self) -> KeyMaps:
        return load_maps(self._path) if self._path is not None else KeyMaps()

    def rules_for(self, path: Path) -> Sequence[KeyRule]:
        """Return the rules of the first map whose columns a table has; none where its headings must tell."""
        headings = self.headings(path)
        for key_map in self._maps().maps:
            fits = key_map.form == "csv" and key_map.rules and all(rule.path in headings for rule in key_map.rules)
            if fits and any(rule.quantity in self._columns for rule in key_map.rules):
                return key_map.rules
        return ()

    def remember(self, rules: Sequence[KeyRule]) -> None:
        """Keep rules as a map for such tables."""
        if self._path is None:
            return
        try:
            names = {key_map.name for key_map in self._maps().maps}
            name, index = self._name, 2
            while name in names:
                name, index = f"{self._name} {index}", index + 1
            save_maps(self._maps().with_map(KeyMap(name=name, form="csv", rules=tuple(rules))), self._path)
        except InputError as error:
            self._session.refused.emit(str(error))


class ColumnsPanel(Panel):
    """Points a table's columns at what they hold, where their headings do not tell."""

    def __init__(
        self,
        columns: Mapping[str, TableColumn],
        needed: Sequence[str],
        point: Callable[[tuple[KeyRule, ...]], object],
        session: Session,
    ) -> None:
        super().__init__("Which column holds what")
        self._columns, self._needed, self._point, self._session = columns, needed, point, session
        holder = QWidget()
        holder.setProperty("role", "card")
        grid = QGridLayout(holder)
        grid.setContentsMargins(0, 0, 0, 0)
        self.boxes: dict[str, tuple[QComboBox, QComboBox]] = {}
        for row, (key, entries) in enumerate(columns.items()):
            column, units = QComboBox(), QComboBox()
            for choice in entries.choices or units_for(entries.unit):
                units.addItem(choice, choice)
                units.setItemData(units.count() - 1, choice or "no unit", Qt.ItemDataRole.AccessibleTextRole)
            for box, name in ((column, entries.label), (units, f"{entries.label}: unit")):
                box.setAccessibleName(name)
                box.setMinimumContentsLength(8)
            grid.addWidget(PlainLabel(entries.label), row, 0)
            grid.addWidget(column, row, 1)
            grid.addWidget(units, row, 2)
            units.setVisible(units.count() > 1)
            self.boxes[key] = (column, units)
        grid.setColumnStretch(3, 1)
        self.column.addWidget(SideScroll(holder, self.heading.text()))
        row_at = QHBoxLayout()
        push_button("Read by these columns", "Read it, and remember the columns for such tables", self.apply, row_at)
        push_button("Close", "Leave the table out", self.hide, row_at)
        row_at.addStretch(1)
        self.column.addLayout(row_at)
        self.hide()

    def show_headings(
        self,
        path: Path,
        headings: Callable[[Path], Sequence[str]] = table_headings,
        proposed: Mapping[str, Place] | None = None,
    ) -> None:
        """Offer a table's headings; ``proposed`` are those that are taken for something already."""
        try:
            found = headings(path)
        except InputError as error:
            self._session.refused.emit(str(error))
            return
        for key, (column, units) in self.boxes.items():
            column.clear()
            column.addItem("–", None)
            for heading in found:
                column.addItem(plain(heading), heading)
            place = (proposed or {}).get(key)
            if place is not None and place.index < len(found):
                column.setCurrentIndex(place.index + 1)
                units.setCurrentIndex(max(units.findData(place.unit), 0))
        self.show()

    def apply(self) -> None:
        """Read by the columns chosen."""
        rules = tuple(
            KeyRule(path=column.currentData(), quantity=key, unit=units.currentData() or None)
            for key, (column, units) in self.boxes.items()
            if column.currentData()
        )
        missing = [self._columns[key].label for key in self._needed if key not in {rule.quantity for rule in rules}]
        if missing:
            self._session.refused.emit(f"choose a column for: {', '.join(missing).lower()}")
            return
        self._point(rules)

"""Bringing a program's file in: its values by path, the quantities they hold, and the map that remembers it."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QGridLayout,
    QLineEdit,
    QWidget,
)

from wyntaxis.core.evidence.foreign.keymap import (
    LONGEST_PATH,
    KeyMap,
    KeyMaps,
    KeyRule,
    load_maps,
    save_maps,
    stable_path,
)
from wyntaxis.core.evidence.foreign.readers import ForeignFile, read_foreign
from wyntaxis.core.evidence.foreign.units import units_for
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.files.places import home
from wyntaxis.core.records.bring_in import record_of
from wyntaxis.core.records.compare import value_text
from wyntaxis.core.records.mapping import Suggestions, apply_map
from wyntaxis.core.records.quantities import Comparable, comparables
from wyntaxis.core.wording import counted
from wyntaxis.desk.background import Job
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.panel import Panel, SideScroll, push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.tables import TextTable

FILE_FILTER = (
    "Settings and frames (*.json *.toml *.yaml *.yml *.ini *.cfg *.conf *.xml *.csv *.tsv *.fit *.fits *.fts);;"
    "All files (*)"
)
MAX_LISTED = 300
SEPARATORS = (None, "comma", "semicolon", "space", "bar")


class BringInPanel(Panel):
    """Shown once a file is chosen: points its paths at our quantities, saves the map, brings the values in."""

    def __init__(self, session: Session) -> None:
        super().__init__("Bring a program's file in")
        self._session = session
        folder = session.stock.folder
        self._maps_path = folder / "key-maps.json" if folder is not None else None
        self.file: ForeignFile | None = None
        self._path: Path | None = None
        self._known: dict[str, Comparable] = {}
        self.rules: list[KeyRule] = []
        self.job = Job(self)
        self.job.done.connect(self._read)
        self.job.failed.connect(self._refused)
        self.state = self.add_text()
        self.state.setTextFormat(Qt.TextFormat.PlainText)
        self._build_paths()
        self._build_rules()
        self.hide()

    def _build_paths(self) -> None:
        row = FlowRow()
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Show only paths or values with …")
        self.filter.setAccessibleName("Filter of paths and values")
        self.filter.textChanged.connect(lambda _text: self._show_paths())
        row.addWidget(self.filter)
        self.column.addLayout(row)
        self.paths = TextTable("Values of the file", ("Path", "Value"), left=(0, 1), stretch=1)
        self.paths.itemSelectionChanged.connect(self._path_chosen)
        self.column.addWidget(self.paths)
        holder = QWidget()
        holder.setProperty("role", "card")
        grid = QGridLayout(holder)
        grid.setContentsMargins(0, 0, 0, 0)
        self.path_field = QLineEdit()
        self.quantity, self.unit, self.separator = QComboBox(), QComboBox(), QComboBox()
        for mark in SEPARATORS:
            self.separator.addItem(mark or "one value, or every * of the path", mark)
        self.quantity.currentIndexChanged.connect(lambda _index: self._quantity_chosen())
        for column, (name, widget) in enumerate(
            (
                ("Path (* means any text)", self.path_field),
                ("holds", self.quantity),
                ("in", self.unit),
                ("list parted by", self.separator),
            )
        ):
            label = PlainLabel(name)
            label.setBuddy(widget)
            widget.setAccessibleName(name)
            grid.addWidget(label, 0, column)
            grid.addWidget(widget, 1, column)
            grid.setColumnStretch(column, (4, 4, 1, 2)[column])
        for box in (self.quantity, self.unit, self.separator):
            box.setMinimumContentsLength(5)
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        grid.addWidget(push_button("Point", "Let the path hold the quantity", self.point), 1, 4)
        self.column.addWidget(SideScroll(holder, self.heading.text()))

    def _build_rules(self) -> None:
        self.found = TextTable("What the map finds", ("Path", "Quantity", "Comes in as"), left=(0, 1, 2), stretch=2)
        self.column.addWidget(self.found)
        row = FlowRow()
        push_button("Take the rule out", "Remove the chosen row from the map", self.take_out, row)
        row.addWidget(PlainLabel("Name of the program"))
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the program")
        row.add_stretched(self.name)
        self.keep_button = push_button(
            "Bring in and keep the map", "Keep the values as a record, and the map for such files", self.keep, row
        )
        push_button("Close", "Leave the file out", self.hide, row)
        self.column.addLayout(row)

    # Reading

    def ask(self) -> None:
        """Ask for a program's file."""
        chosen, _ = QFileDialog.getOpenFileName(self, "A program's file", str(home()), FILE_FILTER)
        if chosen:
            self.open(Path(chosen))

    def open(self, path: Path) -> None:
        """Read a program's file in the background, and the maps made before."""
        self._path = path
        known = comparables(self._session.evaluation)

        def work(_progress: object) -> tuple[ForeignFile, KeyMaps, list[KeyRule]]:
            file = read_foreign(path)
            return file, self._maps(), Suggestions(known).rules(file.values)

        self.job.start(work)

    def _maps(self) -> KeyMaps:
        return load_maps(self._maps_path) if self._maps_path is not None else KeyMaps()

    def _refused(self, text: str) -> None:
        self._session.refused.emit(text)

    def _read(self, result: tuple[ForeignFile, KeyMaps, list[KeyRule]]) -> None:
        file, maps, suggested = result
        self.file = file
        self._known = comparables(self._session.evaluation)
        self.quantity.blockSignals(True)
        self.quantity.clear()
        for key, item in self._known.items():
            self.quantity.addItem(plain(f"{item.label}, {item.unit}" if item.unit else item.label), key)
        self.quantity.blockSignals(False)
        self._quantity_chosen()
        chosen = maps.suiting(file)
        if chosen is not None:
            self.rules, text = list(chosen.rules), f"The map “{chosen.name}” knows such files."
        else:
            self.rules = suggested
            text = "No map knows such files yet: point paths at quantities below."
            if self.rules:
                text += f" {len(self.rules)} are suggested by their names: look at each."
        self.state.setText(f"{file.name}: {file.form.upper()}, {len(file.values)} values. {text}")
        self.name.setText(chosen.name if chosen is not None else Path(file.name).stem)
        self.filter.clear()
        self._show_paths()
        self._show_rules()
        self.show()

    # Paths and rules

    def _show_paths(self) -> None:
        if self.file is None:
            return
        word = self.filter.text().strip().casefold()
        rows = []
        for path, value in self.file.values.items():
            text = "" if value is None else f"{value:g}" if isinstance(value, float) else str(value)
            if word in path.casefold() or word in text.casefold():
                rows.append([path, text])
                if len(rows) == MAX_LISTED:
                    break
        self.paths.show_rows(rows)

    def _path_chosen(self) -> None:
        item = self.paths.item(self.paths.currentRow(), 0)
        if item is None:
            return
        path = stable_path(item.text(), self.file.values) if self.file is not None else item.text()
        self.path_field.setText(path)
        wanted = next((rule.quantity for rule in self.rules if rule.path in (path, item.text())), None)
        wanted = wanted or Suggestions(self._known).of(item.text())
        if wanted is not None:
            self.quantity.setCurrentIndex(max(self.quantity.findData(wanted), 0))

    def _quantity_chosen(self) -> None:
        item = self._known.get(self.quantity.currentData())
        self.unit.clear()
        if item is None:
            return
        for unit in units_for(item.unit):
            self.unit.addItem(unit or "–", unit)
        self.unit.setEnabled(item.type == "number" and self.unit.count() > 1)
        self.separator.setEnabled(item.type == "list")

    def point(self) -> None:
        """Add the rule that the fields above describe, in place of one for the same quantity."""
        path, quantity = self.path_field.text().strip(), self.quantity.currentData()
        if not path or quantity is None:
            self._session.refused.emit("choose a path of the file and the quantity that it holds, then press Point")
            return
        is_list = self._known[quantity].type == "list"
        rule = KeyRule(
            path=path[:LONGEST_PATH],
            quantity=quantity,
            unit=self.unit.currentData() if self._known[quantity].type == "number" else None,
            separator=self.separator.currentData() if is_list else None,
        )
        self.rules = [entry for entry in self.rules if entry.quantity != quantity] + [rule]
        self._show_rules()

    def take_out(self) -> None:
        """Take the chosen rule out of the map."""
        row = self.found.currentRow()
        if 0 <= row < len(self.rules):
            del self.rules[row]
            self._show_rules()

    def _show_rules(self) -> None:
        if self.file is None:
            return
        rows = []
        for rule in self.rules:
            result = apply_map([rule], self.file.values, self._known)
            item = self._known.get(rule.quantity)
            if item is not None and rule.quantity in result.values:
                text = f"{value_text(result.values[rule.quantity], item)} {item.unit}".rstrip()
            else:
                text = result.faults[0].removeprefix(f"{rule.path}: ") if result.faults else "–"
            rows.append([rule.path, item.label if item else rule.quantity, text])
        self.found.show_rows(rows)
        self.keep_button.setEnabled(bool(self.rules))

    def keep(self) -> None:
        """Keep the map for such files, and what it finds as a record of the rig."""
        if self.file is None or self._path is None:
            return
        name = self.name.text().strip()[:200]
        if not name:
            self._session.refused.emit("give the program a name: its record and its key map bear it")
            return
        try:
            chosen = KeyMap(name=name, form=self.file.form, rules=tuple(self.rules))  # type: ignore[arg-type]
            change, faults = record_of(self._session.evaluation, self._path, self.file, chosen)
            if self._maps_path is not None:
                save_maps(load_maps(self._maps_path).with_map(chosen), self._maps_path)
        except (InputError, ValueError) as error:
            self._session.refused.emit(str(error).splitlines()[0])
            return
        if self._session.apply(change):
            self.hide()
            if faults:
                self._session.refused.emit(f"{counted(len(faults), 'rule')} found nothing: {faults[0]}")

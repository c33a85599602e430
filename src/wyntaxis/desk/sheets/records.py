"""The Programs sheet: what programs have on file against the rig, and what frames' headers say."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox, QLineEdit

from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.findings.records import summary
from wyntaxis.core.records.bring_in import record_place
from wyntaxis.core.records.quantities import comparables
from wyntaxis.core.rig.devices import Record, RecordEntry
from wyntaxis.core.rig.display import DisplayedField, displayed_at, displayed_fields
from wyntaxis.core.steps import RECORDS, Step
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.matrix_table import FIRST_RECORD, MatrixTable, typed_value
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import Panel, push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.rows_editor import RowsEditor
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.base import StepSheet, sheet_of
from wyntaxis.desk.sheets.bring_in_panel import BringInPanel
from wyntaxis.desk.sheets.frames_panel import FramesPanel
from wyntaxis.desk.sheets.program_pages import ProgramPages

_RECORD = tuple(displayed_at(Record, key) for key in ("name", "side", "pair"))
_ENTRIES = displayed_fields(RecordEntry)


@sheet_of(RECORDS)
class RecordsSheet(StepSheet):
    """Does every program hold what the rig says?"""

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette, ledger="foot")
        self._palette = palette
        self._chosen: str | None = None
        column = self.add_wide_column()
        row = FlowRow()
        self.bring_in = BringInPanel(session)
        push_button("Import a file …", "Read a program's settings file of any form", self.bring_in.ask, row)
        push_button("Add by hand", "Add an empty record, to be typed in", self.add_record, row)
        self.remove_button = push_button("Remove", "Take the chosen record out of the rig", self.remove_record, row)
        self.which = QComboBox()
        self.which.setAccessibleName("Record chosen")
        self.which.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.which.activated.connect(lambda _index: self.choose(self.which.currentData()))
        row.addWidget(PlainLabel("Record"))
        row.addWidget(self.which)
        column.addLayout(row)
        self.state = PlainLabel()
        self.state.setWordWrap(True)
        column.addWidget(self.state)
        column.addWidget(self.bring_in)
        self.programs = ProgramPages(session, palette)
        column.addWidget(self.programs)
        self.matrix = MatrixTable()
        self.matrix.entered.connect(self._entered)
        self.matrix.refused.connect(session.refused)
        self.matrix.currentCellChanged.connect(self._cell_chosen)
        column.addWidget(self.matrix)
        self.by_hand = _ByHand(self)
        self.inputs.addWidget(self.by_hand)
        self.card = self.add_card(3)
        self.entries = RowsEditor(session, "Device list", _ENTRIES, "entry", lambda: {"name": "device"})
        self.inputs.addWidget(self.entries)
        self.frames = FramesPanel(session, palette)
        self.add_below(self.frames)
        self.refresh()

    # Records

    @property
    def chosen(self) -> int | None:
        """The place of the record whose card is shown."""
        records = self.session.rig.records
        found = next((i for i, record in enumerate(records) if record.id == self._chosen), None)
        return found if found is not None else 0 if records else None

    def choose(self, record_id: str | None) -> None:
        """Show a record's card and device list."""
        self._chosen = record_id
        self.refresh()

    def add_record(self) -> None:
        """Add an empty record."""
        names = {record.name for record in self.session.rig.records}
        name, number = "program", 2
        while name in names:
            name, number = f"program {number}", number + 1
        index, record = record_place(self.session.rig, name)
        self._chosen = record["id"]
        self.session.set_value(("records", index), record | {"name": name}, "Add a record")

    def remove_record(self) -> None:
        """Take the chosen record out."""
        at = self.chosen
        if at is not None:
            self.session.set_value(("records", at), None, f"Remove {self.session.rig.records[at].name}")

    def enter(self, record_id: str, quantity: str, value: float | None) -> None:
        """Set one value of a record, None to take it out."""
        rig = self.session.rig
        at = next(i for i, record in enumerate(rig.records) if record.id == record_id)
        label = f"Change {rig.records[at].name}"
        self.session.set_value(("records", at, "values", quantity), value, label)

    def _entered(self, record_id: str, quantity: str, value: float | None) -> None:
        before = self.session.rig
        self.enter(record_id, quantity, value)
        if self.session.rig is before:
            self.matrix.forget_shown()  # what was refused, or changed nothing, gives way to what stands
            self.refresh()

    def _cell_chosen(self, row: int, column: int, *_before: int) -> None:
        quantity = self.matrix.quantity_at(row)
        shown = self.session.evaluation.matrix.records
        if column >= FIRST_RECORD and column - FIRST_RECORD < len(shown):
            self._chosen = shown[column - FIRST_RECORD].id
            self._show_record()
        if quantity is not None:
            self.session.choose_finding_of(quantity)

    # Showing

    def refresh(self) -> None:
        super().refresh()
        rig, evaluation = self.session.rig, self.session.evaluation
        if not rig.records:
            self.state.setText(
                "No records yet. Import what each program has on file, or enter it: focal length, pixel size, gain, "
                "offset, filter names, ports, drivers. Each value is then compared with the rig."
            )
        else:
            self.state.setText(
                f"{summary(evaluation.matrix)}. Edit a value in its cell; in brackets: what may explain the difference."
            )
        self.matrix.setVisible(bool(evaluation.matrix.rows))
        self.matrix.show_matrix(evaluation.matrix, self._palette)
        names = [(self._which_text(record), record.id) for record in rig.records]
        if names != [(self.which.itemText(i), self.which.itemData(i)) for i in range(self.which.count())]:
            self.which.clear()
            for name, record_id in names:
                self.which.addItem(plain(name), record_id)
        self.which.setEnabled(bool(names))
        self.remove_button.setEnabled(bool(names))
        self.by_hand.refresh()
        self.programs.refresh()
        self._show_record()
        self.frames.refresh()

    def _specs(self) -> tuple[DisplayedField, ...]:
        document = self.session.document
        trains = (document.name, *(variant.name for variant in document.variants))
        if len(trains) < 2:
            return _RECORD
        return (*_RECORD, displayed_at(Record, "variant").with_choices(trains))

    def _which_text(self, record: Record) -> str:
        elsewhere = record not in self.session.rig.own_records
        return f"{record.name} (for {record.variant})" if elsewhere else record.name

    def _show_record(self) -> None:
        at, rig = self.chosen, self.session.rig
        for widget in (self.card, self.entries, self.by_hand):
            widget.setVisible(at is not None)
        if at is None:
            return
        record = rig.records[at]
        self.which.setCurrentIndex(at)
        source = record.evidence
        text = f", from {source.file} of {source.date}" if source is not None and source.file and source.date else ""
        self.card.show_object(f"Record: {record.name}{text}", ("records", at), self._specs(), rig)
        name = f"Device list of {record.name}"
        self.entries.show_list(name, ("records", at, "entries"), len(record.entries), rig)

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        self._palette = self.frames.palette_in_use = palette
        self.programs.set_palette(palette)
        self.refresh()


class _ByHand(Panel):
    """Types one value into the chosen record."""

    def __init__(self, sheet: RecordsSheet) -> None:
        super().__init__("Enter a value")
        self._sheet = sheet
        self._known = comparables(sheet.session.evaluation)
        row = FlowRow()
        self.quantity = QComboBox()
        self.quantity.setAccessibleName("Quantity to type")
        self.quantity.setMinimumContentsLength(16)
        self.quantity.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        row.add_stretched(self.quantity)
        self.value = QLineEdit()
        self.value.setAccessibleName("Value typed")
        self.value.setPlaceholderText("value")
        self.value.setToolTip("In the unit named; of several names, with commas between them")
        self.value.returnPressed.connect(self.enter)
        row.add_stretched(self.value)
        push_button("Enter", "Put the value into the chosen record", self.enter, row)
        self.column.addLayout(row)

    def refresh(self) -> None:
        """List the quantities that the rig knows now."""
        self._known = comparables(self._sheet.session.evaluation)
        keys = list(self._known)
        if keys != [self.quantity.itemData(i) for i in range(self.quantity.count())]:
            self.quantity.clear()
            for key, item in self._known.items():
                self.quantity.addItem(plain(f"{item.label}, {item.unit}" if item.unit else item.label), key)

    def enter(self) -> None:
        """Put the value into the chosen record."""
        at, key = self._sheet.chosen, self.quantity.currentData()
        if at is None or key is None:
            return
        try:
            value = typed_value(self.value.text(), self._known[key])
        except ValueError as error:
            self._sheet.session.refused.emit(f"“{self.value.text()[:40]}” {error}: {self._known[key].label}")
            return
        if value is not None:
            self._sheet.enter(self._sheet.session.rig.records[at].id, key, value)
            self.value.clear()

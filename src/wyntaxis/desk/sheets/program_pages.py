"""The programs of the rig: roles, devices and needs of each, and the page of what to type into it."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QCheckBox, QComboBox, QWidget

from wyntaxis.core.dossier.typing_pages import TypedLine, TypingPage, typed_change, typing_pages
from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.json_values import JsonValue
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.records.compare import WORD_VERDICTS
from wyntaxis.core.records.reach import Reached, reach
from wyntaxis.core.records.start_order import start_order
from wyntaxis.core.rig.display import displayed_fields
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.programs import Program
from wyntaxis.core.wording import counted
from wyntaxis.desk.background import Job
from wyntaxis.desk.card import Card
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import JobBar, Panel, push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.own_settings import OwnSettingsEditor
from wyntaxis.desk.tables import TextTable

HEADINGS = ("what", "type this", "unit", "it holds", "how it stands")
STANDS: dict[str, str] = {"agrees": "", "differs": "differs", "missing": "to type", "unknown": "not known"}
ROLES: dict[str, str] = {
    "capture": "capture",
    "guiding": "guiding",
    "plate_solving": "plate solving",
    "focusing": "focusing",
    "device_server": "device server",
    "automation": "automation",
    "planetarium": "planetarium",
    "polar_alignment": "polar alignment",
    "weather": "weather",
}
_FIELDS = ("name", "version", "computer", "host", "port", "layer", "note")


class ProgramPages(Panel):
    """Programs, and for the chosen one the page that is typed into it."""

    def __init__(self, session: Session, palette: Palette) -> None:
        super().__init__("Programs of the rig")
        self._session, self._palette = session, palette
        self._chosen: str | None = None
        self.state = self.add_text()
        row = FlowRow()
        push_button("New program", "Add a program; tick its roles below", self.add_program, row)
        self.remove_button = push_button("Remove", "Take the program out of the rig", self.remove_program, row)
        tip = "Try a TCP connection to each stated host and port, over the network; nothing is sent"
        self.reach_button = push_button("Try hosts and ports", tip, self.try_hosts, row)
        self.which = QComboBox()
        self.which.setAccessibleName("Program chosen")
        self.which.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.which.activated.connect(lambda _index: self.choose(self.which.currentData()))
        row.addWidget(self.which)
        self.column.addLayout(row)
        self.job = Job(self)
        self.job.done.connect(self._tried)
        self.job.failed.connect(session.refused)
        self.column.addWidget(JobBar(self.job, "Trying hosts and ports"))
        self.reached = self.add_text()
        self.reached.hide()
        self.card = Card(3)
        self.card.entered.connect(session.set_value)
        self.card.refused.connect(session.refused)
        self.column.addWidget(self.card)
        self.roles = _Ticks("Roles", self._tick_role)
        self.drives = _Ticks("Drives", self._tick_device)
        self.needs = _Ticks("Needs, before it starts", self._tick_need)
        for ticks in (self.roles, self.drives, self.needs):
            self.column.addWidget(ticks)
        self.own = OwnSettingsEditor(session)
        self.column.addWidget(self.own)
        self.table = TextTable("What to type into the program", HEADINGS, left=(0, 2, 4), stretch=4, widest_em=20)
        self.table.installEventFilter(self)
        self.column.addWidget(self.table)
        row = FlowRow()
        self.typed_button = push_button("Typed", "The chosen line was typed into the program (Space)", self.typed, row)
        self.all_button = push_button("All typed", "The whole page was typed into the program", self.all_typed, row)
        self.column.addLayout(row)
        self.refresh()

    # Choosing

    @property
    def place(self) -> int | None:
        """The place of the chosen program in the rig; None without one."""
        programs = self._session.rig.programs
        found = next((k for k, program in enumerate(programs) if program.id == self._chosen), None)
        return found if found is not None else 0 if programs else None

    @property
    def page(self) -> TypingPage | None:
        """The chosen program's page."""
        place = self.place
        if place is None:
            return None
        chosen = self._session.rig.programs[place].id
        return next(page for page in typing_pages(self._session.evaluation) if page.id == chosen)

    def choose(self, program_id: str | None) -> None:
        """Show a program."""
        self._chosen = program_id
        self.refresh()

    # Editing

    def add_program(self) -> None:
        """Add a program that takes frames, to be described."""
        programs = self._session.rig.programs
        taken = {program.id for program in programs}
        number = next(n for n in range(1, 99) if f"program-{n}" not in taken)
        entry: dict[str, JsonValue] = {"id": f"program-{number}", "name": f"Program {number}", "roles": ["capture"]}
        self._chosen = f"program-{number}"
        self._session.set_value(("programs", len(programs)), entry, "Add a program")
        self.card.field("name").setFocus()

    def remove_program(self) -> None:
        """Take the chosen program out; its record stays, and no other program needs it any more."""
        place, rig = self.place, self._session.rig
        if place is None:
            return
        gone = rig.programs[place]
        left = [
            program.model_copy(update={"needs": tuple(need for need in program.needs if need != gone.id)})
            for program in rig.programs
            if program is not gone
        ]
        changes: list[tuple[tuple[str | int, ...], JsonValue]] = [
            (("records", k, "program"), None) for k, record in enumerate(rig.records) if record.program == gone.id
        ]
        changes.append((("programs",), [own.model_dump(mode="json", exclude_unset=True) for own in left] or None))
        self._session.apply(Change(f"Remove {gone.name}", tuple(changes)))

    def _set(self, key: str, values: Sequence[str], label: str) -> None:
        if self.place is not None:
            self._session.set_value(("programs", self.place, key), list(values) or None, label)

    def _tick(self, key: str, entries: Sequence[str], held: Sequence[str], name: str, *, on: bool) -> None:
        """Put one of some entries in or out, in their own order."""
        wanted = (set(held) | {name}) if on else (set(held) - {name})
        self._set(key, [entry for entry in entries if entry in wanted], f"Change what the program {key}")

    def _tick_role(self, name: str, *, on: bool) -> None:
        self._tick("roles", list(ROLES), self._held().roles, name, on=on)

    def _tick_device(self, name: str, *, on: bool) -> None:
        self._tick("drives", [device.id for device in self._session.rig.devices], self._held().drives, name, on=on)

    def _tick_need(self, name: str, *, on: bool) -> None:
        self._tick("needs", [program.id for program in self._session.rig.programs], self._held().needs, name, on=on)

    def _held(self) -> Program:
        place = self.place
        assert place is not None
        return self._session.rig.programs[place]

    # Reaching

    def try_hosts(self) -> None:
        """Try each program's host and port, in the background."""
        programs = self._session.rig.programs
        self.job.start(lambda progress: reach(programs, progress=progress))

    def _tried(self, found: Sequence[Reached]) -> None:
        lines = []
        for own in found:
            where = f"{own.program.host or '–'}:{own.program.port or '–'}"
            how = own.why if own.seconds is None else f"answers after {1000 * own.seconds:.0f} ms"
            lines.append(f"{own.program.name}, {where}: {how}")
        self.reached.setText("\n".join(plain(line) for line in lines))
        self.reached.setVisible(bool(lines))

    # Typing

    def typed(self) -> None:
        """Note that the chosen line was typed, and go to the next."""
        page, row = self.page, self.table.currentRow()
        if page is not None and 0 <= row < len(page.lines):
            self._session.apply(typed_change(self._session.evaluation, page, [page.lines[row].quantity]))
            self.table.setCurrentCell(min(row + 1, self.table.rowCount() - 1), 0)

    def all_typed(self) -> None:
        """Note that the whole page was typed."""
        page = self.page
        if page is not None and page.lines:
            self._session.apply(typed_change(self._session.evaluation, page, [line.quantity for line in page.lines]))

    def eventFilter(self, a0: QObject | None, a1: QEvent | None) -> bool:
        """Take Space in the table for typed."""
        pressed = isinstance(a1, QKeyEvent) and a1.type() == QEvent.Type.KeyPress and a1.key() == Qt.Key.Key_Space
        if a0 is self.table and pressed:
            self.typed()
            return True
        return super().eventFilter(a0, a1)

    # Showing

    def set_palette(self, palette: Palette) -> None:
        """Draw in another palette, with the next :meth:`refresh`."""
        self._palette = palette

    def refresh(self) -> None:
        """Show the programs as they are now."""
        programs, place = self._session.rig.programs, self.place
        self.state.setText(_state(programs))
        names = [(program.name, program.id) for program in programs]
        if names != [(self.which.itemText(i), self.which.itemData(i)) for i in range(self.which.count())]:
            self.which.clear()
            for name, program_id in names:
                self.which.addItem(plain(name), program_id)
        shown = (self.which, self.remove_button, self.card, self.roles, self.drives, self.needs, self.own, self.table)
        for widget in (*shown, self.typed_button, self.all_button, self.reach_button):
            widget.setVisible(place is not None)
        self.reach_button.setEnabled(any(own.host is not None and own.port is not None for own in programs))
        if place is None:
            return
        program = programs[place]
        self.which.setCurrentIndex(place)
        fields = tuple(field for field in displayed_fields(Program, program) if field.path[0] in _FIELDS)
        self.card.show_object(f"Program: {program.name}", ("programs", place), fields, self._session.rig)
        self.roles.show_ticks([(role, words, role in program.roles) for role, words in ROLES.items()])
        self.drives.show_ticks([(d.id, d.title, d.id in program.drives) for d in self._session.rig.devices])
        others = [own for own in programs if own.id != program.id]
        self.needs.show_ticks([(own.id, own.name, own.id in program.needs) for own in others])
        self.own.show_settings(program.name, ("programs", place), program.own_settings)
        self._show_page()

    def _show_page(self) -> None:
        page, row = self.page, self.table.currentRow()
        lines = page.lines if page is not None else ()
        record = page.record if page is not None else None
        rows = [_row(line, record.typed.get(line.quantity, "") if record else "") for line in lines]
        self.table.blockSignals(True)
        self.table.show_rows(rows, verdicts=[_verdict(line) for line in lines], palette=self._palette)
        if 0 <= row < len(rows):
            self.table.setCurrentCell(row, 0)
        self.table.blockSignals(False)
        self.table.setVisible(bool(rows))


class _Ticks(QWidget):
    """A row of check boxes with a name before them."""

    def __init__(self, title: str, ticked: Callable[..., None]) -> None:
        super().__init__()
        self._title, self._ticked = title, ticked
        self._boxes: dict[str, QCheckBox] = {}
        self._row = FlowRow()
        self._row.addWidget(PlainLabel(f"{title}:"))
        self.setLayout(self._row)

    def show_ticks(self, entries: Sequence[tuple[str, str, bool]]) -> None:
        """Show entries by id, name, and whether they are ticked."""
        if [key for key, _, _ in entries] != list(self._boxes):
            for box in self._boxes.values():
                self._row.removeWidget(box)
                box.deleteLater()
            self._boxes = {key: self._box(key, plain(name)) for key, name, _ in entries}
        for key, name, ticked in entries:
            box = self._boxes[key]
            box.setText(plain(name))
            box.setAccessibleName(f"{self._title}: {name}")
            box.blockSignals(True)
            box.setChecked(ticked)
            box.blockSignals(False)
        self.setVisible(bool(entries))

    def _box(self, key: str, name: str) -> QCheckBox:
        box = QCheckBox(name)
        box.toggled.connect(lambda on, own=key: self._ticked(own, on=on))
        self._row.addWidget(box)
        return box

    def box(self, key: str) -> QCheckBox:
        """Return the check box of an entry."""
        return self._boxes[key]


def _state(programs: Sequence[Program]) -> str:
    if not programs:
        return (
            "No programs yet. A new program’s page lists what its roles need, each value in the unit and form that it "
            "is typed in; the records below are what files and hands say that programs hold."
        )
    order = start_order(programs)
    if order.circle:
        return f"Programs wait for each other: {', '.join(program.name for program in order.circle)}."
    return f"{counted(len(programs), 'program')}, started in this order: {', '.join(p.name for p in order.order)}."


def _row(line: TypedLine, typed: str) -> list[str]:
    stands = [STANDS[line.mark], f"typed {typed}" if typed else "", line.note]
    return [line.label, line.type_this, line.unit, line.there_now, "; ".join(word for word in stands if word)]


def _verdict(line: TypedLine) -> Verdict:
    return WORD_VERDICTS[line.mark]

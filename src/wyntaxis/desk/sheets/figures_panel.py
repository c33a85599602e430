"""Makers' figures that differ: who gives which figure for a value, which is taken, and why."""

from __future__ import annotations

from collections.abc import Callable

from pydantic import BaseModel
from PyQt6.QtWidgets import QComboBox, QLineEdit, QVBoxLayout, QWidget

from wyntaxis.core.files.errors import InputError, path_text
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.rig import figures
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.marks import leaves, marked_field, value_at
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.wording import short
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.numbers_in import parse_number
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.tables import TextTable

ABOUT = (
    "A value may have figures from several makers: enter which one is used and why. Rows that depend on it show the "
    "others."
)
VARIANT = "A variant is shown: choose the rig's own train to note figures for its values."
HEADINGS = ("value", "taken", "other figure", "unit", "who gives it", "why the taken one")


def stated_numbers(rig: Rig) -> list[str]:
    """Return the paths of every number that is stated of telescope, parts and settings, in the file's order."""
    places: list[tuple[DocumentPath, BaseModel]] = [(("telescope",), rig.telescope), *rig.parts()]
    found = []
    for path, thing in places:
        found += _numbers_of(thing.model_dump(mode="json", exclude_unset=True), path)
    for place, device in enumerate(rig.devices):
        for key, setting in device.settings.items():
            if isinstance(setting.value, int | float) and not isinstance(setting.value, bool):
                found.append(path_text(("devices", place, "settings", key, "value")))
    return found


def _numbers_of(plain: JsonObject, path: DocumentPath) -> list[str]:
    entries = []
    for leaf in leaves(plain, path):
        value = value_at(plain, leaf[len(path) :])
        if isinstance(value, int | float) and not isinstance(value, bool):
            entries.append(path_text(leaf))
    return entries


class FiguresPanel(QWidget):
    """A table of other figures, and a line to note one more."""

    def __init__(self, session: Session, palette: Palette) -> None:
        super().__init__()
        self.session, self._palette = session, palette
        self._entries: list[tuple[str, int]] = []
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        row = FlowRow()
        self.value = QComboBox()
        self.value.setAccessibleName("The value that somebody gives otherwise")
        row.addWidget(self.value)
        self.figure, self.source, self.reason = QLineEdit(), QLineEdit(), QLineEdit()
        for edit_line, words in (
            (self.figure, "Other figure"), (self.source, "Who gives it"), (self.reason, "Why the taken one is taken"),
        ):  # fmt: skip
            edit_line.setPlaceholderText(words)
            edit_line.setAccessibleName(words)
            row.addWidget(edit_line)
        push_button("Note it", "Note what somebody else gives for the chosen value", self.note, row)
        push_button("Say why", "Note who gives the taken figure, and why it is taken", self.say_why, row)
        column.addLayout(row)
        self.state = PlainLabel(
            "A value may have figures from several makers: enter which one is used and why. Its rows show the spread."
        )
        self.state.setWordWrap(True)
        self.state.setProperty("role", "faded")
        column.addWidget(self.state)
        self.table = TextTable("Makers' figures that differ", HEADINGS, left=(0, 3, 4, 5), stretch=5, widest_em=20)
        self.table.itemSelectionChanged.connect(self._chose)
        column.addWidget(self.table)
        row = FlowRow()
        self.take_button = push_button(
            "Take this figure", "Take the chosen figure, with the reason typed above", self.take, row
        )
        self.drop_button = push_button("Forget it", "Forget the chosen figure", self.drop, row)
        column.addLayout(row)
        self.paths: list[str] = []

    @property
    def path(self) -> str | None:
        """The chosen value's path."""
        place = self.value.currentIndex()
        return self.paths[place] if 0 <= place < len(self.paths) else None

    @property
    def chosen(self) -> tuple[str, int] | None:
        """The chosen figure: its value's path, and its place among the others."""
        row = self.table.currentRow()
        return self._entries[row] if 0 <= row < len(self._entries) else None

    def _chose(self) -> None:
        for button in (self.take_button, self.drop_button):
            button.setEnabled(self.chosen is not None)
        if self.chosen is not None and self.chosen[0] in self.paths:
            self.value.setCurrentIndex(self.paths.index(self.chosen[0]))

    def _apply(self, make: Callable[[], Change]) -> bool:
        try:
            done = self.session.apply(make())
        except (InputError, ValueError) as error:
            self.session.refused.emit(str(error))
            return False
        return done

    def note(self) -> None:
        """Note another figure for the chosen value."""
        path, rig = self.path, self.session.document
        if path is None:
            return

        def make() -> Change:
            value = parse_number(self.figure.text(), marked_field(rig, path).unit)
            if value is None:
                raise InputError("type the other figure first")
            return figures.add_figure(rig, path, value, self.source.text())

        if self._apply(make):
            self.figure.clear()
            self.source.clear()

    def say_why(self) -> None:
        """Note who gives the taken figure, and why it is taken."""
        path = self.path
        if path is not None and self._apply(
            lambda: figures.give_reason(self.session.document, path, self.source.text(), self.reason.text())
        ):
            self.source.clear()
            self.reason.clear()

    def take(self) -> None:
        """Take the chosen figure, with the reason typed."""
        chosen = self.chosen
        if chosen is not None and self._apply(
            lambda: figures.choose_figure(self.session.document, *chosen, self.reason.text())
        ):
            self.reason.clear()

    def drop(self) -> None:
        """Forget the chosen figure."""
        chosen = self.chosen
        if chosen is not None:
            self._apply(lambda: figures.drop_figure(self.session.document, *chosen))

    def refresh(self) -> None:
        """Show the rig's figures."""
        rig = self.session.document
        is_own = self.session.variant is None
        self.state.setText(ABOUT if is_own else VARIANT)
        self.setEnabled(is_own)
        paths = stated_numbers(rig)
        if paths != self.paths:
            kept = self.path
            self.paths = paths
            self.value.blockSignals(True)
            self.value.clear()
            self.value.addItems([marked_field(rig, path).title for path in paths])
            self.value.setCurrentIndex(paths.index(kept) if kept in paths else 0)
            self.value.blockSignals(False)
        rows, self._entries = [], []
        for path, entries in rig.sources.items():
            field = marked_field(rig, path)
            taken = short(float(field.value)) if isinstance(field.value, int | float) else str(field.value)
            why = "; ".join(text for text in (entries.reason, entries.source) if text)
            for place, other in enumerate(entries.others):
                rows.append([field.title, taken, short(other.value), field.unit, other.source, why])
                self._entries.append((path, place))
        self.table.show_rows(rows, palette=self._palette)
        self.table.setVisible(bool(rows))
        self._chose()

    def set_palette(self, palette: Palette) -> None:
        """Draw in another palette."""
        self._palette = palette
        self.refresh()

"""A sheet on one kind of evidence: files are read in the background, told in tables, held by the session and kept.

A kind's sheet is a subclass that declares how it is measured and what its buttons say; what it adds are plots, panels
and what is done with a chosen row.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar, TypeVar

from PyQt6.QtWidgets import QFileDialog, QPushButton, QVBoxLayout, QWidget

from wyntaxis.core.evidence.headers.headers import UnusedFile
from wyntaxis.core.evidence.reporting import Column, Table
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.places import home
from wyntaxis.core.files.saving import write_atomically
from wyntaxis.core.steps import Step
from wyntaxis.desk.collapsible_section import CollapsibleSection
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import JobBar, Panel, push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.settings_grid import SettingsGrid
from wyntaxis.desk.sheets.reading_sheet import ReadingSheet
from wyntaxis.desk.step_pictures import P, StepPicture, StepPictures
from wyntaxis.desk.tables import TextTable

if TYPE_CHECKING:
    from wyntaxis.desk.drawing_area import DrawingArea

R = TypeVar("R")
WIDEST_EM = 24


class EvidenceSheet(ReadingSheet[R]):
    """A step that is measured from files, with its tables, plots and panels."""

    settings: ClassVar[tuple[str, str] | None] = None
    """The step whose settings of the holder stand below, and their title."""
    shown_tables: ClassVar[tuple[str, ...] | None] = None
    """The tables shown, by key; all where left out."""

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette)
        self.sections: list[CollapsibleSection] = []
        self.pictures = StepPictures(step.title)
        self.tables: dict[str, TextTable] = {}
        self._labels: dict[str, PlainLabel] = {}
        self.build_above()
        self._build_top()
        self.job.running_changed.connect(lambda _on: self.refresh())
        if self.columns is not None:
            self.add_wide(self.columns)
        self.build()
        self.settings_grid: SettingsGrid | None = None
        if self.settings is not None:
            self.settings_grid = SettingsGrid(session, palette, *self.settings)
            self.inputs.addWidget(self.settings_grid)
            self.inputs.addStretch(1)
        self.refresh()

    # What a kind adds

    def build_above(self) -> None:
        """Put widgets above the buttons."""

    def build(self) -> None:
        """Put plots and panels below the tables."""

    def add_buttons(self, row: FlowRow) -> None:
        """Put buttons of its own into the row."""

    def add_fields(self, column: QVBoxLayout) -> None:
        """Put fields below the row of buttons."""

    def pictures_of(self, result: R | None) -> Iterable[StepPicture[Any]]:
        """Return the pictures that show something of a result."""
        return () if result is None else self.pictures.all

    def counts(self, result: R) -> str:
        """Return in a sentence how much was read."""
        return ""

    def can_keep(self, result: R) -> bool:
        """Return whether a result may hold something to keep."""
        return True

    def lines(self, result: R) -> Iterable[str]:
        """Return the sentences below the tables."""
        return self.measuring.report.lines(result)

    def show_result(self, result: R | None) -> None:
        """Bring what the kind added up to date."""

    def chose(self) -> None:
        """Follow the row that was chosen."""
        self.pictures.refresh()
        for section in self.sections:
            section.refresh()

    # What all share

    def use_drawing(self, drawing: DrawingArea) -> None:
        drawing.show_pictures(self.step, self.pictures)

    def after_reading(self, found: R) -> None:
        first = next(iter(self.pictures_of(found)), None)
        if first is not None:
            first.open()
        for section in self.sections:
            section.open()

    @property
    def shown_result(self) -> R | None:
        """The result as it is shown: a kind may tell it by the rig as it is now."""
        return self.result

    @property
    def table(self) -> TextTable:
        """The first table."""
        return next(iter(self.tables.values()))

    def add_picture(
        self, title: str, make: Callable[[], P], draw: Callable[[P], None], above: Sequence[QWidget] = ()
    ) -> StepPicture[P]:
        """Put a picture in the drawing area; it is made when it is first looked at."""
        return self.pictures.add(StepPicture(title, make, draw, self.session.refused, above))

    def add_section(self, section: CollapsibleSection) -> None:
        """Put a section in below the tables."""
        self.sections.append(section)
        self.add_wide(section)

    def _build_top(self) -> None:
        column, row, texts = self.add_wide_column(), FlowRow(), self.texts
        self.reading_buttons: dict[str, QPushButton] = {}
        for key, tip, label, action in (
            ("folder", texts.folder, "Add a folder …" if self.adds else "Read a folder …", self.ask_folder),
            ("files", texts.files, "Add files …" if self.adds else "Read files …", self.ask),
            ("simulate", texts.simulate, "Load simulated data", self.add_simulated),
        ):
            if tip:
                self.reading_buttons[key] = push_button(label, tip, action, row)
        self._needing = []
        if texts.take_out:
            self._needing.append(push_button("Take out", texts.take_out, self.take_out, row))
        self.add_buttons(row)
        self.keep_button = push_button("Keep as measured", texts.keep, self.keep, row)
        self._needing.append(push_button("Save CSV …", "Save the first table as CSV", self.ask_save, row))
        self.answer = PlainLabel()
        self.answer.setWordWrap(True)
        self.answer.setProperty("role", "answer")
        self.answer.setAccessibleName(f"Answer: {self.step.title}")
        column.addWidget(self.answer)
        column.addLayout(row)
        self.add_fields(column)
        self.state = PlainLabel()
        self.state.setWordWrap(True)
        column.addWidget(self.state)
        column.addWidget(JobBar(self.job, texts.working))
        self.understood = PlainLabel()
        self.understood.setWordWrap(True)
        self.understood.setProperty("role", "faded")
        self.understood.hide()
        column.addWidget(self.understood)
        for table in self._tables:
            title = PlainLabel(table.title)
            title.setProperty("role", "heading")
            shown = TextTable(table.title, sheet_headings(table.shown), left=table.texts, widest_em=WIDEST_EM)
            shown.itemSelectionChanged.connect(lambda: None if self.job.running else self.chose())
            column.addWidget(title)
            column.addWidget(shown)
            self.tables[table.key], self._labels[table.key] = shown, title
        self.together = Panel(texts.together)
        self.sentences = self.together.add_text()
        column.addWidget(self.together)

    @property
    def _tables(self) -> list[Table[R, Any]]:
        report, keys = self.measuring.report, self.shown_tables
        return [table for table in report.tables if keys is None or table.key in keys]

    def ask_save(self) -> None:
        """Ask for a file and save the first table as CSV."""
        name = f"{self.step.key}.csv"
        chosen, _ = QFileDialog.getSaveFileName(self, "Save the table", str(home() / name), "CSV (*.csv)")
        if chosen:
            self.save(Path(chosen))

    def save(self, path: Path) -> None:
        """Save the first table as CSV."""
        result = self.result
        if result is None:
            return
        try:
            write_atomically(self._tables[0].as_csv(result).encode("utf-8"), path, keep_previous=False)
        except InputError as error:
            self.session.refused.emit(str(error))

    # Showing

    def refresh(self) -> None:
        super().refresh()
        running, result = self.job.running, self.shown_result
        for button in self.reading_buttons.values():
            button.setEnabled(not running)
        for button in self._needing:
            button.setEnabled(result is not None and not running)
        holder = self.kind.holder
        place = holder.place(self.session.rig) if holder is not None else None
        holds = holder is None or place is not None
        self.keep_button.setEnabled(result is not None and not running and holds and self.can_keep(result))
        self.answer.setText(self.measuring.report.answer(result) if result is not None else "")
        self.answer.setVisible(bool(self.answer.text()))
        self.state.setText(self.texts.empty if result is None else self._words(result))
        self._show_tables(result)
        sentences = "\n".join(self.lines(result)) if result is not None else ""
        self.sentences.setText(sentences)
        self.together.setVisible(bool(sentences))
        self.understood.setVisible(bool(self.understood.text()))
        self.pictures.show_available(self.pictures_of(result), f"{self.texts.drop} Drop them here.")
        for section in self.sections:
            section.setVisible(result is not None)
        self.show_result(result)
        self.pictures.refresh()
        for section in self.sections:
            section.refresh()
        if self.settings_grid is not None:
            self.settings_grid.setVisible(place is not None)
            if place is not None:
                self.settings_grid.show_device(self.session.rig.devices[place], place)

    def _show_tables(self, result: R | None) -> None:
        for table in self._tables:
            shown, filled = self.tables[table.key], False
            if result is not None:
                verdicts = table.verdicts(result)
                shown.show_rows(table.cells(result), verdicts=verdicts, palette=self._palette)
                filled = bool(verdicts)
            shown.setVisible(filled)
            self._labels[table.key].setVisible(filled and len(self.tables) > 1)

    def _words(self, result: R) -> str:
        notes = "".join(f" {note[:1].upper()}{note[1:]}." for note in self.measuring.notes(result))
        return f"{self.counts(result)}{notes}{not_used_text(self.measuring.report.not_used(result))}"

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        self._palette = palette
        if self.settings_grid is not None:
            self.settings_grid.palette_in_use = palette
        if self.isVisible():  # one that is out of sight is redrawn when it is shown
            self.refresh()
        else:
            self.pictures.refresh()


def sheet_headings(columns: Sequence[Column[Any]]) -> list[str]:
    """Return headings in two lines: the unit below its label, or a label of several words broken after the first."""
    return [
        f"{column.label}\n{column.unit}" if column.unit else column.label.replace(" ", "\n", 1) for column in columns
    ]


def not_used_text(not_used: Sequence[UnusedFile]) -> str:
    """Return in a sentence what was not used and why, the first by name, after a blank; empty where all was."""
    if not not_used:
        return ""
    first, more = not_used[0], len(not_used) - 1
    return f" Not used: {first.path}: {first.why}" + (f", and {more} more." if more else ".")

"""A sheet on one kind of evidence: files are read in the background, told in tables, held by the session and kept.

A kind's sheet is a subclass that declares how it is measured and what its buttons say; what it adds are plots, panels
and what is done with a chosen row.
"""

from __future__ import annotations

import shutil
import tempfile
import weakref
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, ClassVar, Generic, TypeVar

from PyQt6.QtWidgets import QFileDialog, QPushButton, QVBoxLayout, QWidget

from wyntaxis.core.evidence.foreign.columns import TableColumn, table_headings
from wyntaxis.core.evidence.foreign.keymap import KeyRule
from wyntaxis.core.evidence.headers.headers import UnusedFile
from wyntaxis.core.evidence.kinds import EvidenceKind
from wyntaxis.core.evidence.reporting import Column, Table
from wyntaxis.core.files.errors import ColumnsUnknownError, InputError, Progress
from wyntaxis.core.files.places import home
from wyntaxis.core.files.saving import write_atomically
from wyntaxis.core.measuring.measuring import Measuring, Request
from wyntaxis.core.steps import Step
from wyntaxis.desk.background import Job
from wyntaxis.desk.collapsible_section import CollapsibleSection
from wyntaxis.desk.columns_panel import ColumnsPanel, KnownColumns
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import JobBar, Panel, push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.plot_section import P, PlotSection
from wyntaxis.desk.session import Session
from wyntaxis.desk.settings_grid import SettingsGrid
from wyntaxis.desk.sheets.base import StepSheet
from wyntaxis.desk.tables import TextTable

R = TypeVar("R")
FRAMES_FILTER = "Frames (*.fit *.fits *.fts *.fits.gz *.fits.fz);;All files (*)"
WIDEST_EM = 24


@dataclass(frozen=True)
class SheetTexts:
    """What a sheet says while it is empty, and the tips of its buttons; a sheet without a tip has no such button."""

    empty: str
    working: str
    keep: str
    files: str = ""
    folder: str = ""
    simulate: str = ""
    take_out: str = ""
    files_title: str = "Files"
    folder_title: str = "Folder"
    files_filter: str = FRAMES_FILTER
    together: str = "Together"
    nothing: str = "nothing that was given can be used"


@dataclass(frozen=True)
class Pointing:
    """How the columns of a table are pointed at, where its headings do not tell: which there are, and which must be."""

    columns: Mapping[str, TableColumn]
    needed: tuple[str, ...]
    map_name: str
    headings: Callable[[Path], Sequence[str]] = table_headings


class EvidenceSheet(StepSheet, Generic[R]):
    """A step that is measured from files."""

    measuring: ClassVar[Measuring[Any]]
    texts: ClassVar[SheetTexts]
    pointing: ClassVar[Pointing | None] = None
    settings: ClassVar[tuple[str, str] | None] = None
    """The step whose settings of the holder stand below, and their title."""
    shown_tables: ClassVar[tuple[str, ...] | None] = None
    """The tables shown, by key; all where left out."""
    adds: ClassVar[bool] = True
    """Whether files that are read join those that are there."""

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette, ledger="foot")
        self._palette = palette
        self._simulated: Path | None = None
        self._asked: list[Path] = []
        self.job = Job(self)
        self.job.done.connect(self._came_in)
        self.job.failed.connect(self._failed)
        self.sections: list[CollapsibleSection] = []
        self.tables: dict[str, TextTable] = {}
        self._labels: dict[str, PlainLabel] = {}
        self.build_above()
        self._build_top()
        self.job.running_changed.connect(lambda _on: self.refresh())
        self.columns: ColumnsPanel | None = None
        self.known: KnownColumns | None = None
        if self.pointing is not None:
            given = self.pointing
            self.known = KnownColumns(session, given.columns, given.map_name, given.headings)
            self.columns = ColumnsPanel(given.columns, given.needed, self._point_columns, session)
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

    def options(self) -> Mapping[str, Any]:
        """Return the kind's own options of reading; ValueError with one line for what cannot be meant."""
        return {}

    def simulated(self, folder: Path, progress: Progress) -> list[Path]:
        """Make simulated files in a folder, and return what is to be read."""
        raise ValueError("there is nothing simulated for this step")

    def before_reading(self, request: Request) -> None:
        """Do something before files are read; :class:`InputError` refuses them."""

    def is_empty(self, found: R) -> bool:
        """Return whether files held nothing of the kind."""
        return False

    def arrived(self, found: R) -> R:
        """Return what is to be held of what was read."""
        return found

    def sections_of(self, result: R) -> Iterable[CollapsibleSection]:
        """Return the sections that show something of a result."""
        return self.sections

    def opened_by(self, found: R) -> Iterable[CollapsibleSection]:
        """Return the sections that open when files have been read."""
        return self.sections[:1]

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
        for section in self.sections:
            section.refresh()

    def take_out(self) -> None:
        """Take what was read out; all of it where rows cannot go alone."""
        self.hold(None)

    # What all share

    @property
    def kind(self) -> EvidenceKind[R]:
        return self.measuring.kind

    @property
    def result(self) -> R | None:
        """What was read and measured."""
        return self.session.evidence.of(self.kind)

    @property
    def shown_result(self) -> R | None:
        """The result as it is shown: a kind may tell it by the rig as it is now."""
        return self.result

    @property
    def table(self) -> TextTable:
        """The first table."""
        return next(iter(self.tables.values()))

    def hold(self, result: R | None) -> None:
        """Let the session hold another result, or none."""
        self.session.look_at(self.kind, result)

    def add_plot(
        self, title: str, make: Callable[[], P], draw: Callable[[P], None], above: Sequence[QWidget] = ()
    ) -> PlotSection[P]:
        """Put a section in whose plot is made when it is first opened."""
        section = PlotSection(title, make, draw, self.session.refused, above)
        self.add_section(section)
        return section

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
            shown.itemSelectionChanged.connect(self._chose)
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

    # Reading and keeping

    def request(self, paths: Sequence[Path], rules: tuple[KeyRule, ...] = ()) -> Request:
        """Return what is to be read for the rig as it is now."""
        known = self.known
        columns = (lambda _path: rules) if rules or known is None else known.rules_for
        before = self.result if self.adds else None
        return Request(paths, self.session.evaluation, rules=columns, before=before, options=self.options())

    def read(self, paths: list[Path], rules: tuple[KeyRule, ...] = ()) -> None:
        """Read files in the background; ``rules`` say which columns of a table hold what."""
        self._asked = paths
        try:
            request = self.request(paths, rules)
            self.before_reading(request)
        except InputError as error:
            self._refuse(str(error), error)
            return
        except ValueError as error:
            self.session.refused.emit(str(error))
            return
        self.job.start(lambda progress: self.measuring.read(replace(request, progress=progress)))

    def add_simulated(self) -> None:
        """Make simulated files and read them."""
        folder, self._asked = self.simulated_folder(), []
        request = self.request(())

        def work(progress: Progress) -> R:
            paths = self.simulated(folder, progress)
            found: R = self.measuring.read(replace(request, paths=paths, progress=progress))
            return found

        self.job.start(work)

    def work_again(self, work: Callable[[Progress], R]) -> None:
        """Measure in the background what is there, after something of it was changed."""
        self.job.start(work)

    def _came_in(self, found: R) -> None:
        if self.columns is not None:
            self.columns.hide()
        if self.is_empty(found):
            left = self.measuring.report.not_used(found)
            why = f": {left[0].path}: {left[0].why}" if left else ""
            self.session.refused.emit(f"{self.texts.nothing}{why}")
            return
        self.hold(self.arrived(found))
        for section in self.opened_by(found):
            section.open()

    def _failed(self, text: str) -> None:
        self._refuse(text, self.job.error)

    def _refuse(self, text: str, error: InputError | None) -> None:
        self.session.refused.emit(text)
        pointing = self.pointing
        if isinstance(error, ColumnsUnknownError) and self._asked and self.columns is not None and pointing is not None:
            self.columns.show_headings(self._asked[0], pointing.headings)

    def _point_columns(self, rules: tuple[KeyRule, ...]) -> None:
        """Read the files asked for by these columns, and keep them as a map for such files."""
        if self.known is not None:
            self.known.remember(rules)
        self.read(self._asked, rules)

    def ask(self) -> None:
        """Ask for files and read them."""
        texts = self.texts
        chosen, _ = QFileDialog.getOpenFileNames(self, texts.files_title, str(home()), texts.files_filter)
        if chosen:
            self.read([Path(path) for path in chosen])

    def ask_folder(self) -> None:
        """Ask for a folder and read what is below it."""
        chosen = QFileDialog.getExistingDirectory(self, self.texts.folder_title, str(home()))
        if chosen:
            self.read([Path(chosen)])

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

    def keep(self) -> None:
        """Keep what was measured in the rig, as one edit."""
        if self.result is None:
            return
        try:
            self.session.apply(self.kind.keep(self.session.rig, self.result))
        except ValueError as error:
            self.session.refused.emit(str(error))

    def simulated_folder(self) -> Path:
        """Return a folder for simulated files, which goes with the sheet."""
        if self._simulated is None:
            self._simulated = Path(tempfile.mkdtemp(prefix="wyntaxis-stand-in-"))
            weakref.finalize(self, shutil.rmtree, self._simulated, ignore_errors=True)
        return self._simulated

    # Showing

    def _chose(self) -> None:
        if not self.job.running:
            self.chose()

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
        self.state.setText(self.texts.empty if result is None else self._words(result))
        self._show_tables(result)
        sentences = "\n".join(self.lines(result)) if result is not None else ""
        self.sentences.setText(sentences)
        self.together.setVisible(bool(sentences))
        self.understood.setVisible(bool(self.understood.text()))
        telling = set() if result is None else set(map(id, self.sections_of(result)))
        for section in self.sections:
            section.setVisible(id(section) in telling)
        self.show_result(result)
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
        self.refresh()


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

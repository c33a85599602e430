"""A sheet that reads files: it asks for them, reads them in the background, holds the result and keeps its numbers."""

from __future__ import annotations

import shutil
import tempfile
import weakref
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, ClassVar, Generic, TypeVar

from PyQt6.QtWidgets import QFileDialog

from wyntaxis.core.evidence.foreign.columns import TableColumn, table_headings
from wyntaxis.core.evidence.foreign.keymap import KeyRule
from wyntaxis.core.evidence.kinds import EvidenceKind
from wyntaxis.core.files.errors import ColumnsUnknownError, InputError, Progress
from wyntaxis.core.files.places import home
from wyntaxis.core.measuring.measuring import Measuring, Request
from wyntaxis.core.steps import Step
from wyntaxis.desk.background import Job
from wyntaxis.desk.columns_panel import ColumnsPanel, KnownColumns
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.base import StepSheet

R = TypeVar("R")
FRAMES_FILTER = "Frames (*.fit *.fits *.fts *.fits.gz *.fits.fz);;All files (*)"


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
    drop: str = "No files have been read yet."
    """Which files give the step's pictures, in a sentence."""


@dataclass(frozen=True)
class Pointing:
    """How the columns of a table are pointed at, where its headings do not tell: which there are, and which must be."""

    columns: Mapping[str, TableColumn]
    needed: tuple[str, ...]
    map_name: str
    headings: Callable[[Path], Sequence[str]] = table_headings


class ReadingSheet(StepSheet, Generic[R]):
    """A step whose result is read from files; a kind declares how it is measured and what its buttons say."""

    measuring: ClassVar[Measuring[Any]]
    texts: ClassVar[SheetTexts]
    pointing: ClassVar[Pointing | None] = None
    adds: ClassVar[bool] = True
    """Whether files that are read join those that are there."""

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette, ledger="foot")
        self._palette = palette
        self._simulated: Path | None = None
        self._asked: list[Path] = []
        self.job = Job(self)
        self.job.done.connect(self._came_in)
        self.job.failed.connect(lambda text: self._refuse(text, self.job.error))
        self.columns: ColumnsPanel | None = None
        self.known: KnownColumns | None = None
        if self.pointing is not None:
            given = self.pointing
            self.known = KnownColumns(session, given.columns, given.map_name, given.headings)
            self.columns = ColumnsPanel(given.columns, given.needed, self._point_columns, session)

    # What a kind adds

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

    def after_reading(self, found: R) -> None:
        """Show what was read."""

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

    def hold(self, result: R | None) -> None:
        """Let the session hold another result, or none."""
        self.session.look_at(self.kind, result)

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
        self.after_reading(found)

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
            self._simulated = Path(tempfile.mkdtemp(prefix="wyntaxis-simulated-"))
            weakref.finalize(self, shutil.rmtree, self._simulated, ignore_errors=True)
        return self._simulated

"""A sheet on one kind of evidence: files are read in the background, the result is held by the session and kept."""

from __future__ import annotations

import shutil
import tempfile
import weakref
from collections.abc import Sequence
from pathlib import Path
from typing import Any, ClassVar, Generic, TypeVar

from PyQt6.QtWidgets import QFileDialog

from wyntaxis.core.evidence.headers.headers import BrokenFrame
from wyntaxis.core.evidence.kinds import EvidenceKind
from wyntaxis.core.files.places import home
from wyntaxis.core.steps import Step
from wyntaxis.desk.background import Job
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.session import Session
from wyntaxis.desk.sheets.base import StepSheet

R = TypeVar("R")
FRAMES_FILTER = "Frames (*.fit *.fits *.fts *.fits.gz *.fits.fz);;All files (*)"


class EvidenceSheet(StepSheet, Generic[R]):
    """A step that is measured from files; what it works on is declared by its class."""

    kind: ClassVar[EvidenceKind[Any]]
    files_title: ClassVar[str]
    folder_title: ClassVar[str]
    files_filter: ClassVar[str] = FRAMES_FILTER

    def __init__(self, session: Session, step: Step, palette: Palette) -> None:
        super().__init__(session, step, palette, ledger="foot")
        self._palette = palette
        self._simulated: Path | None = None
        self.job = Job(self)
        self.job.done.connect(self._came_in)
        self.job.failed.connect(self._failed)

    @property
    def result(self) -> R | None:
        """What was read and measured."""
        return self.session.evidence.of(self.kind)

    def hold(self, result: R | None) -> None:
        """Let the session hold another result, or none."""
        self.session.look_at(self.kind, result)

    def read(self, paths: list[Path]) -> None:
        """Read files in the background."""
        raise NotImplementedError

    def _came_in(self, found: R) -> None:
        """Take what was read."""
        raise NotImplementedError

    def _failed(self, text: str) -> None:
        self.session.refused.emit(text)

    def ask(self) -> None:
        """Ask for files and read them."""
        chosen, _ = QFileDialog.getOpenFileNames(self, self.files_title, str(home()), self.files_filter)
        if chosen:
            self.read([Path(path) for path in chosen])

    def ask_folder(self) -> None:
        """Ask for a folder and read what is below it."""
        chosen = QFileDialog.getExistingDirectory(self, self.folder_title, str(home()))
        if chosen:
            self.read([Path(chosen)])

    def keep(self) -> None:
        """Keep what was measured in the rig, as one edit."""
        if self.result is None or self.kind.keep is None:
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

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        self._palette = palette
        self.refresh()


def not_used_text(not_used: Sequence[BrokenFrame]) -> str:
    """Return in a sentence what was not used and why, the first by name; empty where all was.

    Parameters
    ----------
    not_used
        Files that were left out, with the reason.

    Returns
    -------
    str
        With a blank before it.
    """
    if not not_used:
        return ""
    first, more = not_used[0], len(not_used) - 1
    return f" Not used: {first.path}: {first.why}" + (f", and {more} more." if more else ".")

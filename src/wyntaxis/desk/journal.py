"""Keeps the journal of unsaved edits, off the interface thread."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, QRunnable, QThreadPool, QTimer, pyqtSignal

if TYPE_CHECKING:
    from wyntaxis.desk.session import Session

DELAY_MS = 500
"""How long after the first edit that is not in it the journal is written, however fast others follow."""


class Journal(QObject):
    """Writes the unsaved rig to the state folder shortly after each edit, and takes it away when all is saved."""

    failed = pyqtSignal(str)
    """The journal cannot be written: one line, told once until it can again."""
    _tried = pyqtSignal(str)

    def __init__(self, folder: Path) -> None:
        super().__init__()
        self._reported, self._fault = False, ""
        self._tried.connect(self._tell)
        self._folder = folder
        self._session: Session | None = None
        self._pool = QThreadPool()
        self._pool.setMaxThreadCount(1)  # one after the other: an older version never overtakes a newer one
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(DELAY_MS)
        self._timer.timeout.connect(self.write_now)

    def follow(self, session: Session) -> None:
        """Keep the journal of this session from now on."""
        self.finish()
        self._session = session
        session.changed.connect(self._begin)
        session.saved_changed.connect(self.write_now)  # takes it away where all is saved

    def _begin(self) -> None:
        if not self._timer.isActive():  # a timer begun anew with each edit would never end while one types
            self._timer.start()

    def _tell(self, fault: str) -> None:
        if fault and not self._reported:
            self.failed.emit(f"{fault}: edits are not kept against a crash; save often")
        self._reported = bool(fault)

    def write_and_wait(self) -> bool:
        """Write the journal at once; False when it could not be written, which is told."""
        self._fault = "the journal is not written"
        self.write_now()
        self.wait()
        self._tell(self._fault)
        return not self._fault

    def write_now(self) -> None:
        """Write the journal if there is something unsaved, else take it away."""
        from wyntaxis.core.rig import recovery

        session = self._session
        if session is None or not session.dirty:
            self.finish()
            return
        rig, journal = session.document, recovery.journal_path(self._folder)
        rig_path, sha256 = session.path, session.sha256

        def write() -> None:
            fault = ""
            try:
                recovery.write_journal(journal, rig, rig_path, sha256)
            except Exception as error:  # the journal is a second net: the rig itself is safe
                fault = str(error)
            self._fault = fault
            with contextlib.suppress(RuntimeError):  # the window has gone meanwhile
                self._tried.emit(fault)

        self._pool.start(QRunnable.create(write))

    def wait(self) -> None:
        """Wait until what is under way is written."""
        self._pool.waitForDone(3000)

    def finish(self) -> None:
        """Take the journal away: nothing is unsaved, or the user let it go."""
        self._timer.stop()
        if self._session is None:
            return
        from wyntaxis.core.rig import recovery

        self.wait()
        recovery.remove_journal(recovery.journal_path(self._folder))

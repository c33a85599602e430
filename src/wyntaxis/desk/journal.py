"""Keeps the journal of unsaved edits, off the interface thread."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, QRunnable, QThreadPool, QTimer

if TYPE_CHECKING:
    from wyntaxis.desk.session import Session

DELAY_MS = 700
"""How long after an edit the journal is written: short enough to lose little, long enough not to write every key."""


class Journal(QObject):
    """Writes the unsaved rig to the state folder shortly after each edit, and takes it away when all is saved."""

    def __init__(self, folder: Path) -> None:
        super().__init__()
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
        session.changed.connect(self._timer.start)
        session.saved_changed.connect(self.finish)

    def write_now(self) -> None:
        """Write the journal if there is something unsaved, else take it away."""
        from wyntaxis.core.rig import recovery

        session = self._session
        if session is None or not session.dirty:
            self.finish()
            return
        rig, rig_path, journal = session.document, session.path, recovery.journal_path(self._folder)

        def write() -> None:
            with contextlib.suppress(ValueError):  # InputError: the journal is a second net, the rig itself is safe
                recovery.write_journal(journal, rig, rig_path)

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

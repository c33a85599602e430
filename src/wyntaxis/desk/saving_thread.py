"""Saving off the interface thread: on a quick disk it is done before one notices, on a slow one the window goes on."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, QRunnable, QThreadPool, pyqtSignal

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.faults import fault_line, log_path, note_fault

if TYPE_CHECKING:
    from wyntaxis.core.rig.store import Saved

AT_ONCE_S = 0.08
"""How long the window waits for a save: no slot may take longer than 0.1 s."""
END_WITHIN_MS = 60_000
"""How long the application waits at its end for a save that is under way."""


class SavingThread(QObject):
    """Runs saves one after the other, and none is ever cancelled. ``slow`` tells that one is still under way."""

    slow = pyqtSignal()
    _ended = pyqtSignal(object, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.at_once_s = AT_ONCE_S
        """How long the window waits for a save before it goes on beside it."""
        self._pool = QThreadPool()
        self._pool.setMaxThreadCount(1)
        self._running = 0
        self._after: list[Callable[[], object]] = []
        self._ended.connect(self._finish)

    @property
    def running(self) -> bool:
        """Whether a save is under way."""
        return self._running > 0

    def start(self, work: Callable[[], Saved], then: Callable[[Saved | InputError], None]) -> bool:
        """Save; return whether that is done already.

        Parameters
        ----------
        work
            Saves, in another thread.
        then
            Called in this thread with what it returned or raised, at once or once it has ended.
        """
        done, found = threading.Event(), []
        is_late = threading.Event()
        handing_over = threading.Lock()

        def run() -> None:
            try:
                outcome: Saved | InputError = work()
            except InputError as error:
                outcome = error
            except BaseException as error:  # a fault of ours must not lose the save without a word
                note_fault(error)
                outcome = InputError(f"could not be saved ({fault_line(error)}); the details are in {log_path()}")
            with handing_over:
                found.append(outcome)
                done.set()
                late = is_late.is_set()
            if late:
                with contextlib.suppress(RuntimeError):  # the window has gone meanwhile
                    self._ended.emit(then, outcome)

        self._running += 1
        self._pool.start(QRunnable.create(run))
        done.wait(self.at_once_s)
        with handing_over:
            if not found:
                is_late.set()
        if is_late.is_set():
            self.slow.emit()
            return False
        self._finish(then, found[0])
        return True

    def _finish(self, then: Callable[[Saved | InputError], None], outcome: Saved | InputError) -> None:
        self._running -= 1
        then(outcome)
        if not self._running:
            waiting, self._after = self._after, []
            for action in waiting:
                action()

    def after(self, action: Callable[[], object]) -> None:
        """Do something once nothing is being saved any more."""
        if self._running:
            self._after.append(action)
        else:
            action()

    def wait(self) -> None:
        """Wait until what is under way is saved."""
        self._pool.waitForDone(END_WITHIN_MS)

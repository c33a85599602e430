"""Work outside the interface thread: one job at a time for each owner, with progress, cancel and one line on
failure.
"""

from __future__ import annotations

import contextlib
import threading
import weakref
from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import QObject, QRunnable, QThreadPool, pyqtSignal

from wyntaxis.core.files.errors import CancelledError, InputError, Progress
from wyntaxis.core.files.faults import fault_line, log_path, note_fault

END_WITHIN_MS = 800


def _outcome_of(work: Callable[[Progress], Any], progress: Progress) -> tuple[str, object]:
    """Do a piece of work; return how it ended, and its result or what went wrong."""
    try:
        return "done", work(progress)
    except CancelledError:
        return "cancelled", None
    except InputError as error:
        return "failed", error
    except ValueError as error:
        return "failed", str(error)
    except MemoryError:
        return "failed", "there is not enough memory for this: close other programs, or use fewer frames"
    except BaseException as error:  # a fault of ours must not take the thread down silently
        note_fault(error)
        return "failed", f"could not be done ({fault_line(error)}); the details are in {log_path()}"


class Job(QObject):
    """Runs functions of a :data:`Progress` call. ``done`` carries what one returned, ``failed`` one line."""

    done = pyqtSignal(object)
    failed = pyqtSignal(str)
    cancelled = pyqtSignal()
    progressed = pyqtSignal(int, int)
    running_changed = pyqtSignal(bool)
    _ended = pyqtSignal(int, str, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        _jobs.add(self)
        self.error: InputError | None = None
        """What the work that failed last was refused for; None for a fault of ours."""
        self._number = 0
        self._stop = threading.Event()
        self._running = False
        self._ended.connect(self._end)

    @property
    def running(self) -> bool:
        return self._running

    def start(self, work: Callable[[Progress], Any]) -> None:
        """Begin a piece of work; what was running is cancelled and its result dropped."""
        self._stop.set()
        self._number += 1
        number, stop = self._number, threading.Event()
        self._stop = stop

        def progress(done: int, of: int) -> None:
            if stop.is_set():
                raise CancelledError
            if number == self._number:
                try:
                    self.progressed.emit(done, of)
                except RuntimeError:  # the sheet has gone meanwhile
                    raise CancelledError from None

        def run() -> None:
            outcome = _outcome_of(work, progress)
            try:
                self._ended.emit(number, *outcome)
            except RuntimeError:  # the window has gone meanwhile
                return

        pool = QThreadPool.globalInstance()
        assert pool is not None
        self._set_running(True)
        pool.start(QRunnable.create(run))

    def cancel(self) -> None:
        """Let the work go: it ends at its next progress call, and what it might still bring is dropped."""
        self._stop.set()
        if self._running:
            self._number += 1
            self._set_running(False)
            self.cancelled.emit()

    def _end(self, number: int, outcome: str, result: object) -> None:
        if number != self._number:
            return
        self._set_running(False)
        if outcome == "done":
            self.done.emit(result)
        elif outcome == "failed":
            self.error = result if isinstance(result, InputError) else None
            self.failed.emit(str(result))
        else:
            self.cancelled.emit()

    def _set_running(self, running: bool) -> None:
        if running != self._running:
            self._running = running
            self.running_changed.emit(running)


_jobs: weakref.WeakSet[Job] = weakref.WeakSet()


def end_all_jobs() -> bool:
    """Cancel everything under way, and wait a moment; return whether all of it has ended."""
    for job in list(_jobs):
        with contextlib.suppress(RuntimeError):  # its widget has gone already
            job.cancel()
    pool = QThreadPool.globalInstance()
    return pool is None or pool.waitForDone(END_WITHIN_MS)

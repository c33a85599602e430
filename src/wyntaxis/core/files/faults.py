"""Failures that nobody foresaw: written with their trace to a log in the state folder, and told in one line."""

from __future__ import annotations

import contextlib
import sys
import traceback
from pathlib import Path

from wyntaxis.core.files.places import state_folder

LOG_BYTES, LOGS_KEPT = 256 * 1024, 3
MAX_AUTOCORRELATION = 3
"""How often one and the same failure is written: one in a paint event would fill the disk."""

_met: dict[str, int] = {}


def log_path() -> Path:
    """Return the file that failures are written to; older ones stand beside it as ``.1`` and so on."""
    return state_folder() / "faults.log"


def fault_line(error: BaseException) -> str:
    """Return a failure as one line: its kind, and what it says of itself."""
    words = str(error).strip().splitlines()
    return f"{type(error).__name__}: {words[0][:200]}" if words else type(error).__name__


def note_fault(error: BaseException, *, debug: bool = False) -> str:
    """Write a failure with its trace to the log, and return the trace; with ``debug`` print it too.

    A log that cannot be written costs the log line, and says so where ``debug`` is.
    """
    trace = "".join(traceback.format_exception(error))
    if debug:
        print(trace, file=sys.stderr, end="")
    _met[trace] = _met.get(trace, 0) + 1
    if _met[trace] <= MAX_AUTOCORRELATION:
        try:
            _write(trace)
        except OSError as reason:
            if debug:
                print(f"wyntaxis: {log_path()}: cannot be written: {reason.strerror}", file=sys.stderr)
    return trace


def is_new(trace: str) -> bool:
    """Return whether a failure was met once only so far."""
    return _met.get(trace, 0) <= 1


def _write(trace: str) -> None:
    """Append a trace to the log, and begin a new one where it has grown too long."""
    import logging  # spared until something fails, for the time until the window's first paint
    import logging.handlers

    class Log(logging.handlers.RotatingFileHandler):
        def handleError(self, record: logging.LogRecord) -> None:
            raise  # noqa: PLE0704 (whoever writes hears why it could not be written)

    path = log_path()
    path.parent.mkdir(parents=True, exist_ok=True)
    with contextlib.closing(Log(path, maxBytes=LOG_BYTES, backupCount=LOGS_KEPT, encoding="utf-8")) as log:
        log.setFormatter(logging.Formatter("%(asctime)s %(message)s"))
        log.emit(logging.makeLogRecord({"msg": trace}))

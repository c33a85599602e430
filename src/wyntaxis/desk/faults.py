"""Failures that nobody foresaw, in any thread or slot: logged, told in the notice strip, and the window stays up."""

from __future__ import annotations

import sys
import threading
from types import TracebackType

from PyQt6.QtCore import QObject, pyqtSignal

from wyntaxis.core.files.faults import fault_line, is_new, log_path, note_fault


class Faults(QObject):
    """Catches what nothing else has caught; ``met`` carries one line for the imager, and the trace."""

    met = pyqtSignal(str, str)

    def __init__(self, *, debug: bool = False, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._debug = debug

    def watch(self) -> None:
        """Take over for everything raised and not caught, here and in other threads."""
        sys.excepthook = self.caught
        threading.excepthook = lambda arguments: self.caught(
            arguments.exc_type, arguments.exc_value or arguments.exc_type(), arguments.exc_traceback
        )

    def caught(self, kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        if not issubclass(kind, Exception):
            sys.__excepthook__(kind, error, trace)
            return
        text = note_fault(error, debug=self._debug)
        if is_new(text):
            self.met.emit(
                f"Something failed inside Wyntaxis ({fault_line(error)}). What is open is kept: save it. "
                f"The details are in {log_path()}.",
                text,
            )

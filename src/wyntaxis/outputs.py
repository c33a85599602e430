"""What a command writes to, made safe: only visible characters, in whatever code the terminal has; full disks told."""

from __future__ import annotations

import contextlib
import io
import os
import re
import sys
import warnings
from collections.abc import Iterator
from typing import TextIO

_UNSHOWABLE = re.compile("[^\x20-\x7e\n\r\t]")


class PlainStream(io.TextIOBase):
    """A text stream that shows nothing but visible characters, line ends and tabs; the rest is escaped."""

    def __init__(self, stream: TextIO) -> None:
        super().__init__()
        self._stream = stream
        with contextlib.suppress(AttributeError, ValueError, io.UnsupportedOperation):
            stream.reconfigure(errors="backslashreplace")  # type: ignore[attr-defined]

    def write(self, text: str, /) -> int:
        """Write text, escaped where it cannot be shown."""
        if _UNSHOWABLE.search(text):
            from wyntaxis.core.files.foreign_text import plain

            text = plain(text, keep="\n\r\t")
        self._stream.write(text)
        return len(text)

    def flush(self) -> None:
        """Write out what is still held."""
        self._stream.flush()

    def isatty(self) -> bool:
        """Return whether somebody looks on."""
        return self._stream.isatty()

    def fileno(self) -> int:
        """Return the descriptor written to."""
        return self._stream.fileno()

    @property
    def encoding(self) -> str:  # type: ignore[override]
        """The code of the stream behind."""
        return self._stream.encoding

    def writable(self) -> bool:
        """Return that it can be written."""
        return True


@contextlib.contextmanager
def plain_outputs(*, needed: bool) -> Iterator[None]:
    """Let everything printed be plain text, and nothing of a library's warnings, while a command runs.

    Raises
    ------
    OSError
        When the output is needed and closed, or cannot be written to its end.
    """
    before = sys.stdout, sys.stderr
    if sys.stdout is None and needed:
        raise OSError(0, "the standard output is closed")
    sys.stdout = PlainStream(sys.stdout if sys.stdout is not None else io.StringIO())
    sys.stderr = PlainStream(sys.stderr if sys.stderr is not None else io.StringIO())
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            yield
            sys.stdout.flush()
    finally:
        sys.stdout, sys.stderr = before


def drop_output() -> None:
    """Let what is still to be written go nowhere, so that leaving does not fail over it a second time."""
    with contextlib.suppress(OSError, ValueError, AttributeError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())

"""A PDF made by a process of its own, so that whoever waits for it stays quick, and may end it."""

from __future__ import annotations

import contextlib
import json
import subprocess
import sys
import tempfile
from collections.abc import Callable
from dataclasses import asdict
from typing import Any

from wyntaxis.core.dossier.card import Card
from wyntaxis.core.dossier.printing import Paper, card_pdf, pdf_of
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.json_values import JsonObject

POLL_S = 0.15
INVALIDATED = "the PDF could not be made: its process ended; write HTML instead"
Watch = Callable[[], None]


def dossier_apart(html: str, watch: Watch = lambda: None) -> bytes:
    """Return HTML as a PDF that another process makes.

    Parameters
    ----------
    html
        See :func:`~wyntaxis.core.dossier.printing.pdf_of`.
    watch
        Called a few times a second; where it raises, the work is ended.

    Returns
    -------
    bytes
        The PDF.

    Raises
    ------
    InputError
        As the work itself, or where its process died.
    """
    return _made({"html": html}, watch)


def card_apart(card: Card, paper: Paper, watch: Watch = lambda: None, *, lamp: bool = False) -> bytes:
    """Return a field card as a PDF that another process makes; see :func:`dossier_apart`."""
    return _made({"card": asdict(card), "paper": paper, "lamp": lamp}, watch)


def _made(order: JsonObject, watch: Watch) -> bytes:
    with tempfile.TemporaryFile() as entries:
        entries.write(json.dumps(order).encode())
        entries.seek(0)
        command = [sys.executable, "-m", __name__]
        with subprocess.Popen(command, stdin=entries, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL) as process:
            try:
                while True:
                    with contextlib.suppress(subprocess.TimeoutExpired):
                        out, _ = process.communicate(timeout=POLL_S)
                        break
                    watch()
            finally:
                process.kill()
    if out[:1] == b"-":
        raise InputError(out[1:].decode())
    if out[:1] != b"+":
        raise InputError(INVALIDATED)
    return out[1:]


def main() -> None:
    """Make the PDF that standard input asks for, and write it, or why there is none, to standard output."""
    order = json.load(sys.stdin)
    try:
        if "html" in order:
            entries = b"+" + pdf_of(order["html"])
        else:
            card = {key: _tuples(value) for key, value in order["card"].items()}
            entries = b"+" + card_pdf(Card(**card), order["paper"], lamp=order["lamp"])
    except InputError as error:
        entries = b"-" + error.reason.encode()
    sys.stdout.buffer.write(entries)


def _tuples(value: Any) -> Any:
    """Return lists as the tuples that they were."""
    return tuple(_tuples(own) for own in value) if isinstance(value, list) else value


if __name__ == "__main__":
    main()

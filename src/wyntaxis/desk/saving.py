"""Saving what is shown in the kind of file that the chosen name's suffix says."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path

from PyQt6.QtCore import QBuffer, QIODevice
from PyQt6.QtWidgets import QWidget

from wyntaxis.core.files.errors import InputError, shown
from wyntaxis.core.files.saving import write_atomically


def save_by_suffix(
    path: Path, contents: Mapping[str, Callable[[], bytes]], picture_of: QWidget, kinds: str
) -> str | None:
    """Write a file of the kind its suffix says: one of ``contents``, or a PNG of a widget; ``kinds`` tells them.

    Return None when it is written, else one line that says why not; then an older file of the name is as it was.
    """
    suffix = path.suffix.lower()
    if suffix != ".png" and suffix not in contents:
        return f"{shown(path)}: cannot be saved: “{suffix}” is no kind this can be saved as: use {kinds}"
    return export(picture_bytes(picture_of) if suffix == ".png" else contents[suffix](), path)


def export(data: bytes, path: Path) -> str | None:
    """Write a file aside and rename it; return None, or one line that says why it could not be written."""
    try:
        write_atomically(data, path, keep_previous=False)
    except InputError as error:
        return str(error)
    return None


def picture_bytes(widget: QWidget) -> bytes:
    """Return a PNG of a widget as it is drawn."""
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    widget.grab().save(buffer, "PNG")
    return bytes(buffer.data().data())

"""Saving what is shown in the kind of file that the chosen name's suffix says."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path

from PyQt6.QtWidgets import QWidget


def save_by_suffix(
    path: Path, contents: Mapping[str, Callable[[], bytes]], picture_of: QWidget, kinds: str
) -> str | None:
    """Write a file of the kind its suffix says: one of ``contents``, or a PNG of a widget; ``kinds`` tells them.

    Return None when it is written, else one line that says why not.
    """
    suffix = path.suffix.lower()
    try:
        if suffix == ".png":
            if not picture_of.grab().save(str(path)):
                return f"{path}: cannot be saved: the picture cannot be written there"
        elif suffix in contents:
            path.write_bytes(contents[suffix]())
        else:
            return f"{path}: cannot be saved: “{suffix}” is no kind this can be saved as: use {kinds}"
    except OSError as error:
        return f"{path}: cannot be saved: {error.strerror}"
    return None

"""What is understood of a guide log before anything is computed: which column is what, in which unit."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from wyntaxis.core.evidence.foreign.keymap import KeyRule
from wyntaxis.core.evidence.guide_log.headings import COLUMNS
from wyntaxis.core.evidence.guide_log.table import Section, cells_of, sections_of
from wyntaxis.core.files.errors import InputError, shown
from wyntaxis.core.files.opening import is_folder

HEAD_BYTES = 1 << 18
"""As much of a file is looked at: its first sections."""


def preview_text(paths: Sequence[Path], rules: Callable[[Path], Sequence[KeyRule]]) -> str:
    """Return in sentences what is understood of the first logs' columns.

    Parameters
    ----------
    paths
        Files, or folders, which are passed over.
    rules
        Which columns a table's values stand in, where its headings do not tell.

    Returns
    -------
    str
        A sentence for each kind of section of the first file; empty for folders.

    Raises
    ------
    InputError
        In one line, for what cannot be read or understood.
    """
    files = [path for path in paths if not is_folder(path)]
    if not files:
        return ""
    path = files[0]
    try:
        found = sections_of(_head(path), rules(path))
    except InputError as error:
        raise error.about(path) from None
    entries = dict.fromkeys(section_text(section) for section in found)
    return f"Understood of {shown(Path(path.name))}: " + " ".join(entries)


def _head(path: Path) -> bytes:
    """Return the first lines of a file."""
    try:
        with path.open("rb") as file:
            head = file.read(HEAD_BYTES)
    except OSError as error:
        raise InputError(f"cannot be read: {error.strerror or error}", path) from None
    return head[: head.rfind(b"\n") + 1] or head if len(head) == HEAD_BYTES else head


def log_headings(path: Path) -> list[str]:
    """Return the headings of a log's first guided run; where there is none, its line of the most cells.

    Raises
    ------
    InputError
        In one line, for what cannot be read.
    """
    head = _head(path)
    try:
        found = sections_of(head)
    except InputError:
        lines = [line.strip() for line in head.decode("utf-8-sig", "replace").splitlines()[:200] if line.strip()]
        rows = [cells_of(line[:2000]) for line in lines]
        return max(rows, key=len, default=[])[:200]
    guided = [section for section in found if not section.is_calibration]
    return list((guided or found)[0].headings)


def section_text(section: Section) -> str:
    """Return in a sentence which column of a section is taken for what."""
    parts = []
    for key, place in sorted(section.places.items(), key=lambda entry: entry[1].index):
        label, heading = COLUMNS[key].label.lower(), section.headings[place.index]
        unit = f" in {place.unit}" if place.unit else " in guide px (no unit given)" if COLUMNS[key].unit == "″" else ""
        parts.append(f"“{heading}” is {label}{unit}")
    what = "a calibration" if section.is_calibration else "a guided run"
    return f"{what}: {', '.join(parts)}."

"""What is not yet saved survives a crash: a small journal beside the user's other state.

One file a session, rewritten after edits and removed when the session ends well. A journal whose process is gone
is what a crash left.
"""

from __future__ import annotations

import contextlib
import json
import os
from dataclasses import dataclass
from pathlib import Path

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.faults import note_fault
from wyntaxis.core.files.foreign_text import is_number
from wyntaxis.core.files.opening import SIZE_LIMIT_BYTES, parse_json, read_bytes
from wyntaxis.core.files.saving import write_atomically
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.store import to_bytes, validated

_SUFFIX = ".journal.json"
JOURNAL_LIMIT_BYTES = 3 * SIZE_LIMIT_BYTES
"""A rig as large as one may be, every character of it escaped."""


@dataclass(frozen=True)
class Recovered:
    """Unsaved work of a session that ended badly."""

    journal: Path
    rig: Rig
    rig_path: Path | None
    sha256: str | None = None
    """Of the rig file as it was when the session opened or saved it last."""


def journal_path(folder: Path) -> Path:
    """Return this process's journal in the state folder."""
    return folder / f"{os.getpid()}-{_start_of(os.getpid())}{_SUFFIX}"


def write_journal(journal: Path, rig: Rig, rig_path: Path | None, sha256: str | None = None) -> None:
    """Write the rig as it stands; :class:`InputError` when the state folder cannot be written."""
    try:
        journal.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputError(f"cannot be made: {error.strerror}", journal.parent) from None
    document = {
        "rig_path": str(rig_path) if rig_path else None,
        "sha256": sha256,
        "rig": json.loads(to_bytes(rig)),
    }
    write_atomically(json.dumps(document, separators=(",", ":")).encode(), journal, keep_previous=False)


def remove_journal(journal: Path) -> None:
    """Take a journal away; nothing happens where there is none."""
    with contextlib.suppress(OSError):
        journal.unlink(missing_ok=True)


def find_left_behind(folder: Path) -> list[Recovered]:
    """Return what sessions that no longer run left unsaved, the newest first; unreadable journals are passed over."""
    try:
        journals = sorted(folder.glob(f"*{_SUFFIX}"), key=lambda path: path.lstat().st_mtime, reverse=True)
    except (OSError, ValueError):
        return []
    found = []
    for journal in journals:
        try:
            if not _still_runs(journal):
                found.append(_recovered(journal))
        except Exception as error:  # whatever a journal holds must not keep the window from opening
            note_fault(error)
    return found


def _recovered(journal: Path) -> Recovered:
    document = parse_json(read_bytes(journal, JOURNAL_LIMIT_BYTES, "a journal holds one rig"))
    path, sha256 = document["rig_path"], document.get("sha256")
    if not isinstance(path, str | None) or not isinstance(sha256, str | None):
        raise InputError("is no journal", journal)
    return Recovered(journal, validated(document["rig"]), Path(path) if path else None, sha256)


def _still_runs(journal: Path) -> bool:
    process, _, start = journal.name.removesuffix(_SUFFIX).partition("-")
    return is_number(process) and _start_of(int(process)) == start


def _start_of(process: int) -> str:
    """Return when a process started, in kernel ticks, so that a process id used again is not mistaken for it."""
    try:
        stat = Path("/proc", str(process), "stat").read_text()
    except OSError:
        return "gone"
    return stat.rpartition(")")[2].split()[19]

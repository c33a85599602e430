"""Saving a rig with a line in its history: the rig first, so that nothing of the history can lose it."""

from __future__ import annotations

import contextlib
import fcntl
import os
import platform
import shutil
from collections.abc import Callable, Sequence
from pathlib import Path

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.opening import is_there, reason_of, sha256_of
from wyntaxis.core.files.saving import alone_with, write_atomically
from wyntaxis.core.history.entries import (
    COMPACT_LIMIT_BYTES,
    HISTORY_SUFFIX,
    MAX_LABELS,
    Entry,
    digest,
    history_path,
    read_lines,
)
from wyntaxis.core.history.states import RigHistory, patch_between, read_history
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.rig import store
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.store import SUFFIX, Saved, document_of
from wyntaxis.core.wording import utc_stamp

CHECKPOINT = 50
"""So many lines at the most stand between two whole documents."""
MOST_SIBLINGS = 300
OUTSIDE, BEGUN, RENAMED = "changed outside of this program", "the history begins", "renamed"


class ChangedOnDiskError(InputError):
    """The file is another than the one that was opened: somebody else has saved it meanwhile."""


def save(
    rig: Rig,
    path: Path,
    labels: Sequence[str] = (),
    reason: str | None = None,
    *,
    protected: bool = False,
    expected: str | None = None,
) -> Saved:
    """Write a rig file atomically, and add a line to its history.

    Parameters
    ----------
    rig, path
        What is saved, and where.
    labels
        What was edited since the last save, in words.
    reason
        Why, if somebody says so.
    protected
        Whether a write-protected file may be replaced.
    expected
        SHA-256 of the file as it was opened: where another program has changed it since, nothing is saved.

    Returns
    -------
    Saved
        With a note where the history could not be written: the rig is saved then all the same.

    Raises
    ------
    InputError
        With one line when the rig cannot be saved.
    """
    target = Path(os.path.realpath(path))
    with alone_with(target):
        if expected is not None and is_there(target) and sha256_of(target) != expected:
            raise ChangedOnDiskError("was changed by another program since it was opened here", path)
        before = _document_there(target)
        saved = store.save(rig, path, protected=protected)
        try:
            notes = record(target, before, document_of(rig), labels, reason)
        except InputError as error:
            notes = (f"its history was not written: {error}",)
    return Saved(saved.sha256, (*saved.notes, *notes))


def edit_file(
    path: Path, change: Callable[[Rig], Rig], labels: Sequence[str] = (), reason: str | None = None
) -> tuple[Rig, Saved]:
    """Edit a rig file: no other process saves it between its being read and being written again.

    Parameters
    ----------
    path
        The rig file.
    change
        Returns the rig as it is to be, from the rig as the file holds it.
    labels, reason
        For the history; see :func:`save`.

    Returns
    -------
    tuple
        The rig, and what :func:`save` returns.

    Raises
    ------
    InputError
        With one line when the file cannot be read or saved, or ``change`` raises one.
    """
    with alone_with(path):
        rig = change(store.load(path).rig)
        return rig, save(rig, path, labels, reason)


def record(
    path: Path,
    before: JsonObject | None,
    after: JsonObject,
    labels: Sequence[str] = (),
    reason: str | None = None,
) -> tuple[str, ...]:
    """Add a line to the history of a rig file: from what was there before to what is there now.

    Returns
    -------
    tuple of str
        What of the history is lost, in words: then the line holds the whole document.

    Raises
    ------
    InputError
        Where it cannot be written, or a file of its name is no history.
    """
    place = history_path(path)
    if not is_there(place) and before is None:
        _take_over_renamed(path, after)
    elif not is_there(place) and before is not None:
        _take_over_renamed(path, before)
    try:
        descriptor = os.open(place, os.O_RDWR | os.O_CREAT | os.O_APPEND | os.O_CLOEXEC, 0o666)
    except OSError as error:
        raise InputError(f"cannot be written: {reason_of(error)}", place) from None
    try:
        with contextlib.suppress(OSError):  # a folder on a network may have no locks
            fcntl.flock(descriptor, fcntl.LOCK_EX)
        # Two spans between whole documents: a line that is damaged may be the whole one.
        lines = read_lines(place, last=2 * CHECKPOINT)
        if not lines.entries:
            lines = read_lines(place)
        history = RigHistory.of(lines, place)
        is_lost = bool(history.entries) and not history.is_whole_at(len(history.entries) - 1)
        reported = _entries(history, before, after, tuple(labels), reason, is_lost=is_lost)
        data = b"".join(entry.as_line() for entry in reported)
        if data:
            _append(descriptor, (b"\n" if lines.torn else b"") + data)
    except OSError as error:
        raise InputError(f"cannot be written: {reason_of(error)}", place) from None
    finally:
        os.close(descriptor)
    return _lost(history, place) if is_lost and reported and not lines.is_end else ()


def _lost(history: RigHistory, place: Path) -> tuple[str, ...]:
    """Return in words from where a history cannot be rebuilt up to now."""
    last = len(history.entries) - 1
    first = next((at for at in range(last, 0, -1) if history.is_whole_at(at - 1)), 0)
    damaged = next((f"line {own.line} is damaged" for own in history.damaged if own.line), "a line is damaged")
    count = last - first + 1
    saves = "1 save" if count == 1 else f"{count} saves"
    return (f"{place.name}: {damaged}, so {saves} before this one cannot be shown again; this one is written whole",)


def _append(descriptor: int, data: bytes) -> None:
    view = memoryview(data)
    while view:
        view = view[os.write(descriptor, view) :]
    os.fsync(descriptor)


def _entries(
    history: RigHistory,
    before: JsonObject | None,
    after: JsonObject,
    labels: tuple[str, ...],
    reason: str | None,
    *,
    is_lost: bool,
) -> list[Entry]:
    """Return the lines that a save adds: what happened outside of this program first.

    Where the last state cannot be rebuilt (``is_lost``), nothing can go on from it, and the document is written whole.
    """
    now, computer = utc_stamp(), platform.node() or None
    found: list[Entry] = []
    last = history.entries[-1] if history.entries else None
    at = last.after if last is not None else None
    state: JsonObject | None = None
    if before is not None and digest(before) != at:
        label = BEGUN if at is None else OUTSIDE
        found.append(Entry(now, (label,), digest(before), at, None, computer, None, before))
        state, at = before, digest(before)
    elif before is not None:
        state = before
    if state is None and last is not None and not is_lost:
        state = history.document_at(len(history.entries) - 1)
    if digest(after) == at and not is_lost and not (reason or "").strip():
        return found
    lacks_ground = is_lost and not found  # a line that was added above holds a whole document
    whole = state is None or lacks_ground or _since_whole([*history.entries, *found]) + 1 >= CHECKPOINT
    patch = None if state is None else patch_between(state, after)
    found.append(
        Entry(
            now,
            labels[:MAX_LABELS] or ((BEGUN,) if at is None else ()),
            digest(after),
            at,
            (reason or "").strip() or None,
            computer,
            patch,
            after if whole else None,
        )
    )
    return found


def _since_whole(entries: Sequence[Entry]) -> int:
    """Return how many lines stand after the last whole document."""
    for back, entry in enumerate(reversed(entries)):
        if entry.rig is not None:
            return back
    return CHECKPOINT


def _document_there(path: Path) -> JsonObject | None:
    """Return the document that a file holds now; None where there is none that can be read."""
    if not is_there(path):
        return None
    try:
        return document_of(store.load(path).rig)
    except InputError:
        return None


def _take_over_renamed(path: Path, document: JsonObject) -> None:
    """Take over the history of a rig file that was renamed: one whose last state is ours, and whose file is gone."""
    wanted = digest(document)
    try:
        siblings = sorted(path.parent.glob(f"*{HISTORY_SUFFIX}"))[:MOST_SIBLINGS]
    except OSError:
        return
    for sibling in siblings:
        if is_there(sibling.with_name(sibling.name.removesuffix(HISTORY_SUFFIX) + SUFFIX)):
            continue
        try:
            entries = read_lines(sibling).entries
        except InputError:
            continue
        if entries and entries[-1].after == wanted:
            with contextlib.suppress(OSError):
                shutil.copyfile(sibling, history_path(path))
            return


def compact(
    rig_path: Path, now: str, *, days: int = 30, watch: Callable[[int, int], None] = lambda _done, _of: None
) -> tuple[int, int]:
    """Take together what was saved longer ago than some days: one line a day, and each with a reason.

    Parameters
    ----------
    rig_path
        The rig file.
    now
        The present moment as the history writes it.
    days
        How far back each save stays by itself.
    watch
        Told how many saves are done, and of how many; may cancel.

    Returns
    -------
    tuple of int
        How many lines there were, and are; the file before stays under its name with ``~``.

    Raises
    ------
    InputError
        Where there is nothing to compact, or it cannot be written.
    """
    import datetime

    with alone_with(rig_path):
        history = read_history(rig_path, COMPACT_LIMIT_BYTES)
        if not history.entries:
            raise InputError("there is no history to compact", history_path(rig_path))
        since = datetime.datetime.fromisoformat(now) - datetime.timedelta(days=days)
        edge = since.astimezone(datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
        kept: list[Entry] = []
        state: JsonObject | None = None
        waiting: list[str] = []
        for index, (entry, document) in enumerate(history.walked()):
            watch(index, len(history.entries))
            following = history.entries[index + 1] if index + 1 < len(history.entries) else None
            ends_day = following is None or following.date[:10] != entry.date[:10]
            waiting += entry.labels
            if entry.date < edge and not entry.reason and not ends_day and index > 0:
                continue
            if document is None:
                continue  # a state that is lost already
            whole = state is None or _since_whole(kept) + 1 >= CHECKPOINT
            patch = None if state is None else patch_between(state, document)
            labels = tuple(dict.fromkeys(waiting))[:MAX_LABELS]
            before = kept[-1].after if kept else None
            held = document if whole else None
            kept.append(Entry(entry.date, labels, entry.after, before, entry.reason, entry.computer, patch, held))
            state, waiting = document, []
        watch(len(history.entries), len(history.entries))
        write_atomically(b"".join(entry.as_line() for entry in kept), history_path(rig_path), keep_previous=True)
    return len(history.entries), len(kept)


def join(rig_path: Path, other: Path) -> int:
    """Add what another computer's history of the same rig holds; return how many lines came in.

    Raises
    ------
    InputError
        For a file that is no history, or shares no state with this one.
    """
    own, foreign = read_history(rig_path), RigHistory.of(read_lines(other), other)
    if not foreign.entries:
        raise InputError("holds no history", other)
    states = {state for entry in own.entries for state in (entry.before, entry.after) if state is not None}
    if own.entries and not any(entry.after in states or entry.before in states for entry in foreign.entries):
        raise InputError("is the history of another rig: they share no state", other)
    held = {entry.key for entry in own.entries}
    new = [entry for entry in foreign.entries if entry.key not in held]
    # Each in its own order, with this computer's last state at the end: it is what the rig file holds.
    merged = [*_in_turn(own.entries[:-1], new), *own.entries[-1:]]
    write_atomically(b"".join(entry.as_line() for entry in merged), history_path(rig_path), keep_previous=True)
    return len(new)


def _in_turn(own: Sequence[Entry], others: Sequence[Entry]) -> list[Entry]:
    """Return the saves of two computers in one order, which keeps that of each: by date, where no clock went back."""
    found: list[Entry] = []
    waiting = list(reversed(others))
    latest, latest_there = "", ""
    for entry in own:
        latest = max(latest, entry.date)
        while waiting and max(latest_there, waiting[-1].date) < latest:
            latest_there = max(latest_there, waiting[-1].date)
            found.append(waiting.pop())
        found.append(entry)
    return found + waiting[::-1]

"""Saving files: written beside, synced, renamed, so that a name always holds the whole old or the whole new version."""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import json
import os
import secrets
import stat
import threading
import time
from collections.abc import Iterator
from pathlib import Path

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.foreign_text import is_number
from wyntaxis.core.files.opening import SIZE_LIMIT_BYTES, reason_of
from wyntaxis.core.json_values import JsonValue

PREVIOUS_MARK = "~"
LONGEST_NAME_BYTES = 255
"""Of a name in a folder, on Linux file systems."""
LONGEST_PLAIN_BYTES = 200
"""Names up to this long are told in the names of their temporary files; longer ones by a digest."""
LOCK_NAME = ".wyntaxis-lock"
LOCK_WITHIN_S = 30.0
"""How long one waits for another process that is saving; a save on a slow disk takes a few seconds."""


class ProtectedError(InputError):
    """The file is write-protected: whoever made it so did not want it overwritten."""


def document_bytes(document: JsonValue, indent: int, limit: int = SIZE_LIMIT_BYTES) -> bytes:
    """Return a document as JSON that can be opened again: indented, or without a space where that would be too much.

    Raises
    ------
    InputError
        When it would have more than the reader takes, in any form.
    """
    text = json.dumps(document, indent=indent, ensure_ascii=False, allow_nan=False) + "\n"
    data = text.encode()
    if len(data) > limit:
        data = json.dumps(document, separators=(",", ":"), ensure_ascii=False, allow_nan=False).encode()
    if len(data) > limit:
        raise InputError(
            f"cannot be saved: it would have {len(data) / 1e6:.1f} MB, and no more than {limit / 1e6:.1f} MB can be "
            "opened again; take notes, records or corrections out"
        )
    return data


def write_atomically(data: bytes, path: Path, *, keep_previous: bool, protected: bool = False) -> tuple[str, ...]:
    """Write beside, sync, rename; change nothing when that cannot be done.

    Parameters
    ----------
    data
        All that the file is to hold.
    path
        Where; a link is followed, and stays.
    keep_previous
        Whether the version before stays, under the name with ``~``.
    protected
        Whether a write-protected file may be replaced.

    Returns
    -------
    tuple of str
        What could not be kept of the file that was there, in words; empty as a rule.

    Raises
    ------
    InputError
        In one line.
    """
    target = Path(os.path.realpath(path))
    if not protected and is_protected(target):
        raise ProtectedError("is write-protected, so it is not overwritten; save under another name", path)
    temporary: Path | None = None
    try:
        _clear_leftovers(target)
        descriptor, temporary = _new_beside(target)
        with os.fdopen(descriptor, "wb") as file:
            notes = _take_over(target, file.fileno())
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        if keep_previous and target.exists():
            notes += _keep_previous(target)
        os.replace(temporary, target)
        temporary = None
        _sync_folder(target.parent)
    except (OSError, ValueError) as error:
        raise InputError(f"cannot be saved: {reason_of(error)}; save it in another place", path) from None
    finally:
        if temporary is not None:
            with contextlib.suppress(OSError):
                os.unlink(temporary)
    return notes


def _new_beside(target: Path) -> tuple[int, Path]:
    """Return a new file beside another, open for writing: readable by the owner alone where it takes over a mode.

    A file that replaces none gets what the process's mask allows, from the system itself: to ask for the mask one would
    have to change it for a moment, while other threads may write.
    """
    mode = 0o600 if os.path.lexists(target) else 0o666
    while True:
        place = target.with_name(f"{_leftover_prefix(target)}{os.getpid()}-{secrets.token_hex(4)}")
        with contextlib.suppress(FileExistsError):
            return os.open(place, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC | os.O_NOFOLLOW, mode), place


def is_protected(path: Path) -> bool:
    """Return whether a file is there that nobody may write."""
    try:
        info = path.stat()
    except (OSError, ValueError):
        return False
    return stat.S_ISREG(info.st_mode) and (not info.st_mode & 0o222 or not os.access(path, os.W_OK))


class _Held(threading.local):
    """Which folders this thread has locked, and how often."""

    def __init__(self) -> None:
        self.folders: dict[str, int] = {}


_held = _Held()


@contextlib.contextmanager
def alone_with(path: Path) -> Iterator[None]:
    """Keep other processes from saving beside a file, from before it is read until it is written again.

    The folder itself is locked, so nothing is left in it. One that cannot be locked, as some on a network, is used
    without.

    Raises
    ------
    InputError
        Where another process keeps it for longer than :data:`LOCK_WITHIN_S`.
    """
    folder = str(Path(os.path.realpath(path)).parent)
    if _held.folders.get(folder):
        _held.folders[folder] += 1
        try:
            yield
        finally:
            _held.folders[folder] -= 1
        return
    descriptor = None
    with contextlib.suppress(OSError):
        descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        if descriptor is not None:
            _lock(descriptor, path)
        _held.folders[folder] = 1
        yield
    finally:
        _held.folders.pop(folder, None)
        if descriptor is not None:
            os.close(descriptor)


def _lock(descriptor: int, path: Path) -> None:
    until = time.monotonic() + LOCK_WITHIN_S
    while True:
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            if time.monotonic() > until:
                raise InputError("another program is saving in this folder and does not end; try again", path) from None
            time.sleep(0.005)
        except OSError:
            return  # no locks here
        else:
            return


@contextlib.contextmanager
def alone_in(folder: Path) -> Iterator[None]:
    """Keep other windows from changing what all share in a folder, while it is read, changed and written.

    A folder that cannot hold a lock, such as one on a network, is used without.
    """
    descriptor = None
    with contextlib.suppress(OSError):
        descriptor = os.open(folder / LOCK_NAME, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        fcntl.flock(descriptor, fcntl.LOCK_EX)
    try:
        yield
    finally:
        if descriptor is not None:
            os.close(descriptor)


def _take_over(target: Path, descriptor: int) -> tuple[str, ...]:
    """Give the new file mode, owner, group and attributes of the one that it replaces; return what it cannot keep."""
    try:
        info = target.stat()
    except OSError:
        return ()
    notes = []
    if info.st_nlink > 1:
        notes.append("its other names (hard links) hold the version before")
    own = os.fstat(descriptor)
    if (info.st_uid, info.st_gid) != (own.st_uid, own.st_gid):
        try:
            os.fchown(descriptor, info.st_uid, info.st_gid)
        except OSError:
            with contextlib.suppress(OSError):
                os.fchown(descriptor, -1, info.st_gid)
            notes.append("it belongs to you now, as its owner cannot be kept")
    os.fchmod(descriptor, stat.S_IMODE(info.st_mode))
    try:
        for name in os.listxattr(target):
            os.setxattr(descriptor, name, os.getxattr(target, name))
    except OSError:
        notes.append("its extended attributes could not all be kept")
    return tuple(notes)


def _keep_previous(target: Path) -> tuple[str, ...]:
    """Give the present version a second name; return why it could not. The old name is never without a file."""
    previous = target.with_name(target.name + PREVIOUS_MARK)
    if len(os.fsencode(previous.name)) > LONGEST_NAME_BYTES:
        return ("its name is too long for the version before to be kept beside it",)
    if previous.is_dir():
        return (f"the version before is not kept: {previous.name} is a folder",)
    spare = target.with_name(f"{_leftover_prefix(target)}{os.getpid()}-{PREVIOUS_MARK}")
    spare.unlink(missing_ok=True)
    try:
        try:
            os.link(target, spare)
        except OSError:  # a file system without hard links
            spare.write_bytes(target.read_bytes())
        os.replace(spare, previous)
    finally:
        # rename() does nothing where both names are already the same file, as after two saves cut short.
        spare.unlink(missing_ok=True)
    return ()


def _leftover_prefix(target: Path) -> str:
    name = os.fsencode(target.name)
    entries = target.name if len(name) <= LONGEST_PLAIN_BYTES else hashlib.sha256(name).hexdigest()[:32]
    return f".{entries}.saving-"


def _clear_leftovers(target: Path) -> None:
    """Remove what saves that were killed left beside the file; a save that still runs keeps its own."""
    prefix = _leftover_prefix(target)
    for leftover in target.parent.iterdir():
        if leftover.name.startswith(prefix) and not _runs(leftover.name.removeprefix(prefix).partition("-")[0]):
            leftover.unlink(missing_ok=True)


def is_left_over(process_id: str) -> bool:
    """Return whether what a process left under its number can be removed: it runs no more, and is not this one."""
    return is_number(process_id) and process_id != str(os.getpid()) and not _runs(process_id)


def _runs(process_id: str) -> bool:
    return is_number(process_id) and process_id != str(os.getpid()) and Path("/proc", process_id).exists()


def _sync_folder(folder: Path) -> None:
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(descriptor)
    except OSError:  # some network file systems cannot sync a folder
        pass
    finally:
        os.close(descriptor)

"""Saving files: written beside, synced, renamed, so that a name always holds the whole old or the whole new version."""

from __future__ import annotations

import contextlib
import os
import stat
import tempfile
from pathlib import Path

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.foreign_text import is_number
from wyntaxis.core.files.opening import reason_of

PREVIOUS_MARK = "~"


def write_atomically(data: bytes, path: Path, *, keep_previous: bool) -> None:
    """Write beside, sync, rename; raise :class:`InputError` of one line and change nothing when that cannot be done."""
    target = Path(os.path.realpath(path))
    temporary: str | None = None
    try:
        _clear_leftovers(target)
        descriptor, temporary = tempfile.mkstemp(prefix=f"{_leftover_prefix(target)}{os.getpid()}-", dir=target.parent)
        with os.fdopen(descriptor, "wb") as file:
            os.fchmod(file.fileno(), _mode_for(target))
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        if keep_previous and target.exists():
            _keep_previous(target)
        os.replace(temporary, target)
        temporary = None
        _sync_folder(target.parent)
    except (OSError, ValueError) as error:
        raise InputError(f"cannot be saved: {reason_of(error)}; save it in another place", path) from None
    finally:
        if temporary is not None:
            with contextlib.suppress(OSError):
                os.unlink(temporary)


def _mode_for(target: Path) -> int:
    try:
        return stat.S_IMODE(target.stat().st_mode)
    except OSError:
        mask = os.umask(0)
        os.umask(mask)
        return 0o666 & ~mask


def _keep_previous(target: Path) -> None:
    """Give the present version a second name; the old name is never without a file."""
    previous = target.with_name(target.name + PREVIOUS_MARK)
    spare = target.with_name(f"{_leftover_prefix(target)}{os.getpid()}-{PREVIOUS_MARK}")
    spare.unlink(missing_ok=True)
    try:
        os.link(target, spare)
    except OSError:  # a file system without hard links
        spare.write_bytes(target.read_bytes())
    os.replace(spare, previous)
    # rename() does nothing where both names are already the same file, as after two saves cut short.
    spare.unlink(missing_ok=True)


def _leftover_prefix(target: Path) -> str:
    return f".{target.name}.saving-"


def _clear_leftovers(target: Path) -> None:
    """Remove what saves that were killed left beside the file; a save that still runs keeps its own."""
    prefix = _leftover_prefix(target)
    for leftover in target.parent.iterdir():
        if leftover.name.startswith(prefix) and not _runs(leftover.name.removeprefix(prefix).partition("-")[0]):
            leftover.unlink(missing_ok=True)


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

"""Read and write rig files: safely in, atomically out.

Reading never runs anything that the file holds. Writing goes to a file beside the target, which is synced and renamed
over it, so that at every instant the name holds either the whole old or the whole new version.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import stat
import tempfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from wyntaxis.core.rig.errors import RigError, describe, quoted
from wyntaxis.core.rig.model import FORMAT, VERSION, Rig

SIZE_LIMIT_BYTES = 4 * 1024 * 1024
"""A rig file is a few kB; anything beyond this is some other file."""

SUFFIX = ".rig.json"
PREVIOUS_MARK = "~"


@dataclass(frozen=True)
class StoredRig:
    """A rig as it was read, and the SHA-256 of the bytes it came from."""

    rig: Rig
    sha256: str


class _DuplicateKeyError(ValueError):
    pass


def load(path: Path) -> StoredRig:
    """Read and validate a rig file.

    Raises
    ------
    RigError
        With one line, opening with the file's name, for anything that keeps it from being a rig.
    """
    data = read_bytes(path)
    try:
        rig = parse(data)
    except RigError as error:
        raise RigError(f"{shown(path)}: {error}") from None
    return StoredRig(rig, hashlib.sha256(data).hexdigest())


def shown(path: Path) -> str:
    """Return a path as it may stand in an error line: printable, on one line."""
    return "".join(char if char.isprintable() else "\ufffd" for char in str(path))


RIG_HINT = "a rig file has a few kB; is it the right file?"


def read_bytes(path: Path, limit: int = SIZE_LIMIT_BYTES, hint: str = RIG_HINT) -> bytes:
    """Return the bytes of a regular file of bounded size, or raise a :class:`RigError` that says why not."""
    try:
        # O_NONBLOCK: opening a named pipe nobody writes to must not hang.
        descriptor = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    except (OSError, ValueError) as error:
        raise RigError(f"{shown(path)}: cannot be read: {_reason(error)}") from None
    info = os.fstat(descriptor)
    if stat.S_ISDIR(info.st_mode):
        os.close(descriptor)
        raise RigError(f"{shown(path)}: is a folder; name a file in it")
    with os.fdopen(descriptor, "rb") as file:
        if not stat.S_ISREG(info.st_mode):
            raise RigError(f"{shown(path)}: is not a regular file")
        if info.st_size > limit:
            raise RigError(f"{shown(path)}: has {info.st_size / 1e6:.0f} MB, but {hint}")
        try:
            return file.read(limit + 1)
        except OSError as error:
            raise RigError(f"{shown(path)}: cannot be read: {_reason(error)}") from None


def parse(data: bytes) -> Rig:
    """Return the rig that the bytes of a file hold, or raise a :class:`RigError` of one line."""
    return validated(parse_json(data))


def parse_json(data: bytes) -> Any:
    """Return strict JSON from bytes: UTF-8, no NaN, no key twice; a :class:`RigError` says where it breaks."""
    if not data.strip():
        raise RigError("the file is empty; a rig starts with {")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise RigError(f"is not UTF-8 text (byte {error.start}); is it a rig file?") from None
    try:
        return json.loads(text, parse_constant=_no_constant, object_pairs_hook=_unique_pairs)
    except json.JSONDecodeError as error:
        raise RigError(f"broken JSON at line {error.lineno}, column {error.colno}: {error.msg}") from None
    except RecursionError:
        raise RigError("broken JSON: nested too deeply") from None
    except _DuplicateKeyError as error:
        raise RigError(str(error)) from None
    except ValueError as error:
        message = "a number with too many digits" if "digits" in str(error) else str(error)
        raise RigError(f"broken JSON: {message}") from None


def validated(document: Any) -> Rig:
    """Return the rig of a parsed document, or raise a :class:`RigError` that names the path within it."""
    if not isinstance(document, dict):
        raise RigError("must be a JSON object in braces")
    if document.get("format") != FORMAT:
        raise RigError(f'format: must be "{FORMAT}", got {quoted(document.get("format"))}; is it a rig file?')
    version = document.get("version")
    if isinstance(version, int) and not isinstance(version, bool) and version > VERSION:
        raise RigError(
            f"version: the file is of version {quoted(version)}, this program reads up to {VERSION}; use a newer one"
        )
    try:
        return Rig.model_validate(document)
    except ValidationError as error:
        raise RigError(describe(error, Rig)) from None
    except RecursionError:
        raise RigError("nested too deeply") from None


def to_bytes(rig: Rig) -> bytes:
    """Return the file of a rig: the keys it came with, in the model's order, two spaces an indent."""
    document = _tidy(rig.model_dump(mode="json", exclude_unset=True))
    return (json.dumps(document, indent=2, ensure_ascii=False, allow_nan=False) + "\n").encode()


def save(rig: Rig, path: Path) -> str:
    """Write a rig file atomically, keep the version before as ``NAME.rig.json~``, and return the SHA-256 written.

    Raises
    ------
    RigError
        With one line when the place cannot be written; the file there is then as it was.
    """
    data = to_bytes(rig)
    write_atomically(data, path, keep_previous=True)
    return hashlib.sha256(data).hexdigest()


def write_atomically(data: bytes, path: Path, *, keep_previous: bool) -> None:
    """Write beside, sync, rename; raise :class:`RigError` of one line and change nothing when that cannot be done."""
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
        raise RigError(f"{shown(path)}: cannot be saved: {_reason(error)}; save it in another place") from None
    finally:
        if temporary is not None:
            with contextlib.suppress(OSError):
                os.unlink(temporary)


def sha256_of(path: Path) -> str | None:
    """Return the SHA-256 of a file, or None where there is none that can be read."""
    try:
        return hashlib.sha256(read_bytes(path)).hexdigest()
    except RigError:
        return None


def _no_constant(name: str) -> float:
    raise ValueError(f"{name} is not a number that JSON allows; leave the key out or write a value")


def _unique_pairs(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for key, value in pairs:
        if key in found:
            near = f" in the object with id {quoted(found['id'])}" if "id" in found else ""
            raise _DuplicateKeyError(f"the key {quoted(key)} stands twice{near}; keep one")
        found[key] = value
    return found


def _reason(error: Exception) -> str:
    if isinstance(error, OSError) and error.strerror:
        return error.strerror[0].lower() + error.strerror[1:]
    return str(error)


def _tidy(node: Any) -> Any:
    """Write whole numbers without a trailing ``.0``, as people do."""
    if isinstance(node, dict):
        return {key: _tidy(value) for key, value in node.items()}
    if isinstance(node, list):
        return [_tidy(value) for value in node]
    if isinstance(node, float) and node.is_integer() and abs(node) < 1e15:
        return int(node)
    return node


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
    return process_id.isdigit() and process_id != str(os.getpid()) and Path("/proc", process_id).exists()


def _sync_folder(folder: Path) -> None:
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(descriptor)
    except OSError:  # some network file systems cannot sync a folder
        pass
    finally:
        os.close(descriptor)

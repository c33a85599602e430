"""Opening files: regular ones of bounded size only, strict JSON, every fault one line."""

from __future__ import annotations

import hashlib
import json
import os
import stat
from pathlib import Path
from typing import Any

from wyntaxis.core.files.errors import InputError, quoted
from wyntaxis.core.json_values import JsonObject

SIZE_LIMIT_BYTES = 4 * 1024 * 1024
"""A rig file is a few kB; anything beyond this is some other file."""
RIG_HINT = "a rig file has a few kB; is it the right file?"


def read_bytes(path: Path, limit: int = SIZE_LIMIT_BYTES, hint: str = RIG_HINT) -> bytes:
    """Return the bytes of a regular file of bounded size, or raise an :class:`InputError` that says why not."""
    try:
        # O_NONBLOCK: opening a named pipe nobody writes to must not hang.
        descriptor = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    except (OSError, ValueError) as error:
        raise InputError(f"cannot be read: {reason_of(error)}", path) from None
    info = os.fstat(descriptor)
    if stat.S_ISDIR(info.st_mode):
        os.close(descriptor)
        raise InputError("is a folder; name a file in it", path)
    with os.fdopen(descriptor, "rb") as file:
        if not stat.S_ISREG(info.st_mode):
            raise InputError("is not a regular file", path)
        if info.st_size > limit:
            raise InputError(f"has {info.st_size / 1e6:.0f} MB, but {hint}", path)
        try:
            return file.read(limit + 1)
        except OSError as error:
            raise InputError(f"cannot be read: {reason_of(error)}", path) from None


def is_there(path: Path) -> bool:
    """Return whether something is there; also of a name that no folder can hold."""
    return os.path.lexists(path) and _stat_of(path) is not None


def is_folder(path: Path) -> bool:
    """Return whether a folder is there; also of a name that no folder can hold."""
    info = _stat_of(path)
    return info is not None and stat.S_ISDIR(info.st_mode)


def _stat_of(path: Path) -> os.stat_result | None:
    try:
        return path.stat()
    except (OSError, ValueError):
        return None


def parse_json(data: bytes) -> Any:
    """Return strict JSON from bytes: UTF-8, no NaN, no key twice; an :class:`InputError` says where it breaks."""
    if not data.strip():
        raise InputError("the file is empty; a rig starts with {")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise InputError(f"is not UTF-8 text (byte {error.start}); is it a rig file?") from None
    try:
        return json.loads(text, parse_constant=_no_constant, object_pairs_hook=_unique_pairs)
    except json.JSONDecodeError as error:
        raise InputError(f"broken JSON at line {error.lineno}, column {error.colno}: {error.msg}") from None
    except RecursionError:
        raise InputError("broken JSON: nested too deeply") from None
    except _DuplicateKeyError as error:
        raise InputError(str(error)) from None
    except ValueError as error:
        message = "a number with too many digits" if "digits" in str(error) else str(error)
        raise InputError(f"broken JSON: {message}") from None


def sha256_of(path: Path) -> str | None:
    """Return the SHA-256 of a file, or None where there is none that can be read."""
    try:
        return hashlib.sha256(read_bytes(path)).hexdigest()
    except InputError:
        return None


def _no_constant(name: str) -> float:
    raise ValueError(f"{name} is not a number that JSON allows; leave the key out or write a value")


def _unique_pairs(pairs: list[tuple[str, Any]]) -> JsonObject:
    found: JsonObject = {}
    for key, value in pairs:
        if key in found:
            near = f" in the object with id {quoted(found['id'])}" if "id" in found else ""
            raise _DuplicateKeyError(f"the key {quoted(key)} is there twice{near}; keep one")
        found[key] = value
    return found


def reason_of(error: Exception) -> str:
    """Return why something failed, in lower case where the system says it."""
    if isinstance(error, OSError) and error.strerror:
        return error.strerror[0].lower() + error.strerror[1:]
    return str(error)


class _DuplicateKeyError(ValueError):
    pass

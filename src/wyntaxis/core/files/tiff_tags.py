"""Tags of TIFF files, as camera bodies write them into raw frames: the few that tell how a frame was taken.

Source: TIFF 6.0; Exif 2.31 (CIPA DC-008). Pixels are never read here, and every read is bounded.
"""

from __future__ import annotations

import struct
from pathlib import Path
from typing import BinaryIO

MAX_TAGS, MAX_VALUES, MAX_FOLDERS = 400, 256, 4
EXIF_FOLDER = 0x8769
MODEL, ISO, EXPOSURE, TAKEN, AIR_C = 0x0110, 0x8827, 0x829A, 0x9003, 0x9400

_SIZES = {1: 1, 2: 1, 3: 2, 4: 4, 5: 8, 7: 1, 9: 4, 10: 8}
_FORMS = {1: "B", 3: "H", 4: "I", 9: "i"}

Tag = float | str


def tags_of(path: Path) -> dict[int, Tag]:
    """Return the first value of each tag of a file's first folder and of its Exif folder.

    Parameters
    ----------
    path
        A file.

    Returns
    -------
    dict
        Numbers, fractions as quotients, and texts, by tag; empty where the file is no TIFF, and without what is broken.
    """
    try:
        with path.open("rb") as file:
            head = file.read(8)
            order = {b"II": "<", b"MM": ">"}.get(head[:2])
            if order is None or len(head) < 8:
                return {}
            found: dict[int, Tag] = {}
            waiting = [struct.unpack(f"{order}I", head[4:])[0]]
            for _ in range(MAX_FOLDERS):
                if not waiting:
                    break
                found |= _folder(file, order, waiting.pop(0))
                below = found.pop(EXIF_FOLDER, None)
                if isinstance(below, float):
                    waiting.append(int(below))
            return found
    except (OSError, ValueError, struct.error):
        return {}


def _folder(file: BinaryIO, order: str, at: int) -> dict[int, Tag]:
    file.seek(at)
    (count,) = struct.unpack(f"{order}H", file.read(2))
    entries = file.read(12 * min(count, MAX_TAGS))
    found: dict[int, Tag] = {}
    for start in range(0, len(entries) - 11, 12):
        tag, form, values = struct.unpack(f"{order}HHI", entries[start : start + 8])
        size = _SIZES.get(form, 0) * values
        if not size or values > MAX_VALUES:
            continue
        raw = entries[start + 8 : start + 8 + size]
        if size > 4:
            file.seek(struct.unpack(f"{order}I", entries[start + 8 : start + 12])[0])
            raw = file.read(size)
        value = _value(raw, order, form) if len(raw) == size else None
        if value is not None:
            found[tag] = value
    return found


def _value(raw: bytes, order: str, form: int) -> Tag | None:
    if form in (2, 7):
        return raw.split(b"\0")[0].decode("utf-8", "replace").strip()
    if form in (5, 10):
        above, below = struct.unpack(f"{order}{'II' if form == 5 else 'ii'}", raw[:8])
        return above / below if below else None
    return float(struct.unpack(f"{order}{_FORMS[form]}", raw[: _SIZES[form]])[0])

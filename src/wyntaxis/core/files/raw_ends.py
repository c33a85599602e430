"""Whether a camera's raw file is whole: what its own directory says that it holds must lie within it.

The library that decodes raw frames fills what is missing of a file that is cut short, so that half a frame of noise
would be measured as if it were one. Sources: TIFF 6.0, sections 2 and 15; ISO/IEC 14496-12, section 4.2 (boxes);
the offsets at the head of RAF files.
"""

from __future__ import annotations

import os
import struct
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

from wyntaxis.core.files.errors import InputError

CUT_SHORT = "is cut short: its directory names {wanted} bytes, and {size} are there; copy it again, or take it out"
MAX_FOLDERS, MAX_TAGS, MAX_STRIPS, MAX_BOXES = 32, 400, 1 << 20, 1000
FOLDERS_BELOW = 0x014A
STRETCHES = ((0x0111, 0x0117), (0x0144, 0x0145), (0x0201, 0x0202))
"""Tags of where pixels begin and of how many bytes they are: in strips, in tiles, and as a preview."""
PACKED, PACKED_FORM, PACKED_AT, PACKED_WIDE, PACKED_HIGH = 34316, 0x000B, 0x0118, 0x0002, 0x0003
"""One maker's packing: 14 px in 16 bytes, from an offset of its own, with a size by tags of its own."""
NO_OFFSET = 0xFFFFFFFF
_FORMS = {1: "B", 3: "H", 4: "I", 13: "I"}
_RAF = b"FUJIFILMCCD-RAW "
_RAF_STRETCHES_AT = (84, 92, 100)


def check_whole(path: Path) -> None:
    """Refuse a raw file of which less is there than its directory names; forms without a directory are let pass.

    Raises
    ------
    InputError
        In one line, when it is cut short or cannot be read.
    """
    try:
        with path.open("rb") as file:
            size = os.fstat(file.fileno()).st_size
            wanted = _wanted(file, size)
    except OSError as error:
        raise InputError(f"cannot be read: {error.strerror}", path) from None
    if wanted > size:
        raise InputError(CUT_SHORT.format(wanted=wanted, size=size), path)


def _wanted(file: BinaryIO, size: int) -> int:
    """Return how many bytes a file must have, 0 where its form is not known here."""
    head = file.read(16)
    if len(head) == 16 and head[:4] in (b"II*\0", b"MM\0*", b"IIU\0", b"IIRO", b"IIRS", b"MMOR"):
        return max(_tiff_ends(file, "<" if head[:2] == b"II" else ">", size), default=0)
    if head[4:8] == b"ftyp":
        return max(_box_ends(file), default=0)
    if head == _RAF:
        file.seek(0)
        start = file.read(108)
        return max((sum(struct.unpack(">II", start[at : at + 8])) for at in _RAF_STRETCHES_AT if len(start) > at + 7),
                   default=0)  # fmt: skip
    return 0


def _box_ends(file: BinaryIO) -> Iterator[int]:
    at = 0
    for _ in range(MAX_BOXES):
        file.seek(at)
        head = file.read(16)
        if len(head) < 8:
            return
        length = struct.unpack(">I", head[:4])[0]
        if length == 1 and len(head) == 16:
            length = struct.unpack(">Q", head[8:])[0]
        if length < 8:  # 0: to the end of the file, whatever that is
            return
        at += length
        yield at


def _tiff_ends(file: BinaryIO, order: str, size: int) -> Iterator[int]:
    """Yield where each stretch ends that the folders of a TIFF name, and each folder itself."""
    file.seek(4)
    waiting, seen = [struct.unpack(f"{order}I", file.read(4))[0]], set[int]()
    while waiting and len(seen) < MAX_FOLDERS:
        at = waiting.pop()
        if not at or at in seen:
            continue
        seen.add(at)
        yield at + 2
        file.seek(at)
        count = file.read(2)
        if len(count) < 2:
            continue
        number = min(struct.unpack(f"{order}H", count)[0], MAX_TAGS)
        yield at + 2 + 12 * number
        entries = file.read(12 * number + 4)
        tags = _numbers(file, entries[: 12 * number], order)
        waiting += tags.get(FOLDERS_BELOW, ())
        if len(entries) == 12 * number + 4:
            following = struct.unpack(f"{order}I", entries[-4:])[0]
            waiting += [following] if following < size else []  # some bodies leave rubbish in this place
        for begin, length in STRETCHES:
            for start, bytes_ in zip(tags.get(begin, ()), tags.get(length, ()), strict=False):
                if start != NO_OFFSET:
                    yield start + bytes_
        yield _packed_end(tags)


def _packed_end(tags: dict[int, tuple[int, ...]]) -> int:
    if tags.get(PACKED_FORM) != (PACKED,) or not all(key in tags for key in (PACKED_AT, PACKED_WIDE, PACKED_HIGH)):
        return 0
    wide, high = tags[PACKED_WIDE][0], tags[PACKED_HIGH][0]
    return tags[PACKED_AT][0] + wide * high * 8 // 7


def _numbers(file: BinaryIO, entries: bytes, order: str) -> dict[int, tuple[int, ...]]:
    """Return the whole numbers of a folder by tag, what lies beyond the file's end left out."""
    wanted = {FOLDERS_BELOW, PACKED_FORM, PACKED_AT, PACKED_WIDE, PACKED_HIGH} | {
        tag for pair in STRETCHES for tag in pair
    }
    found: dict[int, tuple[int, ...]] = {}
    for start in range(0, len(entries) - 11, 12):
        tag, form, count = struct.unpack(f"{order}HHI", entries[start : start + 8])
        if tag not in wanted or form not in _FORMS or not 0 < count <= MAX_STRIPS:
            continue
        code = f"{order}{count}{_FORMS[form]}"
        raw = entries[start + 8 : start + 12]
        if struct.calcsize(code) > 4:
            file.seek(struct.unpack(f"{order}I", raw)[0])
            raw = file.read(struct.calcsize(code))
        if len(raw) >= struct.calcsize(code):
            found[tag] = struct.unpack_from(code, raw)
    return found

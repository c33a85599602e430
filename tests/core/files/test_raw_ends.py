"""A camera's raw file that is cut short anywhere is refused; a whole one is let pass. The files are put together here,
byte by byte, as the standards say."""

from __future__ import annotations

import struct

import pytest

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.raw_ends import check_whole

PIXELS = bytes(range(64)) * 4


def folder(order, tags, following=0):
    """A TIFF folder of tags (number, form, values that fit in four bytes)."""
    entries = b"".join(
        struct.pack(f"{order}HHI", tag, form, 1) + struct.pack(f"{order}I" if form == 4 else f"{order}Hxx", value)
        for tag, form, value in tags
    )
    return struct.pack(f"{order}H", len(tags)) + entries + struct.pack(f"{order}I", following)


def tiff(order, mark):
    """A preview in the first folder, the frame's strip in a folder below it, which stands between."""
    head = 8
    first = len(folder(order, [(0, 4, 0)] * 3))
    below = head + first
    pixels = below + len(folder(order, [(0, 4, 0)] * 2))
    return (
        mark
        + struct.pack(f"{order}I", head)
        + folder(order, [(0x0201, 4, pixels), (0x0202, 4, 10), (0x014A, 4, below)], following=0xFFFFFFF0)
        + folder(order, [(0x0111, 4, pixels), (0x0117, 4, len(PIXELS))])
        + PIXELS
    )


def tiled():
    """Two tiles, told by an array of offsets that stands behind the folder, the second tile last in the file."""
    at = 8 + len(folder("<", [(0, 4, 0)] * 2))
    first = at + 16
    offsets = struct.pack("<4I", first, first + 100, 100, len(PIXELS) - 100)
    entries = struct.pack("<HHII", 0x0144, 4, 2, at) + struct.pack("<HHII", 0x0145, 4, 2, at + 8)
    return b"II*\0" + struct.pack("<I", 8) + struct.pack("<H", 2) + entries + struct.pack("<I", 0) + offsets + PIXELS


def boxes():
    """Boxes of ISO media files: one with a short length, and one with the long form of it."""
    return (
        struct.pack(">I4s", 16, b"ftyp") + b"crx \0\0\0\1"
        + struct.pack(">I4sQ", 1, b"mdat", 16 + len(PIXELS)) + PIXELS
    )  # fmt: skip


def raf():
    """A head with three stretches, big-endian: preview, cards, pixels."""
    head = b"FUJIFILMCCD-RAW " + bytes(68) + struct.pack(">6I", 108, 4, 112, 4, 116, len(PIXELS))
    return head + bytes(8) + PIXELS


WHOLE = {
    "little-endian": tiff("<", b"II*\0"),
    "big-endian": tiff(">", b"MM\0*"),
    "tiles": tiled(),
    "boxes": boxes(),
    "raf": raf(),
}


@pytest.mark.parametrize("form", WHOLE)
def test_every_cut_is_refused_and_the_whole_passes(form, tmp_path):
    whole, path = WHOLE[form], tmp_path / "frame.raw"
    path.write_bytes(whole)
    check_whole(path)
    path.write_bytes(whole + b"padding")
    check_whole(path)
    for length in range(120, len(whole)):
        path.write_bytes(whole[:length])
        with pytest.raises(InputError, match="is cut short: its directory names"):
            check_whole(path)


def test_the_packing_of_one_maker_is_reckoned_from_its_size(tmp_path):
    """28 × 10 px, 14 px in 16 bytes: 320 bytes behind the offset, which the strip's own tags do not tell."""
    at = 8 + len(folder("<", [(0, 4, 0)] * 5))
    tags = [(0x0002, 4, 28), (0x0003, 4, 10), (0x000B, 4, 34316), (0x0111, 4, 0xFFFFFFFF), (0x0118, 4, at)]
    whole = b"IIU\0" + struct.pack("<I", 8) + folder("<", tags) + bytes(320)
    path = tmp_path / "frame.rw2"
    path.write_bytes(whole)
    check_whole(path)
    path.write_bytes(whole[:-1])
    with pytest.raises(InputError, match="cut short"):
        check_whole(path)


@pytest.mark.parametrize("data", [b"", b"II*\0", b"IIU\0\xff\xff", b"HEAPCCDR" + bytes(40), bytes(200)])
def test_what_has_no_directory_is_left_to_the_reader(data, tmp_path):
    path = tmp_path / "frame.raw"
    path.write_bytes(data)
    check_whole(path)


def test_a_circle_of_folders_ends(tmp_path):
    whole = b"II*\0" + struct.pack("<I", 8) + folder("<", [(0x014A, 4, 8)], following=8)
    path = tmp_path / "frame.dng"
    path.write_bytes(whole)
    check_whole(path)

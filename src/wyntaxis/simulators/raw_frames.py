"""Raw frames of a simulated camera body, written as DNG: an open format (Adobe DNG 1.4, on TIFF 6.0)."""

from __future__ import annotations

import struct
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Numbers

_BYTE, _ASCII, _SHORT, _LONG, _RATIONAL, _SIGNED = 1, 2, 3, 4, 5, 10
_FORMS = {_BYTE: "B", _SHORT: "H", _LONG: "I", _RATIONAL: "II", _SIGNED: "ii"}
WHITE = 16383
"""The highest code."""
_COLORS = {"R": 0, "G": 1, "B": 2}
MATRIX = ((1, 1), (0, 1), (0, 1), (0, 1), (1, 1), (0, 1), (0, 1), (0, 1), (1, 1))


def write_dng(
    path: Path,
    pixels: Numbers,
    *,
    iso: int = 1600,
    exposure_s: float = 60.0,
    model: str = "Hollow Body 7",
    mosaic: str = "RGGB",
    air_c: float | None = None,
) -> None:
    """Write a frame with a colour mosaic as DNG, uncompressed.

    Parameters
    ----------
    path
        The file.
    pixels
        Codes as uint16, (height, width).
    iso, exposure_s, model, air_c
        What the body says of it; the air's temperature in °C where it tells it.
    mosaic
        The letters of the mosaic's square, row by row.
    """
    height, width = pixels.shape
    exif = [
        (0x829A, _RATIONAL, [(round(exposure_s * 1000), 1000)]),
        (0x8827, _SHORT, [iso]),
        (0x9003, _ASCII, "2026:02:10 21:14:05"),
    ]
    if air_c is not None:
        exif.append((0x9400, _SIGNED, [(round(air_c * 10), 10)]))
    first = [
        (0x00FE, _LONG, [0]),
        (0x0100, _LONG, [width]),
        (0x0101, _LONG, [height]),
        (0x0102, _SHORT, [16]),
        (0x0103, _SHORT, [1]),
        (0x0106, _SHORT, [32803]),
        (0x010F, _ASCII, "Hollow"),
        (0x0110, _ASCII, model),
        (0x0111, _LONG, [0]),
        (0x0115, _SHORT, [1]),
        (0x0116, _LONG, [height]),
        (0x0117, _LONG, [2 * width * height]),
        (0x828D, _SHORT, [2, 2]),
        (0x828E, _BYTE, [_COLORS[letter] for letter in mosaic]),
        (0x8769, _LONG, [0]),
        (0xC612, _BYTE, [1, 4, 0, 0]),
        (0xC614, _ASCII, model),
        (0xC61D, _LONG, [WHITE]),
        (0xC621, _SIGNED, list(MATRIX)),
        (0xC65A, _SHORT, [21]),
    ]
    at = 8
    size = len(_folder(first, at))
    exif_at = at + size
    pixels_at = exif_at + len(_folder(exif, exif_at))
    places = {0x0111: pixels_at, 0x8769: exif_at}
    first = [(tag, form, [places[tag]] if tag in places else values) for tag, form, values in first]
    path.parent.mkdir(parents=True, exist_ok=True)
    body = pixels.astype("<u2").tobytes()
    path.write_bytes(struct.pack("<2sHI", b"II", 42, at) + _folder(first, at) + _folder(exif, exif_at) + body)


def _folder(entries: list[tuple[int, int, Any]], at: int) -> bytes:
    """Return a folder of tags that stands at an offset, with its longer values behind it."""
    beyond = at + 2 + 12 * len(entries) + 4
    table, behind = struct.pack("<H", len(entries)), b""
    for tag, form, values in entries:
        if form == _ASCII:
            raw = values.encode("ascii") + b"\0"
            count = len(raw)
        else:
            flat = [number for value in values for number in (value if isinstance(value, tuple) else (value,))]
            raw, count = struct.pack(f"<{len(flat)}{_FORMS[form][0]}", *flat), len(values)
        table += struct.pack("<HHI", tag, form, count)
        if len(raw) <= 4:
            table += raw.ljust(4, b"\0")
        else:
            table += struct.pack("<I", beyond + len(behind))
            behind += raw + b"\0" * (len(raw) % 2)
    return table + struct.pack("<I", 0) + behind

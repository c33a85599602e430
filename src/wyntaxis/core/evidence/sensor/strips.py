"""Frames read in strips of rows as unsigned 16-bit codes: never as a whole, never as a float64 copy."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.files.camera_raw import is_raw, raw_pixels
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.fits import check_structure, first_line

if TYPE_CHECKING:
    from collections.abc import Callable

    from wyntaxis.core.arrays import Numbers

STRIP_BYTES = 2_500_000
"""Of 16-bit pixels in one strip: it and what is made of it stay within a processor's cache."""
Plane = tuple[int, int]
"""Row and column, 0 or 1, of a colour plane's pixel within each two by two."""

Box = tuple[int, int, int, int]
"""First column, the one behind the last, first row, the one behind the last; counted from 0."""
LIGHT_SECTIONS = ("TRIMSEC", "DATASEC")
"""Which part of a frame saw light: around it lie pixels that only the converter made (overscan)."""
_SECTION = re.compile(r"\s*\[\s*(\d{1,6})\s*:\s*(\d{1,6})\s*,\s*(\d{1,6})\s*:\s*(\d{1,6})\s*\]\s*")

ZERO_UNSIGNED = 32768
HIGHEST_CODE = 65535
MAX_FRACTION = 1e-3
"""What is farther from a whole number is no code."""


@dataclass(frozen=True)
class OpenFrame:
    """An open frame: its size in px, and a reader of rows as uint16 codes, shape (rows, width).

    ``threaded`` tells whether several threads may read at once.
    """

    width: int
    height: int
    rows: Callable[[int, int], Any]
    threaded: bool = False

    def plane(self, at: Plane | None) -> OpenFrame:
        """Return one colour plane of a mosaic of two by two as a frame of its own; the frame itself for None."""
        if at is None:
            return self
        down, right = at
        whole = self.rows

        def rows(start: int, end: int) -> Numbers:
            return np.ascontiguousarray(whole(2 * start, 2 * end)[down::2, right::2][:, : self.width // 2])

        return OpenFrame(self.width // 2, self.height // 2, rows)

    def cut(self, box: Box | None) -> OpenFrame:
        """Return the frame without what lies outside a box of columns and rows; the frame itself for None."""
        if box is None or box == (0, self.width, 0, self.height):
            return self
        left, right, lower, upper = box
        whole = self.rows

        def rows(start: int, end: int) -> Numbers:
            return np.ascontiguousarray(whole(lower + start, lower + end)[:, left:right])

        return OpenFrame(right - left, upper - lower, rows, self.threaded)

    def strips(self, tile: int) -> Iterator[tuple[int, int]]:
        """Yield (first, last) rows of strips that hold whole tiles; rows left over at the end are dropped."""
        count = max(1, STRIP_BYTES // (2 * self.width * tile)) * tile
        last = self.height - self.height % tile
        for start in range(0, last, count):
            yield start, min(start + count, last)


@contextmanager
def open_frame(path: Path) -> Iterator[OpenFrame]:
    """Open the first two-dimensional image of a FITS file, or a camera body's raw frame, for reading by rows.

    Where its header tells which part saw light, the border of overscan is left out.

    Yields
    ------
    OpenFrame
        The frame, to be read by rows of ADU.

    Raises
    ------
    InputError
        With one line when the file is no FITS, holds no image of 8- or 16-bit integers, or ends too soon.
    """
    if is_raw(path):
        with raw_pixels(path) as pixels:
            height, width = pixels.shape
            yield OpenFrame(width, height, lambda start, end: np.ascontiguousarray(pixels[start:end]), threaded=True)
        return
    from astropy.io import fits

    check_structure(path)
    try:
        hdus = fits.open(path, memmap=True, do_not_scale_image_data=True)
    except Exception as error:  # astropy raises many kinds for broken files
        raise InputError(f"is no readable FITS file: {first_line(error)}", path) from None
    with hdus:
        try:
            hdu = next((h for h in hdus if getattr(h, "shape", None) and len(h.shape) == 2), None)
            if hdu is None:
                raise InputError("holds no two-dimensional image", path)
            try:
                opened = _opened(hdu, path)
                opened = opened.cut(_lit_box(hdu.header, opened.width, opened.height))
            except (KeyError, AttributeError, OverflowError) as error:
                raise InputError(f"its pixels cannot be read: {first_line(error)}", path) from None
            yield opened
        except InputError:
            raise
        except (OSError, ValueError, TypeError, IndexError, fits.VerifyError) as error:
            raise InputError(f"its pixels cannot be read: {first_line(error)}", path) from None


def _lit_box(header: Any, width: int, height: int) -> Box | None:
    """Return the part that saw light, by the first keyword that tells one within the frame; None for none.

    A section is written ``[x1:x2,y1:y2]``, both ends counted from 1 and included, as is usual in FITS headers.
    """
    for keyword in LIGHT_SECTIONS:
        found = _SECTION.fullmatch(str(header.get(keyword, "")))
        if found is None:
            continue
        x1, x2, y1, y2 = (int(group) for group in found.groups())
        if 1 <= x1 < x2 <= width and 1 <= y1 < y2 <= height:
            return x1 - 1, x2, y1 - 1, y2
    return None


def _opened(hdu: Any, path: Path) -> OpenFrame:
    from astropy.io import fits

    height, width = (int(side) for side in hdu.shape)
    zero, scale = float(hdu.header.get("BZERO", 0)), float(hdu.header.get("BSCALE", 1))
    if not np.isfinite([zero, scale]).all() or (hdu.header["BITPIX"] > 0 and (scale != 1 or zero != int(zero))):
        raise InputError(f"is scaled by {scale:g} and moved by {zero:g}; raw frames of whole numbers are needed", path)
    if isinstance(hdu, fits.CompImageHDU):
        section = hdu.section

        def packed(start: int, end: int) -> Numbers:
            return _codes(np.asarray(section[start:end, :]), zero, scale, path)

        return OpenFrame(width, height, packed)
    data = hdu.data
    if data is None or data.shape != (height, width):
        raise InputError("ends before its pixels do; copy it again, or take it out", path)

    def plain(start: int, end: int) -> Numbers:
        return _codes(data[start:end], zero, scale, path)

    return OpenFrame(width, height, plain, threaded=True)


def _codes(raw: Numbers, zero: float, scale: float, path: Path) -> Numbers:
    """Return stored numbers as uint16 codes: ``BZERO + BSCALE · stored`` (FITS 4.0, section 4.4.2)."""
    if raw.dtype.kind == "i" and raw.dtype.itemsize == 2 and zero == ZERO_UNSIGNED:
        return raw.astype(np.int16, copy=False).view(np.uint16) ^ np.uint16(0x8000)
    if raw.dtype.kind == "u" and raw.dtype.itemsize <= 2 and zero == 0:
        return raw.astype(np.uint16, copy=False)
    if raw.dtype.kind in "iu":
        whole = raw.astype(np.int64) + int(zero)
        if whole.size and (whole.min() < 0 or whole.max() > HIGHEST_CODE):
            raise InputError(f"holds codes outside 0 to {HIGHEST_CODE}; it is no raw 16-bit frame", path)
        return whole.astype(np.uint16)
    values = raw.astype(np.float64) * scale + zero
    whole = np.rint(values)
    if (
        not np.isfinite(whole).all()
        or np.abs(values - whole).max() > MAX_FRACTION
        or whole.min() < 0
        or whole.max() > HIGHEST_CODE
    ):
        raise InputError(f"holds fractions or codes outside 0 to {HIGHEST_CODE}; it is no raw frame", path)
    return whole.astype(np.uint16)

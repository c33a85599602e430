"""Frames read in strips of rows as unsigned 16-bit codes: never as a whole, never as a float64 copy."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.files.camera_raw import is_raw, raw_pixels
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.fits import check_structure, first_line, section_ends
from wyntaxis.core.fitting import pixel_scatter

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

ZERO_UNSIGNED = 32768
HIGHEST_CODE = 65535
MAX_FRACTION = 1e-3
"""What is farther from a whole number is no code."""
FINE, FAR = 4.0, 1000.0
"""What is no code is mapped onto codes: its noise is at least so many, and so many times it below the usual is 0."""
NO_LIGHT = 1e30
"""Numbers so large, infinite ones among them, are gaps."""
ENOUGH = 50_000
"""Median and noise are taken of so many px of a strip."""
SHARE_LIMITS = (-0.5, 1.0 + 1e-6)
"""Numbers between these are shares of the converter's range."""


@dataclass(frozen=True)
class OpenFrame:
    """An open frame: its size in px, and a reader of rows as uint16 codes, shape (rows, width).

    ``threaded`` tells whether several threads may read at once. A code stands for ``zero + unit · code`` ADU.
    """

    width: int
    height: int
    rows: Callable[[int, int], Any]
    threaded: bool = False
    zero: float = 0.0
    unit: float = 1.0

    def plane(self, at: Plane | None) -> OpenFrame:
        """Return one colour plane of a mosaic of two by two as a frame of its own; the frame itself for None."""
        if at is None:
            return self
        down, right = at
        whole = self.rows

        def rows(start: int, end: int) -> Numbers:
            return np.ascontiguousarray(whole(2 * start, 2 * end)[down::2, right::2][:, : self.width // 2])

        return replace(self, width=self.width // 2, height=self.height // 2, rows=rows, threaded=False)

    def cut(self, box: Box | None) -> OpenFrame:
        """Return the frame without what lies outside a box of columns and rows; the frame itself for None."""
        if box is None or box == (0, self.width, 0, self.height):
            return self
        left, right, lower, upper = box
        whole = self.rows

        def rows(start: int, end: int) -> Numbers:
            return np.ascontiguousarray(whole(lower + start, lower + end)[:, left:right])

        return replace(self, width=right - left, height=upper - lower, rows=rows)

    def strips(self, tile: int) -> Iterator[tuple[int, int]]:
        """Yield (first, last) rows of strips that hold whole tiles; rows left over at the end are dropped."""
        count = max(1, STRIP_BYTES // (2 * self.width * tile)) * tile
        last = self.height - self.height % tile
        for start in range(0, last, count):
            yield start, min(start + count, last)


@contextmanager
def open_frame(path: Path, *, raw: bool = True) -> Iterator[OpenFrame]:
    """Open the first two-dimensional image of a FITS file, or a camera body's raw frame, for reading by rows.

    Where its header tells which part saw light, the border of overscan is left out.

    Parameters
    ----------
    path
        The file.
    raw
        Whether its pixels must be a converter's own codes; else fractions, numbers below 0 and shares of the range
        are taken, too (calibrated and stacked frames), mapped onto codes finer than their noise.

    Yields
    ------
    OpenFrame
        The frame, to be read by rows of ADU.

    Raises
    ------
    InputError
        With one line when it is no FITS file, holds no image, or no codes where codes are wanted, or ends early.
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
                opened = _opened(hdu, path, raw=raw)
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
        ends = section_ends(header.get(keyword, ""))
        if ends is None:
            continue
        x1, x2, y1, y2 = ends
        if 1 <= x1 < x2 <= width and 1 <= y1 < y2 <= height:
            return x1 - 1, x2, y1 - 1, y2
    return None


def _opened(hdu: Any, path: Path, *, raw: bool) -> OpenFrame:
    from astropy.io import fits

    height, width = (int(side) for side in hdu.shape)
    zero, scale = float(hdu.header.get("BZERO", 0)), float(hdu.header.get("BSCALE", 1))
    whole = hdu.header["BITPIX"] > 0 and scale == 1 and zero == int(zero)
    if not np.isfinite([zero, scale]).all() or (raw and hdu.header["BITPIX"] > 0 and not whole):
        raise InputError(f"is scaled by {scale:g} and moved by {zero:g}; raw frames of whole numbers are needed", path)
    is_packed = isinstance(hdu, fits.CompImageHDU)
    stored = hdu.section if is_packed else hdu.data
    if not is_packed and (stored is None or stored.shape != (height, width)):
        raise InputError("ends before its pixels do; copy it again, or take it out", path)

    def codes(start: int, end: int) -> Numbers:
        return _codes(np.asarray(stored[start:end]), zero, scale, path)

    opened = OpenFrame(width, height, codes, threaded=not is_packed)
    is_plain = whole and (hdu.header["BITPIX"], zero) in ((8, 0), (16, ZERO_UNSIGNED))
    if raw or is_plain or (whole and _are_codes(opened)):
        return opened

    def values(start: int, end: int) -> Numbers:
        found = np.asarray(stored[start:end], np.float64) * scale + zero
        return np.where(np.abs(found) < NO_LIGHT, found, np.nan)

    return _mapped(opened, values, path)


def _are_codes(frame: OpenFrame) -> bool:
    """Return whether all pixels are codes of 16 bits."""
    try:
        for strip in frame.strips(1):
            frame.rows(*strip)
    except InputError:
        return False
    return True


def _mapped(frame: OpenFrame, values: Callable[[int, int], Any], path: Path) -> OpenFrame:
    """Return a frame whose numbers are mapped onto codes in one straight line; what is no number becomes the sky."""
    lowest, highest = np.inf, -np.inf
    some: list[Numbers] = []
    noises: list[float] = []
    for start, end in frame.strips(1):
        strip = values(start, end)
        known = strip[np.isfinite(strip)]
        if not known.size:
            continue
        lowest, highest = min(lowest, float(known.min())), max(highest, float(known.max()))
        some.append(known[:: max(1, known.size // ENOUGH)])
        filled = np.where(np.isfinite(strip), strip, np.median(known))
        noises.append(pixel_scatter(filled, max(1, strip.size // ENOUGH)))
    if highest <= lowest:
        raise InputError("holds one value all over, or none", path)
    middle, noise = float(np.median(np.concatenate(some))), float(np.median(noises))
    low = max(lowest, middle - FAR * noise) if noise > 0 else lowest
    unit = (highest - low) / (HIGHEST_CODE - 1)  # the highest is not yet where codes end
    if noise > 0:
        unit = min(unit, noise / FINE)
    if not (np.isfinite(unit) and unit > np.finfo(float).tiny):
        raise InputError("holds numbers that are too large or too small for light", path)

    def rows(start: int, end: int) -> Numbers:
        codes = np.rint((np.nan_to_num(values(start, end), nan=middle) - low) / unit)
        return np.asarray(np.clip(codes, 0, HIGHEST_CODE).astype(np.uint16))

    times = HIGHEST_CODE if SHARE_LIMITS[0] <= lowest and highest <= SHARE_LIMITS[1] else 1
    return replace(frame, rows=rows, zero=times * low, unit=times * unit)


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

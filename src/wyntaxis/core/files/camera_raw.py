"""Raw frames of camera bodies, read by the library ``rawpy`` where it is installed: the optional extra ``raw``.

ISO stands for gain. A frame's kind is told by words in its name and its folders' names, since bodies know none.
"""

from __future__ import annotations

import datetime
import importlib.util
import math
import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

from wyntaxis.core.files import tiff_tags
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.fits import check_regular, first_line
from wyntaxis.core.files.raw_ends import check_whole

ENDINGS = (".dng", ".cr2", ".cr3", ".crw", ".nef", ".nrw", ".arw", ".sr2", ".raf", ".orf", ".rw2", ".pef", ".raw")
"""Endings of the raw files of camera bodies."""
MAX_BYTES = 500 << 20
"""A frame of 100 million px has some 200 MB."""
HOW = "install the extra: pip install 'wyntaxis[raw]'"


@dataclass(frozen=True)
class RawFacts:
    """What a body says of a frame: size in px, ISO, exposure in s, air in °C, its model, and the mosaic's letters.

    A lens that tells the body of itself has a focal length in mm and a focal ratio; a telescope tells nothing.
    """

    width: int
    height: int
    mosaic: str | None
    iso: float | None = None
    exposure_s: float | None = None
    model: str | None = None
    date: str | None = None
    air_c: float | None = None
    focal_length_mm: float | None = None
    focal_ratio: float | None = None

    @property
    def aperture_mm(self) -> float | None:
        """The lens's opening in mm, as it was stopped down."""
        if self.focal_length_mm is None or self.focal_ratio is None:
            return None
        return float(f"{self.focal_length_mm / self.focal_ratio:.4g}")


def is_raw(path: Path) -> bool:
    """Return whether a file is a camera body's raw frame, by its name."""
    return path.name.lower().endswith(ENDINGS)


@lru_cache(maxsize=1)
def can_read() -> bool:
    """Return whether the library that reads raw frames is installed."""
    return importlib.util.find_spec("rawpy") is not None


_ONE_AT_A_TIME = threading.Lock()


@contextmanager
def _silent() -> Iterator[None]:
    """Keep what the library prints of a broken file off the terminal: it is told as an error, in one line."""
    with _ONE_AT_A_TIME:
        kept = os.dup(2)
        nowhere = os.open(os.devnull, os.O_WRONLY)
        try:
            os.dup2(nowhere, 2)
            yield
        finally:
            os.dup2(kept, 2)
            os.close(kept)
            os.close(nowhere)


@contextmanager
def _opened(path: Path) -> Iterator[Any]:
    if not can_read():
        raise InputError(f"is a camera's raw frame, and the library that reads those is missing; {HOW}", path)
    import rawpy

    check_regular(path)
    if path.stat().st_size > MAX_BYTES:
        raise InputError(f"has {path.stat().st_size >> 20} MB; no raw frame has", path)
    check_whole(path)
    try:
        with _silent():
            opened = rawpy.imread(str(path))
        with opened as raw:
            yield raw
    except InputError:
        raise
    except (rawpy.LibRawError, OSError, ValueError, MemoryError) as error:
        raise InputError(_why(error), path) from None


def facts_of(path: Path) -> RawFacts:
    """Return what a raw frame says of itself.

    Parameters
    ----------
    path
        A file of a camera body.

    Returns
    -------
    RawFacts
        None for what it does not say.

    Raises
    ------
    InputError
        In one line, when it cannot be read, or the library is missing.
    """
    tags = tiff_tags.tags_of(path)
    with _opened(path) as raw:
        with _silent():  # it unpacks the pixels before it tells these: a frame that is cut short shows here
            sizes, other, mosaic = raw.sizes, raw.other, _mosaic(raw)
        taken = other.timestamp
        # Bodies tell local time without a zone, so it stands as it is told.
        local = tags.get(tiff_tags.TAKEN)
        when = _as_date(local) if isinstance(local, str) else None
        if when is None and isinstance(taken, datetime.datetime) and taken.year > 1980:
            when = taken.replace(tzinfo=None).isoformat()
        return RawFacts(
            int(sizes.width),
            int(sizes.height),
            mosaic,
            _positive(other.iso_speed) or _positive(tags.get(tiff_tags.ISO)),
            _positive(other.shutter_speed) or _positive(tags.get(tiff_tags.EXPOSURE)),
            _text(tags.get(tiff_tags.MODEL)),
            when,
            _number(tags.get(tiff_tags.AIR_C)),
            _positive(other.focal_length),
            _positive(other.aperture),
        )


@contextmanager
def raw_pixels(path: Path) -> Iterator[Any]:
    """Open the pixels of a raw frame as the body read them out, uint16 (height, width), its covered border left out.

    Raises
    ------
    InputError
        In one line, when it cannot be read, is no mosaic of two by two, or the library is missing.

    Parameters
    ----------
    path
        A file of a camera body.

    Yields
    ------
    array
        One value a pixel.
    """
    with _opened(path) as raw:
        with _silent():
            pixels, pattern = raw.raw_image_visible, raw.raw_pattern
        if pixels is None or pixels.ndim != 2:
            raise InputError("holds several values a pixel; frames of one value a pixel are wanted", path)
        if pattern is not None and pattern.shape != (2, 2):
            rows, columns = pattern.shape
            raise InputError(f"has a colour mosaic of {columns} × {rows} px; only two by two is read", path)
        yield pixels


def _why(error: Exception) -> str:
    """Return one line on why the library refuses a file, in our words where it gives a bare text of the system's."""
    cause = error.args[0] if error.args else ""
    text = cause.decode("utf-8", "replace") if isinstance(cause, bytes) else first_line(error)
    known = next((line for words, line in _REFUSALS if words in text), None)
    return known or f"is no readable raw frame: {text}"


_REFUSALS = (
    ("Input/output error", "is no readable raw frame: it is broken, or ends too early; copy it again, or take it out"),
    (
        "Unsupported file format",
        "is no readable raw frame: no camera's raw file by its content, or of a body that is not known to rawpy",
    ),
)


def _mosaic(raw: Any) -> str | None:
    """Return the letters of the mosaic's square, row by row, from the first visible pixel on; None for another."""
    pattern = raw.raw_pattern
    if pattern is None or pattern.shape != (2, 2):
        return None
    names, top, left = raw.color_desc.decode("ascii", "replace"), raw.sizes.top_margin, raw.sizes.left_margin
    return "".join(names[pattern[(top + row) % 2, (left + column) % 2]] for row in (0, 1) for column in (0, 1))


def _as_date(text: str) -> str | None:
    try:
        return datetime.datetime.strptime(text, "%Y:%m:%d %H:%M:%S").isoformat()
    except ValueError:
        return None


def _number(value: object) -> float | None:
    return float(value) if isinstance(value, (int, float)) and math.isfinite(value) else None


def _positive(value: object) -> float | None:
    found = _number(value)
    return found if found is not None and found > 0 else None


def _text(value: object) -> str | None:
    return value or None if isinstance(value, str) else None

"""Opening FITS files for their headers: every fault is one line, warnings stay inside, pixels are never read."""

from __future__ import annotations

import hashlib
import stat
import warnings
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.foreign_text import one_line

if TYPE_CHECKING:
    from astropy.io.fits import Header

HASH_BLOCK_BYTES = 1 << 20
MAX_HDUS = 200
"""A frame has a handful of extensions; a file with more is not read on."""


def headers_of(path: Path) -> Iterator[Header]:
    """Yield the headers of a FITS file in order, plain, gzip- or tile-compressed.

    Raises
    ------
    InputError
        With one line naming the file, when it is missing, no regular file, or not FITS.
    """
    from astropy.io import fits

    _check_regular(path)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            with fits.open(
                path, mode="readonly", memmap=True, lazy_load_hdus=True, ignore_missing_simple=False
            ) as hdus:
                for index in range(MAX_HDUS):
                    try:
                        header = hdus[index].header
                    except IndexError:
                        return
                    yield header
        except InputError:
            raise
        except Exception as error:  # astropy raises many kinds for broken files
            raise InputError(f"is no readable FITS file: {first_line(error)}", path) from None


def _check_regular(path: Path) -> None:
    try:
        mode = path.stat().st_mode
    except (OSError, ValueError) as error:
        reason = getattr(error, "strerror", None) or str(error)
        raise InputError(f"cannot be read: {reason}", path) from None
    if stat.S_ISDIR(mode):
        raise InputError("is a folder; name a frame in it", path)
    if not stat.S_ISREG(mode):
        raise InputError("is not a regular file", path)


def first_line(error: BaseException) -> str:
    """Return an exception's message as one short printable line."""
    text = str(error).strip() or type(error).__name__
    return one_line(text.splitlines()[0], 160)


def sha256_of_file(path: Path) -> str:
    """Return the SHA-256 of a file, read block by block; :class:`InputError` of one line when it cannot be read."""
    digest = hashlib.sha256()
    try:
        with path.open("rb") as file:
            while block := file.read(HASH_BLOCK_BYTES):
                digest.update(block)
    except OSError as error:
        raise InputError(f"cannot be read: {error.strerror}", path) from None
    return digest.hexdigest()

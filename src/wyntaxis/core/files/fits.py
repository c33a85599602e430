"""Opening FITS files for their headers: every fault is one line, warnings stay inside, pixels are never read."""

from __future__ import annotations

import gzip
import hashlib
import math
import os
import re
import stat
import warnings
import zlib
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.foreign_text import one_line

if TYPE_CHECKING:
    from astropy.io.fits import Header

HASH_BLOCK_BYTES = 1 << 20
BLOCK_BYTES, CARD_BYTES = 2880, 80
MAX_HEADER_BYTES = 4 << 20
"""A frame's header has some 10 kB; the history of a long processing has some 100."""
MAX_AXES = 9
SAMPLE_BITS = (8, 16, 32, 64, -32, -64)
"""FITS Standard 4.0, table 8."""
LONGEST_WHOLE, OUT_OF_REASON = 18, 10**18
MAX_DATA_BYTES = 1 << 40
MAX_UNPACKED_BYTES = 1 << 30
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

    quiet_library()
    check_structure(path)
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


def quiet_library() -> None:
    """Keep what the library has to say to its own users off the terminal: faults are told here, in one line."""
    import astropy

    astropy.log.setLevel("CRITICAL")


def check_structure(path: Path) -> None:
    """Check that a file is a regular one, and that its headers are such as frames have, before anything trusts them.

    Raises
    ------
    InputError
        With one line: no regular file, a header without end, more axes or pixels than any frame has.
    """
    check_regular(path)
    packed = path.suffix.lower() == ".gz"
    try:
        with gzip.open(path, "rb") if packed else path.open("rb") as file:
            for index in range(MAX_HDUS):
                try:
                    raw = raw_header(file)
                except InputError:
                    if index:
                        return  # what follows the last HDU is nobody's business
                    raise
                size = data_bytes(raw)
                if packed and size:
                    if size > MAX_UNPACKED_BYTES:
                        raise InputError(f"would unpack to {size >> 20} MB; unpack it first")
                    return
                file.seek(-(-size // BLOCK_BYTES) * BLOCK_BYTES, os.SEEK_CUR)
    except InputError as error:
        raise error.about(path) from None
    except (OSError, EOFError, zlib.error, ValueError, OverflowError) as error:
        raise InputError(f"is no readable FITS file: {first_line(error)}", path) from None


def why_not_whole(path: Path) -> str:
    """Return what a FITS file lacks of the bytes that its headers announce; empty where it is whole.

    A packed file is not unpacked for it: of that the reader tells.
    """
    try:
        if path.suffix.lower() == ".gz":
            return ""
        length = path.stat().st_size
        with path.open("rb") as file:
            for index in range(MAX_HDUS):
                if index and file.tell() >= length:
                    return ""
                try:
                    size = data_bytes(raw_header(file))
                except InputError as error:
                    return "" if index else error.reason
                if file.tell() + size > length:
                    return "ends before its pixels do; copy it again, or take it out"
                file.seek(-(-size // BLOCK_BYTES) * BLOCK_BYTES, os.SEEK_CUR)
    except OSError as error:
        return f"cannot be read: {error.strerror}"
    return ""


def raw_header(file: BinaryIO | gzip.GzipFile) -> bytes:
    """Return one header's blocks, from where a file stands up to END.

    Raises
    ------
    InputError
        When it ends before END comes, or END does not come within :data:`MAX_HEADER_BYTES`.
    """
    blocks: list[bytes] = []
    while len(blocks) * BLOCK_BYTES < MAX_HEADER_BYTES:
        block = file.read(BLOCK_BYTES)
        if not blocks and not block.startswith((b"SIMPLE  =", b"XTENSION=")):
            raise InputError("is no readable FITS file: it does not begin with SIMPLE")
        if len(block) < BLOCK_BYTES:
            raise InputError("is no readable FITS file: it ends within its header; copy it again, or take it out")
        blocks.append(block)
        if b"END     " in block and any(block[at : at + 8] == b"END     " for at in range(0, BLOCK_BYTES, CARD_BYTES)):
            return b"".join(blocks)
    raise InputError(f"is no readable FITS file: its header has no end within {MAX_HEADER_BYTES >> 20} MB")


def data_bytes(header: bytes) -> int:
    """Return how many bytes of data a raw header announces.

    Raises
    ------
    InputError
        When it announces more axes or larger ones than any frame has.
    """
    axes = _whole(header, b"NAXIS")
    if not 0 <= axes <= MAX_AXES:
        raise InputError(f"is no readable FITS file: NAXIS = {axes}, but a frame has at most {MAX_AXES} axes")
    for name in (b"WCSAXES", b"A_ORDER", b"B_ORDER", b"AP_ORDER", b"BP_ORDER"):
        if abs(_whole(header, name)) > MAX_AXES:
            raise InputError(f"is no readable FITS file: {name.decode()} = {_whole(header, name)} is out of reason")
    bits = _whole(header, b"BITPIX", 8)
    if bits not in SAMPLE_BITS:
        raise InputError(f"is no readable FITS file: BITPIX = {bits} is none of {', '.join(map(str, SAMPLE_BITS))}")
    sides = [_whole(header, b"NAXIS%d" % axis) for axis in range(1, axes + 1)]
    size = abs(bits) // 8 * math.prod(sides) if sides else 0
    size = (size + _whole(header, b"PCOUNT")) * max(1, _whole(header, b"GCOUNT", 1))
    if size < 0 or size > MAX_DATA_BYTES or min(sides, default=0) < 0:
        raise InputError("is no readable FITS file: it announces more pixels than any frame has")
    return size


def _whole(header: bytes, keyword: bytes, default: int = 0) -> int:
    """Return a whole number of a raw header; :class:`InputError` where it is there twice, as readers then differ."""
    found = default, False
    for at in range(0, len(header), CARD_BYTES):
        if header[at : at + 8] == keyword.ljust(8):
            value = header[at + 10 : at + CARD_BYTES].split(b"/")[0].strip()
            number = default
            if re.fullmatch(rb"[+-]?[0-9]+", value):
                number = int(value) if len(value) < LONGEST_WHOLE else OUT_OF_REASON
            if found[1] and found[0] != number:
                raise InputError(
                    f"is no readable FITS file: {keyword.decode()} is there twice, as {found[0]} and {number}"
                )
            found = number, True
    return found[0]


def check_regular(path: Path) -> None:
    """Raise an :class:`InputError` for what is no regular file: a folder, a pipe, a device."""
    try:
        mode = path.stat().st_mode
    except (OSError, ValueError) as error:
        reason = getattr(error, "strerror", None) or str(error)
        raise InputError(f"cannot be read: {reason}", path) from None
    if stat.S_ISDIR(mode):
        raise InputError("is a folder; name a frame in it", path)
    if not stat.S_ISREG(mode):
        raise InputError("is not a regular file", path)


_SECTION = re.compile(r"\s*\[\s*(\d{1,6})\s*:\s*(\d{1,6})\s*,\s*(\d{1,6})\s*:\s*(\d{1,6})\s*\]\s*")


def section_ends(text: object) -> tuple[int, int, int, int] | None:
    """Return the ends x1, x2, y1, y2 of a section ``[x1:x2,y1:y2]``, counted from 1 and included; None for another."""
    match = _SECTION.fullmatch(str(text))
    if match is None:
        return None
    x1, x2, y1, y2 = (int(group) for group in match.groups())
    return x1, x2, y1, y2


def card_value(header: Header, key: str, default: object = None) -> object:
    """Return a card's value; the default for one that is missing or cannot be parsed, which says nothing of others."""
    from astropy.io.fits.card import Undefined

    try:
        value = header.get(key, default)
    except Exception:  # a broken card raises on being read
        return default
    return default if isinstance(value, Undefined) else value


CD_MATRIX = ("CD1_1", "CD1_2", "CD2_1", "CD2_2")
_PC_MATRIX = {"PC1_1": 1.0, "PC1_2": 0.0, "PC2_1": 0.0, "PC2_2": 1.0}
"""The cards of the matrix that goes with CDELT, with what each is where its card is absent."""
_MATRICES_AGREE = 1e-3
"""CD and CDELT times PC that are this close, as a share of the largest, tell one scale."""
MATRIX_CARDS = (*CD_MATRIX, *_PC_MATRIX, "CDELT1", "CDELT2")
"""All cards that tell how pixels lie on the sky."""


def tells_two_matrices(cards: Mapping[str, object]) -> bool:
    """Return whether cards tell a CD matrix and a PC matrix of another scale or angle beside it.

    Parameters
    ----------
    cards
        Values by keyword, in °/px for CD and CDELT; CDELT is 1 where it is absent, as the standard has it.

    Returns
    -------
    bool
        Whether they do. A reader that takes one of them for granted would be wrong (FITS Standard 4.0, 8.1.2).
    """

    def of(key: str, absent: float) -> float:
        value = cards.get(key)
        return float(value) if isinstance(value, (int, float)) else absent

    if not all(any(isinstance(cards.get(key), (int, float)) for key in keys) for keys in (CD_MATRIX, _PC_MATRIX)):
        return False
    cd = [of(key, 0.0) for key in CD_MATRIX]
    own = [of(f"CDELT{key[2]}", 1.0) * of(key, absent) for key, absent in _PC_MATRIX.items()]
    limit = _MATRICES_AGREE * max(map(abs, cd + own))
    return any(abs(one - other) > limit for one, other in zip(cd, own, strict=True))


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

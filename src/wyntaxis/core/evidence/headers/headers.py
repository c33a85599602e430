"""What the header of one frame says; its pixels are never read."""

from __future__ import annotations

import math
import os
import re
import warnings
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from wyntaxis.core.evidence.foreign.units import parse_foreign_number
from wyntaxis.core.evidence.headers.parts import WHOLE, SensorPart, sensor_part
from wyntaxis.core.files import camera_raw
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.fits import (
    MATRIX_CARDS,
    card_value,
    check_regular,
    data_bytes,
    first_line,
    headers_of,
    raw_header,
    tells_two_matrices,
)

if TYPE_CHECKING:
    from astropy.io.fits import Header

FrameKind = Literal["light", "dark", "flat", "bias", "other"]

ASKED_WITHIN = 0.05
"""Two exposures of one header that are this close, as a share, are the asked and the actual one."""

_KINDS: tuple[tuple[str, FrameKind], ...] = (
    ("dark", "dark"),
    ("flat", "flat"),
    ("bias", "bias"),
    ("zero", "bias"),
    ("offset", "bias"),
    ("light", "light"),
    ("object", "light"),
    ("science", "light"),
)


NO_FILTER = frozenset({"none", "no filter", "nofilter", "n/a"})


@dataclass(frozen=True)
class FrameHeader:
    """What one frame says of itself, None where it does not; ``exposure_s`` is the actual exposure."""

    path: str
    kind: FrameKind
    camera: str | None = None
    telescope: str | None = None
    filter: str | None = None
    exposure_s: float | None = None
    asked_s: float | None = None
    gain: float | None = None
    offset: float | None = None
    set_temperature_c: float | None = None
    temperature_c: float | None = None
    binning: int | None = None
    width_px: int | None = None
    height_px: int | None = None
    pixel_um: float | None = None
    focal_length_mm: float | None = None
    aperture_mm: float | None = None
    focus_position: float | None = None
    focus_temperature_c: float | None = None
    latitude_deg: float | None = None
    longitude_deg: float | None = None
    rotation_deg: float | None = None
    scale_arcsec_px: float | None = None
    mosaic: str | None = None
    date: str | None = None
    observer: str | None = None
    site: str | None = None
    elevation_m: float | None = None
    altitude_deg: float | None = None
    pier_side: str | None = None
    target: str | None = None
    part: SensorPart = WHOLE


@dataclass(frozen=True)
class UnusedFile:
    """A file that was not used, and one line on why."""

    path: str
    why: str


def image_header(path: Path) -> Header:
    """Return the header of the frame's image, with what the primary header adds to it."""
    from astropy.io.fits import Header

    if path.suffix.lower() not in (".gz", ".fz"):
        # The fast way for the usual frame: its image is in the primary HDU.
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            try:
                check_regular(path)
                with path.open("rb") as file:
                    raw = raw_header(file)
                    wanted, size = file.tell() + data_bytes(raw), os.fstat(file.fileno()).st_size
                    if size < wanted:
                        raise InputError(f"is cut short: {size} of {wanted} bytes; copy it again, or take it out")
                    header = Header.fromstring(raw)
            except OSError as error:
                raise InputError(f"cannot be read: {error.strerror or first_line(error)}") from None
            if card_value(header, "NAXIS", 0):
                return header
    primary: Header | None = None
    for header in headers_of(path):
        if primary is None:
            primary = header
        if (
            card_value(header, "ZNAXIS1", card_value(header, "NAXIS1"))
            and str(card_value(header, "XTENSION", "IMAGE")).strip() != "TABLE"
        ):
            if header is not primary:
                header.extend(primary.cards, unique=True, strip=True)
            return header
    if primary is None:
        raise InputError("holds no HDU")
    return primary


def _kind_by_name(name: str) -> FrameKind:
    """Return the kind that a word of a file's name tells, else of the nearest folder's; a light where none does."""
    for part in (Path(name).stem, *reversed(Path(name).parts[:-1])):
        for word in re.findall("[a-z]+", part.lower()):
            kind = next((kind for key, kind in _KINDS if word in (key, f"{key}s", f"{key}es")), None)
            if kind is not None:
                return kind
    return "light"


def raw_header_of(path: Path, name: str) -> FrameHeader:
    """Return what a camera body says of a frame, and of which kind it is by words in its name and its folders'.

    Parameters
    ----------
    path
        A camera-raw file.
    name
        The file's name with the folders that it is told by.

    Returns
    -------
    FrameHeader
        ISO as gain, the exposure in s, the air's temperature in °C where the body tells it.

    Raises
    ------
    InputError
        In one line, when it cannot be read.
    """
    facts = camera_raw.facts_of(path)
    kind = _kind_by_name(name)
    return FrameHeader(
        path=name,
        kind=kind,
        camera=facts.model,
        exposure_s=facts.exposure_s,
        gain=facts.iso,
        binning=1,
        width_px=facts.width,
        height_px=facts.height,
        mosaic=facts.mosaic,
        date=facts.date,
        focus_temperature_c=facts.air_c,
        focal_length_mm=facts.focal_length_mm,
        aperture_mm=facts.aperture_mm,
    )


def frame_header(header: Header, path: str) -> FrameHeader:
    """Return what a header says in the words of FITS Standard 4.0 and the usual keywords of imaging programs.

    Parameters
    ----------
    header
        A FITS header.
    path
        The file's name, as it is shown.

    Returns
    -------
    FrameHeader
        Times in s, temperatures in °C, lengths in mm, pixels in µm, angles in degrees; None where it says nothing.
    """
    exposure, asked = _exposures(header)
    return FrameHeader(
        path=path,
        kind=_kind(_text(header, "IMAGETYP", "FRAME", "OBSTYPE")),
        camera=_text(header, "INSTRUME", "CAMERA"),
        telescope=_text(header, "TELESCOP"),
        filter=_filter(header),
        exposure_s=exposure,
        asked_s=asked,
        gain=_gain(header),
        offset=_number(header, "OFFSET", "BLKLEVEL"),
        set_temperature_c=_number(header, "SET-TEMP", "SETTEMP"),
        temperature_c=_number(header, "CCD-TEMP", "CCDTEMP", "DET-TEMP"),
        binning=_whole(header, "XBINNING", "BINNING"),
        width_px=_whole(header, "ZNAXIS1", "NAXIS1"),
        height_px=_whole(header, "ZNAXIS2", "NAXIS2"),
        pixel_um=_number(header, "XPIXSZ", "PIXSIZE1"),
        focal_length_mm=_number(header, "FOCALLEN"),
        aperture_mm=_number(header, "APTDIA"),
        focus_position=_number(header, "FOCUSPOS", "FOCPOS", "FOCUSSTP", "FOC-POS", "FOCUS"),
        focus_temperature_c=_number(header, "FOCTEMP", "FOCUSTEM", "FOC-TEMP", "AMBTEMP", "AMB-TEMP"),
        latitude_deg=_number(header, "SITELAT", "OBSGEO-B", "LAT-OBS"),
        longitude_deg=_number(header, "SITELONG", "OBSGEO-L", "LONG-OBS"),
        rotation_deg=_number(header, "ROTATANG", "ROTATOR", "ROTPOS"),
        scale_arcsec_px=_scale(header),
        mosaic=_text(header, "BAYERPAT", "COLORTYP"),
        date=_text(header, "DATE-OBS"),
        observer=_text(header, "OBSERVER"),
        site=_text(header, "SITENAME", "OBSERVAT"),
        elevation_m=_number(header, "SITEELEV", "OBSGEO-H", "ALT-OBS"),
        altitude_deg=_number(header, "OBJCTALT", "CENTALT", "ALTITUDE"),
        pier_side=_text(header, "PIERSIDE"),
        target=_text(header, "OBJECT"),
        part=sensor_part(header),
    )


def _text(header: Header, *keys: str) -> str | None:
    for key in keys:
        value = card_value(header, key)
        if value is not None and str(value).strip():
            return str(value).strip()[:200]
    return None


def _filter(header: Header) -> str | None:
    """Return the filter's name; None where the program says that there is none, in words."""
    name = _text(header, "FILTER")
    return None if name is not None and name.lower() in NO_FILTER else name


def _number(header: Header, *keys: str) -> float | None:
    for key in keys:
        value = card_value(header, key)
        if value is None:
            continue
        try:
            number = parse_foreign_number(value)
        except ValueError:
            continue
        if math.isfinite(number):
            return number
    return None


def _whole(header: Header, *keys: str) -> int | None:
    number = _number(header, *keys)
    return round(number) if number is not None and 0 < number < 1e6 else None


def _exposures(header: Header) -> tuple[float | None, float | None]:
    """Return the actual exposure and the asked one: where a header has two, the rounder one was asked."""
    found = [value for key in ("EXPTIME", "EXPOSURE") if (value := _number(header, key)) is not None]
    if len(found) == 2 and found[0] != found[1] and abs(found[0] - found[1]) <= ASKED_WITHIN * max(map(abs, found)):
        asked, actual = sorted(found, key=lambda value: len(f"{value:.10g}"))
        return actual, asked
    return (found[0], None) if found else (None, None)


def _gain(header: Header) -> float | None:
    """Return the camera's gain setting; None where GAIN holds the conversion gain in e⁻/ADU, by comment or EGAIN."""
    gain = _number(header, "GAIN")
    if gain is None:
        return None
    if gain == _number(header, "EGAIN") or _PER_ADU.search(str(header.comments["GAIN"])):
        return None
    return gain


_PER_ADU = re.compile(r"\be(?:lectrons?)?\s*[-⁻]?\s*(?:/|per)\s*(?:adu|dn|count)", re.IGNORECASE)


def _kind(word: str | None) -> FrameKind:
    plain = (word or "").lower()
    for part, kind in _KINDS:
        if part in plain:
            return kind
    return "other"


def _scale(header: Header) -> float | None:
    """Return the scale at the reference pixel, ``√|det CD| · 3600`` arcsec/px; None where the frame is not solved."""
    axes = (_text(header, "CTYPE1") or "") + (_text(header, "CTYPE2") or "")
    if "RA---" not in axes and "GLON-" not in axes:
        return None
    if tells_two_matrices({key: _number(header, key) for key in MATRIX_CARDS}):
        return None
    if _number(header, "CD1_1") is not None or _number(header, "CD1_2") is not None:
        cd = [_number(header, key) or 0.0 for key in ("CD1_1", "CD1_2", "CD2_1", "CD2_2")]
    else:
        steps = [_number(header, key) for key in ("CDELT1", "CDELT2")]
        if steps[0] is None or steps[1] is None:
            return None
        pc = [
            unit if (value := _number(header, key)) is None else value
            for key, unit in (("PC1_1", 1.0), ("PC1_2", 0.0), ("PC2_1", 0.0), ("PC2_2", 1.0))
        ]
        cd = [steps[0] * pc[0], steps[0] * pc[1], steps[1] * pc[2], steps[1] * pc[3]]
    scale = math.sqrt(abs(cd[0] * cd[3] - cd[1] * cd[2])) * 3600
    return scale if 1e-3 < scale < 3600 else None


def measured_temperatures(
    frames: tuple[FrameHeader, ...], wanted_c: float | None = None
) -> list[tuple[float, float, FrameHeader]]:
    """Return set and actual sensor temperature in °C of every light and dark that tells them.

    Parameters
    ----------
    frames
        Headers of frames.
    wanted_c
        The set temperature of lights that tell none, in °C; without it they are left out.

    Returns
    -------
    list[tuple[float, float, FrameHeader]]
        Set and actual temperature in °C, and the header.
    """
    found = []
    for frame in frames:
        asked = frame.set_temperature_c
        if asked is None and frame.kind == "light":
            asked = wanted_c
        if frame.kind in ("light", "dark") and asked is not None and frame.temperature_c is not None:
            found.append((asked, frame.temperature_c, frame))
    return found

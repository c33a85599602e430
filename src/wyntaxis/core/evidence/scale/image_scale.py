"""The measured image scale: from a solved frame's WCS, from two stars, or typed; and what the rig keeps of it."""

from __future__ import annotations

import math
import warnings
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.files.errors import InputError, shown
from wyntaxis.core.files.fits import (
    CD_MATRIX,
    MATRIX_CARDS,
    card_value,
    first_line,
    headers_of,
    quiet_library,
    sha256_of_file,
    tells_two_matrices,
)
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.optics.imaging import ARCSEC_PER_RADIAN
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import Sensor
from wyntaxis.core.wording import number, utc_stamp

if TYPE_CHECKING:
    from astropy.io.fits import Header

    from wyntaxis.core.arrays import Floats


SOLVING_ERROR_PX = 0.3
"""How far a solved frame's scale may be off at the frame's edge where the header does not say: a third of a pixel."""

SCALE_LIMITS_ARCSEC_PX = (1e-3, 3600.0)
MAX_ELONGATED = 1.5
QUANTITY = "pixel_scale_arcsec_px"


@dataclass(frozen=True)
class ScaleReading:
    """A measured image scale in arcsec/px of the frame it came from, with its standard uncertainty and its evidence."""

    scale_arcsec_px: float
    standard_arcsec_px: float
    method: str
    binning: int = 1
    file: str | None = None
    sha256: str | None = None
    date: str | None = None
    notes: tuple[str, ...] = ()
    center_deg: tuple[float, float] | None = None
    position_angle_deg: float | None = None
    mirrored: bool | None = None

    @property
    def relative(self) -> float:
        return self.standard_arcsec_px / self.scale_arcsec_px


def read_solved_frame(path: Path, sensor: Sensor | None = None) -> ScaleReading:
    """Return the scale at the middle of a solved FITS frame, from the first HDU that holds a celestial WCS.

    Parameters
    ----------
    path
        A FITS file.
    sensor
        The sensor that took it, to tell its binning.

    Returns
    -------
    ScaleReading
        The scale in arcsec/px with its standard uncertainty, the centre and angle in degrees.

    Raises
    ------
    InputError
        With one line, when the file is no FITS or holds no solution.
    """
    for header in headers_of(path):
        if "CTYPE1" in header and "CTYPE2" in header:
            try:
                reading = scale_of_header(header, sensor)
            except ValueError as error:
                raise InputError(first_line(error), path) from None
            return replace(reading, file=shown(Path(path.name)), sha256=sha256_of_file(path), date=utc_stamp())
    raise InputError("holds no solved field (no CTYPE1 and CTYPE2); solve the frame first", path)


def scale_of_header(header: Header, sensor: Sensor | None = None) -> ScaleReading:
    """Return the scale at the middle of the frame from a header's WCS: CD, PC with CDELT, CROTA2, with or without SIP.

    The scale is the square root of the sky area of the middle pixel: there, and only there, the sky and the plane of
    the sensor agree whatever the reference pixel. At an undistorted frame's reference pixel it is √|det CD| · 3600.
    Source: FITS Standard 4.0, chapter 8; Calabretta and Greisen 2002; SIP convention, Shupe et al. 2005.

    Parameters
    ----------
    header
        A FITS header with a celestial WCS.
    sensor
        The sensor that took it, to tell its binning.

    Returns
    -------
    ScaleReading
        The scale in arcsec/px with its standard uncertainty, the centre and angle in degrees.

    Raises
    ------
    ValueError
        When the header's WCS is not celestial, is broken, or gives no scale.
    """
    from astropy.wcs import WCS

    quiet_library()
    _check_matrix(header)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            wcs = WCS(header, relax=True, fix=True)
            celestial = wcs.has_celestial
            wcs = wcs.celestial if celestial else wcs
        except Exception as error:  # wcslib has many ways to refuse
            raise ValueError(f"its WCS cannot be read: {first_line(error)}") from None
    if not celestial:
        raise ValueError("its WCS is not one of the sky")
    width, height = _frame_size(header)
    middle = np.array([(width - 1) / 2, (height - 1) / 2])
    jacobian = _jacobian(wcs, middle)
    scale = math.sqrt(abs(float(np.linalg.det(jacobian)))) * 3600
    if not SCALE_LIMITS_ARCSEC_PX[0] <= scale <= SCALE_LIMITS_ARCSEC_PX[1]:
        raise ValueError(f"its WCS gives a scale of {scale:g} arcsec/px, which no telescope has")
    across, down = (float(np.hypot(*jacobian[:, i])) * 3600 for i in (0, 1))
    if max(across, down) > MAX_ELONGATED * min(across, down):
        raise ValueError(f"its WCS gives pixels of {across:g} by {down:g} arcsec, which is no scale of square pixels")
    error_px = _solving_error_px(header, scale)
    standard = math.hypot(scale * error_px / (math.hypot(width, height) / 2), abs(across - down) / (2 * math.sqrt(3)))
    binning, notes = _binning(header, sensor, width, height)
    corner = _jacobian(wcs, np.array([0.0, 0.0]))
    distortion = math.sqrt(abs(float(np.linalg.det(corner)))) * 3600 / scale - 1
    if abs(distortion) > 1e-3:
        notes.append(f"at the corner the scale is {number(100 * distortion, 2)} % off that of the middle")
    # The top of the frame is +y; its direction on the sky is the second column of the Jacobian.
    top = math.degrees(math.atan2(jacobian[0, 1], jacobian[1, 1])) % 360
    ra, dec = (float(value) for value in _on_sky(wcs, [middle])[0])
    return ScaleReading(
        scale_arcsec_px=scale,
        standard_arcsec_px=standard,
        method="wcs",
        binning=binning,
        notes=tuple(notes),
        center_deg=(ra % 360, dec),
        position_angle_deg=top,
        mirrored=bool(np.linalg.det(jacobian) > 0),
    )


def _check_matrix(header: Header) -> None:
    """Raise ValueError where no matrix gives the scale: absent or zero, a WCS reader would take 1 degree a pixel."""
    cd = [card_value(header, key) for key in CD_MATRIX]
    steps = [card_value(header, key) for key in ("CDELT1", "CDELT2")]
    entries = [value for value in (*cd, *steps) if isinstance(value, (int, float))]
    if not entries:
        raise ValueError("its WCS has no scale (neither a CD matrix nor CDELT): solve the frame again")
    rows = (cd[:2], cd[2:])
    in_cd = all(any(isinstance(v, (int, float)) and v != 0 for v in row) for row in rows)
    in_steps = all(isinstance(step, (int, float)) and step != 0 for step in steps)
    if not in_cd and not in_steps:
        raise ValueError("its WCS has a scale of 0 (CD or CDELT are zero): solve the frame again")
    if tells_two_matrices({key: card_value(header, key) for key in MATRIX_CARDS}):
        raise ValueError(
            "its WCS has a CD matrix and a PC matrix that disagree, and the FITS standard allows only one: solve the "
            "frame again"
        )


def _on_sky(wcs: Any, points: Any) -> Floats:
    """Return (ra, dec) in degrees (ICRS), (n, 2), of pixels, whatever the order and the system of the WCS's axes."""
    world = wcs.all_pix2world(points, 0)
    world = np.stack([world[:, wcs.wcs.lng], world[:, wcs.wcs.lat]], axis=-1)
    if wcs.wcs.lngtyp.strip() == "RA" and wcs.wcs.radesys.strip() in ("", "ICRS", "FK5") and _is_j2000(wcs):
        return world
    from astropy import units
    from astropy.coordinates import SkyCoord
    from astropy.wcs.utils import wcs_to_celestial_frame

    try:
        frame = wcs_to_celestial_frame(wcs)
    except ValueError as error:
        raise ValueError(f"its WCS is in a system that is not known: {first_line(error)}") from None
    sky = SkyCoord(world[:, 0], world[:, 1], unit=units.deg, frame=frame).icrs
    return np.stack([sky.ra.deg, sky.dec.deg], axis=-1)


def _is_j2000(wcs: Any) -> bool:
    return not math.isfinite(wcs.wcs.equinox) or wcs.wcs.equinox == 2000.0


def _frame_size(header: Header) -> tuple[int, int]:
    sizes: list[Any] = [card_value(header, f"Z{key}", card_value(header, key)) for key in ("NAXIS1", "NAXIS2")]
    if not all(isinstance(size, int) and size > 1 for size in sizes):
        raise ValueError("its header does not give the frame's size (NAXIS1, NAXIS2)")
    return sizes[0], sizes[1]


def _jacobian(wcs: Any, pixel: Floats) -> Floats:
    """Return d(east, north)/d(x, y) in degrees per px on the plane that touches the sky at a pixel, (2, 2)."""
    step = 0.5
    points = [pixel, *(pixel + step * np.array(d) for d in ((1, 0), (-1, 0), (0, 1), (0, -1)))]
    world = np.radians(_on_sky(wcs, points))
    if not np.isfinite(world).all():
        raise ValueError("its WCS does not reach the middle of the frame")
    (ra0, dec0), rest = world[0], world[1:]
    # Gnomonic about the pixel itself: exact at any distance from the poles.
    turn = rest[:, 0] - ra0
    below = np.sin(dec0) * np.sin(rest[:, 1]) + np.cos(dec0) * np.cos(rest[:, 1]) * np.cos(turn)
    east = np.cos(rest[:, 1]) * np.sin(turn) / below
    north = (np.cos(dec0) * np.sin(rest[:, 1]) - np.sin(dec0) * np.cos(rest[:, 1]) * np.cos(turn)) / below
    plane = np.degrees(np.stack([east, north]))
    return np.stack([(plane[:, 0] - plane[:, 1]) / (2 * step), (plane[:, 2] - plane[:, 3]) / (2 * step)], axis=1)


def _solving_error_px(header: Header, scale: float) -> float:
    """Return the standard error of a solved position in px: from CRDER where the header has it."""
    errors = [card_value(header, key) for key in ("CRDER1", "CRDER2")]
    found = [float(e) for e in errors if isinstance(e, (int, float)) and math.isfinite(e) and e > 0]
    return max(found) * 3600 / scale if found else SOLVING_ERROR_PX


def _binning(header: Header, sensor: Sensor | None, width: int, height: int) -> tuple[int, list[str]]:
    """Return the frame's binning, and what is to be said of it."""
    stated = card_value(header, "XBINNING")
    said = int(stated) if isinstance(stated, (int, float)) and 1 <= stated <= 64 else None
    from_size = None
    if sensor is not None:
        ratios = {round(sensor.width_px / width), round(sensor.height_px / height)}
        ratio = ratios.pop()
        exact = (
            abs(sensor.width_px / width - ratio) < 0.02 * ratio
            and abs(sensor.height_px / height - ratio) < 0.02 * ratio
        )
        from_size = ratio if not ratios and ratio >= 1 and exact else None
    notes = []
    if said is None and from_size is None:
        notes.append("the header names no binning and the frame's size is not the sensor's: taken as 1")
    elif said is not None and from_size is not None and said != from_size:
        notes.append(
            f"the header says binning {said}, the frame's size is that of binning {from_size}; taken as {said}"
        )
    return said or from_size or 1, notes


def two_star_scale(
    first_px: tuple[float, float],
    second_px: tuple[float, float],
    separation_arcsec: float,
    *,
    position_error_px: float = SOLVING_ERROR_PX,
    separation_error_arcsec: float = 0.0,
    middle_px: tuple[float, float] | None = None,
    binning: int = 1,
) -> ScaleReading:
    """Return the scale from two stars a known angle apart.

    The scale is that of the frame's middle: the angle between the rays through the two pixels and a pinhole a focal
    length F (in px) above ``middle_px`` is the separation; scale = 206264.8 / F. Without a middle it is taken between
    the stars, where the plane and the sky differ least.

    Parameters
    ----------
    first_px, second_px, middle_px
        Where the stars and the frame's middle are, (x, y) in px.
    separation_arcsec, separation_error_arcsec
        The stars' angle and its standard uncertainty, in arcsec.
    position_error_px
        The standard uncertainty of each coordinate, in px.
    binning
        Of the frame.

    Returns
    -------
    ScaleReading
        The scale in arcsec/px with its standard uncertainty.

    Raises
    ------
    ValueError
        When the stars coincide, or the angle is none that a frame can span.
    """
    one, other = np.array(first_px, dtype=float), np.array(second_px, dtype=float)
    distance = float(np.hypot(*(other - one)))
    if not math.isfinite(distance) or distance < 1:
        raise ValueError("the two stars must lie at least one pixel apart")
    if not 0 < separation_arcsec < 120 * 3600:
        raise ValueError("the separation must lie above 0 and under 120 degrees")
    middle = np.array(middle_px, dtype=float) if middle_px is not None else (one + other) / 2
    angle = separation_arcsec / ARCSEC_PER_RADIAN

    def angle_at(focal_px: float) -> float:
        rays = [np.array([*(point - middle), focal_px]) for point in (one, other)]
        return float(np.arctan2(np.linalg.norm(np.cross(rays[0], rays[1])), np.dot(rays[0], rays[1])))

    low, high = 1e-6 * distance, 4 * distance / angle + 1e-6
    for _ in range(200):
        trial = (low + high) / 2
        low, high = (trial, high) if angle_at(trial) > angle else (low, trial)
    scale = ARCSEC_PER_RADIAN / ((low + high) / 2)
    relative = math.hypot(math.sqrt(2) * position_error_px / distance, separation_error_arcsec / separation_arcsec)
    return ScaleReading(scale, scale * relative, "two_stars", binning, date=utc_stamp())


def typed_scale(scale_arcsec_px: float, standard_arcsec_px: float, binning: int = 1) -> ScaleReading:
    """Return a typed scale; ValueError for one that is not above 0.

    Parameters
    ----------
    scale_arcsec_px, standard_arcsec_px
        The scale and its standard uncertainty, in arcsec/px.
    binning
        Of the frame that it was measured on.

    Returns
    -------
    ScaleReading
        The same, as a reading.
    """
    if not (scale_arcsec_px > 0 and standard_arcsec_px >= 0):
        raise ValueError("the scale must be above 0, its uncertainty not below 0")
    return ScaleReading(scale_arcsec_px, standard_arcsec_px, "typed", binning, date=utc_stamp())


_SOURCES = {"wcs": "solved frame", "two_stars": "two stars of known separation", "typed": "typed"}


def keep_reading(rig: Rig, reading: ScaleReading) -> Change:
    """Return the edit that keeps a reading in the rig: the measured pixel scale with its evidence.

    Parameters
    ----------
    rig, reading
        The rig, and what was read.

    Returns
    -------
    Change
        One edit: the measured pixel scale, with its evidence.
    """
    evidence: JsonObject = {"method": reading.method, "binning": reading.binning}
    for key in ("file", "sha256", "date"):
        if getattr(reading, key) is not None:
            evidence[key] = getattr(reading, key)
    if reading.notes:
        evidence["note"] = "; ".join(reading.notes)
    source = _SOURCES[reading.method] + (f" {reading.file}" if reading.file else "")
    value = {
        "value": float(f"{reading.scale_arcsec_px:.9g}"),
        "standard_uncertainty": float(f"{reading.standard_arcsec_px:.4g}"),
        "source": source[:4000],
        "evidence": evidence,
    }
    return Change.of("Keep the measured scale", ("measured", QUANTITY), value)

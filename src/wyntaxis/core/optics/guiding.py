"""Guiding: calibration pulse, dither, thresholds, flexure, and the field rotation of an alt-azimuth mount.

Angles are in degrees, image lengths in px, rates in arcsec/s unless the name says otherwise.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from wyntaxis.core.optics import imaging

SIDEREAL_ARCSEC_S = 15.041
"""How fast the sky turns on the celestial equator: 360° in a sidereal day of 86 164.1 s."""

POLAR_DRIFT = SIDEREAL_ARCSEC_S * 60 * math.radians(1 / 60)
"""What a polar error of 1′ makes a star drift in declination at the most, in arcsec/min: 0.2625."""
COMMON_GRID = 161
EARTH_RATE_RAD_S = 7.2921e-5
"""Earth's rotation, IERS Conventions (2010), table 1.2."""

CENTROID_ERROR_PX = (0.1, 0.2)
"""What a guide camera's centroid usually errs by, in guide px: the good and the poor end."""

ALLOWED_MAIN_PX = 0.5
"""Guide errors under half a main pixel do not show in the stars."""

DEFAULT_RATE_SIDEREAL = 0.5
DEFAULT_DISTANCE_PX = 25.0
DEFAULT_PULSES = 12
DEFAULT_DITHER_MAIN_PX = 5.0
DEFAULT_DRIFT_PX = 1.0
"""Taken where the rig states nothing: each finding that uses one says so."""


def calibration_pulse_ms(
    distance_px: float, guide_scale_arcsec_px: float, pulses: int, rate_sidereal: float, declination_deg: float
) -> float:
    """Return the pulse that moves a star along right ascension: ``1000 · C · s_g / (n · 15.041 · r · cos δ)``.

    Parameters
    ----------
    distance_px, pulses
        The calibration's distance C in guide px, and in how many pulses n it is to be covered.
    guide_scale_arcsec_px
        The guide camera's scale s_g in arcsec/px.
    rate_sidereal
        The guide rate r as a share of the sidereal rate.
    declination_deg
        The declination δ in degrees.

    Returns
    -------
    float
        The pulse in ms.

    Raises
    ------
    ValueError
        At a pole, where a turn in right ascension moves nothing.
    """
    along = math.cos(math.radians(declination_deg))
    if along < 1e-9:
        raise ValueError("at the pole a pulse in right ascension moves nothing")
    return 1000 * distance_px * guide_scale_arcsec_px / (pulses * SIDEREAL_ARCSEC_S * rate_sidereal * along)


def pulses_needed(pulse_ms: float, wanted_pulse_ms: float, pulses: int) -> float:
    """Return how many pulses of one length cover what some of the wanted length would.

    Parameters
    ----------
    pulse_ms, wanted_pulse_ms
        The pulse in use and the wanted one in ms.
    pulses
        How many of the wanted length there are.

    Returns
    -------
    float
        The number of pulses, not rounded.
    """
    return pulses * wanted_pulse_ms / pulse_ms


def flexure_budget(allowed_px: float, scale_arcsec_px: float, exposure_s: float) -> float:
    """Return the drift between two telescopes that a single exposure bears.

    Parameters
    ----------
    allowed_px, scale_arcsec_px
        How far a star may move in main px, and the main camera's scale in arcsec/px.
    exposure_s
        The exposure in s, above 0.

    Returns
    -------
    float
        The drift in arcsec/s.
    """
    return allowed_px * scale_arcsec_px / exposure_s


def rotation_rate(latitude_deg: float, azimuth_deg: Any, altitude_deg: Any) -> Any:
    """Return the field rotation of an alt-azimuth mount: ``7.2921e-5 cos φ cos A / cos h``.

    Parameters
    ----------
    latitude_deg
        The site's latitude φ in degrees.
    azimuth_deg, altitude_deg
        Azimuth A from north through east, and altitude h, in degrees; arrays broadcast.

    Returns
    -------
    float or array
        The rate in rad/s, signed; infinite at the zenith. Source: W. M. Smart, *Spherical Astronomy*, parallactic
        angle.
    """
    azimuth, altitude = np.radians(azimuth_deg), np.radians(altitude_deg)
    with np.errstate(divide="ignore"):
        return EARTH_RATE_RAD_S * math.cos(math.radians(latitude_deg)) * np.cos(azimuth) / np.cos(altitude)


def rotation_exposure(rate_rad_s: Any, radius_px: float, allowed_px: float = 1.0) -> Any:
    """Return the exposure after which a star has moved so far by the field's rotation.

    Parameters
    ----------
    rate_rad_s
        The rotation in rad/s, a number or an array.
    radius_px, allowed_px
        How far from the axis the star stands, and how far it may move, in px.

    Returns
    -------
    float or array
        The exposure in s; infinite where nothing turns.
    """
    with np.errstate(divide="ignore"):
        return allowed_px / (radius_px * np.abs(np.asarray(rate_rad_s, dtype=float)))


def rotation_map(latitude_deg: float, radius_px: float, allowed_px: float = 1.0) -> tuple[Any, Any, Any]:
    """Return the longest exposure by field rotation over the sky.

    Parameters
    ----------
    latitude_deg
        The site's latitude in degrees.
    radius_px, allowed_px
        How far from the axis the star stands, and how far it may move, in px.

    Returns
    -------
    azimuths, altitudes, exposures
        Arrays (n,) and (m,) in degrees, and (m, n) in s.
    """
    azimuths = np.arange(0.0, 361.0, 1.0)
    altitudes = np.arange(0.0, 90.0, 2.0)
    rate = rotation_rate(latitude_deg, azimuths[None, :], altitudes[:, None])
    return azimuths, altitudes, rotation_exposure(rate, radius_px, allowed_px)


def culmination_altitude(latitude_deg: float, declination_deg: float) -> float:
    """Return the altitude at which an object crosses the meridian, the upper crossing.

    Parameters
    ----------
    latitude_deg, declination_deg
        The site's latitude and the object's declination in degrees.

    Returns
    -------
    float
        The altitude in degrees, below 0 where it does not rise.
    """
    return 90 - abs(latitude_deg - declination_deg)


def parallactic_angle(latitude_deg: float, declination_deg: float, hour_angle_deg: Any) -> Any:
    """Return the parallactic angle, by which the field of an alt-azimuth mount has turned.

    Parameters
    ----------
    latitude_deg, declination_deg
        The site's latitude φ and the object's declination δ in degrees.
    hour_angle_deg
        The hour angle H in degrees, west of the meridian above 0; a number or an array.

    Returns
    -------
    float or array
        ``atan2(sin H, tan φ cos δ − sin δ cos H)`` in degrees. Source: W. M. Smart, *Spherical Astronomy*.
    """
    latitude, declination, hour = (np.radians(v) for v in (latitude_deg, declination_deg, hour_angle_deg))
    across = np.tan(latitude) * np.cos(declination) - np.sin(declination) * np.cos(hour)
    return np.degrees(np.arctan2(np.sin(hour), across))


def field_turn(latitude_deg: float, declination_deg: float, hours: float) -> float:
    """Return by how much the field turns while an object crosses the meridian, half of the time before it.

    Parameters
    ----------
    latitude_deg, declination_deg
        The site's latitude and the object's declination in degrees.
    hours
        How long, in sidereal hours.

    Returns
    -------
    float
        The angle in degrees, at least 0.
    """
    half = 7.5 * min(hours, 24.0)
    path = np.unwrap(parallactic_angle(latitude_deg, declination_deg, np.linspace(-half, half, 721)), period=360)
    return float(np.ptp(path))


def common_share(width_px: float, height_px: float, turn_deg: float) -> float:
    """Return the share of a frame that is on every frame while the field turns about its middle.

    Parameters
    ----------
    width_px, height_px
        The frame's sides.
    turn_deg
        From the first frame to the last, at least 0.

    Returns
    -------
    float
        Between 0 and 1.
    """
    across, down = np.meshgrid(*((np.arange(COMMON_GRID) + 0.5) / COMMON_GRID - 0.5 for _ in range(2)))
    x, y = across * width_px, down * height_px
    inside = np.ones(x.shape, bool)
    for turn in np.radians(np.linspace(0, min(turn_deg, 360.0), 61)):
        inside &= np.abs(x * math.cos(turn) + y * math.sin(turn)) <= width_px / 2
        inside &= np.abs(y * math.cos(turn) - x * math.sin(turn)) <= height_px / 2
    return float(inside.mean())


def polar_error_at_least(drift_arcsec_min: float) -> float:
    """Return the least polar error that makes a star drift so in declination.

    Parameters
    ----------
    drift_arcsec_min
        The drift in arcsec/min.

    Returns
    -------
    float
        In arcmin: ``|d| / 0.2625``, since a polar error e turned by H₀ drifts by ``15.041 ″/s · e · sin(H − H₀)``.
    """
    return abs(drift_arcsec_min) / POLAR_DRIFT


def polar_error_of(drifts: Any, hour_angles_h: Any) -> tuple[float, float]:
    """Return the polar error by drifts in declination at two hour angles or more.

    Parameters
    ----------
    drifts
        In arcsec/min, (n,).
    hour_angles_h
        In hours, (n,).

    Returns
    -------
    error, direction
        In arcmin, and the hour angle H₀ in hours that the error lies at; by least squares.
    """
    hours = np.radians(15.0 * np.asarray(hour_angles_h, dtype=float))
    design = POLAR_DRIFT * np.column_stack([np.sin(hours), -np.cos(hours)])
    (along, across), *_ = np.linalg.lstsq(design, np.asarray(drifts, dtype=float), rcond=None)
    return math.hypot(along, across), math.degrees(math.atan2(across, along)) / 15.0


def polar_smear(error_arcmin: float, declination_deg: float, radius_px: float, exposure_s: float) -> float:
    """Return how far a star goes about the guide star during an exposure, where the pole is missed, at the worst hour.

    Parameters
    ----------
    error_arcmin
        The polar error.
    declination_deg
        Of the field.
    radius_px
        From the guide star to the star, in px.
    exposure_s
        In s.

    Returns
    -------
    float
        In px: the field turns by ``15.041 ″/s · e / cos δ`` at most.
    """
    rate = EARTH_RATE_RAD_S * math.radians(error_arcmin / 60) / max(math.cos(math.radians(declination_deg)), 1e-6)
    return radius_px * rate * exposure_s


@dataclass(frozen=True)
class GuideRow:
    """One way to guide at one binning: scale in arcsec/px, guide px in main px, and what centroid errors come to."""

    way: str
    in_use: bool
    binning: int
    scale_arcsec_px: float
    ratio: float
    good_main_px: float
    poor_main_px: float


def guide_rows(
    ways: list[tuple[str, float, bool]],
    pixel_um: float,
    binning_in_use: int,
    main_scale_arcsec_px: float,
    centroid_px: tuple[float, float] = CENTROID_ERROR_PX,
) -> list[GuideRow]:
    """Return what guiding comes to at binnings 1 to 3, and at the one in use.

    Parameters
    ----------
    ways
        For each way to guide its name, its focal length in mm, and whether it is in use.
    pixel_um, binning_in_use
        The guide camera's pixel in µm, and its binning.
    main_scale_arcsec_px
        The main camera's scale in arcsec/px.
    centroid_px
        The good and the poor end of the centroid's error, in guide px.

    Returns
    -------
    list of GuideRow
        One for each way and binning.
    """
    rows = []
    for way, focal_length_mm, used in ways:
        for binning in sorted({1, 2, 3, binning_in_use}):
            scale = imaging.pixel_scale(pixel_um, binning, focal_length_mm)
            ratio = imaging.guide_to_main_ratio(scale, main_scale_arcsec_px)
            good, poor = (error * ratio for error in centroid_px)
            rows.append(GuideRow(way, used and binning == binning_in_use, binning, scale, ratio, good, poor))
    return rows

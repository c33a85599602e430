"""How the field of an alt-azimuth mount turns, and what that leaves of a frame.

Sources: see :mod:`wyntaxis.core.optics.guiding`.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.optics.guiding import EARTH_RATE_RAD_S

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats

COMMON_GRID = 161
HIGHEST_DEG = 89.5
"""As near to the zenith as lines are followed: all of them meet there."""


def rotation_rate(latitude_deg: float, azimuth_deg: Floats | float, altitude_deg: Floats | float) -> Floats | float:
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


def exposure_line(latitude_deg: float, radius_px: float, allowed_px: float, exposure_s: float) -> tuple[Floats, Floats]:
    """Return where over the sky the longest exposure by field rotation is a given one.

    Parameters
    ----------
    latitude_deg
        The site's latitude in degrees.
    radius_px, allowed_px
        How far from the axis the star stands, and how far it may move, in px.
    exposure_s
        The exposure in s.

    Returns
    -------
    azimuths, altitudes
        Arrays (n,) in degrees; the azimuths are those of the quarter from north to east, and the line stands alike in
        the other three. Empty for no time at all, and where nearly the whole sky allows longer exposures.
    """
    slowest = float(rotation_exposure(rotation_rate(latitude_deg, 0.0, 0.0), radius_px, allowed_px))
    lowest = math.degrees(math.acos(min(max(exposure_s, 0.0) / slowest, 1.0)))
    if lowest >= HIGHEST_DEG:
        return np.empty(0), np.empty(0)
    altitudes = np.linspace(lowest, HIGHEST_DEG, 120)
    on_meridian = rotation_exposure(rotation_rate(latitude_deg, 0.0, altitudes), radius_px, allowed_px)
    return np.degrees(np.arccos(np.minimum(on_meridian / exposure_s, 1.0))), altitudes


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

"""Whether it is dark at a site, without the libraries that exact positions need: for what only follows the clock."""

from __future__ import annotations

import math

UNIX_J2000_S = 946_728_000.0
"""J2000.0, 2000-01-01 12:00, in Unix seconds (UTC for TT: a minute, a hundredth of a degree)."""
DAY_S = 86_400.0
CIVIL_DUSK_DEG = -6.0
"""Below this altitude of the sun a screen dazzles (civil twilight)."""


def sun_altitude_deg(unix_s: float, latitude_deg: float, longitude_deg: float) -> float:
    """Return the sun's altitude without refraction.

    Parameters
    ----------
    unix_s
        A moment in Unix seconds.
    latitude_deg, longitude_deg
        A site, east counted positive.

    Returns
    -------
    float
        In degrees, within 0.05° from 1950 to 2100.

    Source
    ------
    The Astronomical Almanac, low-precision formulas for the sun; mean sidereal time by the same.
    """
    days = (unix_s - UNIX_J2000_S) / DAY_S
    anomaly = math.radians(357.528 + 0.985_600_3 * days)
    longitude = math.radians(280.460 + 0.985_647_4 * days + 1.915 * math.sin(anomaly) + 0.020 * math.sin(2 * anomaly))
    tilt = math.radians(23.439 - 4e-7 * days)
    ascension = math.atan2(math.cos(tilt) * math.sin(longitude), math.cos(longitude))
    declination = math.asin(math.sin(tilt) * math.sin(longitude))
    sidereal = math.radians(280.460_618_4 + 360.985_647_37 * days + longitude_deg)
    latitude, hour_angle = math.radians(latitude_deg), sidereal - ascension
    height = math.sin(latitude) * math.sin(declination)
    height += math.cos(latitude) * math.cos(declination) * math.cos(hour_angle)
    return math.degrees(math.asin(max(-1.0, min(1.0, height))))


def is_dark(unix_s: float, latitude_deg: float, longitude_deg: float) -> bool:
    """Return whether the sun is below the horizon by more than civil twilight."""
    return sun_altitude_deg(unix_s, latitude_deg, longitude_deg) < CIVIL_DUSK_DEG

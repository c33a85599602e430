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

EARTH_RATE_RAD_S = 7.2921e-5
"""Earth's rotation, IERS Conventions (2010), table 1.2."""

CENTROID_ERROR_PX = (0.1, 0.2)
"""What a guide camera's centroid usually errs by, in guide px: the good and the poor end."""

ALLOWED_MAIN_PX = 0.5
"""Guide errors under half a main pixel do not show in the stars."""

USUAL_RATE_SIDEREAL = 0.5
USUAL_DISTANCE_PX = 25.0
USUAL_PULSES = 12
USUAL_DITHER_MAIN_PX = 5.0
USUAL_DRIFT_PX = 1.0
"""Taken where the rig states nothing: each finding that uses one says so."""


def calibration_pulse_ms(
    distance_px: float, guide_scale_arcsec_px: float, pulses: int, rate_sidereal: float, declination_deg: float
) -> float:
    """Return the pulse, in ms, that moves a star ``distance_px`` guide px in so many pulses along right ascension.

    ``1000 · C · s_g / (n · 15.041 · r · cos δ)``.

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
    """Return how many pulses of ``pulse_ms`` cover what ``pulses`` of the wanted length would."""
    return pulses * wanted_pulse_ms / pulse_ms


def flexure_budget(allowed_px: float, scale_arcsec_px: float, exposure_s: float) -> float:
    """Return the drift between two telescopes, in arcsec/s, that moves a star ``allowed_px`` in one exposure."""
    return allowed_px * scale_arcsec_px / exposure_s


def rotation_rate(latitude_deg: float, azimuth_deg: Any, altitude_deg: Any) -> Any:
    """Return the field rotation of an alt-azimuth mount in rad/s, signed: ``7.2921e-5 cos φ cos A / cos h``.

    Azimuth from north through east; arrays broadcast; at the zenith the rate is infinite.
    Source: W. M. Smart, *Spherical Astronomy*, parallactic angle.
    """
    azimuth, altitude = np.radians(azimuth_deg), np.radians(altitude_deg)
    with np.errstate(divide="ignore"):
        return EARTH_RATE_RAD_S * math.cos(math.radians(latitude_deg)) * np.cos(azimuth) / np.cos(altitude)


def rotation_exposure(rate_rad_s: Any, radius_px: float, allowed_px: float = 1.0) -> Any:
    """Return the exposure in s after which a star ``radius_px`` from the axis has moved ``allowed_px``."""
    with np.errstate(divide="ignore"):
        return allowed_px / (radius_px * np.abs(np.asarray(rate_rad_s, dtype=float)))


def rotation_map(latitude_deg: float, radius_px: float, allowed_px: float = 1.0) -> tuple[Any, Any, Any]:
    """Return azimuths (n,), altitudes (m,) in degrees and the longest exposure (m, n) in s over the sky."""
    azimuths = np.arange(0.0, 361.0, 1.0)
    altitudes = np.arange(0.0, 90.0, 2.0)
    rate = rotation_rate(latitude_deg, azimuths[None, :], altitudes[:, None])
    return azimuths, altitudes, rotation_exposure(rate, radius_px, allowed_px)


def culmination_altitude(latitude_deg: float, declination_deg: float) -> float:
    """Return the altitude in degrees at which an object crosses the meridian, the upper crossing."""
    return 90 - abs(latitude_deg - declination_deg)


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
    """Return a row for each way, a name with its focal length in mm and whether it is in use, at binnings 1 to 3."""
    rows = []
    for way, focal_length_mm, used in ways:
        for binning in sorted({1, 2, 3, binning_in_use}):
            scale = imaging.pixel_scale(pixel_um, binning, focal_length_mm)
            ratio = imaging.guide_to_main_ratio(scale, main_scale_arcsec_px)
            good, poor = (error * ratio for error in centroid_px)
            rows.append(GuideRow(way, used and binning == binning_in_use, binning, scale, ratio, good, poor))
    return rows

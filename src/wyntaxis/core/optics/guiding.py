"""Guiding: calibration pulse, dither, thresholds, flexure, drift and polar error.

Angles are in degrees, image lengths in px, rates in arcsec/s unless the name says otherwise.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

from wyntaxis.core.fitting import weighted_fit
from wyntaxis.core.optics import imaging

SIDEREAL_ARCSEC_S = 15.041
"""How fast the sky turns on the celestial equator: 360° in a sidereal day of 86 164.1 s."""

POLAR_DRIFT = SIDEREAL_ARCSEC_S * 60 * math.radians(1 / 60)
"""What a polar error of 1′ makes a star drift in declination at the most, in arcsec/min: 0.2625."""

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
    import numpy as np

    hours = np.radians(15.0 * np.asarray(hour_angles_h, dtype=float))
    design = POLAR_DRIFT * np.column_stack([np.sin(hours), -np.cos(hours)])
    along, across = weighted_fit(design, np.asarray(drifts, dtype=float)).parameters
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

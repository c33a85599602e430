"""Focal length, scale, field, sampling and diffraction of a telescope with its correctors and sensor.

Source of the formulas: W. J. Smith, *Modern Optical Engineering*; the small-angle scale from 1 rad = 206264.806″.
"""

from __future__ import annotations

import math
from collections.abc import Iterable

ARCSEC_PER_RADIAN = math.degrees(1) * 3600
WAVELENGTH_UM = 0.55
"""Green light, where the eye and most luminance filters peak; used for the Airy disc and the depth of focus."""

UNDERSAMPLED_BELOW = 1.5
MATCHED_FROM, MATCHED_TO = 2.0, 3.0
OVERSAMPLED_ABOVE = 4.0
"""Sampling in px per seeing FWHM: from the Nyquist criterion for a Gaussian star image, with the trade's margins."""


def effective_focal_length(focal_length_mm: float, magnifications: Iterable[float]) -> float:
    """Return the focal length behind all correctors, in mm: ``f0 · m1 · m2 ...``."""
    return focal_length_mm * math.prod(magnifications)


def focal_ratio(focal_length_mm: float, aperture_mm: float) -> float:
    """Return the focal ratio ``f / D``."""
    return focal_length_mm / aperture_mm


def pixel_scale(pixel_um: float, binning: int, focal_length_mm: float) -> float:
    """Return the angle that one (binned) pixel sees on the axis, in arcsec/px: ``206.264806 · p · bin / f``."""
    return ARCSEC_PER_RADIAN / 1000 * pixel_um * binning / focal_length_mm


def field_angle(side_mm: float, focal_length_mm: float) -> float:
    """Return the angle that a sensor's side spans on the sky, in degrees: ``2 atan(W / 2f)``."""
    return math.degrees(2 * math.atan(side_mm / (2 * focal_length_mm)))


def field_angle_slope(side_mm: float, focal_length_mm: float) -> float:
    """Return ``|d field / d f|`` in degrees per mm, for carrying the focal length's uncertainty on."""
    return math.degrees(side_mm / (focal_length_mm**2 + side_mm**2 / 4))


def airy_diameter(ratio: float, wavelength_um: float = WAVELENGTH_UM) -> float:
    """Return the diameter of the Airy disc's first dark ring, in µm: ``2.44 λ N``."""
    return 2.44 * wavelength_um * ratio


def sampling(seeing_fwhm_arcsec: float, scale_arcsec_px: float) -> float:
    """Return how many pixels span the seeing FWHM."""
    return seeing_fwhm_arcsec / scale_arcsec_px


def guide_to_main_ratio(guide_scale_arcsec_px: float, scale_arcsec_px: float) -> float:
    """Return how many main pixels one guide pixel spans."""
    return guide_scale_arcsec_px / scale_arcsec_px

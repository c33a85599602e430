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
    """Return the focal length behind all correctors: ``f0 · m1 · m2 ...``.

    Parameters
    ----------
    focal_length_mm
        The telescope's own focal length f0 in mm.
    magnifications
        The correctors' magnifications, any number of them.

    Returns
    -------
    float
        The focal length in mm.
    """
    return focal_length_mm * math.prod(magnifications)


def focal_ratio(focal_length_mm: float, aperture_mm: float) -> float:
    """Return the focal ratio ``f / D``.

    Parameters
    ----------
    focal_length_mm, aperture_mm
        Focal length and aperture in mm, the aperture above 0.

    Returns
    -------
    float
        The ratio N, without unit.
    """
    return focal_length_mm / aperture_mm


def pixel_scale(pixel_um: float, binning: int, focal_length_mm: float) -> float:
    """Return the angle that one (binned) pixel sees on the axis: ``206.264806 · p · bin / f``.

    The formula is its own inverse: with a scale in place of the focal length it gives the focal length.

    Parameters
    ----------
    pixel_um, binning
        The pixel's side p in µm, and how many are binned along a side.
    focal_length_mm
        The focal length f in mm, above 0.

    Returns
    -------
    float
        The scale in arcsec/px.
    """
    return ARCSEC_PER_RADIAN / 1000 * pixel_um * binning / focal_length_mm


def field_angle(side_mm: float, focal_length_mm: float) -> float:
    """Return the angle that a sensor's side spans on the sky: ``2 atan(W / 2f)``.

    Parameters
    ----------
    side_mm, focal_length_mm
        The side W and the focal length f in mm, the latter above 0.

    Returns
    -------
    float
        The angle in degrees.
    """
    return math.degrees(2 * math.atan(side_mm / (2 * focal_length_mm)))


def field_angle_slope(side_mm: float, focal_length_mm: float) -> float:
    """Return ``|d field / d f|``, for carrying the focal length's uncertainty on.

    Parameters
    ----------
    side_mm, focal_length_mm
        The side and the focal length in mm, the latter above 0.

    Returns
    -------
    float
        The slope in degrees per mm: the derivative of :func:`field_angle`.
    """
    return math.degrees(side_mm / (focal_length_mm**2 + side_mm**2 / 4))


def airy_diameter(ratio: float, wavelength_um: float = WAVELENGTH_UM) -> float:
    """Return the diameter of the Airy disc's first dark ring: ``2.44 λ N``.

    Parameters
    ----------
    ratio
        The focal ratio N.
    wavelength_um
        The wavelength λ in µm.

    Returns
    -------
    float
        The diameter in µm, of a round aperture without obstruction.
    """
    return 2.44 * wavelength_um * ratio


def sampling(seeing_fwhm_arcsec: float, scale_arcsec_px: float) -> float:
    """Return how many pixels span the seeing FWHM.

    Parameters
    ----------
    seeing_fwhm_arcsec, scale_arcsec_px
        The seeing in arcsec and the pixel scale in arcsec/px, the latter above 0.

    Returns
    -------
    float
        The sampling in px.
    """
    return seeing_fwhm_arcsec / scale_arcsec_px


def guide_to_main_ratio(guide_scale_arcsec_px: float, scale_arcsec_px: float) -> float:
    """Return how many main pixels one guide pixel spans.

    Parameters
    ----------
    guide_scale_arcsec_px, scale_arcsec_px
        The guide camera's and the main camera's pixel scale in arcsec/px, the latter above 0.

    Returns
    -------
    float
        The ratio, without unit.
    """
    return guide_scale_arcsec_px / scale_arcsec_px

"""Depth of focus, and what a plane plate does to the focus."""

from __future__ import annotations

import math

from wyntaxis.core.optics.imaging import ARCSEC_PER_RADIAN, WAVELENGTH_UM

SEEING_GROWTH = 0.10
"""By what fraction a defocus may widen the seeing FWHM before it leaves the zone."""

BLUR_TO_FWHM = 0.60
"""FWHM that a uniform disc of diameter 1 adds in quadrature."""


def depth_of_focus_diffraction(ratio: float, wavelength_um: float = WAVELENGTH_UM) -> float:
    """Return the depth of focus by diffraction: ``4 λ N²``, that is ±2 λ N².

    Parameters
    ----------
    ratio
        The focal ratio N, above 0.
    wavelength_um
        The wavelength in µm.

    Returns
    -------
    float
        The whole depth in µm, in which the wave front errs by no more than a quarter wave. Source: Born and Wolf,
        *Principles of Optics*, tolerance conditions for a defocus of λ/4.
    """
    return 4 * wavelength_um * ratio**2


def depth_of_focus_seeing(
    ratio: float, focal_length_mm: float, seeing_fwhm_arcsec: float, growth: float = SEEING_GROWTH
) -> float:
    """Return the zone in which the seeing FWHM grows by no more than a fraction.

    A defocus z blurs to a disc z/N, which adds 0.60 of its diameter in quadrature:
    ``2 N f θ √(2τ) / (0.60 · 206264.8)``, to first order in τ.

    Parameters
    ----------
    ratio
        The focal ratio N, above 0.
    focal_length_mm, seeing_fwhm_arcsec
        The focal length f in mm and the seeing θ in arcsec.
    growth
        The fraction τ by which the FWHM may grow.

    Returns
    -------
    float
        The whole zone in µm. Source: the second moment of a uniform disc against that of a Gaussian.
    """
    zone_mm = 2 * ratio * focal_length_mm * seeing_fwhm_arcsec * math.sqrt(2 * growth)
    return 1000 * zone_mm / (BLUR_TO_FWHM * ARCSEC_PER_RADIAN)


def plate_focus_shift(thickness_mm: float, index: float) -> float:
    """Return how far a plane-parallel plate moves the focus away from the lens: ``t (1 - 1/n)``, paraxial.

    Parameters
    ----------
    thickness_mm, index
        The plate's thickness t in mm and its refractive index n.

    Returns
    -------
    float
        The shift in mm. Source: W. J. Smith, *Modern Optical Engineering*, plane-parallel plate.

    Raises
    ------
    ValueError
        If the thickness is negative or the index is below 1.
    """
    if thickness_mm < 0 or index < 1:
        raise ValueError(f"a plate needs thickness >= 0 and index >= 1, got {thickness_mm} mm and {index}")
    return thickness_mm * (1 - 1 / index)


def plate_focus_shift_marginal(thickness_mm: float, index: float, ratio: float) -> float:
    """Return the plate's shift for the marginal ray: ``t (1 - cos θ / √(n² - sin² θ))`` with ``θ = atan(1 / 2N)``.

    Parameters
    ----------
    thickness_mm, index
        The plate's thickness t in mm and its refractive index n.
    ratio
        The focal ratio N of the beam, above 0.

    Returns
    -------
    float
        The shift in mm; it tends to the paraxial one for a slow beam. Source: Snell's law at both faces.
    """
    angle = math.atan(1 / (2 * ratio))
    return thickness_mm * (1 - math.cos(angle) / math.sqrt(index**2 - math.sin(angle) ** 2))

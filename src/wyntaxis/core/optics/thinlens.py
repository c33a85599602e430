"""A corrector near its design distance as a thin lens: magnification over distance, and back again.

Source: Gaussian optics. The design distance is taken from the flange that the maker counts from, not from the principal
plane, which makers do not give: all results are thin-lens estimates.
"""

from __future__ import annotations


def focal_length_of(magnification: float, distance_mm: float) -> float | None:
    """Return the thin lens that has a magnification at a distance: ``f_r = d0 / (1 − m0)``.

    Parameters
    ----------
    magnification, distance_mm
        The design magnification m0, without unit, and the design distance d0 in mm.

    Returns
    -------
    float or None
        The focal length in mm, below 0 for an extender; None for m0 = 1, which tells nothing.
    """
    return None if magnification == 1 else distance_mm / (1 - magnification)


def magnification_at(distance_mm: float, lens_mm: float) -> float:
    """Return the magnification ``1 − d / f_r`` at a distance from the corrector.

    Parameters
    ----------
    distance_mm, lens_mm
        The distance d and the thin lens's focal length f_r in mm, the latter not 0.

    Returns
    -------
    float
        The magnification, without unit; zero or below where the distance is beyond the lens's focus.
    """
    return 1 - distance_mm / lens_mm


def spacing_error(measured: float, design: float, lens_mm: float) -> float:
    """Return the spacing error that explains a measured magnification: ``−(m − m0) f_r``.

    Parameters
    ----------
    measured, design
        The measured and the design magnification m and m0, without unit.
    lens_mm
        The thin lens's focal length f_r in mm.

    Returns
    -------
    float
        The error in mm; above 0 the sensor is too far.
    """
    return -(measured - design) * lens_mm

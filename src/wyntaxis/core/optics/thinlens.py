"""A corrector near its design distance as a thin lens: magnification over distance, and back again.

Source: Gaussian optics. The design distance is taken from the flange that the maker counts from, not from the principal
plane, which makers do not give: all results are thin-lens estimates.
"""

from __future__ import annotations


def focal_length_of(magnification: float, distance_mm: float) -> float | None:
    """Return the thin lens ``f_r = d0 / (1 − m0)`` in mm, below 0 for an extender; None for m0 = 1, which tells
    nothing.
    """
    return None if magnification == 1 else distance_mm / (1 - magnification)


def magnification_at(distance_mm: float, lens_mm: float) -> float:
    """Return the magnification ``1 − d / f_r`` at a distance from the corrector."""
    return 1 - distance_mm / lens_mm


def spacing_error(measured: float, design: float, lens_mm: float) -> float:
    """Return the spacing error ``−(m − m0) f_r`` in mm that explains a measured magnification; > 0: too far."""
    return -(measured - design) * lens_mm

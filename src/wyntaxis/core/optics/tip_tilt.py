"""What a tilting plate does to the image: how far it moves it, and how long that lasts against a drift."""

from __future__ import annotations

import math

from wyntaxis.core.optics.imaging import ARCSEC_PER_RADIAN


def plate_shift_mm(thickness_mm: float, index: float, tilt_deg: float) -> float:
    """Return how far a tilted plane-parallel plate moves the image sideways.

    Parameters
    ----------
    thickness_mm, index
        The plate's thickness in mm and its refractive index.
    tilt_deg
        Between the plate's normal and the axis, in degrees, under 90.

    Returns
    -------
    float
        In mm: ``t sin θ (1 − cos θ / √(n² − sin² θ))``. Source: W. J. Smith, *Modern Optical Engineering*, 4th edition,
        section 7.4.
    """
    tilt = math.radians(tilt_deg)
    return thickness_mm * math.sin(tilt) * (1 - math.cos(tilt) / math.sqrt(index**2 - math.sin(tilt) ** 2))


def range_on_sky_arcsec(range_um: float, focal_length_mm: float) -> float:
    """Return the angle on the sky that a shift at the sensor is.

    Parameters
    ----------
    range_um, focal_length_mm
        The shift in µm, and the effective focal length in mm, above 0.

    Returns
    -------
    float
        In arcsec: ``d / F`` radians.
    """
    return range_um / 1000 / focal_length_mm * ARCSEC_PER_RADIAN


def minutes_to_end(range_arcsec: float, drift_arcsec_min: float) -> float:
    """Return how long a centred plate follows a drift until it is at its end.

    Parameters
    ----------
    range_arcsec, drift_arcsec_min
        The range each way in arcsec, and the drift in arcsec/min.

    Returns
    -------
    float
        In minutes; infinite without a drift.
    """
    return range_arcsec / abs(drift_arcsec_min) if drift_arcsec_min else math.inf

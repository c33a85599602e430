"""A tilt plate: how far each of its screws is to be turned so that the sensor follows a plane."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from wyntaxis.core.fitting import weighted_fit


def screw_turns(
    slope_um_mm: tuple[float, float], radius_mm: float, azimuths_deg: Sequence[float], pitch_mm: float
) -> tuple[float, ...]:
    """Return by how many turns each screw is to move the camera's side there away from the telescope.

    The plate stays plane and its middle where it is, so the mean spacing is kept; of all movements that give this tilt
    and keep the middle it is the only one for three screws, and the smallest (in squares) for more.

    Parameters
    ----------
    slope_um_mm
        By how much the plane rises along the light toward +x and +y of the image, in µm a mm.
    radius_mm
        How far the screws are from the axis, in mm.
    azimuths_deg
        Where each screw is, from +x toward +y of the image.
    pitch_mm
        How far a screw goes in one turn, in mm.

    Returns
    -------
    tuple[float, ...]
        Turns, one for each screw; above 0 away from the telescope. Source: a plane through its middle, ``r (α cos φ +
        β sin φ) / pitch``.

    Raises
    ------
    ValueError
        With fewer than three screws, a radius or a pitch that is not above 0, or screws that lie on one line.
    """
    _check(radius_mm, azimuths_deg, pitch_mm)
    return tuple(
        radius_mm * (slope_um_mm[0] * math.cos(a) + slope_um_mm[1] * math.sin(a)) / (1000 * pitch_mm)
        for a in (math.radians(azimuth) for azimuth in azimuths_deg)
    )


def tilt_of_turns(
    turns: Sequence[float], radius_mm: float, azimuths_deg: Sequence[float], pitch_mm: float
) -> tuple[float, float]:
    """Return the tilt that turns of the screws give, the plane through their ends that fits best.

    Parameters
    ----------
    turns
        Turns of each screw, above 0 away from the telescope.
    radius_mm, azimuths_deg, pitch_mm
        As in :func:`screw_turns`.

    Returns
    -------
    tuple[float, float]
        By how much the plane rises toward +x and +y, in µm a mm.

    Raises
    ------
    ValueError
        As :func:`screw_turns` does.
    """
    _check(radius_mm, azimuths_deg, pitch_mm)
    angle = np.radians(np.asarray(azimuths_deg, float))
    design = np.stack([np.ones_like(angle), radius_mm * np.cos(angle), radius_mm * np.sin(angle)], axis=1)
    moved = 1000 * pitch_mm * np.asarray(turns, float)
    found = weighted_fit(design, moved).parameters
    return float(found[1]), float(found[2])


def _check(radius_mm: float, azimuths_deg: Sequence[float], pitch_mm: float) -> None:
    if radius_mm <= 0 or pitch_mm <= 0:
        raise ValueError(f"screws need a radius and a pitch above 0, got {radius_mm} mm and {pitch_mm} mm")
    if len({round(azimuth % 360, 6) for azimuth in azimuths_deg}) < 3:
        raise ValueError(f"a plane takes three screws at azimuths of their own, got {list(azimuths_deg)}")


def clock_position(azimuth_deg: float, *, mirrored: bool) -> int:
    """Return at which hour of a clock's face a place of the image lies, seen from behind the camera.

    Parameters
    ----------
    azimuth_deg
        From +x toward +y of the stored image, row 0 below.
    mirrored
        Whether the stored image is a mirror image of what is seen from behind.

    Returns
    -------
    int
        1 to 12.
    """
    seen = 180 - azimuth_deg if mirrored else azimuth_deg
    return round((90 - seen) / 30) % 12 or 12

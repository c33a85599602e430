"""The transfer functions of a star's light, by summing the waves of the light itself, ring by ring.

Nothing here is taken from what measures stars: no closed formula, only the light that lies at each radius.
"""

from __future__ import annotations

import math
from functools import lru_cache
from typing import TYPE_CHECKING, Literal

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from scipy.interpolate import CubicSpline

Profile = Literal["gaussian", "moffat"]
Values = NDArray[np.float64]

MOFFAT_BETA = 3.5
"""Between the turbulence's own wings (4.8) and what optics and guiding add (2.5 to 3)."""
RINGS, NODES, PIECES = 400, 6000, 12
WINGS = 80.0
"""The light of a star is summed out to so many of its half-flux diameters."""
FINEST = 14.0
"""Frequencies are tabulated up to so many cycles to the unit of length; beyond there is next to nothing."""


def annulus_transfer(k: Values, diameter: float, obstruction: float) -> Values:
    """Return the transfer function of an evenly lit annulus.

    Parameters
    ----------
    k
        Spatial frequencies, in cycles to the unit that the diameter is told in.
    diameter, obstruction
        Outer diameter, and the inner one as a share of it.

    Returns
    -------
    array
        1 at frequency 0.
    """
    table = _of_annulus(round(obstruction, 6))
    return np.asarray(table(np.minimum(k * diameter, table.x[-1])))


def seeing_transfer(k: Values, profile: Profile) -> Values:
    """Return the transfer function of a star in focus whose half-flux diameter is the unit; 1 at frequency 0.

    Parameters
    ----------
    k
        Spatial frequencies, in cycles to a half-flux diameter.
    profile
        A Gaussian, or Moffat's with wings.
    """
    table = _of_star(profile)
    return np.asarray(table(np.minimum(k, table.x[-1])))


def _summed(radii: Values, light: Values, highest: float) -> CubicSpline:
    """Return over frequency the waves of rings of light, each ``J₀`` of its own radius."""
    from scipy.interpolate import CubicSpline
    from scipy.special import j0

    frequencies = np.linspace(0, highest, NODES)
    waves = np.concatenate([j0(2 * math.pi * some[:, None] * radii) @ light for some in np.split(frequencies, PIECES)])
    return CubicSpline(frequencies, waves / light.sum())


@lru_cache(maxsize=16)
def _of_annulus(obstruction: float) -> CubicSpline:
    nodes, weights = np.polynomial.legendre.leggauss(RINGS)
    inner, outer = obstruction / 2, 0.5
    radii = inner + (outer - inner) * (nodes + 1) / 2
    return _summed(radii, weights * radii, 8 * FINEST)


@lru_cache(maxsize=2)
def _of_star(profile: Profile) -> CubicSpline:
    # Rings of equal steps in the logarithm, from the core into the wings.
    radii = np.geomspace(1e-4, WINGS, 8 * RINGS)
    if profile == "gaussian":
        light = radii**2 * np.exp(-4 * math.log(2) * radii**2)
    else:
        light = radii**2 * (1 + (2 * radii) ** 2) ** -MOFFAT_BETA
    within = (np.cumsum(light) - light / 2) / light.sum()
    half = float(np.interp(0.5, within, radii))
    return _summed(radii / (2 * half), light, FINEST)

"""The half-flux diameter of a star out of focus: an annulus of light, blurred by the seeing."""

from __future__ import annotations

import math
from functools import lru_cache
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

if TYPE_CHECKING:
    from scipy.interpolate import CubicSpline

    from wyntaxis.core.arrays import Floats

Profile = Literal["gaussian", "moffat"]
PROFILES: tuple[Profile, ...] = ("gaussian", "moffat")
MOFFAT_BETA = 3.5
"""Between the turbulence's own wings (4.8) and what optics and guiding add (2.5 to 3); Trujillo et al., 2001."""
MAX_DIAMETER = 30.0
"""Beyond this many sharpest diameters the blur adds a constant to the square."""
GAUSSIAN_SIGMA = 1 / (2 * math.sqrt(2 * math.log(2)))


def annulus_hfd_share(obstruction: float) -> float:
    """Return the half-flux diameter of an unblurred annulus, as a share of its outer diameter.

    Parameters
    ----------
    obstruction
        Inner over outer diameter ε, from 0 to below 1.

    Returns
    -------
    float
        ``√((1 + ε²)/2)``: the circle that halves the area between both edges.

    Raises
    ------
    ValueError
        If the obstruction is not from 0 to below 1.
    """
    if not 0 <= obstruction < 1:
        raise ValueError(f"an obstruction lies from 0 to below 1, got {obstruction}")
    return math.sqrt((1 + obstruction**2) / 2)


def blurred_annulus_hfd(diameter: Any, obstruction: float, profile: Profile = "moffat") -> Any:
    """Return the half-flux diameter of an annulus blurred by a star's sharpest image.

    Parameters
    ----------
    diameter
        Outer diameter of the annulus, in half-flux diameters of the sharpest image; an array, at least 0.
    obstruction
        Inner over outer diameter, from 0 to below 1.
    profile
        The sharpest image: a Gaussian, or Moffat's with wings.

    Returns
    -------
    array
        In the same unit: 1 for no annulus, ``diameter · √((1 + ε²)/2)`` for a large one. Source: the encircled light
        ``2πr ∫ T(k) J₁(2πkr) dk`` of the product T of both transfer functions; Goodman, *Introduction to Fourier
        Optics*.
    """
    excess = _excess(round(obstruction, 3), profile)
    across = np.abs(np.asarray(diameter, float))
    share = annulus_hfd_share(obstruction)
    return np.sqrt((share * across) ** 2 + np.maximum(excess(np.minimum(across, MAX_DIAMETER)), 0.0))


@lru_cache(maxsize=64)
def _excess(obstruction: float, profile: Profile) -> CubicSpline:
    """Return, over the diameter, by how much the squared half-flux diameter exceeds that of the bare annulus."""
    from scipy.interpolate import CubicSpline

    diameters = np.concatenate([np.linspace(0, 4, 33), np.geomspace(4.3, MAX_DIAMETER, 24)])
    k, radii, circles = _circles()
    blur = seeing_transfer(k, profile)
    annuli = np.stack([annulus_transfer(k, across, obstruction) for across in diameters])
    inside = (annuli * blur) @ circles
    half = np.array([_half(growth, radii) for growth in inside])
    # The sharpest image is the unit: what the table's steps leave of it is scaled away.
    excess = (2 * half / (2 * half[0])) ** 2 - (annulus_hfd_share(obstruction) * diameters) ** 2
    return CubicSpline(diameters, excess)


@lru_cache(maxsize=1)
def _circles() -> tuple[Any, Any, Any]:
    """Return frequencies, radii, and by what each frequency's transfer adds to the light within each radius."""
    from scipy.special import j1

    k = (np.arange(3000) + 0.5) * 1e-3
    radii = np.concatenate([np.linspace(0.02, 3, 150), np.linspace(3.05, MAX_DIAMETER, 500)])
    return k, radii, 2 * math.pi * radii * 1e-3 * j1(2 * math.pi * k[:, None] * radii)


def _half(growth: Floats, radii: Floats) -> float:
    """Return the radius that holds half, between the table's steps."""
    above = int(np.argmax(growth >= 0.5))
    low, high = (growth[above - 1], growth[above]) if above else (0.0, growth[0])
    inner = radii[above - 1] if above else 0.0
    return float(inner + (radii[above] - inner) * (0.5 - low) / (high - low))


def annulus_transfer(k: Floats, diameter: float, obstruction: float) -> Floats:
    """Return the transfer function of an annulus of evenly spread light.

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
    if diameter == 0:
        return np.ones_like(k)
    disc = _disc(k * diameter)
    return (disc - obstruction**2 * _disc(k * diameter * obstruction)) / (1 - obstruction**2)


def _disc(k: Floats) -> Floats:
    from scipy.special import j1

    at = math.pi * k
    return np.where(at > 1e-9, 2 * j1(np.maximum(at, 1e-9)) / np.maximum(at, 1e-9), 1.0)


def seeing_transfer(k: Any, profile: Profile) -> Any:
    """Return the transfer function of the sharpest image, of half-flux diameter 1.

    Parameters
    ----------
    k
        Spatial frequencies, in cycles to a half-flux diameter.
    profile
        A Gaussian, or Moffat's with wings.

    Returns
    -------
    array
        1 at frequency 0.
    """
    from scipy.special import gamma, kv

    if profile == "gaussian":
        return np.exp(-2 * (math.pi * GAUSSIAN_SIGMA * k) ** 2)
    core = 0.5 / math.sqrt(2 ** (1 / (MOFFAT_BETA - 1)) - 1)
    at = 2 * math.pi * core * k
    order = MOFFAT_BETA - 1
    at = np.maximum(at, 1e-9)
    return 2 * (at / 2) ** order * kv(order, at) / gamma(order)

"""Fits and scatters that every kind of evidence needs: weighted and robust linear fits, MAD, Student factors, HC3."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import ArrayLike, NDArray

Array = NDArray[np.float64]

NORMAL_MAD = 1.482602218505602
"""Standard deviation of normal values in median absolute deviations, 1/Φ⁻¹(3/4)."""
NORMAL_MEDIAN = 1.2533141373155003
"""Standard error of the median of normal values in those of their mean, √(π/2)."""
TWO_SIGMA = 0.9544997361036416
"""Share of normal values within two standard deviations of their mean."""
TINY = 1e-12


def scatter_about_zero(values: ArrayLike) -> float:
    """Return the robust standard deviation of values about zero, 1.4826 median \\|v\\|; 0 for no values."""
    known = np.asarray(values, dtype=float)
    return NORMAL_MAD * float(np.median(np.abs(known))) if known.size else 0.0


def mad_scatter(values: ArrayLike) -> float:
    """Return the robust standard deviation of values about their median; 0 for no values."""
    known = np.asarray(values, dtype=float)
    return scatter_about_zero(known - np.median(known)) if known.size else 0.0


def median_error(values: ArrayLike) -> float:
    """Return the standard error of the median of values.

    Parameters
    ----------
    values : array_like
        At least one, in any unit and shape.

    Returns
    -------
    float
        ``1.2533 · 1.4826 MAD / √n``, in their unit. Source: large-sample variance of a normal sample's median,
        M. Kendall and A. Stuart, *The Advanced Theory of Statistics*, vol. 1.
    """
    known = np.asarray(values, dtype=float)
    return NORMAL_MEDIAN * mad_scatter(known) / math.sqrt(known.size)


def pixel_scatter(picture: Array, every: int = 1) -> float:
    """Return the scatter of a picture's pixels that neighbours do not share.

    Parameters
    ----------
    picture : ndarray
        (rows, columns), at least 2 × 2.
    every : int
        Only one of so many pairs of rows counts, where that is enough.

    Returns
    -------
    float
        From the mixed second differences, whose variance is four times a pixel's.
    """
    upper, lower = picture[1::every], picture[:-1:every]
    steps = upper[:, 1:] - lower[:, 1:] - upper[:, :-1] + lower[:, :-1]
    return scatter_about_zero(steps) / 2


@lru_cache(maxsize=1024)
def student_factor(free: int) -> float:
    """Return the factor that widens a standard uncertainty of few degrees of freedom, so that twice it covers 95.45 %.

    Parameters
    ----------
    free : int
        Degrees of freedom; fewer than 1 count as 1.

    Returns
    -------
    float
        ``t / 2`` of Student's distribution: 6.98 for 1, 1.16 for 9, towards 1. Source: JCGM 100:2008, annex G.
    """
    from scipy.special import stdtrit

    return float(stdtrit(max(free, 1), 0.5 + TWO_SIGMA / 2)) / 2


@dataclass(frozen=True)
class LinearFit:
    """A linear fit: parameters (k,), inverse normal matrix (k, k), weights and residuals (n,), degrees of freedom.

    ``inverse`` is the parameters' covariance where the weights are 1/variance; else it is to be multiplied by
    :attr:`variance`.
    """

    parameters: Array
    inverse: Array
    weights: Array
    residuals: Array
    free: int

    @property
    def variance(self) -> float:
        """Weighted variance of the residuals, per degree of freedom; χ²/f where the weights are 1/variance."""
        return float((self.weights * self.residuals**2).sum()) / max(self.free, 1)

    @property
    def covariance(self) -> Array:
        """Covariance of the parameters (k, k) by the residuals' own scatter."""
        return self.inverse * self.variance

    @property
    def standard(self) -> Array:
        """Standard uncertainties of the parameters (k,), by :attr:`covariance`."""
        return np.sqrt(np.maximum(np.diag(self.covariance), 0.0))


def weighted_fit(design: Array, values: Array, weights: Array | None = None) -> LinearFit:
    """Fit ``values ≈ design @ parameters`` by weighted least squares.

    Parameters
    ----------
    design : ndarray
        (n, k), a column for each parameter.
    values : ndarray
        (n,).
    weights : ndarray, optional
        (n,), usually 1/variance; all 1 where left out. A weight of 0 leaves a value out.

    Returns
    -------
    LinearFit
        A parameter that the values do not determine is that of least size. Source: normal equations, by the
        pseudo-inverse; J. R. Taylor, *An Introduction to Error Analysis*, ch. 8.

    Raises
    ------
    ValueError
        When the shapes do not belong together.
    """
    design, values = np.asarray(design, dtype=float), np.asarray(values, dtype=float)
    own = np.ones(len(values)) if weights is None else np.asarray(weights, dtype=float)
    if design.ndim != 2 or values.shape != own.shape or len(design) != len(values):
        raise ValueError(f"a fit needs a design (n, k) and n values, got {design.shape} and {values.shape}")
    root = np.sqrt(own)
    scaled = design * root[:, None]
    found = np.linalg.lstsq(scaled, values * root, rcond=None)[0]
    inverse = np.linalg.pinv(scaled.T @ scaled)
    free = int((own > 0).sum()) - design.shape[1]
    return LinearFit(found, inverse, own, values - design @ found, free)


def line_slope(x: Array, y: Array) -> float:
    """Return the slope of the least-squares line through points (n,), at least two of different ``x``."""
    off = np.asarray(x, dtype=float) - np.mean(x)
    return float(off @ np.asarray(y, dtype=float) / (off @ off))


def huber_weights(residuals: Array, *, turn: float = 1.5) -> Array:
    """Return Huber's weights (n,): 1 within ``turn`` robust standard deviations of zero, beyond it falling as 1/|r|."""
    left = np.abs(residuals)
    scale = max(scatter_about_zero(left), TINY)
    return np.minimum(1.0, turn * scale / np.maximum(left, TINY))


def huber_fit(
    design: Array, values: Array, weights: Array | None = None, *, turn: float = 1.5, rounds: int = 20
) -> LinearFit:
    """Fit linearly by Huber's weights: what is farther off than a multiple of the scatter counts less.

    Parameters
    ----------
    design, values, weights
        As :func:`weighted_fit` takes them.
    turn : float
        From how many robust standard deviations on a residual counts less.
    rounds : int
        How often the weights are computed again.

    Returns
    -------
    LinearFit
        With the weights of the last round, Huber's included. Source: P. J. Huber, *Robust Statistics*, ch. 7.
    """
    own = np.ones(len(values)) if weights is None else np.asarray(weights, dtype=float)
    fit = weighted_fit(design, values, own)
    for _ in range(rounds):
        fit = weighted_fit(design, values, own * huber_weights(fit.residuals * np.sqrt(own), turn=turn))
    return fit


def clipped_fit(
    design: Array, values: Array, *, limit: float = 4.0, rounds: int = 5, least_scatter: float = TINY
) -> LinearFit:
    """Fit linearly, and leave out what is far off, in rounds.

    Parameters
    ----------
    design, values
        As :func:`weighted_fit` takes them.
    limit : float
        How many robust standard deviations a residual may have.
    rounds : int
        How often values are left out; one that comes nearer again counts again.
    least_scatter : float
        The scatter is taken as no less than this, in the values' unit.

    Returns
    -------
    LinearFit
        Its weights are 0 for what was left out of the last fit.
    """
    kept = np.ones(len(values))
    fit = weighted_fit(design, values, kept)
    for _ in range(rounds):
        scatter = max(scatter_about_zero(fit.residuals[kept > 0]), least_scatter)
        now = (np.abs(fit.residuals) <= limit * scatter).astype(float)
        if (now == kept).all():
            break
        kept = now
        fit = weighted_fit(design, values, kept)
    return fit


def hc3_growth(scaled: Array, inverse: Array, residuals: Array, variance: float, *, least_own: float = 0.3) -> Array:
    """Return the factor of a covariance where single residuals show more scatter than all of them together.

    Parameters
    ----------
    scaled : ndarray
        (n, k), the design or Jacobian times the roots of the weights.
    inverse : ndarray
        (k, k), of ``scaled.T @ scaled``.
    residuals : ndarray
        (n,), times the roots of the weights.
    variance : float
        Of the residuals, per degree of freedom.
    least_own : float
        A point that determines the fit almost alone is taken to have this share of its own residual.

    Returns
    -------
    ndarray
        (k, k), at least 1 everywhere. Source: HC3; J. G. MacKinnon and H. White, *J. Econometrics* 29, 305 (1985).
    """
    own = np.clip(1 - np.einsum("ij,jk,ik->i", scaled, inverse, scaled), least_own, 1)
    pulls = scaled @ inverse
    single = np.diag(pulls.T @ (pulls * ((residuals / own) ** 2)[:, None]))
    equal = np.maximum(np.diag(inverse) * variance, 1e-300)
    root = np.sqrt(np.maximum(single, equal) / equal)
    growth: Array = np.outer(root, root)
    return growth


def extra_variance(free: int, chi_square: Callable[[float], float], most: float) -> float:
    """Return the variance to be added to each value's own, so that χ² equals the degrees of freedom.

    Parameters
    ----------
    free : int
        Degrees of freedom.
    chi_square : callable
        χ² for an added variance, falling as that grows.
    most : float
        The largest variance to try.

    Returns
    -------
    float
        0 where the values agree as they are. Source: R. C. Paule and J. Mandel, *J. Res. NBS* 87, 377 (1982).
    """
    from scipy.optimize import brentq

    if free < 1 or chi_square(0.0) <= free:
        return 0.0
    if chi_square(most) >= free:
        return most
    return float(brentq(lambda extra: chi_square(extra) - free, 0.0, most))


def without_group_means(values: Array, weight: Array, group: NDArray[np.int64]) -> Array:
    """Return values less the weighted mean of their group, (n,).

    Parameters
    ----------
    values, weight
        (n,) each.
    group
        (n,) of int, counted from zero.
    """
    total = np.bincount(group, weight)
    means: Array = np.bincount(group, weight * values) / np.maximum(total, 1e-30)
    return values - means[group]

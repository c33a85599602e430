"""How likely a sum of rectangular distributions lies within limits: the exact law, no normal curve in its place.

A "±a" with no more said is rectangular (JCGM 100:2008, 4.3.7), so a stack of parts is a sum of independent uniform
variables. Its distribution function is a sum of truncated powers (P. Hall, *Biometrika* 19, 1927); where that has too
many terms, its Fourier series is summed until the rest is negligible.
"""

from __future__ import annotations

import itertools
import math
from collections import Counter
from collections.abc import Iterable
from functools import lru_cache

GRID_MM = 1e-6
"""Lengths are taken as whole numbers of this, so that the limits are inclusive in decimals too."""

MAX_TERMS = 3000
"""Truncated powers up to this many are summed exactly, in whole numbers."""

NEGLIGIBLE = 1e-9
_CHUNK = 4096
_MAX_HARMONICS = 1 << 20


def probability_inside(error_mm: float, half_widths_mm: Iterable[float], tolerance_mm: float) -> float:
    """Return the probability that ``error + Σ U(-a, a)`` lies in ``[-tolerance, tolerance]``, limits included.

    Parameters
    ----------
    error_mm : float
        The error in the middle of all tolerances, in mm.
    half_widths_mm : iterable of float
        Half-widths a of the independent rectangular distributions, in mm, at least 0.
    tolerance_mm : float
        What the error may be, in mm, at least 0.

    Returns
    -------
    float
        From 0 to 1; exactly 0 or 1 where every half-width is 0. Source: JCGM 101:2008, 5.2 (propagation of
        distributions); P. Hall, *Biometrika* 19 (1927).
    """
    widths = tuple(sorted(w for w in (round(a / GRID_MM) for a in half_widths_mm) if w > 0))
    return _inside(round(error_mm / GRID_MM), widths, round(tolerance_mm / GRID_MM))


@lru_cache(maxsize=512)
def _inside(error: int, widths: tuple[int, ...], tolerance: int) -> float:
    low, high, reach = -tolerance - error, tolerance - error, sum(widths)
    if not widths or low > reach or high < -reach:
        return 1.0 if low <= 0 <= high and not widths else 0.0
    if low <= -reach and high >= reach:
        return 1.0
    counts = Counter(widths)
    if math.prod(count + 1 for count in counts.values()) <= MAX_TERMS:
        return _below(high, counts) - _below(low, counts)
    return edgeworth_series(low, high, widths, reach)


def _below(x: int, counts: Counter[int]) -> float:
    """Return P(sum ≤ x) by truncated powers, in whole numbers: no digit is lost to cancellation."""
    n, reach = counts.total(), sum(width * count for width, count in counts.items())
    if x <= -reach:
        return 0.0
    if x >= reach:
        return 1.0
    total: int = 0
    for chosen in itertools.product(*(range(count + 1) for count in counts.values())):
        at = x + reach - 2 * sum(width * k for width, k in zip(counts, chosen, strict=True))
        if at > 0:
            ways = math.prod(math.comb(count, k) for count, k in zip(counts.values(), chosen, strict=True))
            total += (-1) ** sum(chosen) * ways * at**n
    scale: int = math.factorial(n) * math.prod((2 * width) ** count for width, count in counts.items())
    return float(total / scale)  # whole numbers of any size divide exactly rounded


def edgeworth_series(low: int, high: int, widths: tuple[int, ...], reach: int) -> float:
    """Return P(low ≤ sum ≤ high) by the Fourier series of the density, which is 0 beyond ±reach."""
    import numpy as np

    half_period = 1.01 * reach
    low, high = max(low, -reach), min(high, reach)
    share = (high - low) / (2 * half_period)
    start = 1
    while start < _MAX_HARMONICS:
        k = np.arange(start, start + _CHUNK)
        waves = np.ones(k.size)
        for width in widths:
            waves *= np.sinc(k * width / half_period)
        frequency = np.pi * k / half_period
        share += float(np.sum(waves * (np.sin(frequency * high) - np.sin(frequency * low)) / (np.pi * k)))
        if float(np.abs(waves).max()) / start < NEGLIGIBLE / _CHUNK:
            break
        start += _CHUNK
    return min(1.0, max(0.0, share))

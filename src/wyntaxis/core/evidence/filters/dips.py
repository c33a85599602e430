"""Where a plane is dark and round: the places at which a shadow of dust may be."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from wyntaxis.core.evidence.filters.smooth_light import Plane, cell_means
from wyntaxis.core.fitting import mad_scatter, pixel_scatter

SMALLEST_PX, LARGEST_SHARE, WIDER = 6.0, 0.8, 1.4
"""Shadows are looked for from so many px of a plane up to this share of its shorter side, each size so much wider."""
CORE, AROUND, FINE_PX = 0.25, 0.6, 3.0
"""A dip is what lies deeper within a Gaussian of the first share of its size than within one of the second; planes are
binned until the first is no more than so many px.
"""
SIGNIFICANT, PATTERNED = 5.0, 4.0
"""A dip exceeds so many times the scatter of its size, which counts up to so many times that of white noise."""
MIN_DEPTH = 4e-4
ENOUGH = 50_000
"""A scatter is taken of so many px where there are more."""
RING_INNER, RING_OUTER = 0.6, 0.85
"""The ring that a disc is weighed against, in its diameters."""
MAX_DIPS = 150
SAME_DEPTH = 0.3


@dataclass(frozen=True)
class Limits:
    """What a ring may leave of its window's variance, and the smallest and the largest size of dips, in px."""

    most_left: float
    smallest_px: float
    largest_px: float


@dataclass(frozen=True)
class Dip:
    """Where a plane is darker within a disc than around it; in px of the plane, ``sure`` in usual scatters."""

    sure: float
    x: float
    y: float
    size: float
    depth: float

    def is_same(self, other: Dip) -> bool:
        """Return whether another dip is the same place at nearly the same size."""
        apart = math.hypot(self.x - other.x, self.y - other.y)
        return apart < 0.3 * max(self.size, other.size) and 0.65 < self.size / other.size < 1.5

    def is_as_deep(self, other: Dip) -> bool:
        """Return whether another dip is the same place, and nearly as deep."""
        return self.is_same(other) and abs(self.depth - other.depth) < SAME_DEPTH * self.depth


def dips(detail: Plane, limits: Limits) -> list[Dip]:
    """Return what is dark and round at every size, the surest first."""
    from scipy.ndimage import gaussian_filter, minimum_filter

    found: list[Dip] = []
    noise, size = noise_of(detail), limits.smallest_px
    level, by = detail, 1
    while size <= limits.largest_px:
        while CORE * size / by > FINE_PX:
            level, by = cell_means(level, 2), 2 * by
        core, around = CORE * size / by, AROUND * size / by
        entries = gaussian_filter(level, core, mode="nearest") - gaussian_filter(level, around, mode="nearest")
        # White noise through the difference of two Gaussians.
        overlap = 1 / core**2 + 1 / around**2 - 4 / (core**2 + around**2)
        white = noise / by * math.sqrt(overlap / (4 * math.pi))
        some = entries.ravel()[:: max(1, entries.size // ENOUGH)]
        scatter = max(min(mad_scatter(some), PATTERNED * white), white, MIN_DEPTH / 10)
        near = max(3, round(size / by / 2))
        lowest = (entries == minimum_filter(entries, size=near)) & (entries < -SIGNIFICANT * scatter)
        for row, column in zip(*np.nonzero(lowest), strict=True):
            x, y = (at * by + (by - 1) / 2 for at in (float(column), float(row)))
            depth = -float(entries[row, column])
            found.append(Dip(depth / white, x, y, size, depth))
        size *= WIDER
    return sorted(found, key=lambda dip: -dip.sure)[:MAX_DIPS]


def depth_at(detail: Plane, dip: Dip) -> float:
    """Return how much darker a disc still is than the ring around it."""
    by = max(1, round(dip.size / 7))
    reach = RING_OUTER * dip.size + by
    left, right = max(0, int(dip.x - reach)), min(detail.shape[1], int(dip.x + reach) + 1)
    top, bottom = max(0, int(dip.y - reach)), min(detail.shape[0], int(dip.y + reach) + 1)
    window = cell_means(detail[top:bottom, left:right], by)
    if not window.size:
        return 0.0
    down, across = np.mgrid[0 : window.shape[0], 0 : window.shape[1]].astype(float)
    middle = (dip.x - left - (by - 1) / 2) / by, (dip.y - top - (by - 1) / 2) / by
    apart = np.hypot(across - middle[0], down - middle[1]) * by
    disc = apart <= dip.size / 2
    ring = (apart > RING_INNER * dip.size) & (apart <= RING_OUTER * dip.size)
    return float(window[ring].mean() - window[disc].mean()) if disc.any() and ring.any() else 0.0


def noise_of(values: Plane) -> float:
    """Return the scatter of px against their neighbours' mean, which smooth shadows do not make."""
    return max(pixel_scatter(values, max(1, values.size // ENOUGH)), 1e-7)

"""A blurred ring, as a grain of dust shades a flat: its fit to a window of a plane."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from wyntaxis.core.evidence.filters.dips import MIN_DEPTH, SMALLEST_PX, Dip, noise_of
from wyntaxis.core.evidence.filters.smooth_light import Plane, cell_means

FITTED_PX = 30
"""Windows about shadows are binned until they are no more px than this across."""
MAX_EDGE, EDGE_PX = 0.2, 1.5
"""An edge softer than this share of the radius, the grain's own share and so many px is no shadow's, but a stain or
the light's own: a grain as wide as √depth of the beam softens the edge by no more than that.
"""
SEEN = 6.0
"""A shadow is so many times as deep as white noise makes the mean over it."""
LEAST_SOFT_PX, LEAST_INNER, LEAST_BRIGHT = 0.3, 0.02, 0.15
"""An edge is at least so soft in px; a bright middle below this share of the radius is none."""
LEAST_SOFT, MOST_SOFT, MOST_INNER = 0.02, 0.6, 0.75
"""Between these shares of its radius lie a ring's softness and its bright middle."""
SURE = 4.0
STEPS, TURN, LEAST_GAIN = 24, 2.5, 1e-4
"""A fit takes so many steps at the most, weighs down what lies beyond so many scatters, and ends when it gains less."""


@dataclass(frozen=True)
class Ring:
    """A fitted ring in px of the plane; softness and inner radius as shares of the radius."""

    x: float
    y: float
    radius: float
    soft: float
    inner: float
    depth: float
    radius_standard: float

    def enlarged(self, by: int) -> Ring:
        """Return the ring in px that are so many times smaller."""
        x, y = (at * by + (by - 1) / 2 for at in (self.x, self.y))
        return replace(self, x=x, y=y, radius=self.radius * by, radius_standard=self.radius_standard * by)


def fitted(
    detail: Plane, dip: Dip, inner: float, most_left: float, near: Ring | None = None
) -> tuple[Ring | None, float]:
    """Return the ring that a dip is, None where it is none, and what it leaves of its window.

    ``near`` is a ring that the dip was found to be before.
    """
    best: tuple[float, _Found] | None = None
    for wide in (dip.size, 1.6 * dip.size) if near is None else (1.3 * dip.size,):
        cut = _cut(detail, dip.x, dip.y, 0.95 * wide + 3, max(1, math.ceil(2 * wide / FITTED_PX)))
        if cut is None:
            continue
        values = cut[0]
        noise, depth = noise_of(values), max(-float(np.percentile(values, 15)), 1e-5)
        start = [dip.x, dip.y, wide / 2, 0.15, max(inner, 0.1), depth, 0.0, 0.0, 0.0]
        if near is not None:
            start[2:6] = [near.radius, max(near.soft, 0.021), max(near.inner, 0.01), near.depth]
        bright = (max(inner - 0.02, 0.0), inner + 0.02) if inner > LEAST_BRIGHT else (0.0, MOST_INNER)
        low = [dip.x - 0.6 * wide, dip.y - 0.6 * wide, 0.25 * wide, LEAST_SOFT, bright[0], 0.0, -1, -1, -1]
        high = [dip.x + 0.6 * wide, dip.y + 0.6 * wide, 0.95 * wide, MOST_SOFT, bright[1], 1.0, 1, 1, 1]
        found = _descended(np.array(start), (np.array(low), np.array(high)), cut, noise)
        # What noise leaves is no fault of a ring: small and faint shadows are mostly noise.
        left = max(found.left - noise**2, 0.0)
        share = left / max(float(values.var()) - noise**2, 1e-18)
        if best is None or share < best[0]:
            best = share, found
        if share < most_left / 2:
            break
    if best is None:
        return None, math.inf
    share, found = best
    if share > most_left:
        return None, share
    ring = _checked(detail, found)
    return ring, share if ring is not None else math.inf


@dataclass(frozen=True)
class _Found:
    """Numbers of a ring and of the light about it, their standard uncertainties, and the mean square that is left."""

    numbers: Plane
    standard: Plane
    left: float


def _descended(start: Plane, limits: tuple[Plane, Plane], cut: tuple[Plane, Plane, Plane], noise: float) -> _Found:
    """Return the ring that fits a window best, by steps of Levenberg and Marquardt (1963), outliers weighed down."""
    values, at_x, at_y = cut
    p = np.clip(start, *limits)

    def compared(p: Plane) -> tuple[Plane, Plane, float]:
        light = p[6] + p[7] * (at_x - p[0]) + p[8] * (at_y - p[1])
        left = (light - ring_shade(p, at_x, at_y) - values).ravel()
        weights = 1 / np.maximum(np.abs(left) / (TURN * scale), 1.0)
        return left, weights, float((weights * left**2).sum())

    scale = max(noise, 0.3 * float(values.std()))
    left, weights, cost = compared(p)
    damping = 1e-2
    normal = np.eye(len(p))
    for step_number in range(STEPS):
        slopes = ring_slopes(p, at_x, at_y)
        weighted = slopes * weights[:, None]
        normal = weighted.T @ slopes
        size = np.diag(normal) + 1e-18
        gained = 0.0
        while damping < 1e8:
            step = np.linalg.solve(normal + np.diag(damping * size), weighted.T @ left)
            there = np.clip(p - step, *limits)
            found = compared(there)
            if found[2] < cost:
                gained = 1 - found[2] / cost
                p, (left, weights, cost) = there, found
                damping = max(damping / 8, 1e-9)
                break
            damping *= 6
        if step_number == STEPS // 3:
            scale = max(noise, 1.4826 * float(np.median(np.abs(left))))
            left, weights, cost = compared(p)
        elif gained < LEAST_GAIN:
            break
    mean = max(float((weights * left**2).sum() / weights.sum()), noise**2)
    # What lies at its limit is known, and takes no part in what is not.
    free = (p > limits[0] + 1e-9) & (p < limits[1] - 1e-9)
    covariance = np.zeros_like(normal)
    covariance[np.ix_(free, free)] = np.linalg.pinv(normal[np.ix_(free, free)]) * mean
    return _Found(p, np.sqrt(np.maximum(np.diag(covariance), 0.0)), float(np.mean(left**2)))


def _checked(detail: Plane, found: _Found) -> Ring | None:
    """Return a fit as a ring where its numbers are a shadow's, and certain."""
    p, standard = found.numbers, found.standard
    if p[5] < max(MIN_DEPTH, SURE * standard[5]) or p[2] < SURE * standard[2]:
        return None
    if p[3] > MAX_EDGE + math.sqrt(p[5]) + EDGE_PX / p[2] or 2 * p[2] < SMALLEST_PX:
        return None
    if p[5] * math.sqrt(math.pi) * p[2] < SEEN * noise_of(detail):
        return None
    if not (0 <= p[0] < detail.shape[1] and 0 <= p[1] < detail.shape[0]):
        return None
    inner = float(p[4]) if p[4] > max(LEAST_BRIGHT, SURE * standard[4]) else 0.0
    return Ring(float(p[0]), float(p[1]), float(p[2]), float(p[3]), inner, float(p[5]), float(standard[2]))


def ring_shade(p: Plane | tuple[float, ...], at_x: Plane, at_y: Plane) -> Plane:
    """Return how much a ring takes: its middle, radius, softness and inner radius as shares of that, depth."""
    from scipy.special import erfc

    apart = np.hypot(at_x - p[0], at_y - p[1])
    soft = max(math.sqrt(2) * p[2] * p[3], LEAST_SOFT_PX)
    shade = 0.5 * erfc((apart - p[2]) / soft)
    if p[4] > LEAST_INNER:
        shade = shade - 0.5 * erfc((apart - p[2] * p[4]) / soft)
    return np.asarray(p[5] * shade)


def ring_slopes(p: Plane, at_x: Plane, at_y: Plane) -> Plane:
    """Return the derivatives of a sloping light less a ring by its nine numbers, one column for each."""
    from scipy.special import erfc

    off_x, off_y = at_x - p[0], at_y - p[1]
    apart = np.maximum(np.hypot(off_x, off_y), 1e-9)
    soft = max(math.sqrt(2) * p[2] * p[3], LEAST_SOFT_PX)
    by_radius, by_share = (math.sqrt(2) * p[3], math.sqrt(2) * p[2]) if soft > LEAST_SOFT_PX else (0.0, 0.0)
    shade, by_apart, by_r, by_soft, by_inner = (np.zeros_like(apart) for _ in range(5))
    for sign, edge in ((1.0, 1.0), (-1.0, p[4])) if p[4] > LEAST_INNER else ((1.0, 1.0),):
        beyond = (apart - p[2] * edge) / soft
        shade += sign * 0.5 * erfc(beyond)
        steep = -sign * np.exp(-(beyond**2)) / math.sqrt(math.pi) / soft
        by_apart += steep
        by_r -= steep * (edge + beyond * by_radius)
        by_soft -= steep * beyond * by_share
        if sign < 0:
            by_inner = -steep * p[2]
    depth, one = p[5], np.ones_like(apart)
    columns = [
        depth * by_apart * off_x / apart - p[7],
        depth * by_apart * off_y / apart - p[8],
        -depth * by_r,
        -depth * by_soft,
        -depth * by_inner,
        -shade,
        one,
        off_x,
        off_y,
    ]
    return np.stack([column.ravel() for column in columns], axis=1)


def put(detail: Plane, ring: Ring, sign: float) -> None:
    """Add to a plane what a ring took, or take it again where ``sign`` is −1."""
    reach = ring.radius * (1 + 3 * ring.soft) + 2
    left, right = max(0, int(ring.x - reach)), min(detail.shape[1], int(ring.x + reach) + 2)
    top, bottom = max(0, int(ring.y - reach)), min(detail.shape[0], int(ring.y + reach) + 2)
    down, across = np.mgrid[top:bottom, left:right].astype(float)
    p = (ring.x, ring.y, ring.radius, ring.soft, ring.inner, ring.depth)
    detail[top:bottom, left:right] += sign * ring_shade(p, across, down)


def _cut(detail: Plane, x: float, y: float, reach: float, by: int) -> tuple[Plane, Plane, Plane] | None:
    """Return a window of a plane, binned, and where its px lie; None where too little of it is on the frame."""
    left, right = max(0, int(x - reach)), min(detail.shape[1], int(x + reach) + 1)
    top, bottom = max(0, int(y - reach)), min(detail.shape[0], int(y + reach) + 1)
    if min(right - left, bottom - top) < max(1.1 * reach, 5 * by):
        return None
    window = cell_means(detail[top:bottom, left:right], by)
    down, across = np.mgrid[0 : window.shape[0], 0 : window.shape[1]].astype(float)
    return window, left + across * by + (by - 1) / 2, top + down * by + (by - 1) / 2

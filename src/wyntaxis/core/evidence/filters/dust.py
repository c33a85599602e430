"""Shadows of dust on flats: found at every size, their outer and inner diameter by a fit of a blurred ring."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from wyntaxis.core.evidence.filters.smooth_light import (
    FULL_ORDER,
    LOW_ORDER,
    Plane,
    SmoothLight,
    cell_means,
    smooth_light,
)
from wyntaxis.core.evidence.measured import Estimate
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
COARSE_PX = 800
"""Wide shadows are looked for on a plane of about so many px."""
WIDE_PX = 16.0
"""Smaller shadows do not move the light's model: they are looked for last."""
ENOUGH = 50_000
"""A scatter is taken of so many px where there are more."""
MAX_MOTES = 60
LEFT_SHARES = (0.12, 0.2, 0.3, 0.4, 0.4)
"""One search for shadows each, on a light that is fitted again with the shadows found before taken out. A ring
may leave such a share of its window's variance, beside what noise makes: the plainest first, for what stands alone is
told from what overlaps only once the plain ones are out of the way.
"""
RING_INNER, RING_OUTER = 0.6, 0.85
"""The ring that a disc is weighed against, in its diameters."""
FITTED_PX = 30
"""Windows about shadows are binned until they are no more px than this across."""
MAX_DIPS, MAX_FAILED = 150, 12
"""So many dips are looked at, and a search ends when so many in a row were no shadows."""
LEFT_SHARE, SAME_DEPTH = 0.6, 0.3
MAX_EDGE, EDGE_PX = 0.2, 1.5
"""An edge softer than this share of the radius, the grain's own share and so many px is no shadow's, but a stain or
the light's own: a grain as wide as √depth of the beam softens the edge by no more than that.
"""
SEEN = 6.0
"""A shadow is so many times as deep as white noise makes the mean over it."""
LEAST_SOFT_PX, LEAST_INNER, LEAST_BRIGHT = 0.3, 0.02, 0.15
"""An edge is at least so soft in px; a bright middle below this share of the radius is none."""
MODEL_SHARE = 0.015
"""What a grain's own size leaves uncertain of the beam's diameter, as a share."""
SURE = 4.0
STEPS, TURN, LEAST_GAIN = 24, 2.5, 1e-4
"""A fit takes so many steps at the most, weighs down what lies beyond so many scatters, and ends when it gains less."""


@dataclass(frozen=True)
class Shadow:
    """A shadow: its middle in px of the frame, outer and inner diameter in px, depth as a share of the light.

    ``inner_px`` is 0 where no bright middle was seen; ``soft_px`` how wide its edge is.
    """

    x: float
    y: float
    outer_px: Estimate
    inner_px: float
    depth: float
    soft_px: float


def shade_of(shadow: Shadow, place: tuple[float, float], x: Plane, y: Plane) -> Plane:
    """Return what a shadow takes of the logarithm of the light, were it at another place.

    Parameters
    ----------
    shadow
        The shadow.
    place
        Its middle, in px of the frame.
    x, y
        Where it is asked for, in px of the frame.

    Returns
    -------
    array
        Of the shape of ``x``, above 0 in the shadow.
    """
    radius = shadow.outer_px.value / 2
    inner = shadow.inner_px / shadow.outer_px.value
    return _shade((*place, radius, shadow.soft_px / radius, inner, shadow.depth), x, y)


def shade_and_slopes(
    shadow: Shadow, place: tuple[float, float], x: Plane, y: Plane
) -> tuple[Plane, tuple[Plane, Plane]]:
    """Return what :func:`shade_of` does, and by how much it grows as the shadow's middle moves toward +x and +y.

    Returns
    -------
    tuple
        The shade, and its two slopes in 1/px of the frame.
    """
    from scipy.special import erfc

    radius = shadow.outer_px.value / 2
    off_x, off_y = x - place[0], y - place[1]
    apart = np.maximum(np.hypot(off_x, off_y), 1e-9)
    soft = max(math.sqrt(2) * shadow.soft_px, LEAST_SOFT_PX)
    inner = shadow.inner_px / 2
    shade, steep = np.zeros_like(apart), np.zeros_like(apart)
    for sign, edge in ((1.0, radius), (-1.0, inner)) if inner > LEAST_INNER * radius else ((1.0, radius),):
        beyond = (apart - edge) / soft
        shade += sign * 0.5 * erfc(beyond)
        steep += sign * np.exp(-(beyond**2)) / (math.sqrt(math.pi) * soft)
    steep *= shadow.depth
    return shadow.depth * shade, (steep * off_x / apart, steep * off_y / apart)


@dataclass(frozen=True)
class FlatLight:
    """A flat taken apart: its light without dust, and the shadows of dust, the deepest first."""

    smooth: SmoothLight
    shadows: tuple[Shadow, ...]


def light_of(plane: Plane, binned: int, obstruction: float = 0.0) -> FlatLight:
    """Return the light and the shadows of a flat.

    Parameters
    ----------
    plane
        The flat's light, (rows, columns), above 0.
    binned
        How many px of the frame one of the plane's is across.
    obstruction
        Central obstruction of the telescope: how wide the bright middle is usually, as a share.

    Returns
    -------
    FlatLight
        Shadows in px of the frame.
    """
    by = max(1, round(max(plane.shape) / COARSE_PX))
    smooth, rings = _settled(cell_means(plane, by), obstruction)
    if by > 1:
        # Only what is too small for the coarser plane is looked for on the whole one.
        smooth = replace(smooth, shape=(int(plane.shape[0]), int(plane.shape[1])))
        rings = [ring.enlarged(by) for ring in rings]
        detail = detail_of(plane, smooth)
        for ring in rings:
            _put(detail, ring, 1.0)
        limits = _Limits(LEFT_SHARES[-1], SMALLEST_PX, SMALLEST_PX * by * WIDER)
        rings = _without_doubles(detail, [*rings, *_searched(detail, obstruction, limits, [])])
    shadows = tuple(sorted((ring.shadow(binned) for ring in rings), key=lambda shadow: -shadow.depth))
    return FlatLight(smooth, shadows)


def _settled(plane: Plane, obstruction: float) -> tuple[SmoothLight, list[_Ring]]:
    """Return light and rings of a plane, by turns: what moves between the two settles within a few rounds."""
    whole = np.log(plane)
    smooth = smooth_light(plane, order=LOW_ORDER)
    rings: list[_Ring] = []
    failed: list[tuple[_Dip, float]] = []
    for search, most_left in enumerate(LEFT_SHARES):
        detail = whole - smooth.on_plane()
        for ring in rings:
            _put(detail, ring, 1.0)
        rings = [again for ring in rings if (again := _refined(detail, ring, most_left)) is not None]
        before = len(rings)
        limits = _Limits(most_left, SMALLEST_PX if search > 2 else WIDE_PX, LARGEST_SHARE * min(plane.shape))
        rings = _without_doubles(detail, [*rings, *_searched(detail, obstruction, limits, failed)])
        if search > 2 and len(rings) == before:
            break
        taken = np.zeros_like(whole)
        for ring in rings:
            _put(taken, ring, 1.0)
        smooth = smooth_light(plane, taken, order=FULL_ORDER if search > 1 else LOW_ORDER)
    return smooth, rings


@dataclass(frozen=True)
class _Limits:
    """What a ring may leave of its window's variance, and the smallest and the largest size of dips, in px."""

    most_left: float
    smallest_px: float
    largest_px: float


def shadows_of(plane: Plane, binned: int, obstruction: float = 0.0) -> tuple[Shadow, ...]:
    """Return the shadows of dust on a flat, see :func:`light_of`."""
    return light_of(plane, binned, obstruction).shadows


def _searched(detail: Plane, obstruction: float, limits: _Limits, failed: list[tuple[_Dip, float]]) -> list[_Ring]:
    """Return the rings that dips of a plane are, and take them out of it.

    ``failed`` are the dips that were none, with what the best ring left of each: none is tried again before so much
    may be left.
    """
    rings: list[_Ring] = []
    tried: list[_Dip] = []
    most_left = limits.most_left
    in_a_row = 0
    for dip in _dips(detail, limits):
        # What was found before is taken out: only what is left of a dip counts.
        if any(dip.is_same(other) for other in tried) or _depth_at(detail, dip) < LEFT_SHARE * dip.depth:
            continue
        if any(share > most_left and dip.is_as_deep(other) for other, share in failed):
            continue
        tried.append(dip)
        ring, share = _fitted(detail, dip, obstruction, most_left)
        if ring is None:
            failed.append((dip, share))
            in_a_row += 1
            if in_a_row > MAX_FAILED:
                break
            continue
        in_a_row = 0
        _put(detail, ring, 1.0)
        rings.append(ring)
        if len(rings) >= MAX_MOTES:
            break
    return rings


def _without_doubles(detail: Plane, rings: list[_Ring]) -> list[_Ring]:
    """Return rings of which none is the rest of a deeper one at the same place, whose light is given back to it."""
    kept: list[_Ring] = []
    for ring in sorted(rings, key=lambda ring: -ring.depth):
        if any(
            math.hypot(ring.x - other.x, ring.y - other.y) < 0.5 * other.radius
            and 0.7 < ring.radius / other.radius < 1.4
            for other in kept
        ):
            _put(detail, ring, -1.0)
        else:
            kept.append(ring)
    return kept


def _refined(detail: Plane, ring: _Ring, most_left: float) -> _Ring | None:
    """Return a ring fitted anew with all others taken out; None where nothing is left of it."""
    _put(detail, ring, -1.0)
    dip = _Dip(0.0, ring.x, ring.y, 2 * ring.radius, ring.depth)
    again, _ = _fitted(detail, dip, ring.inner, most_left, near=ring)
    if again is not None:
        _put(detail, again, 1.0)
    return again


@dataclass(frozen=True)
class _Dip:
    """Where a plane is darker within a disc than around it; in px of the plane, ``sure`` in usual scatters."""

    sure: float
    x: float
    y: float
    size: float
    depth: float

    def is_same(self, other: _Dip) -> bool:
        """Return whether another dip is the same place at nearly the same size."""
        apart = math.hypot(self.x - other.x, self.y - other.y)
        return apart < 0.3 * max(self.size, other.size) and 0.65 < self.size / other.size < 1.5

    def is_as_deep(self, other: _Dip) -> bool:
        """Return whether another dip is the same place, and nearly as deep."""
        return self.is_same(other) and abs(self.depth - other.depth) < SAME_DEPTH * self.depth


@dataclass(frozen=True)
class _Ring:
    """A fitted ring in px of the plane; softness and inner radius as shares of the radius."""

    x: float
    y: float
    radius: float
    soft: float
    inner: float
    depth: float
    radius_standard: float

    def enlarged(self, by: int) -> _Ring:
        """Return the ring in px that are so many times smaller."""
        x, y = (at * by + (by - 1) / 2 for at in (self.x, self.y))
        return replace(self, x=x, y=y, radius=self.radius * by, radius_standard=self.radius_standard * by)

    def shadow(self, binned: int) -> Shadow:
        """Return the shadow in px of the frame."""
        outer = 2 * self.radius * binned
        standard = math.hypot(2 * self.radius_standard * binned, MODEL_SHARE * outer)
        x, y = (at * binned + (binned - 1) / 2 for at in (self.x, self.y))
        soft = self.radius * self.soft * binned
        return Shadow(x, y, Estimate(outer, standard), self.inner * outer, self.depth, soft)


def detail_of(plane: Plane, smooth: SmoothLight) -> Plane:
    """Return the logarithm of a flat over its smooth light."""
    return np.asarray(np.log(plane) - smooth.on_plane(), float)


def _dips(detail: Plane, limits: _Limits) -> list[_Dip]:
    """Return what is dark and round at every size, the surest first."""
    from scipy.ndimage import gaussian_filter, minimum_filter

    found: list[_Dip] = []
    noise, size = _noise(detail), limits.smallest_px
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
            found.append(_Dip(depth / white, x, y, size, depth))
        size *= WIDER
    return sorted(found, key=lambda dip: -dip.sure)[:MAX_DIPS]


def _depth_at(detail: Plane, dip: _Dip) -> float:
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


def _fitted(
    detail: Plane, dip: _Dip, inner: float, most_left: float, near: _Ring | None = None
) -> tuple[_Ring | None, float]:
    """Return the ring that a dip is, None where it is none, and what it leaves of its window.

    ``near`` is a ring that the dip was found to be before.
    """
    best: tuple[float, _Found] | None = None
    for wide in (dip.size, 1.6 * dip.size) if near is None else (1.3 * dip.size,):
        cut = _cut(detail, dip.x, dip.y, 0.95 * wide + 3, max(1, math.ceil(2 * wide / FITTED_PX)))
        if cut is None:
            continue
        values = cut[0]
        noise, depth = _noise(values), max(-float(np.percentile(values, 15)), 1e-5)
        start = [dip.x, dip.y, wide / 2, 0.15, max(inner, 0.1), depth, 0.0, 0.0, 0.0]
        if near is not None:
            start[2:6] = [near.radius, max(near.soft, 0.021), max(near.inner, 0.01), near.depth]
        bright = (max(inner - 0.02, 0.0), inner + 0.02) if inner > LEAST_BRIGHT else (0.0, 0.75)
        low = [dip.x - 0.6 * wide, dip.y - 0.6 * wide, 0.25 * wide, 0.02, bright[0], 0.0, -1, -1, -1]
        high = [dip.x + 0.6 * wide, dip.y + 0.6 * wide, 0.95 * wide, 0.6, bright[1], 1.0, 1, 1, 1]
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
        left = (light - _shade(p, at_x, at_y) - values).ravel()
        weights = 1 / np.maximum(np.abs(left) / (TURN * scale), 1.0)
        return left, weights, float((weights * left**2).sum())

    scale = max(noise, 0.3 * float(values.std()))
    left, weights, cost = compared(p)
    damping = 1e-2
    normal = np.eye(len(p))
    for step_number in range(STEPS):
        slopes = _slopes(p, at_x, at_y)
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


def _checked(detail: Plane, found: _Found) -> _Ring | None:
    """Return a fit as a ring where its numbers are a shadow's, and certain."""
    p, standard = found.numbers, found.standard
    if p[5] < max(MIN_DEPTH, SURE * standard[5]) or p[2] < SURE * standard[2]:
        return None
    if p[3] > MAX_EDGE + math.sqrt(p[5]) + EDGE_PX / p[2] or 2 * p[2] < SMALLEST_PX:
        return None
    if p[5] * math.sqrt(math.pi) * p[2] < SEEN * _noise(detail):
        return None
    if not (0 <= p[0] < detail.shape[1] and 0 <= p[1] < detail.shape[0]):
        return None
    inner = float(p[4]) if p[4] > max(LEAST_BRIGHT, SURE * standard[4]) else 0.0
    return _Ring(float(p[0]), float(p[1]), float(p[2]), float(p[3]), inner, float(p[5]), float(standard[2]))


def _shade(p: Plane | tuple[float, ...], at_x: Plane, at_y: Plane) -> Plane:
    """Return how much a ring takes: its middle, radius, softness and inner radius as shares of that, depth."""
    from scipy.special import erfc

    apart = np.hypot(at_x - p[0], at_y - p[1])
    soft = max(math.sqrt(2) * p[2] * p[3], LEAST_SOFT_PX)
    shade = 0.5 * erfc((apart - p[2]) / soft)
    if p[4] > LEAST_INNER:
        shade = shade - 0.5 * erfc((apart - p[2] * p[4]) / soft)
    return np.asarray(p[5] * shade)


def _slopes(p: Plane, at_x: Plane, at_y: Plane) -> Plane:
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


def _put(detail: Plane, ring: _Ring, sign: float) -> None:
    """Add to a plane what a ring took, or take it again where ``sign`` is −1."""
    reach = ring.radius * (1 + 3 * ring.soft) + 2
    left, right = max(0, int(ring.x - reach)), min(detail.shape[1], int(ring.x + reach) + 2)
    top, bottom = max(0, int(ring.y - reach)), min(detail.shape[0], int(ring.y + reach) + 2)
    down, across = np.mgrid[top:bottom, left:right].astype(float)
    p = (ring.x, ring.y, ring.radius, ring.soft, ring.inner, ring.depth)
    detail[top:bottom, left:right] += sign * _shade(p, across, down)


def _cut(detail: Plane, x: float, y: float, reach: float, by: int) -> tuple[Plane, Plane, Plane] | None:
    """Return a window of a plane, binned, and where its px lie; None where too little of it is on the frame."""
    left, right = max(0, int(x - reach)), min(detail.shape[1], int(x + reach) + 1)
    top, bottom = max(0, int(y - reach)), min(detail.shape[0], int(y + reach) + 1)
    if min(right - left, bottom - top) < max(1.1 * reach, 5 * by):
        return None
    window = cell_means(detail[top:bottom, left:right], by)
    down, across = np.mgrid[0 : window.shape[0], 0 : window.shape[1]].astype(float)
    return window, left + across * by + (by - 1) / 2, top + down * by + (by - 1) / 2


def _noise(values: Plane) -> float:
    """Return the scatter of px against their neighbours' mean, which smooth shadows do not make."""
    return max(pixel_scatter(values, max(1, values.size // ENOUGH)), 1e-7)

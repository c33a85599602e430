"""Shadows of dust on flats: found at every size, their outer and inner diameter by a fit of a blurred ring."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.fitting import mad_scatter, pixel_scatter, scatter_about_zero, weighted_fit

SMALLEST_PX, LARGEST_SHARE = 6.0, 0.6
"""Shadows are looked for from so many px of a plane up to this share of its shorter side."""
SIGNIFICANT = 7.0
MIN_DEPTH = 4e-4
POLYNOMIAL = 6
"""The order of the smooth light that a flat is divided by."""
ORDERS = (2, 4, 6)
ROUNDS, BELOW = 10, 0.05
"""What lies below the smooth light counts this much of what lies above (asymmetric least squares; Eilers, 2003)."""
MIN_CLEAN_SHARE = 0.3
MAX_MOTES = 60
SIZES = (5.0, 7.0, 9.5)
RING_INNER, RING_OUTER = 0.6, 0.85
"""The ring that a disc is weighed against, in its diameters."""
LEAST_DISC, LEAST_RING = 0.7, 0.4
"""So much of disc and ring must lie on the frame."""
MAX_SCATTER = 1.5e-3
"""Wide shadows cover so much of a frame that its scatter is theirs: a dip of several times this is one in any case."""
FITTED_PX = 48
"""Windows about shadows are binned until they are no more px than this across."""
MAX_DIPS, MAX_FAILED = 400, 10
"""So many dips are looked at, and the search ends when so many in a row were no shadows."""
LEFT_SHARE, REFINED = 0.6, 2
MAX_LEFT_SHARE = 0.6
"""A ring that leaves more than this share of a window's variance is none."""
MAX_EDGE = 0.45
"""An edge softer than this share of the radius is no shadow's, but a stain or the light's own."""
LEAST_SOFT_PX, LEAST_INNER = 0.3, 0.02
"""An edge is at least so soft in px; a bright middle below this share of the radius is none."""
MODEL_SHARE = 0.015
"""What a grain's own size leaves uncertain of the beam's diameter, as a share."""
SURE = 4.0


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


def shadows_of(plane: Any, binned: int, obstruction: float = 0.0) -> tuple[Shadow, ...]:
    """Return the shadows of dust on a flat.

    Parameters
    ----------
    plane
        The flat's light, (rows, columns).
    binned
        How many px of the frame one of the plane's is across.
    obstruction
        Central obstruction of the telescope: how wide the bright middle is usually, as a share.

    Returns
    -------
    tuple of Shadow
        The deepest first, in px of the frame.
    """
    detail = detail_of(plane).astype(np.float64)
    rings: list[_Ring] = []
    tried: list[_Dip] = []
    failed = 0
    for dip in _dips(detail):
        # What was found before is taken out: only what is left of a dip counts.
        if any(dip.is_same(other) for other in tried) or _depth_at(detail, dip) < LEFT_SHARE * dip.depth:
            continue
        tried.append(dip)
        ring = _fitted(detail, dip, obstruction)
        if ring is None:
            failed += 1
            if failed > MAX_FAILED:
                break
            continue
        failed = 0
        _put(detail, ring, 1.0)
        rings.append(ring)
        if len(rings) == MAX_MOTES:
            break
    rings = _without_doubles(detail, rings)
    for _ in range(REFINED):
        rings = [again for ring in rings if (again := _refined(detail, ring)) is not None]
    return tuple(sorted((ring.shadow(binned) for ring in rings), key=lambda shadow: -shadow.depth))


def _without_doubles(detail: Any, rings: list[_Ring]) -> list[_Ring]:
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


def _refined(detail: Any, ring: _Ring) -> _Ring | None:
    """Return a ring fitted anew with all others taken out; None where nothing is left of it."""
    _put(detail, ring, -1.0)
    dip = _Dip(0.0, ring.x, ring.y, 2 * ring.radius, ring.depth)
    again = _fitted(detail, dip, ring.inner, near=ring)
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

    def shadow(self, binned: int) -> Shadow:
        """Return the shadow in px of the frame."""
        outer = 2 * self.radius * binned
        standard = math.hypot(2 * self.radius_standard * binned, MODEL_SHARE * outer)
        x, y = (at * binned + (binned - 1) / 2 for at in (self.x, self.y))
        soft = self.radius * self.soft * binned
        return Shadow(x, y, Estimate(outer, standard), self.inner * outer, self.depth, soft)


def detail_of(plane: Any) -> Any:
    """Return a flat over its smooth light, less 1: a polynomial over the frame that dust does not pull along."""
    rows, columns = plane.shape
    step = max(1, min(rows, columns) // 60)
    coarse = _binned(np.log(plane), step)
    design = _design(coarse.shape, step, plane.shape)
    values, kept = coarse.ravel().astype(float), np.ones(coarse.size, bool)
    # From coarse to fine, from above: dust only darkens, and must not pull the light down or bend the finer one.
    for order in ORDERS:
        own = np.array([down + across <= order for down, across in _terms()])
        weights = kept.astype(float)
        for _ in range(ROUNDS):
            left = weighted_fit(design[:, own], values, weights).residuals
            weights = np.where(left > 0, 1.0, BELOW) * kept
        above = left[kept & (left > 0)]
        scatter = max(scatter_about_zero(above), 1e-6)
        clean = left > -4 * scatter
        if clean.sum() >= MIN_CLEAN_SHARE * clean.size:
            kept = clean
    found = weighted_fit(design[kept], values[kept]).parameters
    terms = _terms()
    across = np.polynomial.legendre.legvander(np.linspace(-1, 1, columns), POLYNOMIAL)
    down = np.polynomial.legendre.legvander(np.linspace(-1, 1, rows), POLYNOMIAL)
    weights = np.zeros((POLYNOMIAL + 1, POLYNOMIAL + 1))
    for term, value in zip(terms, found, strict=True):
        weights[term] = value
    smooth = down @ weights @ across.T
    return (np.log(plane) - smooth).astype(np.float32)


def _terms() -> list[tuple[int, int]]:
    return [(down, across) for down in range(POLYNOMIAL + 1) for across in range(POLYNOMIAL + 1 - down)]


def _design(coarse: tuple[int, int], step: int, whole: tuple[int, int]) -> Any:
    """Return the polynomials at the middles of a coarse grid, one column for each term."""
    down, across = (
        np.polynomial.legendre.legvander(
            (np.arange(count) * step + (step - 1) / 2) / max(of - 1, 1) * 2 - 1, POLYNOMIAL
        )
        for count, of in zip(coarse, whole, strict=True)
    )
    return np.stack([np.outer(down[:, i], across[:, j]).ravel() for i, j in _terms()], axis=1)


def _binned(plane: Any, by: int) -> Any:
    rows, columns = plane.shape[0] // by, plane.shape[1] // by
    return plane[: rows * by, : columns * by].reshape(rows, by, columns, by).mean(axis=(1, 3))


def _dips(detail: Any) -> list[_Dip]:
    """Return what is dark and round at every size, the surest first."""
    from scipy.ndimage import minimum_filter
    from scipy.signal import fftconvolve

    found: list[_Dip] = []
    noise, by = _noise(detail), 1
    while min(detail.shape) // by >= SIZES[0] / LARGEST_SHARE:
        level = _binned(detail, by) if by > 1 else detail
        there = np.ones_like(level)
        for size in SIZES:
            disc, ring = _weights(size)
            if size > LARGEST_SHARE * min(level.shape):
                continue
            means = []
            for kernel, least in ((disc, LEAST_DISC), (ring, LEAST_RING)):
                share = fftconvolve(there, kernel, mode="same")
                mean = fftconvolve(level, kernel, mode="same") / np.maximum(share, 1e-9)
                means.append(np.where(share >= least, mean, np.nan))
            entries = means[0] - means[1]
            known = np.isfinite(entries)
            if not known.any():
                continue
            scatter = max(mad_scatter(entries[known]), 1e-9)
            white = noise / by * math.sqrt(float((disc**2).sum() + (ring**2).sum()))
            limit = -max(SIGNIFICANT * max(min(scatter, MAX_SCATTER), white), MIN_DEPTH / 2)
            entries = np.where(known, entries, np.inf)
            lowest = (entries == minimum_filter(entries, size=max(3, round(size / 2)))) & (entries < limit)
            for row, column in zip(*np.nonzero(lowest), strict=True):
                x, y = (at * by + (by - 1) / 2 for at in (float(column), float(row)))
                depth = -float(entries[row, column])
                found.append(_Dip(depth / scatter, x, y, size * by, depth))
        by *= 2
    # By what a filter matched to each would tell over white noise: a wide shadow before the arcs that it is made of.
    return sorted(found, key=lambda dip: -dip.depth * dip.size)[:MAX_DIPS]


def _weights(size: float) -> tuple[Any, Any]:
    """Return what weighs a disc of a diameter in px, and the ring around it, each to a sum of 1."""
    half = math.ceil(RING_OUTER * size)
    down, across = np.mgrid[-half : half + 1, -half : half + 1]
    apart = np.hypot(down, across)
    disc = (apart <= size / 2).astype(float)
    ring = ((apart > RING_INNER * size) & (apart <= RING_OUTER * size)).astype(float)
    return disc / disc.sum(), ring / ring.sum()


def _depth_at(detail: Any, dip: _Dip) -> float:
    """Return how much darker a disc still is than the ring around it."""
    by = max(1, round(dip.size / SIZES[1]))
    reach = RING_OUTER * dip.size + by
    left, right = max(0, int(dip.x - reach)), min(detail.shape[1], int(dip.x + reach) + 1)
    top, bottom = max(0, int(dip.y - reach)), min(detail.shape[0], int(dip.y + reach) + 1)
    window = _binned(detail[top:bottom, left:right], by)
    if not window.size:
        return 0.0
    down, across = np.mgrid[0 : window.shape[0], 0 : window.shape[1]].astype(float)
    middle = (dip.x - left - (by - 1) / 2) / by, (dip.y - top - (by - 1) / 2) / by
    apart = np.hypot(across - middle[0], down - middle[1]) * by
    disc = apart <= dip.size / 2
    ring = (apart > RING_INNER * dip.size) & (apart <= RING_OUTER * dip.size)
    return float(window[ring].mean() - window[disc].mean()) if disc.any() and ring.any() else 0.0


def _fitted(detail: Any, dip: _Dip, inner: float, near: _Ring | None = None) -> _Ring | None:
    """Return the ring that a dip is, or None where it is none; ``near`` is one that it was found to be before."""
    from scipy.optimize import least_squares

    best = None
    for wide in (dip.size, 1.6 * dip.size) if near is None else (1.3 * dip.size,):
        cut = _cut(detail, dip.x, dip.y, 0.95 * wide + 3, max(1, math.ceil(2 * wide / FITTED_PX)))
        if cut is None:
            continue
        values, at_x, at_y = cut
        noise, depth = _noise(values), max(-float(np.percentile(values, 15)), 1e-5)
        start = [dip.x, dip.y, wide / 2, 0.15, max(inner, 0.1), depth, 0.0, 0.0, 0.0]
        if near is not None:
            start[2:6] = [near.radius, max(near.soft, 0.021), max(near.inner, 0.01), near.depth]
        low = [dip.x - 0.6 * wide, dip.y - 0.6 * wide, 0.25 * wide, 0.02, 0.0, 0.0, -1, -1, -1]
        high = [dip.x + 0.6 * wide, dip.y + 0.6 * wide, 0.95 * wide, 0.6, 0.75, 1.0, 1, 1, 1]
        scale = [wide / 4, wide / 4, wide / 4, 0.1, 0.1, depth, depth, depth / wide, depth / wide]

        def left(p: Any, at_x: Any = at_x, at_y: Any = at_y, values: Any = values) -> Any:
            return (p[6] + p[7] * (at_x - p[0]) + p[8] * (at_y - p[1]) - _shade(p, at_x, at_y) - values).ravel()

        def slopes(p: Any, at_x: Any = at_x, at_y: Any = at_y) -> Any:
            return _slopes(p, at_x, at_y)

        found = least_squares(
            left,
            start,
            slopes,
            bounds=(low, high),
            x_scale=scale,
            loss="soft_l1",
            f_scale=3 * noise,
            max_nfev=40,
            ftol=1e-5,
        )
        share = float(np.mean(left(found.x) ** 2)) / max(float(values.var()), 1e-18)
        if best is None or share < best[0]:
            best = share, found, noise
    return None if best is None or best[0] > MAX_LEFT_SHARE else _checked(detail, best[1], best[2])


def _checked(detail: Any, found: Any, noise: float) -> _Ring | None:
    """Return a fit as a ring where its numbers are a shadow's, and certain."""
    p = found.x
    covariance = np.linalg.pinv(found.jac.T @ found.jac) * max(float(np.mean(found.fun**2)), noise**2)
    standard = np.sqrt(np.maximum(np.diag(covariance), 0.0))
    if p[5] < max(MIN_DEPTH, SURE * standard[5]) or p[3] > MAX_EDGE or p[2] < SURE * standard[2]:
        return None
    if not (0 <= p[0] < detail.shape[1] and 0 <= p[1] < detail.shape[0]):
        return None
    inner = float(p[4]) if p[4] > max(0.15, SURE * standard[4]) else 0.0
    return _Ring(float(p[0]), float(p[1]), float(p[2]), float(p[3]), inner, float(p[5]), float(standard[2]))


def _shade(p: Any, at_x: Any, at_y: Any) -> Any:
    """Return how much a ring takes: its middle, radius, softness and inner radius as shares of that, depth."""
    from scipy.special import erfc

    apart = np.hypot(at_x - p[0], at_y - p[1])
    soft = max(math.sqrt(2) * p[2] * p[3], LEAST_SOFT_PX)
    shade = 0.5 * erfc((apart - p[2]) / soft)
    if p[4] > LEAST_INNER:
        shade = shade - 0.5 * erfc((apart - p[2] * p[4]) / soft)
    return p[5] * shade


def _slopes(p: Any, at_x: Any, at_y: Any) -> Any:
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


def _put(detail: Any, ring: _Ring, sign: float) -> None:
    """Add to a plane what a ring took, or take it again where ``sign`` is −1."""
    reach = ring.radius * (1 + 3 * ring.soft) + 2
    left, right = max(0, int(ring.x - reach)), min(detail.shape[1], int(ring.x + reach) + 2)
    top, bottom = max(0, int(ring.y - reach)), min(detail.shape[0], int(ring.y + reach) + 2)
    down, across = np.mgrid[top:bottom, left:right].astype(float)
    p = (ring.x, ring.y, ring.radius, ring.soft, ring.inner, ring.depth)
    detail[top:bottom, left:right] += sign * _shade(p, across, down)


def _cut(detail: Any, x: float, y: float, reach: float, by: int) -> tuple[Any, Any, Any] | None:
    """Return a window of a plane, binned, and where its px lie; None where too little of it is on the frame."""
    left, right = max(0, int(x - reach)), min(detail.shape[1], int(x + reach) + 1)
    top, bottom = max(0, int(y - reach)), min(detail.shape[0], int(y + reach) + 1)
    if min(right - left, bottom - top) < max(1.1 * reach, 5 * by):
        return None
    window = _binned(detail[top:bottom, left:right].astype(float), by)
    down, across = np.mgrid[0 : window.shape[0], 0 : window.shape[1]].astype(float)
    return window, left + across * by + (by - 1) / 2, top + down * by + (by - 1) / 2


def _noise(values: Any) -> float:
    """Return the scatter of px against their neighbours' mean, which smooth shadows do not make."""
    return max(pixel_scatter(values), 1e-7)

"""Shadows of dust on flats: found at every size, their outer and inner diameter by a fit of a blurred ring."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from wyntaxis.core.evidence.filters.dips import LARGEST_SHARE, SMALLEST_PX, WIDER, Dip, Limits, depth_at, dips
from wyntaxis.core.evidence.filters.rings import LEAST_INNER, LEAST_SOFT_PX, Ring, fitted, put, ring_shade
from wyntaxis.core.evidence.filters.smooth_light import (
    FULL_ORDER,
    LOW_ORDER,
    Plane,
    SmoothLight,
    cell_means,
    smooth_light,
)
from wyntaxis.core.evidence.filters.together import (
    FIRST_STEPS,
    Together,
    about_other_middles,
    fitted_together,
    with_one_more,
    without_needless,
)
from wyntaxis.core.evidence.measured import Estimate

COARSE_PX = 800
"""Wide shadows are looked for on a plane of about so many px."""
WIDE_PX = 16.0
"""Smaller shadows do not move the light's model: they are looked for last."""
MAX_MOTES = 60
LEFT_SHARES = (0.12, 0.2, 0.3, 0.4, 0.4)
"""One search for shadows each, on a light that is fitted again with the shadows found before taken out. A ring
may leave such a share of its window's variance, beside what noise makes: the plainest first, for what stands alone is
told from what overlaps only once the plain ones are out of the way.
"""
LEFT_SHARE = 0.6
MAX_FAILED, MAX_MISSED = 12, 6
"""A search ends when so many dips in a row were no shadows; so many wide ones are looked for that it missed."""
RIM_SHARE, RIM_DEPTH = 0.3, 0.1
"""On the edge of a shadow, what is narrower and fainter than these shares of it is what its fit left."""
MODEL_SHARE = 0.015
"""What a grain's own size leaves uncertain of the beam's diameter, as a share."""


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
    return ring_shade((*place, radius, shadow.soft_px / radius, inner, shadow.depth), x, y)


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
    """A flat taken apart: its light without dust, and the shadows of dust, the deepest first.

    ``corner_standard`` is that of its corner share, ``misfit`` what light and shadows leave over the cells' scatter.
    """

    smooth: SmoothLight
    shadows: tuple[Shadow, ...]
    corner_standard: float = 0.0
    misfit: float = 1.0

    @property
    def corner(self) -> Estimate:
        """The light of the corners as a share of the middle's."""
        share = self.smooth.corner_share
        return Estimate(share, share * self.corner_standard)


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
    found = _settled(cell_means(plane, by), obstruction)
    smooth, rings = found.smooth, found.rings
    if by > 1:
        # Only what is too small for the coarser plane is looked for on the whole one.
        smooth = replace(smooth, shape=(int(plane.shape[0]), int(plane.shape[1])))
        rings = [ring.enlarged(by) for ring in rings]
        detail = detail_of(plane, smooth)
        for ring in rings:
            put(detail, ring, 1.0)
        limits = Limits(LEFT_SHARES[-1], SMALLEST_PX, SMALLEST_PX * by * WIDER)
        rings = _without_doubles(detail, [*rings, *_searched(detail, obstruction, limits, [])])
    shadows = tuple(sorted((_shadow(ring, binned) for ring in rings), key=lambda shadow: -shadow.depth))
    return FlatLight(smooth, shadows, found.corner_standard, found.misfit)


def _shadow(ring: Ring, binned: int) -> Shadow:
    """Return a ring as a shadow in px of the frame."""
    outer = 2 * ring.radius * binned
    standard = math.hypot(2 * ring.radius_standard * binned, MODEL_SHARE * outer)
    x, y = (at * binned + (binned - 1) / 2 for at in (ring.x, ring.y))
    return Shadow(x, y, Estimate(outer, standard), ring.inner * outer, ring.depth, ring.radius * ring.soft * binned)


def shadows_of(plane: Plane, binned: int, obstruction: float = 0.0) -> tuple[Shadow, ...]:
    """Return the shadows of dust on a flat, see :func:`light_of`."""
    return light_of(plane, binned, obstruction).shadows


def _settled(plane: Plane, obstruction: float) -> Together:
    """Return light and rings of a plane: found by turns, then fitted together.

    A wide shadow near the light's own middle and a profile that dips there are told apart only by what is left. So
    where more is left in some places than cells scatter, one wide ring more is tried, and the search goes on with it.
    """
    found = _by_turns(plane, obstruction, None)
    for _ in range(MAX_MISSED):
        if found.is_structured:
            found = about_other_middles(plane, found)
        more = found
        while more.is_structured and (one_more := with_one_more(plane, more, obstruction)) is not None:
            more = one_more
        if more is found or (again := _by_turns(plane, obstruction, more)).information >= found.information:
            break  # each round explains the plane better than the one before, or is the last
        found = again
    return found


def _by_turns(plane: Plane, obstruction: float, known: Together | None) -> Together:
    """Return light and rings, each found with the other taken out: what moves between them settles within rounds."""
    whole = np.log(plane)
    smooth = smooth_light(plane, order=LOW_ORDER) if known is None else known.smooth
    rings: list[Ring] = [] if known is None else known.rings
    failed: list[tuple[Dip, float]] = []
    for search, most_left in enumerate(LEFT_SHARES):
        detail = whole - smooth.on_plane()
        for ring in rings:
            put(detail, ring, 1.0)
        if known is None or search:
            share = most_left if known is None else LEFT_SHARES[-1]
            rings = [again for ring in rings if (again := _refined(detail, ring, share)) is not None]
        before = len(rings)
        limits = Limits(most_left, SMALLEST_PX if search > 2 else WIDE_PX, LARGEST_SHARE * min(plane.shape))
        rings = _without_doubles(detail, [*rings, *_searched(detail, obstruction, limits, failed)])
        if search > 2 and len(rings) == before:
            break
        taken = np.zeros_like(whole)
        for ring in rings:
            put(taken, ring, 1.0)
        smooth = smooth_light(plane, taken, order=FULL_ORDER if search > 1 else LOW_ORDER)
        if rings:
            together = fitted_together(plane, smooth, rings, FIRST_STEPS)
            smooth, rings = together.smooth, together.rings
    return without_needless(plane, fitted_together(plane, smooth, rings))


def _searched(detail: Plane, obstruction: float, limits: Limits, failed: list[tuple[Dip, float]]) -> list[Ring]:
    """Return the rings that dips of a plane are, and take them out of it.

    ``failed`` are the dips that were none, with what the best ring left of each: none is tried again before so much
    may be left.
    """
    rings: list[Ring] = []
    tried: list[Dip] = []
    most_left = limits.most_left
    in_a_row = 0
    for dip in dips(detail, limits):
        # What was found before is taken out: only what is left of a dip counts.
        if any(dip.is_same(other) for other in tried) or depth_at(detail, dip) < LEFT_SHARE * dip.depth:
            continue
        if any(share > most_left and dip.is_as_deep(other) for other, share in failed):
            continue
        tried.append(dip)
        ring, share = fitted(detail, dip, obstruction, most_left)
        if ring is None:
            failed.append((dip, share))
            in_a_row += 1
            if in_a_row > MAX_FAILED:
                break
            continue
        in_a_row = 0
        put(detail, ring, 1.0)
        rings.append(ring)
        if len(rings) >= MAX_MOTES:
            break
    return rings


def _without_doubles(detail: Plane, rings: list[Ring]) -> list[Ring]:
    """Return rings of which none is the rest of a deeper one, at its place or along its edge.

    The light of those that are is given back to the plane.
    """
    kept: list[Ring] = []
    for ring in sorted(rings, key=lambda ring: -ring.depth):
        if any(_is_rest(ring, other) for other in kept):
            put(detail, ring, -1.0)
        else:
            kept.append(ring)
    return kept


def _is_rest(ring: Ring, deeper: Ring) -> bool:
    """Return whether a ring is what the fit of a deeper one left at the same place, or along that one's edge."""
    apart = math.hypot(ring.x - deeper.x, ring.y - deeper.y)
    if apart < 0.5 * deeper.radius and 0.7 < ring.radius / deeper.radius < 1.4:
        return True
    off_edge = abs(apart - deeper.radius)
    is_narrow = ring.radius < RIM_SHARE * deeper.radius and ring.depth < RIM_DEPTH * deeper.depth
    return is_narrow and off_edge < ring.radius + 2 * deeper.soft * deeper.radius


def _refined(detail: Plane, ring: Ring, most_left: float) -> Ring | None:
    """Return a ring fitted anew with all others taken out; None where nothing is left of it."""
    put(detail, ring, -1.0)
    dip = Dip(0.0, ring.x, ring.y, 2 * ring.radius, ring.depth)
    again, _ = fitted(detail, dip, ring.inner, most_left, near=ring)
    if again is not None:
        put(detail, again, 1.0)
    return again


def detail_of(plane: Plane, smooth: SmoothLight) -> Plane:
    """Return the logarithm of a flat over its smooth light."""
    return np.asarray(np.log(plane) - smooth.on_plane(), float)

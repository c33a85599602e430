"""The light of a flat without its dust: a free profile about its own middle, times what slopes and bends a little.

A round opening that cuts the beam leaves the middle of a frame flat and lets its light fall steeply, with a kink, from
some radius on: no polynomial over the frame follows that. Its light depends on the distance from one point alone, the
opening's middle as the sensor sees it, however steep it falls. So the model is a profile of straight pieces over that
distance about a fitted middle, and a polynomial of low order for a panel's gradient, cos⁴ and what reflects.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from wyntaxis.core.fitting import scatter_about_zero

Plane = NDArray[np.float64]

COARSE_CELLS = 64
"""The light is fitted to means over cells, so many on the shorter side."""
PIECES = 36
"""The profile has so many straight pieces from the middle to the farthest corner."""
LOW_ORDER, FULL_ORDER = 2, 4
ROUNDS, BELOW = 5, 0.05
"""What lies below the light counts this much of what lies above (asymmetric least squares; Eilers, 2003)."""
CENTRE_ROUNDS, MAX_CENTRE_STEP = 4, 0.1
MIN_PROFILE_FALL = 0.02
"""The middle is fitted where the light falls by more than this from the middle to the corner."""
RISE_COST = 0.3
"""Light falls outward from its middle: a profile that rises is pulled level, round by round, for a dip in the middle is
dust.
"""
STIFF = 0.01
"""How much a bend of the profile costs against the cells' own scatter: pieces that no cell holds follow their ends."""
LEVEL = 1e-3
"""A term that the profile can stand for goes to the profile: it costs so little."""


@dataclass(frozen=True)
class SmoothLight:
    """The logarithm of the light on a plane of ``shape`` (rows, columns).

    Places are told as shares of half the diagonal from the frame's middle. ``centre`` is the profile's own.
    """

    shape: tuple[int, int]
    centre: tuple[float, float]
    radii: Plane
    profile: Plane
    terms: Plane
    scatter: float
    """The scatter of the cells about it, as a share of the light."""

    def at(self, x: Plane, y: Plane) -> Plane:
        """Return the logarithm of the light at places, in shares of half the diagonal from the frame's middle."""
        found = self.profile_at(x, y)
        for term, factor in zip(_TERMS, self.terms, strict=True):
            if factor:
                found = found + factor * _value(term, x, y)
        return found

    def profile_at(self, x: Plane, y: Plane) -> Plane:
        """Return the profile's part of :meth:`at`; beyond the outermost cell its last piece goes on."""
        radius = np.hypot(x - self.centre[0], y - self.centre[1])
        found = np.interp(radius, self.radii, self.profile)
        slope = float((self.profile[-1] - self.profile[-2]) / (self.radii[-1] - self.radii[-2]))
        return np.asarray(found + slope * np.maximum(radius - self.radii[-1], 0.0))

    def on_plane(self) -> Plane:
        """Return the logarithm of the light on every px of the plane."""
        rows, columns = self.shape
        half = math.hypot(rows, columns) / 2
        x = np.asarray((np.arange(columns) - (columns - 1) / 2)[None, :] / half, float)
        y = np.asarray((np.arange(rows) - (rows - 1) / 2)[:, None] / half, float)
        found = self.profile_at(x, y)
        for term, factor in zip(_TERMS, self.terms, strict=True):
            if factor:
                found += factor * _value(term, x, y)
        return found

    @property
    def numbers(self) -> Plane:
        """The profile, the polynomial's terms and the middle in one row, as :meth:`slopes` orders them."""
        return np.concatenate([self.profile, self.terms, self.centre])

    def with_numbers(self, numbers: Plane) -> SmoothLight:
        """Return the light with other numbers."""
        end = PIECES + 1 + len(_TERMS)
        centre = (float(numbers[end]), float(numbers[end + 1]))
        return replace(self, profile=numbers[: PIECES + 1], terms=numbers[PIECES + 1 : end], centre=centre)

    def slopes(self, x: Plane, y: Plane, terms: Plane) -> Plane:
        """Return the derivatives of :meth:`at` by the numbers, a row for each place and a column for each number.

        ``terms`` is what :func:`term_values` gives for the same places.
        """
        off_x, off_y = x - self.centre[0], y - self.centre[1]
        radius = np.hypot(off_x, off_y)
        along = radius / self.radii[-1] * PIECES
        piece = np.minimum(along.astype(np.int64), PIECES - 1)
        steep = (self.profile[piece + 1] - self.profile[piece]) / (self.radii[1] - self.radii[0])
        away = np.maximum(radius, 1e-6)
        places = np.arange(x.size)
        found = np.zeros((x.size, PIECES + 1 + len(_TERMS) + 2))
        found[places, piece], found[places, piece + 1] = 1 - (along - piece), along - piece
        found[:, PIECES + 1 : -2] = terms
        found[:, -2], found[:, -1] = -steep * off_x / away, -steep * off_y / away
        return found

    @property
    def corner_share(self) -> float:
        """The light of the outermost px of the four corners, in the mean, as a share of the middle's."""
        light = np.exp(self.at(*corners_and_middle(self.shape)))
        return float(light[:4].mean() / light[4])

    @property
    def off_centre(self) -> float:
        """How far the middle of the profile lies off the frame's, as a share of half the diagonal."""
        return math.hypot(*self.centre)

    @property
    def falls(self) -> bool:
        """Whether the profile falls from its middle by more than nothing."""
        return float(self.profile[0] - self.profile.min()) > MIN_PROFILE_FALL


@dataclass(frozen=True)
class Cells:
    """A plane's means over squares of ``by`` px: their middles as shares of half the diagonal, and in px of the plane.

    What is cut off at the right and the upper edge is less than a cell.
    """

    shape: tuple[int, int]
    by: int

    @classmethod
    def of(cls, plane: Plane) -> Cells:
        """Return the cells of a plane."""
        return cls((int(plane.shape[0]), int(plane.shape[1])), max(1, min(plane.shape) // COARSE_CELLS))

    @property
    def places_px(self) -> tuple[Plane, Plane]:
        """The x and y of their middles, in px of the plane."""
        rows, columns = (side // self.by for side in self.shape)
        down, across = np.mgrid[0:rows, 0:columns].astype(np.float64)
        return across * self.by + (self.by - 1) / 2, down * self.by + (self.by - 1) / 2

    @property
    def places(self) -> tuple[Plane, Plane]:
        """The same from the frame's middle, as shares of half the diagonal."""
        half = math.hypot(*self.shape) / 2
        x, y = self.places_px
        return (x - (self.shape[1] - 1) / 2) / half, (y - (self.shape[0] - 1) / 2) / half


def corners_and_middle(shape: tuple[int, int]) -> tuple[Plane, Plane]:
    """Return the x and y of the outermost px of the four corners and of the middle, in shares of half the diagonal."""
    rows, columns = shape
    half = math.hypot(rows, columns) / 2
    x = np.array([-1.0, 1.0, -1.0, 1.0, 0.0]) * (columns - 1) / 2 / half
    y = np.array([-1.0, -1.0, 1.0, 1.0, 0.0]) * (rows - 1) / 2 / half
    return x, y


def smooth_light(plane: Plane, taken: Plane | None = None, order: int = FULL_ORDER) -> SmoothLight:
    """Return the light of a flat without its dust.

    Parameters
    ----------
    plane
        Light, shape (rows, columns), above 0.
    taken
        What dust is known to take of the logarithm of the light, of the same shape; nothing where left out. Then the
        rest counts alike above and below.
    order
        Of the polynomial; a low one is not bent by wide shadows that are not known yet.

    Returns
    -------
    SmoothLight
        Its scatter tells how well the model follows.
    """
    cells = Cells.of(plane)
    values = np.log(cell_means(plane, cells.by))
    if taken is not None:
        values = values + cell_means(taken, cells.by)
    x, y = cells.places
    fit = _Fit(x.ravel(), y.ravel(), values.ravel(), is_clean=taken is not None)
    fit.solve(LOW_ORDER)
    for _ in range(CENTRE_ROUNDS):
        if fit.fall() < MIN_PROFILE_FALL or not fit.move_centre():
            break
        fit.solve(LOW_ORDER)
    fit.solve(order)
    radii = np.linspace(0, fit.reach, PIECES + 1)
    return SmoothLight(cells.shape, fit.centre, radii, fit.profile, fit.terms, fit.scatter)


def cell_means(plane: Plane, by: int) -> Plane:
    """Return the means of a plane over squares of so many px."""
    if by == 1:
        return plane.astype(np.float64)
    rows, columns = plane.shape[0] // by, plane.shape[1] // by
    blocks = plane[: rows * by, : columns * by].reshape(rows, by, columns, by)
    return np.asarray(blocks.mean(axis=(1, 3), dtype=np.float64))


Powers = tuple[int, int]
_TERMS: tuple[dict[Powers, float], ...] = (
    {(1, 0): 1}, {(0, 1): 1},
    {(2, 0): 1, (0, 2): -1}, {(1, 1): 1},
    {(3, 0): 1}, {(2, 1): 1}, {(1, 2): 1}, {(0, 3): 1},
    {(4, 0): 1, (0, 4): -1}, {(3, 1): 1}, {(1, 3): 1}, {(4, 0): 1, (2, 2): -6, (0, 4): 1},
)  # fmt: skip
"""What the polynomial is made of, by powers of x and y. What depends on the radius alone is the profile's, which does
not rise: else both together could stand for a dip in the middle.
"""


def term_values(x: Plane, y: Plane) -> Plane:
    """Return the polynomial's terms at places, a row for each place and a column for each term."""
    return np.stack([_value(term, x, y) for term in _TERMS], axis=1)


def _terms(order: int) -> list[dict[Powers, float]]:
    return [term for term in _TERMS if sum(next(iter(term))) <= order]


def _value(term: dict[Powers, float], x: Plane, y: Plane) -> Plane:
    """Return a term's values; where x is a row and y a column, over the grid of both."""
    return np.asarray(sum(factor * x**across * y**up for (across, up), factor in term.items()), float)


def standing_cost(terms: int) -> Plane:
    """Return what bends of the profile and terms of the polynomial cost, for each cell, as a quadratic form."""
    numbers = PIECES + 1 + terms
    bends = np.zeros((PIECES - 1, numbers))
    for place in range(PIECES - 1):
        bends[place, place : place + 3] = (1.0, -2.0, 1.0)
    cost = STIFF**2 * bends.T @ bends / PIECES
    ridge = np.arange(PIECES + 1, numbers)
    cost[ridge, ridge] += LEVEL**2
    return np.asarray(cost)


def rise_cost(profile: Plane) -> Plane:
    """Return what the rising pieces of a profile cost, for each cell, as a quadratic form of the profile."""
    rises = np.zeros((PIECES, PIECES + 1))
    for begin in np.flatnonzero(np.diff(profile) > 0):
        rises[begin, begin : begin + 2] = (-1.0, 1.0)
    return np.asarray(RISE_COST * rises.T @ rises / PIECES)


class _Fit:
    """A fit of profile, middle and polynomial to cells."""

    def __init__(self, x: Plane, y: Plane, values: Plane, *, is_clean: bool) -> None:
        self.x, self.y, self.values, self.is_clean = x, y, values, is_clean
        self.centre = (0.0, 0.0)
        self.reach = 1.0
        self.profile = np.zeros(PIECES + 1)
        self.terms = np.zeros(len(_TERMS))
        self.weights = np.ones(values.size)
        self.residuals = np.zeros(values.size)
        self.scatter = 0.0

    def fall(self) -> float:
        """Return how much the profile falls from its middle to its end."""
        return float(abs(self.profile[0] - self.profile[-1]))

    def _hats(self) -> tuple[Plane, NDArray[np.int64], Plane]:
        """Return of each cell its radius, the piece that it lies in, and how far along."""
        radius = np.hypot(self.x - self.centre[0], self.y - self.centre[1])
        self.reach = float(radius.max()) * (1 + 1e-9)
        along = radius / self.reach * PIECES
        piece = np.minimum(along.astype(np.int64), PIECES - 1)
        return radius, piece, along - piece

    def solve(self, order: int) -> None:
        """Fit profile and polynomial about the present middle, dust not pulling them along."""
        _, piece, share = self._hats()
        terms = _terms(order)
        design = np.zeros((self.values.size, PIECES + 1 + len(terms)))
        cells = np.arange(self.values.size)
        design[cells, piece], design[cells, piece + 1] = 1 - share, share
        for place, term in enumerate(terms):
            design[:, PIECES + 1 + place] = _value(term, self.x, self.y)
        penalty = standing_cost(len(terms)) * self.values.size
        weights, found, left = self.weights, np.zeros(design.shape[1]), self.residuals
        scatter = 1.0
        for _ in range(ROUNDS):
            weighted = design * weights[:, None]
            penalty[: PIECES + 1, : PIECES + 1] += rise_cost(found[: PIECES + 1]) * self.values.size
            found = np.asarray(np.linalg.solve(weighted.T @ design + penalty, weighted.T @ self.values), float)
            left = self.values - design @ found
            if self.is_clean:
                scatter = max(scatter_about_zero(left), 1e-7)
                weights = 1 / np.maximum(np.abs(left) / (2 * scatter), 1.0)
            else:
                scatter = max(scatter_about_zero(left[left > 0]), 1e-7)
                weights = np.where(left > 0, 1.0, BELOW) / np.maximum(left / (3 * scatter), 1.0)
                weights = np.where(left < -4 * scatter, BELOW**2, weights)
        self.residuals, self.weights, self.scatter = left, weights, scatter
        self.profile = found[: PIECES + 1]
        self.terms = np.zeros(len(_TERMS))
        self.terms[: len(terms)] = found[PIECES + 1 :]

    def move_centre(self) -> bool:
        """Move the middle to where the rest is least, one step of Gauss and Newton; return whether it moved."""
        radius, piece, _ = self._hats()
        steep = (self.profile[piece + 1] - self.profile[piece]) * PIECES / self.reach
        away = np.maximum(radius, 1e-6)
        slopes = np.stack(
            [-steep * (self.x - self.centre[0]) / away, -steep * (self.y - self.centre[1]) / away, self.x, self.y],
            axis=1,
        )
        weighted = slopes * self.weights[:, None]
        normal = weighted.T @ slopes
        normal[np.diag_indices(4)] += 1e-12 + 1e-6 * np.trace(normal) / 4
        step = np.linalg.solve(normal, weighted.T @ self.residuals)[:2]
        step = np.clip(step, -MAX_CENTRE_STEP, MAX_CENTRE_STEP)
        self.centre = (
            float(np.clip(self.centre[0] + step[0], -0.5, 0.5)),
            float(np.clip(self.centre[1] + step[1], -0.5, 0.5)),
        )
        return bool(np.abs(step).max() > 1e-4)

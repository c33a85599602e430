"""Light and shadows of a flat fitted together: what a wide shadow and the light's profile could each stand for."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from wyntaxis.core.arrays import Ints
from wyntaxis.core.evidence.filters.rings import LEAST_SOFT, MOST_INNER, MOST_SOFT, Ring, put, ring_shade, ring_slopes
from wyntaxis.core.evidence.filters.smooth_light import (
    PIECES,
    Cells,
    Plane,
    SmoothLight,
    cell_means,
    corners_and_middle,
    rise_cost,
    standing_cost,
    term_values,
)
from wyntaxis.core.fitting import scatter_about_zero

STRUCTURE_SHARE = 2.0
"""What light and shadows leave beyond the cells' scatter counts so many times in the corner's uncertainty."""
MIDDLES = (-0.12, 0.0, 0.12)
"""Middles of the light to begin at, across and up, as shares of half the diagonal."""
UNSURE = 0.02
"""What is uncertain of the corner at the least, as a share, where something was not found."""
CORNER_MODEL = 0.0015
"""What cells and straight pieces leave uncertain of the corner, as a share of it."""
MIN_CELLS = 2.0
"""A ring takes part whose radius is so many cells: what is smaller does not bend the light."""
STEPS, FIRST_STEPS, TURN, LEAST_GAIN = 40, 12, 2.5, 1e-5
RING_NUMBERS = 6
NOTHING = 1e-7
"""Less scatter than this is none: a frame without noise is as well explained as can be."""
SMALLEST_SIZE, LARGEST_SIZE, SIZES_APART, STEPS_A_SIZE = 0.25, 0.9, 1.25, 5
"""Wide rings that were missed are tried at these shares of the plane's short side, and so many places a diameter."""
USUAL_EDGE = 0.05
"""Edges are so soft beside the grain's own part, as a share of the radius: softer ones cost."""
LEVEL_AGAIN = 10.0
"""A profile that rises costs so many times what it costs alone: what could be a shadow is one."""
STRUCTURED = 1.12
"""Where cells are left so many times their usual scatter, in the root mean square, something was not found."""
FAINTEST = 5e-5
"""Less than this share of the light, in the root mean square, is no shadow that a flat could show."""


@dataclass(frozen=True)
class Together:
    """A flat's light and rings, and the mean square that they leave of its cells, in squares of the logarithm."""

    smooth: SmoothLight
    rings: list[Ring]
    left: float
    scatter: float
    cells: int
    corner_standard: float = 0.0
    """Of the light's corner share, as a share of itself: what shadows and light could each stand for is in it, and
    what both leave beyond the cells' scatter.
    """

    @property
    def information(self) -> float:
        """How badly this explains the cells, each ring counted against it (Schwarz, 1978); less is better."""
        return self.cells * math.log(max(self.left, NOTHING**2)) + RING_NUMBERS * len(self.rings) * math.log(self.cells)

    @property
    def is_structured(self) -> bool:
        """Whether far more is left in some places than cells scatter: something is there that nobody found."""
        return self.misfit > STRUCTURED and math.sqrt(self.left) > FAINTEST

    @property
    def misfit(self) -> float:
        """The root of the mean square of what is left, in the cells' usual scatter; about 1 where the model fits."""
        return math.sqrt(self.left) / self.scatter


def fitted_together(plane: Plane, smooth: SmoothLight, rings: list[Ring], steps: int = STEPS) -> Together:
    """Return light and rings that explain a plane best, all numbers of both moved at once.

    Parameters
    ----------
    plane
        Light, (rows, columns), above 0.
    smooth, rings
        Where to begin; small rings stay as they are.
    steps
        At the most.

    Notes
    -----
    Steps of Levenberg and Marquardt (1963) over the means of cells, outliers weighed down (Huber, 1964).
    """
    cells = Cells.of(plane)
    wide = [ring for ring in rings if ring.radius > MIN_CELLS * cells.by]
    small = [ring for ring in rings if ring.radius <= MIN_CELLS * cells.by]
    whole = np.log(plane)
    for ring in small:
        put(whole, ring, 1.0)
    fit = _Fit(cells, cell_means(whole, cells.by).ravel(), smooth, wide)
    fit.descend(steps)
    left = fit.left(fit.numbers)
    together = [*fit.rings(fit.numbers), *small]
    mean = float(np.mean(left**2))
    structure = math.sqrt(max(mean - fit.scatter**2, 0.0))
    standard = math.hypot(fit.corner_standard(), STRUCTURE_SHARE * structure, CORNER_MODEL)
    found = Together(fit.light(fit.numbers), together, mean, fit.scatter, left.size, standard)
    return replace(found, corner_standard=max(standard, UNSURE)) if found.is_structured else found


def with_one_more(plane: Plane, found: Together, obstruction: float) -> Together | None:
    """Return light and rings with the one wide ring more that explains most of what is left; None where none does.

    A ring that the light could take in is weighed by what light and known rings together can *not* take in of it:
    each candidate is projected onto what is orthogonal to their slopes.
    """
    cells = Cells.of(plane)
    whole = np.log(plane)
    fit = _Fit(cells, cell_means(whole, cells.by).ravel(), found.smooth, found.rings)
    left = fit.left(fit.numbers)
    weights = 1 / np.maximum(np.abs(left) / (TURN * found.scatter), 1.0)
    slopes = fit.slopes(fit.numbers)[:, fit.moves]
    weighted = slopes * weights[:, None]
    known = np.linalg.pinv(weighted.T @ slopes + fit.form(fit.numbers)[np.ix_(fit.moves, fit.moves)], hermitian=True)
    best, most = None, 0.0
    size = SMALLEST_SIZE * min(cells.shape)
    while size <= LARGEST_SIZE * min(cells.shape):
        middles = [
            np.arange(size / 6, side - size / 6, size / STEPS_A_SIZE) for side in (cells.shape[1], cells.shape[0])
        ]
        places = [(float(x), float(y)) for x in middles[0] for y in middles[1]]
        shades = np.stack([ring_shade((x, y, size / 2, 0.12, obstruction, 1.0), *fit.px) for x, y in places], axis=1)
        taken_in = weighted.T @ shades
        own = (weights[:, None] * shades**2).sum(axis=0) - (taken_in * (known @ taken_in)).sum(axis=0)
        against = -(shades.T @ (weights * left)) + taken_in.T @ (known @ (weighted.T @ left))
        gains = np.where((against > 0) & (own > 1e-9), against**2 / np.maximum(own, 1e-9), 0.0)
        place = int(np.argmax(gains))
        if gains[place] > most:
            most = float(gains[place])
            x, y = places[place]
            depth = float(against[place] / own[place])
            best = Ring(x, y, size / 2, 0.12, obstruction, depth, 0.02 * size)
        size *= SIZES_APART
    if best is None:
        return None
    more = fitted_together(plane, found.smooth, [best, *found.rings])
    return more if more.information < found.information else None


def about_other_middles(plane: Plane, found: Together) -> Together:
    """Return light and rings fitted about the middle of the light that explains most, of several to begin at.

    A wide ring beside the middle can draw it to itself, from where no small step leads back.
    """
    tried = (
        fitted_together(plane, replace(found.smooth, centre=(x, y)), found.rings, FIRST_STEPS)
        for x in MIDDLES
        for y in MIDDLES
    )
    best = min((found, *tried), key=lambda each: each.information)
    if best is found:
        return found
    return min((best, fitted_together(plane, best.smooth, best.rings)), key=lambda each: each.information)


def without_needless(plane: Plane, found: Together) -> Together:
    """Return light and rings without the rings that the light explains as well, the faintest tried first."""
    for ring in sorted(found.rings, key=lambda ring: ring.depth * ring.radius):
        if ring.radius <= MIN_CELLS * Cells.of(plane).by:
            continue
        fewer = fitted_together(plane, found.smooth, [other for other in found.rings if other is not ring], FIRST_STEPS)
        if fewer.information >= found.information:
            break
        found = fewer
    return found


class _Fit:
    """The numbers of a light and of rings, and what they leave of cells."""

    def __init__(self, cells: Cells, values: Plane, smooth: SmoothLight, wide: list[Ring]) -> None:
        self.smooth, self.wide, self.values = smooth, wide, values
        self.x, self.y = (at.ravel() for at in cells.places)
        self.px = tuple(at.ravel() for at in cells.places_px)
        self.terms = term_values(self.x, self.y)
        self.light_numbers = smooth.numbers.size
        rows = [[ring.x, ring.y, ring.radius, ring.soft, ring.inner, ring.depth] for ring in wide]
        self.numbers = np.concatenate([smooth.numbers, np.ravel(rows)])
        self.cost_of_form = np.zeros((self.numbers.size, self.numbers.size))
        standing = standing_cost(smooth.terms.size)
        self.cost_of_form[: len(standing), : len(standing)] = standing * values.size
        low = [[r.x - r.radius, r.y - r.radius, r.radius / 2, LEAST_SOFT, 0.0, 0.0] for r in wide]
        high = [
            [r.x + r.radius, r.y + r.radius, 2 * r.radius, MOST_SOFT, MOST_INNER if r.inner else 0.0, 1.0] for r in wide
        ]
        free = np.full(self.light_numbers, np.inf)
        self.low = np.concatenate([-free, np.ravel(low)])
        self.high = np.concatenate([free, np.ravel(high)])
        self.moves = np.ones(self.numbers.size, bool)
        if not smooth.falls:
            self.moves[self.light_numbers - 2 : self.light_numbers] = False
        self.moves &= self.low < self.high
        self.scatter = NOTHING

    def light(self, numbers: Plane) -> SmoothLight:
        """Return the light of numbers."""
        return self.smooth.with_numbers(numbers[: self.light_numbers])

    def rings(self, numbers: Plane) -> list[Ring]:
        """Return the rings of numbers."""
        found = []
        for ring, row in zip(self.wide, self._rows(numbers), strict=True):
            x, y, radius, soft, inner, depth = (float(number) for number in row)
            found.append(replace(ring, x=x, y=y, radius=radius, soft=soft, inner=inner, depth=depth))
        return found

    def _rows(self, numbers: Plane) -> Plane:
        return np.asarray(numbers[self.light_numbers :].reshape(len(self.wide), RING_NUMBERS))

    def left(self, numbers: Plane) -> Plane:
        """Return the cells less light and rings."""
        light = self.light(numbers)
        found = light.profile_at(self.x, self.y) + self.terms @ light.terms - self.values
        for row in self._rows(numbers):
            found -= ring_shade(row, *self.px)
        return np.asarray(-found)

    def slopes(self, numbers: Plane) -> Plane:
        """Return the derivatives of light less rings by all numbers."""
        columns = [self.light(numbers).slopes(self.x, self.y, self.terms)]
        columns += [
            ring_slopes(np.append(row, [0.0, 0.0, 0.0]), *self.px)[:, :RING_NUMBERS] for row in self._rows(numbers)
        ]
        return np.concatenate(columns, axis=1)

    def form(self, numbers: Plane) -> Plane:
        """Return what the form of the light costs, as a quadratic form of all numbers."""
        form = self.cost_of_form.copy()
        form[: PIECES + 1, : PIECES + 1] += LEVEL_AGAIN * rise_cost(numbers[: PIECES + 1]) * self.values.size
        return form

    @property
    def softs(self) -> Ints:
        """Where the rings' softness stands among the numbers."""
        return self.light_numbers + 3 + RING_NUMBERS * np.arange(len(self.wide))

    def _usual(self, numbers: Plane) -> Plane:
        """Return how soft rings so deep usually are: a grain as wide as √depth of the beam softens the edge by half."""
        return np.asarray(0.5 * np.sqrt(numbers[self.softs + 2]), float)

    def _edges(self, numbers: Plane) -> tuple[Plane, float]:
        """Return by how much the rings are softer than usual, and what the square of it costs."""
        return np.asarray(numbers[self.softs] - self._usual(numbers)), (self.scatter / USUAL_EDGE) ** 2

    def corner_standard(self) -> float:
        """Return the standard uncertainty of the logarithm of corner over middle, by the spread of all numbers."""
        light = self.light(self.numbers)
        x, y = corners_and_middle(light.shape)
        at = light.slopes(x, y, term_values(x, y))
        toward = np.zeros(self.numbers.size)
        toward[: self.light_numbers] = at[:4].mean(axis=0) - at[4]
        slopes = self.slopes(self.numbers)[:, self.moves]
        form = self.form(self.numbers)[np.ix_(self.moves, self.moves)]
        spread = np.linalg.pinv(slopes.T @ slopes + form, hermitian=True)
        wanted = toward[self.moves]
        return self.scatter * math.sqrt(max(float(wanted @ spread @ wanted), 0.0))

    def descend(self, steps: int) -> None:
        """Move the numbers to where the least is left.

        At first all cells count alike: where a wide ring is far from right, its cells would else be the outliers that
        hold it there.
        """
        left = self.left(self.numbers)
        damping = 1e-3
        is_robust = False
        for number in range(steps):
            is_robust = is_robust or number >= steps // 2
            self.scatter = max(scatter_about_zero(left), NOTHING)
            scale = self.scatter if is_robust else max(self.scatter, float(np.sqrt(np.mean(left**2))))
            weights = 1 / np.maximum(np.abs(left) / (TURN * scale), 1.0)
            form = self.form(self.numbers)
            pulls, weight = self._edges(self.numbers)
            cost = float((weights * left**2).sum() + self.numbers @ form @ self.numbers + weight * (pulls**2).sum())
            slopes = self.slopes(self.numbers)
            weighted = slopes * weights[:, None]
            normal = weighted.T @ slopes + form
            toward = weighted.T @ left - form @ self.numbers
            softs = self.softs
            normal[softs, softs] += weight
            toward[softs] -= weight * pulls
            stays = ~self.moves
            normal[stays], normal[:, stays], toward[stays] = 0.0, 0.0, 0.0
            normal[stays, stays] = 1.0
            size = np.diag(normal) + 1e-18
            gained = 0.0
            while damping < 1e6:
                step = np.linalg.solve(normal + np.diag(damping * size), toward)
                there = np.clip(self.numbers + step, self.low, self.high)
                found = self.left(there)
                new = float((weights * found**2).sum() + there @ self.form(there) @ there)
                new += weight * float(((there[softs] - self._usual(there)) ** 2).sum())
                if new < cost:
                    gained = 1 - new / cost
                    self.numbers, left = there, found
                    damping = max(damping / 8, 1e-9)
                    break
                damping *= 6
            if gained < LEAST_GAIN:
                if is_robust:
                    break
                is_robust, damping = True, 1e-3

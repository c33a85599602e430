"""The focus curve of one run: a hyperbola and a blurred annulus fitted to star size over the counter's position.

``HFD(x) = √(a² + b² (x − x₀)²)`` is right about x₀ and only nearly about b; the annulus of light that a star out of
focus is, blurred by the sharpest image, gives how fast its diameter grows. How the scatter grows with the size, not at
all, with its root or in proportion, is what makes the points most likely.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import combinations
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.evidence.focus.points import FocusPoint
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.fitting import hc3_growth, student_factor, weighted_fit
from wyntaxis.core.optics.blurred_disc import PROFILES, Profile, annulus_hfd_share, blurred_annulus_hfd
from wyntaxis.core.wording import counted, number, short

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats

MIN_POINTS = 5
MIN_POSITIONS = 5
MIN_RISE = 1.25
"""A run whose largest stars are not this many times the sharpest has no curve to fit."""
FAR = 8.0
"""Stars of this many times the sharpest lie on the straight branches; a run out there characterises the focuser."""
MIN_BRANCH = 3
OUTLIER_CHANCE = 0.002
"""A point is wild where fewer runs than this share would hold one so far off by chance."""
MAX_OUTLIER_SHARE = 0.25
MAX_PAIRED = 30
SCATTER_SHARE = 0.02
"""The scatter of a usual point, as a share of its size; only its ratio to a point's own standard error counts."""
SCATTER_POWERS = (0.5, 0.0, 1.0, -1.0)
"""The scatter may grow with the size to this power: as that of photons, not at all, as a share of it, or fall as that
of the seeing does, which moves small stars most."""
MIN_OWN = 0.3
"""A residual says this much of its point's own error at least: one point that rules a parameter says nothing of it."""
MIN_WEIGHED = 7
"""Fewer points do not tell how the scatter grows; from so many on, telling it takes one more degree of freedom."""
SLOPE_SHARE = 0.75
"""Of what the slopes by hyperbola and annulus differ, this much is the hyperbola's standard uncertainty."""
MAX_STANDARD_SHARE = 0.5
"""A best position less certain than this share of the run's span is none."""
SIZE_SHARE = 0.01
"""What measured star sizes may all be off together, as a share."""
HYPERBOLA = "hyperbola"
HYPERBOLA_PRIOR = 0.02
"""No star out of focus is a hyperbola's: it is believed only where points speak for it strongly."""

Model = Callable[[Any, Any], Any]


@dataclass(frozen=True)
class FarBranch:
    """The straight lines far from focus: slopes of both sides in px/step, and where they meet, in steps."""

    inner_px_step: Estimate
    outer_px_step: Estimate
    meet_at: Estimate


@dataclass(frozen=True)
class FocusCurve:
    """What a run's points give; None with ``why`` where they do not.

    ``best_position`` in steps, ``hfd_px`` the sharpest, ``slope_px_step`` of the hyperbola, ``disc_px_step`` by how
    much the blurred annulus grows a step; ``symmetry`` is the slope outside focus over that inside; ``scatter_share``
    is how far points scatter about the curve, as a share of their size.
    """

    points: tuple[FocusPoint, ...]
    why: str = ""
    is_flat: bool = False
    """Whether no position is told because the stars hardly grow over the run."""
    best_position: Estimate | None = None
    hfd_px: Estimate | None = None
    slope_px_step: Estimate | None = None
    disc_px_step: Estimate | None = None
    symmetry: Estimate | None = None
    far: FarBranch | None = None
    scatter_share: float | None = None
    parameters: tuple[float, float, float] | None = None
    covariance: tuple[tuple[float, float, float], ...] | None = None

    @property
    def reach(self) -> float | None:
        """The largest used star over the sharpest."""
        used = [point.hfd_px for point in self.points if point.used and point.hfd_px is not None]
        return max(used) / self.hfd_px.value if self.hfd_px is not None and used else None

    @property
    def characterises(self) -> bool:
        """Whether the run goes far out on both sides, to characterise the focuser, and not to focus with."""
        if self.best_position is None or self.hfd_px is None:
            return False
        far = [p.position for p in self.points if p.used and (p.hfd_px or 0) >= FAR * self.hfd_px.value]
        return any(at < self.best_position.value for at in far) and any(at > self.best_position.value for at in far)

    def model_px(self, positions: Floats) -> tuple[Floats, Floats]:
        """Return the hyperbola in px at positions in steps, and its standard uncertainty there."""
        assert self.parameters is not None
        assert self.covariance is not None
        at = np.asarray(positions, float)
        size = _hyperbola(self.parameters, at)
        slopes = np.stack([_slope(_hyperbola, self.parameters, at, k) for k in range(3)], axis=-1)
        spread = np.einsum("ij,jk,ik->i", slopes, np.array(self.covariance), slopes)
        return size, np.sqrt(np.maximum(spread, 0.0))


def fit_curve(points: Sequence[FocusPoint], obstruction: float = 0.0, kept: frozenset[str] = frozenset()) -> FocusCurve:
    """Fit the focus curve of a run.

    Parameters
    ----------
    points
        The run's points; those with a reason are left out.
    obstruction
        Central obstruction of the telescope, as a share of the aperture.
    kept
        Files of points that count even where they seem wild.

    Returns
    -------
    FocusCurve
        With every point, wild ones given their reason. Uncertainties are standard ones of so many points that twice
        them cover 95 %; the larger of what equal scatter and what each point's own residual gives (HC3; MacKinnon and
        White, 1985).
    """
    entries = list(points)
    why = _why_none(entries)
    if why:
        return FocusCurve(tuple(entries), why)
    entries, base = _without_outliers(entries, _models(obstruction), kept)
    why = _why_none(entries)
    if why:
        return FocusCurve(tuple(entries), why)
    fits = {
        name: _fitted(model, entries, base.parameters, base.weights) for name, model in _models(obstruction).items()
    }
    why, is_flat = _why_no_curve(entries, fits[HYPERBOLA])
    if why:
        return FocusCurve(tuple(entries), why, is_flat)
    best, sharpest, disc = (_averaged(fits, k, len(fits[HYPERBOLA].residuals)) for k in range(3))
    share, fit = annulus_hfd_share(obstruction), fits[HYPERBOLA]
    disc = disc.times(1 / share)
    # Whether the slope near focus or that far out is meant, the hyperbola does not tell: it lies between both.
    apart = disc.value * share - fit.estimate(2).value
    slope = Estimate(fit.estimate(2).value, math.hypot(fit.estimate(2).standard, SLOPE_SHARE * apart))
    return FocusCurve(
        points=tuple(entries),
        best_position=best,
        hfd_px=Estimate(sharpest.value, math.hypot(sharpest.standard, SIZE_SHARE * sharpest.value)),
        slope_px_step=slope,
        disc_px_step=disc,
        symmetry=_symmetry(entries, fit),
        far=_far_branch(entries, fit),
        scatter_share=SCATTER_SHARE * min(entry.scatter for entry in fits.values()),
        parameters=(float(fit.parameters[0]), float(fit.parameters[1]), float(fit.parameters[2])),
        covariance=tuple((float(row[0]), float(row[1]), float(row[2])) for row in fit.covariance),
    )


def _models(obstruction: float) -> dict[str, Model]:
    """Return the models by name; each has best position, sharpest size, and the slope far out in px/step."""
    share = annulus_hfd_share(obstruction)

    def annulus(profile: Profile) -> Model:
        def model(parameters: Any, at: Any) -> Any:
            best, sharpest, slope = parameters[:3]
            return sharpest * blurred_annulus_hfd(slope / share * (at - best) / sharpest, obstruction, profile)

        return model

    return {HYPERBOLA: _hyperbola} | {profile: annulus(profile) for profile in PROFILES}


def _averaged(fits: dict[str, _Fit], index: int, count: int) -> Estimate:
    """Return a parameter over the models, each weighted by how likely it makes the points; what they differ by counts.

    Source: Bayesian model averaging with the likelihood ``Σr²^(−n/2)``; Hoeting et al., 1999.
    """
    least = min(float(fit.residuals @ fit.residuals) for fit in fits.values())
    weights, found = [], []
    for name, fit in fits.items():
        ratio = (least + 1e-18) / (float(fit.residuals @ fit.residuals) + 1e-18)
        weights.append((HYPERBOLA_PRIOR if name == HYPERBOLA else 1.0) * ratio ** (count / 2))
        found.append(fit.estimate(index))
    shares = np.array(weights) / sum(weights)
    values, standards = (np.array([getattr(entry, key) for entry in found]) for key in ("value", "standard"))
    mean = float(shares @ values)
    return Estimate(mean, math.sqrt(float(shares @ (standards**2 + (values - mean) ** 2))))


@dataclass(frozen=True)
class _Fit:
    parameters: Floats
    weights: Floats
    covariance: Floats
    residuals: Floats
    hat: Floats
    jacobian: Floats
    scatter: float
    widened: float

    def estimate(self, index: int) -> Estimate:
        return Estimate(float(self.parameters[index]), self.widened * math.sqrt(max(self.covariance[index, index], 0)))


def _hyperbola(parameters: Any, at: Any) -> Any:
    best, sharpest, slope = parameters[:3]
    return np.hypot(sharpest, slope * (at - best))


def _slope(model: Model, parameters: Any, at: Any, index: int) -> Any:
    step = 1e-4 * max(abs(parameters[index]), 1e-12) if index else 1e-3 * max(float(np.ptp(at)), 1e-9)
    up, down = list(parameters), list(parameters)
    up[index] += step
    down[index] -= step
    return (model(up, at) - model(down, at)) / (2 * step)


def _arrays(points: Sequence[FocusPoint]) -> tuple[Floats, Floats]:
    """Return position and size of the points that count."""
    used = [point for point in points if point.used]
    return np.array([point.position for point in used], float), np.array([point.hfd_px for point in used], float)


def _weights(points: Sequence[FocusPoint], expected: Any, power: float) -> Any:
    """Return one over the scatter in px that points usually have, by the sizes expected of all of them."""
    usual = SCATTER_SHARE * float(np.min(expected)) * (expected / float(np.min(expected))) ** power
    return 1 / np.hypot(usual, np.array([point.standard_px for point in points]))


def _fitted(model: Model, points: Sequence[FocusPoint], start: Any, weights: Any, *, robust: bool = False) -> _Fit:
    """Fit a model of best position, sharpest size and growths in px/step; there is a weight for every point."""
    from scipy.optimize import least_squares

    at, size = _arrays(points)
    weight = weights[[point.used for point in points]]
    span = max(float(np.ptp(at)), 1e-9)
    units = np.array([span, *(abs(value) for value in start[1:])])

    def parameters_of(x: Floats) -> Floats:
        # Sizes and growths are above zero, whatever the search tries.
        return np.concatenate([[start[0] + span * x[0]], units[1:] * np.exp(np.clip(x[1:], -20, 20))])

    def residuals(x: Any) -> Any:
        return (size - model(parameters_of(x), at)) * weight

    found = parameters_of(least_squares(residuals, np.zeros(len(start)), loss="soft_l1" if robust else "linear").x)
    slopes = [-weight * _slope(model, found, at, k) for k in range(len(found))]
    jacobian = np.stack(slopes, axis=-1)
    left = (size - model(found, at)) * weight
    inverse = np.linalg.pinv(jacobian.T @ jacobian)
    hat = jacobian @ inverse @ jacobian.T
    free = max(len(at) - len(start) - (len(at) >= MIN_WEIGHED), 1)
    scatter = math.sqrt(float(left @ left) / free)
    covariance = inverse * scatter**2 * hc3_growth(jacobian, inverse, left, scatter**2, least_own=MIN_OWN)
    return _Fit(found, weights, covariance, left, hat, jacobian, scatter, student_factor(free))


def _start(points: Sequence[FocusPoint]) -> Floats:
    """Return where the search begins: the best of some hyperbolas, by the sum of absolute residuals of the roots."""
    at, size = _arrays(points)
    ends = np.argsort(at)
    best_sum, best = math.inf, np.array([at[ends[0]], size.min(), 1e-6])
    reach = np.maximum(np.abs(at[:, None] - at[None, :]), 1e-12)
    for place in np.unique(at):
        away = np.abs(at - place)
        sharpest = float(np.quantile(size, 0.15))
        rising = away > 0
        slopes = np.sqrt(np.maximum(size[rising] ** 2 - sharpest**2, 0.0)) / away[rising]
        slope = max(float(np.median(slopes)) if rising.any() else 0.0, 1e-3 * sharpest / float(reach.max()))
        off = float(np.abs(np.sqrt(size) - np.sqrt(np.hypot(sharpest, slope * (at - place)))).sum())
        if off < best_sum:
            best_sum, best = off, np.array([place, sharpest, slope])
    return best


def _without_outliers(
    points: list[FocusPoint], models: dict[str, Model], kept: frozenset[str]
) -> tuple[list[FocusPoint], _Fit]:
    """Leave out points that lie farther off than chance allows, one or two at a time, while enough are left."""
    model, fit = _best_fit(points, models)
    count = sum(point.used for point in points)
    most, left_out = int(MAX_OUTLIER_SHARE * count), 0
    while left_out < most and count - left_out > MIN_POINTS:
        places = [index for index, point in enumerate(points) if point.used]
        free = [k for k, index in enumerate(places) if points[index].file not in kept]
        outlier = _worst_outliers(fit, free, min(2, most - left_out, count - left_out - MIN_POINTS))
        if not outlier:
            break
        trial = list(points)
        for k in outlier:
            trial[places[k]] = points[places[k]].without("wild")
        model, fit = _best_fit(trial, models)
        for k in outlier:
            trial[places[k]] = points[places[k]].without(_why_outlier(points[places[k]], model, fit))
        points = trial
        left_out += len(outlier)
    return points, fit


def _best_fit(points: Sequence[FocusPoint], models: dict[str, Model]) -> tuple[Model, _Fit]:
    """Return the model that the points lie closest to, a wild one among them not counted for much."""
    start, at = _start(points), np.array([point.position for point in points])
    weights = _weights(points, _hyperbola(start, at), SCATTER_POWERS[0])
    robust = {name: _fitted(model, points, start, weights, robust=True) for name, model in models.items()}
    name = min(robust, key=lambda key: float(np.abs(robust[key].residuals).sum()))
    model, found = models[name], robust[name].parameters
    tried = [
        _fitted(model, points, found, _weights(points, model(found, at), power), robust=True)
        for power in SCATTER_POWERS[: None if sum(point.used for point in points) >= MIN_WEIGHED else 1]
    ]
    likely = max(tried, key=lambda fit: _likelihood(points, fit))
    return model, _fitted(model, points, likely.parameters, likely.weights)


def _likelihood(points: Sequence[FocusPoint], fit: _Fit) -> float:
    """Return how likely the points are, as a logarithm, where they scatter by Laplace's distribution."""
    weight = fit.weights[[point.used for point in points]]
    return float(np.log(weight).sum() - len(weight) * math.log(float(np.abs(fit.residuals).mean()) + 1e-12))


def _why_outlier(point: FocusPoint, model: Model, fit: _Fit) -> str:
    """Return why a point is wild: what it has against what the others' curve has."""
    assert point.hfd_px is not None
    expected = float(model(fit.parameters, np.array([point.position]))[0])
    usual = SCATTER_SHARE * fit.scatter * expected
    off = abs(point.hfd_px - expected) / max(usual, 1e-12)
    return (
        f"{number(point.hfd_px, 2)} px where the curve has {number(expected, 2)} px: "
        f"{short(min(off, 999.0), 0)} times the scatter of the others"
    )


def _worst_outliers(fit: _Fit, free: list[int], most: int) -> tuple[int, ...]:
    """Return the point, or the two, without which the rest agrees best, where chance would not do that."""
    from scipy.special import fdtrc

    total, count = float(fit.residuals @ fit.residuals), len(fit.residuals)
    groups: list[tuple[int, ...]] = [(k,) for k in free]
    if most > 1 and len(free) <= MAX_PAIRED:
        groups += combinations(free, 2)
    best: tuple[int, ...] = ()
    chance_of_best = OUTLIER_CHANCE
    singles, pairs = len(free), max(len(groups) - len(free), 1)
    for group in groups:
        rest = count - fit.jacobian.shape[1] - len(group)
        if rest < 1:
            continue
        own = fit.residuals[list(group)]
        leverage = np.eye(len(group)) - fit.hat[np.ix_(group, group)]
        gained = float(own @ np.linalg.pinv(leverage) @ own)
        ratio = (gained / len(group)) / max((total - gained) / rest, 1e-300)
        tries = singles if len(group) == 1 else pairs
        chance = float(fdtrc(len(group), rest, ratio)) * tries
        # Two are taken only where one does not explain it.
        if chance < chance_of_best * (1 if len(group) == 1 or not best else 1e-3):
            best, chance_of_best = group, chance
    return best


def _why_none(points: Sequence[FocusPoint]) -> str:
    """Return why points cannot make a curve at all; empty where they can."""
    used = [point for point in points if point.used]
    if len(used) < MIN_POINTS:
        return f"it has {counted(len(used), 'usable point')}, and a curve needs {MIN_POINTS}"
    if len({point.position for point in used}) < MIN_POSITIONS:
        return (
            f"its points are at {len({point.position for point in used})} positions, and a curve needs {MIN_POSITIONS}"
        )
    return ""


def _why_no_curve(points: Sequence[FocusPoint], fit: _Fit) -> tuple[str, bool]:
    """Return why a run's fit tells no best position (one side, no rise, too much scatter), and whether it is flat."""
    at, size = _arrays(points)
    best = float(fit.parameters[0])
    for side, more in ((at < best, "further in"), (at > best, "further out")):
        # One point beyond focus will do where it shows that the stars grow again.
        if side.sum() < 2 and not (side.any() and float(size[side].max()) > MIN_RISE * float(fit.parameters[1])):
            return f"one-sided: too few points lie {more} than the best position; go on {more}", False
    if float(np.sort(size)[-2]) < MIN_RISE * float(size.min()):
        sizes = [number(float(own), 2) for own in (size.min(), size.max())]
        return f"flat: star sizes go from {sizes[0]} to {sizes[1]} px; take larger steps", True
    if fit.estimate(0).standard > MAX_STANDARD_SHARE * float(np.ptp(at)):
        return "its points scatter too much for a best position", False
    return "", False


def _symmetry(points: Sequence[FocusPoint], fit: _Fit) -> Estimate | None:
    """Return the slope outside focus over that inside."""

    def model(parameters: Any, at: Any) -> Any:
        best, sharpest, inner, outer = parameters
        return np.hypot(sharpest, np.where(at < best, inner, outer) * (at - best))

    at, _ = _arrays(points)
    if len(at) < MIN_POINTS + 1:
        return None
    two = _fitted(model, points, np.array([*fit.parameters, fit.parameters[2]]), fit.weights)
    inner, outer = (float(two.parameters[k]) for k in (2, 3))
    slopes = np.array([-outer / inner**2, 1 / inner])
    spread = float(slopes @ two.covariance[2:4, 2:4] @ slopes)
    return Estimate(outer / inner, two.widened * math.sqrt(max(spread, 0.0)))


def _far_branch(points: Sequence[FocusPoint], fit: _Fit) -> FarBranch | None:
    """Return the straight lines through the points far out on both sides; None without three on each."""
    at, size = _arrays(points)
    far = size >= FAR * fit.parameters[1]
    sides = [far & (at < fit.parameters[0]), far & (at > fit.parameters[0])]
    if any(len(set(at[side])) < MIN_BRANCH for side in sides):
        return None
    lines = []
    for side in sides:
        off = at[side] - fit.parameters[0]
        line = weighted_fit(np.stack([off, np.ones_like(off)], axis=1), size[side])
        lines.append((*line.parameters, line.covariance, student_factor(line.free)))
    (s1, l1, c1, w1), (s2, l2, c2, w2) = lines
    meet = (l1 - l2) / (s2 - s1)
    one = np.array([meet, 1.0]) / (s2 - s1)
    spread = w1**2 * one @ c1 @ one + w2**2 * one @ c2 @ one
    return FarBranch(
        Estimate(abs(float(s1)), w1 * math.sqrt(c1[0, 0])),
        Estimate(abs(float(s2)), w2 * math.sqrt(c2[0, 0])),
        Estimate(float(fit.parameters[0] + meet), math.sqrt(float(spread))),
    )

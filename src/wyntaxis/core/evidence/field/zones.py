"""Best focus zone by zone: focus curves of many zones fitted at once, what the seeing did to whole frames taken out."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.evidence.field.sweep import FieldSweep
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.fitting import NORMAL_MAD, student_factor
from wyntaxis.core.optics.blurred_disc import PROFILES, annulus_hfd_share, blurred_annulus_hfd

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats

MIN_POSITIONS = 5
STARS_TO_A_ZONE = 6
MAX_ZONES = 60
MIN_ZONES = 6
"""Plane, bowl and height are four numbers; fewer zones leave nothing to tell their scatter by."""
EACH_BELOW = 54
"""With fewer stars each is a zone of its own."""
MIN_RISE = 1.15
"""A zone whose largest stars are not this many times its sharpest has no curve to fit."""
ROUNDS = 40
ENOUGH = 1e-6
"""A round that makes the residuals smaller by less than this share is the last."""
USUAL_SEEING = 0.1
"""By how much the seeing of a frame may be off, as a share: a weak belief."""
HUBER = 1.5
USUAL_SCATTER = 0.02
"""How far a usual star's size is off, as a share; only its ratio to a zone's own standard error counts."""
MAX_STANDARD_SHARE = 0.5

Growth = Callable[[Any], Any]


@dataclass(frozen=True)
class Zone:
    """A part of the field: the mean place of its stars in px, how many, their sizes by frame, and its best position.

    ``radius2`` is the stars' mean squared distance from the frame's middle, in px². ``why`` tells why it does not
    count, empty where it does.
    """

    x: float
    y: float
    radius2: float
    stars: int
    sizes: tuple[float, ...]
    best_position: Estimate | None = None
    why: str = ""


@dataclass(frozen=True)
class ZonedSweep:
    """A sweep by zones, and by what factor each frame's seeing made all its stars larger.

    ``shared``, (zones, frames) in steps, is what the frames' factors leave uncertain of the best positions together:
    their covariance is ``shared @ shared.T`` beside each zone's own.
    """

    zones: tuple[Zone, ...]
    seeing: tuple[float, ...]
    sharpest_px: float | None = None
    shared: Floats | None = None


def zoned(sweep: FieldSweep, obstruction: float = 0.0) -> ZonedSweep:
    """Return the zones of a sweep with their best positions.

    Parameters
    ----------
    sweep
        Stars followed through a sweep.
    obstruction
        Central obstruction of the telescope, as a share of the aperture.

    Returns
    -------
    ZonedSweep
        As many zones as there are stars for; positions in steps.
    """
    places, sizes, errors = _sizes_by_zone(sweep)
    if not places:
        return ZonedSweep((), ())
    joint = len(places) >= MIN_ZONES
    fits = [_fitted(model, sweep.positions, sizes, errors, joint=joint) for model in _models(obstruction)]
    fit = min(fits, key=lambda entry: entry.cost)
    zones = [_zone(place, sizes[:, k], fit, k, sweep.positions) for k, place in enumerate(places)]
    good = np.isfinite(fit.sharpest)
    sharpest = float(np.median(fit.sharpest[good])) if good.any() else None
    return ZonedSweep(tuple(zones), tuple(float(value) for value in fit.seeing), sharpest, fit.shared)


@dataclass(frozen=True)
class _Fits:
    """Curves of many zones: best position and its own standard error in steps, sharpest size in px; the frames' factors
    by seeing, and what they leave uncertain together.
    """

    best: Floats
    standard: Floats
    sharpest: Floats
    seeing: Floats
    shared: Floats
    cost: float


def _zone(place: tuple[float, float, float, int], sizes: Floats, fit: _Fits, k: int, positions: Floats) -> Zone:
    entries = tuple(float(value) for value in sizes)
    best, standard = float(fit.best[k]), float(fit.standard[k])
    span = float(np.ptp(positions))
    usable = sizes[np.isfinite(sizes)]
    if len(usable) < MIN_POSITIONS:
        return Zone(*place, entries, why=f"stars at {len(usable)} positions; it takes {MIN_POSITIONS}")
    if usable.max() < MIN_RISE * usable.min():
        return Zone(*place, entries, why="flat: its stars are as large at every position")
    if not math.isfinite(best) or not math.isfinite(standard) or standard > MAX_STANDARD_SHARE * span:
        return Zone(*place, entries, why="its sizes make no curve")
    if not positions.min() <= best <= positions.max():
        return Zone(*place, entries, why="its best focus lies outside the sweep")
    return Zone(*place, entries, Estimate(best, standard))


def _sizes_by_zone(sweep: FieldSweep) -> tuple[list[tuple[float, float, float, int]], Any, Any]:
    """Return the zones' places, and the mean sizes of their stars by frame with their standard errors, in px."""
    enough = np.isfinite(sweep.hfd).sum(axis=0) >= MIN_POSITIONS
    x, y, hfd = sweep.x[enough], sweep.y[enough], sweep.hfd[:, enough]
    if not len(x):
        return [], np.zeros((0, 0)), np.zeros((0, 0))
    label = _labels(x, y, sweep.size_px)
    places, sizes, errors = [], [], []
    middle_x, middle_y = ((side - 1) / 2 for side in sweep.size_px)
    for zone in np.unique(label):
        own = label == zone
        mean, error = _clipped_means(hfd[:, own])
        radius2 = float(np.mean((x[own] - middle_x) ** 2 + (y[own] - middle_y) ** 2))
        places.append((float(x[own].mean()), float(y[own].mean()), radius2, int(own.sum())))
        sizes.append(mean)
        errors.append(error)
    return places, np.stack(sizes, axis=1), np.stack(errors, axis=1)


def _labels(x: Any, y: Any, size: tuple[int, int]) -> Any:
    """Return in which zone each star lies: of a grid that holds enough stars, or each in its own."""
    count = len(x)
    if count < EACH_BELOW:
        return np.arange(count)
    wanted = min(MAX_ZONES, count / STARS_TO_A_ZONE)
    across = max(3, round(math.sqrt(wanted * size[0] / size[1])))
    down = max(2, round(wanted / across))
    column = np.clip((x / size[0] * across).astype(int), 0, across - 1)
    row = np.clip((y / size[1] * down).astype(int), 0, down - 1)
    return row * across + column


def _clipped_means(hfd: Floats) -> tuple[Floats, Floats]:
    """Return by frame the mean size of stars, those that lie far off left out, and its standard error; NaN for none."""
    count = np.isfinite(hfd).sum(axis=1)
    with np.errstate(all="ignore"):
        middle = np.where(count > 0, _nanmedian(hfd), np.nan)
        scatter = np.maximum(NORMAL_MAD * _nanmedian(np.abs(hfd - middle[:, None])), 0.005 * middle)
        kept = np.where(np.abs(hfd - middle[:, None]) <= 3 * scatter[:, None], hfd, np.nan)
        left = np.isfinite(kept).sum(axis=1)
        mean = np.where(left > 0, np.nansum(kept, axis=1) / np.maximum(left, 1), np.nan)
        error = np.where(left > 1, scatter / np.sqrt(np.maximum(left, 1)), USUAL_SCATTER * mean)
    return mean, error


def _nanmedian(values: Floats) -> Floats:
    """Return the median of each row over what is known, NaN for a row of nothing."""
    known = np.isfinite(values)
    filled = np.where(known, values, np.inf)
    ordered = np.sort(filled, axis=1)
    count = known.sum(axis=1)
    rows = np.arange(len(values))
    low, high = np.maximum((count - 1) // 2, 0), np.maximum(count // 2, 0)
    high = np.minimum(high, values.shape[1] - 1)
    found = (ordered[rows, low] + ordered[rows, high]) / 2
    return np.where(count > 0, found, np.nan)


def _models(obstruction: float) -> list[Growth]:
    """Return how a star's size in sharpest ones grows with the distance in sharpest ones, of slope 1 far out."""
    share = annulus_hfd_share(obstruction)
    annuli = [lambda off, p=profile: blurred_annulus_hfd(off / share, obstruction, p) for profile in PROFILES]
    return [lambda off: np.hypot(1.0, off), *annuli]


def _fitted(growth: Growth, positions: Floats, sizes: Floats, errors: Floats, *, joint: bool) -> _Fits:
    """Fit best position, sharpest size and slope of every zone at once and, with ``joint``, a factor for every frame.

    Gauss-Newton with Huber's weights and damping; the zones' three unknowns are eliminated for the frames' factors
    (Schur's complement), which are as large as they turn out to scatter.
    """
    known = np.isfinite(sizes)
    middle, span = float(positions.mean()), max(float(np.ptp(positions)), 1e-9)
    at = (positions[:, None] - middle) / span
    filled = np.where(known, sizes, 1.0)
    weight = np.where(known, 1 / np.hypot(errors, USUAL_SCATTER * filled), 0.0)
    weight = np.where(np.isfinite(weight), weight, 0.0)
    state = _State(_start(at, filled, weight), np.zeros(len(positions)))
    damping, prior = 1e-3, 1 / USUAL_SEEING**2 if joint else math.inf
    system = _system(growth, at, filled, weight, state, prior)
    for _ in range(ROUNDS):
        tried = _stepped(system, state, damping)
        after = _system(growth, at, filled, weight, tried, prior)
        if after.cost > system.cost:
            damping *= 8
            continue
        done = system.cost - after.cost < ENOUGH * system.cost
        state, system, damping = tried, after, max(damping / 5, 1e-9)
        if done:
            break
    free = np.maximum(known.sum(axis=0) - 3, 1)
    scatter = np.sqrt((system.robust * system.left**2).sum(axis=0) / free)
    widened = np.array([student_factor(int(count)) for count in free])
    own = np.sqrt(np.maximum(system.inverse[:, 0, 0], 0.0)) * scatter * widened
    shared = np.zeros((len(free), len(positions)))
    if joint:
        # How the best positions follow the factors, times the root of the factors' covariance.
        follow = -np.einsum("zi,zif->zf", system.inverse[:, 0], system.mixed)
        usual = max(float(np.sqrt(np.mean(scatter**2))), 1e-6)
        values, vectors = np.linalg.eigh(system.schur / usual**2)
        shared = span * follow @ (vectors / np.sqrt(np.maximum(values, 1e-12)))
    best, sharpest = middle + span * state.curves[0], np.exp(state.curves[1])
    return _Fits(best, span * own, sharpest, np.exp(state.seeing), shared, system.cost)


@dataclass(frozen=True)
class _State:
    """Unknowns: (3, zones) best position, log of the sharpest size, log of the slope; (frames,) log of the factors."""

    curves: Floats
    seeing: Floats


@dataclass(frozen=True)
class _System:
    """The normal equations at a state; residuals, in usual errors, and robust weights are (frames, zones)."""

    left: Floats
    robust: Floats
    normal: Floats
    pull: Floats
    inverse: Floats
    mixed: Floats
    schur: Floats
    seeing_pull: Floats
    cost: float


def _system(growth: Growth, at: Any, sizes: Any, weight: Any, state: _State, prior: float) -> _System:
    def model(p: Any, seeing: Any) -> Any:
        # The seeing widens the sharpest image alone: a disc far out hardly changes.
        sharpest = np.exp(p[1] + seeing[:, None])
        return sharpest * growth(np.exp(p[2]) * np.abs(at - p[0]) / sharpest)

    made = model(state.curves, state.seeing)
    left = (sizes - made) * weight
    robust = np.minimum(1.0, HUBER / np.maximum(np.abs(left), 1e-12)) * (weight > 0)
    root = weight * np.sqrt(robust)
    jacobian = np.zeros((*sizes.shape, 3))
    for k in range(3):
        moved = state.curves.copy()
        moved[k] += 1e-4
        jacobian[..., k] = (model(moved, state.seeing) - made) / 1e-4 * root
    normal = np.einsum("fzi,fzj->zij", jacobian, jacobian)
    pull = np.einsum("fzi,fz->zi", jacobian, left * np.sqrt(robust))
    inverse = np.linalg.pinv(normal + 1e-9 * np.eye(3))
    count = len(at)
    mixed, schur, seeing_pull = np.zeros((sizes.shape[1], 3, count)), np.eye(count), np.zeros(count)
    cost = float(_huber_cost(left).sum())
    if math.isfinite(prior):
        by_seeing = (model(state.curves, state.seeing + 1e-4) - made) / 1e-4 * root
        mixed = np.einsum("fzi,fz->zif", jacobian, by_seeing)
        frames = np.diag((by_seeing**2).sum(axis=1) + prior)
        schur = frames - np.einsum("zif,zij,zjg->fg", mixed, inverse, mixed)
        seeing_pull = (by_seeing * left * np.sqrt(robust)).sum(axis=1) - prior * state.seeing
        cost += prior * float((state.seeing**2).sum())
    return _System(left, robust, normal, pull, inverse, mixed, schur, seeing_pull, cost)


def _stepped(system: _System, state: _State, damping: float) -> _State:
    """Return the state after one damped step."""
    diagonal = np.einsum("zii->zi", system.normal)
    damped = system.normal + np.einsum("zi,ij->zij", damping * diagonal + 1e-9, np.eye(3))
    inverse = np.linalg.inv(damped)
    own = np.einsum("zij,zj->zi", inverse, system.pull)
    schur = system.schur + damping * np.diag(np.diag(system.schur)) + 1e-9 * np.eye(len(state.seeing))
    seeing = np.linalg.solve(schur, system.seeing_pull - np.einsum("zif,zi->f", system.mixed, own))
    seeing = np.clip(seeing, -0.3, 0.3)
    curves = own - np.einsum("zij,zjf,f->zi", inverse, system.mixed, seeing)
    return _State(state.curves + np.clip(curves.T, -0.5, 0.5), state.seeing + seeing)


def _huber_cost(left: Floats) -> Floats:
    size = np.abs(left)
    return np.where(size <= HUBER, size**2, 2 * HUBER * size - HUBER**2)


def _start(at: Floats, sizes: Floats, weight: Floats) -> Floats:
    """Return where the search begins: the parabola that the squares of the sizes make."""
    design = np.stack([np.ones_like(sizes), np.broadcast_to(at, sizes.shape), np.broadcast_to(at**2, sizes.shape)], -1)
    own = (weight / (2 * sizes))[..., None] * design
    normal = np.einsum("fzi,fzj->zij", own, own) + 1e-12 * np.eye(3)
    pull = np.einsum("fzi,fz->zi", own, weight / (2 * sizes) * sizes**2)
    base, slope, bend = np.linalg.solve(normal, pull[..., None])[..., 0].T
    smallest = np.where(weight > 0, sizes, np.inf).min(axis=0)
    smallest = np.where(np.isfinite(smallest), smallest, 1.0)
    lowest = at[np.argmin(np.where(weight > 0, sizes, np.inf), axis=0), 0]
    bends = bend > 1e-9
    best = np.where(bends, np.clip(-slope / (2 * np.where(bends, bend, 1.0)), -0.7, 0.7), lowest)
    least = base - slope**2 / (4 * np.where(bends, bend, 1.0))
    sharpest = np.sqrt(np.clip(np.where(bends, least, 0.0), (0.7 * smallest) ** 2, smallest**2))
    return np.stack([best, np.log(sharpest), 0.5 * np.log(np.maximum(bend, 1e-6))])

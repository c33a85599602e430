"""What a guided run's errors come to: scatter about the running line, drift, period, and how eager corrections are."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.evidence.guide_log.corrections import likely_slacks, moved_before, signed_steps, with_backlash
from wyntaxis.core.evidence.guide_log.periods import MIN_TURNS, PeriodicError
from wyntaxis.core.evidence.guide_log.run import GuideRun
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.fitting import huber_weights, student_factor, weighted_fit, without_group_means

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Flags, Floats, Ints

WINDOW_S = 1200.0
"""The running line that scatter is told about is fitted to so much of a run: longer than a worm turns, shorter than a
night drifts."""
MIN_BATCHES, MAX_BATCHES = 6, 24
DRIFT_BINS = 60
WANDERING = 1.2
"""Batches and bins of one run are a little more alike than runs are: what their scatter is widened by."""
OWN_DRIFT_SCATTERS = 2.0
"""An error that goes by more than so many scatters is not guided out: then its own drift is told."""
PERIODS_TRIED, SURE_TURN = 240, 15.0
"""So many periods are tried; one counts where it explains so many times what the rest of the fit leaves."""
ROBUST_TURNS = 8


def about_running_line(
    time: Floats, values: Floats, stretch: Ints, window_s: float = WINDOW_S
) -> tuple[Floats, Floats]:
    """Return values less the line fitted to what lies around each, and how much of each value its own line took.

    Parameters
    ----------
    time, values, stretch
        In s; the values; the number of the stretch of each; (n,) each, times rising within a stretch.
    window_s
        How much the line is fitted to, whole.

    Returns
    -------
    rest, share
        (n,) each; the share is what the line's fit takes of a value's own variance.
    """
    rest, share = np.zeros(len(values)), np.zeros(len(values))
    for number in np.unique(stretch):
        own = np.flatnonzero(stretch == number)
        t, v = time[own] - time[own[0]], values[own]
        low = np.searchsorted(t, t - window_s / 2, "left")
        high = np.searchsorted(t, t + window_s / 2, "right")
        count = (high - low).astype(float)
        sums = [_between(np.cumsum(np.concatenate([[0.0], term])), low, high) for term in (t, v, t * t, t * v)]
        mean_t, mean_v = sums[0] / count, sums[1] / count
        spread = np.maximum(sums[2] - count * mean_t**2, 0.0)
        together = sums[3] - count * mean_t * mean_v
        steep = spread > 1e-9 * np.maximum(sums[2], 1e-12)
        slope = np.where(steep, together / np.where(steep, spread, 1.0), 0.0)
        rest[own] = v - mean_v - slope * (t - mean_t)
        share[own] = np.minimum(1 / count + np.where(steep, (t - mean_t) ** 2 / np.where(steep, spread, 1.0), 0.0), 1.0)
    return rest, share


def _between(running: Floats, low: Ints, high: Ints) -> Floats:
    return running[high] - running[low]


def scatter_of(rest: Floats, share: Floats) -> Estimate | None:
    """Return the RMS of what is left about a running line, with what the line took given back.

    Parameters
    ----------
    rest, share
        As :func:`about_running_line` gives them.

    Returns
    -------
    Estimate or None
        In the unit of ``rest``; its uncertainty by the scatter of batches that follow each other, since what follows
        soon is alike. None for fewer than three values.
    """
    free = float(len(rest) - share.sum())
    if len(rest) < 3 or free < 1:
        return None
    squares = rest**2
    mean = float(squares.sum()) / free
    if mean <= 0:
        return Estimate(0.0, 0.0)
    batches = int(np.clip(len(rest) // 12, 1, MAX_BATCHES))
    if batches < MIN_BATCHES:
        return Estimate(math.sqrt(mean), math.sqrt(mean / (2 * free)))
    means = np.array([part.mean() for part in np.array_split(squares, batches)])
    standard = float(means.std(ddof=1)) / math.sqrt(batches) * student_factor(batches - 1)
    least = mean * math.sqrt(2 / free)
    return Estimate(math.sqrt(mean), WANDERING * max(standard, least) / (2 * math.sqrt(mean)))


def lag_one_autocorrelation(rest: Floats, stretch: Ints) -> Estimate | None:
    """Return the autocorrelation of errors one frame apart: below zero corrections overshoot, near one they lag.

    Parameters
    ----------
    rest, stretch
        Errors about their running line, and the stretch of each.

    Returns
    -------
    Estimate or None
        Between −1 and 1; its standard uncertainty by Bartlett's formula for a process of that order, or by batches of
        the run where they differ by more. None for fewer than 20.
    """
    if len(rest) < 20:
        return None
    near = stretch[1:] == stretch[:-1]
    whole = float(np.mean(rest**2))
    if whole <= 0 or not near.any():
        return None
    autocorrelation = float(np.mean((rest[1:] * rest[:-1])[near])) / whole
    standard = math.sqrt(max(1 - autocorrelation**2, 0.01) / len(rest))
    batches = min(len(rest) // 40, MAX_BATCHES)
    if batches >= MIN_BATCHES:
        parts = np.array_split(rest, batches)
        entries = np.array([float(np.mean(own[1:] * own[:-1])) / max(float(np.mean(own**2)), 1e-30) for own in parts])
        standard = max(standard, float(entries.std(ddof=1)) / math.sqrt(batches) * student_factor(batches - 1))
    return Estimate(autocorrelation, standard)


@dataclass(frozen=True)
class Drift:
    """How fast the star went in arcsec/min, with corrections where ``guided``; ``own`` is the errors' own.

    ``is_free`` says whether the rate is that of a star which nothing holds: corrections are counted back in, or it
    visibly ran away. Else the log does not say what was corrected, and the rate says nothing of the mount.
    """

    rate: Estimate
    guided: bool
    own: Estimate
    is_free: bool = True


def drift_of(
    run: GuideRun,
    values: Floats,
    moved: Floats | None,
    used: Flags,
    periodic: PeriodicError | None,
    *,
    play: bool = False,
) -> Drift | None:
    """Return how fast the star went on one axis: by its errors, or by these and what was corrected.

    Parameters
    ----------
    run
        The run.
    values, moved
        Errors in arcsec, and what was corrected after each frame, or None; (n,) each.
    used
        Which frames count, (n,).
    turning
        What turns on that axis, which a line must not be taken for.
    play
        Whether the axis has backlash, which corrections that turn round are lost in.

    Returns
    -------
    Drift or None
        By robust least squares with an offset for each stretch; None for too few frames. A star that is held still
        drifts all the same: what was corrected is counted back in, where the errors themselves stay in place. The
        uncertainty holds that of the backlash that was found.
    """
    time, stretch = run.time_s[used], run.stretch[used]
    if len(time) < 8 or float(np.ptp(time)) <= 0:
        return None
    period = periodic.period_s.value if periodic is not None else None
    own = _line(time, values[used], stretch, period)
    if own is None:
        return None
    rest, share = about_running_line(time, values[used], stretch)
    scatter = scatter_of(rest, share)
    long = float(np.ptp(time)) / 60
    goes = abs(own.value) * long > OWN_DRIFT_SCATTERS * (scatter.value if scatter is not None else 0.0)
    if moved is None or goes:
        return Drift(own, guided=False, own=own, is_free=goes or run.facts.unguided)
    # A dither moves the lock: what brings the star there is no drift.
    parts = stretch + np.searchsorted(np.array(run.dithers), np.flatnonzero(used), "right") if run.dithers else stretch
    steps = signed_steps(values, moved, run.stretch)
    whole = run.stretch + np.searchsorted(np.array(run.dithers, dtype=int), np.arange(len(run.time_s)), "right")
    slacks = likely_slacks(run.time_s, values, steps, whole) if play else (0.0,)
    entries = [
        _line(time, (values + moved_before(with_backlash(steps, slack)))[used], parts, period, turns=not play)
        for slack in slacks
    ]
    rates = [one for one in entries if one is not None]
    if entries[0] is None:
        return Drift(own, guided=False, own=own, is_free=False)
    # The backlash is known between the least and the greatest that make the star go about as smoothly.
    apart = max(abs(one.value - entries[0].value) for one in rates)
    rate = Estimate(entries[0].value, math.hypot(entries[0].standard, apart))
    return Drift(rate, guided=True, own=own)


def _line(
    time: Floats, values: Floats, stretch: Ints, period_s: float | None, *, turns: bool = False
) -> Estimate | None:
    """Return the slope in arcsec/min of values with an offset for each stretch, and a turn beside it.

    The turn is of the period that is given; else, where the axis ``turns``, of that which is seen, if one is. Offsets
    are taken out by the weighted means of their stretches, which gives the same slope as a column for each would
    (Frisch and Waugh), however many there are.
    """
    good = np.isfinite(values)
    time, values, stretch = time[good], values[good], stretch[good]
    if len(time) < 8:
        return None
    bins = _bins(time, stretch)
    weight = np.bincount(bins).astype(float)
    t, v, s = (np.bincount(bins, array) / weight for array in (time, values, stretch))
    _, group = np.unique(np.rint(s), return_inverse=True)
    offsets = int(group.max()) + 1
    columns = [(t - t.mean()) / 60]
    if turns and len(t) > offsets + 9:
        period_s = _seen_period(t, v, weight, columns, group) or period_s
    if period_s is not None and len(t) > offsets + 5:
        phase = 2 * math.pi * t / period_s
        columns += [np.cos(phase), np.sin(phase)]
    known = offsets + len(columns)
    if len(t) <= known + 1:
        return None
    factor = np.ones(len(t))
    for _ in range(ROBUST_TURNS):
        # The offsets' means change with the weights, so each round centres the columns again.
        own = weight * factor
        design = np.column_stack([without_group_means(column, own, group) for column in columns])
        fit = weighted_fit(design, without_group_means(v, own, group), own)
        left = fit.residuals * np.sqrt(weight)
        factor = huber_weights(left, turn=2.0)
    free = len(t) - known
    spread = float((factor * left**2).sum()) / free
    covariance = np.linalg.pinv(design.T @ (design * (weight * factor)[:, None])) * spread
    after = float((left[1:] @ left[:-1]) / max(left @ left, 1e-30))
    # What is left of neighbours is alike where the mount wanders: then there are fewer that count.
    autocorrelation = math.sqrt((1 + max(after, 0.0)) / (1 - min(max(after, 0.0), 0.9)))
    standard = math.sqrt(max(float(covariance[0, 0]), 0.0)) * autocorrelation * student_factor(free)
    return Estimate(float(fit.parameters[0]), WANDERING * standard)


def _seen_period(time: Floats, values: Floats, weight: Floats, columns: list[Any], group: Ints) -> float | None:
    """Return the period in s that explains most of what a line and offsets leave; None where none explains enough."""
    root, long = np.sqrt(weight), float(np.ptp(time))
    target = without_group_means(values, weight, group) * root
    fixed = [without_group_means(column, weight, group) * root for column in columns]

    def left(more: list[Any]) -> float:
        design = np.column_stack([*fixed, *(without_group_means(column, weight, group) * root for column in more)])
        rest = weighted_fit(design, target).residuals
        return float(rest @ rest)

    shortest, longest = 4 * long / len(time), long / MIN_TURNS
    periods = 1 / np.linspace(1 / longest, 1 / shortest, PERIODS_TRIED)
    phases = [2 * math.pi * time / period for period in periods]
    rests = [left([np.cos(phase), np.sin(phase)]) for phase in phases]
    best, free = int(np.argmin(rests)), len(time) - len(columns) - int(group.max()) - 4
    explained = (left([]) - rests[best]) / 3 / max(rests[best] / max(free, 1), 1e-30)
    return float(periods[best]) if free > 3 and explained > SURE_TURN else None


def _bins(time: Floats, stretch: Ints) -> Ints:
    """Return the number of the bin of each value: some sixty over the run, none over two stretches."""
    width = max(float(np.ptp(time)) / DRIFT_BINS, 1e-9)
    numbers = np.minimum(((time - time[0]) / width).astype(np.int64), DRIFT_BINS - 1)
    # Rows are in the order of time: a bin ends where the number or the stretch is another.
    ends = (np.diff(numbers) != 0) | (np.diff(stretch) != 0)
    return np.concatenate([[0], np.cumsum(ends)])

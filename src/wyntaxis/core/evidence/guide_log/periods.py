"""What turns in a guided run's errors: the periodogram, and the period that stands out of it."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.fitting import weighted_fit

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats

MIN_TURNS = 1.5
"""A period must have been seen this often."""
SHORTEST_INTERVALS, SHORTEST_S = 6.0, 20.0
"""Nothing that a mount turns is quicker; what is, is seeing and corrections."""
MAX_SAMPLES = 20_000
FALSE_ALARM = 0.003
BACKGROUND_BINS = 40
MEDIAN_SHARE = 0.48
"""How many values' mean is as well known as one value's share of a median, for exponentially spread ones: ln²2."""
FINENESS = 6


@dataclass(frozen=True)
class PeriodicError:
    """What turns: its period in s and its amplitude in arcsec."""

    period_s: Estimate
    amplitude_arcsec: Estimate


@dataclass(frozen=True)
class Periodogram:
    """Power by period, and what noise alone would reach; for the plot."""

    periods_s: Floats
    amplitude: Floats
    limit: Floats
    found: PeriodicError | None


def periodogram_of(time: Floats, values: Floats, interval_s: float) -> Periodogram | None:
    """Return the periodogram of errors on one axis, and what turns in it.

    Parameters
    ----------
    time, values
        In s and arcsec, without the star's losses, (n,) each.
    interval_s
        The usual time between frames.

    Returns
    -------
    Periodogram or None
        None where the run is too short. The power is Lomb's and Scargle's (Scargle, ApJ 263, 835, 1982); a peak counts
        where it stands over the power around it as noise does in 3 of 1000 runs: over all frequencies that are looked
        at, also between those that are independent (Baluev, MNRAS 385, 1279, 2008), and with the power around known
        from a few of them only. Its uncertainty: Montgomery and
        O'Donoghue, Delta Scuti Star Newsletter 13, 28 (1999).
    """
    from astropy.timeseries import LombScargle

    time, values = _binned(time, values)
    long = float(np.ptp(time)) if len(time) else 0.0
    shortest = max(SHORTEST_INTERVALS * max(interval_s, long / MAX_SAMPLES), SHORTEST_S)
    if len(values) < 30 or long < 2 * MIN_TURNS * shortest:
        return None
    line = np.polynomial.Polynomial.fit(time, values, 1)
    flat = values - line(time)
    if not np.any(flat):
        return None
    lowest, highest = MIN_TURNS / long, 1 / shortest
    frequencies = np.arange(lowest, highest, 1 / (FINENESS * long))
    power = LombScargle(time, flat, fit_mean=True).power(
        frequencies, method="fast", normalization="psd", assume_regular_frequency=True
    )
    power = np.maximum(np.asarray(power, dtype=float), 0.0)
    around, bins = _around(power)
    trials = max((highest - lowest) * long, 1.0)
    limit = around * _times_around(trials, bins)
    best = int(np.argmax(power / limit))
    count = len(values)
    found = None
    if power[best] > limit[best]:
        found = _periodic_error(time, flat, frequencies, power, best, float(around[best]))
    return Periodogram(1 / frequencies, np.sqrt(4 * power / count), np.sqrt(4 * limit / count), found)


def _times_around(trials: float, bins: Floats) -> Floats:
    """Return how many times the power around it noise reaches in :data:`FALSE_ALARM` of runs, (n,).

    Parameters
    ----------
    trials
        How many independent frequencies are looked at.
    bins
        By how many of them the power around each is known, (n,).

    Returns
    -------
    array
        The x of ``trials √(4π/3 x) (1 + x/m)^(−m) = FALSE_ALARM``: powers are spread exponentially, their mean is known
        as from m bins, and a maximum lies between frequencies (Baluev's factor). A median tells as much as a mean of
        0.48 as many.
    """
    known = np.maximum(MEDIAN_SHARE * np.asarray(bins, dtype=float), 1.0)
    times = np.full(known.shape, 12.0)
    for _ in range(30):  # a contraction: the root changes slowly
        log = np.log(trials / FALSE_ALARM * np.sqrt(4 * math.pi / 3 * times))
        times = known * np.expm1(log / known)
    return times


def _binned(time: Floats, values: Floats) -> tuple[Floats, Floats]:
    """Return a long run with frames that follow each other taken together."""
    by = math.ceil(len(time) / MAX_SAMPLES)
    if by <= 1:
        return time, values
    count = len(time) // by * by
    return time[:count].reshape(-1, by).mean(axis=1), values[:count].reshape(-1, by).mean(axis=1)


def _around(power: Floats) -> tuple[Floats, Floats]:
    """Return the mean power around each frequency, but for the peak itself, and by how many bins it is known.

    It is by the median of what lies about it: noise's power is spread exponentially, so that its mean is its median
    over ln 2.
    """
    step = FINENESS
    half = BACKGROUND_BINS * step
    own, bins, count = np.empty(len(power)), np.empty(len(power)), len(power)
    for at in range(0, count, step):
        low, high = max(0, at - half), min(count, at + half + step)
        # What stands beside a peak belongs to it.
        near = np.abs(np.arange(low, high) - at) > 2 * step
        window = power[low:high][near]
        own[at : at + step] = np.median(window) / math.log(2) if len(window) else power.mean()
        bins[at : at + step] = max(len(window), 1) / step
    return np.maximum(own, 1e-30), bins


def _periodic_error(
    time: Floats, flat: Floats, frequencies: Floats, power: Floats, best: int, around: float
) -> PeriodicError:
    """Return the sinusoid at a peak, fitted by least squares about it."""
    from scipy.optimize import minimize_scalar

    step, long, count = float(frequencies[1] - frequencies[0]), float(np.ptp(time)), len(flat)

    def fitted(frequency: float) -> tuple[float, float]:
        phase = 2 * math.pi * frequency * time
        design = np.column_stack([np.cos(phase), np.sin(phase), np.ones(count), time / long])
        fit = weighted_fit(design, flat)
        return float(fit.residuals @ fit.residuals), math.hypot(fit.parameters[0], fit.parameters[1])

    middle = float(frequencies[best])
    low = max(middle - 2 * step, float(frequencies[0]) / 2)
    found = minimize_scalar(lambda f: fitted(f)[0], bounds=(low, middle + 2 * step), method="bounded")
    frequency = float(found.x)
    rest, amplitude = fitted(frequency)
    noise = math.sqrt(max(around, rest / count))
    standard_frequency = math.sqrt(6 / count) * noise / (math.pi * long * max(amplitude, 1e-12))
    # Less than three turns: a line and a turn are hard to tell apart.
    few = max(1.0, 3 / max(frequency * long, 0.1))
    period = Estimate(1 / frequency, few * standard_frequency / frequency**2)
    return PeriodicError(period, Estimate(amplitude, math.sqrt(2 / count) * noise))

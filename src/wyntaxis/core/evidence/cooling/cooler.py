"""Cooling runs: what a log shows, and the cooler's model.

Model: ``dT/dt = (T_amb − T)/τ − a·u``, 0 ≤ u ≤ 1; temperatures in °C, τ in minutes, a in °C/min. Coldest reach
``T_amb − a·τ``; power at rest ``(T_amb − T)/(a·τ)``.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.fitting import line_slope
from wyntaxis.core.limits import MAX_REST_POWER, TOLERANCE_C

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats

RATE_WINDOW_S = 60.0
"""Rates are slopes over this long: a cooler does not move a sensor faster, and noise must not."""
MAX_RATE_INTERVAL_S = 300.0
"""Samples farther apart than this show no rate: a cooler is done with its steepest part by then."""
REST_SHARE = 0.2
"""The last fifth of a run is taken for rest, where it stays within the tolerance."""
MAX_SAMPLES = 2000
MIN_POWER = 0.05
"""A run whose power never reaches this share says nothing of the cooler."""
DEFAULT_GAIN, DEFAULT_TIMING, PRIOR_WEIGHT = 0.05, 0.5, 0.02
"""Where the fit's own settings are supposed to be, and how firmly, in °C; a run that tells them outweighs it."""
MIN_SAMPLES = 12


@dataclass(frozen=True)
class CoolingLog:
    """One run: time in s, sensor and ambient in °C, power as a share of full; NaN where a log does not tell."""

    name: str
    time_s: Floats
    sensor_c: Floats
    power: Floats
    ambient_c: Floats

    @property
    def has_power(self) -> bool:
        return bool(np.isfinite(self.power).all())

    @property
    def ambient(self) -> float:
        """The mean ambient temperature; the first sensor temperature where the log tells none, with the cooler off."""
        entries = self.ambient_c[np.isfinite(self.ambient_c)]
        return float(entries.mean()) if len(entries) else float(self.sensor_c[0])


@dataclass(frozen=True)
class RunFigures:
    """What one run shows; None where it never came to that. Times in minutes, rates in °C/min."""

    name: str
    target_c: float
    start_c: float
    to_target_min: float | None
    mean_rate_c_min: float | None
    steepest_c_min: float | None
    overshoot_c: float | None
    settled_min: float | None
    scatter_c: Estimate | None
    rest_power: float | None
    rest_c: float | None
    ambient_c: float


def run_figures(log: CoolingLog, target_c: float | None = None, tolerance_c: float = TOLERANCE_C) -> RunFigures:
    """Return the figures of a run toward a target; without one, toward what its last fifth came to.

    Parameters
    ----------
    log
        A cooling run.
    target_c, tolerance_c
        Where it was to go, and how near it counts as there, in °C.

    Returns
    -------
    RunFigures
        Times in min, rates in °C/min, overshoot and scatter in °C, power at rest as a share.
    """
    time, sensor = log.time_s / 60, log.sensor_c
    tail = time >= time[-1] - REST_SHARE * (time[-1] - time[0])
    target = float(np.median(sensor[tail])) if target_c is None else target_c
    inside = np.abs(sensor - target) <= tolerance_c
    reached = int(np.argmax(inside)) if inside.any() else None
    direction = 1.0 if sensor[0] >= target else -1.0
    arrival = float(time[reached] - time[0]) if reached is not None else None
    outside = np.flatnonzero(~inside)
    last_out = int(outside[-1]) if len(outside) else -1
    settled = float(time[last_out + 1] - time[0]) if last_out + 1 < len(time) and reached is not None else None
    at_rest = tail & (np.arange(len(time)) > last_out)
    overshoot = None
    if reached is not None and settled is not None:  # a run that goes on past the target was not aimed at it
        smooth = _smoothed(log.time_s, sensor)
        overshoot = max(0.0, float((direction * (target - smooth[reached:])).max()))
    mean_rate = None
    if reached and arrival:
        mean_rate = float(abs(sensor[0] - sensor[reached]) / arrival)
    scatter = rest_power = rest_c = None
    if at_rest.sum() >= MIN_SAMPLES:
        values = sensor[at_rest]
        spread = float(values.std(ddof=1))
        scatter = Estimate(spread, spread / math.sqrt(2 * (at_rest.sum() - 1)))
        rest_c = float(values.mean())
        power = log.power[at_rest]
        rest_power = float(power.mean()) if np.isfinite(power).all() else None
    return RunFigures(
        log.name,
        target,
        float(sensor[0]),
        arrival,
        mean_rate,
        steepest_rate(log),
        overshoot,
        settled,
        scatter,
        rest_power,
        rest_c,
        log.ambient,
    )


def _smoothed(time_s: Any, values: Any) -> Any:
    """Return running means over a minute, so that noise of single readings is no overshoot."""
    sums = np.concatenate([[0.0], np.cumsum(values)])
    start = np.searchsorted(time_s, time_s - RATE_WINDOW_S / 2)
    end = np.searchsorted(time_s, time_s + RATE_WINDOW_S / 2, side="right")
    return (sums[end] - sums[start]) / (end - start)


def steepest_rate(log: CoolingLog) -> float | None:
    """Return the steepest rate in °C/min, up or down, as a straight line over a minute of samples.

    Samples farther apart than that give the mean rate from one to the next, which is the least that the steepest was;
    None where they are so far apart that it tells nothing.

    Parameters
    ----------
    log
        A cooling run.

    Returns
    -------
    float or None
        The rate without sign, in °C/min.
    """
    time, sensor = log.time_s, log.sensor_c
    interval = float(np.median(np.diff(time)))
    if interval > MAX_RATE_INTERVAL_S:
        return None
    window = max(RATE_WINDOW_S, 1.5 * interval)
    steepest, start = None, 0
    for end in range(1, len(time)):
        while time[end] - time[start] > window and start < end - 1:
            start += 1
        span = time[end] - time[start]
        if 0.5 * RATE_WINDOW_S <= span <= MAX_RATE_INTERVAL_S:
            slope = line_slope(time[start : end + 1], sensor[start : end + 1]) * 60
            steepest = max(steepest or 0.0, abs(float(slope)))
    return steepest


@dataclass(frozen=True)
class CoolerModel:
    """The fitted cooler: τ in min, a in °C/min, with their covariance; residuals' standard deviation in °C."""

    tau_min: float
    pull_c_min: float
    covariance: Floats
    residual_c: float

    @property
    def tau(self) -> Estimate:
        return Estimate(self.tau_min, math.sqrt(float(self.covariance[0, 0])))

    @property
    def pull(self) -> Estimate:
        return Estimate(self.pull_c_min, math.sqrt(float(self.covariance[1, 1])))

    @property
    def depth(self) -> Estimate:
        """How far below ambient the cooler comes at most: ``a·τ``, in °C."""
        direction = np.array([self.pull_c_min, self.tau_min])
        spread = math.sqrt(float(direction @ self.covariance @ direction))
        return Estimate(self.pull_c_min * self.tau_min, spread)

    def rest_power(self, ambient_c: float, target_c: float) -> Estimate:
        """Return the share of full power that holds a temperature: ``(T_amb − T)/(a·τ)``."""
        depth = self.depth
        value = (ambient_c - target_c) / depth.value
        return Estimate(value, abs(value) * depth.standard / depth.value)

    def warmest_ambient(self, target_c: float, share: float = MAX_REST_POWER) -> float:
        """Return the warmest ambient at which a target holds with power to spare."""
        return target_c + share * self.depth.value


@dataclass(frozen=True)
class CoolingMeasured:
    """What some runs say: their figures, the cooler's model, and why there is none where there is none."""

    runs: tuple[RunFigures, ...]
    model: CoolerModel | None
    why_no_model: str = ""


def measure_cooling(
    logs: Sequence[CoolingLog], target_c: float | None = None, watch: Callable[[], None] = lambda: None
) -> CoolingMeasured:
    """Return figures and model of runs; ``watch`` is called again and again, and may raise to end the work.

    Parameters
    ----------
    logs
        Cooling runs of one camera.
    target_c
        Where they were to go, in °C.
    watch
        Called again and again; may raise to end the work.

    Returns
    -------
    CoolingMeasured
        The runs' figures, the model where one could be fitted, and notes on what could not.
    """
    runs = tuple(run_figures(log, target_c) for log in logs)
    if not logs:
        return CoolingMeasured(runs, None)
    try:
        return CoolingMeasured(runs, fit_cooler(logs, watch))
    except ValueError as error:
        return CoolingMeasured(runs, None, str(error))


def fit_cooler(logs: Sequence[CoolingLog], watch: Callable[[], None] = lambda: None) -> CoolerModel:
    """Fit τ and a to runs whose power is known; each run has a start temperature of its own.

    What is fitted is the integral of the law from sample to sample, with the power that the log tells for the time
    between two samples: a log may write the power that it sets from then on, or the mean since the last sample, and
    which of both (or what between) is fitted too. Power that changes faster than the log tells leaves a trace in the
    temperature that lasts as long as τ; so each sample is predicted from those before it, by as much as that pays: the
    prediction-error method (L. Ljung, *System Identification*, 2nd ed., 7.2), whose residuals are independent.

    Parameters
    ----------
    logs
        Cooling runs: times in s, temperatures in °C, power as a share.
    watch
        Called again and again; may raise to end the work.

    Returns
    -------
    CoolerModel
        τ in min, pull in °C/min at full power, depth in °C under the ambient, with standard uncertainties.

    Raises
    ------
    ValueError
        With one line, when no run tells its power, or the runs do not hold the cooler's law apart.
    """
    from scipy.optimize import least_squares

    usable = [_Thinned.of(log) for log in logs if log.has_power and len(log.time_s) >= MIN_SAMPLES]
    usable = [log for log in usable if log.most_power > MIN_POWER]
    if not usable:
        raise ValueError("no run has the cooler's power: the model needs one that has, best at full power")

    def residuals(parameters: Floats) -> Floats:
        watch()
        tau, pull, gain, timing, *starts = parameters
        entries = [log.innovations(tau, pull, gain, timing, start) for log, start in zip(usable, starts, strict=True)]
        # What a run does not tell (power that never changes has no lead) stays where it is supposed to be.
        return np.concatenate(
            [*entries, [PRIOR_WEIGHT * (gain - DEFAULT_GAIN), PRIOR_WEIGHT * (timing - DEFAULT_TIMING)]]
        )

    starts = [float(log.sensor_c[0]) for log in usable]
    first = [8.0, 5.0, DEFAULT_GAIN, DEFAULT_TIMING, *starts]
    low = [0.05, 0.01, 0.0, 0.0, *([-150.0] * len(usable))]
    high = [500.0, 200.0, 1.0, 1.0, *([150.0] * len(usable))]
    found = least_squares(residuals, first, bounds=(low, high), x_scale=np.maximum(np.abs(first), 0.3))
    count = sum(len(log.sensor_c) for log in usable)
    variance = float(found.fun @ found.fun) / max(count - len(first), 1)
    try:
        inverse = np.linalg.inv(found.jac.T @ found.jac)
        covariance = inverse * variance + inverse @ _unlogged_power(usable, found.x, found.jac) @ inverse
    except np.linalg.LinAlgError:
        covariance = np.full((2, 2), np.inf)
    tau, pull = (float(v) for v in found.x[:2])
    if not np.isfinite(covariance[:2, :2]).all() or math.sqrt(covariance[0, 0]) > tau:
        raise ValueError(
            "the runs cannot separate time constant and maximum cooling rate: log one at full power for half an hour"
        )
    return CoolerModel(tau, pull, covariance[:2, :2], math.sqrt(variance))


def _unlogged_power(logs: Sequence[_Thinned], parameters: Floats, jacobian: Floats) -> Floats:
    """Return what the power that the log does not tell adds to ``Jᵀ V J``.

    Between two samples power goes from one value to the other by some way, so that its mean errs by at most half their
    difference: a rectangular distribution (JCGM 100:2008, 4.3.7), one for each interval. And the log rounds: power that
    rests at one value errs the whole time by as much, up to half a step of the log. Either shifts the temperature from
    there on, as far as the prediction does not follow: the sum over later residuals is taken backwards.
    """
    pull, gain, tau = parameters[1], parameters[2], parameters[0]
    total, end = np.zeros((jacobian.shape[1],) * 2), 0
    for log in logs:
        begin, end = end, end + len(log.sensor_c)
        decays = (1 - gain) * np.exp(-log.minutes / tau)
        change = np.abs(log.power_since - log.power_from)
        shifts = pull * log.minutes * change / 2 / math.sqrt(3)
        rounded = (log.power_from > 0) & (log.power_from < 1)
        later, common = np.zeros(jacobian.shape[1]), np.zeros(jacobian.shape[1])
        for index in range(len(log.minutes) - 1, -1, -1):
            later = jacobian[begin + index + 1] + later * (decays[index + 1] if index + 1 < len(decays) else 0.0)
            total += np.outer(later, later) * shifts[index] ** 2
            common += later * pull * log.minutes[index] * rounded[index]
        total += np.outer(common, common) * log.power_step**2 / 12
    return total


@dataclass(frozen=True)
class _Thinned:
    """A run with at most :data:`MAX_SAMPLES` kept: between two of them the mean power and ambient.

    ``power_from`` is the mean where each sample's power holds until the next, ``power_since`` where it is that since
    the one before.
    """

    sensor_c: Floats
    minutes: Floats
    power_from: Floats
    power_since: Floats
    ambient_c: Floats
    most_power: float
    power_step: float
    """The least step between the powers that the log tells: what it rounds to."""

    @classmethod
    def of(cls, log: CoolingLog) -> _Thinned:
        every = -(-len(log.time_s) // MAX_SAMPLES)
        kept = np.arange(0, len(log.time_s), every)
        steps = np.diff(log.time_s)
        spans = np.diff(log.time_s[kept])
        entries = np.where(np.isfinite(log.ambient_c), log.ambient_c, log.ambient)

        def mean(values: Floats) -> Floats:
            sums = np.concatenate([[0.0], np.cumsum(values * steps)])
            return np.diff(sums[kept]) / spans

        return cls(
            log.sensor_c[kept],
            spans / 60,
            mean(log.power[:-1]),
            mean(log.power[1:]),
            mean((entries[1:] + entries[:-1]) / 2),
            float(log.power.max()),
            float(np.diff(np.unique(log.power.round(9))).min(initial=1.0)) if np.ptp(log.power) > 0 else 0.0,
        )

    def innovations(self, tau_min: float, pull_c_min: float, gain: float, timing: float, start_c: float) -> Floats:
        """Return by how much each sample differs from what those before it predict, in °C.

        ``trust`` is the share of a surprise that is taken for the sensor's and not for noise: 0 computes the whole
        course from the start, 1 goes from each sample to the next.
        """
        power = (1 - timing) * self.power_from + timing * self.power_since
        decays = np.exp(-self.minutes / tau_min)
        drives = ((self.ambient_c - pull_c_min * tau_min * power) * (1 - decays)).tolist()
        now, found = start_c, []
        for sample, drive, decay in zip(self.sensor_c.tolist(), [*drives, 0.0], [*decays.tolist(), 0.0], strict=True):
            innovation = sample - now
            found.append(innovation)
            now = (now + gain * innovation) * decay + drive
        return np.array(found)


def course(log: CoolingLog, tau_min: float, pull_c_min: float, start_c: float) -> Floats:
    """Return the temperatures that the model gives for a log's power and ambient, exact between samples.

    Power and ambient between two samples are the mean of both.

    Parameters
    ----------
    log
        The run whose times (s), power (share) and ambient (°C) are taken, n samples.
    tau_min, pull_c_min, start_c
        The law's time constant in min, pull in °C/min, and the temperature at the first sample in °C.

    Returns
    -------
    array (n,)
        Temperatures in °C. Source: the law dT/dt = (T_ambient − T)/τ − a·p, integrated between samples.
    """
    time = log.time_s / 60
    ambient = np.where(np.isfinite(log.ambient_c), log.ambient_c, log.ambient)
    middle_power, middle_ambient = (log.power[1:] + log.power[:-1]) / 2, (ambient[1:] + ambient[:-1]) / 2
    aims = (middle_ambient - pull_c_min * tau_min * middle_power).tolist()
    decays = np.exp(-np.diff(time) / tau_min).tolist()
    now = start_c
    found = [now]
    for aim, decay in zip(aims, decays, strict=True):
        now = aim + (now - aim) * decay
        found.append(now)
    return np.array(found)

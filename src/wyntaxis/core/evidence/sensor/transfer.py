"""Photon transfer: conversion gain, read noise, full well, dynamic range, linearity, unity gain.

Sources: EMVA Standard 1288 Release 4.0; J. R. Janesick, *Photon Transfer* (2007). Signals in ADU above bias, variances
in ADU² of one frame; a conversion gain in e⁻/ADU.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.evidence.sensor.tiles import TileStats
from wyntaxis.core.fitting import weighted_fit

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Flags, Floats

FIT_SHARE = 0.7
"""The fit ends at this share of saturation: EMVA 1288, 6.6."""
BINS_PER_PAIR = 10
REJECT_SIGMA = 4.5
FIT_ROUNDS = 8
COLLAPSED = 0.5
"""A variance under this share of what the fit says is one of clipped signal."""
CLIPPED_SHARE = 2e-4
"""Of a frame's pixels at its highest code, from which on that code is where the converter ends."""
MIN_VARIANCE_STEPS2, MAX_UNRESOLVED_STEPS = 0.24, 0.40
"""Under this variance in dark (about half a step) only an upper bound of the noise can be told: EMVA 1288 R4."""
LINEARITY_RANGE = (0.05, 0.95)
MIN_EXPOSURES = 4
MIN_POINTS = 3
NO_LIGHT = "the noise of the flats does not grow with their signal: are they flats of one light, and not processed?"


@dataclass(frozen=True)
class BiasLevel:
    """What pairs of bias frames say: level by tile, mean level, variance of one frame and how well it is known."""

    tiles: Floats
    mean_adu: float
    variance_adu2: float
    degrees: float
    step: int

    @property
    def resolved(self) -> bool:
        """Whether the noise is wide enough for its converter: under 0.24 steps² it is one of rounding (EMVA 1288)."""
        return self.variance_adu2 >= MIN_VARIANCE_STEPS2 * self.step**2

    @property
    def noise_below_adu(self) -> float:
        """The most that a noise can be which is not resolved: 0.40 steps (EMVA 1288 R4, 6.6)."""
        return MAX_UNRESOLVED_STEPS * self.step

    @property
    def noise_adu(self) -> Estimate:
        """Standard deviation of one bias frame in time, with the converter's own step taken out (EMVA 1288, 4).

        A noise that is not resolved lies anywhere from nothing to its bound.
        """
        if not self.resolved:
            return Estimate(self.noise_below_adu / 2, self.noise_below_adu / math.sqrt(12))
        clean = max(self.variance_adu2 - self.step**2 / 12, 1e-12)
        spread = math.sqrt(2 / self.degrees) * self.variance_adu2
        return Estimate(math.sqrt(clean), spread / (2 * math.sqrt(clean)))


@dataclass(frozen=True)
class TransferPoint:
    """One point of the transfer curve, and why it is not in the fit, where it is not."""

    signal_adu: float
    variance_adu2: float
    standard_adu2: float
    rejected: str = ""


@dataclass(frozen=True)
class Transfer:
    """The transfer curve at one gain setting and what follows from it.

    ``saturation_adu`` is above bias; None where no flat reached it. ``read_noise`` is None where the converter's step
    hides it: then ``read_noise_below_e`` is the most that it can be.
    """

    conversion_gain: Estimate
    read_noise: Estimate | None
    full_well: Estimate | None
    dynamic_range: Estimate | None
    linearity_percent: Estimate | None
    saturation_adu: float | None
    bias_adu: float
    points: tuple[TransferPoint, ...]
    slope: float
    intercept: float
    chi_square: float
    read_noise_below_e: float | None = None
    linearity_points: tuple[tuple[float, float, float], ...] = ()
    """Exposure in s, signal in ADU, and its deviation from the line in %."""

    def variance_at(self, signal_adu: Floats) -> Floats:
        """Return the fitted variance at a signal."""
        return self.intercept + self.slope * np.asarray(signal_adu, dtype=float)


def bias_level(pairs: Sequence[TileStats]) -> BiasLevel:
    """Return level and noise from pairs of bias frames; the median over tiles keeps defects out of the variance.

    Parameters
    ----------
    pairs
        Statistics of pairs of bias frames, in ADU.

    Returns
    -------
    BiasLevel
        Mean in ADU, variance of one frame in ADU², and the degrees of freedom that it rests on.

    Raises
    ------
    ValueError
        Without a pair.
    """
    if not pairs:
        raise ValueError("no pair of bias frames: read noise and level are not known")
    tiles = np.mean([pair.mean for pair in pairs], axis=0)
    weights = np.concatenate([(pair.count - 1).ravel() for pair in pairs])
    variances = np.concatenate([pair.variance.ravel() for pair in pairs])
    keep = _central(variances, np.sqrt(2 / weights) * np.median(variances))
    variance = float(np.average(variances[keep], weights=weights[keep]))
    return BiasLevel(tiles, float(np.mean(tiles)), variance, float(weights[keep].sum()), min(p.step for p in pairs))


def _central(values: Floats, spread: Floats) -> Flags:
    """Return a mask of the values within a few spreads of their median."""
    return np.abs(values - np.median(values)) <= REJECT_SIGMA * np.maximum(spread, 1e-12)


@dataclass(frozen=True)
class _Cloud:
    """Tiles of all pairs gathered into bins: signal, variance, degrees of freedom, whether clipped."""

    signal: Floats
    variance: Floats
    degrees: Floats
    clipped: Flags


def _gather(pairs: Sequence[TileStats], bias: BiasLevel, ceiling: float) -> _Cloud:
    rows: list[tuple[float, float, float, bool]] = []
    for pair in pairs:
        signal, clipped = (pair.mean - bias.tiles).ravel(), (pair.highest >= ceiling).ravel()
        variance, degrees = pair.variance.ravel(), (pair.count - 1).ravel()
        # A single pixel at the ceiling is a hot one: a tile is clipped when its light is near the ceiling too.
        clipped &= signal > 0.6 * (ceiling - bias.mean_adu)
        order = np.argsort(signal)
        for part in np.array_split(order, min(BINS_PER_PAIR, len(order))):
            inner = part[_central(variance[part], np.sqrt(2 / degrees[part]) * np.median(variance[part]))]
            if len(inner):
                weight = degrees[inner]
                rows.append(
                    (
                        float(np.average(signal[inner], weights=weight)),
                        float(np.average(variance[inner], weights=weight)),
                        float(weight.sum()),
                        bool(clipped[inner].mean() > 0.05),
                    )
                )
    return _Cloud(*(np.array(column) for column in zip(*rows, strict=True)))


def photon_transfer(
    pairs: Sequence[TileStats], bias: BiasLevel, exposures_s: Sequence[float] = (), step: int | None = None
) -> Transfer:
    """Fit ``σ² = μ/g + σ_r²`` to pairs of flats and one bias level.

    One pair of flats and one of bias frames suffice for the gain (EMVA 1288, 6.2). The bias noise is a point of the
    fit at no signal, unless the converter's step hides it; variances are weighted by what the fit itself says they
    scatter by, ``2σ⁴/(n − 1)``; the converter's step adds ``step²/12`` to every variance, and is taken out.

    Parameters
    ----------
    pairs
        Statistics of pairs of flats, in ADU.
    bias
        The bias level, in ADU.
    exposures_s
        The flats' exposures in s, for the linearity; none where they are not known.
    step
        The converter's step in ADU.

    Returns
    -------
    Transfer
        Conversion gain in e⁻/ADU, read noise and full well in e⁻, range in stops, linearity in %. Source: EMVA 1288 R4.

    Raises
    ------
    ValueError
        With one line, when there are too few flats, or their noise does not grow with their signal.
    """
    if not pairs:
        raise ValueError("photon transfer needs a pair of flats of one light")
    least = MIN_POINTS if len(pairs) > 1 else 1
    step = step or bias.step
    top = max(pair.highest_code for pair in pairs)
    ceiling = _converter_end(pairs, top)
    cloud = _gather(pairs, bias, ceiling if ceiling is not None else math.inf)
    variance = cloud.variance - step**2 / 12
    limit = (ceiling - bias.mean_adu) if ceiling is not None else float(cloud.signal.max())
    first = 0.5 * limit if ceiling is not None or len(pairs) > 1 else limit
    slope, intercept, covariance, used, chi = _fit(cloud, variance, bias, step, first, least)
    saturation = limit if ceiling is not None else _well_end(cloud, variance, slope, intercept)
    limit = saturation if saturation is not None else limit / FIT_SHARE
    slope, intercept, covariance, used, chi = _fit(cloud, variance, bias, step, FIT_SHARE * limit, least)
    gain = Estimate(1 / slope, math.sqrt(covariance[0, 0]) / slope**2)
    noise = bias.noise_adu
    read = gain.value * noise.value
    read_noise = below = None
    if not bias.resolved:
        below = gain.value * bias.noise_below_adu
    else:
        read_noise = Estimate(read, read * math.hypot(noise.standard / noise.value, gain.standard / gain.value))
    full_well = gain.times(saturation) if saturation is not None else None
    dynamic = None
    if full_well is not None and read_noise is not None:
        spread = noise.standard / noise.value / math.log(2)
        dynamic = Estimate(math.log2(full_well.value / read_noise.value), spread)
    linearity, line = _linearity(pairs, bias, exposures_s, saturation if saturation is not None else limit)
    reasons = np.where(
        used,
        "",
        np.where(cloud.clipped, "clipped", np.where(cloud.signal > FIT_SHARE * limit, "above 70 %", "outlier")),
    )
    spreads = np.sqrt(2 / cloud.degrees) * np.maximum(intercept + slope * cloud.signal, 1e-9)
    points = tuple(
        TransferPoint(float(s), float(v), float(u), str(reason))
        for s, v, u, reason in zip(cloud.signal, variance, spreads, reasons, strict=True)
    )
    return Transfer(
        gain,
        read_noise,
        full_well,
        dynamic,
        linearity,
        saturation,
        bias.mean_adu,
        points,
        slope,
        intercept,
        chi,
        below,
        line,
    )


def _converter_end(pairs: Sequence[TileStats], top: int) -> float | None:
    """Return the code at which the converter ends, where the brightest flats pile up at one; None where they do not."""
    piled = max(pair.at_highest / (pair.size[0] * pair.size[1]) for pair in pairs if pair.highest_code == top)
    return float(top) if piled > CLIPPED_SHARE else None


def _well_end(cloud: _Cloud, variance: Floats, slope: float, intercept: float) -> float | None:
    """Return the signal at which the noise has collapsed, as it does where the pixels are full; None where none has."""
    collapsed = (variance < COLLAPSED * (intercept + slope * cloud.signal)) & (cloud.signal > 0.5 * cloud.signal.max())
    return float(np.median(cloud.signal[collapsed])) if collapsed.any() else None


def _fit(
    cloud: _Cloud, variance: Floats, bias: BiasLevel, step: int, up_to: float, least: int
) -> tuple[float, float, Any, Any, float]:
    """Return slope, intercept, their covariance, which points were used, and chi² for each degree of freedom."""
    inside = (cloud.signal <= up_to) & (cloud.signal > 0) & ~cloud.clipped
    if inside.sum() < least:
        raise ValueError("fewer than three levels of flats lie under 70 % of saturation: take more, and fainter ones")
    at_zero = bias.variance_adu2 - step**2 / 12
    x = np.append(cloud.signal, 0.0)
    y = np.append(variance, at_zero)
    degrees = np.append(cloud.degrees, bias.degrees)
    entries = np.append(inside, bias.resolved)
    used = entries
    if used.sum() < 2:
        raise ValueError("one level of flats gives no gain where the bias noise is hidden by the converter's step")
    slope, intercept = float(np.median(variance[inside] / cloud.signal[inside])), at_zero
    covariance, chi = np.eye(2), 1.0
    design = np.stack([x, np.ones_like(x)], axis=1)
    for _ in range(FIT_ROUNDS):
        expected = np.maximum(intercept + slope * x, 0.25 * abs(at_zero) + 1e-9)
        spread = np.sqrt(2 / degrees) * (expected + step**2 / 12)
        fit = weighted_fit(design[used], y[used], 1 / spread[used] ** 2)
        covariance, chi = fit.inverse, fit.variance
        slope, intercept = (float(v) for v in fit.parameters)
        if slope <= 0:
            raise ValueError(NO_LIGHT)
        residual = (y - design @ fit.parameters) / spread
        reach = REJECT_SIGMA * max(1.0, math.sqrt(min(chi, 4.0)))
        now = entries & (np.abs(residual) <= reach)
        if (now == used).all():
            break
        used = now
        if used[:-1].sum() < least:
            raise ValueError(NO_LIGHT)
    return slope, intercept, covariance * max(1.0, chi), used[:-1], chi


def _linearity(
    pairs: Sequence[TileStats], bias: BiasLevel, exposures_s: Sequence[float], saturation: float
) -> tuple[Estimate | None, tuple[tuple[float, float, float], ...]]:
    """Return the largest deviation from the straight line of signal over exposure, in % of the signal there.

    The line is fitted with equal relative weights (EMVA 1288, 6.7). None with fewer than four exposures in range.
    """
    if len(exposures_s) != len(pairs):
        return None, ()
    levels = np.array([float(np.mean(pair.mean - bias.tiles)) for pair in pairs])
    brightest = np.array([float(np.max(pair.mean - bias.tiles)) for pair in pairs])
    times = np.array(exposures_s, dtype=float)
    low, high = (share * saturation for share in LINEARITY_RANGE)
    inside = (levels >= low) & (brightest <= high) & (times > 0)
    if len(np.unique(times[inside])) < MIN_EXPOSURES:
        return None, ()
    t, y = times[inside], levels[inside]
    slope, start = weighted_fit(np.stack([t, np.ones_like(t)], axis=1), y, 1 / y**2).parameters
    deviation = 100 * (y / (start + slope * t) - 1)
    drifts = np.array([float(np.mean(pair.shift)) for pair in pairs])[inside] / y
    repeat = 100 * math.sqrt(float(np.mean(drifts**2)) / 2)
    points = tuple((float(a), float(b), float(c)) for a, b, c in zip(t, y, deviation, strict=True))
    return Estimate(float(np.abs(deviation).max()), repeat), points


def unity_gain(found: Sequence[tuple[float, Estimate]]) -> Estimate | None:
    """Return the gain setting at which one electron is one ADU, straight in ln g between the two settings around it.

    ``found`` holds gain settings with conversion gains. None where the settings do not lie around it.

    Parameters
    ----------
    found
        Gain settings with conversion gains in e⁻/ADU.

    Returns
    -------
    Estimate or None
        In units of the camera's gain setting.
    """
    ordered = sorted(found)
    for (low, entry), (high, other) in itertools.pairwise(ordered):
        a, b = math.log(entry.value), math.log(other.value)
        if a == b or (a > 0) == (b > 0):
            continue
        share = a / (a - b)
        u_a, u_b = entry.standard / entry.value, other.standard / other.value
        spread = math.hypot((1 - share) * u_a, share * u_b) / abs(a - b)
        return Estimate(low + share * (high - low), (high - low) * spread)
    return None

"""What guiding errors are made of: noise from frame to frame, what the loop leaves, and the mount left alone."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.fitting import student_factor
from wyntaxis.core.limits import FWHM_PER_SIGMA

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Flags, Floats, Ints
    from wyntaxis.core.evidence.guide_log.corrections import OwnPath
    from wyntaxis.core.evidence.guide_log.run import GuideRun

MIN_FRAMES, BATCHES = 120, 10
FAR, AFTER_DITHER = 6.0, 6
"""A correction's lag is looked for in so many frames after a dither that moved the star by so many scatters."""
MOST_LAG, MIN_ROWS = 2, 8
MOST_U = 0.25
"""A lag that is known worse than this, in frames, could be the next."""
SURE, LEAST_FOLLOWED = 3.0, 0.3
"""Noise counts from so many of its standard uncertainties on; a lag where the star followed by this share or more."""
NEXT_FRAME = 0.05
"""Noise in the errors that were corrected draws the lag towards the next frame: by 0.08 at most over 60 drawn runs."""


@dataclass(frozen=True)
class Shares:
    """What an axis' errors are made of, RMS in arcsec; None where it could not be told.

    ``noise`` is the scatter from frame to frame, which no correction takes away: seeing and the centroid's own error;
    ``centroid`` that error alone, computed from the star's signal-to-noise ratio; ``loop`` what is left of the errors
    beside the noise; ``alone`` where the mount would have gone.
    """

    noise: Estimate | None
    loop: Estimate | None
    alone: float
    centroid: float | None

    @property
    def seeing(self) -> Estimate | None:
        """The noise less the centroid's own; None where the log holds no signal-to-noise ratio."""
        if self.noise is None or self.centroid is None:
            return None
        return less_noise(self.noise, Estimate(self.centroid, 0.0))


def less_noise(whole: Estimate, part: Estimate) -> Estimate:
    """Return what is left of an RMS when one of its parts is taken off in quadrature; zero where it is all of it."""
    left = math.sqrt(max(whole.value**2 - part.value**2, 0.0))
    error = math.hypot(whole.value * whole.standard, part.value * part.standard)
    # Near zero the square is known, not its root: u is then that of the square, as a length.
    return Estimate(left, error / left if left**2 > error else math.sqrt(error))


def frame_noise(path: Floats, good: Flags, parts: Ints) -> Estimate | None:
    """Return the scatter of a path from frame to frame, apart from how it wanders.

    Parameters
    ----------
    path
        In arcsec, (n,).
    good
        Which frames count, (n,).
    parts
        The stretch of each frame, (n,): no difference is taken across two.

    Returns
    -------
    Estimate or None
        RMS in arcsec. The mean squares of differences one, two and three frames apart, carried on to no frame at all
        by the parabola through them: noise does not fall with the distance, wandering does (the nugget of a
        variogram: Matheron 1963). None for fewer than 120 frames, or where no noise is left beside the wandering.
    """
    if good.sum() < MIN_FRAMES:
        return None
    values = np.full((3, len(path)), np.nan)
    for lag in (1, 2, 3):
        near = good[lag:] & good[:-lag] & (parts[lag:] == parts[:-lag])
        steps = (path[lag:] - path[:-lag]) ** 2
        values[lag - 1, :-lag] = np.where(near, steps, np.nan)
    whole = _nugget(values)
    if whole is None or whole <= 0:
        return None
    batches = [_nugget(part) for part in np.array_split(values, BATCHES, axis=1)]
    entries = np.array([own for own in batches if own is not None])
    if len(entries) < BATCHES // 2:
        return None
    error = float(entries.std(ddof=1)) / math.sqrt(len(entries)) * student_factor(len(entries) - 1)
    if whole < SURE * error:
        return None
    noise = math.sqrt(whole)
    return Estimate(noise, error / (2 * noise))


def _nugget(squares: Floats) -> float | None:
    """Return the variance of the noise by the squares of differences one, two and three frames apart, (3, n)."""
    if not np.isfinite(squares).any(axis=1).all():
        return None
    one, two, three = (float(np.nanmean(own)) for own in squares)
    return (3 * one - 3 * two + three) / 2


def centroid_noise(strength: Floats, fwhm_arcsec: float) -> float | None:
    """Return how far a star's centroid scatters on one axis by its photons and background, RMS in arcsec.

    Parameters
    ----------
    strength
        Signal-to-noise ratios of the frames that count, (n,).
    fwhm_arcsec
        The star's size in the guide camera.

    Returns
    -------
    float or None
        FWHM/(2.355·S/N) (King, PASP 95, 163, 1983), its mean square over the run; None without a ratio.
    """
    ratios = strength[np.isfinite(strength) & (strength > 0)]
    if not len(ratios):
        return None
    return fwhm_arcsec / FWHM_PER_SIGMA * math.sqrt(float(np.mean(1 / ratios**2)))


def lag_of(run: GuideRun, values: Floats, steps: Floats, scatter: float) -> Estimate | None:
    """Return after how many further frames a correction shows, by what followed on dithers; None where none tells.

    Parameters
    ----------
    run
        The run.
    values, steps
        Errors in arcsec, and corrections with the sign that moves the star; (n,) each.
    scatter
        Of the errors, in arcsec.

    Returns
    -------
    Estimate or None
        0 where the next frame shows it. Least squares of each change on the corrections of the last three frames, after
        far dithers alone: near the lock an error's own noise looks like a correction.
    """
    rows = _far_rows(run.dithers, values, scatter)
    if len(rows) < MIN_ROWS:
        return None
    change = values[rows + 1] - values[rows]
    design = np.column_stack([-steps[rows - lag] for lag in range(MOST_LAG + 1)])
    solved, _, rank, _ = np.linalg.lstsq(design, change, rcond=None)
    if rank <= MOST_LAG:
        return None
    left = change - design @ solved
    free = len(rows) - MOST_LAG - 1
    covariance = np.linalg.inv(design.T @ design) * float(left @ left) / free
    total = float(solved.sum())
    if total <= LEAST_FOLLOWED:
        return None
    mean = float(solved @ np.arange(MOST_LAG + 1)) / total
    slopes = (np.arange(MOST_LAG + 1) - mean) / total
    standard = math.hypot(math.sqrt(max(float(slopes @ covariance @ slopes), 0.0)) * student_factor(free), NEXT_FRAME)
    return Estimate(mean, standard) if standard < MOST_U else None


def _far_rows(dithers: Sequence[int], values: Floats, scatter: float) -> Ints:
    """Return the rows that follow on dithers far beyond the scatter, as long as they and their next show the star."""
    rows: list[int] = []
    for start in dithers:
        # The row that tells a dither may still show the star where it was.
        moved = next(
            (row for row in (start, start + 1) if row < len(values) and abs(values[row]) >= FAR * scatter), None
        )
        if moved is None:
            continue
        for row in range(max(moved, MOST_LAG), min(moved + AFTER_DITHER, len(values) - 1)):
            if not (np.isfinite(values[row]) and np.isfinite(values[row + 1])):
                break
            rows.append(row)
    return np.array(rows, dtype=int)


def shares_of(own: OwnPath, whole: Estimate | None, good: Flags, parts: Ints, centroid: float | None) -> Shares | None:
    """Return what an axis' errors are made of.

    Parameters
    ----------
    own
        The mount's own path.
    whole
        RMS of the errors in arcsec.
    good, parts
        Which frames count, and the stretch of each; (n,) each.
    centroid
        The centroid's own error, RMS in arcsec.

    Returns
    -------
    Shares or None
        None where the path cannot be seen.
    """
    seen = good & np.isfinite(own.path)
    if whole is None or seen.sum() < MIN_FRAMES:
        return None
    noise = frame_noise(own.path, seen, parts)
    pieces = [own.path[seen & (parts == number)] for number in np.unique(parts[seen])]
    alone = math.sqrt(float(np.mean(np.concatenate([piece - piece.mean() for piece in pieces]) ** 2)))
    loop = less_noise(whole, noise) if noise is not None else None
    return Shares(noise, loop, alone, centroid)

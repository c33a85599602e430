"""A run replayed with other settings of the guider: what its own mount and seeing would have made of them.

The mount's own path, with its noise, is corrected again frame by frame: a share of each error from a smallest move on,
by the mean of one frame or more. What the log's own settings give must come out as it was logged; else nothing is
advised.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.fitting import student_factor

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Flags, Floats, Ints
    from wyntaxis.core.evidence.guide_log.corrections import OwnPath

SHARES = tuple(round(0.1 * step, 1) for step in range(1, 11))
SMALLEST = (0.0, 0.5, 1.0, 1.5, 2.0)
"""Smallest moves that are tried, in scatters of the noise."""
TOGETHER = (1, 2, 3, 4)
"""Of how many frames' mean a correction is made: an exposure so many times as long."""
MOST_ROWS, MIN_ROWS = 2500, 240
REPRODUCES = 0.12
"""The replay of the log's own settings may miss the logged RMS by this share; else it says nothing."""
NEAR_BEST = 1.01
"""Of settings that differ by no more than this, the mildest change is advised."""
WORTH = 0.03
"""A gain under this share of the RMS is none."""
BLOCK_ROWS, UNANSWERED = 40, 0.02


class Setting(NamedTuple):
    """How a guider corrects: a share of each error from a smallest one in arcsec on, by the mean of so many frames."""

    share: float
    smallest: float
    frames: int = 1


@dataclass(frozen=True)
class Advice:
    """What a replay says of an axis; RMS in arcsec.

    ``logged`` is how the run was corrected, by its corrections; ``replayed`` what the replay makes of that,
    ``measured`` what the log holds. ``best`` is None where the log's own settings are as good as any. ``gain`` is by
    how much the RMS would have been less.
    """

    logged: Setting
    measured: float
    replayed: float
    best: Setting | None
    then: float
    gain: Estimate
    frames: int

    @property
    def reproduces(self) -> bool:
        """Whether the replay of the log's own settings comes out as logged."""
        return abs(self.replayed / self.measured - 1) <= REPRODUCES


def logged_setting(values: Floats, steps: Floats, good: Flags) -> Setting | None:
    """Return which share of an error was corrected from which error on, by the log's corrections; None for none.

    Parameters
    ----------
    values, steps
        Errors in arcsec, and what was corrected after each frame with the sign that moves the star; (n,) each.
    good
        Which frames count, (n,).
    """
    answered = good & (steps != 0) & np.isfinite(values)
    if answered.sum() < MIN_ROWS / 8:
        return None
    errors, own = values[answered], steps[answered]
    share = float(np.median(own / np.where(errors == 0, np.nan, errors)))
    if not math.isfinite(share) or share <= 0:
        return None
    left = good & (steps == 0) & np.isfinite(values)
    smallest = float(np.quantile(np.abs(errors), 0.02)) if left.sum() > UNANSWERED * good.sum() else 0.0
    return Setting(share, smallest)


def replayed(own: OwnPath, settings: list[Setting], most: float) -> Floats:
    """Return the errors of a path under each of some settings, which all take as many frames together.

    Parameters
    ----------
    own
        The mount's own path of one stretch.
    settings
        Tried side by side.
    most
        The largest correction in arcsec.

    Returns
    -------
    array
        (number of settings, n) in arcsec, NaN where the star was lost.
    """
    shares = np.array([setting.share for setting in settings])
    smallest = np.array([setting.smallest for setting in settings])
    frames = settings[0].frames
    count = len(settings)
    path = own.path
    first = float(path[np.flatnonzero(np.isfinite(path))[0]])
    motor, axis = np.full(count, first), np.full(count, first)
    waiting = [np.zeros(count) for _ in range(own.lag)]
    total, seen = np.zeros(count), 0
    found = np.full((count, len(path)), np.nan)
    for row, place in enumerate(path):
        step = np.zeros(count)
        if math.isfinite(place):
            error = place - axis
            found[:, row] = error
            total, seen = total + error, seen + 1
        if (row + 1) % frames == 0:
            if seen:
                mean = total / seen
                step = np.where(np.abs(mean) >= smallest, np.clip(shares * mean, -most, most), 0.0)
            total, seen = np.zeros(count), 0
        waiting.append(step)
        motor = motor + waiting.pop(0)
        # The motor goes freely within the backlash, whose ends take the axis along.
        axis = np.maximum(np.minimum(axis, motor + own.slack), motor)
    return found


def advice_of(own: OwnPath, values: Floats, good: Flags, parts: Ints, noise: float) -> Advice | None:
    """Return what other settings would have made of one axis of a run.

    Parameters
    ----------
    own
        The mount's own path.
    values
        Errors as logged in arcsec, (n,).
    good, parts
        Which frames count, and the stretch of each; (n,) each. The longest stretch is replayed.
    noise
        Its scatter from frame to frame, in arcsec.

    Returns
    -------
    Advice or None
        None for fewer than 240 frames, or where nothing was corrected. The settings are chosen by every other block of
        40 frames, and what they gain is told by the blocks between: a choice flatters what it was made by.
    """
    numbers, counts = np.unique(parts[good], return_counts=True)
    rows = np.flatnonzero(parts == numbers[int(np.argmax(counts))])[-MOST_ROWS:] if len(numbers) else np.zeros(0, int)
    count = good[rows]
    setting = logged_setting(values, own.steps, good)
    if count.sum() < MIN_ROWS or setting is None or not np.isfinite(own.path[rows]).any():
        return None
    piece = type(own)(own.path[rows], own.steps[rows], own.slack, own.lag)
    most = float(np.abs(own.steps).max())
    errors = [(setting, replayed(piece, [setting], most)[0])]
    for frames in TOGETHER:
        tried = [Setting(share, scatters * noise, frames) for scatters in SMALLEST for share in SHARES]
        errors += zip(tried, replayed(piece, tried, most), strict=True)
    blocks = np.arange(len(rows)) // BLOCK_ROWS
    choosing, judging = count & (blocks % 2 == 0), count & (blocks % 2 == 1)
    squares = [(one, (path - np.nanmean(path[count])) ** 2) for one, path in errors]
    chosen, best = _mildest(squares, choosing, setting)
    before, after = squares[0][1], best
    gained = [float(np.nanmean((before - after)[judging & (blocks == block)])) for block in np.unique(blocks[judging])]
    then, now = (math.sqrt(float(np.nanmean(own[count]))) for own in (after, before))
    error = float(np.std(gained, ddof=1)) / math.sqrt(len(gained)) * student_factor(len(gained) - 1)
    fair = float(np.mean(gained))
    gain = Estimate(now - math.sqrt(max(now**2 - fair, 0.0)), error / (2 * max(now, 1e-9)))
    logged = values[rows][count]
    measured = float(np.nanstd(logged))
    worth = gain.value > max(2 * gain.standard, WORTH * now)
    return Advice(setting, measured, now, chosen if worth else None, then if worth else now, gain, int(count.sum()))


def _mildest(squares: list[tuple[Setting, Floats]], choosing: Flags, now: Setting) -> tuple[Setting, Floats]:
    """Return the settings with about the least mean square, of these the ones nearest to what is set now."""
    means = [float(np.nanmean(own[choosing])) for _, own in squares]
    least = min(means) * NEAR_BEST**2
    near = [entry for entry, mean in zip(squares, means, strict=True) if mean <= least]

    def change(entry: tuple[Setting, Floats]) -> tuple[int, float]:
        one = entry[0]
        return one.frames, abs(one.share - now.share) + abs(one.smallest - now.smallest)

    return min(near, key=change)

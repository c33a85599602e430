"""A guided mount by its own account, written apart from what is tested with it: motor, backlash, seeing, gusts."""

import math
from dataclasses import dataclass

import numpy as np

from wyntaxis.core.evidence.guide_log.run import GuideRun

DRIFT = 0.76
"""Of the pole, in arcsec a minute."""
INTERVAL_S = 2.5


@dataclass(frozen=True)
class Mount:
    """What a mount and its guider are made of: lengths in arcsec, times in s.

    Corrections are cut at 4″ and left out under the ``smallest``, and move the motor ``lag`` frames late; the axis
    follows the motor at the ends of the ``gap``. After ``flip_at`` corrections in declination are written with the
    other sign. ``gusts`` are (row, frames, arcsec in right ascension).
    """

    seconds: float = 1800
    seeing: float = 0.4
    gap: float = 0.0
    share: float = 0.6
    smallest: float = 0.25
    dither_s: float = 0.0
    flip_at: float | None = None
    lag: int = 0
    worm: float = 3.0
    gusts: tuple[tuple[int, int, float], ...] = ()


def mount(seed=1, **how):
    """Return rows of time, errors and corrections in arcsec of a :class:`Mount`, and the rows of dithers."""
    own = Mount(**how)
    rng = np.random.default_rng(seed)
    rows, axis, motor, ra, lock, dithers = [], 0.0, 0.0, 0.0, np.zeros(2), []
    waiting = [np.zeros(2)] * own.lag
    blown = {row + step: arcsec for row, frames, arcsec in own.gusts for step in range(frames)}
    for number in range(round(own.seconds / INTERVAL_S)):
        time = INTERVAL_S * number
        if own.dither_s and number and number % round(own.dither_s / INTERVAL_S) == 0:
            way = rng.uniform(0, 2 * math.pi)
            lock += 6 * np.array([math.cos(way), math.sin(way)])
            dithers.append(number)
        place = np.array([own.worm * math.sin(2 * math.pi * time / 430) + ra, DRIFT * time / 60 + axis])
        error = place - lock + rng.normal(0, own.seeing, 2)
        error[0] += blown.get(number, 0.0)
        move = np.clip(-own.share * error, -4, 4) * (np.abs(error) >= own.smallest)
        sign = -1 if own.flip_at is not None and time >= own.flip_at else 1
        rows.append((time, error[0], error[1], move[0], sign * move[1]))
        waiting.append(move)
        late = waiting.pop(0)
        ra, motor = ra + late[0], motor + late[1]
        axis = min(max(axis, motor - own.gap / 2), motor + own.gap / 2)
    return np.array(rows), tuple(dithers)


def guided_run(seed=1, *, name="run", **how):
    """Return what :func:`mount` did as a run."""
    about = {key: how.pop(key) for key in ("start_s", "facts", "strength", "has_ratio") if key in how}
    rows, dithers = mount(seed, **how)
    time, ra, dec, ra_moved, dec_moved = rows.T
    count = len(time)
    lost, stretch = np.zeros(count, bool), np.zeros(count, int)
    return GuideRun(name, "run.csv", time, ra, dec, ra_moved, dec_moved, lost, stretch, dithers, **about)

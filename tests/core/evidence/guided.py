"""A guided mount by its own account, written apart from what is tested with it: motor, backlash, seeing, gusts."""

import math

import numpy as np

from wyntaxis.core.evidence.guide_log.run import GuideRun

DRIFT = 0.76
"""Of the pole, in arcsec a minute."""
INTERVAL_S = 2.5


def mount(  # noqa: PLR0913 -- what a mount is made of
    seed=1,
    *,
    seconds=1800,
    seeing=0.4,
    gap=0.0,
    share=0.6,
    smallest=0.25,
    dither_s=0.0,
    flip_at=None,
    lag=0,
    worm=3.0,
    gusts=(),
):
    """Return rows of time, errors and corrections in arcsec, and the rows of dithers.

    The axis follows the motor at the ends of the gap, corrections are cut at 4″ and left out under the smallest. After
    ``flip_at`` corrections in declination are written with the other sign. A correction moves the motor ``lag`` frames
    late. ``gusts`` are (row, frames, arcsec in right ascension).
    """
    rng = np.random.default_rng(seed)
    rows, axis, motor, ra, lock, dithers = [], 0.0, 0.0, 0.0, np.zeros(2), []
    waiting = [np.zeros(2)] * lag
    blown = {row + step: arcsec for row, frames, arcsec in gusts for step in range(frames)}
    for number in range(round(seconds / INTERVAL_S)):
        time = INTERVAL_S * number
        if dither_s and number and number % round(dither_s / INTERVAL_S) == 0:
            way = rng.uniform(0, 2 * math.pi)
            lock += 6 * np.array([math.cos(way), math.sin(way)])
            dithers.append(number)
        place = np.array([worm * math.sin(2 * math.pi * time / 430) + ra, DRIFT * time / 60 + axis])
        error = place - lock + rng.normal(0, seeing, 2)
        error[0] += blown.get(number, 0.0)
        move = np.clip(-share * error, -4, 4) * (np.abs(error) >= smallest)
        sign = -1 if flip_at is not None and time >= flip_at else 1
        rows.append((time, error[0], error[1], move[0], sign * move[1]))
        waiting.append(move)
        late = waiting.pop(0)
        ra, motor = ra + late[0], motor + late[1]
        axis = min(max(axis, motor - gap / 2), motor + gap / 2)
    return np.array(rows), tuple(dithers)


def guided_run(seed=1, *, name="run", **how):
    """Return what :func:`mount` did as a run."""
    about = {key: how.pop(key) for key in ("start_s", "facts", "strength", "has_ratio") if key in how}
    rows, dithers = mount(seed, **how)
    time, ra, dec, ra_moved, dec_moved = rows.T
    count = len(time)
    lost, stretch = np.zeros(count, bool), np.zeros(count, int)
    return GuideRun(name, "run.csv", time, ra, dec, ra_moved, dec_moved, lost, stretch, dithers, **about)

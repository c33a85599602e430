"""What a guider corrected, counted back: which way corrections count, what backlash takes, the mount's own path."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.fitting import student_factor, without_group_means

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats, Ints
    from wyntaxis.core.evidence.guide_log.run import GuideRun

BACKLASH_TRIED, PLAY_ROWS, ROUGH_FRAMES = 14, 20_000, 20
MAX_SLACK_STEPS = 15.0
"""The most backlash that is tried, in corrections of the larger kind."""
JUMP_FRAMES = 3
"""A dither's jump is taken between the medians of so many frames before and after it."""
SURE_SIGN = 5.0
"""Errors and corrections tell which way these count where their products add up to so many times their scatter."""


def signed_steps(values: Floats, moved: Floats, stretch: Any) -> Floats:
    """Return corrections with the sign that moves the star, (n,): which way they count, errors tell.

    A correction opposes the error that it answers. After a flip north and south may be exchanged: each stretch tells
    for itself, and one in which the sign turns round is taken in two.
    """
    errors, applied = np.nan_to_num(values), np.nan_to_num(moved)
    products = errors * applied
    whole = 1.0 if float(products.sum()) >= 0 else -1.0
    signs = np.full(len(errors), whole)
    for number in np.unique(stretch):
        rows = np.flatnonzero(stretch == number)
        for part in _parts_of_one_sign(products[rows]):
            own = products[rows[part]]
            total, noise = float(own.sum()), math.sqrt(float(own @ own))
            if abs(total) > SURE_SIGN * noise:
                signs[rows[part]] = math.copysign(1.0, total)
    return signs * applied


def _parts_of_one_sign(products: Floats) -> list[slice]:
    """Return the parts of a stretch in which corrections count one way: two where they turn round in between."""
    whole = [slice(0, len(products))]
    if len(products) < 4 * ROUGH_FRAMES:
        return whole
    running = np.cumsum(products)
    total = float(running[-1])
    best = int(np.argmax(np.abs(running) + np.abs(total - running)))
    before, after = float(running[best]), total - float(running[best])
    noise = [math.sqrt(float(own @ own)) for own in (products[: best + 1], products[best + 1 :])]
    if before * after >= 0 or abs(before) <= SURE_SIGN * noise[0] or abs(after) <= SURE_SIGN * noise[1]:
        return whole
    return [slice(0, best + 1), slice(best + 1, len(products))]


def unguided(values: Any, moved: Any, *, play: bool = False) -> Any:
    """Return where the star would have gone without corrections, in arcsec; which way they count, errors tell.

    Parameters
    ----------
    values, moved
        Errors in arcsec, and what was corrected after each frame; (n,) each.
    play
        Whether the axis has backlash: then so much of it is taken as makes the star go most smoothly.

    Returns
    -------
    array
        (n,) in arcsec.
    """
    count = len(values)
    steps = signed_steps(values, moved, np.zeros(count))
    slack = likely_slacks(np.arange(count, dtype=float), values, steps, np.zeros(count))[0] if play else 0.0
    return values + moved_before(with_backlash(steps, slack))


def likely_slacks(time: Any, values: Any, steps: Any, parts: Any) -> tuple[float, ...]:
    """Return the backlash with which the star goes most evenly, and the least and greatest with which it does as well.

    In arcsec of the steps. With the right one the star goes along one line, but for an offset at each dither: wrong
    steps add up, noise does not. How well it is known follows from how the squares of its blocks scatter.
    """
    if not (np.any(steps > 0) and np.any(steps < 0)):
        return (0.0,)
    some = slice(0, PLAY_ROWS)
    most = MAX_SLACK_STEPS * float(np.quantile(np.abs(steps[steps != 0]), 0.9))

    def strays(slack: float) -> Any:
        return _strays(time[some], values[some] + moved_before(with_backlash(steps[some], slack)), parts[some])

    tried = [most * (place / BACKLASH_TRIED) ** 2 for place in range(BACKLASH_TRIED + 1)]
    rough = [strays(slack) for slack in tried]
    means = np.array([float(own.mean()) if len(own) else 0.0 for own in rough])
    best = int(np.argmin(means))
    # Finer between the neighbours of the best.
    low, high = tried[max(best - 1, 0)], tried[min(best + 1, BACKLASH_TRIED)]
    fine = np.linspace(low, high, 9)
    finer = [strays(float(slack)) for slack in fine]
    where = int(np.argmin([float(own.mean()) if len(own) else 0.0 for own in finer]))
    chosen, own = float(fine[where]), finer[where]
    if not len(own):
        return (chosen,)
    known = [(slack, one) for slack, one in (*zip(tried, rough, strict=True), *zip(fine.tolist(), finer, strict=True))]
    near = [slack for slack, one in known if len(one) == len(own) and _about_as_smooth(one, own)]
    return (chosen, *(edge for edge in (min(near, default=chosen), max(near, default=chosen)) if edge != chosen))


def _about_as_smooth(one: Floats, best: Floats) -> bool:
    """Return whether one path strays no more than the smoothest, by the scatter of blocks of their difference."""
    more = one - best
    blocks = max(len(more) // (2 * ROUGH_FRAMES), 2)
    means = np.array([part.mean() for part in np.array_split(more, blocks)])
    return float(more.mean()) <= float(means.std(ddof=1)) / math.sqrt(blocks) * student_factor(blocks - 1)


def moved_before(steps: Floats) -> Floats:
    """Return what had been moved before each frame."""
    return np.concatenate([[0.0], np.cumsum(steps)[:-1]])


def _strays(time: Floats, path: Floats, parts: Ints) -> Floats:
    """Return by how much a path strays from one line with an offset for each part, squared; far ones are cut short.

    Frames without the star are left out, the same ones for all paths of one run.
    """
    good = np.isfinite(path)
    if good.sum() < 3 * ROUGH_FRAMES:
        return np.zeros(0)
    _, group = np.unique(parts[good], return_inverse=True)
    ones = np.ones(int(good.sum()))
    along, own = (without_group_means(array[good], ones, group) for array in (time, path))
    slope = float(along @ own) / max(float(along @ along), 1e-30)
    squares = (own - slope * along) ** 2
    return np.minimum(squares, 9 * np.median(squares))


def with_backlash(steps: Floats, slack: float) -> Floats:
    """Return what is left of steps after play: each turn of the way loses so much first.

    Parameters
    ----------
    steps
        With their signs, (n,).
    slack
        The play, in the unit of the steps, at least 0.

    Returns
    -------
    array
        (n,).
    """
    if slack <= 0 or not np.any(steps):
        return steps
    # The motor goes freely within the gap, whose ends take the axis along.
    first = float(steps[np.flatnonzero(steps)[0]])
    axis = start = 0.0 if first > 0 else slack
    places = []
    for motor in np.cumsum(steps).tolist():
        if axis < motor:
            axis = motor
        elif axis > motor + slack:
            axis = motor + slack
        places.append(axis)
    return np.diff(np.array(places), prepend=start)


@dataclass(frozen=True)
class OwnPath:
    """Where the star would have gone on one axis with nothing corrected, as if no dither had moved the lock.

    ``path`` (n,) is in arcsec, NaN where the star was lost; ``steps`` (n,) what was corrected after each frame, with
    the sign that moves the star; ``slack`` the backlash in arcsec; ``lag`` after how many further frames a correction
    shows.
    """

    path: Floats
    steps: Floats
    slack: float
    lag: int


def own_path(run: GuideRun, values: Floats, moved: Floats, *, play: bool = False, lag: int = 0) -> OwnPath:
    """Return the mount's own path on one axis: errors, with corrections counted back in and dithers taken out.

    Parameters
    ----------
    run
        The run.
    values, moved
        Errors in arcsec, and what was corrected after each frame; (n,) each.
    play
        Whether the axis has backlash.
    lag
        After how many further frames a correction shows.

    Returns
    -------
    OwnPath
        Each stretch between pauses begins where its own first frame lies.
    """
    steps = signed_steps(values, moved, run.stretch)
    parts = run.stretch + np.searchsorted(np.array(run.dithers, dtype=int), np.arange(len(values)), "right")
    slack = likely_slacks(run.time_s, values, steps, parts)[0] if play else 0.0
    shown = np.concatenate([np.zeros(lag), steps])[: len(steps)]
    path = values + moved_before(with_backlash(shown, slack))
    for row in run.dithers:
        before, after = path[max(row - JUMP_FRAMES, 0) : row], path[row : row + JUMP_FRAMES]
        if np.isfinite(before).any() and np.isfinite(after).any():
            path[row:] -= float(np.nanmedian(after) - np.nanmedian(before))
    return OwnPath(path, steps, slack, lag)

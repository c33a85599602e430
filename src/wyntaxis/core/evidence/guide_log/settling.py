"""How long the guider takes to settle after each dither."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from wyntaxis.core.evidence.guide_log.run import GuideRun
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.fitting import NORMAL_MEDIAN, student_factor

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Flags, Floats

P95_SIGMAS, P95_SPREAD = 1.645, 4.36
"""The 95 % point of a normal distribution in σ; and the standard error of that point as an order statistic, in σ/√n, of
waiting times, whose tail is exponential: √(0.95 · 0.05) / 0.05. A normal distribution's, 2.11, is too small for them.
"""
UNSEEN_SHARE, TAIL = 1.3, 2.6
"""Slow dithers are slower than a normal distribution has them: settling starts anew with every stray frame."""
FEW = 20
"""Of fewer dithers, the 95 % point is told by their mean and scatter."""


@dataclass(frozen=True)
class Settled:
    """One dither: when it came, in s into the run; when the star was inside the limit; when it had stayed there as long
    as wanted, None where it never did before the run went on to something else; and up to which row that took."""

    at_s: float
    inside_s: float | None
    settled_s: float | None
    row: int
    until_row: int


@dataclass(frozen=True)
class Settling:
    """All dithers of a run, and what their times come to in s; None for fewer than one that settled."""

    dithers: tuple[Settled, ...]
    median_s: Estimate | None
    p95_s: Estimate | None
    inside_median_s: Estimate | None
    inside_p95_s: Estimate | None
    limit_arcsec: float
    for_s: float
    entries: bool = False
    """Whether the log itself says when it had settled, and the rig does not."""

    @property
    def never(self) -> int:
        """How many dithers never settled."""
        return sum(entry.settled_s is None for entry in self.dithers)


def settling_of(run: GuideRun, limit_arcsec: float, for_s: float, *, by_marks: bool = False) -> Settling | None:
    """Return how long a run's dithers took to settle.

    Parameters
    ----------
    run
        The run.
    limit_arcsec, for_s
        Settled is who stays within this distance of the lock for so long.
    by_marks
        Whether the log's own words count, where it says when it had settled.

    Returns
    -------
    Settling or None
        None without a dither.
    """
    if not run.dithers:
        return None
    away = np.hypot(np.nan_to_num(run.ra), np.nan_to_num(run.dec))
    away[run.lost] = math.inf
    entries = by_marks and bool(run.settled)
    found = []
    ends = (*run.dithers[1:], len(run.time_s))
    for row, end in zip(run.dithers, ends, strict=True):
        if entries:
            found.append(_by_marks(run, row, end))
        else:
            found.append(_by_distance(run, away, row, end, limit_arcsec, for_s))
    whole = [entry.settled_s for entry in found if entry.settled_s is not None]
    inside = [entry.inside_s for entry in found if entry.inside_s is not None]
    # One that never settled took longer than it was watched: left out, the slow ones would be missing.
    middle = float(np.median(whole)) if whole else math.inf
    watched = [float(run.time_s[own.until_row - 1]) - own.at_s for own in found if own.settled_s is None]
    whole += [seconds for seconds in watched if seconds > middle]
    return Settling(
        tuple(found),
        *_spread(whole, run.interval_s),
        *_spread(inside, run.interval_s),
        limit_arcsec,
        for_s,
        entries,
    )


def _by_marks(run: GuideRun, row: int, end: int) -> Settled:
    last = next((own for own in run.settled if row <= own < end), None)
    at = float(run.time_s[row])
    if last is None:
        return Settled(at, None, None, row, end)
    took = float(run.time_s[last]) - at
    return Settled(at, took, took, row, last)


def _by_distance(run: GuideRun, away: Floats, row: int, end: int, limit: float, for_s: float) -> Settled:
    """Return a dither that has settled where the star stays inside as long as wanted."""
    time = run.time_s
    start = first = row
    # The row that tells a dither may still show the star where it was: the move is the largest step that follows.
    near = min(row + 4, end)
    if away[row] <= limit and near > row + 1:
        moves = np.flatnonzero(away[row:near] > limit)
        start = row + int(moves[0]) if len(moves) else row
    at = float(time[row])
    within = False
    for place in range(start, end):
        if away[place] > limit:
            within = False
            continue
        if not within:
            first, within = place, True
        if time[place] - time[first] >= for_s - 1e-9:
            inside = float(time[first]) - at
            return Settled(at, inside, float(time[place]) - at, row, place)
    return Settled(at, float(time[first]) - at if within else None, None, row, end)


def _spread(values: list[float], interval_s: float) -> tuple[Estimate | None, Estimate | None]:
    """Return the median and the 95 % point of some times in s; frames tell them no closer than from one to the next."""
    if not values:
        return None, None
    array, count = np.array(values), len(values)
    # All times are whole intervals: a point of theirs may lie one to either side.
    coarse = interval_s / math.sqrt(3)
    scatter = float(array.std(ddof=1)) if count > 1 else 0.0
    one = scatter / math.sqrt(count) * student_factor(count - 1)
    middle = Estimate(float(np.median(array)), math.hypot(NORMAL_MEDIAN * one, coarse))
    # The slowest dither in twenty is hardly ever among so few: how much longer it takes is not seen.
    unseen = UNSEEN_SHARE * middle.value / math.sqrt(count)
    if count >= FEW:
        return middle, Estimate(float(np.quantile(array, 0.95)), math.hypot(P95_SPREAD * one, unseen, coarse))
    spread = math.hypot(TAIL * one * math.sqrt(1 + P95_SIGMAS**2 / 2), unseen, coarse)
    return middle, Estimate(float(array.mean()) + P95_SIGMAS * scatter, spread)


def while_settling(run: GuideRun, settling: Settling | None) -> Flags:
    """Return which frames belong to a dither that has not settled yet, (n,)."""
    found = np.zeros(len(run.time_s), bool)
    for entry in settling.dithers if settling is not None else ():
        found[entry.row : entry.until_row] = True
    return found

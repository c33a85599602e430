"""Gusts: frames that stray far from the rest of a run for some seconds, as wind or a touched telescope moves a star."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from wyntaxis.core.fitting import scatter_about_zero

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Flags, Floats, Ints

STRAYS, BELONGS = 6.0, 3.0
"""A gust strays by so many scatters of an axis; what strays by so many beside it belongs to it."""
TOGETHER_S = 15.0
"""Frames nearer than this are of one gust."""
MOST_SHARE = 0.1
"""Where more of a run strays than this, it is no gust but the run's own way."""


@dataclass(frozen=True)
class Gust:
    """One gust: when it began in s into the run, how long it lasted, how far it reached, and its rows."""

    at_s: float
    seconds: float
    peak_arcsec: float
    rows: tuple[int, ...]


def gusts_of(time: Floats, ra: Floats, dec: Floats, rows: Ints) -> tuple[Gust, ...]:
    """Return the gusts of a run.

    Parameters
    ----------
    time, ra, dec
        Of the frames that count, (n,) each: in s, and errors about their running line in arcsec.
    rows
        Their places in the run, (n,).

    Returns
    -------
    tuple of Gust
        In their order; none where frames stray so often that they are the run's own way.
    """
    if len(time) < 20:
        return ()
    scatters = [max(scatter_about_zero(values), 1e-9) for values in (ra, dec) if np.any(values)]
    axes = [np.abs(values) for values in (ra, dec) if np.any(values)]
    if not axes:
        return ()
    away = np.max([values / scatter for values, scatter in zip(axes, scatters, strict=True)], axis=0)
    strays = np.flatnonzero(away > BELONGS)
    if not (away > STRAYS).any():
        return ()
    found = []
    for group in np.split(strays, np.flatnonzero(np.diff(time[strays]) > TOGETHER_S) + 1):
        if (away[group] > STRAYS).any():
            seconds = float(np.ptp(time[group])) + float(np.median(np.diff(time)))
            peak = float(np.hypot(ra[group], dec[group]).max())
            found.append(Gust(float(time[group[0]]), seconds, peak, tuple(int(rows[place]) for place in group)))
    if sum(len(own.rows) for own in found) > MOST_SHARE * len(time):
        return ()
    return tuple(found)


def calm(count: int, gusts: Sequence[Gust]) -> Flags:
    """Return which of a run's frames lie in no gust, (count,)."""
    found = np.ones(count, bool)
    for own in gusts:
        found[list(own.rows)] = False
    return found

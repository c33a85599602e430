"""Runs held against each other: before and after the meridian flip, and night against night."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import pairwise
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.guide_log.nights import night_of_run
from wyntaxis.core.evidence.measured import Estimate

if TYPE_CHECKING:
    from wyntaxis.core.evidence.guide_log.result import GuideResult, MeasuredRun

TOLD_APART = 2.0
"""Two numbers differ where they lie so many standard uncertainties of their difference apart."""


@dataclass(frozen=True)
class Comparison:
    """One number of two runs: why these two, what it is with its unit, and both values."""

    why: str
    before: MeasuredRun
    after: MeasuredRun
    what: str
    unit: str
    first: Estimate
    second: Estimate

    @property
    def difference(self) -> Estimate:
        """The second less the first."""
        standard = math.hypot(self.first.standard, self.second.standard)
        return Estimate(self.second.value - self.first.value, standard)

    @property
    def significance(self) -> float:
        """The difference in its standard uncertainties; without any, infinite, or zero for no difference."""
        difference = self.difference
        if difference.standard > 0:
            return abs(difference.value) / difference.standard
        return math.inf if difference.value else 0.0

    @property
    def differs(self) -> bool:
        """Whether the two are told apart."""
        return self.significance > TOLD_APART


def _mount_drift(own: MeasuredRun) -> Estimate | None:
    drift = own.drift_dec
    return drift.rate if drift is not None and drift.is_free else None


MEASURES: tuple[tuple[str, str, Callable[[MeasuredRun], Estimate | None]], ...] = (
    ("RMS", "″", lambda own: own.rms),
    ("right ascension", "″", lambda own: own.rms_ra),
    ("declination", "″", lambda own: own.rms_dec),
    ("mount's drift Dec", "″/min", _mount_drift),
    ("lag-1 autocorrelation", "", lambda own: own.alike_ra),
    ("period", "s", lambda own: own.period_s),
)
"""What is held against each other: its name, its unit, and what gets it."""


def pairs_of(result: GuideResult) -> Iterator[tuple[str, MeasuredRun, MeasuredRun]]:
    """Yield the runs that are held against each other, with the reason.

    Yields
    ------
    tuple
        Two runs of one night that follow each other on different sides of the pier, and the longest runs of two nights
        that follow each other.
    """
    runs = list(result.runs)
    if all(own.run.start_s is not None for own in runs):
        runs.sort(key=lambda own: own.run.start_s or 0.0)
    nights: dict[str, list[MeasuredRun]] = {}
    for own in runs:
        nights.setdefault(night_of_run(own), []).append(own)
    for night, those in nights.items():
        for one, other in pairwise(those):
            sides = one.run.facts.pier_side, other.run.facts.pier_side
            if None not in sides and sides[0] != sides[1] and night != NO_NIGHT:
                yield f"before and after the flip, {sides[0]} to {sides[1]}", one, other
    longest = [max(those, key=lambda own: own.run.seconds) for night, those in nights.items() if night != NO_NIGHT]
    for one, other in pairwise(longest):
        yield "night against night", one, other


NO_NIGHT = "–"


def comparisons_of(result: GuideResult) -> Iterator[Comparison]:
    """Yield each number of each two runs that are held against each other, where both have it."""
    for why, one, other in pairs_of(result):
        for what, unit, get in MEASURES:
            first, second = get(one), get(other)
            if first is not None and second is not None:
                yield Comparison(why, one, other, what, unit, first, second)

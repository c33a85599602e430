"""Whether the wheel stops where it did: the scatter of two flats' ratio over the noise of light."""

from __future__ import annotations

from wyntaxis.core.evidence.filters.result import Repeat
from wyntaxis.core.ledger import QuantityValue, Target, Verdict, worst

EXCESS_TARGET = Target(high=1.6, inner_high=1.2)
"""The scatter of a ratio of two flats over that of their noise."""


def repeat_verdict(repeat: Repeat) -> Verdict:
    """Return how a filter comes back: by its ratio over its noise; never without a doubt where dust moved for certain.

    Parameters
    ----------
    repeat
        The pair of flats that differs most.

    Returns
    -------
    Verdict
        Unproven where it is not known whether the wheel turned between, and where no shadow would have shown a shift.
    """
    verdict = EXCESS_TARGET.judge(excess_of(repeat))
    if repeat.pair.moved:
        return worst([verdict, Verdict.TIGHT])
    unknown = repeat.turned is None or bool(repeat.unseen)
    return Verdict.UNPROVEN if unknown and verdict is Verdict.HOLDS else verdict


def excess_of(repeat: Repeat) -> QuantityValue:
    """Return the scatter of a ratio over that of its noise.

    Parameters
    ----------
    repeat
        A pair of flats.

    Returns
    -------
    QuantityValue
        A factor.
    """
    pair = repeat.pair
    return QuantityValue(pair.ratio_rms / pair.shot_rms, pair.shot_standard / pair.shot_rms)

"""The offset: the low end of the bias histogram, its pile-up and margin, and the smallest offset that suffices."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from wyntaxis.core.evidence.sensor.strips import open_frame
from wyntaxis.core.evidence.sensor.tiles import CODES
from wyntaxis.core.fitting import weighted_fit
from wyntaxis.core.limits import WANTED_SIGMA

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Ints

MIN_SLOPE_ADU = 1e-3
"""An offset that moves the bias by less than this a unit does nothing."""
PILED_OVER_NEXT = 1.5
"""A lowest code piles up when it holds this many times what the next code holds; a normal tail falls toward it."""


@dataclass(frozen=True)
class BiasHistogram:
    """Counts of every code, (65536,), of one or more bias frames taken alike."""

    counts: Ints
    step: int = 1

    @property
    def lowest(self) -> int:
        return int(np.flatnonzero(self.counts)[0])

    @property
    def total(self) -> int:
        return int(self.counts.sum())

    @property
    def piled_share(self) -> float:
        """The share of pixels at the lowest code, where more stand there than a tail would hold; else 0."""
        lowest = self.lowest
        here, following = int(self.counts[lowest]), int(self.counts[min(lowest + self.step, CODES - 1)])
        piled = here > PILED_OVER_NEXT * following + 3 * math.sqrt(following + 1)
        return here / self.total if piled else 0.0

    def low_end(self, codes: int = 60) -> tuple[Ints, Ints]:
        """Return the codes from the lowest up, and their counts."""
        start = self.lowest
        found = np.arange(start, min(start + codes * self.step, CODES), self.step)
        return found, self.counts[found]


def bias_histogram(paths: Sequence[Path], step: int = 1, watch: Callable[[], None] = lambda: None) -> BiasHistogram:
    """Return the histogram of some bias frames, read in strips; :class:`InputError` for what cannot be read.

    Parameters
    ----------
    paths
        Bias frames.
    step
        The converter's step in ADU.
    watch
        Called again and again; may raise to end the work.

    Returns
    -------
    BiasHistogram
        Counts of codes, with the lowest and the share that piles up on it.
    """
    counts = np.zeros(CODES, np.int64)
    for path in paths:
        with open_frame(path) as frame:
            for start, end in frame.strips(1):
                watch()
                counts += np.bincount(frame.rows(start, end).ravel(), minlength=CODES)
    return BiasHistogram(counts, step)


def margin_sigma(mean_adu: float, noise_adu: float) -> float:
    """Return how many standard deviations the bias lies above no ADU.

    Parameters
    ----------
    mean_adu, noise_adu
        The bias's mean and noise in ADU.

    Returns
    -------
    float
        In standard deviations; infinite without noise above 0.
    """
    return mean_adu / noise_adu if noise_adu > 0 else math.inf


@dataclass(frozen=True)
class OffsetLine:
    """Bias level over offset: ADU per unit, the level at offset 0, and the smallest offset that suffices."""

    adu_per_unit: float
    at_zero_adu: float
    least_offset: float


def offset_line(levels: Sequence[tuple[float, float]], noise_adu: float, piled: Sequence[bool]) -> OffsetLine | None:
    """Return the line through (offset, bias level) and the smallest whole offset that leaves six standard deviations.

    Levels whose histogram piles up are passed over, since clipping lifts them; None with fewer than two left, or where
    the level does not rise with the offset.

    Parameters
    ----------
    levels
        Offsets with their bias level in ADU.
    noise_adu
        The bias's noise in ADU.
    piled
        Which of them pile up at the bottom.

    Returns
    -------
    OffsetLine or None
        ADU a unit of offset, and the least offset.
    """
    good = sorted({offset: level for (offset, level), bad in zip(levels, piled, strict=True) if not bad}.items())
    if len(good) < 2:
        # One clipped level of two still shows the slope, if only from below.
        good = sorted(dict(levels).items())
    if len(good) < 2:
        return None
    x, y = np.array(good).T
    start, slope = weighted_fit(np.stack([np.ones_like(x), x], axis=1), y).parameters
    if slope < MIN_SLOPE_ADU:
        return None
    least = (WANTED_SIGMA * noise_adu - start) / slope + 1e-9  # a level just at the limit does not suffice
    return OffsetLine(float(slope), float(start), float(max(0, math.floor(least) + 1)))

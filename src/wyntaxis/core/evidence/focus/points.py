"""Points of focus runs: a counter position, the size of the stars there, and whether the point counts."""

from __future__ import annotations

import datetime
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

Direction = Literal["in", "out"]

BY_HAND = "left out by hand"


@dataclass(frozen=True)
class FocusPoint:
    """One frame or row of a run: ``position`` in steps, ``hfd_px`` and its standard error in px of the frame.

    ``why`` tells why it does not count, empty where it does; ``stars`` and ``saturated`` are counts, None where nobody
    counted; ``took_s`` is the exposure, ``path`` where its frame lies.
    """

    file: str
    position: float
    hfd_px: float | None
    standard_px: float = 0.0
    why: str = ""
    filter: str | None = None
    temperature_c: float | None = None
    time: datetime.datetime | None = None
    took_s: float | None = None
    binning: int = 1
    stars: int | None = None
    saturated: int | None = None
    path: Path | None = None

    @property
    def used(self) -> bool:
        """Whether the point counts in the fit."""
        return not self.why and self.hfd_px is not None

    def without(self, why: str) -> FocusPoint:
        """Return the point left out for a reason."""
        return replace(self, why=why)

    def at_binning(self, binning: int) -> FocusPoint:
        """Return the point as one that counts, its size and standard error in px of another binning."""
        assert self.hfd_px is not None
        factor = self.binning / binning
        return replace(
            self, why="", hfd_px=factor * self.hfd_px, standard_px=factor * self.standard_px, binning=binning
        )


@dataclass(frozen=True)
class FocusRun:
    """The points of one run in the order in which they were taken, and which way the counter went, where that is told.

    ``direction`` is ``out`` where the counter rises.
    """

    name: str
    points: tuple[FocusPoint, ...]
    direction: Direction | None = None

    @property
    def filter(self) -> str | None:
        """The filter of the first point that names one."""
        return next((point.filter for point in self.points if point.filter), None)

    @property
    def binning(self) -> int:
        """The binning of the frames that count, in whose px the sizes are: the usual one, the lower of two alike."""
        entries = [point.binning for point in self.points if point.used] or [point.binning for point in self.points]
        return max(entries, key=lambda own: (entries.count(own), -own), default=1)

    @property
    def temperature_c(self) -> float | None:
        """The mean temperature in °C of the points that tell it."""
        entries = [point.temperature_c for point in self.points if point.temperature_c is not None]
        return sum(entries) / len(entries) if entries else None

    @property
    def time(self) -> datetime.datetime | None:
        """When the run began."""
        return min((point.time for point in self.points if point.time is not None), default=None)

    @property
    def lasted_s(self) -> float | None:
        """How long the run took, from its first exposure to the end of its last, in s."""
        entries = [point for point in self.points if point.time is not None]
        if len(entries) < 2:
            return None
        first, last = min(entries, key=_when), max(entries, key=_when)
        span = (_when(last) - _when(first)).total_seconds()
        # The last point takes as long as the others did on the average, its move and download too.
        return span * len(entries) / (len(entries) - 1) if span > 0 else None

    def with_points(self, points: tuple[FocusPoint, ...]) -> FocusRun:
        """Return the run with other points."""
        return replace(self, points=points)


def _when(point: FocusPoint) -> datetime.datetime:
    assert point.time is not None
    return point.time

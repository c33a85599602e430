"""A sweep of the focuser over a field of stars: the same stars found again from frame to frame, with their sizes."""

from __future__ import annotations

import datetime
import math
import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.evidence.focus.points import FocusPoint
from wyntaxis.core.evidence.focus.runs import MIN_POSITIONS, runs_to_and_fro
from wyntaxis.core.evidence.headers.headers import FrameHeader, UnusedFile
from wyntaxis.core.evidence.headers.names import DEFAULT_FILTER_NAMES, FilterNames
from wyntaxis.core.evidence.stars.frame_stars import BLEND_FLUX_SHARE, BLEND_REACH, SAME_STAR_PX, FrameStars
from wyntaxis.core.evidence.stars.registration import shift_between

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats

SWEEP_STARS = 1_800
"""So many of each frame's brightest stars are measured and followed through a sweep: thirty to each zone."""
SPACING_NAMES = (
    re.compile(r"(?<![\d.,])(\d{1,3}(?:[.,]\d{1,4})?)\s*mm", re.IGNORECASE),
    re.compile(r"spacing[ _-]*(\d{1,3}(?:[.,_]\d{1,4})?)", re.IGNORECASE),
)
"""How the name of a folder tells a spacing, such as ``61.5 mm``."""


@dataclass(frozen=True)
class SweepFrame:
    """One frame of a sweep: its file, the counter's position in steps, and how its stars lie against the sharpest's."""

    file: str
    position: float
    path: Path | None = None
    header: FrameHeader | None = None


@dataclass(frozen=True)
class FieldSweep:
    """Stars followed through a sweep: places in px of the sharpest frame, and ``hfd``, (frames, stars) in px, NaN where
    a star was not found, saturated, faint, or one with its neighbour.

    ``spacing_mm`` is the distance behind the corrector at which the sensor stood, None where nobody told.
    """

    name: str
    frames: tuple[SweepFrame, ...]
    sharpest: FrameStars
    size_px: tuple[int, int]
    binning: int
    x: Floats
    y: Floats
    hfd: Floats
    spacing_mm: float | None = None

    @property
    def positions(self) -> Floats:
        """Where the counter stood, in steps."""
        return np.array([frame.position for frame in self.frames])

    @property
    def header(self) -> FrameHeader | None:
        """What the sharpest frame says of itself."""
        return self.sharpest.header

    @property
    def filter(self) -> str | None:
        """The filter it was taken through."""
        return self.header.filter if self.header is not None else None

    @property
    def temperature_c(self) -> float | None:
        """The mean temperature at the focuser, in °C."""
        entries = [f.header.focus_temperature_c for f in self.frames if f.header is not None]
        known = [value for value in entries if value is not None]
        return sum(known) / len(known) if known else None

    @property
    def time(self) -> datetime.datetime | None:
        """When its first frame was taken."""
        moments = [moment_of(frame.header) for frame in self.frames]
        known = [moment for moment in moments if moment is not None]
        return min(known) if known else None

    @property
    def half_diagonal_px(self) -> float:
        """How far the corner is from the middle, in px of the frames."""
        return math.hypot(*self.size_px) / 2


def moment_of(header: FrameHeader | None) -> datetime.datetime | None:
    """Return when a frame was taken, in UTC where it names no zone; None where it does not tell."""
    try:
        moment = datetime.datetime.fromisoformat((header.date if header is not None else None) or "")
    except ValueError:
        return None
    return moment if moment.tzinfo is not None else moment.replace(tzinfo=datetime.UTC)


def sweeps_of(
    frames: Sequence[FrameStars], name: str, names: FilterNames = DEFAULT_FILTER_NAMES
) -> tuple[list[FieldSweep], list[FrameStars], list[UnusedFile]]:
    """Return the sweeps that a folder's frames make.

    Parameters
    ----------
    frames
        Frames, measured, of one folder.
    name
        What to call the sweep.
    names
        When two filters are one.

    Returns
    -------
    tuple
        Sweeps; frames that belong to none, but have stars; and what was not used, with the reason.
    """
    by_file = {frame.file: frame for frame in frames}
    points = [point for frame in frames if (point := _point(frame)) is not None]
    runs, left = runs_to_and_fro(points, name, names)
    sweeps: list[FieldSweep] = []
    apart: list[UnusedFile] = []
    for run in runs:
        used = [point for point in run.points if not point.why]
        apart += [UnusedFile(point.file, point.why) for point in run.points if point.why]
        taken = [(point, by_file[point.file]) for point in used if by_file[point.file].count]
        apart += [UnusedFile(p.file, "no star was found") for p in used if not by_file[p.file].count]
        if len({point.position for point, _ in taken}) < MIN_POSITIONS:
            apart += [UnusedFile(p.file, f"a sweep takes {MIN_POSITIONS} positions with stars") for p, _ in taken]
        else:
            sweeps.append(_followed(run.name, taken))
    single = {entry.path for entry in left}
    alone = [frame for frame in frames if frame.file in single or frame.file not in {p.file for p in points}]
    return sweeps, [frame for frame in alone if frame.count], apart


def _point(frame: FrameStars) -> FocusPoint | None:
    header = frame.header
    if header is None or header.focus_position is None:
        return None
    return FocusPoint(
        file=frame.file,
        position=header.focus_position,
        hfd_px=None,
        filter=header.filter,
        temperature_c=header.focus_temperature_c,
        time=moment_of(header),
        binning=header.binning or 1,
        path=frame.path,
    )


def _followed(name: str, taken: Sequence[tuple[FocusPoint, FrameStars]]) -> FieldSweep:
    """Return the sweep of the stars of its sharpest frame, found again in the others."""
    sizes = [frame.hfd_px.value if frame.hfd_px is not None else math.inf for _, frame in taken]
    sharp = taken[int(np.argmin(sizes))][1]
    header = sharp.header
    size = (header.width_px or 0, header.height_px or 0) if header is not None else (0, 0)
    shapes = sharp.shapes
    places = np.stack([shapes.x, shapes.y], axis=-1)
    good = ~shapes.saturated & (shapes.snr > 0)
    reach = _next_neighbour(places, shapes.flux)
    hfd = np.full((len(taken), len(places)), np.nan)
    for row, (_point_there, frame) in enumerate(taken):
        _found_again(hfd[row], frame, sharp, places, reach, size)
    hfd[:, ~good] = np.nan
    known = np.isfinite(hfd).any(axis=0)
    return FieldSweep(
        name=name,
        frames=tuple(SweepFrame(frame.file, point.position, frame.path, frame.header) for point, frame in taken),
        sharpest=replace(sharp, refused=()),
        size_px=size,
        binning=(header.binning if header is not None else None) or 1,
        x=places[known, 0],
        y=places[known, 1],
        hfd=hfd[:, known],
    )


def _next_neighbour(places: Any, flux: Any) -> Any:
    """Return how far from each star the next is that is bright enough to matter, in px."""
    from scipy.spatial import cKDTree

    if len(places) < 2:
        return np.full(len(places), np.inf)
    many = min(5, len(places))
    apart, which = cKDTree(places).query(places, k=many)
    matters = flux[which] > BLEND_FLUX_SHARE * flux[:, None]
    matters[:, 0] = False
    return np.where(matters, apart, np.inf).min(axis=1)


def _found_again(
    into: Floats, frame: FrameStars, sharp: FrameStars, places: Floats, reach: Floats, size: tuple[int, int]
) -> None:
    """Write into one row the sizes of the stars that a frame shows again, each standing alone."""
    from scipy.spatial import cKDTree

    shapes, own = frame.shapes, frame.used
    if not own.any() or frame.hfd_px is None:
        return
    shift = None if frame is sharp else shift_between(sharp.brightest, frame.brightest, size)
    by = np.array([shift.x, shift.y]) if shift is not None and not shift.flipped else np.zeros(2)
    there = np.stack([shapes.x[own], shapes.y[own]], axis=-1)
    near, which = cKDTree(there).query(places + by)
    found = near < max(SAME_STAR_PX, frame.hfd_px.value / 2)
    blurred = BLEND_REACH * shapes.hfd[own][which] + (sharp.hfd_px.value if sharp.hfd_px is not None else 0.0)
    found &= reach > blurred
    into[found] = shapes.hfd[own][which][found]


def spacing_in_name(name: str) -> float | None:
    """Return the spacing in mm that the name of a folder tells, such as ``sweep 61.5 mm``; None where it tells none."""
    for pattern in SPACING_NAMES:
        found = pattern.search(name)
        if found:
            return float(found[1].replace(",", ".").replace("_", "."))
    return None

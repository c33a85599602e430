"""Stars as evidence: size and roundness of the stars on accepted frames, kept as measured values of the rig."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from wyntaxis.core.evidence.headers.headers import FrameHeader, UnusedFile
from wyntaxis.core.evidence.kinds import EvidenceKind, Keeping
from wyntaxis.core.evidence.measured import Estimate, Origin
from wyntaxis.core.files.errors import InputError, Progress
from wyntaxis.core.fitting import median_error
from wyntaxis.core.quantity_kinds import STAR_ELONGATION, STAR_FWHM
from wyntaxis.core.rig.model import Rig

if TYPE_CHECKING:
    from wyntaxis.core.evidence.stars.frame_grading import FrameGrade
    from wyntaxis.core.evidence.stars.frame_stars import FrameStars


@dataclass(frozen=True)
class StarsResult:
    """Frames with their stars, in time, and what was not used; ``factor`` and ``limit_px`` are the limit of worth."""

    frames: tuple[FrameStars, ...]
    not_used: tuple[UnusedFile, ...] = ()
    factor: float | None = None
    limit_px: float | None = None

    @property
    def grades(self) -> list[FrameGrade]:
        """Whether each frame is worth keeping."""
        from wyntaxis.core.evidence.stars.frame_grading import FACTOR, judge_frames

        return judge_frames(self.frames, self.factor or FACTOR, self.limit_px)


def read(
    paths: Sequence[Path],
    scale_of: Callable[[FrameHeader], float | None] | None = None,
    progress: Progress = lambda _done, _of: None,
    every: int = 1,
    *,
    condensed: bool = True,
    limit_px: float | None = None,
) -> StarsResult:
    """Measure the stars of frames.

    Parameters
    ----------
    paths
        Folders and FITS files.
    scale_of
        What gives arcsec/px from a header; the header's own pixel and focal length where left out.
    progress
        Told of frames read and to read; may cancel.
    every
        Take every so many-th frame only.
    condensed
        Keep the brightest stars of each frame alone, so that many frames fit into memory; medians are of all.
    limit_px
        The largest half-flux diameter of a frame worth keeping; by the first good frames where left out.

    Returns
    -------
    StarsResult
        In the order in which they were taken.

    Raises
    ------
    InputError
        In one line, for a path that is not there, or a folder without a frame.
    """
    from wyntaxis.core.evidence.stars.frame_grading import in_time
    from wyntaxis.core.evidence.stars.frame_stars import measure_frames

    frames, not_used = measure_frames(paths, scale_of, progress, every=every, condensed=condensed)
    if not frames and not not_used:
        raise InputError("holds no FITS frame", paths[0] if len(paths) == 1 else None)
    return StarsResult(tuple(in_time(frames)), tuple(not_used), limit_px=limit_px)


def _numbers(_rig: Rig, result: StarsResult) -> dict[str, Estimate]:
    """Return the median size in arcsec and roundness over the accepted frames, by quantity id."""
    good = [entry.frame for entry in result.grades if entry.keep]
    sizes = [frame.fwhm_px.times(frame.scale_arcsec_px) for frame in good if frame.fwhm_px and frame.scale_arcsec_px]
    shapes = [frame.elongation for frame in good if frame.elongation is not None]
    found = {STAR_FWHM: _median(sizes), STAR_ELONGATION: _median(shapes)}
    return {kind.id: value for kind, value in found.items() if value is not None}


def _median(estimates: Sequence[Estimate]) -> Estimate | None:
    """Return the median of frames' figures: its own scatter over the frames, and no less than what one frame leaves."""
    if not estimates:
        return None
    values = np.array([entry.value for entry in estimates])
    middle = float(np.median(values))
    return Estimate(middle, float(np.hypot(median_error(values), np.median([entry.standard for entry in estimates]))))


def _origin(result: StarsResult, _key: str) -> Origin:
    good = sum(entry.keep for entry in result.grades)
    file = result.frames[0].file.rpartition("/")[2]
    return Origin(f"stars of {good} frames", file, f"{good} of {len(result.frames)} accepted frames")


STARS = EvidenceKind(
    "stars",
    read,
    _numbers,
    Keeping("Keep the stars' size", "stars", _origin, "no frame is accepted, so there is no star size to keep"),
)
"""What frames' stars tell, kept in the rig as measured values."""

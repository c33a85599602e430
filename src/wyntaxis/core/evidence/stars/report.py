"""Stars as JSON and as CSV."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from typing import Any

from wyntaxis.core.evidence.headers.headers import BrokenFrame
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.evidence.stars.frame_stars import FrameStars

EACH = (
    "file",
    "x_px",
    "y_px",
    "flux_adu",
    "peak_adu",
    "hfd_px",
    "fwhm_px",
    "elongation",
    "position_angle_deg",
    "snr",
    "saturated",
)


def figure(estimate: Estimate | None, factor: float = 1.0) -> dict[str, float] | None:
    """Return a measured figure as JSON holds it: value and standard uncertainty; None for none.

    Parameters
    ----------
    estimate, factor
        The figure, and what it is multiplied by.

    Returns
    -------
    dict or None
        In the figure's unit.
    """
    return None if estimate is None else {"value": estimate.value * factor, "u": estimate.standard * factor}


def stars_json(frames: Sequence[FrameStars], not_used: Sequence[BrokenFrame]) -> dict[str, Any]:
    """Return what stars tell as ``wyntaxis stars --json`` prints it.

    Parameters
    ----------
    frames, not_used
        What was measured, and what was not, with the reason.

    Returns
    -------
    dict
        Plain values.
    """
    return {
        "frames": [_frame(frame) for frame in frames],
        "not_used": [{"file": entry.path, "why": entry.why} for entry in not_used],
    }


def _frame(frame: FrameStars) -> dict[str, Any]:
    scale = frame.scale_arcsec_px
    told = {
        "file": frame.file,
        "stars": frame.count,
        "hfd_px": figure(frame.hfd_px),
        "hfd_arcsec": figure(frame.hfd_px, scale) if scale else None,
        "fwhm_px": figure(frame.fwhm_px),
        "elongation": figure(frame.elongation),
        "position_angle_deg": figure(frame.position_angle_deg),
        "saturated": int(frame.shapes.saturated.sum()),
        "sky_adu": figure(frame.sky_adu),
        "noise_adu": figure(frame.noise_adu),
    }
    if frame.why_none:
        told["why"] = frame.why_none
    elif scale is None:
        told["why"] = "the scale is not known: name a rig, or frames whose header tells pixel and focal length"
    return told


def stars_csv(frames: Sequence[FrameStars]) -> str:
    """Return every star of some frames as CSV with headings.

    Parameters
    ----------
    frames
        What was measured.

    Returns
    -------
    str
        Places in px, 0-based, of the middle of the first pixel.
    """
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(EACH)
    for frame in frames:
        s = frame.shapes
        columns = (s.x, s.y, s.flux, s.peak, s.hfd, s.fwhm, s.elongation, s.angle, s.snr)
        for index in range(frame.count):
            row = [f"{column[index]:.4f}" for column in columns]
            writer.writerow([frame.file, *row, int(s.saturated[index])])
    return text.getvalue()

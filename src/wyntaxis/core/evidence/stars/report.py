"""Stars as JSON and as CSV."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from typing import Any

from wyntaxis.core.evidence.measured import figure
from wyntaxis.core.evidence.stars.frame_grading import FrameGrade
from wyntaxis.core.evidence.stars.frame_stars import FrameStars
from wyntaxis.core.evidence.stars.kind import StarsResult
from wyntaxis.core.wording import number, plus_minus

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


def stars_json(result: StarsResult) -> dict[str, Any]:
    """Return what stars tell as ``wyntaxis stars --json`` prints it.

    Parameters
    ----------
    result
        Frames, measured, and what was not used.

    Returns
    -------
    dict
        Plain values.
    """
    return {
        "frames": [_frame(entry) for entry in result.grades],
        "not_used": [{"file": entry.path, "why": entry.why} for entry in result.not_used],
    }


def _frame(entry: FrameGrade) -> dict[str, Any]:
    frame = entry.frame
    scale, header = frame.scale_arcsec_px, frame.header
    entries = {
        "file": frame.file,
        "stars": frame.count,
        "hfd_px": figure(frame.hfd_px),
        "hfd_arcsec": figure(frame.hfd_px, scale) if scale else None,
        "fwhm_px": figure(frame.fwhm_px),
        "fwhm_arcsec": figure(frame.fwhm_px, scale) if scale else None,
        "elongation": figure(frame.elongation),
        "position_angle_deg": figure(frame.position_angle_deg),
        "saturated": frame.saturated,
        "sky_adu": figure(frame.sky_adu),
        "noise_adu": figure(frame.noise_adu),
        "filter": header.filter if header else None,
        "date": header.date if header else None,
        "temperature_c": header.focus_temperature_c if header else None,
        "limit_px": entry.limit_px,
        "keep": entry.keep,
        "fault": entry.fault or None,
        "fault_why": entry.why or None,
        "marks": list(entry.marks),
    }
    if frame.why_none:
        entries["why"] = frame.why_none
    elif scale is None:
        entries["why"] = "the scale is not known: name a rig, or frames whose header has pixel size and focal length"
    return entries


FRAME_HEADINGS = (
    "frame",
    "keep",
    "stars",
    "HFD px",
    "FWHM px",
    "elongation",
    "angle °",
    "filter",
    "saturated",
    "sky ADU",
    "noise ADU",
    "before it",
    "why",
)


def frame_row(entry: FrameGrade) -> list[str]:
    """Return one frame as the cells under :data:`FRAME_HEADINGS`.

    Parameters
    ----------
    entry
        A frame and whether it is worth keeping.

    Returns
    -------
    list[str]
        Texts, units in the headings.
    """
    frame = entry.frame
    figures = (frame.hfd_px, frame.fwhm_px, frame.elongation)
    cells = ["–" if entries is None else plus_minus(entries.value, entries.standard, 2) for entries in figures]
    angle = "–" if frame.position_angle_deg is None else number(frame.position_angle_deg.value, 0)
    levels = [number(frame.sky_adu.value, 0), number(frame.noise_adu.value, 1)]
    name = (frame.header.filter if frame.header else None) or "–"
    return [
        frame.file, "yes" if entry.keep else entry.fault, str(frame.count), *cells, angle, name, str(frame.saturated),
        *levels, ", ".join(entry.marks), entry.why,
    ]  # fmt: skip


def frames_csv(grades: Sequence[FrameGrade]) -> str:
    """Return frames and whether they are worth keeping, as CSV under :data:`FRAME_HEADINGS`.

    Parameters
    ----------
    worth
        Frames, judged.

    Returns
    -------
    str
        A row a frame.
    """
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(FRAME_HEADINGS)
    writer.writerows(frame_row(entry) for entry in grades)
    return text.getvalue()


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
        for index in range(len(s.x)):
            row = [f"{column[index]:.4f}" for column in columns]
            writer.writerow([frame.file, *row, int(s.saturated[index])])
    return text.getvalue()

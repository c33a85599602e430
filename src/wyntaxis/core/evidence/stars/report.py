"""How frames and their stars are told: a row for each frame, and every star as CSV."""

from __future__ import annotations

import csv
import io
import statistics
from collections.abc import Callable, Sequence
from typing import TypeVar

from wyntaxis.core.evidence.headers.headers import FrameHeader
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.evidence.reporting import Column, Report, Table, fact, text
from wyntaxis.core.evidence.stars.frame_grading import FrameGrade
from wyntaxis.core.evidence.stars.frame_stars import FrameStars
from wyntaxis.core.evidence.stars.kind import StarsResult
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.wording import counted, number

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
NO_SCALE = "the scale is not known: name a rig, or frames whose header has pixel size and focal length"
H = TypeVar("H")


def _header(get: Callable[[FrameHeader], H]) -> Callable[[FrameGrade], H | None]:
    """Return what gets a value of a frame's header; None for a frame without one."""
    return lambda grade: get(grade.frame.header) if grade.frame.header is not None else None


def _arcsec(get: Callable[[FrameStars], Estimate | None]) -> Callable[[FrameGrade], Estimate | None]:
    """Return what gives a size in px in arcsec; None where the scale is not known."""

    def size(grade: FrameGrade) -> Estimate | None:
        found, scale = get(grade.frame), grade.frame.scale_arcsec_px
        return found.times(scale) if found is not None and scale else None

    return size


Frame = Column[FrameGrade]
FRAMES = Table[StarsResult, FrameGrade](
    "frames",
    "Frames",
    lambda result: result.grades,
    (
        text("frame", lambda grade: grade.frame.file, "file"),
        text("keep", lambda grade: "yes" if grade.keep else grade.fault),
        Frame("stars", "", 0, lambda grade: grade.frame.count, "stars"),
        Frame("HFD", "px", 2, lambda grade: grade.frame.hfd_px, "hfd_px"),
        Frame("FWHM", "px", 2, lambda grade: grade.frame.fwhm_px, "fwhm_px"),
        Frame("elongation", "", 2, lambda grade: grade.frame.elongation, "elongation"),
        Frame("angle", "°", 0, lambda grade: grade.frame.position_angle_deg, "position_angle_deg", bare=True),
        text("filter", _header(lambda header: header.filter), "filter"),
        Frame("saturated", "", 0, lambda grade: grade.frame.saturated, "saturated"),
        Frame("sky", "ADU", 0, lambda grade: grade.frame.sky_adu, "sky_adu", bare=True),
        Frame("noise", "ADU", 1, lambda grade: grade.frame.noise_adu, "noise_adu", bare=True),
        text("before it", lambda grade: ", ".join(grade.marks)),
        text("why", lambda grade: grade.why),
        fact("hfd_arcsec", _arcsec(lambda frame: frame.hfd_px)),
        fact("fwhm_arcsec", _arcsec(lambda frame: frame.fwhm_px)),
        fact("date", _header(lambda header: header.date)),
        fact("temperature_c", _header(lambda header: header.focus_temperature_c)),
        fact("limit_px", lambda grade: grade.limit_px),
        fact("keep", lambda grade: grade.keep),
        fact("fault", lambda grade: grade.fault or None),
        fact("fault_why", lambda grade: grade.why or None),
        fact("marks", lambda grade: grade.marks),
        fact("why", lambda grade: grade.frame.why_none or _no_scale(grade), optional=True),
    ),
    lambda grade: Verdict.HOLDS if grade.keep else Verdict.FAILS,
)


def _no_scale(grade: FrameGrade) -> str:
    return NO_SCALE if grade.frame.scale_arcsec_px is None else ""


def _answer(result: StarsResult) -> str:
    grades = result.grades
    if not grades:
        return ""
    kept = [grade.frame for grade in grades if grade.keep]
    sizes = [frame.fwhm_px.value for frame in kept if frame.fwhm_px is not None]
    text = f"{len(kept)} of {counted(len(grades), 'frame')} accepted"
    if not sizes:
        return f"{text}."
    size = statistics.median(sizes)
    scale = next((frame.scale_arcsec_px for frame in kept if frame.scale_arcsec_px), None)
    arcsec = f" ({number(size * scale, 2)}″)" if scale else ""
    return f"{text}; half of them with an FWHM under {number(size, 2)} px{arcsec}."


REPORT = Report[StarsResult]((FRAMES,), not_used=lambda result: result.not_used, answer=_answer)
"""How frames and their stars are told."""


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
    written = io.StringIO()
    writer = csv.writer(written, lineterminator="\n")
    writer.writerow(EACH)
    for frame in frames:
        s = frame.shapes
        columns = (s.x, s.y, s.flux, s.peak, s.hfd, s.fwhm, s.elongation, s.angle, s.snr)
        for index in range(len(s.x)):
            row = [f"{column[index]:.4f}" for column in columns]
            writer.writerow([frame.file, *row, int(s.saturated[index])])
    return written.getvalue()

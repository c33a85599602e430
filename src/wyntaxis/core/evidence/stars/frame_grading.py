"""Which frames are worth keeping: a limit for star size, and what is wrong with each frame beyond it."""

from __future__ import annotations

import datetime
import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from wyntaxis.core.evidence.stars.frame_stars import FrameStars
from wyntaxis.core.evidence.stars.registration import BRIGHTEST, Shift, shift_between
from wyntaxis.core.wording import number

Fault = Literal["", "soft", "trailed", "cloud", "dew", "moved", "empty"]

FACTOR, FACTOR_RANGE = 1.3, (1.2, 1.6)
"""The limit is the median of the first good frames times this; the user's to move."""
FIRST_FRAMES = 5
MAX_ELONGATION = 1.25
SAME_DIRECTION_DEG = 12.0
"""Frames trail where all stars are long in one direction: its standard error is no more than this."""
CLOUD_SHARE = 0.6
"""A frame with less than this share of the stars, or of the light, of the best like it was taken through cloud."""
DEW_FRAMES = 4
"""Stars that grow fainter and larger over so many frames and come not back: dew."""
MOVED_SHARE = 0.05
"""A shift by more of the frame's width than this is no dither."""
DITHER_PX = 1.0


@dataclass(frozen=True)
class FrameGrade:
    """What is wrong with a frame, empty where it is worth keeping, and why; ``marks`` are what happened before it.

    ``limit_px`` is the largest half-flux diameter that frames like it may have, in px.
    """

    frame: FrameStars
    fault: Fault
    why: str
    limit_px: float | None
    marks: tuple[str, ...] = ()
    shift: Shift | None = None

    @property
    def keep(self) -> bool:
        """Whether it is worth keeping."""
        return not self.fault


def moment_of(frame: FrameStars) -> datetime.datetime | None:
    """Return when a frame was begun; None where its header does not tell."""
    try:
        found = datetime.datetime.fromisoformat((frame.header.date if frame.header else None) or "")
    except ValueError:
        return None
    return found if found.tzinfo is not None else found.replace(tzinfo=datetime.UTC)


def in_time(frames: Sequence[FrameStars]) -> list[FrameStars]:
    """Return frames in the order in which they were taken; by name where not all tell it."""
    moments = [moment_of(frame) for frame in frames]
    if any(moment is None for moment in moments):
        return sorted(frames, key=lambda frame: frame.file)
    order = sorted(range(len(frames)), key=lambda k: (moments[k], frames[k].file))
    return [frames[k] for k in order]


def judge_frames(
    frames: Sequence[FrameStars], factor: float = FACTOR, limit_px: float | None = None
) -> list[FrameGrade]:
    """Return of each frame, in time, whether it is worth keeping.

    Parameters
    ----------
    frames
        Frames, measured.
    factor
        The limit of star size, as a multiple of the median of the first good frames of each setting.
    limit_px
        The limit itself in px, for all frames; it goes before the factor.

    Returns
    -------
    list[FrameGrade]
        With the reason for each that is not.
    """
    ordered = in_time(frames)
    settings = [_setting(frame) for frame in ordered]
    usual = {one: _usual([f for f, own in zip(ordered, settings, strict=True) if own == one]) for one in set(settings)}
    found: list[FrameGrade] = []
    base: FrameStars | None = None
    moved: FrameStars | None = None
    for place, (frame, setting) in enumerate(zip(ordered, settings, strict=True)):
        size, best = usual[setting]
        limit = limit_px if limit_px is not None else (None if size is None else factor * size)
        before = ordered[place - 1] if place else None
        if base is None or _target(base) != _target(frame):
            base, moved = frame, None  # another target lies elsewhere, and is not moved
        shift = _shift(base, frame)
        if moved is not None and _is_moved(frame, shift) and not _is_moved(frame, _shift(moved, frame)):
            base, shift = moved, _shift(moved, frame)  # two frames agree: the field lies there from now on
        fault, why = _fault(frame, limit, best, shift)
        found.append(FrameGrade(frame, fault, why, limit, tuple(_marks(before, frame, found, shift)), shift))
        moved = frame if fault == "moved" else None
        if shift is not None and shift.flipped:
            base = frame
    return _with_dew(found)


def _setting(frame: FrameStars) -> tuple[object, ...]:
    """Return what frames must share for their stars, and the light of these, to be compared."""
    header = frame.header
    if header is None:
        return ()
    exposure = None if header.exposure_s is None else float(f"{header.exposure_s:.3g}")
    size = (header.binning, header.width_px, header.height_px, header.gain)
    return (header.camera, header.filter, _target(frame), exposure, *size)


def _target(frame: FrameStars) -> str | None:
    name = frame.header.target if frame.header else None
    return " ".join(name.casefold().split()) if name else None


def light_of(frame: FrameStars) -> float:
    """Return the median flux of a frame's brightest stars in ADU: how clear the sky was."""
    fluxes = np.sort(frame.shapes.flux)[::-1][:BRIGHTEST]
    return float(np.median(fluxes)) if len(fluxes) else 0.0


def _is_moved(frame: FrameStars, shift: Shift | None) -> bool:
    header = frame.header
    width = header.width_px if header is not None and header.width_px else math.inf
    return shift is not None and not shift.flipped and shift.length_px > MOVED_SHARE * width


@dataclass(frozen=True)
class _Best:
    """What the best frames of a setting have: stars, and the light of the brightest in ADU."""

    count: float = 0.0
    light: float = 0.0


def _usual(frames: Sequence[FrameStars]) -> tuple[float | None, _Best]:
    """Return the median size of the first good frames of a setting in px, and what its best frames have."""
    sized = [frame for frame in frames if frame.hfd_px is not None]
    if not sized:
        return None, _Best()
    count = float(np.quantile([frame.count for frame in sized], 0.8))
    light = float(np.quantile([light_of(frame) for frame in sized], 0.8))
    clear = [f for f in sized if f.count >= CLOUD_SHARE * count and light_of(f) >= CLOUD_SHARE * light] or sized
    # Of the first frames the sharper part: focus may still have been sought in the very first.
    sizes = sorted(frame.hfd_px.value for frame in clear[:FIRST_FRAMES] if frame.hfd_px is not None)
    return float(np.median(sizes[: max(math.ceil(0.8 * len(sizes)), 1)])), _Best(count, light)


def _shift(base: FrameStars, frame: FrameStars) -> Shift | None:
    header = frame.header
    if base is frame or header is None or not header.width_px or not header.height_px:
        return None
    return shift_between(base.brightest, frame.brightest, (header.width_px, header.height_px))


def _fault(frame: FrameStars, limit: float | None, best: _Best, shift: Shift | None) -> tuple[Fault, str]:
    hfd, long, angle = frame.hfd_px, frame.elongation, frame.position_angle_deg
    if hfd is None or long is None or angle is None:
        return ("cloud" if best.count else "empty"), frame.why_none
    if _is_moved(frame, shift):
        assert shift is not None
        return "moved", f"lies {number(shift.length_px, 0)} px beside the frames before"
    if frame.count < CLOUD_SHARE * best.count:
        share = number(100 * frame.count / best.count, 0)
        return "cloud", f"{frame.count} stars, {share} % of what the best frames like it have"
    if light_of(frame) < CLOUD_SHARE * best.light:
        share = number(100 * light_of(frame) / best.light, 0)
        return "cloud", f"its brightest stars give {share} % of the light of the best frames like it"
    if long.value > MAX_ELONGATION and angle.standard <= SAME_DIRECTION_DEG:
        return "trailed", (
            f"stars are {number(long.value, 2)} times as long as wide, all along {number(angle.value, 0)}°"
        )
    if limit is not None and hfd.value > limit:
        return "soft", f"HFD {number(hfd.value, 2)} px, over the limit of {number(limit, 2)} px"
    return "", ""


def _marks(before: FrameStars | None, frame: FrameStars, found: Sequence[FrameGrade], shift: Shift | None) -> list[str]:
    """Return what happened between two frames: filter, refocus, flip, dither."""
    if before is None or before.header is None or frame.header is None:
        return []
    entries = []
    if _target(before) != _target(frame):
        entries.append(f"target {frame.header.target or 'not named'}")
    if before.header.filter != frame.header.filter:
        entries.append(f"filter {frame.header.filter or 'none'}")
    if before.header.focus_position != frame.header.focus_position and frame.header.focus_position is not None:
        entries.append("refocus")
    if shift is not None and shift.flipped:
        entries.append("flip")
    last = found[-1].shift if found else None
    if shift is not None and not shift.flipped:
        moved = math.hypot(shift.x - (last.x if last else 0.0), shift.y - (last.y if last else 0.0))
        if moved > DITHER_PX and not (last is not None and last.flipped):
            entries.append("dither")
    return entries


def _with_dew(found: list[FrameGrade]) -> list[FrameGrade]:
    """Take the last bad frames for dewed where their stars grow ever fainter and larger, and come not back."""
    last = 0
    for place in range(len(found) - 1, 0, -1):
        one, other = found[place - 1].frame, found[place].frame
        same = _setting(one) == _setting(other)
        grows = other.hfd_px and one.hfd_px and other.hfd_px.value > one.hfd_px.value
        if not (same and grows and light_of(other) < light_of(one)):
            break
        last += 1
    if last < DEW_FRAMES:
        return found
    why = f"stars grow fainter and larger over the last {last + 1} frames, and do not come back"
    return [
        replace(entry, fault="dew", why=why) if place >= len(found) - last and not entry.keep else entry
        for place, entry in enumerate(found)
    ]

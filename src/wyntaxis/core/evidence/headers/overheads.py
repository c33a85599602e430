"""What a night's time went into, by the times in its frames' headers: exposing, and what came between two frames.

A gap runs from the end of a frame, DATE-OBS and the exposure, to the beginning of the next. What changed between the
two (filter, focuser, side of the pier, object) says what the gap was for; a long one that nothing explains is waiting.
"""

from __future__ import annotations

import datetime
import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from typing import Literal

import numpy as np

from wyntaxis.core.evidence.headers.headers import FrameHeader
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.fitting import mad_scatter, student_factor
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.wording import counted, number, plus_minus

Cause = Literal["between", "wheel", "focus", "flip", "slew", "waiting"]
CAUSE_WORDS: dict[Cause, str] = {
    "between": "between two frames: download, and dithers that settle",
    "wheel": "filter changes",
    "focus": "focus runs",
    "flip": "meridian flips",
    "slew": "going to another object",
    "waiting": "waiting, or nothing in the headers says for what",
}
NIGHT_APART_S = 6 * 3600.0
"""Frames farther apart are of two nights."""
LONG_S = 600.0
"""A longer gap that nothing explains is waiting; of one that is explained, what is over :data:`LONGEST_S`."""
LONGEST_S = 1800.0
FOCUS_LEAST_S, MOVED_STEPS, FAR_MOVES = 20.0, 0.5, 5.0
"""A focuser that moves in less beside the usual gap follows the temperature: that is no focus run. Beside a flip or
another filter it is one only where it moves farther than so many times the median move from frame to frame.
"""
CLOCK_S = 0.5
"""What a header's time is rounded by at the most, where it is written in whole seconds."""
OUTLYING = 5.0
"""In scatters from the median: what lies farther is no ordinary gap."""
LEAST_GAPS, APART_SD, LEAST_APART_S = 3, 4.0, 3.0
"""How many short and long gaps there must be, and how clearly apart, to tell downloads from dithers."""
OVERLAP = "the frames overlap by their times: DATE-OBS is not the beginning of the exposure here"
ONE_ONLY = "one only: its scatter is not known"
NOT_APART = "gaps between frames are of one kind: which part is download and which settling is not known"


@dataclass(frozen=True)
class Gap:
    """The time between two frames: from when (Unix, s), how long (s), for what, and of that what is no waiting."""

    begins_s: float
    length_s: float
    causes: tuple[Cause, ...]

    @property
    def cause(self) -> Cause:
        """What it counts as: of several, the one that takes longest as a rule."""
        return self.causes[0]


@dataclass(frozen=True)
class Overhead:
    """What one kind of work takes each time, in s: as an action of the rehearsal, or why that is not known."""

    action: str
    seconds: Estimate | None
    count: int
    why: str = ""


@dataclass(frozen=True)
class PastNight:
    """One night by its frames: when it began and ended (Unix, s), and into what its time went, in s."""

    date: str
    begins_s: float
    ends_s: float
    frames: int
    exposed_s: float
    gaps: tuple[Gap, ...]

    @property
    def spent_s(self) -> dict[str, float]:
        """Into what the time from the first frame to the last went: adds up to all of it."""
        spent = {"exposing": self.exposed_s} | dict.fromkeys(CAUSE_WORDS, 0.0)
        for gap in self.gaps:
            spent[gap.cause] += gap.length_s
        return spent


@dataclass(frozen=True)
class Overheads:
    """What all nights of a folder tell: each night, and each kind of work; ``why`` there is nothing to be told."""

    nights: tuple[PastNight, ...] = ()
    times: tuple[Overhead, ...] = ()
    why: str = ""
    unused: int = 0
    """Lights without a time or an exposure."""

    @property
    def known(self) -> dict[str, Estimate]:
        """The times that were measured, in s, by action."""
        return {own.action: own.seconds for own in self.times if own.seconds is not None}

    def as_json(self) -> JsonObject:
        """Return it as ``wyntaxis headers --json`` prints it."""
        if self.why:
            return {"why": self.why}
        return {
            "nights": [
                {
                    "date": night.date,
                    "begins": _clock(night.begins_s),
                    "ends": _clock(night.ends_s),
                    "frames": night.frames,
                    "seconds": {cause: round(seconds, 1) for cause, seconds in night.spent_s.items()},
                }
                for night in self.nights
            ],
            "times": {
                own.action: {
                    "value": None if own.seconds is None else own.seconds.value,
                    "u": None if own.seconds is None else own.seconds.standard,
                    "count": own.count,
                    **({"why": own.why} if own.why else {}),
                }
                for own in self.times
            },
        }

    def lines(self) -> list[str]:
        """Return it in sentences: each night, then what each kind of work takes."""
        if self.why:
            return [f"Times of the night: not known: {self.why}."]
        lines = []
        for night in self.nights:
            spent = night.spent_s
            hours = (night.ends_s - night.begins_s) / 3600
            parts = [f"{number(seconds / 3600, 2)} h {_short(key)}" for key, seconds in spent.items() if seconds >= 1]
            frames = counted(night.frames, "light")
            lines.append(f"Night of {night.date}: {frames} in {number(hours, 2)} h: {', '.join(parts)}.")
        for own in self.times:
            if own.seconds is not None:
                text = plus_minus(own.seconds.value, own.seconds.standard, 1)
                lines.append(f"{TIME_WORDS[own.action]}: {text} s ({own.count} times).")
            elif own.count:
                lines.append(f"{TIME_WORDS[own.action]}: not known: {own.why}.")
        return lines


TIME_WORDS = {
    "download": "Download and saving",
    "dither": "Dither and settling",
    "wheel": "Filter change",
    "focus": "Focus run",
    "flip": "Meridian flip",
    "slew": "Going to another object",
}
PRIORITY: tuple[Cause, ...] = ("flip", "slew", "focus", "wheel")


def _short(key: str) -> str:
    return key if key == "exposing" else CAUSE_WORDS[key].partition(":")[0].partition(",")[0]  # type: ignore[index]


def _clock(unix_s: float) -> str:
    return datetime.datetime.fromtimestamp(unix_s, datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


@dataclass(frozen=True)
class _Light:
    """A light whose time is known."""

    at_s: float
    exposure_s: float
    header: FrameHeader = field(repr=False)


def overheads(frames: Sequence[FrameHeader]) -> Overheads:
    """Return what the lights' times tell.

    Parameters
    ----------
    frames
        Headers of a folder; what is no light is passed over.

    Returns
    -------
    Overheads
        Times in s. A kind of work that was seen once has no measured value, since its scatter is not known.
    """
    lights, unused = _timed(frames)
    if len(lights) < 2:
        return Overheads(why="fewer than two lights have a time (DATE-OBS) and an exposure", unused=unused)
    nights: list[list[_Light]] = [[lights[0]]]
    for before, after in pairwise(lights):
        if after.at_s - before.at_s - before.exposure_s > NIGHT_APART_S:
            nights.append([])
        nights[-1].append(after)
    lengths = [b.at_s - a.at_s - a.exposure_s for night in nights for a, b in pairwise(night)]
    if lengths and float(np.median(lengths)) < -2 * CLOCK_S:
        return Overheads(why=OVERLAP, unused=unused)
    usual = _usual_gap(nights)
    moves = [_moved(a.header, b.header) for night in nights for a, b in pairwise(night)]
    far = max(FAR_MOVES * float(np.median(moves)) if moves else 0.0, MOVED_STEPS)
    past = tuple(_past(night, usual, far) for night in nights)
    return Overheads(past, tuple(_times([gap for night in past for gap in night.gaps])), unused=unused)


def _timed(frames: Sequence[FrameHeader]) -> tuple[list[_Light], int]:
    """Return the lights that have a time, in time, and how many have none."""
    found, unused = [], 0
    for frame in frames:
        if frame.kind != "light":
            continue
        at = unix_time(frame.date)
        if at is None or frame.exposure_s is None or not 0 < frame.exposure_s < NIGHT_APART_S:
            unused += 1
        else:
            found.append(_Light(at, frame.exposure_s, frame))
    return sorted(found, key=lambda light: light.at_s), unused


def unix_time(text: str | None) -> float | None:
    """Return a header's time in Unix seconds; FITS gives UTC where no zone is named. None for what is no time."""
    if not text or "T" not in text:
        return None
    try:
        moment = datetime.datetime.fromisoformat(text.strip())
    except ValueError:
        return None
    if moment.tzinfo is None:
        moment = moment.replace(tzinfo=datetime.UTC)
    try:
        return moment.timestamp()
    except (ValueError, OverflowError, OSError):
        return None


def _changes(before: FrameHeader, after: FrameHeader) -> tuple[Cause, ...]:
    """Return what changed between two frames, as far as both say it; where the focuser went is looked at apart."""
    found: dict[Cause, bool] = {
        "flip": _differ(before.pier_side, after.pier_side),
        "slew": _differ(before.target, after.target),
        "wheel": _differ(before.filter, after.filter),
    }
    return tuple(cause for cause in PRIORITY if found.get(cause))


def _moved(before: FrameHeader, after: FrameHeader) -> float:
    """Return how far the focuser moved between two frames, in steps; 0 where they do not both say where it was."""
    if before.focus_position is None or after.focus_position is None:
        return 0.0
    return abs(after.focus_position - before.focus_position)


def _differ(one: str | None, other: str | None) -> bool:
    return one is not None and other is not None and one.strip().casefold() != other.strip().casefold()


def _usual_gap(nights: Sequence[Sequence[_Light]]) -> float:
    """Return the median gap between frames between which nothing changed, in s; that of all where there is none."""
    plain, every = [], []
    for night in nights:
        for before, after in pairwise(night):
            length = after.at_s - before.at_s - before.exposure_s
            every.append(length)
            if not _changes(before.header, after.header) and _moved(before.header, after.header) <= MOVED_STEPS:
                plain.append(length)
    known = plain or every
    return float(np.median(known)) if known else 0.0


def _past(night: Sequence[_Light], usual_s: float, far_steps: float) -> PastNight:
    gaps = []
    for before, after in pairwise(night):
        begins = before.at_s + before.exposure_s
        length = after.at_s - begins
        causes = _changes(before.header, after.header)
        moved, over = _moved(before.header, after.header), length - usual_s
        if over >= FOCUS_LEAST_S and moved > (far_steps if causes else MOVED_STEPS):
            causes = tuple(cause for cause in PRIORITY if cause in (*causes, "focus"))
        if length > (LONGEST_S if causes else LONG_S + usual_s):
            causes = ("waiting",)
        gaps.append(Gap(begins, length, causes or ("between",)))
    evening = datetime.datetime.fromtimestamp(night[0].at_s, datetime.UTC) - datetime.timedelta(hours=12)
    return PastNight(
        evening.date().isoformat(),
        night[0].at_s,
        night[-1].at_s + night[-1].exposure_s,
        len(night),
        sum(light.exposure_s for light in night),
        tuple(gaps),
    )


def _times(gaps: Sequence[Gap]) -> list[Overhead]:
    """Return what each kind of work takes: of a gap with one cause, what is over the usual download."""
    between = np.array([gap.length_s for gap in gaps if gap.causes == ("between",)])
    short, long = _parted(between)
    found = []
    if long.size:
        download, settled = _estimate(short), _estimate(long)
        assert download is not None
        assert settled is not None
        settling = Estimate(settled.value - download.value, math.hypot(settled.standard, download.standard))
        found += [Overhead("download", download, short.size), Overhead("dither", settling, long.size)]
    else:
        download = _estimate(between)
        found.append(Overhead("download", None, between.size, NOT_APART if between.size > 1 else ONE_ONLY))
    base = download or Estimate(0.0, 0.0)
    for cause in ("wheel", "focus", "flip", "slew"):
        own = np.array([gap.length_s for gap in gaps if gap.causes == (cause,)])
        whole = _estimate(own)
        if whole is None:
            found.append(Overhead(cause, None, own.size, ONE_ONLY if own.size else "none in these frames"))
        else:
            over = Estimate(whole.value - base.value, math.hypot(whole.standard, base.standard))
            found.append(Overhead(cause, over, own.size))
    return found


def _estimate(lengths: np.ndarray) -> Estimate | None:
    """Return the mean of lengths with its standard uncertainty; None for fewer than 2.

    A mean and no median, since times in whole seconds have one; what lies far from the median is left out.
    """
    if lengths.size < 2:
        return None
    middle = float(np.median(lengths))
    kept = lengths[np.abs(lengths - middle) <= OUTLYING * max(mad_scatter(lengths), CLOCK_S)]
    spread = float(np.std(kept, ddof=1)) if kept.size > 1 else CLOCK_S
    own = math.hypot(spread, CLOCK_S / math.sqrt(3)) / math.sqrt(max(kept.size, 1))
    return Estimate(float(np.mean(kept)), student_factor(kept.size - 1) * own)


def _parted(lengths: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return short and long gaps, where they are clearly of two kinds; all and none where they are not.

    Source: N. Otsu, *IEEE Trans. Syst. Man Cybern.* 9 (1979), 62: the threshold of greatest variance between classes.
    """
    ordered, none = np.sort(lengths), np.array([])
    if ordered.size < 2 * LEAST_GAPS:
        return lengths, none
    places = range(LEAST_GAPS, ordered.size - LEAST_GAPS + 1)
    at = max(places, key=lambda k: k * (ordered.size - k) * (ordered[k:].mean() - ordered[:k].mean()) ** 2)
    short, long = ordered[:at], ordered[at:]
    apart = float(np.median(long) - np.median(short))
    spread = max(float(np.std(short)), float(np.std(long)), CLOCK_S)
    step = float(long[0] - short[-1])
    clear = apart >= max(LEAST_APART_S, APART_SD * spread) and step >= spread
    return (short, long) if clear else (lengths, none)

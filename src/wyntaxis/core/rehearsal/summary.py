"""A rehearsal in ten lines for somebody who reads no more: what happens, what stops it, what to change first."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice

from wyntaxis.core.rehearsal.outcome import SPAN_WORDS, NightOutcome, grade_of
from wyntaxis.core.rehearsal.play import FaultRow
from wyntaxis.core.rehearsal.power import HOUR_S
from wyntaxis.core.rehearsal.remedy import words_of
from wyntaxis.core.rehearsal.setting import NightSetting
from wyntaxis.core.wording import counted, number

MAX_LINES, MAX_NAMED, MAX_SPANS, MAX_TARGETS = 10, 4, 4, 2


def in_short(
    setting: NightSetting, night: NightOutcome, rows: Sequence[FaultRow] = (), struck: Sequence[str] = ()
) -> tuple[str, ...]:
    """Return what a rehearsal comes to, in ten lines at the most.

    Parameters
    ----------
    setting
        The rig, its plan and the night.
    night
        The night that is told of.
    rows
        Every fault by itself; none where they were not simulated.
    struck
        Titles of the faults that struck in this night; none for the one with nothing wrong.

    Returns
    -------
    tuple of str
        Sentences; times by the clock in UTC where site and date are known, else since the plan's beginning.
    """
    begins = f"With {', '.join(title.lower() for title in struck)}" if struck else "With nothing wrong"
    return tuple(islice(_lines(setting, night, rows, begins), MAX_LINES))


def why_none(night: NightOutcome) -> str:
    """Return why a night keeps no frame: why most were lost, else what nobody handled, or what was told first."""
    if night.lost_why:
        return night.lost_why[0][0]
    if night.first_unhandled is not None:
        return night.first_unhandled.what
    told = (event.what for event in night.events if event.kind in ("wait", "branch", "message"))
    return next(told, "no step takes any")


def _lines(setting: NightSetting, good: NightOutcome, rows: Sequence[FaultRow], begins: str) -> Iterator[str]:
    sky = setting.sky
    kept = f"{good.frames_kept} of {counted(good.frames_planned, 'frame')} kept, {number(good.kept_s / HOUR_S, 1)} h"
    yield f"{begins}: {grade_of(good)}, {kept}."
    if good.frames_planned and not good.frames_kept:
        yield f"No frame is kept: {why_none(good)}."
    taken = [span for span in good.spans if span.kind == "exposing"]
    times = f"Dark from {sky.time_words(sky.dark_from_s)} to {sky.time_words(sky.dark_until_s)}"
    if taken:
        times += f"; exposures from {sky.time_words(taken[0].from_s)} to {sky.time_words(taken[-1].to_s)}"
    yield f"{times}; the plan ends at {sky.time_words(good.ends_s)}."
    yield from _target_lines(good)
    for why, count in good.lost_why[:2]:
        yield f"{counted(count, 'frame')} rejected: {why}."
    missing = good.frames_planned - good.frames_kept - good.frames_lost
    if good.frames_kept and missing > 0:
        yield f"{counted(missing, 'frame')} not taken: {_why_missing(good)}."
    if not good.safe_end:
        yield f"It does not end safely: {', '.join((*good.unsafe, *good.endless))}."
    spans = sorted(good.budget.items(), key=lambda entry: -entry[1])
    hours = [f"{SPAN_WORDS[kind]} {number(s / HOUR_S, 1)} h" for kind, s in spans[:MAX_SPANS] if s >= HOUR_S / 20]
    if hours:
        yield f"Time goes into: {'; '.join(hours)}."
    yield from _fault_lines(good, rows)


def _target_lines(night: NightOutcome) -> Iterator[str]:
    """Yield what came of several targets, those that lack frames by name."""
    if len(night.targets) < 2:
        return
    short = sorted((own for own in night.targets if own.kept < own.planned), key=lambda own: own.kept / own.planned)
    yield f"{len(night.targets) - len(short)} of {counted(len(night.targets), 'target')} complete."
    for own in short[:MAX_TARGETS]:
        why = f": {own.why}" if own.why else ""
        yield f"{own.name}: {own.kept or 'none'} of {counted(own.planned, 'frame')}{why}."


def _why_missing(good: NightOutcome) -> str:
    """Return why frames were not taken at all: the step that was given up, else that time ran out."""
    given_up = [place for place, event in enumerate(good.events) if event.kind == "branch"]
    if not given_up:
        return "the night is too short for them"
    before = [event for event in good.events[: given_up[-1]] if event.kind == "fault"]
    cause = before[-1] if before else good.events[given_up[-1]]
    return f"{cause.device}: {cause.what}"


def _fault_lines(good: NightOutcome, rows: Sequence[FaultRow]) -> Iterator[str]:
    there = [row for row in rows if row.applies]
    if not there:
        return
    unsafe = [row for row in there if row.grade == "unsafe"]
    lost = [row for row in there if row.grade == "lost"]
    text = f"Of {counted(len(there), 'fault')} simulated one by one, {len(unsafe) or 'none'} may end unsafe"
    yield text + (f": {_named(unsafe)}." if unsafe else ".")
    if lost:
        yield f"Nothing is kept with: {_named(lost)}."
    first = _first_change(good, unsafe or lost)
    if first:
        yield f"Change first: {first}"


def _named(rows: Sequence[FaultRow]) -> str:
    often = sorted(rows, key=lambda row: -row.fault.rate)
    names = ", ".join(row.fault.title.lower() for row in often[:MAX_NAMED])
    return names + (f" and {len(rows) - MAX_NAMED} more" if len(rows) > MAX_NAMED else "")


def _first_change(good: NightOutcome, worst: Sequence[FaultRow]) -> str:
    """Return what to change first: the plan itself where it fails undisturbed, else what the likeliest fault wants."""
    if not good.safe_end:
        return "the plan's own end, see above."
    if good.frames_planned and not good.frames_kept:
        return f"the plan keeps nothing: {why_none(good)}."
    curable = [row for row in worst if not row.fault.beyond_plan]
    row = max(curable, key=lambda row: row.fault.rate, default=None)
    if row is None:
        return ""
    if row.outcome.endless:
        return f"give “{row.outcome.endless[0]}” a time limit ({row.fault.title.lower()})."
    words = words_of(row.fault) or "choose it in the table of faults: its remedy was simulated"
    return f"{row.fault.title}: {words}."

"""What the rehearsal shows: waits without end, unsafe ends, what nobody handles, time, flip, room, names."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantities.night import DRAWN, ENDLESS, KEPT, NIGHT, SLACK, UNSAFE, slack_h
from wyntaxis.core.rehearsal.kind import REHEARSAL, Rehearsal
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.steps import REHEARSAL as STEP
from wyntaxis.core.wording import number

if TYPE_CHECKING:
    from wyntaxis.core.rehearsal.play import FaultRow

_SOURCE = "Played on a virtual clock with the rig's own times; each fault by itself"
_NAMES_SOURCE = "A file name must tell its frame from every other, and what belongs to its darks and flats"
_NEEDED = "the night, played"
MAX_NAMED = 6
TIGHT_SPACE = 1.1
_TOKENS = {
    "filter": ("filter",),
    "gain": ("gain",),
    "temperature": ("temp", "temperature"),
    "camera": ("camera", "instrument"),
}
_COUNTS = ("number", "frame", "index", "count", "seq", "nr", "time", "datetime", "timestamp")
DEFAULT_NAMES = "{target}_{filter}_{exposure}s_g{gain}_{temperature}C_{camera}_{date}_{number}"


def _played(evaluation: Evaluation) -> Rehearsal | None:
    """Return what was played of the rig as it is; None where nothing was, or the plan is another since."""
    result = evaluation.evidence.of(REHEARSAL)
    return result if result is not None and result.is_of(evaluation.rig) else None


def _named(rows: Sequence[FaultRow]) -> str:
    text = ", ".join(row.fault.title.lower() for row in rows[:MAX_NAMED])
    return text + (f" and {len(rows) - MAX_NAMED} more" if len(rows) > MAX_NAMED else "")


@finding("night.endless", step=STEP, condition=conditions.NO_ENDLESS_WAIT, after="mount.polar", needed=_NEEDED)
def endless(evaluation: Evaluation) -> Iterator[Finding]:
    """Does every wait of the night end?"""
    result = _played(evaluation)
    if result is None:
        return
    hanging = [row for row in result.rows if row.applies and row.outcome.endless]
    lines = [f"{row.fault.title}: {row.outcome.endless[0]}" for row in hanging[:MAX_NAMED]]
    if result.good.endless:
        lines.insert(0, f"with nothing wrong: {result.good.endless[0]}")
    bad = bool(hanging or result.good.endless)
    yield Finding(
        "night.endless",
        Verdict.FAILS if bad else Verdict.HOLDS,
        ENDLESS.id_of(NIGHT),
        f"The night hangs without end: {result.good.endless[0] if result.good.endless else _named(hanging)}"
        if bad
        else "Every wait of the night ends, whatever single fault strikes",
        tuple(lines) or (f"{sum(row.applies for row in result.rows)} faults played, none hangs",),
        Remedy("give these steps a time limit (Rehearsal)") if bad else NO_REMEDY,
        _SOURCE,
        (ENDLESS.id_of(NIGHT),),
    )


@finding("night.unsafe", step=STEP, condition=conditions.SAFE_END, after="night.endless", needed=_NEEDED)
def unsafe(evaluation: Evaluation) -> Iterator[Finding]:
    """Is the end safe under every single fault?"""
    result = _played(evaluation)
    if result is None:
        return
    rows = [row for row in result.rows if row.applies and row.grade == "unsafe"]
    lines = [f"{row.fault.title}: {', '.join((*row.outcome.unsafe, *row.outcome.endless))}" for row in rows[:MAX_NAMED]]
    bad = bool(rows) or not result.good.safe_end
    if not result.good.safe_end:
        lines.insert(0, f"with nothing wrong: {', '.join((*result.good.unsafe, *result.good.endless))}")
    title = f"The night may end unsafe: {_named(rows)}" if rows else "The plan itself does not end safely"
    yield Finding(
        "night.unsafe",
        Verdict.FAILS if bad else Verdict.HOLDS,
        UNSAFE.id_of(NIGHT),
        title if bad else "Whatever single fault strikes, mount, roof and cover end as they must",
        tuple(lines) or (f"{sum(row.applies for row in result.rows)} faults played",),
        Remedy("choose the fault in the table of the Rehearsal: it shows what would cure it") if bad else NO_REMEDY,
        _SOURCE,
        (UNSAFE.id_of(NIGHT),),
    )


@finding("night.unhandled", step=STEP, after="night.unsafe")
def unhandled(evaluation: Evaluation) -> Iterator[Finding]:
    """Is there an event that nobody handles?"""
    result = _played(evaluation)
    if result is None:
        return
    rows = [row for row in result.rows if row.applies and row.outcome.first_unhandled is not None]
    lines = []
    for row in rows[:MAX_NAMED]:
        event = row.outcome.first_unhandled
        assert event is not None
        lines.append(f"{row.fault.title}: {event.what} ({event.device}, {number(event.t_s / 3600, 2)} h)")
    own = result.good.first_unhandled
    if own is not None:
        lines.insert(0, f"with nothing wrong: {own.what} ({own.device})")
    bad, count = bool(rows) or own is not None, len(rows) + (own is not None)
    watch = Remedy("let the program look at its frames, watch the weather, and start anew (plan.watch)")
    yield Finding(
        "night.unhandled",
        Verdict.TIGHT if bad else Verdict.HOLDS,
        NIGHT,
        f"{count} nights meet something that nobody handles" if bad else "Nothing goes unhandled",
        tuple(lines) or ("each fault is answered by a limit, an attempt, or who watches",),
        watch if bad else NO_REMEDY,
        _SOURCE,
        (),
    )


@finding(
    "night.budget", step=STEP, condition=conditions.FITS_THE_DARK, after="night.unhandled", needed="the night, played"
)
def budget(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the plan fit into the dark hours?"""
    from wyntaxis.core.rehearsal.outcome import SPAN_WORDS

    result = _played(evaluation)
    if result is None:
        return
    good, slack = result.good, slack_h(result)
    row = evaluation.rows.get(SLACK.id_of(NIGHT))
    verdict = row.target_verdict if row is not None else Verdict.UNPROVEN
    lines = [
        f"{SPAN_WORDS[kind]}: {number(seconds / 3600, 2)} h" for kind, seconds in good.budget.items() if seconds > 0
    ]
    lines.append(f"{good.frames_kept} of {good.frames_planned} frames kept")
    missing = good.frames_planned - good.frames_kept
    title = f"The plan leaves {number(slack, 1)} dark hours over"
    if missing > 0:
        why = f": {good.lost_why[0][0]}" if good.lost_why else ""
        title = f"{missing} of {good.frames_planned} frames find no time, or are lost{why}"
    yield Finding(
        "night.budget",
        verdict,
        KEPT.id_of(NIGHT),
        title,
        tuple(lines),
        NO_REMEDY
        if verdict is Verdict.HOLDS
        else Remedy("plan fewer frames, or look in the timeline what takes the time"),
        _SOURCE,
        (KEPT.id_of(NIGHT), SLACK.id_of(NIGHT)),
    )


@finding(
    "night.weather", step=STEP, condition=conditions.WEATHER_STOPS, after="night.budget", needed="the night, played"
)
def weather(evaluation: Evaluation) -> Iterator[Finding]:
    """Does bad weather stop the plan?"""
    result = _played(evaluation)
    if result is None:
        return
    rows = {row.fault.id: row for row in result.rows}
    rain, silent = rows["weather.rain"], rows["weather.silent"]
    watch = result.setting.watch
    lines = [f"rain: {rain.grade}" + (f" ({', '.join(rain.outcome.unsafe)})" if rain.outcome.unsafe else "")]
    lines.append("silence counts as bad weather" if watch.silence_is_unsafe else "silence is taken for good weather")
    verdict = Verdict.HOLDS
    if rain.applies and rain.grade == "unsafe":
        verdict = Verdict.FAILS
    elif silent.applies and not watch.silence_is_unsafe:
        verdict = Verdict.TIGHT
    words = {
        Verdict.FAILS: "Rain would find the roof open: nothing stops the plan",
        Verdict.TIGHT: "Rain stops the plan, but not while the weather station is silent",
        Verdict.HOLDS: "Rain and a silent weather station stop the plan",
    }
    good, watched = verdict is Verdict.HOLDS, ("plan", "watch")
    remedy = Remedy(
        "let the weather stop the plan, and count silence as bad weather",
        Change(
            "Watch the weather",
            (((*watched, "then"), "end_safely"), ((*watched, "silence_is_unsafe"), True)),
        ),
    )
    yield Finding(
        "night.weather", verdict, NIGHT, words[verdict], tuple(lines), NO_REMEDY if good else remedy, _SOURCE, ()
    )


@finding("night.flip", step=STEP, after="night.weather")
def flip(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the flip come between two exposures?"""
    result = _played(evaluation)
    if result is None or result.setting.flip_margin_s is None or result.setting.sky.meridian_s is None:
        return
    at = result.setting.sky.meridian_s + result.setting.flip_margin_s
    if not result.setting.sky.is_good(at):
        return
    fault = next((event for event in result.good.events if "no flip" in event.what), None)
    waited = sum(
        s.to_s - s.from_s
        for s in result.good.spans
        if s.kind == "waiting" and s.from_s > result.setting.sky.dark_from_s
    )
    yield Finding(
        "night.flip",
        Verdict.FAILS if fault is not None else Verdict.HOLDS,
        NIGHT,
        "The mount reaches its limit in an exposure: the plan has no flip"
        if fault is not None
        else "The flip comes between two exposures",
        (f"flip {number(at / 3600, 2)} h after the plan's beginning; {number(waited / 60, 1)} min waited for it",),
        Remedy("let the plan flip (Devices, plan)") if fault is not None else NO_REMEDY,
        _SOURCE,
        (),
    )


@finding("night.storage", step=STEP, after="night.flip")
def storage(evaluation: Evaluation) -> Iterator[Finding]:
    """Is there room for what the night takes?"""
    result = _played(evaluation)
    if result is None or result.setting.free_gb is None:
        return
    taken = result.good.frames_planned * result.setting.frame_gb
    free = result.setting.free_gb
    verdict = Verdict.FAILS if free < taken else Verdict.TIGHT if free < TIGHT_SPACE * taken else Verdict.HOLDS
    yield Finding(
        "night.storage",
        verdict,
        NIGHT,
        f"The night's frames take {number(taken, 1)} GB of {number(free, 1)} GB free",
        (f"{result.good.frames_planned} × {number(1000 * result.setting.frame_gb, 1)} MB",),
        NO_REMEDY if verdict is Verdict.HOLDS else Remedy("make room before the night"),
        _SOURCE,
        (),
    )


@finding("night.power", step=STEP, condition=conditions.POWER, after="night.storage")
def power(evaluation: Evaluation) -> Iterator[Finding]:
    """Does each battery last the night as it is played, and does no supply give more than it may?"""
    result = _played(evaluation)
    for use in result.good.power if result is not None else ():
        row = evaluation.rows.get(DRAWN.id_of(use.load.supply.id))
        rated = use.load.supply.rated_a
        over = rated is not None and use.peak_a > rated
        if row is None and not over:
            continue
        drawn = row.target_verdict if row is not None else Verdict.HOLDS
        lines = []
        if use.usable_ah is not None:
            lines.append(f"drawn {number(use.drawn_ah, 1)} Ah of {number(use.usable_ah, 1)} Ah that it may give")
        lines.append(
            f"most at once: {number(use.peak_a, 2)} A, {number(use.peak_s / 3600, 2)} h after the plan's beginning"
            + (f", rated {number(rated, 1)} A" if rated is not None else "")
        )
        title = f"{use.title} gives more at once than it is rated for"
        if not over:
            words = {
                Verdict.HOLDS: "lasts the night as it is played",
                Verdict.TIGHT: "lasts the night with little left",
            }
            title = f"{use.title} {words.get(drawn, 'gives more in the night than it may')}"
        verdict = Verdict.FAILS if over else drawn
        yield Finding(
            "night.power",
            verdict,
            use.load.supply.id,
            title,
            tuple(lines),
            NO_REMEDY if verdict is Verdict.HOLDS else Remedy("a larger supply, or fewer devices at work at once"),
            _SOURCE,
            (DRAWN.id_of(use.load.supply.id),) if row is not None else (),
        )


@finding("night.names", step=STEP, after="night.power")
def names(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the file names' pattern tell each frame from every other, and what it belongs to?"""
    plan = evaluation.rig.plan
    if plan is None or plan.file_names is None:
        return
    tokens = {
        word for token in re.findall(r"[{$%\\[]+([A-Za-z_]+)", plan.file_names) for word in token.lower().split("_")
    }
    cameras = sum(device.kind in ("camera", "guide_camera") for device in evaluation.rig.devices)
    wanted = {
        "gain",
        "temperature",
        *(["filter"] if len(plan.filters) > 1 else []),
        *(["camera"] if cameras > 1 else []),
    }
    missing = sorted(key for key in wanted if not tokens & set(_TOKENS[key]))
    overwrites = not tokens & set(_COUNTS)
    verdict = Verdict.FAILS if overwrites else Verdict.TIGHT if missing else Verdict.HOLDS
    lines = [f"pattern: {plan.file_names}"]
    lines += ["neither a number nor a time tells frames apart"] if overwrites else []
    lines += [f"it does not tell: {', '.join(missing)}"] if missing else []
    titles = {
        Verdict.FAILS: "The file names overwrite one another",
        Verdict.TIGHT: f"The file names lose the {' and '.join(missing)}",
        Verdict.HOLDS: "The file names tell each frame, and what it belongs to",
    }
    remedy = Remedy("name frames fully", Change.of("Name frames fully", ("plan", "file_names"), DEFAULT_NAMES))
    good = verdict is Verdict.HOLDS
    yield Finding(
        "night.names", verdict, NIGHT, titles[verdict], tuple(lines), NO_REMEDY if good else remedy, _NAMES_SOURCE, ()
    )

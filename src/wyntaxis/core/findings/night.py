"""What the rehearsal shows: waits without end, unsafe ends, unhandled events, time, flip, room, names."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Proof, Statement, finding, say
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantities.night import DRAWN, ENDLESS, KEPT, NIGHT, SLACK, UNSAFE, slack_h
from wyntaxis.core.rehearsal.kind import REHEARSAL, Rehearsal
from wyntaxis.core.rehearsal.outcome import NO_FLIP
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.steps import REHEARSAL as STEP
from wyntaxis.core.wording import number

if TYPE_CHECKING:
    from wyntaxis.core.rehearsal.play import FaultRow

_SOURCE = "Simulated on a virtual clock with the rig's own times; each fault by itself"
_NEEDED = "the night, simulated"
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


def _rehearsed(evaluation: Evaluation) -> Rehearsal | None:
    """Return the rehearsal of the rig as it is; None where there is none, or the plan is another since."""
    result = evaluation.evidence.of(REHEARSAL)
    return result if result is not None and result.is_of(evaluation.rig) else None


def _named(rows: Sequence[FaultRow]) -> str:
    text = ", ".join(row.fault.title.lower() for row in rows[:MAX_NAMED])
    return text + (f" and {len(rows) - MAX_NAMED} more" if len(rows) > MAX_NAMED else "")


def _count_line(result: Rehearsal, more: str = "") -> str:
    return f"{sum(row.applies for row in result.rows)} faults simulated{more}"


@finding(
    "night.endless",
    step=STEP,
    proves=Proof(condition=conditions.NO_ENDLESS_WAIT, needed=_NEEDED),
    listed=Listed(after="mount.polar"),
    source=_SOURCE,
    titles={
        "holds": "Every wait of the night has an end, under every single fault",
        "": "The night waits without end: {where}",
    },
    remedies="Enter a time limit for these steps (Rehearsal).",
)
def endless(evaluation: Evaluation) -> Iterator[Statement]:
    """Does every wait of the night end?"""
    result = _rehearsed(evaluation)
    if result is None:
        return
    hanging = [row for row in result.rows if row.applies and row.outcome.endless]
    lines = [f"{row.fault.title}: {row.outcome.endless[0]}" for row in hanging[:MAX_NAMED]]
    own = result.good.endless[0] if result.good.endless else ""
    if own:
        lines.insert(0, f"with nothing wrong: {own}")
    verdict = Verdict.FAILS if hanging or own else Verdict.HOLDS
    row_id = ENDLESS.id_of(NIGHT)
    lines = lines or [_count_line(result, ", none waits without end")]
    yield say(row_id, evaluation.rows.get(row_id), verdict, {"where": own or _named(hanging)}, lines=lines)


@finding(
    "night.unsafe",
    step=STEP,
    proves=Proof(condition=conditions.SAFE_END, needed=_NEEDED),
    listed=Listed(after="night.endless"),
    source=_SOURCE,
    titles={
        "holds": "Mount, roof and cover end safely under every single fault",
        "beyond": "No plan ends safely if this happens: {faults}",
        "faults": "The night may end unsafe: {faults}",
        "plan": "The plan itself does not end safely",
    },
    remedies={
        "beyond": "Stay within reach, or enter who stays beside the telescope (Devices, plan of the night).",
        "": "Choose the fault in the table of the Rehearsal: it shows what would cure it.",
    },
)
def unsafe(evaluation: Evaluation) -> Iterator[Statement]:
    """Is the end safe under every single fault?"""
    result = _rehearsed(evaluation)
    if result is None:
        return
    rows = [row for row in result.rows if row.applies and row.grade == "unsafe"]
    lines = [f"{row.fault.title}: {', '.join((*row.outcome.unsafe, *row.outcome.endless))}" for row in rows[:MAX_NAMED]]
    if not result.good.safe_end:
        lines.insert(0, f"with nothing wrong: {', '.join((*result.good.unsafe, *result.good.endless))}")
    verdict = Verdict.FAILS if rows or not result.good.safe_end else Verdict.HOLDS
    case = "faults" if rows else "plan" if verdict is Verdict.FAILS else ""
    if rows and result.good.safe_end and all(row.fault.beyond_plan for row in rows):
        verdict, case = Verdict.TIGHT, "beyond"
    row_id = UNSAFE.id_of(NIGHT)
    named = {"faults": _named(rows)}
    yield say(row_id, evaluation.rows.get(row_id), verdict, named, case=case, lines=lines or [_count_line(result)])


@finding(
    "night.unhandled",
    step=STEP,
    listed=Listed(after="night.unsafe"),
    source=_SOURCE,
    titles={"holds": "Every event is handled", "": "{count} simulated nights have an event that nothing handles"},
    remedies="Let the program check its frames, watch the weather, and start again (plan.watch).",
)
def unhandled(evaluation: Evaluation) -> Iterator[Statement]:
    """Is there an event that nothing handles?"""
    result = _rehearsed(evaluation)
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
    count = len(rows) + (own is not None)
    lines = lines or ["each fault is answered by a time limit, another attempt, or a watch"]
    yield say(NIGHT, None, Verdict.TIGHT if count else Verdict.HOLDS, {"count": count}, lines=lines)


@finding(
    "night.budget",
    step=STEP,
    proves=Proof(condition=conditions.FITS_THE_DARK, needed=_NEEDED),
    listed=Listed(after="night.unhandled"),
    source=_SOURCE,
    titles={
        "over": "The plan leaves {hours:1} dark hours over",
        "nothing": "The plan keeps no frame even with nothing wrong: {why}",
        "lost": "{missing} of {planned} frames find no time, or are lost{why}",
    },
    remedies={
        "nothing": "Correct what the title names in the timeline, and simulate the night again.",
        "": "Plan fewer frames, or check in the timeline what takes the time.",
    },
)
def budget(evaluation: Evaluation) -> Iterator[Statement]:
    """Does the plan fit into the dark hours?"""
    from wyntaxis.core.rehearsal.outcome import SPAN_WORDS
    from wyntaxis.core.rehearsal.summary import why_none

    result = _rehearsed(evaluation)
    if result is None:
        return
    good = result.good
    kept, row = (evaluation.rows.get(kind.id_of(NIGHT)) for kind in (KEPT, SLACK))
    verdict = row.target_verdict if row is not None else Verdict.UNPROVEN
    lines = [
        f"{SPAN_WORDS[kind]}: {number(seconds / 3600, 2)} h" for kind, seconds in good.budget.items() if seconds > 0
    ]
    lines.append(f"{good.frames_kept} of {good.frames_planned} frames kept")
    missing = good.frames_planned - good.frames_kept
    named: dict[str, Named] = {
        "hours": slack_h(result),
        "missing": missing,
        "planned": good.frames_planned,
        "why": f": {good.lost_why[0][0]}" if good.lost_why else "",
    }
    case = "lost" if missing > 0 else "over"
    if good.frames_planned and not good.frames_kept:
        case, named["why"] = "nothing", why_none(good)
    cure = case if case == "nothing" else str(verdict)
    yield say(KEPT.id_of(NIGHT), (kept, row), verdict, named, case=case, cure=cure, lines=lines)


@finding(
    "night.weather",
    step=STEP,
    proves=Proof(condition=conditions.WEATHER_STOPS, needed=_NEEDED),
    listed=Listed(after="night.budget"),
    source=_SOURCE,
    titles={
        "holds": "Rain and a silent weather station stop the plan",
        "tight": "Rain stops the plan, but not while the weather station is silent",
        "fails": "Rain would find the roof open: nothing stops the plan",
    },
    remedies="Let the weather stop the plan, and count silence as bad weather.",
)
def weather(evaluation: Evaluation) -> Iterator[Statement]:
    """Does bad weather stop the plan?"""
    result = _rehearsed(evaluation)
    if result is None:
        return
    rows = {row.fault.id: row for row in result.rows}
    rain, silent, watch = rows["weather.rain"], rows["weather.silent"], result.setting.watch
    lines = [f"rain: {rain.grade}" + (f" ({', '.join(rain.outcome.unsafe)})" if rain.outcome.unsafe else "")]
    lines.append("silence counts as bad weather" if watch.silence_is_unsafe else "silence counts as good weather")
    verdict = Verdict.HOLDS
    if rain.applies and rain.grade == "unsafe":
        verdict = Verdict.FAILS
    elif silent.applies and not watch.silence_is_unsafe:
        verdict = Verdict.TIGHT
    place = ("plan", "watch")
    settings = (((*place, "then"), "end_safely"), ((*place, "silence_is_unsafe"), True))
    change = Change("Watch the weather", settings) if verdict is not Verdict.HOLDS else None
    yield say(NIGHT, None, verdict, lines=lines).with_edit(change)


@finding(
    "night.flip",
    step=STEP,
    listed=Listed(after="night.weather"),
    source=_SOURCE,
    titles={
        "holds": "The meridian flip comes between two exposures",
        "fails": "The mount reaches its limit in an exposure: the plan has no flip",
    },
    remedies="Let the plan flip (Devices, plan).",
)
def flip(evaluation: Evaluation) -> Iterator[Statement]:
    """Does the flip come between two exposures?"""
    result = _rehearsed(evaluation)
    if result is None or result.setting.flip_margin_s is None or result.setting.sky.meridian_s is None:
        return
    at = result.setting.sky.meridian_s + result.setting.flip_margin_s
    if not result.setting.sky.is_good(at):
        return
    misses = any(event.cause == NO_FLIP for event in result.good.events)
    waited = sum(
        s.to_s - s.from_s
        for s in result.good.spans
        if s.kind == "waiting" and s.from_s > result.setting.sky.dark_from_s
    )
    line = f"flip {number(at / 3600, 2)} h after the start of the plan; {number(waited / 60, 1)} min waited for it"
    yield say(NIGHT, None, Verdict.FAILS if misses else Verdict.HOLDS, lines=(line,))


@finding(
    "night.storage",
    step=STEP,
    listed=Listed(after="night.flip"),
    source=_SOURCE,
    titles="The night's frames take {taken:1} GB of {free:1} GB free",
    remedies="Free disk space before the night.",
)
def storage(evaluation: Evaluation) -> Iterator[Statement]:
    """Is there disk space for the night's frames?"""
    result = _rehearsed(evaluation)
    if result is None or result.setting.free_gb is None:
        return
    taken, free = result.good.frames_planned * result.setting.frame_gb, result.setting.free_gb
    verdict = Verdict.FAILS if free < taken else Verdict.TIGHT if free < TIGHT_SPACE * taken else Verdict.HOLDS
    line = f"{result.good.frames_planned} × {number(1000 * result.setting.frame_gb, 1)} MB"
    yield say(NIGHT, None, verdict, {"taken": taken, "free": free}, lines=(line,))


@finding(
    "night.power",
    step=STEP,
    proves=Proof(condition=conditions.POWER),
    listed=Listed(after="night.storage"),
    source=_SOURCE,
    titles={
        "holds": "{supply} lasts the simulated night",
        "tight": "{supply} lasts the simulated night with little left",
        "": "{supply} gives more in the simulated night than it may",
        "over": "{supply} gives {peak:2} A at once, more than its rating of {rated:1} A",
    },
    remedies="Use a larger supply, or fewer devices at once.",
)
def power(evaluation: Evaluation) -> Iterator[Statement]:
    """Does each battery last the simulated night, and does no supply exceed its rating?"""
    result = _rehearsed(evaluation)
    for use in result.good.power if result is not None else ():
        row = evaluation.rows.get(DRAWN.id_of(use.load.supply.id))
        rated = use.load.supply.rated_a
        over = rated is not None and use.peak_a > rated
        if row is None and not over:
            continue
        lines = []
        if use.usable_ah is not None:
            lines.append(f"drawn {number(use.drawn_ah, 1)} Ah of {number(use.usable_ah, 1)} Ah usable")
        lines.append(
            f"most at once: {number(use.peak_a, 2)} A, {number(use.peak_s / 3600, 2)} h after the start of the plan"
            + (f", rated {number(rated, 1)} A" if rated is not None else "")
        )
        verdict = Verdict.FAILS if over else row.target_verdict if row is not None else Verdict.HOLDS
        named: dict[str, Named] = {"supply": use.title, "peak": use.peak_a, "rated": rated or 0.0}
        yield say(use.load.supply.id, row, verdict, named, case="over" if over else "", lines=lines)


@finding(
    "night.names",
    step=STEP,
    listed=Listed(after="night.power"),
    source="A file name must identify its frame, and what its darks and flats must match",
    titles={
        "holds": "The file names identify each frame, and what belongs to it",
        "tight": "The file names do not contain {missing}",
        "fails": "The file names overwrite one another",
    },
    remedies="Use names that identify each frame.",
)
def names(evaluation: Evaluation) -> Iterator[Statement]:
    """Does the pattern of file names identify each frame, and what belongs to it?"""
    plan = evaluation.rig.plan
    if plan is None or plan.file_names is None:
        return
    tokens = {
        word for token in re.findall(r"[{$%\\[]+([A-Za-z_]+)", plan.file_names) for word in token.lower().split("_")
    }
    cameras = sum(device.kind in ("camera", "guide_camera") for device in evaluation.rig.devices)
    wanted = {"gain", "temperature"}
    wanted |= {"filter"} if len(plan.filters) > 1 else set()
    wanted |= {"camera"} if cameras > 1 else set()
    missing = sorted(key for key in wanted if not tokens & set(_TOKENS[key]))
    overwrites = not tokens & set(_COUNTS)
    verdict = Verdict.FAILS if overwrites else Verdict.TIGHT if missing else Verdict.HOLDS
    lines = [f"pattern: {plan.file_names}"]
    lines += ["neither a number nor a time distinguishes frames"] if overwrites else []
    lines += [f"missing: {', '.join(missing)}"] if missing else []
    better = Change.of("Name frames fully", ("plan", "file_names"), DEFAULT_NAMES)
    change = None if verdict is Verdict.HOLDS else better
    yield say(NIGHT, None, verdict, {"missing": ", ".join(missing)}, lines=lines).with_edit(change)

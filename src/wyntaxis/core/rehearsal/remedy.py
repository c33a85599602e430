"""What would cure a fault: changes of the plan, each played, the first that makes the night better."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.json_values import JsonValue
from wyntaxis.core.rehearsal.drafted import LIMITS, drafted_steps, drafted_watch
from wyntaxis.core.rehearsal.outcome import Grade, NightOutcome, grade_of
from wyntaxis.core.rehearsal.play import FaultRow, active_faults, applies, played, window_of
from wyntaxis.core.rehearsal.setting import NightSetting, setting_of
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.device_kinds.declaration import Fault
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.night_plan import CLOSING, NightStep, NightWatch

ORDER: tuple[Grade, ...] = ("survived", "degraded", "lost", "unsafe")
ATTEMPTS, PAUSE_S = 3, 30.0
ELSEWHERE = {
    "camera.wrong": "Enter both cameras' serial numbers, so that the program can distinguish them",
    "cooler.out_of_reach": "set a warmer target, or cool in stages (Cooling)",
    "solver.off_scale": "Correct the program's focal length (Programs): its scale is wrong",
    "focuser.reversed": "state the focuser's direction, and try a focus run by day (Focuser)",
    "focuser.at_end": "move the drawtube so that focus lies inside the motor's travel (Focuser)",
    "weather.cloud": "nothing brings the hours back; watch the weather, and the rest of the night is kept",
    "weather.wind": "nothing brings the hours back; a shield, or a lower limit of the wind",
    "optics.dew": "let the heater follow the dew point",
    "disk.full": "make room, or save to a second place",
    "card.corrupt": "save a second copy of the images",
    "battery.empty": "let the roof shut by itself when the power fails, and end before the battery does",
    "weather.showers": "a weather station that stops the run, or a roof that shuts by itself",
    "roof.motor_dead": "a hand crank, and somebody within reach: no plan shuts a roof whose motor is dead",
    "wheel.stuck": "let the plan take what the filter in the beam allows, and look at the wheel by day",
    "camera.drops": "another cable, a shorter one, or its own port (Devices, ports)",
    "focuser.slips": "tighten the drawtube's clamp, or take load off it (Focuser)",
    "guider.unsettled": "a wider settling limit, or a longer exposure of the guide camera (Guide log)",
    "weather.rain": "a weather station that stops the run, or a roof that shuts by itself",
}
"""What helps that is no change of the plan."""


@dataclass(frozen=True)
class NightRemedy:
    """A change of the plan, and how the night with the fault stands after it."""

    words: str
    change: Change
    grade: Grade
    outcome: NightOutcome


def words_of(fault: Fault) -> str:
    """Return what helps against a fault beyond the plan; empty where the plan is enough."""
    return ELSEWHERE.get(fault.id, "")


def remedies(setting: NightSetting, row: FaultRow, rows: Sequence[FaultRow] = ()) -> NightRemedy | None:
    """Return the change of the plan that helps most against a fault; None where none helps.

    Parameters
    ----------
    setting, row
        The rig with its plan, and the fault against it.
    rows
        Every fault against the plan as it is; a remedy that makes the night worse in any other of them, or without
        one, is not offered. None where they were not simulated.

    Returns
    -------
    NightRemedy or None
        The smallest change that gives the best grade that any of them gives, each tried by playing the fault again.
    """
    if not row.applies or row.grade == "survived":
        return None
    before = (ORDER.index(row.grade), -row.outcome.frames_kept)
    found: list[tuple[tuple[int, int], NightRemedy, NightSetting]] = []
    for words, steps, watch in _candidates(setting, row):
        change = _change(setting, steps, watch, words)
        try:
            changed = setting_of(edit.apply(setting.rig, change), setting.sky)
        except InputError:
            continue
        outcome = _again(changed, row.fault)
        remedy = NightRemedy(words, change, grade_of(outcome), outcome)
        if _rank(remedy) < before:
            found.append((_rank(remedy), remedy, changed))
    for _, remedy, changed in sorted(found, key=lambda entry: entry[0]):
        if not _worsens(setting, changed, row, rows):
            return remedy
    return None


def _again(changed: NightSetting, fault: Fault) -> NightOutcome:
    """Return how a fault goes with a changed plan."""
    return played(changed, [active_faults(changed, fault, window=window_of(changed, played(changed)))])


def _worsens(setting: NightSetting, changed: NightSetting, row: FaultRow, rows: Sequence[FaultRow]) -> bool:
    """Return whether a change makes the night worse with nothing wrong, or in a fault that it is not for."""
    good, better = played(setting), played(changed)
    if _stands(better) > _stands(good):
        return True
    window = window_of(changed, better)
    for other in rows:
        if other.fault.id == row.fault.id or not applies(changed, other.fault):
            continue
        again = played(changed, [active_faults(changed, other.fault, window=window)])
        if ORDER.index(grade_of(again)) > ORDER.index(other.grade):
            return True
    return False


def _stands(night: NightOutcome) -> tuple[int, int]:
    return ORDER.index(grade_of(night)), -night.frames_kept


def _rank(remedy: NightRemedy) -> tuple[int, int]:
    return ORDER.index(remedy.grade), -remedy.outcome.frames_kept


def _change(setting: NightSetting, steps: Sequence[NightStep], watch: NightWatch | None, words: str) -> Change:
    values: list[tuple[tuple[str | int, ...], JsonValue]] = []
    if tuple(steps) != setting.steps or (setting.rig.plan is not None and not setting.rig.plan.steps):
        values.append((("plan", "steps"), [step.model_dump(mode="json", exclude_unset=True) for step in steps]))
    if watch is not None:
        values.append((("plan", "watch"), watch.model_dump(mode="json", exclude_none=True)))
    return Change(f"{words[:1].upper()}{words[1:]}"[:80], tuple(values))


def _candidates(setting: NightSetting, row: FaultRow) -> Iterator[tuple[str, Sequence[NightStep], NightWatch | None]]:
    """Yield changes of the plan in words, from the smallest on."""
    steps, watch, wanted = setting.steps, setting.watch, drafted_watch(setting.rig)
    does = {*row.fault.does, row.fault.cure} - {""}
    if does & {"expose", "download", "wheel"}:
        does.add("sequence")
    touched = [index for index, step in enumerate(steps) if step.do in does]
    for index in touched:
        step = steps[index]
        if step.limit_s is None:
            limit = LIMITS[step.do][0] if step.do in LIMITS else 1.5 * (step.exposure_s or 0.0) + 60.0
            yield "give the step a time limit", _with(steps, touched, limit_s=limit), None
            more = _with(steps, touched, limit_s=limit, attempts=ATTEMPTS, pause_s=PAUSE_S, reconnect=True)
            yield "give the step a time limit, and attempts", more, None
            yield "limit, attempts, and the next target after", _with(more, touched, then="skip"), None
            break
    if touched:
        tries = _with(steps, touched, attempts=ATTEMPTS, pause_s=PAUSE_S, reconnect=True)
        yield f"try it {ATTEMPTS} times, reconnected in between", tries, None
        yield "go on with the next target when attempts run out", _with(tries, touched, then="skip"), None
    yield from _in_order(setting)
    if row.fault.id.startswith(("weather.", "network.")):
        yield (
            "watch the weather, and end safely",
            steps,
            watch.model_copy(update={"then": "end_safely", "silence_is_unsafe": True}),
        )
        yield (
            "watch the weather, and wait for better",
            steps,
            watch.model_copy(update={"then": "wait", "silence_is_unsafe": True}),
        )
    if row.fault.id.startswith(("computer.", "power.")):
        yield (
            "restart and end safely when the program crashes",
            steps,
            watch.model_copy(update={"on_error": "end_safely"}),
        )
    if row.outcome.frames_lost or row.fault.frame_problem:
        looks = watch.model_copy(update={"checks_frames": True, "recovers_guiding_s": wanted.recovers_guiding_s})
        yield "check each frame's stars, and find the guide star again", steps, looks
    yield "watch over all of it", steps, wanted
    closing = [i for i, step in enumerate(steps) if step.do in ("park", "close_roof", "close_cover")]
    if closing:
        more = _with(steps, closing, attempts=ATTEMPTS, pause_s=PAUSE_S, reconnect=True)
        yield f"try to close {ATTEMPTS} times", more, wanted


_OPENING_FIRST = ("outlets_on", "connect", "cool", "open_roof", "open_cover", "unpark", "wait_dark", "slew", "solve")


def _in_order(setting: NightSetting) -> Iterator[tuple[str, Sequence[NightStep], NightWatch | None]]:
    """Yield the plan's own steps in the order that they need, and with the closing steps that it lacks."""
    usual = drafted_steps(setting.rig)
    order = {step.do: place for place, step in reversed(list(enumerate(usual)))}
    own = sorted(setting.steps, key=lambda step: order.get(step.do, order.get("sequence", 0)))
    if tuple(own) != setting.steps:
        yield "put the steps in the order that they need", own, None
    does = {step.do for step in own}
    missing = [step for step in usual if step.do not in does and step.do in (*_OPENING_FIRST, *CLOSING)]
    if missing:
        more = sorted([*own, *missing], key=lambda step: order.get(step.do, order.get("sequence", 0)))
        names = ", ".join(step.do.replace("_", " ") for step in missing)
        yield f"add what the plan lacks: {names}", more, None


def _with(steps: Sequence[NightStep], places: Sequence[int], **entries: JsonValue) -> tuple[NightStep, ...]:
    """Return steps with some of them changed."""
    return tuple(
        NightStep.model_validate(step.model_dump(exclude_unset=True) | entries) if index in places else step
        for index, step in enumerate(steps)
    )

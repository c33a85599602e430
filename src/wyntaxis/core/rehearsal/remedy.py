"""What would cure a fault: changes of the plan, each played, the first that makes the night better."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.json_values import JsonValue
from wyntaxis.core.rehearsal.drafted import LIMITS, drafted_steps, drafted_watch
from wyntaxis.core.rehearsal.outcome import Grade, NightOutcome, grade_of
from wyntaxis.core.rehearsal.play import FaultRow, active_faults, applies, played, window_of
from wyntaxis.core.rehearsal.setting import NightSetting, setting_of
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.device_kinds.declaration import Fault
from wyntaxis.core.rig.devices import Device
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
    "mains.fails": "a battery between the mains and the computer, mount and camera (Devices, supplies)",
    "clock.slow": "a clock of its own, or the time by the network (Devices)",
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
    for candidate in _candidates(setting, row):
        change = _change(setting, candidate)
        try:
            changed = setting_of(edit.apply(setting.rig, change), setting.sky)
        except InputError:
            continue
        outcome = _again(changed, row.fault)
        remedy = NightRemedy(candidate.words, change, grade_of(outcome), outcome)
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


class Candidate(NamedTuple):
    """A change that may help: in words, the steps, another watch, and the place of a device that is to stop it."""

    words: str
    steps: Sequence[NightStep]
    watch: NightWatch | None = None
    stopped_by: int | None = None


def _change(setting: NightSetting, candidate: Candidate) -> Change:
    words, steps, watch, stopped_by = candidate
    values: list[tuple[tuple[str | int, ...], JsonValue]] = []
    if tuple(steps) != setting.steps or (setting.rig.plan is not None and not setting.rig.plan.steps):
        values.append((("plan", "steps"), [step.model_dump(mode="json", exclude_unset=True) for step in steps]))
    if watch is not None:
        values.append((("plan", "watch"), watch.model_dump(mode="json", exclude_none=True)))
    if stopped_by is not None:
        values.append((("devices", stopped_by, "settings", "stops_the_run", "value"), True))
    return Change(f"{words[:1].upper()}{words[1:]}"[:80], tuple(values))


def _candidates(setting: NightSetting, row: FaultRow) -> Iterator[Candidate]:
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
            yield Candidate("give the step a time limit", _with(steps, touched, limit_s=limit))
            more = _with(steps, touched, limit_s=limit, attempts=ATTEMPTS, pause_s=PAUSE_S, reconnect=True)
            yield Candidate("give the step a time limit, and attempts", more)
            yield Candidate("limit, attempts, and the next target after", _with(more, touched, then="skip_target"))
            break
    if touched:
        tries = _with(steps, touched, attempts=ATTEMPTS, pause_s=PAUSE_S, reconnect=True)
        yield Candidate(f"try it {ATTEMPTS} times, reconnected in between", tries)
        skipped = _with(tries, touched, then="skip_target")
        yield Candidate("go on with the next target when attempts run out", skipped)
    yield from _in_order(setting)
    if row.fault.id.startswith(("weather.", "network.")):
        for then, words in (("end_safely", "and end safely"), ("wait", "and wait for better")):
            watched = watch.model_copy(update={"then": then, "silence_is_unsafe": True})
            yield Candidate(f"watch the weather, {words}", steps, watched)
            for place, device in _monitors(setting):
                yield Candidate(f"let {device.title} stop the run, {words}", steps, watched, place)
    if row.fault.id.startswith(("computer.", "power.")):
        restarts = watch.model_copy(update={"on_error": "end_safely"})
        yield Candidate("restart and end safely when the program crashes", steps, restarts)
    if row.outcome.frames_lost or row.fault.frame_problem:
        looks = watch.model_copy(update={"checks_frames": True, "recovers_guiding_s": wanted.recovers_guiding_s})
        yield Candidate("check each frame's stars, and find the guide star again", steps, looks)
    yield Candidate("watch over all of it", steps, wanted)
    closing = [i for i, step in enumerate(steps) if step.do in ("park", "close_roof", "close_cover")]
    if closing:
        more = _with(steps, closing, attempts=ATTEMPTS, pause_s=PAUSE_S, reconnect=True)
        yield Candidate(f"try to close {ATTEMPTS} times", more, wanted)


def _monitors(setting: NightSetting) -> Iterator[tuple[int, Device]]:
    """Yield the devices that watch the weather and do not stop the run yet, with their places in the rig."""
    for place, device in enumerate(setting.rig.devices):
        if device.kind in ("weather", "safety_monitor") and device.truth("stops_the_run") is not True:
            yield place, device


_OPENING_FIRST = ("outlets_on", "connect", "cool", "open_roof", "open_cover", "unpark", "wait_dark", "slew", "solve")


def _in_order(setting: NightSetting) -> Iterator[Candidate]:
    """Yield the plan's own steps in the order that they need, and with the closing steps that it lacks."""
    usual = drafted_steps(setting.rig)
    order = {step.do: place for place, step in reversed(list(enumerate(usual)))}
    own = sorted(setting.steps, key=lambda step: order.get(step.do, order.get("sequence", 0)))
    if tuple(own) != setting.steps:
        yield Candidate("put the steps in the order that they need", own)
    does = {step.do for step in own}
    missing = [step for step in usual if step.do not in does and step.do in (*_OPENING_FIRST, *CLOSING)]
    if missing:
        more = sorted([*own, *missing], key=lambda step: order.get(step.do, order.get("sequence", 0)))
        names = ", ".join(step.do.replace("_", " ") for step in missing)
        yield Candidate(f"add what the plan lacks: {names}", more)


def _with(steps: Sequence[NightStep], places: Sequence[int], **entries: JsonValue) -> tuple[NightStep, ...]:
    """Return steps with some of them changed."""
    return tuple(
        NightStep.model_validate(step.model_dump(exclude_unset=True) | entries) if index in places else step
        for index, step in enumerate(steps)
    )

"""One night on a virtual clock: the plan's steps as a process, whatever interrupts it, and what came of it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import simpy

from wyntaxis.core.rehearsal.devices import Work
from wyntaxis.core.rehearsal.doing import Doing
from wyntaxis.core.rehearsal.exposing import NightExposures
from wyntaxis.core.rehearsal.outcome import TARGET, NightEvent, NightOutcome, NightSpan, NightStage, TargetFrames
from wyntaxis.core.rehearsal.script import OF_A_TARGET, ONCE_A_NIGHT, ScriptStep, ScriptTarget
from wyntaxis.core.rehearsal.setting import SHELTERS
from wyntaxis.core.rehearsal.world import RAIN
from wyntaxis.core.rig.night_plan import CLOSING, SKIPS, RunOut

WET_S = 240.0
"""An open roof may be rained on for so long before things are wet."""
WAIT_ON_S = 300.0
"""Between attempts of a step that waits, where it states no pause."""
POWER_LOOK_S = 60.0
CLEAR_S = 900.0
"""Good weather must have held so long before it is opened again."""
OVERTIME_S = 4 * 3600.0
_REACQUIRE = ("open_roof", "open_cover", "unpark", "slew", "solve", "guide")


class NightRun(NightExposures):
    """A night being played."""

    def __post_init__(self) -> None:
        super().__post_init__()
        self.script: simpy.Process = self.env.process(self._program())
        self._at = 0
        self._is_over = False
        self._hung = ""
        """A wait that nothing but the power's end has ended."""
        self.stages: list[NightStage] = []
        self.over: set[int] = set()
        """Steps of targets, by their numbers, that are not done again."""
        self.given_up: dict[str, str] = {}
        self._left = ""
        """Why the present target was left; empty where it was not."""

    def _program(self) -> Doing[None]:
        """Run the plan; whatever interrupts it is answered as the plan says."""
        place = 0
        while True:
            try:
                yield from self._script_from(place)
                break
            except simpy.Interrupt as stop:
                place = self._at
                if self._waits and not self._is_limited and str(stop.cause) == "the power is gone":
                    self._hung = self._waits
                self._stop_action()
                again = yield from self._answer(str(stop.cause))
                if not again or self._is_over:
                    break
        self.ended_s = self.env.now

    def _stop_action(self) -> None:
        self._waits = ""
        if self._action is not None and self._action.is_alive:
            self._action.interrupt("stopped")

    def _answer(self, why: str) -> Doing[bool]:
        """Answer what interrupted the plan; return whether it goes on."""
        watch = self.setting.watch
        while True:
            try:
                if why in ("the program has crashed", "the power has failed"):
                    if watch.on_error is None:
                        self.state.program = False
                        self.note("program", f"{why}, and nothing takes over", "end", unhandled=True)
                        return False
                    self.note("program", f"{why}: it restarts and ends safely", "branch")
                    while not self.state.electricity:
                        yield self.env.timeout(POWER_LOOK_S)
                    yield self.env.timeout(self.setting.work_s("restart"))
                    yield from self._reconnect("connect")
                    yield from self._end_safely(why)
                    return False
                if why == "the power is gone":
                    return False
                if watch.then == "wait":
                    return (yield from self._wait_for_weather(why))
                yield from self._end_safely(why)
                return False
            except simpy.Interrupt as again:
                self._stop_action()
                if str(again.cause).startswith(("the weather", "the weather station")):
                    continue
                why = str(again.cause)

    def _wait_for_weather(self, why: str) -> Doing[bool]:
        """Close, wait until the weather has been good for a while, open again; return whether the night goes on."""
        self._message(f"{why}: closed, waiting for better")
        self._closing = True
        for do in ("park", "close_cover", "close_roof"):
            yield from self._closing_step(do)
        began = self.env.now
        while self.weather or self.env.now - self.state.clear_since < CLEAR_S:
            if self.env.now > self.setting.sky.dark_until_s:
                yield from self._end_safely("the night is over")
                return False
            yield self.env.timeout(60.0)
        self._span("wait_dark", began, "waiting")
        self._closing = False
        self._message("the weather is good again: going on")
        for do in _REACQUIRE:
            step = next((own for own in self.setting.steps if own.do == do), None)
            if step is not None and not (self.setting.targets and do in OF_A_TARGET):
                yield from self._attempts(do, step)
        return True

    def _end_safely(self, why: str) -> Doing[None]:
        self._closing = True
        self._step = "end safely"
        self._message(f"{why}: ending safely")
        for do in CLOSING:
            yield from self._closing_step(do)

    def _closing_step(self, do: str) -> Doing[None]:
        found = next(((place, own) for place, own in enumerate(self.setting.steps) if own.do == do), None)
        if found is not None:
            self._step = do
            began = self.env.now
            try:
                why = yield from self._attempts(do, found[1])
            finally:
                self.stages.append(NightStage(found[0], began, self.env.now))
            if why:
                self.note(self._title(do), f"{do.replace('_', ' ')} was not done: {why}", "branch", unhandled=True)

    def _script_from(self, place: int) -> Doing[None]:
        """Do the script from a place on: what comes before the targets, the targets, and what comes after."""
        script = self.setting.script
        items: list[ScriptStep | None] = [*script.before, *([None] if script.targets else []), *script.after]
        index = place
        while index < len(items):
            item, self._at = items[index], index
            then = (yield from self._targets()) if item is None else (yield from self._do(item))
            if then in ("end_now", "end_safely"):
                return
            if then == "repeat_block" and item is not None:
                index = item.begins if index < len(script.before) else len(items) - len(script.after) + item.begins
            else:
                index += 1
        self._is_over = True

    def _do(self, item: ScriptStep) -> Doing[RunOut]:
        """Do one step; what comes then, where it was not done."""
        step = item.step
        self._step = step.do
        self._closing = self._closing or step.do in CLOSING
        began = self.env.now
        try:
            why = yield from self._one_step(item)
        finally:
            self.stages.append(NightStage(item.place, began, self.env.now))
        if not why:
            if step.do != "wait_dark":
                self.note(self._title(step.do), step.do.replace("_", " "), "done")
            return "go_on"
        if step.then == "end_now":
            self.note("program", f"{why}: ends at once", "end")
            return "end_now"
        if step.then == "end_safely":
            yield from self._end_safely(f"{step.do.replace('_', ' ')} failed ({why})")
            return "end_safely"
        if step.then == "repeat_block":
            yield self.env.timeout(max(step.pause_s, WAIT_ON_S))
            if self.env.now < self.setting.sky.dark_until_s:
                self.note("program", f"{why}: begins the block again", "branch")
                return "repeat_block"
        if step.do == "solve":
            self.frame_problems["unsolved"] = "off the object"
        goes = "the next target" if step.then in SKIPS else "the next step"
        unhandled = step.do in ("solve", "slew", "connect", "open_roof", "open_cover", "park", "close_roof")
        self.note("program", f"{why}: goes on with {goes}", "branch", unhandled=unhandled)
        return "skip_target" if step.then in SKIPS else "go_on"

    def _one_step(self, item: ScriptStep) -> Work:
        """Do one step of the plan; what went wrong, empty where it was done."""
        step = item.step
        if step.do == "wait_dark":
            yield from self._wait(step)
            return ""
        if step.do == "sequence":
            return (yield from self._sequence(item))
        if step.do in ("flats", "darks") and step.filter is not None and self.state.filter != step.filter:
            why = yield from self._attempts("wheel", step)
            if why:
                return why
        why = yield from self._attempts(step.do, step)
        while why and step.then == "wait" and self.env.now < self.setting.sky.dark_until_s:
            yield self.env.timeout(max(step.pause_s, WAIT_ON_S))
            why = yield from self._attempts(step.do, step)
        return why

    # Targets

    def _targets(self) -> Doing[RunOut]:
        """Take the targets: of those that can be taken now, the one of the first priority."""
        self.target = None
        for own in self.setting.targets:
            for moment in (own.start, own.stop):
                if moment is not None and ":" in moment and self.setting.sky.begins is None and not self.over:
                    self.note("program", f"{own.name}: {self._why_no(moment)}", "branch", unhandled=True)
        while True:
            found = self._next_target()
            if found is None:
                self.target = None
                return "go_on"
            at, target = found
            yield from self._until(at)
            self.target = target
            then = yield from self._one_target(target)
            if then in ("end_now", "end_safely"):
                return then
            if then == "skip_target":
                self.given_up[target.name] = "given up, as the plan says"

    def _next_target(self) -> tuple[float, ScriptTarget] | None:
        """Return which target can be taken next, and when; None where none can this night."""
        found = []
        for number, target in enumerate(self.setting.script.targets):
            exposure = self._next_exposure(target)
            if exposure is None or target.name in self.given_up:
                continue
            at = self.by_the_clock(target.sky).next_good(self.env.now, exposure)
            if at is not None:
                found.append((at, target.priority, number, target))
        if not found:
            return None
        at, _, _, target = min(found)
        return at, target

    def _next_exposure(self, target: ScriptTarget) -> float | None:
        """Return the exposure in s of the first frame that a target still lacks; None where it lacks none."""
        for item in target.steps:
            if item.step.do == "sequence" and self._lacks(item):
                return item.step.exposure_s or 0.0
        return None

    def _lacks(self, item: ScriptStep) -> bool:
        return item.key not in self.over and self.progress.get(item.key, 0) < (item.step.frames or 1)

    def leaves_target(self, exposure_s: float) -> bool:
        """Return whether the present target is to be left: it is not up, or one of an earlier priority is."""
        target = self.target
        if target is None:
            return False
        if self.sky.next_good(self.env.now, exposure_s) != self.env.now:
            self._left = f"{target.name}: not to be taken any more now"
            return True
        for other in self.setting.script.targets:
            exposure = self._next_exposure(other)
            is_first = other.priority < target.priority and other.name not in self.given_up and exposure is not None
            if is_first and self.by_the_clock(other.sky).next_good(self.env.now, exposure or 0.0) == self.env.now:
                self._left = f"{target.name}: left for {other.name}, which comes first"
                return True
        return False

    def _one_target(self, target: ScriptTarget) -> Doing[RunOut]:
        """Do a target's steps: what leads to it again, and then what it still lacks."""
        self.note("program", target.name, "done", cause=TARGET)
        self.state.on_target = self.state.solved = False
        steps, index = target.steps, 0
        first = next((k for k, item in enumerate(steps) if item.step.do == "sequence"), len(steps))
        while index < len(steps):
            item = steps[index]
            if not self._needs_doing(item, leads=index < first):
                index += 1
                continue
            self._left = ""
            then = yield from self._do(item)
            if self._left:
                self.note("program", self._left, "wait")
                return "go_on"
            if then == "repeat_block":
                self.over -= {entry.key for entry in steps[item.begins : index]}
                index = item.begins
            elif then == "go_on":
                if item.step.do == "sequence":
                    self.over.add(item.key)  # also where its frames could not be had: the plan goes on
                self.over |= {item.key} if index > first else set()
                index += 1
            else:
                return then
        return "go_on"

    def _needs_doing(self, item: ScriptStep, *, leads: bool) -> bool:
        """Return whether a target's step is still to be done; what leads to the target is done each time."""
        if item.step.do in ONCE_A_NIGHT:
            return not getattr(self.state, {"rough_focus": "nearly_focused"}.get(item.step.do, "calibrated"))
        return leads or item.key not in self.over

    # The end

    def played(self) -> NightOutcome:
        """Play the night to its end, and return what came of it."""
        until = self.setting.sky.ends_s + OVERTIME_S
        while self.script.is_alive and self.env.peek() <= until:
            self.env.step()
        endless: tuple[str, ...] = ()
        if self.script.is_alive or self._hung:
            endless = (self._hung or self._waits or f"{self._step.replace('_', ' ')}: waits",)
            device = endless[0].partition(": ")[0] if self._hung or self._waits else "program"
            ends = self.setting.sky.ends_s
            began = max(self._hung_s if self._hung or self._waits else self.env.now, self._counted_s)
            self._fill_until(min(began, ends))
            if began < ends:
                self.spans.append(NightSpan(device, began, ends, "endless"))
            what = f"nothing ends this wait: {endless[0]}"
            self.events.append(NightEvent(began, "program", self._step, what, "end", unhandled=True))
        if self.weather & RAIN and self.rained_on:
            self.state.wet_s += max(until - self.env.now, 0.0)
        ends = self.ended_s if self.ended_s is not None else self.env.now
        if not endless:
            self._fill_until(ends)
        self._flow()
        script = self.setting.script
        return NightOutcome(
            tuple(_in_order(self.events)),
            tuple(self.spans),
            len(self.kept),
            sum(self.lost.values()),
            self._planned((*script.before, *(own for target in script.targets for own in target.steps), *script.after)),
            sum(exposure for _, exposure in self.kept),
            ends,
            tuple(self._unsafe()),
            endless,
            tuple(self.messages),
            tuple(self.lost.most_common()),
            self.state.disk_gb,
            tuple(self.stages),
            tuple(self.uses),
            tuple(self._of_targets()),
        )

    def _planned(self, steps: Iterable[ScriptStep]) -> int:
        """Return how many frames steps ask for; one that ends by a moment asks for those that it kept, one at least."""
        asked = [
            own.step.frames if own.step.frames is not None or own.step.until is None else max(self.kept_in[own.key], 1)
            for own in steps
            if own.step.do == "sequence"
        ]
        return sum(frames or 1 for frames in asked)

    def _of_targets(self) -> Iterable[TargetFrames]:
        """Yield what was kept of each target, and why the rest was not."""
        script, framing = self.setting.script, self.setting.rig.framing
        if not script.targets:
            name = (framing.name if framing is not None else None) or "object"
            yield TargetFrames(name, len(self.kept), self._planned((*script.before, *script.after)))
        for target in script.targets:
            kept = self.kept_of[target.name]
            why, planned = self.given_up.get(target.name, ""), self._planned(target.steps)
            if kept < planned and not why:
                why = "no time is left in which it can be taken"
                why = why if target.sky.up else "not to be taken this night: too low, or outside its times"
            yield TargetFrames(target.name, kept, planned, why)

    def _unsafe(self) -> Iterable[str]:
        own, state = self.setting, self.state
        yield from self.dangers
        if own.has("mount") and not state.parked:
            yield "the mount is not parked"
        if own.has("roof", "dome") and state.roof_open:
            yield "the roof is open"
        if own.has("cover") and state.cover_open:
            yield "the cover is open"
        if state.wet_s > WET_S:
            what = "the open roof" if own.has(*SHELTERS) else "the uncovered telescope"
            yield f"it rained on {what} for {state.wet_s / 60:.0f} min"
        if state.electricity and state.cold:
            yield "the sensor is cold"
        if state.electricity and state.powered and own.does("outlets_off"):
            yield "the outlets are on"


def _in_order(events: Sequence[NightEvent]) -> list[NightEvent]:
    return sorted(events, key=lambda event: event.t_s)

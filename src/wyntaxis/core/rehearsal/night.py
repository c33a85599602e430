"""One night on a virtual clock: the plan's steps as a process, whatever interrupts it, and what came of it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import simpy

from wyntaxis.core.rehearsal.devices import NightDevices, Work
from wyntaxis.core.rehearsal.doing import Doing
from wyntaxis.core.rehearsal.focus_drift import SOFT_GROWTH
from wyntaxis.core.rehearsal.outcome import NO_FLIP, NightEvent, NightOutcome, NightSpan, NightStage
from wyntaxis.core.rehearsal.setting import SHELTERS
from wyntaxis.core.rehearsal.world import RAIN
from wyntaxis.core.rig.night_plan import CLOSING, NightStep

WET_S = 240.0
"""An open roof may be rained on for so long before things are wet."""
WAIT_ON_S = 300.0
"""Between attempts of a step that waits, where it states no pause."""
CLEAR_S = 900.0
"""Good weather must have held so long before it is opened again."""
OVERTIME_S = 4 * 3600.0
_REACQUIRE = ("open_roof", "open_cover", "unpark", "slew", "solve", "guide")


class NightRun(NightDevices):
    """A night being played."""

    def __post_init__(self) -> None:
        super().__post_init__()
        self.script: simpy.Process = self.env.process(self._program())
        self._at = 0
        self._hung = ""
        """A wait that nothing but the power's end has ended."""
        self.stages: list[NightStage] = []

    def _program(self) -> Doing[None]:
        """Run the plan; whatever interrupts it is answered as the plan says."""
        steps, place = self.setting.steps, 0
        while True:
            try:
                yield from self._steps_from(place)
                break
            except simpy.Interrupt as stop:
                place = self._at
                if self._waits and not self._is_limited and str(stop.cause) == "the power is gone":
                    self._hung = self._waits
                self._stop_action()
                again = yield from self._answer(str(stop.cause))
                if not again or place >= len(steps):
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
            if step is not None:
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

    def _steps_from(self, place: int) -> Doing[None]:
        steps = self.setting.steps
        for index in range(place, len(steps)):
            step, self._at = steps[index], index
            self._step = step.do
            self._closing = self._closing or step.do in CLOSING
            began = self.env.now
            try:
                why = yield from self._one_step(index, step)
            finally:
                self.stages.append(NightStage(index, began, self.env.now))
            if step.do == "wait_dark":
                continue
            if not why:
                self.note(self._title(step.do), step.do.replace("_", " "), "done")
                continue
            if step.then == "end_now":
                self.note("program", f"{why}: ends at once", "end")
                return
            if step.then == "end_safely":
                yield from self._end_safely(f"{step.do.replace('_', ' ')} failed ({why})")
                return
            if step.do == "solve":
                self.frame_problems["unsolved"] = "off the object"
            goes = "the next target" if step.then == "skip" else "the next step"
            unhandled = step.do in ("solve", "slew", "connect", "open_roof", "open_cover", "park", "close_roof")
            self.note("program", f"{why}: goes on with {goes}", "branch", unhandled=unhandled)

    def _one_step(self, index: int, step: NightStep) -> Work:
        """Do one step of the plan; what went wrong, empty where it was done."""
        if step.do == "wait_dark":
            yield from self._until_good()
            return ""
        if step.do == "sequence":
            return (yield from self._sequence(index, step))
        if step.do in ("flats", "darks") and step.filter is not None and self.state.filter != step.filter:
            why = yield from self._attempts("wheel", step)
            if why:
                return why
        why = yield from self._attempts(step.do, step)
        while why and step.then == "wait" and self.env.now < self.setting.sky.dark_until_s:
            yield self.env.timeout(max(step.pause_s, WAIT_ON_S))
            why = yield from self._attempts(step.do, step)
        return why

    def _until_good(self, for_s: float = 0.0) -> Doing[bool]:
        """Wait until it is dark and the object is up for so long; return whether that comes this night."""
        sky = self.setting.sky
        at = sky.next_good(self.env.now, for_s)
        if at is None:
            over = self.env.now + for_s > sky.dark_until_s
            self.note("program", "the night is over" if over else "the object is not up in the dark any more", "wait")
            return False
        if at > self.env.now:
            began = self.env.now
            yield self.env.timeout(at - self.env.now)
            self._span("wait_dark", began, "waiting")
        return True

    def _sequence(self, index: int, step: NightStep) -> Work:
        """Take the frames of a sequence; what went wrong, empty where all were taken or the night was over."""
        own, state = self.setting, self.state
        wanted, exposure = step.frames or 1, step.exposure_s or 0.0
        while self.progress.get(index, 0) < wanted:
            if not (yield from self._until_good(exposure)):
                return ""
            yield from self._flip_in_time(exposure)
            turns = step.filter is not None and state.filter != step.filter and own.has("filter_wheel")
            if turns:
                why = yield from self._attempts("wheel", step)
                if why:
                    return why
            why = self._refocus_why(turns=turns)
            if why:
                self.note(self._title("focus"), f"focuses again: {why}", "done")
                yield from self._again("focus")
            if own.dither_every and state.frames and state.frames % own.dither_every == 0 and state.guiding:
                began = self.env.now
                yield self.env.timeout(own.settle_s)
                self._span("guide", began, "settling")
            if own.sky.next_good(self.env.now, exposure) != self.env.now:
                continue  # what came before it took so long that the object sets, or dawn comes, during the exposure
            why = yield from self._frame(index, step, exposure)
            if why:
                return why
        return ""

    def _focus_error(self) -> float:
        """Return how far focus is off now, in steps: by the fall of temperature since it was found, and by filters."""
        own, state = self.setting, self.state
        found_c = state.focused_c if state.focused_c is not None else own.air_at(own.sky.dark_from_s)
        return state.focus_off - own.focus.slope * (own.air_at(self.env.now) - found_c)

    def _refocus_why(self, *, turns: bool) -> str:
        """Return why the settings ask for a focus run now; empty where they do not, or the plan has none."""
        own, state = self.setting, self.state
        if not any(step.do == "focus" for step in own.steps):
            return ""
        if turns and own.refocus_on_filter and state.frames:
            return "another filter"
        if own.refocus_s is not None and self.env.now - state.focused_s > own.refocus_s:
            return f"{own.refocus_s / 60:.0f} min have passed"
        fell = abs(own.air_at(self.env.now) - state.focused_c) if state.focused_c is not None else 0.0
        if own.refocus_c is not None and fell >= own.refocus_c:
            return f"the temperature has changed by {fell:.1f} °C"
        growth = own.focus.growth(self._focus_error())
        if own.refocus_growth is not None and growth >= own.refocus_growth:
            return f"stars have grown by {100 * growth:.0f} %"
        return ""

    def _flip_in_time(self, exposure: float) -> Doing[None]:
        """Flip before an exposure that would not end before the mount has to."""
        own, meridian = self.setting, self.setting.sky.meridian_s
        if own.flip_margin_s is None or meridian is None or self.state.flipped:
            return
        at = meridian + own.flip_margin_s
        actions = own.rig.plan.actions if own.rig.plan is not None else ()
        if self.env.now + exposure + own.download_s <= at:
            return
        if "flip" not in actions:
            if self.env.now + exposure > at:
                self.state.flipped = True
                self.frame_problems[NO_FLIP] = "trailed at the mount's limit"
                what = "stops at its limit: the plan has no flip"
                self.note(self._title("flip"), what, "fault", unhandled=True, cause=NO_FLIP)
            return
        began = self.env.now
        if at > self.env.now:
            yield self.env.timeout(at - self.env.now)
            self._span("wait_dark", began, "waiting")
        self.state.flipped = True
        model = next((step for step in own.steps if step.do == "slew"), NightStep(do="slew", attempts=2, limit_s=300.0))
        yield from self._attempts("flip", model)
        for do in ("solve", "focus" if own.setting("focuser", "refocus_after_flip") else "", "guide"):
            if do:
                yield from self._again(do)

    def _again(self, do: str) -> Doing[str]:
        """Do a step of the plan once more."""
        step = next((own for own in self.setting.steps if own.do == do), None)
        if step is None:
            return "the plan has no such step"
        before, self._step = self._step, do
        why = yield from self._attempts(do, step)
        self._step = before
        if do == "focus":
            self.state.focused_s = self.env.now
        return why

    def _frame(self, index: int, step: NightStep, exposure: float) -> Work:
        """Take one frame and look at it; what went wrong with the camera, empty where it answered."""
        state, began = self.state, self.spoiled
        spoiled = self._spoilt()
        for do in ("expose", "download"):
            why = yield from self._attempts(do, step)
            if why:
                return why
        state.frames += 1
        spoiled = spoiled or self._spoilt() or ("disturbed" if self.spoiled != began else "")
        if state.disk_gb < self.setting.frame_gb:
            spoiled = "not saved"
        if not spoiled:
            state.disk_gb -= self.setting.frame_gb
            self.kept.append((self.env.now, exposure))
            self.progress[index] = self.progress.get(index, 0) + 1
            return ""
        self.lost[spoiled] += 1
        if self.lost[spoiled] == 1:
            self.note(self._title("expose"), f"frames are lost: {spoiled}", "lost")
        if self.setting.watch.checks_frames:
            yield from self._cure()
        else:
            self.progress[index] = self.progress.get(index, 0) + 1  # nobody knows that it is none
        if spoiled == "not saved" and self.setting.watch.checks_frames:
            return "frames are not saved"
        return ""

    def _spoilt(self) -> str:
        """Return why a frame would be lost now; empty where nothing spoils it."""
        own, state = self.setting, self.state
        if own.has("roof", "dome") and not state.roof_open:
            return "taken under the shut roof"
        if own.has("cover") and not state.cover_open:
            return "taken under the cover"
        if own.has("mount") and state.parked:
            return "taken while parked"
        does = {step.do for step in own.steps}
        if own.has("mount") and (("slew" in does and not state.on_target) or ("solve" in does and not state.solved)):
            return "off the object"
        if self.weather & RAIN:
            return "taken in rain"
        if "cool" in does and not state.cold:
            return "taken with a warm sensor"
        plans_guiding = any(step.do == "guide" for step in own.steps)
        if plans_guiding and not state.guiding and own.rig.guiding.kind != "none":
            return "unguided"
        if own.focus.growth(self._focus_error()) > SOFT_GROWTH:
            return "out of focus"
        return next(iter(self.frame_problems.values()), "")

    def _cure(self) -> Doing[None]:
        """Do what cures what spoils the frames, where the plan has it."""
        own = {entry.fault.id: entry.fault.cure for entry in self.active_faults}
        cures = [own.get(key, "") for key in self.frame_problems]
        if not self.state.guiding:
            cures.append("guide")
        if self.setting.focus.growth(self._focus_error()) > SOFT_GROWTH:
            cures.append("focus")
        for do in dict.fromkeys(cure for cure in cures if cure):
            self.note("program", f"checks the frames, and repeats: {do.replace('_', ' ')}", "branch")
            yield from self._again(do)

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
            began = self._hung_s if self._hung or self._waits else self.env.now
            if began < ends:
                self.spans.append(NightSpan(device, began, ends, "endless"))
            what = f"nothing ends this wait: {endless[0]}"
            self.events.append(NightEvent(began, "program", self._step, what, "end", unhandled=True))
        if self.weather & RAIN and self.rained_on:
            self.state.wet_s += max(until - self.env.now, 0.0)
        ends = self.ended_s if self.ended_s is not None else self.env.now
        self._flow()
        planned = sum(step.frames or 1 for step in self.setting.steps if step.do == "sequence")
        return NightOutcome(
            tuple(_in_order(self.events)),
            tuple(self.spans),
            len(self.kept),
            sum(self.lost.values()),
            planned,
            sum(exposure for _, exposure in self.kept),
            ends,
            tuple(self._unsafe()),
            endless,
            tuple(self.messages),
            tuple(self.lost.most_common()),
            self.state.disk_gb,
            tuple(self.stages),
            tuple(self.uses),
        )

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
        if state.electricity and state.powered and any(step.do == "outlets_off" for step in own.steps):
            yield "the outlets are on"


def _in_order(events: Sequence[NightEvent]) -> list[NightEvent]:
    return sorted(events, key=lambda event: event.t_s)

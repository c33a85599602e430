"""Taking frames: waits for dark and object, sequences, flips and focus runs in between, and what a frame is worth."""

from __future__ import annotations

import math

from wyntaxis.core.rehearsal.devices import NightDevices, Work
from wyntaxis.core.rehearsal.doing import Doing
from wyntaxis.core.rehearsal.focus_drift import SOFT_GROWTH
from wyntaxis.core.rehearsal.outcome import NO_FLIP
from wyntaxis.core.rehearsal.script import ScriptStep
from wyntaxis.core.rehearsal.world import RAIN
from wyntaxis.core.rig.night_plan import Moment, NightStep


class NightExposures(NightDevices):
    """A night's frames."""

    def _until_good(self, for_s: float = 0.0) -> Doing[bool]:
        """Wait until it is dark and the object is up for so long; return whether that comes this night."""
        at = self.sky.next_good(self.env.now, for_s)
        if at is None:
            over = self.env.now + for_s > self.sky.dark_until_s
            self.note("program", "the night is over" if over else "the object is not up in the dark any more", "wait")
            return False
        yield from self._until(at)
        return True

    def _until(self, at_s: float) -> Doing[None]:
        """Wait until a time of the night."""
        if at_s > self.env.now:
            began = self.env.now
            yield self.env.timeout(at_s - self.env.now)
            self._span("wait_dark", began, "waiting")

    def _wait(self, step: NightStep) -> Doing[None]:
        """Wait as a step says: until a moment, or until it is dark with the object up."""
        if step.until is None:
            yield from self._until_good()
            return
        at = self.sky.moment_s(step.until)
        if at is None:
            self.note("program", f"does not wait: {self._why_no(step.until)}", "branch", unhandled=True)
            return
        yield from self._until(at)

    def _why_no(self, moment: Moment) -> str:
        """Return why a moment does not come this night."""
        if moment == "flip":
            return "the target does not cross the meridian"
        if moment == "altitude":
            return "the target does not rise so high in the dark"
        return f"neither a site nor a date shows when {moment} UTC is"

    def leaves_target(self, exposure_s: float) -> bool:
        """Return whether the present target is to be left now; there is none in a plan of one object."""
        return False

    def _sequence(self, item: ScriptStep) -> Work:
        """Take the frames of a sequence; what went wrong, empty where all were taken, or time ran out."""
        own, state, step = self.setting, self.state, item.step
        exposure = step.exposure_s or 0.0
        stop = self.sky.moment_s(step.until, ends=True) if step.until is not None else None
        wanted = math.inf if step.frames is None and stop is not None else step.frames or 1
        while self.progress.get(item.key, 0) < wanted:
            if stop is not None and self.env.now + exposure > stop:
                self.note("program", f"the sequence ends: it is for the time until {step.until}", "wait")
                return ""
            if self.leaves_target(exposure) or not (yield from self._until_good(exposure)):
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
            if self.sky.next_good(self.env.now, exposure) != self.env.now:
                continue  # what came before it took so long that the object sets, or dawn comes, during the exposure
            why = yield from self._frame(item, exposure)
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
        if not own.does("focus"):
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
        own, meridian = self.setting, self.sky.meridian_s
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
        model = next((step for step in own.every if step.do == "slew"), NightStep(do="slew", attempts=2, limit_s=300.0))
        yield from self._attempts("flip", model)
        for do in ("solve", "focus" if own.setting("focuser", "refocus_after_flip") else "", "guide"):
            if do:
                yield from self._again(do)

    def _again(self, do: str) -> Doing[str]:
        """Do a step of the plan once more."""
        own = self.target.steps if self.target is not None else ()
        steps = [*(entry.step for entry in own), *self.setting.every]
        step = next((entry for entry in steps if entry.do == do), None)
        if step is None:
            return "the plan has no such step"
        before, self._step = self._step, do
        why = yield from self._attempts(do, step)
        self._step = before
        if do == "focus":
            self.state.focused_s = self.env.now
        return why

    def _frame(self, item: ScriptStep, exposure: float) -> Work:
        """Take one frame and look at it; what went wrong with the camera, empty where it answered."""
        state, began, step = self.state, self.spoiled, item.step
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
            self.kept_of[self.target.name if self.target is not None else ""] += 1
            self.kept_in[item.key] += 1
            self.progress[item.key] = self.progress.get(item.key, 0) + 1
            return ""
        self.lost[spoiled] += 1
        if self.lost[spoiled] == 1:
            self.note(self._title("expose"), f"frames are lost: {spoiled}", "lost")
        if self.setting.watch.checks_frames:
            yield from self._cure()
        else:
            self.progress[item.key] = self.progress.get(item.key, 0) + 1  # nobody knows that it is none
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
        lost = (own.does("slew") and not state.on_target) or (own.does("solve") and not state.solved)
        if own.has("mount") and lost:
            return "off the object"
        if self.weather & RAIN:
            return "taken in rain"
        if state.clock_slow_s:
            true = self.true_sky
            if not true.is_good(self.env.now):
                return "taken in twilight, or with the object down"
            margin, meridian = own.flip_margin_s, true.meridian_s
            late = margin is not None and meridian is not None and self.env.now > meridian + margin
            if late and not state.flipped:
                return "trailed at the mount's limit"
        if own.does("cool") and not state.cold:
            return "taken with a warm sensor"
        if own.does("guide") and not state.guiding and own.rig.guiding.kind != "none":
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

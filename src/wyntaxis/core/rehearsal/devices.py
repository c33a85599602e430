"""Devices at work: how long each action takes, what it leaves behind, and attempts until it is done."""

from __future__ import annotations

import simpy

from wyntaxis.core.rehearsal.doing import Doing
from wyntaxis.core.rehearsal.preconditions import hazard, unmet
from wyntaxis.core.rehearsal.setting import CONNECT_S, FLAT_S
from wyntaxis.core.rehearsal.state import ActiveFault
from wyntaxis.core.rehearsal.world import ACTIONS, NightWorld, device_kind
from wyntaxis.core.rig.device_kinds import DEVICE_KINDS
from wyntaxis.core.rig.device_kinds.declaration import Fault
from wyntaxis.core.rig.night_plan import NightStep

Work = Doing[str]
"""A piece of work of a device: it answers with what went wrong, empty where nothing did."""
EVERY_DEVICE = frozenset({"connect", "disconnect", "wait_dark", "solve", "sequence"})
"""What no single device does."""
SAME_WORK = {"roof": "dome", "power_box": "relay_switch"}
"""Kinds that do the work of another."""
WARM_S = 900.0
"""Warming a sensor that never got cold enough."""
ERROR_S = 5.0
"""A device that refuses says so within this."""


_LEAVES: dict[str, dict[str, bool]] = {
    "outlets_on": {"powered": True},
    "outlets_off": {"powered": False},
    "connect": {"connected": True},
    "disconnect": {"connected": False},
    "cool": {"cold": True, "warm": False},
    "warm_up": {"cold": False, "warm": True},
    "open_roof": {"roof_open": True},
    "close_roof": {"roof_open": False},
    "open_cover": {"cover_open": True},
    "close_cover": {"cover_open": False},
    "park": {"parked": True, "on_target": False},
    "slew": {"on_target": True, "solved": False, "guiding": False},
    "solve": {"solved": True},
    "rough_focus": {"nearly_focused": True},
    "calibrate_guiding": {"calibrated": True},
    "unpark": {"parked": False},
    "stop_guiding": {"guiding": False},
}
"""The state that an action leaves behind."""


class NightDevices(NightWorld):
    """The devices of a night, as the program sees them."""

    def __post_init__(self) -> None:
        super().__post_init__()
        self._action: simpy.Process | None = None
        self._waits: str = ""
        self._hung_s = 0.0
        self._hung_until_s = 0.0
        self._is_limited = False
        """Whether what is waited for now has a time limit."""

    def _perform(self, do: str, step: NightStep) -> Work:
        """Return a piece of work as a process: what went wrong, empty where nothing did."""
        try:
            return (yield from self._work(do, step))
        except simpy.Interrupt:
            return "stopped"

    def _work(self, do: str, step: NightStep) -> Work:
        start, own = self.env.now, self.setting.by(step.device)
        if not self.state.electricity:
            return "there is no power"
        missing_need = self._cannot(do, step) or unmet(do, own, self.state, self.env.now)
        if missing_need:
            return missing_need
        danger, prevented = hazard(do, own, self.state)
        if prevented:
            return prevented
        if danger and danger not in self.dangers:
            self.dangers.append(danger)
            self.note(self._title(do), danger, "fault", unhandled=True)
        yield from self._hang(do, step)
        refused = self._trouble(do, "error")
        if refused is not None and not self._by_hand(refused.fault, do):
            return (yield from self._refuse(refused))
        start = max(start, self._hung_until_s)
        late = self._trouble(do, "late")
        self._flow(do, works=True)
        try:
            yield self.env.timeout(self._seconds(do, step) + (late.fault.by_s if late is not None else 0.0))
        finally:
            self._flow(do)
        self._span(do, start)
        self._done(do, step)
        return ""

    def _cannot(self, do: str, step: NightStep) -> str:
        """Return why the device that a step names does not do its action; empty where it does, or none is named."""
        if step.device is None or step.do != do or do not in ACTIONS or do in EVERY_DEVICE:
            return ""
        found = next((device for device in self.setting.rig.devices if device.id == step.device), None)
        if found is None:
            return f"the rig has no device {step.device}"
        kinds = {kind.id for kind in DEVICE_KINDS.values() if any(action.do == do for action in kind.actions)}
        kinds |= {SAME_WORK[kind] for kind in kinds if kind in SAME_WORK}
        if found.kind in kinds:
            return ""
        return f"{found.title} is a {DEVICE_KINDS[found.kind].label.lower()}, which does not {do.replace('_', ' ')}"

    def _hang(self, do: str, step: NightStep) -> Doing[None]:
        """Wait for what does not answer: until its fault ends by itself, else for ever."""
        hangs = self._trouble(do, "hang", of=step.filter)
        cold = do == "cool" and self.setting.by(step.device).cool_s is None
        if cold:
            self.note(self._title(do), "the cooler does not reach its target on so warm a night", "fault")
        missing = do == "wheel" and not self._has_slot(step.filter)
        if missing and hangs is None:
            self.note(self._title(do), f"no slot holds {step.filter}", "fault")
        if hangs is None and not missing and not cold:
            return
        self._waits = f"{self._title(do)}: {do.replace('_', ' ')}"
        self._hung_s = self.env.now
        if hangs is None or hangs.fault.lasts_s is None or missing or cold:
            yield self.env.event()
            return
        yield self.env.timeout(max(hangs.at_s + hangs.fault.lasts_s - self.env.now, 0.0))
        self._end(hangs)
        self._span(do, self._hung_s, "retrying")
        self._waits, self._hung_until_s = "", self.env.now

    def _refuse(self, refused: ActiveFault) -> Work:
        """Say what a device refuses, after a moment."""
        yield self.env.timeout(ERROR_S)
        if refused.fault.clears == "attempt":
            self._end(refused)
        elif refused.fault.frame_problem:
            self.frame_problems[refused.fault.id] = refused.fault.frame_problem
        return refused.fault.title.lower()

    def _by_hand(self, fault: Fault, do: str) -> bool:
        """Return whether somebody who is there does by hand what no plan can."""
        if not fault.beyond_plan or not self.setting.attended:
            return False
        self.note(self._title(do), f"done by hand: {self.setting.attended}", "done")
        return True

    def _seconds(self, do: str, step: NightStep) -> float:
        own = self.setting.by(step.device)
        warm_s = own.cool_s if own.cool_s is not None else WARM_S
        own_times = {
            "cool": warm_s,
            "warm_up": warm_s,
            "open_roof": own.roof_s,
            "close_roof": own.roof_s,
            "open_cover": own.cover_s,
            "close_cover": own.cover_s,
            "expose": step.exposure_s or 0.0,
            "flats": (step.frames or 1) * (FLAT_S + own.download_s),
            "darks": (step.frames or 1) * ((step.exposure_s or 0.0) + own.download_s),
        }
        return own_times[do] + own.added_s(do) if do in own_times else own.work_s(do)

    def _done(self, do: str, step: NightStep) -> None:
        """Let the state follow what was done; what it cures no longer spoils."""
        state = self.state
        for name, value in _LEAVES.get(do, {}).items():
            setattr(state, name, value)
        if do in ("outlets_on", "outlets_off"):
            self._flow()
        elif do in ("slew", "solve"):
            self.frame_problems.pop("unsolved", None)
            if do == "slew":  # the mount goes to the side of the pier that the object is on
                state.flipped = self.sky.meridian_s is not None and self.env.now >= self.sky.meridian_s
        elif do == "guide":
            state.guiding = "weather.cloud" not in self.weather
        elif do == "focus":
            state.focused_s, state.focused_c, state.focus_off = self.env.now, self.setting.air_at(self.env.now), 0.0
        elif do == "wheel":
            state.focus_off += self.setting.focus.change(state.filter, step.filter)
            state.filter = step.filter
        for entry in self.active_faults:
            cured = entry.reported and not entry.over and entry.fault.cure == do and self.env.now >= entry.at_s
            if cured:
                self._end(entry)
            if cured or (entry.over and do in (entry.fault.cure, *entry.fault.does)):
                self.frame_problems.pop(entry.fault.id, None)

    def _reconnect(self, do: str) -> Work:
        """Connect the device of an action anew, or everything for ``connect``: what clears by that is over."""
        yield self.env.timeout(2 * CONNECT_S)
        self.state.connected = self.state.electricity
        for entry in self.active_faults:
            fault = entry.fault
            touched = do == "connect" or do in fault.does or device_kind(do) in fault.devices
            if entry.reported and not entry.over and touched and fault.clears == "reconnect":
                self._end(entry)
        self.note(self._title(do), "reconnected", "retry")
        return ""

    def _attempts(self, do: str, step: NightStep) -> Work:
        """Try a piece of work as often as its step says; what went wrong last, empty where it was done."""
        why = ""
        for attempt in range(step.attempts):
            if attempt:
                began = self.env.now
                yield self.env.timeout(step.pause_s)
                if step.reconnect:
                    yield from self._reconnect(do)
                self._span(do, began, "retrying")
                self.note(self._title(do), f"attempt {attempt + 1} of {step.attempts}", "retry")
            began = self.env.now
            self._is_limited = step.limit_s is not None
            self._action = self.env.process(self._perform(do, step))
            if step.limit_s is None:
                why = str((yield self._action))
            else:
                limit = self.env.timeout(step.limit_s)
                yield self._action | limit
                if self._action.triggered:
                    why = str(self._action.value)
                else:
                    self._action.interrupt("limit")
                    why = f"no answer within {step.limit_s:g} s"
                    self._waits = ""
                    for entry in self.active_faults:
                        touched = entry.reported and not entry.over and do in entry.fault.does
                        if touched and entry.fault.clears == "attempt":
                            self._end(entry)
                        if touched and entry.fault.frame_problem:
                            self.frame_problems[entry.fault.id] = entry.fault.frame_problem
                    self._span(do, began, "retrying")
            if not why:
                return ""
            self.note(self._title(do), f"{do.replace('_', ' ')}: {why}", "retry")
        return why

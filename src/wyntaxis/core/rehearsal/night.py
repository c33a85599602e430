"""One night on a virtual clock: the plan's steps as a process, devices that answer, late or never, and the weather."""

from __future__ import annotations

from collections import Counter
from collections.abc import Generator, Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any

import simpy

from wyntaxis.core.evidence.headers.names import DEFAULT_FILTER_NAMES
from wyntaxis.core.rehearsal.faults import Fault
from wyntaxis.core.rehearsal.outcome import EventKind, NightEvent, NightOutcome, NightSpan, SpanKind
from wyntaxis.core.rehearsal.setting import (
    CALIBRATE_S,
    CONNECT_S,
    FLAT_S,
    FLIP_S,
    GUIDE_S,
    OUTLET_S,
    PARK_S,
    ROTATE_S,
    ROUGH_FOCUS_S,
    SLEW_S,
    SOLVE_S,
    UNPARK_S,
    NightSetting,
)
from wyntaxis.core.rig.night_plan import CLOSING, NightStep

Work = Generator[simpy.Event, Any, str]
"""A piece of work of a device: it answers with what went wrong, empty where nothing did."""
WET_S = 240.0
"""An open roof may be rained on for so long before things are wet."""
RESTART_S = 180.0
ERROR_S = 5.0
"""A device that refuses says so within this."""
WAIT_ON_S = 300.0
"""Between attempts of a step that waits, where it states no pause."""
CLEAR_S = 900.0
"""Good weather must have held so long before it is opened again."""
OVERTIME_S = 4 * 3600.0
BAD_WEATHER = frozenset({"weather.rain", "weather.wind", "weather.cloud"})
_DEVICE_OF = {
    "outlets_on": "power_box", "outlets_off": "power_box", "cool": "camera", "warm_up": "camera", "expose": "camera",
    "download": "camera", "open_roof": "roof", "close_roof": "roof", "open_cover": "cover", "close_cover": "cover",
    "unpark": "mount", "park": "mount", "slew": "mount", "flip": "mount", "solve": "computer", "rotate": "rotator",
    "rough_focus": "focuser", "focus": "focuser", "calibrate_guiding": "guide_camera", "guide": "guide_camera",
    "stop_guiding": "guide_camera", "wheel": "filter_wheel", "connect": "computer", "disconnect": "computer",
    "flats": "camera", "darks": "camera", "wait_dark": "computer", "sequence": "camera",
}  # fmt: skip
_SPAN_OF: dict[str, SpanKind] = {
    "expose": "exposing", "flats": "exposing", "darks": "exposing", "download": "download", "cool": "cooling",
    "warm_up": "cooling", "rough_focus": "focusing", "focus": "focusing",
}  # fmt: skip
_REACQUIRE = ("open_roof", "open_cover", "unpark", "slew", "solve", "guide")


@dataclass
class Struck:
    """A fault in a night: when it strikes in s, whether it has, and whether it is over."""

    fault: Fault
    at_s: float
    told: bool = False
    over: bool = False


@dataclass
class _State:
    """How things stand."""

    connected: bool = False
    cold: bool = False
    warm: bool = True
    roof_open: bool = False
    cover_open: bool = False
    parked: bool = True
    powered: bool = False
    guiding: bool = False
    program: bool = True
    electricity: bool = True
    flipped: bool = False
    focused_s: float = -1e18
    filter: str | None = None
    wet_s: float = 0.0
    clear_since: float = -1e18
    frames: int = 0
    disk_gb: float = 0.0


@dataclass
class NightRun:
    """A night being played."""

    setting: NightSetting
    struck: list[Struck]
    env: simpy.Environment = field(default_factory=simpy.Environment)
    state: _State = field(default_factory=_State)
    events: list[NightEvent] = field(default_factory=list)
    spans: list[NightSpan] = field(default_factory=list)
    kept: list[tuple[float, float]] = field(default_factory=list)
    lost: Counter[str] = field(default_factory=Counter)
    messages: list[str] = field(default_factory=list)
    spoils: dict[str, str] = field(default_factory=dict)
    """By fault what spoils frames now."""
    spoiled: int = 0
    """How often something has begun to spoil frames."""
    weather: set[str] = field(default_factory=set)
    progress: dict[int, int] = field(default_factory=dict)
    ended_s: float | None = None

    def __post_init__(self) -> None:
        self._action: simpy.Process | None = None
        self._waits: str = ""
        self._hung_s = 0.0
        self._step = "begin"
        self._closing = False
        asked = list(dict.fromkeys(step.filter for step in self.setting.steps if step.filter is not None))
        self._missing = asked[len(asked) // 2] if asked else None
        self.state.disk_gb = self.setting.free_gb if self.setting.free_gb is not None else 1e9
        self.script = self.env.process(self._program())
        for entry in self.struck:
            if entry.fault.way in ("world", "spoil"):
                self.env.process(self._strike(entry))
        weather = any(entry.fault.id.startswith("weather.") for entry in self.struck)
        # Without weather there is nothing to see: a minute that changes nothing is not played.
        if weather and self.setting.watch.then is not None and self._watched_by() is not None:
            self.env.process(self._watching())
        if any(entry.fault.id == "weather.rain" for entry in self.struck):
            self.env.process(self._getting_wet())

    # Telling

    def _title(self, do: str) -> str:
        kind = _DEVICE_OF.get(do, do)
        for own in (kind, "dome" if kind == "roof" else kind, "relay" if kind == "power_box" else kind):
            device = self.setting.devices.get(own)
            if device is not None:
                return device.title
        return {"computer": "program", "power_box": "outlets"}.get(kind, kind.replace("_", " "))

    def note(self, device: str, what: str, kind: EventKind, *, unhandled: bool = False) -> None:
        """Note an event."""
        self.events.append(NightEvent(self.env.now, device, self._step, what, kind, unhandled))

    def _message(self, text: str) -> None:
        self.messages.append(text)
        self.note("program", text, "message")

    def _span(self, do: str, start: float, kind: SpanKind | None = None) -> None:
        if self.env.now > start:
            self.spans.append(NightSpan(self._title(do), start, self.env.now, kind or _SPAN_OF.get(do, "moving")))

    # Faults

    def _has_slot(self, name: str | None) -> bool:
        """Return whether the wheel has a filter, by whatever name; a wheel whose slots nobody named is taken to."""
        key, slots = DEFAULT_FILTER_NAMES.key, [slot for slot in self.setting.slots if slot.strip()]
        return name is None or not slots or key(name) in {key(slot) for slot in slots}

    def _trouble(self, do: str, *ways: str, of: str | None = None) -> Struck | None:
        """Return the fault that touches an action now, told once; ``of`` is the filter that is asked for."""
        for entry in self.struck:
            fault = entry.fault
            if entry.over or do not in fault.does or fault.way not in ways or self.env.now < entry.at_s:
                continue
            if fault.id == "wheel.missing_slot" and of != self._missing:
                continue
            if not entry.told:
                entry.told = True
                self.note(self._title(do), f"{fault.title}: {fault.shows}", "fault")
            return entry
        return None

    def _strike(self, entry: Struck) -> Generator[simpy.Event, Any, None]:
        """Let a fault of the world, or one that spoils frames, come and go."""
        yield self.env.timeout(max(entry.at_s - self.env.now, 0.0))
        fault, entry.told = entry.fault, True
        device = next((self.setting.devices[kind].title for kind in fault.devices if kind in self.setting.devices), "")
        self.note(device or fault.id.split(".", maxsplit=1)[0], f"{fault.title}: {fault.shows}", "fault")
        if fault.spoil:
            self._spoil(fault)
        if fault.id.startswith("weather.") and fault.id != "weather.silent":
            self.weather.add(fault.id)
            self.state.guiding = self.state.guiding and fault.id == "weather.wind"
            if self._watched_by() is None or self.setting.watch.then is None:
                self.note("weather", "nobody watches the weather", "fault", unhandled=fault.id == "weather.rain")
        yield from self._play_world(fault)
        if fault.lasts_s is not None:
            yield self.env.timeout(fault.lasts_s)
            self.weather.discard(fault.id)
            self.spoils.pop(fault.id, None)
            entry.over = True
            if not self.weather:
                self.state.clear_since = self.env.now
            self.note(device or fault.id.split(".", maxsplit=1)[0], f"{fault.title}: over", "fault")

    def _spoil(self, fault: Fault) -> None:
        if fault.id == "optics.dew" and self.setting.setting("dew_heater", "follows") == "dew_point":
            self.note("dew heater", "follows the dew point and keeps the optics dry", "done")
            return
        if fault.id == "camera.wrong" and self._told_apart():
            self.note(self._title("expose"), "the cameras are told apart by what identifies them", "done")
            return
        self.spoils[fault.id] = fault.spoil
        self.spoiled += 1
        if fault.id == "guider.star_lost":
            recovers = self.setting.watch.recovers_guiding_s
            if recovers is not None:
                self.env.process(self._recover(fault, recovers))
            elif not self.setting.watch.checks_frames:
                self.note(self._title("guide"), "nobody finds the star anew", "fault", unhandled=True)
        elif not self.setting.watch.checks_frames and fault.lasts_s is None:
            self.note("program", f"frames are {fault.spoil}, and nobody looks at them", "fault", unhandled=True)

    def _told_apart(self) -> bool:
        """Return whether both cameras are known by their serial number or USB identity."""
        cameras = [device for device in self.setting.rig.devices if device.kind in ("camera", "guide_camera")]
        marks = [d.identity.serial_number or d.identity.usb_id if d.identity is not None else None for d in cameras]
        return None not in marks and len(set(marks)) == len(marks)

    def _recover(self, fault: Fault, after_s: float) -> Generator[simpy.Event, Any, None]:
        yield self.env.timeout(after_s)
        if self.spoils.pop(fault.id, None) is not None:
            self.note(self._title("guide"), "the guider has found the star again", "done")

    def _play_world(self, fault: Fault) -> Generator[simpy.Event, Any, None]:
        """Let what happens to the power, the network or the computer happen."""
        state = self.state
        if fault.id == "power.dip":
            self._power_fails()
            state.connected = False
            self._interrupt("the power has failed")
        elif fault.id == "battery.empty":
            state.electricity = False
            self._power_fails()
            state.program = False
            self.note("supply", "nothing has power any more", "fault", unhandled=not self._shuts_alone())
            self._interrupt("the power is gone")
        elif fault.id == "computer.restarts":
            self._interrupt("the program has died")
        elif fault.id == "card.corrupt":
            if self.setting.has_copy:
                self.note("computer", "the second copy holds them", "done")
            else:
                self.lost["on a corrupt card"] += len(self.kept)
                self.kept.clear()
                self.note("computer", "there is no second copy", "lost", unhandled=True)
        elif (fault.id == "network.gone" and self._network_watch()) or fault.id == "weather.silent":
            yield from self._silent()

    def _network_watch(self) -> bool:
        kind = self._watched_by()
        device = self.setting.devices.get(kind) if kind is not None else None
        return (
            device is not None and device.connection is not None and device.connection.kind in ("network", "wireless")
        )

    def _silent(self) -> Generator[simpy.Event, Any, None]:
        if self._watched_by() is None or self.setting.watch.then is None:
            return
        if self.setting.watch.silence_is_unsafe:
            yield self.env.timeout(self.setting.watch.every_s)
            self._bad_weather("the weather station is silent")
        else:
            self.note("weather", "its silence is taken for good weather", "fault", unhandled=True)

    def _power_fails(self) -> None:
        state = self.state
        state.guiding = False
        if self._shuts_alone() and state.roof_open:
            state.roof_open = False
            self.note(self._title("close_roof"), "shuts by itself as the power fails", "done")

    def _shuts_alone(self) -> bool:
        return any(self.setting.setting(kind, "shuts_on_power_loss") is True for kind in ("roof", "dome"))

    def _interrupt(self, why: str) -> None:
        if self.script.is_alive and self.script is not self.env.active_process:
            self.script.interrupt(why)

    # Weather

    def _watched_by(self) -> str | None:
        """Return the kind of device that may stop the run."""
        kinds = ("safety_monitor", "weather")
        return next((kind for kind in kinds if self.setting.setting(kind, "stops_the_run") is True), None)

    def _watching(self) -> Generator[simpy.Event, Any, None]:
        while True:
            yield self.env.timeout(self.setting.watch.every_s)
            silent = any(e.fault.id == "weather.silent" and e.told and not e.over for e in self.struck)
            bad = self.weather & BAD_WEATHER
            if bad and not silent and not self._closing:
                words = {"weather.rain": "rain", "weather.wind": "wind", "weather.cloud": "cloud"}
                self._bad_weather(f"the weather is bad: {words[min(bad)]}")

    def _bad_weather(self, why: str) -> None:
        if not self._closing and self.state.program:
            self._interrupt(why)

    def _getting_wet(self) -> Generator[simpy.Event, Any, None]:
        while True:
            yield self.env.timeout(60.0)
            if "weather.rain" in self.weather and self.state.roof_open:
                self.state.wet_s += 60.0

    # Devices

    def _perform(self, do: str, step: NightStep) -> Work:
        """Return a piece of work as a process: what went wrong, empty where nothing did."""
        try:
            return (yield from self._work(do, step))
        except simpy.Interrupt:
            return "stopped"

    def _work(self, do: str, step: NightStep) -> Work:
        start = self.env.now
        if not self.state.electricity:
            return "there is no power"
        if not self.state.connected and do not in ("connect", "outlets_on", "outlets_off", "disconnect"):
            return "nothing is connected"
        hangs = self._trouble(do, "hang", of=step.filter)
        missing = do == "wheel" and not self._has_slot(step.filter)
        if missing and hangs is None:
            self.note(self._title(do), f"no slot holds {step.filter}", "fault")
        if hangs is not None or missing:
            self._waits = f"{self._title(do)}: {do.replace('_', ' ')}"
            self._hung_s = self.env.now
            yield self.env.event()
        refused = self._trouble(do, "error")
        if refused is not None:
            yield self.env.timeout(ERROR_S)
            if refused.fault.clears == "attempt":
                refused.over = True
            if refused.fault.spoil and not refused.over:
                self.spoils[refused.fault.id] = refused.fault.spoil
            return refused.fault.title.lower()
        late = self._trouble(do, "late")
        yield self.env.timeout(self._seconds(do, step) + (late.fault.by_s if late is not None else 0.0))
        self._span(do, start)
        self._done(do, step)
        return ""

    def _seconds(self, do: str, step: NightStep) -> float:
        own = self.setting
        return {
            "outlets_on": OUTLET_S, "outlets_off": OUTLET_S, "connect": CONNECT_S * max(len(own.rig.devices), 1),
            "disconnect": CONNECT_S, "cool": own.cool_s, "warm_up": own.cool_s, "open_roof": own.roof_s,
            "close_roof": own.roof_s, "open_cover": own.cover_s, "close_cover": own.cover_s, "unpark": UNPARK_S,
            "park": PARK_S, "slew": SLEW_S, "solve": SOLVE_S, "rotate": ROTATE_S, "rough_focus": ROUGH_FOCUS_S,
            "focus": own.focus_s, "calibrate_guiding": CALIBRATE_S, "guide": GUIDE_S, "stop_guiding": 1.0,
            "flip": FLIP_S, "wheel": own.wheel_s, "expose": step.exposure_s or 0.0, "download": own.download_s,
            "flats": (step.frames or 1) * (FLAT_S + own.download_s),
            "darks": (step.frames or 1) * ((step.exposure_s or 0.0) + own.download_s),
        }.get(do, 0.0)  # fmt: skip

    def _done(self, do: str, step: NightStep) -> None:
        """Let the state follow what was done; what it cures no longer spoils."""
        state = self.state
        if do in ("outlets_on", "outlets_off"):
            state.powered = do == "outlets_on"
        elif do in ("connect", "disconnect"):
            state.connected = do == "connect"
        elif do in ("cool", "warm_up"):
            state.cold, state.warm = do == "cool", do == "warm_up"
        elif do in ("open_roof", "close_roof"):
            state.roof_open = do == "open_roof"
        elif do in ("open_cover", "close_cover"):
            state.cover_open = do == "open_cover"
        elif do in ("park", "unpark"):
            state.parked = do == "park"
        elif do in ("guide", "stop_guiding"):
            state.guiding = do == "guide" and "weather.cloud" not in self.weather
        elif do == "focus":
            state.focused_s = self.env.now
        elif do == "wheel":
            state.filter = step.filter
        for entry in self.struck:
            if entry.told and entry.fault.cure == do and self.env.now >= entry.at_s:
                entry.over = True
            if entry.over and do in (entry.fault.cure, *entry.fault.does):
                self.spoils.pop(entry.fault.id, None)

    def _reconnect(self, step: NightStep) -> Work:
        """Connect anew: what clears by that is over."""
        yield self.env.timeout(2 * CONNECT_S)
        self.state.connected = self.state.electricity
        for entry in self.struck:
            if entry.told and entry.fault.clears == "reconnect":
                entry.over = True
        self.note(self._title(step.do), "connected anew", "retry")
        return ""

    # The program

    def _attempts(self, do: str, step: NightStep) -> Work:
        """Try a piece of work as often as its step says; what went wrong last, empty where it was done."""
        why = ""
        for attempt in range(step.attempts):
            if attempt:
                began = self.env.now
                yield self.env.timeout(step.pause_s)
                if step.reconnect:
                    yield from self._reconnect(step)
                self._span(do, began, "retrying")
                self.note(self._title(do), f"attempt {attempt + 1} of {step.attempts}", "retry")
            began = self.env.now
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
                    for entry in self.struck:
                        if entry.told and entry.fault.clears == "attempt" and do in entry.fault.does:
                            entry.over = True
                        if entry.told and do in entry.fault.does and entry.fault.spoil:
                            self.spoils[entry.fault.id] = entry.fault.spoil
                    self._span(do, began, "retrying")
            if not why:
                return ""
            self.note(self._title(do), f"{do.replace('_', ' ')}: {why}", "retry")
        return why

    def _program(self) -> Generator[simpy.Event, Any, None]:
        """Run the plan; whatever interrupts it is answered as the plan says."""
        steps, place = self.setting.steps, 0
        while True:
            try:
                yield from self._steps_from(place)
                break
            except simpy.Interrupt as stop:
                place = self._at
                self._stop_action()
                again = yield from self._answer(str(stop.cause))
                if not again or place >= len(steps):
                    break
        self.ended_s = self.env.now

    def _stop_action(self) -> None:
        self._waits = ""
        if self._action is not None and self._action.is_alive:
            self._action.interrupt("stopped")

    def _answer(self, why: str) -> Generator[simpy.Event, Any, bool]:
        """Answer what interrupted the plan; return whether it goes on."""
        watch = self.setting.watch
        while True:
            try:
                if why in ("the program has died", "the power has failed"):
                    if watch.on_error is None:
                        self.state.program = False
                        self.note("program", f"{why}, and nothing takes over", "end", unhandled=True)
                        return False
                    self.note("program", f"{why}: it starts anew and ends safely", "branch")
                    yield self.env.timeout(RESTART_S)
                    yield from self._reconnect(NightStep(do="connect"))
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

    def _wait_for_weather(self, why: str) -> Generator[simpy.Event, Any, bool]:
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

    def _end_safely(self, why: str) -> Generator[simpy.Event, Any, None]:
        self._closing = True
        self._step = "end safely"
        self._message(f"{why}: ending safely")
        for do in CLOSING:
            yield from self._closing_step(do)

    def _closing_step(self, do: str) -> Generator[simpy.Event, Any, None]:
        step = next((own for own in self.setting.steps if own.do == do), None)
        if step is not None:
            self._step = do
            why = yield from self._attempts(do, step)
            if why:
                self.note(self._title(do), f"{do.replace('_', ' ')} was not done: {why}", "branch", unhandled=True)

    def _steps_from(self, place: int) -> Generator[simpy.Event, Any, None]:
        steps = self.setting.steps
        for index in range(place, len(steps)):
            step, self._at = steps[index], index
            self._step = step.do
            self._closing = self._closing or step.do in CLOSING
            if step.do == "wait_dark":
                yield from self._until_good()
                continue
            if step.do == "sequence":
                why = yield from self._sequence(index, step)
            else:
                why = yield from self._attempts(step.do, step)
                while why and step.then == "wait" and self.env.now < self.setting.sky.dark_until_s:
                    yield self.env.timeout(max(step.pause_s, WAIT_ON_S))
                    why = yield from self._attempts(step.do, step)
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
                self.spoils["unsolved"] = "off the object"
            goes = "the next target" if step.then == "skip" else "the next step"
            unhandled = step.do in ("solve", "slew", "connect", "open_roof", "open_cover", "park", "close_roof")
            self.note("program", f"{why}: goes on with {goes}", "branch", unhandled=unhandled)

    def _until_good(self) -> Generator[simpy.Event, Any, bool]:
        """Wait until it is dark and the object is up; return whether that comes this night."""
        at = self.setting.sky.next_good(self.env.now)
        if at is None:
            self.note("program", "the object is not up in the dark any more", "wait")
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
            if not own.sky.is_good(self.env.now) and not (yield from self._until_good()):
                return ""
            if self.env.now + exposure > own.sky.dark_until_s:
                self.note("program", "the night is over", "wait")
                return ""
            yield from self._flip_in_time(exposure)
            if own.refocus_s is not None and self.env.now - state.focused_s > own.refocus_s:
                yield from self._again("focus")
            if step.filter is not None and state.filter != step.filter and own.has("filter_wheel"):
                why = yield from self._attempts("wheel", step)
                if why:
                    return why
            if own.dither_every and state.frames and state.frames % own.dither_every == 0 and state.guiding:
                began = self.env.now
                yield self.env.timeout(own.settle_s)
                self._span("guide", began, "settling")
            why = yield from self._frame(index, step, exposure)
            if why:
                return why
        return ""

    def _flip_in_time(self, exposure: float) -> Generator[simpy.Event, Any, None]:
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
                self.spoils["no flip"] = "trailed at the mount's limit"
                self.note(self._title("flip"), "stops at its limit: the plan has no flip", "fault", unhandled=True)
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

    def _again(self, do: str) -> Generator[simpy.Event, Any, str]:
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
        plans_guiding = any(step.do == "guide" for step in own.steps)
        if plans_guiding and not state.guiding and own.rig.guiding.kind != "none":
            return "unguided"
        return next(iter(self.spoils.values()), "")

    def _cure(self) -> Generator[simpy.Event, Any, None]:
        """Do what cures what spoils the frames, where the plan has it."""
        own = {entry.fault.id: entry.fault.cure for entry in self.struck}
        cures = [own.get(key, "") for key in self.spoils]
        if not self.state.guiding:
            cures.append("guide")
        for do in dict.fromkeys(cure for cure in cures if cure):
            self.note("program", f"looks at the frames, and does anew: {do.replace('_', ' ')}", "branch")
            yield from self._again(do)

    # The end

    def played(self) -> NightOutcome:
        """Play the night to its end, and return what came of it."""
        until = self.setting.sky.ends_s + OVERTIME_S
        while self.script.is_alive and self.env.peek() <= until:
            self.env.step()
        endless: tuple[str, ...] = ()
        if self.script.is_alive:
            endless = (self._waits or f"{self._step.replace('_', ' ')}: waits",)
            device = self._waits.partition(": ")[0] or "program"
            ends = self.setting.sky.ends_s
            if self._hung_s < ends:
                self.spans.append(NightSpan(device, self._hung_s, ends, "endless"))
            self.note("program", f"nothing ends this wait: {endless[0]}", "end", unhandled=True)
        if "weather.rain" in self.weather and self.state.roof_open:
            self.state.wet_s += max(until - self.env.now, 0.0)
        ends = self.ended_s if self.ended_s is not None else self.env.now
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
        )

    def _unsafe(self) -> Iterable[str]:
        own, state = self.setting, self.state
        if own.has("mount") and not state.parked:
            yield "the mount is not parked"
        if own.has("roof", "dome") and state.roof_open:
            yield "the roof is open"
        if own.has("cover") and state.cover_open:
            yield "the cover is open"
        if state.wet_s > WET_S:
            yield f"it rained on the open roof for {state.wet_s / 60:.0f} min"
        if state.electricity and state.cold:
            yield "the sensor is cold"
        if state.electricity and state.powered and any(step.do == "outlets_off" for step in own.steps):
            yield "the outlets are on"


def _in_order(events: Sequence[NightEvent]) -> list[NightEvent]:
    return sorted(events, key=lambda event: event.t_s)

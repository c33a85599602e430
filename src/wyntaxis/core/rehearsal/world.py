"""The world of a night: how things stand, faults that come and go, weather and power; and what is told of it all."""

from __future__ import annotations

import math
from collections import Counter
from dataclasses import dataclass, field

import simpy

from wyntaxis.core.evidence.headers.names import DEFAULT_FILTER_NAMES
from wyntaxis.core.rehearsal.doing import Doing
from wyntaxis.core.rehearsal.night_sky import NightSky
from wyntaxis.core.rehearsal.outcome import EventKind, NightEvent, NightSpan, SpanKind
from wyntaxis.core.rehearsal.power import HOUR_S, SupplyUse, without_mains
from wyntaxis.core.rehearsal.script import ScriptTarget
from wyntaxis.core.rehearsal.setting import SHELTERS, NightSetting
from wyntaxis.core.rehearsal.state import ActiveFault, NightState
from wyntaxis.core.rig.device_kinds import DEVICE_KINDS
from wyntaxis.core.rig.device_kinds.declaration import Fault

NOTICED_S = 120.0
"""Who stays beside the telescope notices rain, and ends the run, within this."""
CLOCK_SLOW_S, MOST_NAMED = HOUR_S, 3
LOOK_S = 60.0
"""A battery's end is known to this."""
RAIN = frozenset({"weather.rain", "weather.showers"})
BAD_WEATHER = RAIN | {"weather.wind", "weather.cloud"}
ACTIONS = {action.do: action for kind in DEVICE_KINDS.values() for action in kind.actions}
_DEVICE_OF = {action.do: kind.id for kind in DEVICE_KINDS.values() for action in kind.actions}


def device_kind(do: str) -> str:
    """Return the kind of device that does an action."""
    return _DEVICE_OF.get(do, do)


def _counts_as(do: str) -> SpanKind:
    return ACTIONS[do].counts_as if do in ACTIONS else "moving"


@dataclass
class NightWorld:
    """How a night stands, and what is told of it."""

    setting: NightSetting
    active_faults: list[ActiveFault]
    env: simpy.Environment = field(default_factory=simpy.Environment)
    state: NightState = field(default_factory=NightState)
    events: list[NightEvent] = field(default_factory=list)
    spans: list[NightSpan] = field(default_factory=list)
    kept: list[tuple[float, float]] = field(default_factory=list)
    kept_of: Counter[str] = field(default_factory=Counter)
    """Frames kept by target; under no name where the plan has one object."""
    kept_in: Counter[int] = field(default_factory=Counter)
    """Frames kept by the number of their step in the script."""
    lost: Counter[str] = field(default_factory=Counter)
    messages: list[str] = field(default_factory=list)
    frame_problems: dict[str, str] = field(default_factory=dict)
    """By fault what spoils frames now."""
    spoiled: int = 0
    """How often something has begun to spoil frames."""
    weather: set[str] = field(default_factory=set)
    progress: dict[int, int] = field(default_factory=dict)
    ended_s: float | None = None
    dangers: list[str] = field(default_factory=list)
    """What was done that is not safe, each told once."""

    target: ScriptTarget | None = None
    """The target that is being taken; none where the plan has one object."""

    @property
    def sky(self) -> NightSky:
        """The night for the object that is being taken, as the program takes it to be."""
        return self.by_the_clock(self.true_sky)

    @property
    def true_sky(self) -> NightSky:
        """The night for the object that is being taken, whatever the program's clock says."""
        return self.target.sky if self.target is not None else self.setting.sky

    def by_the_clock(self, sky: NightSky) -> NightSky:
        """Return a night as the program takes it to be."""
        return sky.by_a_clock(self.state.clock_slow_s) if self.state.clock_slow_s else sky

    def __post_init__(self) -> None:
        self.script: simpy.Process | None = None
        self._step = "begin"
        self._closing = False
        self._counted_s = 0.0
        """Until when every second is in some span."""
        asked = list(dict.fromkeys(step.filter for step in self.setting.every if step.filter is not None))
        self._missing = asked[len(asked) // 2] if asked else None
        self.state.disk_gb = self.setting.free_gb if self.setting.free_gb is not None else 1e9
        for entry in self.active_faults:
            if entry.fault.way in ("world", "spoil"):
                self.env.process(self._strike(entry))
        self.uses = [SupplyUse(load) for load in self.setting.loads]
        self._switched = self.setting.does("outlets_on")
        self._working: frozenset[str] = frozenset()
        self._flowing = [0.0] * len(self.uses)
        self._metered_s = 0.0
        self._flow()
        for use in self.uses:
            if use.capacity_ah is not None:
                self.env.process(self._emptying(use))
        weather = any(entry.fault.id.startswith("weather.") for entry in self.active_faults)
        # Without weather there is nothing to see: a minute that changes nothing is not played.
        if weather and self.setting.watch.then is not None and self._watched_by() is not None:
            self.env.process(self._watching())
        if any(entry.fault.id in RAIN for entry in self.active_faults):
            self.env.process(self._getting_wet())

    # Telling

    def _title(self, do: str) -> str:
        kind = device_kind(do)
        for own in (kind, "dome" if kind == "roof" else kind, "relay_switch" if kind == "power_box" else kind):
            device = self.setting.devices.get(own)
            if device is not None:
                return device.title
        return {"computer": "program", "power_box": "outlets"}.get(kind, kind.replace("_", " "))

    def note(self, device: str, what: str, kind: EventKind, *, unhandled: bool = False, cause: str = "") -> None:
        """Note an event."""
        self.events.append(NightEvent(self.env.now, device, self._step, what, kind, unhandled, cause))

    def _message(self, text: str) -> None:
        self.messages.append(text)
        self.note("program", text, "message")

    def _span(self, do: str, start: float, kind: SpanKind | None = None) -> None:
        """Count the time from a start until now; what nothing else counted before it went into retries and restarts."""
        self._fill_until(start)
        start = max(start, self._counted_s)
        if self.env.now > start:
            self.spans.append(NightSpan(self._title(do), start, self.env.now, kind or _counts_as(do)))
            self._counted_s = self.env.now

    def _fill_until(self, at_s: float) -> None:
        if at_s > self._counted_s:
            self.spans.append(NightSpan("program", self._counted_s, at_s, "retrying"))
            self._counted_s = at_s

    # Faults

    def _has_slot(self, name: str | None) -> bool:
        """Return whether the wheel has a filter, by whatever name; a wheel whose slots nobody named is taken to."""
        key, slots = DEFAULT_FILTER_NAMES.key, [slot for slot in self.setting.slots if slot.strip()]
        return name is None or not slots or key(name) in {key(slot) for slot in slots}

    def _trouble(self, do: str, *ways: str, of: str | None = None) -> ActiveFault | None:
        """Return the fault that touches an action now, told once; ``of`` is the filter that is asked for."""
        for entry in self.active_faults:
            fault = entry.fault
            if entry.over or do not in fault.does or fault.way not in ways or self.env.now < entry.at_s:
                continue
            if fault.lasts_s is not None and self.env.now >= entry.at_s + fault.lasts_s:
                self._end(entry)
                continue
            if fault.id == "wheel.missing_slot" and of != self._missing:
                continue
            if not entry.reported:
                entry.reported = True
                self.note(self._title(do), f"{fault.title}: {fault.shows}", "fault")
            return entry
        return None

    def _end(self, entry: ActiveFault) -> None:
        """Let a fault be over, until it returns."""
        entry.over = True
        if entry.fault.returns_s is None:
            return
        entry.over, entry.reported, entry.at_s = False, False, self.env.now + entry.fault.returns_s
        if entry.fault.way in ("world", "spoil"):
            self.env.process(self._strike(entry))

    def _strike(self, entry: ActiveFault) -> Doing[None]:
        """Let a fault of the world, or one that spoils frames, come and go."""
        yield self.env.timeout(max(entry.at_s - self.env.now, 0.0))
        fault, entry.reported = entry.fault, True
        device = next((self.setting.devices[kind].title for kind in fault.devices if kind in self.setting.devices), "")
        if fault.ramps_s:
            self.note(fault.id.split(".", maxsplit=1)[0], f"{fault.title}: begins", "fault")
            yield self.env.timeout(fault.ramps_s / 2)
        self.note(device or fault.id.split(".", maxsplit=1)[0], f"{fault.title}: {fault.shows}", "fault")
        if not fault.frame_problem and self._prevented(fault):
            return
        if fault.frame_problem:
            self._spoil(fault)
        if fault.id.startswith("weather.") and fault.id != "weather.silent":
            self.weather.add(fault.id)
            if fault.id == "weather.cloud":
                self.env.process(self._lose_star(fault))
            else:
                self.state.guiding = self.state.guiding and fault.id == "weather.wind"
            if self.setting.attended:
                self.note("weather", f"somebody is there: {self.setting.attended}", "done")
                if fault.id in RAIN and self.setting.has(*SHELTERS):
                    self.env.process(self._shut_by_somebody())
            elif self._watched_by() is None or self.setting.watch.then is None:
                self.note("weather", "nothing watches the weather", "fault", unhandled=fault.id in RAIN)
        yield from self._play_world(fault)
        if fault.lasts_s is not None:
            yield self.env.timeout(fault.lasts_s)
            if fault.id == "mains.fails":
                self._mains_return()
            self.weather.discard(fault.id)
            self.frame_problems.pop(fault.id, None)
            if not self.weather:
                self.state.clear_since = self.env.now
            self.note(device or fault.id.split(".", maxsplit=1)[0], f"{fault.title}: over", "fault")
            self._end(entry)

    def _lose_star(self, fault: Fault) -> Doing[None]:
        """Let the guider lose its star once the cloud is as thick as it gets."""
        yield self.env.timeout(fault.ramps_s / 2)
        self.state.guiding = self.state.guiding and fault.id not in self.weather

    def _shut_by_somebody(self) -> Doing[None]:
        """Let who is there end the run, and with it shut the roof, where no device did so in time."""
        yield self.env.timeout(NOTICED_S)
        if self.weather & RAIN:
            self._bad_weather("the weather is bad: rain")

    def _prevented(self, fault: Fault) -> bool:
        """Return whether a setting of the rig keeps a fault from doing harm."""
        if fault.prevented_by is None:
            return False
        kind, key, value = fault.prevented_by
        stated = self.setting.setting(kind, key)
        if stated is None or value not in (None, stated):
            return False
        self.note(DEVICE_KINDS[kind].label, fault.prevention, "done")
        return True

    def _spoil(self, fault: Fault) -> None:
        if self._prevented(fault):
            return
        if fault.id == "camera.wrong" and self._told_apart():
            self.note(self._title("expose"), "the cameras are distinguished by what identifies them", "done")
            return
        self.frame_problems[fault.id] = fault.frame_problem
        self.spoiled += 1
        if fault.id == "guider.star_lost":
            recovers = self.setting.watch.recovers_guiding_s
            if recovers is not None:
                self.env.process(self._recover(fault, recovers))
            elif not self.setting.watch.checks_frames:
                self.note(self._title("guide"), "the star is not found again", "fault", unhandled=True)
        elif not self.setting.watch.checks_frames and fault.lasts_s is None:
            self.note("program", f"frames are {fault.frame_problem}, and they are not checked", "fault", unhandled=True)

    def _told_apart(self) -> bool:
        """Return whether both cameras are known by their serial number or USB identity."""
        cameras = [device for device in self.setting.rig.devices if device.kind in ("camera", "guide_camera")]
        marks = [d.identity.serial_number or d.identity.usb_id if d.identity is not None else None for d in cameras]
        return None not in marks and len(set(marks)) == len(marks)

    def _recover(self, fault: Fault, after_s: float) -> Doing[None]:
        yield self.env.timeout(after_s)
        if self.frame_problems.pop(fault.id, None) is not None:
            self.note(self._title("guide"), "the guider has found the star again", "done")

    def _play_world(self, fault: Fault) -> Doing[None]:
        """Let what happens to the power, the network or the computer happen."""
        state = self.state
        if fault.id == "power.dip":
            self._power_fails()
            state.connected = False
            self._interrupt("the power has failed")
        elif fault.id == "mains.fails":
            self._mains_fail()
        elif fault.id == "clock.slow":
            self.state.clock_slow_s = CLOCK_SLOW_S
        elif fault.id == "battery.empty":
            self._all_dark()
        elif fault.id == "computer.restarts":
            self._interrupt("the program has crashed")
        elif fault.id == "card.corrupt":
            if self.setting.has_copy:
                self.note("computer", "the second copy holds them", "done")
            else:
                self.lost["on a corrupt card"] += len(self.kept)
                self.kept.clear()
                self.kept_of.clear()
                self.kept_in.clear()
                self.note("computer", "there is no second copy", "lost", unhandled=True)
        elif (fault.id == "network.gone" and self._network_watch()) or fault.id == "weather.silent":
            yield from self._silent()

    def _network_watch(self) -> bool:
        kind = self._watched_by()
        device = self.setting.devices.get(kind) if kind is not None else None
        return (
            device is not None and device.connection is not None and device.connection.kind in ("network", "wireless")
        )

    def _silent(self) -> Doing[None]:
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

    def _mains_fail(self) -> None:
        """Let the mains fail: what a battery feeds goes on, the rest stands still until they return."""
        self._flow()
        self.state.mains = False
        dark = without_mains(self.setting.rig)
        if not dark:
            self.note("supply", "batteries carry everything on", "done")
            return
        more = f" and {len(dark) - MOST_NAMED} more" if len(dark) > MOST_NAMED else ""
        names = ", ".join(device.title for device in dark[:MOST_NAMED])
        self.note("supply", f"without power: {names}{more}", "fault")
        self._power_fails()
        self.state.connected = self.state.electricity = False
        self._flow()
        self._interrupt("the power has failed")

    def _mains_return(self) -> None:
        self._flow()
        self.state.mains = self.state.electricity = True
        self.note("supply", "the mains are back", "done")
        self._flow()

    def _shuts_alone(self) -> bool:
        return any(self.setting.setting(kind, "shuts_on_power_loss") is True for kind in ("roof", "dome"))

    def _interrupt(self, why: str) -> None:
        if self.script is not None and self.script.is_alive and self.script is not self.env.active_process:
            self.script.interrupt(why)

    # Power

    def _flow(self, do: str = "", *, works: bool = False) -> None:
        """Meter what has flowed until now, and take on what flows from now on; ``do`` is what begins or ends."""
        if not self.uses or (do and not (do in ACTIONS and ACTIONS[do].is_hard)):
            return
        now, state = self.env.now, self.state
        for use, amperes in zip(self.uses, self._flowing, strict=True):
            if not (use.buffers and state.mains):
                use.drawn_ah += amperes * (now - self._metered_s) / HOUR_S
        self._metered_s = now
        device = self.setting.devices.get(_DEVICE_OF[do]) if do else None
        if device is not None:
            self._working = self._working | {device.id} if works else self._working - {device.id}
        for index, use in enumerate(self.uses):
            powered = state.powered or not self._switched
            own = use.load.amperes(self._working, powered=powered) if state.electricity or use.buffers else 0.0
            self._flowing[index] = own
            if own > use.peak_a:
                use.peak_a, use.peak_s = own, now
            rated = use.load.supply.rated_a
            if rated is not None and own > rated and not use.over_text:
                use.over_text = True
                self.note(use.title, f"gives {own:.1f} A of the {rated:g} A that it is rated for", "fault")

    def _emptying(self, use: SupplyUse) -> Doing[None]:
        """Let a battery run empty: looked at before the highest current could have drawn what it may, or holds."""
        highest = sum(peak for _, peak in use.load.draws.values())
        for charge, what in (
            (use.usable_ah, "{:.0f} Ah are drawn: it should give no more"),
            (use.capacity_ah, "is empty"),
        ):
            while (after := use.until_drawn(charge or 0.0, highest)) > LOOK_S:
                if after == math.inf or not (self.state.electricity or use.buffers):
                    return
                yield self.env.timeout(after)
                self._flow()
            self.note(use.title, what.format(use.drawn_ah), "fault")
        if self.state.electricity:
            self._all_dark()

    def _all_dark(self) -> None:
        """Let the power be gone for good."""
        self._power_fails()
        self.state.electricity = False
        self._flow()
        self.state.program = False
        self.note("supply", "nothing has power any more", "fault", unhandled=not self._shuts_alone())
        self._interrupt("the power is gone")

    # Weather

    def _watched_by(self) -> str | None:
        """Return the kind of device that may stop the run."""
        kinds = ("safety_monitor", "weather")
        return next((kind for kind in kinds if self.setting.setting(kind, "stops_the_run") is True), None)

    def _watching(self) -> Doing[None]:
        while True:
            yield self.env.timeout(self.setting.watch.every_s)
            silent = any(e.fault.id == "weather.silent" and e.reported and not e.over for e in self.active_faults)
            bad = self.weather & BAD_WEATHER
            if bad and not silent and not self._closing:
                words = {
                    "weather.rain": "rain",
                    "weather.showers": "rain",
                    "weather.wind": "wind",
                    "weather.cloud": "cloud",
                }
                self._bad_weather(f"the weather is bad: {words[min(bad)]}")

    def _bad_weather(self, why: str) -> None:
        if not self._closing and self.state.program:
            self._interrupt(why)

    @property
    def rained_on(self) -> bool:
        """Whether rain falls on the telescope: under an open roof, or without one where nobody is there to cover it."""
        if self.setting.has(*SHELTERS):
            return self.state.roof_open
        return not self.setting.attended

    def _getting_wet(self) -> Doing[None]:
        while True:
            yield self.env.timeout(60.0)
            if self.weather & RAIN and self.rained_on:
                self.state.wet_s += 60.0

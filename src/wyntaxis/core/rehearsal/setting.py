"""What of a rig the rehearsal goes by: its devices and their times, its plan as it is done, and the night."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property

from wyntaxis.core.evidence.cooling.ramp import kept_model
from wyntaxis.core.evidence.ports.match import frame_bytes
from wyntaxis.core.rehearsal.focus_drift import FocusDrift, drift_of
from wyntaxis.core.rehearsal.night_sky import NightSky, sky_of, target_skies
from wyntaxis.core.rehearsal.power import HOUR_S, SupplyLoad, loads_of
from wyntaxis.core.rehearsal.script import NightScript, script_of
from wyntaxis.core.rig.device_kinds import DEVICE_KINDS
from wyntaxis.core.rig.devices import Device, DeviceKind
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.night_plan import NightStep, NightTarget, NightWatch
from wyntaxis.core.rig.parts import Part

CONNECT_S, RESTART_S = 5.0, 180.0
_USUAL_S = {action.do: action.usual_s or 0.0 for kind in DEVICE_KINDS.values() for action in kind.actions}
FOCUS_POINTS, FOCUS_EXPOSURE_S, FOCUS_MOVE_S = 9, 4.0, 3.0
SETTLE_S, WHEEL_S, SHUTTER_S, FLAT_S = 15.0, 2.0, 30.0, 3.0
COOL_RATE_C_MIN, AMBIENT_C, DEFAULT_RATE_MB_S, AIR_FALLS_C_H = 2.0, 10.0, 30.0, 0.8
"""Where the rig states nothing: what such devices usually take, in s, °C/min, °C, MB/s and °C/h."""
SHELTERS = ("roof", "dome")
"""Kinds of device that keep rain off the telescope."""


@dataclass(frozen=True)
class NightSetting:
    """A rig as the rehearsal plays it: times in s, sizes in bytes."""

    rig: Rig
    steps: tuple[NightStep, ...]
    watch: NightWatch
    sky: NightSky
    devices: dict[str, Device] = field(repr=False)
    """By kind the first device of it."""
    download_s: float = 1.0
    frame_gb: float = 0.05
    cool_s: float | None = 600.0
    """None for a target that the cooler never reaches on so warm a night."""
    focus_s: float = 90.0
    settle_s: float = SETTLE_S
    wheel_s: float = WHEEL_S
    roof_s: float = SHUTTER_S
    cover_s: float = SHUTTER_S
    flip_margin_s: float | None = None
    dither_every: int = 0
    refocus_s: float | None = None
    free_gb: float | None = None
    has_copy: bool = False
    slots: tuple[str, ...] = ()
    air_c: float = AMBIENT_C
    """As the plan begins."""
    air_falls_c_h: float = AIR_FALLS_C_H
    refocus_c: float | None = None
    refocus_growth: float | None = None
    refocus_on_filter: bool = False
    focus: FocusDrift = field(default_factory=FocusDrift)
    times: Mapping[str, float] = field(default_factory=dict)
    """What work takes that the plan states or measured, in s."""
    loads: tuple[SupplyLoad, ...] = ()
    attended: str = ""
    """Why somebody stays beside the telescope, and covers it in rain; empty where nobody does."""
    others: Mapping[str, NightSetting] = field(default_factory=dict, repr=False)
    """The same with one device first of its kind, by the ids of the devices that steps name."""
    targets: tuple[NightTarget, ...] = ()
    skies: tuple[NightSky, ...] = ()
    """The night for each of the targets."""

    @cached_property
    def _script(self) -> tuple[NightScript, tuple[NightStep, ...]]:
        return script_of(self.steps, self.targets, self.skies)

    @property
    def script(self) -> NightScript:
        """What is done in order: the steps with their blocks repeated, and the targets."""
        return self._script[0]

    @property
    def every(self) -> tuple[NightStep, ...]:
        """All steps by the places that the script has: the plan's, then those of the targets."""
        return self._script[1]

    def does(self, do: str) -> bool:
        """Return whether some step does this."""
        return any(step.do == do for step in self.every)

    def air_at(self, at_s: float) -> float:
        """Return the air's temperature in °C: it falls until the dark ends."""
        return self.air_c - self.air_falls_c_h * min(at_s, self.sky.dark_until_s) / HOUR_S

    def by(self, device_id: str | None) -> NightSetting:
        """Return what a step goes by that names a device; this one where it names none, or one that is not there."""
        return self.others.get(device_id or "", self)

    def has(self, *kinds: str) -> bool:
        """Return whether the rig has a device of one of some kinds."""
        return any(kind in self.devices for kind in kinds)

    def setting(self, kind: str, key: str) -> float | bool | str | None:
        """Return a setting of the first device of a kind, as stated or measured."""
        device = self.devices.get(kind)
        setting = device.settings.get(key) if device is not None else None
        if setting is None:
            return None
        return setting.value if setting.value is not None else setting.measured.value if setting.measured else None

    def number(self, kind: str, key: str, usual: float) -> float:
        """Return a numeric setting, or what is usual."""
        value = self.setting(kind, key)
        return float(value) if isinstance(value, (int, float)) and not isinstance(value, bool) else usual

    def work_s(self, do: str) -> float:
        """Return what work takes, in s: as the plan states or measured it, else by the rig, else as is usual."""
        if do in self.times:  # with all that belongs to it
            return self.times[do]
        own = {
            "connect": CONNECT_S * max(len(self.rig.devices), 1),
            "focus": self.focus_s,
            "wheel": self.wheel_s,
            "download": self.download_s,
            "dither": self.settle_s,
            "restart": RESTART_S,
        }
        return (own[do] if do in own else _USUAL_S.get(do, 0.0)) + self.added_s(do)

    def added_s(self, do: str) -> float:
        """Return by how much other devices that the rig has lengthen an action, in s."""
        kinds = [kind for kind in DEVICE_KINDS.values() if kind.id in self.devices]
        return sum(
            self.number(kind.id, key, usual) for kind in kinds for action, key, usual in kind.adds_time if action == do
        )


def cooling_s(rig: Rig, fall_c: float, rate_c_min: float, bare: NightSetting) -> float | None:
    """Return how long the sensor takes to fall by so many °C: by the ramp, or by the cooler's model where it is slower.

    Parameters
    ----------
    rig
        The rig, whose cooler may have been measured.
    fall_c, rate_c_min
        From ambient to the target in °C, and the ramp in °C/min.
    bare
        The setting so far, for what is stated of the cooler.

    Returns
    -------
    float or None
        In s; None for what it never reaches. ``ΔT(t) = depth (1 − exp(−t/τ))`` at full power.
    """
    by_ramp = 60 * fall_c / max(rate_c_min, 0.01)
    model = kept_model(rig)
    depth = model.depth.value if model is not None else bare.number("camera", "cooling_reach_c", math.inf)
    if fall_c >= depth:
        return None
    if model is None:
        return by_ramp
    return max(by_ramp, 60 * model.tau.value * math.log(depth / (depth - fall_c)))


def setting_of(rig: Rig, sky: NightSky | None = None, first: str | None = None) -> NightSetting:
    """Return what the rehearsal goes by, with a plan drafted where the rig has none.

    Parameters
    ----------
    rig
        The rig.
    sky
        The night; of today by default.
    first
        The device that is taken for its kind; the first one of it in the rig where left out.

    Returns
    -------
    NightSetting
        Times in s by the rig's own numbers, else usual ones.
    """
    from wyntaxis.core.rehearsal.drafted import drafted_steps

    plan = rig.plan
    steps = plan.steps if plan is not None and plan.steps else drafted_steps(rig)
    sky = sky or sky_of(rig)
    targets = plan.targets if plan is not None else ()
    devices: dict[str, Device] = {}
    for device in sorted((*rig.devices, *_devices_of_parts(rig)), key=lambda own: own.id != first):
        devices.setdefault(device.kind, device)
    own_steps = (*steps, *(step for target in targets for step in target.steps))
    named = {step.device for step in own_steps if step.device is not None} if first is None else set()
    bare = NightSetting(rig, steps, (plan.watch if plan is not None else None) or NightWatch(), sky, devices)
    sensor, settings = rig.sensor, rig.guiding.settings
    size = frame_bytes(sensor, sensor.binning) if sensor is not None else 50_000_000
    rate = bare.number("camera", "data_rate_mb_s", DEFAULT_RATE_MB_S)
    ambient = plan.ambient_c if plan is not None and plan.ambient_c is not None else AMBIENT_C
    fall = max(ambient - bare.number("camera", "set_temperature_c", -10.0), 0.0)
    points = bare.number("focuser", "run_points", FOCUS_POINTS)
    exposure = bare.number("focuser", "focus_exposure_s", FOCUS_EXPOSURE_S)
    exposure = bare.number("focuser", "run_exposure_s", exposure)
    cool_s = cooling_s(rig, fall, bare.number("camera", "ramp_c_min", COOL_RATE_C_MIN), bare)
    download = size / 1e6 / max(rate, 0.1)
    times: dict[str, float] = {}
    if plan is not None:
        times = {work: own.best for work, own in plan.times.items() if own.best is not None}
    refocus = _wish(bare, "refocus_after_min", 60.0)
    margin = bare.setting("mount", "flip_margin_min")
    equatorial = rig.mount is None or rig.mount.kind == "equatorial"
    rooms = [s.free_gb for d in rig.devices for s in d.storage if s.free_gb is not None and s.holds != "copy"]
    dithers = plan is not None and "dither" in plan.actions
    every = settings.dither_every_frames if settings is not None else None
    return NightSetting(
        rig,
        bare.steps,
        bare.watch,
        sky,
        devices,
        others={name: setting_of(rig, sky, name) for name in named if any(own.id == name for own in rig.devices)},
        targets=targets,
        skies=target_skies(rig, sky),
        attended=(plan.attended if plan is not None else None) or "",
        download_s=times.get("download", download),
        times=times,
        frame_gb=size / 1e9,
        cool_s=cool_s,
        focus_s=points * (exposure + FOCUS_MOVE_S + bare.number("focuser", "settle_s", 0.0)),
        settle_s=times.get(
            "dither",
            SETTLE_S if settings is None or settings.settle_s is None else settings.settle_s + SETTLE_S / 2,
        ),
        wheel_s=WHEEL_S + bare.number("filter_wheel", "settle_s", 0.0),
        roof_s=bare.number("dome" if "dome" in devices else "roof", "moves_s", SHUTTER_S),
        cover_s=bare.number("cover", "moves_s", SHUTTER_S),
        flip_margin_s=60 * float(margin) if isinstance(margin, (int, float)) and equatorial else None,
        dither_every=(every or 1) if dithers else 0,
        refocus_s=refocus,
        free_gb=sum(rooms) if rooms else None,
        has_copy=any(s.holds == "copy" for d in rig.devices for s in d.storage),
        slots=devices["filter_wheel"].slot_names if "filter_wheel" in devices else (),
        air_c=ambient,
        air_falls_c_h=plan.air_falls_c_h if plan is not None and plan.air_falls_c_h is not None else AIR_FALLS_C_H,
        refocus_c=_wish(bare, "refocus_temperature_c"),
        refocus_growth=_wish(bare, "refocus_growth_percent", 0.01),
        refocus_on_filter=bare.setting("focuser", "refocus_on_filter") is True,
        focus=drift_of(rig, devices.get("focuser"), devices.get("filter_wheel")),
        loads=loads_of(rig),
    )


def _wish(setting: NightSetting, key: str, factor: float = 1.0) -> float | None:
    """Return when the focuser's setting asks for a focus run; None for never."""
    value = setting.number("focuser", key, 0.0)
    return value * factor if value > 0 else None


def _devices_of_parts(rig: Rig) -> Iterator[Device]:
    """Yield a device for each part that cannot but be one, where the rig lists none for it."""
    camera, guide_camera = rig.camera, rig.guiding.path[-1] if rig.guiding.path else None
    wheel = next((part for part in rig.train if part.kind == "filter_wheel"), None)
    kinds: tuple[tuple[DeviceKind, Part | None], ...] = (
        ("camera", camera),
        ("guide_camera", guide_camera),
        ("filter_wheel", wheel),
    )
    for kind, part in kinds:
        if part is not None:
            yield Device(id=part.id, kind=kind, name=part.name, part=part.id)

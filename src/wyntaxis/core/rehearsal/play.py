"""Playing nights: one with the faults asked for, one for every fault, and many with faults drawn by their rates."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.rehearsal.faults import FAULTS
from wyntaxis.core.rehearsal.night import NightRun
from wyntaxis.core.rehearsal.outcome import Grade, NightOutcome, grade_of
from wyntaxis.core.rehearsal.setting import NightSetting
from wyntaxis.core.rehearsal.state import ActiveFault
from wyntaxis.core.rig.device_kinds.declaration import Fault, Moment

DEFAULT_NIGHTS = 1000
NIGHTS_A_CHUNK = 50
_ALWAYS = frozenset(
    {"weather.wind", "weather.cloud", "weather.rain", "weather.showers", "optics.dew", "solver.off_scale", "power.dip"}
)


Window = tuple[float, float]
"""When in a night frames are taken, in s from the plan's beginning."""


def window_of(setting: NightSetting, good: NightOutcome | None = None) -> Window:
    """Return when the plan takes frames while nothing goes wrong; the dark hours where it takes none."""
    night = good or played(setting)
    taking = [stage for stage in night.stages if setting.every[stage.place].do == "sequence"]
    spans = [
        span
        for span in night.spans
        if span.kind == "exposing" and any(own.from_s <= span.from_s <= own.to_s for own in taking)
    ]
    if not spans:
        return setting.sky.dark_from_s, setting.sky.dark_until_s
    return min(span.from_s for span in spans), max(span.to_s for span in spans)


def moment_s(setting: NightSetting, moment: Moment, window: Window) -> float:
    """Return when in a night a moment is, in s from the plan's beginning."""
    sky, middle = setting.sky, (window[0] + window[1]) / 2
    return {
        "begin": 0.0,
        "dark": sky.dark_from_s,
        "middle": middle,
        "flip": middle if sky.meridian_s is None else sky.meridian_s + (setting.flip_margin_s or 0.0),
        "end": middle,
    }[moment]


def applies(setting: NightSetting, fault: Fault) -> bool:
    """Return whether a rig has what a fault strikes, and its plan does what it touches."""
    if fault.id == "network.gone":
        return any(
            d.connection is not None and d.connection.kind in ("network", "wireless") for d in setting.rig.devices
        )
    if fault.id == "mains.fails":
        return any(supply.kind == "mains" for supply in setting.rig.supplies)
    if fault.id == "battery.empty":
        return any(supply.kind == "battery" for supply in setting.rig.supplies)
    if fault.id == "mount.flip_late":
        margin, skies = setting.flip_margin_s, setting.skies or (setting.sky,)
        if margin is None or not setting.has("mount"):
            return False
        return any(sky.meridian_s is not None and sky.is_good(sky.meridian_s + margin) for sky in skies)
    if fault.id == "camera.wrong":
        return setting.has("camera") and setting.has("guide_camera")
    if fault.id == "wheel.missing_slot":
        return setting.has("filter_wheel") and any(step.filter is not None for step in setting.every)
    if fault.devices and not setting.has(*fault.devices):
        return False
    does = {step.do for step in setting.every} | {"expose", "download", "flip", "wheel"}
    if fault.id.startswith("guider.") and "guide" not in does:
        return False
    return not fault.does or bool(does & set(fault.does)) or fault.id in _ALWAYS


def active_faults(
    setting: NightSetting, fault: Fault, at_s: float | None = None, window: Window | None = None
) -> ActiveFault:
    """Return a fault that strikes at its usual moment, or at one in s."""
    if at_s is None:
        at_s = moment_s(setting, fault.when, window or window_of(setting))
    return ActiveFault(fault, at_s)


def played(setting: NightSetting, faults: Sequence[ActiveFault] = ()) -> NightOutcome:
    """Return what comes of a night.

    Parameters
    ----------
    setting
        The rig, its plan and the night.
    faults
        What strikes, and when.

    Returns
    -------
    NightOutcome
        The same for the same faults.
    """
    return NightRun(setting, [replace(entry) for entry in faults]).played()


@dataclass(frozen=True)
class FaultRow:
    """One fault against a plan: how the night stands, and what came of it."""

    fault: Fault
    applies: bool
    grade: Grade
    outcome: NightOutcome
    hours_lost: float


def fault_table(setting: NightSetting, watch: Callable[[int, int], None] = lambda _a, _b: None) -> tuple[FaultRow, ...]:
    """Return every fault by itself against a plan.

    Parameters
    ----------
    setting
        The rig, its plan and the night.
    watch
        Told of faults played and to play; may cancel.

    Returns
    -------
    tuple of FaultRow
        In the order of the faults; one that strikes what the rig does not have leaves the night as it is.
    """
    good, rows = played(setting), []
    window = window_of(setting, good)
    for index, fault in enumerate(FAULTS.values()):
        watch(index, len(FAULTS))
        there = applies(setting, fault)
        outcome = played(setting, [active_faults(setting, fault, window=window)]) if there else good
        rows.append(FaultRow(fault, there, grade_of(outcome), outcome, outcome.hours_lost(good)))
    return tuple(rows)


@dataclass(frozen=True)
class ManyNights:
    """Many nights with faults drawn by their rates: hours kept a night, and the share of unsafe ones."""

    nights: int
    hours_kept: Estimate
    unsafe_share: Estimate
    lost_share: Estimate
    hours: tuple[float, ...]
    worst: tuple[tuple[str, int], ...]
    """Which faults were there in how many of the unsafe nights, the most first."""


def one_night(
    setting: NightSetting, seed: int, night: int, window: Window
) -> tuple[float, bool, bool, tuple[str, ...]]:
    """Return of one drawn night the hours kept, whether it is unsafe, whether it is lost, and which faults struck."""
    import numpy as np

    rng = np.random.default_rng([seed, night])
    drawn: list[ActiveFault] = []
    for fault in FAULTS.values():
        strikes, place = rng.random(), rng.random()
        if strikes < fault.rate / 100 and applies(setting, fault):
            at = moment_s(setting, fault.when, window)
            if fault.when == "middle":
                at = window[0] + place * (window[1] - window[0])
            drawn.append(ActiveFault(fault, at))
    outcome = played(setting, drawn)
    names = tuple(entry.fault.id for entry in drawn)
    return outcome.kept_s / 3600, not outcome.safe_end, outcome.frames_kept == 0, names


def some_nights(job: tuple[NightSetting, int, int, int]) -> list[tuple[float, bool, bool, tuple[str, ...]]]:
    """Return drawn nights from one number to another, for a process of its own."""
    setting, seed, first, last = job
    window = window_of(setting)
    return [one_night(setting, seed, night, window) for night in range(first, last)]


def many_nights(
    setting: NightSetting,
    nights: int = DEFAULT_NIGHTS,
    seed: int = 1,
    progress: Callable[[int, int], None] = lambda _a, _b: None,
) -> ManyNights:
    """Return what many drawn nights come to.

    Parameters
    ----------
    setting
        The rig, its plan and the night.
    nights, seed
        How many, and what they are drawn from: the same seed gives the same nights, whatever the plan.
    progress
        Told of nights played and to play; may cancel.

    Returns
    -------
    ManyNights
        Means with their standard errors; shares with the counts' own.

    Raises
    ------
    InputError
        For no night, or too many.
    """
    if not 1 <= nights <= 100_000:
        raise InputError(f"nights: must be 1 to 100000, got {nights}")
    entries: list[tuple[float, bool, bool, tuple[str, ...]]] = []
    for first in range(0, nights, NIGHTS_A_CHUNK):
        progress(first, nights)
        entries += some_nights((setting, seed, first, min(first + NIGHTS_A_CHUNK, nights)))
    progress(nights, nights)
    return summed(entries)


def summed(entries: Sequence[tuple[float, bool, bool, tuple[str, ...]]]) -> ManyNights:
    """Return what drawn nights come to together."""
    hours = [own[0] for own in entries]
    count, mean = len(hours), sum(hours) / len(hours)
    scatter = math.sqrt(sum((value - mean) ** 2 for value in hours) / max(count - 1, 1))
    by_fault: dict[str, int] = {}
    for _, unsafe, _, names in entries:
        for name in names if unsafe else ():
            by_fault[name] = by_fault.get(name, 0) + 1
    worst = sorted(by_fault.items(), key=lambda entry: -entry[1])
    return ManyNights(
        count,
        Estimate(mean, scatter / math.sqrt(count)),
        _share(sum(own[1] for own in entries), count),
        _share(sum(own[2] for own in entries), count),
        tuple(hours),
        tuple(worst[:8]),
    )


def _share(count: int, of: int) -> Estimate:
    """Return a share with its standard error, by Agresti and Coull's centre so that none is not certain."""
    centre = (count + 2) / (of + 4)
    return Estimate(count / of, math.sqrt(centre * (1 - centre) / (of + 4)))


def named_faults(setting: NightSetting, texts: Sequence[str]) -> list[ActiveFault]:
    """Return the faults that texts such as ``camera.gone`` or ``weather.rain@9000`` name.

    Raises
    ------
    InputError
        For a fault that there is none of, or a time that is none.
    """
    found, window = [], window_of(setting)
    for text in texts:
        name, at, when = text.partition("@")
        fault = FAULTS.get(name.strip())
        if fault is None:
            raise InputError(f"--fault: there is no {name[:40]}; there are: {', '.join(FAULTS)}")
        found.append(active_faults(setting, fault, _seconds(when) if at else None, window))
    return found


def _seconds(text: str) -> float:
    hours, colon, minutes = text.strip().removesuffix("s").partition(":")
    try:
        value = float(hours) * 3600 + float(minutes) * 60 if colon else float(hours)
    except ValueError:
        value = math.nan
    if not 0 <= value < 7 * 86_400:
        raise InputError(f"--fault: {text[:20]} is no time: write seconds, or H:MM, from the plan's beginning")
    return value

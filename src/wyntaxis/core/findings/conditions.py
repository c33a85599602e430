"""The conditions of the night: each declares its title; findings name the condition that they prove or break."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from types import MappingProxyType

from wyntaxis.core.findings.finding import Finding, Remedy
from wyntaxis.core.ledger import Verdict, worst
from wyntaxis.core.records.setting_up import is_met
from wyntaxis.core.rig.device_settings import CAMERAS, SHUTTERS, WATCHERS, settings_of
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import MAGNIFYING_KINDS


@dataclass(frozen=True)
class Condition:
    """One thing that must be so before the night, and what to do where no finding covers it.

    ``missing`` says why the condition does not apply to a rig; empty where it applies.
    """

    key: str
    title: str
    unproven: str
    missing: Callable[[Rig], str]


_conditions: dict[str, Condition] = {}


def _condition(key: str, title: str, unproven: str, missing: Callable[[Rig], str]) -> Condition:
    return _conditions.setdefault(key, Condition(key, title, unproven, missing))


def declared_conditions() -> tuple[Condition, ...]:
    """Return every condition, in the order of the evening."""
    return tuple(_conditions.values())


# What a rig does not have does not apply


def _without(words: str, has: Callable[[Rig], bool]) -> Callable[[Rig], str]:
    return lambda rig: "" if has(rig) else f"the rig has no {words}"


def _kinds(rig: Rig) -> set[str]:
    """Return the kinds of device that a rig has, and of the parts of its train."""
    return {device.kind for device in rig.devices} | {part.kind for part in rig.train if part.kind != "camera"}


def _plans(rig: Rig, *actions: str) -> bool:
    return rig.plan is not None and bool({*rig.plan.actions} & {*actions})


def _is_spaced(rig: Rig) -> bool:
    return rig.guiding.kind == "off_axis" or any(part.kind in MAGNIFYING_KINDS for part in rig.train)


def _is_cooled(rig: Rig) -> bool:
    cooler = {kind.key for kind in settings_of("camera", "cooling")} | COOLER_KEYS
    return _plans(rig, "cool", "warm_up") or any(
        device.kind == "camera" and cooler & set(device.settings) for device in rig.devices
    )


def _has_usb(rig: Rig) -> bool:
    return any(
        (device.connection is not None and device.connection.kind == "usb")
        or (device.identity is not None and device.identity.usb_id is not None)
        for device in rig.devices
    )


def _has_mount(rig: Rig) -> bool:
    return rig.mount is not None or "mount" in _kinds(rig)


def _has_driver(rig: Rig) -> bool:
    reached = {device.connection.kind if device.connection else None for device in rig.devices if device.driver}
    return bool(reached & {"usb", "serial", None})


def _is_fed(rig: Rig) -> bool:
    return bool(rig.supplies) or any(device.power is not None for device in rig.devices)


COMPARING = ("records.", "wheel.order")
"""Findings that hold what programs have on file against the rig."""
COOLER_KEYS = frozenset({"set_temperature_c", "cooler_on", "ramp_c_min"})
_RECORDS = _without("program's record", lambda rig: bool(rig.records))
_USB = _without("device on USB", _has_usb)


SPACING = _condition(
    "spacing",
    "The sensors are at the right distances",
    "describe the train on the Light path sheet",
    _without("corrector and no guide branch", _is_spaced),
)
FOCAL_LENGTH = _condition(
    "focal_length",
    "Every program holds the right focal length and pixel size",
    "bring in the programs' settings on the Programs sheet",
    _RECORDS,
)
ONE_ENTRY = _condition(
    "one_entry",
    "Each device has one entry, one role, one port",
    "enter the devices, and bring in a program's list of them",
    _RECORDS,
)
DRIVERS = _condition(
    "drivers",
    "Drivers are the documented ones, and were installed first",
    "enter each driver's version, when it was installed, and when the device was plugged in",
    _without("device with a driver that is plugged in", _has_driver),
)
CONNECTIONS = _condition(
    "connections",
    "Ports and connection modes are stable and as stated",
    "enter ports and modes, and bring in the programs' settings",
    _RECORDS,
)
PRESENT = _condition(
    "present",
    "Every USB device is present",
    "read the ports on the Ports sheet",
    _USB,
)
AWAKE = _condition(
    "awake",
    "No device can fall asleep",
    "read the ports on the Ports sheet",
    _USB,
)
USB = _condition(
    "usb",
    "USB links carry what the cameras send",
    "read the ports on the Ports sheet",
    _USB,
)
SIDES = _condition(
    "sides",
    "Server and client hold the same",
    "bring in the profiles of both ends",
    _without("program with two ends", lambda rig: any(record.pair is not None for record in rig.records)),
)
GAIN = _condition(
    "gain",
    "Gain and offset are as stated everywhere",
    "enter the camera's gain and offset, and bring in the programs' settings",
    _without("program's record of a camera", lambda rig: bool(rig.records) and bool(_kinds(rig) & CAMERAS)),
)
SETTINGS = _condition(
    "settings",
    "Other settings, guiding and site agree",
    "bring in the programs' settings on the Programs sheet",
    _RECORDS,
)
COOLING = _condition(
    "cooling",
    "The cooler is on and the set temperature is reached",
    "enter the set temperature and the cooler, and read headers of frames",
    _without("cooler", _is_cooled),
)
FILTERS = _condition(
    "filters",
    "Filters are named, in order, none left over, and all that the plan needs",
    "name the wheel's slots, and bring in the programs' lists",
    _without(
        "filter wheel",
        lambda rig: "filter_wheel" in _kinds(rig) or (rig.plan is not None and len(rig.plan.filters) > 1),
    ),
)
FOCUSER = _condition(
    "focuser",
    "The focuser turns the right way, inside its travel, finely enough",
    "enter the focuser's range, position, step and direction",
    _without("focuser", lambda rig: "focuser" in _kinds(rig) or _plans(rig, "refocus")),
)
GUIDING = _condition(
    "guiding",
    "The guider is connected and can do what is asked",
    "enter guiding and dithering in the plan, and the guide settings",
    _without("guiding", lambda rig: rig.guiding.kind != "none" or _plans(rig, "guide", "dither")),
)
MOUNT = _condition(
    "mount",
    "The mount can flip and park",
    "enter the plan's actions, and the mount",
    _without("plan for a mount", lambda rig: rig.plan is not None and (_has_mount(rig) or _plans(rig, "flip", "park"))),
)
CALIBRATION = _condition(
    "calibration",
    "Lights have their darks, flats and bias",
    "read a folder of frames on the Programs sheet",
    _without("plan, and no camera among its devices", lambda rig: rig.plan is not None or bool(_kinds(rig) & CAMERAS)),
)
STORAGE = _condition(
    "storage",
    "There is disk space for the night, and a second copy",
    "enter the computer's disks, and the planned frames",
    _without(
        "computer, and no planned number of frames",
        lambda rig: "computer" in _kinds(rig) or (rig.plan is not None and rig.plan.frames is not None),
    ),
)
POWER = _condition(
    "power",
    "Supplies have reserve and last the night",
    "enter the supplies, and what each device draws",
    _without("supply", _is_fed),
)


WEATHER = _condition(
    "weather",
    "A safety monitor stops the run in bad weather, and the optics stay dry",
    "enter what watches the weather, and whether it stops the run",
    _without("roof, cover or weather station", lambda rig: bool(_kinds(rig) & (SHUTTERS | WATCHERS))),
)


_STEPS = _without("plan in steps", lambda rig: rig.plan is not None and bool(rig.plan.steps))
_REHEARSE = "simulate the night on the Rehearsal sheet"
NO_ENDLESS_WAIT = _condition("endless", "Every wait of the night has an end", _REHEARSE, _STEPS)
SAFE_END = _condition("safe_end", "The night ends safely under any single fault", _REHEARSE, _STEPS)
FITS_THE_DARK = _condition("fits", "The plan fits into the dark hours", _REHEARSE, _STEPS)
WEATHER_STOPS = _condition("weather_stops", "Bad weather stops the plan", _REHEARSE, _STEPS)


CONDITION = "condition."
"""How the id of a condition begins where it is told as a finding."""
SOURCE = "A condition holds once all that it needs has been measured or compared, and nothing of it fails"


@dataclass(frozen=True)
class ConditionVerdict:
    """The verdict on one condition, the findings behind it, and why in a line.

    One that does not apply to the rig is not counted. What is accepted does not weigh, and is named.
    """

    condition: Condition
    verdict: Verdict
    why: str
    findings: tuple[Finding, ...]
    applies: bool = True

    @property
    def deciding(self) -> Finding | None:
        """The finding that gives the verdict; None where something that could not be had gives it."""
        return next((own for own in self.findings if own.verdict is self.verdict and not own.accepted), None)

    def as_finding(self) -> Finding:
        """Return the condition as something to be read beside the findings: what it lacks, and what to do."""
        why, _, remedy = self.why.rpartition(": ")
        title = f"{self.condition.title}: {self.verdict.words}"
        lines = (why,) if why else ()
        return Finding(f"{CONDITION}{self.condition.key}", self.verdict, "", title, lines, Remedy(remedy), SOURCE)

    @property
    def accepted(self) -> tuple[Finding, ...]:
        """What the imager accepts."""
        return tuple(finding for finding in self.findings if finding.accepted)

    def as_json(self) -> dict[str, object]:
        """Return the condition as ``wyntaxis ready --json`` prints it."""
        return {
            "id": self.condition.key,
            "verdict": str(self.verdict),
            "title": self.condition.title,
            "why": self.why,
            "findings": [f.id for f in self.findings],
            "failing": [f.as_json() for f in self.findings if f.verdict in (Verdict.FAILS, Verdict.TIGHT)],
            "applies": self.applies,
            "accepted": [{"finding": f.id, "subject": f.subject, "reason": f.accepted} for f in self.accepted],
        }


def judge_conditions(
    findings: Iterable[Finding],
    declared: Mapping[str, tuple[Condition, str]],
    rig: Rig,
    doubts: Mapping[str, str] = MappingProxyType({}),
) -> tuple[ConditionVerdict, ...]:
    """Return every condition, in the order of the evening; those that do not apply to the rig say so.

    A condition fails with any of its findings; it holds only where every finding that it needs could be had, and all
    hold.

    Parameters
    ----------
    declared
        By finding id: the condition that it belongs to, and what is missing without it (empty where it is not needed).
        In this order a condition's findings stand.
    doubts
        By finding id: why its matter is not proven even where every finding holds.
    """
    place = {finding_id: index for index, finding_id in enumerate(declared)}
    entries: dict[str, list[Finding]] = {}
    for finding in sorted((f for f in findings if f.id in declared), key=lambda f: place[f.id]):
        entries.setdefault(declared[finding.id][0].key, []).append(finding)
    had = {finding.id for own in entries.values() for finding in own}
    found = []
    for condition in declared_conditions():
        own_findings = tuple(entries.get(condition.key, ()))
        why_not = condition.missing(rig)
        if why_not and not any(f.verdict in (Verdict.FAILS, Verdict.TIGHT) for f in own_findings):
            found.append(ConditionVerdict(condition, Verdict.UNPROVEN, why_not, (), applies=False))
            continue
        missing = [
            needed
            for finding_id, (own, needed) in declared.items()
            if own is condition and needed and finding_id not in had and _asked(rig, finding_id)
        ]
        judged = _judge(condition, own_findings, missing)
        doubt = next((doubts[key] for key, (own, _) in declared.items() if own is condition and key in doubts), "")
        if doubt and judged.verdict is Verdict.HOLDS:
            judged = ConditionVerdict(condition, Verdict.UNPROVEN, doubt, own_findings)
        found.append(judged)
    return tuple(found)


def _asked(rig: Rig, finding_id: str) -> bool:
    """Return whether a rig needs a finding at all: an alt-azimuth mount does not flip, no program compares nothing."""
    if finding_id == "plan.flip":
        return rig.mount is None or rig.mount.kind != "alt_azimuth"
    return bool(rig.records) or not finding_id.startswith(COMPARING)


def _judge(condition: Condition, findings: tuple[Finding, ...], missing: Sequence[str]) -> ConditionVerdict:
    if not findings:
        return ConditionVerdict(condition, Verdict.UNPROVEN, condition.unproven, ())
    open_ones = [f for f in findings if not f.accepted]
    # Of what is proven the gravest counts; where nothing is wrong, one thing unproven leaves the whole unproven.
    verdict = worst([*(f.verdict for f in open_ones), *([Verdict.UNPROVEN] if missing else [])] or [Verdict.HOLDS])
    if missing and verdict is Verdict.UNPROVEN:
        return ConditionVerdict(condition, verdict, f"{missing[0]}: {condition.unproven}", findings)
    if not open_ones:
        return ConditionVerdict(condition, verdict, f"accepted: {findings[0].accepted}", findings)
    bad = [f for f in open_ones if f.verdict is verdict]
    more = f" (and {len(bad) - 1} more)" if len(bad) > 1 else ""
    if verdict is Verdict.HOLDS:
        count = len(open_ones)
        why = open_ones[0].title if count == 1 else f"{count} findings hold: {open_ones[0].title}"
    else:
        why = f"{bad[0].title}{more}"
    return ConditionVerdict(condition, verdict, why, findings)


def overall(found: Sequence[ConditionVerdict]) -> str:
    """Return whether the rig is ready, in a sentence; what does not apply is not counted, accepted findings are."""
    accepted = sum(len(entry.accepted) for entry in found)
    apart = f"; {accepted} finding{'s' if accepted > 1 else ''} accepted" if accepted else ""
    found = [entry for entry in found if entry.applies]
    if not found:
        return "No condition of the night applies to this rig yet"
    counts = {verdict: sum(entry.verdict is verdict for entry in found) for verdict in Verdict}
    if counts[Verdict.FAILS]:
        return f"Not ready: {counts[Verdict.FAILS]} of {len(found)} conditions fail{apart}"
    if counts[Verdict.UNPROVEN] or counts[Verdict.TIGHT]:
        open_ones = [f"{counts[v]} {v}" for v in (Verdict.UNPROVEN, Verdict.TIGHT) if counts[v]]
        return f"Nothing fails; of {len(found)} conditions {' and '.join(open_ones)}{apart}"
    return f"Ready: all {len(found)} conditions hold{apart}"


OWN = "own."
"""How the key of a condition of the imager's own begins."""


def own_conditions(rig: Rig, now: datetime.datetime | None = None) -> tuple[ConditionVerdict, ...]:
    """Return the conditions of the imager's own: one that was ticked holds; an optional one that was not is left out.

    Parameters
    ----------
    rig
        The rig.
    now
        The moment at which they are judged; the present by default.
    """
    at, found = now or datetime.datetime.now(datetime.UTC), []
    for own in rig.conditions:
        condition = Condition(f"{OWN}{own.id}", own.text, "tick it once it is so", lambda _rig: "")
        if is_met(rig, own, at):
            found.append(ConditionVerdict(condition, Verdict.HOLDS, "ticked", ()))
        elif own.required:
            found.append(ConditionVerdict(condition, Verdict.UNPROVEN, f"not ticked yet: {condition.unproven}", ()))
        else:
            found.append(ConditionVerdict(condition, Verdict.UNPROVEN, "optional, not ticked", (), applies=False))
    return tuple(found)

"""The conditions of the night: each declares its title; findings name the condition that they prove or break."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from wyntaxis.core.findings.finding import Finding
from wyntaxis.core.ledger import Verdict, worst
from wyntaxis.core.rig.model import Rig


@dataclass(frozen=True)
class Condition:
    """One thing that must be so before the night, and what to do where nothing speaks of it.

    ``applies`` is set where the condition is only one when the rig has this.
    """

    key: str
    title: str
    unproven: str
    applies: str = ""


_conditions: dict[str, Condition] = {}


def _condition(key: str, title: str, unproven: str, applies: str = "") -> Condition:
    return _conditions.setdefault(key, Condition(key, title, unproven, applies))


def declared_conditions() -> tuple[Condition, ...]:
    """Return every condition, in the order of the evening."""
    return tuple(_conditions.values())


SPACING = _condition(
    "spacing",
    "The sensors stand where they must",
    "describe the train on the Light path sheet",
)
FOCAL_LENGTH = _condition(
    "focal_length",
    "Every program holds the true focal length and pixel size",
    "bring in the programs' settings on the Records sheet",
)
ONE_ENTRY = _condition(
    "one_entry",
    "Each device has one entry, one role, one port",
    "list the devices, and bring in a program's list of them",
)
DRIVERS = _condition(
    "drivers",
    "Drivers are the documented ones, and were there first",
    "state each driver's version, and when it was installed and the device plugged in",
)
CONNECTIONS = _condition(
    "connections",
    "Ports and connection modes are stable and as stated",
    "state ports and modes, and bring in what the programs hold",
)
PRESENT = _condition(
    "present",
    "Every USB device is there",
    "read the ports on the Ports sheet",
)
AWAKE = _condition(
    "awake",
    "No device may fall asleep",
    "read the ports on the Ports sheet",
)
USB = _condition(
    "usb",
    "USB links carry what the cameras send",
    "read the ports on the Ports sheet",
)
SIDES = _condition(
    "sides",
    "Server and client hold the same",
    "bring in both ends' profiles",
    "pair",
)
GAIN = _condition(
    "gain",
    "Gain and offset are as stated everywhere",
    "state the camera's gain and offset, and bring in what the programs hold",
)
SETTINGS = _condition(
    "settings",
    "Other settings, guiding and site agree",
    "bring in the programs' settings on the Records sheet",
)
COOLING = _condition(
    "cooling",
    "The cooler is on and the set temperature reached",
    "state the set temperature and the cooler, and read frames' headers",
)
FILTERS = _condition(
    "filters",
    "Filters: named, in order, none left over, all that are asked for",
    "name the wheel's slots, and bring in the programs' lists",
)
FOCUSER = _condition(
    "focuser",
    "The focuser turns the right way, inside its travel, finely enough",
    "state the focuser's range, position, step and direction",
)
GUIDING = _condition(
    "guiding",
    "The guider is connected and can do what is asked",
    "state guiding and dithering in the plan, and the guide settings",
)
MOUNT = _condition(
    "mount",
    "The mount can flip and park",
    "state the plan's actions, and the mount",
)
CALIBRATION = _condition(
    "calibration",
    "Lights have their darks, flats and bias",
    "read a folder of frames on the Records sheet",
)
STORAGE = _condition(
    "storage",
    "There is room for the night, and a second copy",
    "state the computer's disks, and the planned frames",
)
POWER = _condition(
    "power",
    "Supplies have reserve and last the night",
    "state the supplies, and what each device draws",
)


@dataclass(frozen=True)
class ConditionVerdict:
    """How one condition stands, the findings behind it, and why in a line."""

    condition: Condition
    verdict: Verdict
    why: str
    findings: tuple[Finding, ...]

    def as_json(self) -> dict[str, object]:
        """Return the condition as ``wyntaxis ready --json`` prints it."""
        return {
            "id": self.condition.key,
            "verdict": str(self.verdict),
            "title": self.condition.title,
            "why": self.why,
            "findings": [f.id for f in self.findings],
            "failing": [f.as_json() for f in self.findings if f.verdict in (Verdict.FAILS, Verdict.TIGHT)],
        }


def judge_conditions(
    findings: Iterable[Finding], declared: Mapping[str, tuple[Condition, str]], rig: Rig
) -> tuple[ConditionVerdict, ...]:
    """Return every condition that applies to a rig, in the order of the evening.

    A condition fails with any of its findings; it holds only where every finding that it needs could be had, and all
    hold.

    Parameters
    ----------
    declared
        By finding id: the condition that it belongs to, and what is missing without it (empty where it is not needed).
        In this order a condition's findings stand.
    """
    paired = any(record.pair is not None for record in rig.records)
    place = {finding_id: index for index, finding_id in enumerate(declared)}
    told: dict[str, list[Finding]] = {}
    for finding in sorted((f for f in findings if f.id in declared), key=lambda f: place[f.id]):
        told.setdefault(declared[finding.id][0].key, []).append(finding)
    had = {finding.id for own in told.values() for finding in own}
    found = []
    for condition in declared_conditions():
        if condition.applies == "pair" and not paired:
            continue
        missing = [
            needed
            for finding_id, (own, needed) in declared.items()
            if own is condition and needed and finding_id not in had and _asked(rig, finding_id)
        ]
        found.append(_judge(condition, tuple(told.get(condition.key, ())), missing))
    return tuple(found)


def _asked(rig: Rig, finding_id: str) -> bool:
    """Return whether a finding is one that this rig needs at all: an alt-azimuth mount does not flip."""
    return not (finding_id == "plan.flip" and rig.mount is not None and rig.mount.kind == "alt_azimuth")


def _judge(condition: Condition, findings: tuple[Finding, ...], missing: Sequence[str]) -> ConditionVerdict:
    if not findings:
        return ConditionVerdict(condition, Verdict.UNPROVEN, condition.unproven, ())
    # Of what is proven the gravest counts; where nothing is wrong, one thing unproven leaves the whole unproven.
    verdict = worst([*(f.verdict for f in findings), *([Verdict.UNPROVEN] if missing else [])])
    if missing and verdict is Verdict.UNPROVEN:
        return ConditionVerdict(condition, verdict, f"{missing[0]}: {condition.unproven}", findings)
    bad = [f for f in findings if f.verdict is verdict]
    more = f" (and {len(bad) - 1} more)" if len(bad) > 1 else ""
    if verdict is Verdict.HOLDS:
        count = len(findings)
        why = findings[0].title if count == 1 else f"{count} findings hold: {findings[0].title}"
    else:
        why = f"{bad[0].title}{more}"
    return ConditionVerdict(condition, verdict, why, findings)


def overall(found: Sequence[ConditionVerdict]) -> str:
    """Return how the evening stands, in a sentence."""
    counts = {verdict: sum(entry.verdict is verdict for entry in found) for verdict in Verdict}
    if counts[Verdict.FAILS]:
        return f"Not ready: {counts[Verdict.FAILS]} of {len(found)} conditions fail"
    if counts[Verdict.UNPROVEN] or counts[Verdict.TIGHT]:
        open_ones = [f"{counts[v]} {v}" for v in (Verdict.UNPROVEN, Verdict.TIGHT) if counts[v]]
        return f"Nothing fails; of {len(found)} conditions {' and '.join(open_ones)}"
    return f"Ready: all {len(found)} conditions hold"

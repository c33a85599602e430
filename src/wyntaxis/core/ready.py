"""Ready to go: the conditions of the night, each with the findings that prove or break it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from wyntaxis.core.ledger import Verdict, worst

if TYPE_CHECKING:
    from wyntaxis.core.findings import Finding
    from wyntaxis.core.reckon import Reckoning


@dataclass(frozen=True)
class Condition:
    """One thing that must be so before the night: which findings speak of it, and what to do where none does."""

    key: str
    title: str
    findings: tuple[str, ...]
    unproven: str
    applies: str = ""
    """Set where the condition is only one when the plan does this."""
    needs: tuple[tuple[str, str], ...] = ()
    """Findings without which it is unproven, whatever the others say, each with what is missing then."""


CONDITIONS = (
    Condition(
        "spacing",
        "The sensors stand where they must",
        ("spacing.main", "spacing.guide", "reach.main", "joints.mate", "joints.depth"),
        "describe the train on the Light path sheet",
    ),
    Condition(
        "focal_length",
        "Every program holds the true focal length and pixel size",
        ("records.focal_length", "records.pixel", "scale.measured"),
        "bring in the programs' settings on the Records sheet",
        needs=(
            ("records.focal_length", "no program has the focal length on file"),
            ("records.pixel", "no program has the pixel size on file"),
        ),
    ),
    Condition(
        "one_entry",
        "Each device has one entry, one role, one port",
        ("records.duplicate", "records.role", "records.port", "ports.identity"),
        "list the devices, and bring in a program's list of them",
    ),
    Condition(
        "drivers",
        "Drivers are the documented ones, and were there first",
        ("records.driver", "driver.order"),
        "state each driver's version, and when it was installed and the device plugged in",
        needs=(
            ("driver.order", "no device states its driver, and when it was installed"),
            ("records.driver", "no program has a driver's version on file"),
        ),
    ),
    Condition(
        "connections",
        "Ports and connection modes are stable and as stated",
        ("records.connection", "ports.serial_name", "ports.permission"),
        "state ports and modes, and bring in what the programs hold",
    ),
    Condition("present", "Every USB device is there", ("ports.present",), "read the ports on the Ports sheet"),
    Condition("awake", "No device may fall asleep", ("ports.suspend",), "read the ports on the Ports sheet"),
    Condition(
        "usb",
        "USB links carry what the cameras send",
        (
            "ports.speed",
            "ports.hub",
            "ports.traffic",
            "ports.power",
            "ports.usbfs_memory",
            "records.traffic",
        ),
        "read the ports on the Ports sheet",
    ),
    Condition("sides", "Server and client hold the same", ("records.sides",), "bring in both ends' profiles", "pair"),
    Condition(
        "gain",
        "Gain and offset are as stated everywhere",
        ("records.gain", "records.offset", "devices.measured", "camera.offset"),
        "state the camera's gain and offset, and bring in what the programs hold",
        needs=(
            ("records.gain", "no program has the gain on file"),
            ("records.offset", "no program has the offset on file"),
        ),
    ),
    Condition(
        "settings",
        "Other settings, guiding and site agree",
        ("records.setting", "records.guiding", "records.site"),
        "bring in the programs' settings on the Records sheet",
        needs=(("records.site", "no program has the site on file"),),
    ),
    Condition(
        "cooling",
        "The cooler is on and the set temperature reached",
        (
            "cooling.on",
            "cooling.setpoint",
            "cooling.reach",
            "cooling.reserve",
            "camera.setpoint",
            "records.temperature",
            "plan.cool",
            "plan.warm_up",
        ),
        "state the set temperature and the cooler, and read frames' headers",
        needs=(
            ("cooling.on", "no set temperature is stated"),
            ("cooling.setpoint", "no set temperature is stated"),
        ),
    ),
    Condition(
        "filters",
        "Filters: named, in order, none left over, all that are asked for",
        ("wheel.order", "wheel.leftover", "plan.filters"),
        "name the wheel's slots, and bring in the programs' lists",
        needs=(
            ("wheel.order", "no program has the filters' order on file"),
            ("wheel.leftover", "the wheel's slots are not named"),
        ),
    ),
    Condition(
        "focuser",
        "The focuser turns the right way, inside its travel, finely enough",
        ("records.direction", "focuser.travel", "focuser.step", "plan.refocus"),
        "state the focuser's range, position, step and direction",
        needs=(
            ("focuser.travel", "no focuser is among the devices"),
            ("focuser.step", "the focuser's step is not stated"),
        ),
    ),
    Condition(
        "guiding",
        "The guider is connected and can do what is asked",
        (
            "plan.guide",
            "plan.dither",
            "guiding.settle",
            "guiding.centroid",
            "guiding.calibration",
            "guiding.dither",
            "guiding.flexure",
        ),
        "state guiding and dithering in the plan, and the guide settings",
    ),
    Condition(
        "mount",
        "The mount can flip and park",
        ("plan.flip", "plan.park", "rotation.exposure"),
        "state the plan's actions, and the mount",
        needs=(
            ("plan.flip", "the plan does not say whether the mount flips"),
            ("plan.park", "the plan does not say whether the mount parks"),
        ),
    ),
    Condition(
        "calibration",
        "Lights have their darks, flats and bias",
        ("frames.partners", "frames.header", "frames.exposure", "frames.broken"),
        "read a folder of frames on the Records sheet",
        needs=(("frames.partners", "no light frames were read"),),
    ),
    Condition(
        "storage",
        "There is room for the night, and a second copy",
        ("storage.space", "storage.copy"),
        "state the computer's disks, and the planned frames",
        needs=(
            ("storage.space", "no disk and no planned frames are stated"),
            ("storage.copy", "no disk is stated"),
        ),
    ),
    Condition(
        "power",
        "Supplies have reserve and last the night",
        ("power.supply", "power.battery"),
        "state the supplies, and what each device draws",
        needs=(("power.supply", "no supply is stated"),),
    ),
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


def conditions(reckoning: Reckoning) -> list[ConditionVerdict]:
    """Return every condition that applies to a rig, in the order of the evening.

    A condition fails with any of its findings; it holds only where every finding that it needs could be had, and all
    hold.
    """
    paired = any(record.pair is not None for record in reckoning.rig.records)
    by_id: dict[str, list[Finding]] = {}
    for finding in reckoning.findings:
        by_id.setdefault(finding.id, []).append(finding)
    found = []
    for condition in CONDITIONS:
        if condition.applies == "pair" and not paired:
            continue
        findings = tuple(finding for key in condition.findings for finding in by_id.get(key, ()))
        missing = [why for key, why in condition.needs if key not in by_id and _asked(reckoning, key)]
        found.append(_judge(condition, findings, missing))
    return found


def _asked(reckoning: Reckoning, finding_id: str) -> bool:
    """Return whether a finding is one that this rig needs at all: an alt-azimuth mount does not flip."""
    mount = reckoning.rig.mount
    return not (finding_id == "plan.flip" and mount is not None and mount.kind == "alt_azimuth")


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


def overall(found: list[ConditionVerdict]) -> str:
    """Return how the evening stands, in a sentence."""
    counts = {verdict: sum(one.verdict is verdict for one in found) for verdict in Verdict}
    if counts[Verdict.FAILS]:
        return f"Not ready: {counts[Verdict.FAILS]} of {len(found)} conditions fail"
    if counts[Verdict.UNPROVEN] or counts[Verdict.TIGHT]:
        open_ones = [f"{counts[v]} {v}" for v in (Verdict.UNPROVEN, Verdict.TIGHT) if counts[v]]
        return f"Nothing fails; of {len(found)} conditions {' and '.join(open_ones)}"
    return f"Ready: all {len(found)} conditions hold"

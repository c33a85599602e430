"""Findings: what agrees and what does not, each with its arithmetic, source and remedy.

A finding is a function of a :class:`~wyntaxis.core.reckon.Reckoning`, registered under its id with :func:`finding`.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

from wyntaxis.core.ledger import Verdict

if TYPE_CHECKING:
    from wyntaxis.core.reckon import Reckoning
    from wyntaxis.core.rig.edit import Change
    from wyntaxis.core.rig.model import Rig


@dataclass(frozen=True)
class Remedy:
    """What to change, in plain words, and the edit that does it where one edit can."""

    text: str
    change: Change | None = None


NO_REMEDY = Remedy("")


@dataclass(frozen=True)
class Finding:
    """One finding on a rig. ``subject`` is the id of the part or quantity it speaks of."""

    id: str
    verdict: Verdict
    subject: str
    title: str
    arithmetic: tuple[str, ...]
    remedy: Remedy
    source: str
    quantities: tuple[str, ...] = ()

    def parts(self, rig: Rig) -> set[str]:
        """Return the ids of the parts that the finding lies at: its subject, and what its remedy changes."""
        device = next((device for device in rig.devices if device.id == self.subject), None)
        subjects = {self.subject, device.part if device else None}
        found = {part.id for _, part in rig.parts() if part.id in subjects}
        if self.remedy.change is not None:
            places = [place for place, _ in self.remedy.change.values]
            found |= {part.id for path, part in rig.parts() if any(place[: len(path)] == path for place in places)}
        return found

    def as_json(self) -> dict[str, object]:
        """Return the finding as ``wyntaxis check --json`` prints it."""
        return {
            "id": self.id,
            "verdict": str(self.verdict),
            "subject": self.subject,
            "title": self.title,
            "arithmetic": list(self.arithmetic),
            "remedy": self.remedy.text,
            "source": self.source,
        }


FindingFunction = Callable[["Reckoning"], Iterable[Finding]]
REGISTRY: dict[str, FindingFunction] = {}
ORDER = (
    "spacing.main",
    "spacing.guide",
    "sampling.main",
    "scale.guide",
    "coverage.image_circle",
    "scale.measured",
    "joints.mate",
    "joints.depth",
    "joints.seat",
    "illumination.corner",
    "prism.shade",
    "prism.light",
    "reach.main",
    "load.focuser",
    "guiding.centroid",
    "guiding.calibration",
    "guiding.dither",
    "guiding.flexure",
    "rotation.exposure",
    "legs.agree",
    "records.focal_length",
    "records.pixel",
    "records.gain",
    "records.offset",
    "records.temperature",
    "records.driver",
    "records.connection",
    "records.direction",
    "records.traffic",
    "records.guiding",
    "records.site",
    "records.setting",
    "records.sides",
    "records.duplicate",
    "records.role",
    "records.port",
    "wheel.order",
    "wheel.leftover",
    "driver.order",
    "devices.measured",
    "devices.parts",
    "camera.offset",
    "camera.gain",
    "camera.read_noise",
    "camera.full_well",
    "camera.linearity",
    "camera.dark_current",
    "camera.setpoint",
    "camera.glow",
    "flats.level",
    "cooling.reach",
    "cooling.reserve",
    "cooling.rate",
    "cooling.stability",
    "cooling.on",
    "cooling.setpoint",
    "focuser.travel",
    "focuser.step",
    "focuser.backlash",
    "focuser.triggers",
    "rotator.range",
    "devices.simulated",
    "guiding.settle",
    "plan.cool",
    "plan.guide",
    "plan.dither",
    "plan.refocus",
    "plan.flip",
    "plan.park",
    "plan.warm_up",
    "plan.filters",
    "plan.night",
    "storage.space",
    "storage.copy",
    "power.supply",
    "power.battery",
    "ports.present",
    "ports.suspend",
    "ports.speed",
    "ports.hub",
    "ports.traffic",
    "ports.power",
    "ports.usbfs_memory",
    "ports.serial_name",
    "ports.identity",
    "ports.permission",
    "frames.header",
    "frames.partners",
    "frames.exposure",
    "frames.broken",
)
"""In which order findings are told: what stops the night first."""


def finding(finding_id: str) -> Callable[[FindingFunction], FindingFunction]:
    """Register a function as the one that yields the findings of this id."""

    def register(function: FindingFunction) -> FindingFunction:
        if finding_id in REGISTRY or finding_id not in ORDER:
            raise ValueError(f"the finding {finding_id} must stand in ORDER and have one function")
        REGISTRY[finding_id] = function
        return function

    return register


def all_findings(reckoning: Reckoning) -> Iterator[Finding]:
    """Yield every finding on a reckoning, in :data:`ORDER`."""
    from wyntaxis.core.findings import (  # noqa: F401  (they register on import)
        cooling,
        coverage,
        devices,
        frames,
        guiding,
        joints,
        legs,
        light,
        measured_scale,
        mechanics,
        plan,
        ports,
        records,
        scale,
        sensor,
        spacing,
    )

    for finding_id in ORDER:
        yield from REGISTRY[finding_id](reckoning)

"""What a finding is: a verdict on one subject, in words, with the change that mends it."""

from __future__ import annotations

from dataclasses import dataclass

from wyntaxis.core.ledger import Verdict
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

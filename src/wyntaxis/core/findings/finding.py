"""What a finding is: a verdict on one subject, in words, with the edit that cures it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from wyntaxis.core.findings.message import Named
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantity_kinds import QUANTITY_KINDS
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.model import Rig


@dataclass(frozen=True)
class Remedy:
    """What to change, in plain words, and the edit that does it where one edit can."""

    text: str
    change: Change | None = None
    button: str = ""
    """Label of the button that makes the change; empty for "Apply"."""


NO_REMEDY = Remedy("")


def subject_title(rig: Rig, subject: str) -> str:
    """Return what a finding's subject is called; empty where it has neither name nor label."""
    if subject in QUANTITY_KINDS:
        return QUANTITY_KINDS[subject].label
    telescopes = [rig.telescope, *([rig.guiding.telescope] if rig.guiding.telescope else [])]
    titles = {telescope.id: telescope.title for telescope in telescopes}
    titles |= {part.id: part.title for _, part in rig.parts()}
    titles |= {device.id: device.title for device in rig.devices}
    titles |= {supply.id: supply.title for supply in rig.supplies}
    titles |= {record.id: record.name for record in rig.records}
    return titles.get(subject, "")


def some_fail(findings: Iterable[Finding]) -> bool:
    """Return whether some findings fail that are not accepted: a command's exit code says so."""
    return any(finding.verdict is Verdict.FAILS and not finding.accepted for finding in findings)


@dataclass(frozen=True)
class Finding:
    """One finding on a rig. ``subject`` is the id of the part, device or quantity that it is about."""

    id: str
    verdict: Verdict
    subject: str
    title: str
    arithmetic: tuple[str, ...]
    remedy: Remedy
    source: str
    quantities: tuple[str, ...] = ()
    """Ids of the rows that it is about."""
    values: Mapping[str, Named] = field(default_factory=dict, hash=False)
    """The named values that its sentences are made with."""
    assumed: tuple[str, ...] = ()
    """Paths of assumed values that it depends on."""
    accepted: str = ""
    """Why the imager accepts it; empty where it is not accepted."""
    accepted_on: str = ""

    @property
    def is_open(self) -> bool:
        """Whether something is left to do about it: it does not hold, and is not accepted."""
        return self.verdict is not Verdict.HOLDS and not self.accepted

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
            **({"assumed": list(self.assumed)} if self.assumed else {}),
            **({"accepted": self.accepted} if self.accepted else {}),
        }

"""Everything computed from one rig, as findings, worklist and desk read it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property

from wyntaxis.core.findings.conditions import ConditionVerdict
from wyntaxis.core.findings.finding import Finding
from wyntaxis.core.ledger import Verdict, worst
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.records.audit import HeaderAudit
from wyntaxis.core.records.compare import Matrix, matrix
from wyntaxis.core.records.entries import EntryFault, faults_of_lists


@dataclass(frozen=True)
class Evaluation(Numbers):
    """The numbers of a rig, what records and headers say against them, the findings and the conditions."""

    frames: HeaderAudit | None = None
    findings: tuple[Finding, ...] = ()
    conditions: Sequence[ConditionVerdict] = field(default=())

    @cached_property
    def matrix(self) -> Matrix:
        """Every record against the rig."""
        return matrix(self)

    @cached_property
    def entry_faults(self) -> list[tuple[str, list[EntryFault]]]:
        """What the lists of devices, the rig's own and the programs', say against themselves and the rig."""
        return faults_of_lists(self.rig)

    def finding(self, finding_id: str) -> Finding | None:
        """Return the first finding of that id, or None."""
        return next((finding for finding in self.findings if finding.id == finding_id), None)

    @property
    def verdict(self) -> Verdict:
        """The gravest verdict of all findings."""
        return worst(finding.verdict for finding in self.findings)

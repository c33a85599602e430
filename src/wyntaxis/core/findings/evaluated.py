"""Everything computed from one rig, as findings, worklist and desk read it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, fields, replace
from functools import cached_property
from typing import Any, Self

from wyntaxis.core.findings.conditions import ConditionVerdict
from wyntaxis.core.findings.finding import Finding
from wyntaxis.core.ledger import Quantity, Verdict, worst
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.records.audit import HeaderAudit
from wyntaxis.core.records.compare import Matrix, matrix
from wyntaxis.core.records.entries import EntryFault, faults_of_lists


@dataclass(frozen=True)
class Evaluation(Numbers):
    """The numbers of a rig, what records and headers say against them, the findings and the conditions."""

    rows: dict[str, Quantity] = field(default_factory=dict, repr=False)
    """Every number by id: the rig's own quantities, and those of its devices and other things."""
    frames: HeaderAudit | None = None
    findings: tuple[Finding, ...] = ()
    conditions: Sequence[ConditionVerdict] = field(default=())

    @cached_property
    def matrix(self) -> Matrix:
        """Every record against the rig."""
        return matrix(self)

    @property
    def entry_faults(self) -> Sequence[tuple[str, list[EntryFault]]]:
        """What the lists of devices, the rig's own and the programs', say against themselves and the rig."""
        return self.evaluator.memoized_each("entry faults", lambda: faults_of_lists(self.rig))

    def tracked(self) -> Self:
        """Return the same evaluation, which notes what is read of the document and which rows are asked for."""
        if not self.evaluator.traced or self.rig is self.evaluator.rig:
            return self
        return replace(super().tracked(), rows=self.evaluator.tracked_rows(self.rows))

    def with_results(self, **reported: Any) -> Evaluation:
        """Return the evaluation with more evidence; what was computed on the way is kept."""
        more, declared = replace(self, **reported), {own.name for own in fields(self)}
        vars(more).update({name: value for name, value in vars(self).items() if name not in declared})
        return more

    def finding(self, finding_id: str) -> Finding | None:
        """Return the first finding of that id, or None."""
        return next((finding for finding in self.findings if finding.id == finding_id), None)

    @property
    def verdict(self) -> Verdict:
        """The gravest verdict of all findings."""
        return worst(finding.verdict for finding in self.findings)

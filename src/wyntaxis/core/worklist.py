"""How the steps of the work stand: read off what quantities and findings declare."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import Finding
from wyntaxis.core.findings.registry import declared
from wyntaxis.core.ledger import Verdict, worst
from wyntaxis.core.quantities.rows import is_judged
from wyntaxis.core.quantity_kinds import QUANTITY_KINDS
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.steps import GUIDE_BRANCH, READY, Step, steps


@dataclass(frozen=True)
class Tally:
    """How a step stands: its gravest verdict (None where it judges nothing), and how many numbers have each."""

    step: Step
    verdict: Verdict | None
    counts: dict[Verdict, int]
    accepted: int = 0
    """How many findings are accepted; they are in no count."""

    @property
    def open_marks(self) -> tuple[tuple[Verdict, int], ...]:
        """What is open, the gravest first: how many numbers have each verdict but that of holding."""
        order = (Verdict.FAILS, Verdict.TIGHT, Verdict.UNPROVEN)
        return tuple((verdict, self.counts[verdict]) for verdict in order if self.counts.get(verdict))

    @property
    def text(self) -> str:
        """Return the counts in words: ``2 fail, 1 holds, 1 unproven``; the step's caption where there are none."""
        words = {
            Verdict.FAILS: ("fails", "fail"),
            Verdict.TIGHT: ("tight", "tight"),
            Verdict.HOLDS: ("holds", "hold"),
            Verdict.UNPROVEN: ("unproven", "unproven"),
        }
        parts = [
            f"{self.counts[verdict]} {words[verdict][self.counts[verdict] != 1]}"
            for verdict in words
            if self.counts.get(verdict)
        ]
        parts += [f"{self.accepted} accepted"] if self.accepted else []
        return ", ".join(parts) or self.step.caption


def quantities_of(step: Step) -> tuple[str, ...]:
    """Return the ids of the quantities that a step's ledger shows, in their order there."""
    own = [kind for kind in QUANTITY_KINDS.values() if kind.step is step]
    return tuple(kind.id for kind in sorted(own, key=lambda kind: kind.place))


def belongs(step: Step, finding: Finding) -> bool:
    """Return whether a finding is told at a step: by what it declares, or by the quantity that it compares."""
    return step in _steps_of(finding)


def _steps_of(finding: Finding) -> set[Step | None]:
    own = declared(finding.id)
    if own.listed.at_quantity:
        return {QUANTITY_KINDS[key].step for key in finding.quantities if key in QUANTITY_KINDS}
    return {own.step}


_NEEDS: dict[Step, Callable[[Rig], bool]] = {GUIDE_BRANCH: lambda rig: rig.guiding.kind != "none"}
"""What a rig must have for a step to apply to it."""


def step_applies(rig: Rig, step: Step) -> bool:
    """Return whether a rig has what a step speaks of."""
    return step not in _NEEDS or _NEEDS[step](rig)


def tallies(evaluation: Evaluation) -> list[Tally]:
    """Return how every step stands, in the order of the worklist."""
    entries: dict[Step, list[Finding]] = {step: [] for step in steps()}
    for finding in evaluation.findings:
        for step in _steps_of(finding):
            if step is not None:
                entries[step].append(finding)
    return [_tally(evaluation, step, entries[step]) for step in steps()]


def _tally(evaluation: Evaluation, step: Step, entries: Sequence[Finding]) -> Tally:
    if step is READY:
        stand = [condition.verdict for condition in evaluation.conditions if condition.applies]
        accepted = sum(len(condition.accepted) for condition in evaluation.conditions)
        return Tally(step, worst(stand) if stand else None, dict(Counter(stand)), accepted)
    if not step_applies(evaluation.rig, step):
        return Tally(step, None, {})
    # A number that claims nothing has no verdict, and is not counted.
    lived_with = {key for f in entries if f.accepted for key in f.quantities}
    rows = [evaluation.quantities[key] for key in quantities_of(step) if key not in lived_with]
    verdicts = [row.verdict for row in rows if is_judged(row)]
    found = [f.verdict for f in entries if not f.accepted]
    # A number that is only unproven does not outweigh a finding that holds, unless it rests on what nobody gave.
    proven: list[Verdict] = [v for v in (*verdicts, *found) if v is not Verdict.UNPROVEN]
    if any(row.assumed for row in rows) or any(f.assumed for f in entries):
        proven.append(Verdict.UNPROVEN)
    verdict = worst(proven) if verdicts or found else None
    # A step that has no numbers of its own counts its findings.
    return Tally(step, verdict, dict(Counter(verdicts or found)), sum(bool(f.accepted) for f in entries))


def step_of(finding: Finding) -> Step:
    """Return the step at which a finding is told."""
    return next((step for step in steps() if belongs(step, finding)), steps()[0])


def findings_of(evaluation: Evaluation, step: Step) -> Sequence[Finding]:
    """Return the findings told at a step."""
    return [finding for finding in evaluation.findings if belongs(step, finding)]

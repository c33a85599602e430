"""Findings that the imager accepts, with the reason and the number at which it was accepted."""

from __future__ import annotations

from collections.abc import Mapping

from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import Finding
from wyntaxis.core.ledger import Quantity
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.model import Accepted, Rig

_MAX_TEXT = 400
"""A finding without a number is recognised by so much of its arithmetic."""


def accepted_entry(rig: Rig, finding_id: str, subject: str) -> Accepted | None:
    """Return the rig's acceptance of a finding on a subject, None where there is none."""
    return next((own for own in rig.accepted if (own.finding, own.subject) == (finding_id, subject)), None)


def number_of(finding: Finding, rows: Mapping[str, Quantity]) -> float | str:
    """Return the number that a finding is about, rounded as its row shows it; its arithmetic where it has none.

    Parameters
    ----------
    finding, rows
        The finding, and every row of the rig by id.

    Returns
    -------
    float or str
        In the row's unit.
    """
    row = next((rows[key] for key in finding.quantities if key in rows), None)
    if row is not None and row.best is not None:
        return round(row.best.value, row.kind.decimals)
    return (" ".join(finding.arithmetic) or finding.title)[:_MAX_TEXT]


def acceptance(evaluation: Evaluation, finding: Finding, reason: str, date: str) -> Change:
    """Return the change that accepts a finding, in place of an older acceptance of it.

    Parameters
    ----------
    evaluation, finding
        The evaluation, and one of its findings.
    reason, date
        Why the imager accepts it, and since when (ISO 8601).

    Returns
    -------
    Change
        For the rig, which refuses a reason that it cannot hold.
    """
    entry = {
        "finding": finding.id,
        "subject": finding.subject,
        "reason": reason,
        "date": date,
        "value": number_of(finding, evaluation.rows),
    }
    return Change.of(f"Accept: {finding.title[:60]}", ("accepted",), [*_others(evaluation.rig, finding), entry])


def withdrawal(rig: Rig, finding: Finding) -> Change:
    """Return the change that takes a finding's acceptance back."""
    return Change.of(f"No longer accept: {finding.title[:60]}", ("accepted",), _others(rig, finding) or None)


def _others(rig: Rig, finding: Finding) -> list[dict[str, object]]:
    own = accepted_entry(rig, finding.id, finding.subject)
    return [entry.model_dump(mode="json") for entry in rig.accepted if entry is not own]


def is_same(now: float | str, before: float | str) -> bool:
    """Return whether a finding's number is still the one at which it was accepted."""
    if isinstance(now, str) or isinstance(before, str):
        return now == before
    return abs(now - before) <= 1e-9 * max(abs(now), abs(before), 1.0)

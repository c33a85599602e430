"""From a statement to its finding: the sentences are made, and assumed, out of date and accepted decided, once."""

from __future__ import annotations

from dataclasses import replace

from wyntaxis.core.findings.acceptance import accepted_entry, is_same, number_of
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import Finding, Remedy
from wyntaxis.core.findings.marking import Marks, out_of_date_words
from wyntaxis.core.findings.message import render
from wyntaxis.core.findings.registry import Declared, Statement
from wyntaxis.core.ledger import OutOfDate, Verdict
from wyntaxis.core.quantities.read_tracking import Reads


def judged(evaluation: Evaluation, declared: Declared, statement: Statement, reads: Reads, marks: Marks) -> Finding:
    """Return the finding that a statement makes.

    Parameters
    ----------
    evaluation
        The evaluation, for what the rig accepts.
    declared, statement, reads
        What the finding declares, one of its statements, and what was read for that.
    marks
        What is assumed and out of date.

    Returns
    -------
    Finding
        Not verified where it depends on an assumed or out-of-date value, with that reason.
    """
    remedy = render(declared.remedy_of(statement.cure), statement.values)
    finding = Finding(
        declared.id,
        statement.verdict,
        statement.subject,
        render(declared.title_of(statement.case), statement.values),
        statement.lines,
        Remedy(remedy, statement.change, statement.button),
        declared.source,
        statement.rows,
        statement.values,
    )
    entry = marks.out_of_date_of(statement, reads)
    if entry is not None:
        finding = _out_of_date(finding, entry)
    assumed = marks.assumed_of(statement, reads)
    if assumed:
        finding = _assumed(finding, assumed, marks)
    return _accepted(evaluation, finding, marks)


def _out_of_date(finding: Finding, entry: OutOfDate) -> Finding:
    return replace(
        finding,
        verdict=Verdict.UNPROVEN,
        title=f"{finding.title} – measured before a change",
        arithmetic=(*finding.arithmetic, out_of_date_words(entry)),
        remedy=Remedy(
            "Measure it again, or confirm on the Next measurements sheet, with a reason, that it is still valid."
        ),
    )


def _assumed(finding: Finding, paths: tuple[str, ...], marks: Marks) -> Finding:
    lines = (*finding.arithmetic, *(f"assumed, not entered: {marks.labels[path]}" for path in paths))
    if finding.verdict is Verdict.UNPROVEN and not finding.quantities and finding.remedy.text:
        # Something else is missing first: the finding's own title and remedy say what.
        return replace(finding, arithmetic=lines, assumed=paths)
    words = marks.in_short(paths)
    return replace(
        finding,
        verdict=Verdict.UNPROVEN,
        title=f"{finding.title} – if {words} {'is' if len(paths) == 1 else 'are'} as assumed",
        arithmetic=lines,
        remedy=Remedy(f"Enter {words} to get a verdict."),
        assumed=paths,
    )


def _accepted(evaluation: Evaluation, finding: Finding, marks: Marks) -> Finding:
    entry = accepted_entry(evaluation.rig, finding.id, finding.subject)
    if entry is None or finding.verdict is Verdict.HOLDS:
        return finding
    now, before = number_of(finding, marks.rows), entry.value
    if before is None or is_same(now, before):
        return replace(finding, accepted=entry.reason, accepted_on=entry.date or "")
    since = f" on {entry.date}" if entry.date else ""
    lapsed = f"accepted{since} ({entry.reason}) at {before}; no longer accepted, as it is {now} now"
    return replace(finding, arithmetic=(*finding.arithmetic, lapsed))

"""What is said of findings beyond their verdict: that they rest on what nobody gave, or that they are accepted."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from wyntaxis.core.files.errors import path_text
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import Finding, Remedy
from wyntaxis.core.findings.registry import Found
from wyntaxis.core.ledger import ConflictingFigures, OutOfDate, Quantity, Verdict
from wyntaxis.core.quantities.read_tracking import Reads, reads_of_value
from wyntaxis.core.rig.dependencies import SPACING_ERROR, out_of_date_measurements
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.figures import conflict_words, conflicting_paths, spread_of
from wyntaxis.core.rig.marks import mark_label, marked_field, marked_leaves
from wyntaxis.core.rig.model import Accepted, Rig

MAX_NAMED = 4
"""How many assumed values a finding names."""


def with_caveats(bare: Evaluation, found: Sequence[Found]) -> Evaluation:
    """Return an evaluation whose rows and findings know which assumed and out-of-date values they depend on.

    Parameters
    ----------
    bare
        The evaluation, with its rows.
    found
        Its findings, each with what was read for it.

    Returns
    -------
    Evaluation
        Whatever depends on an assumed or out-of-date value is unproven, with that reason; verdicts of what is accepted
        stay.
    """
    out_of_date = out_of_date_measurements(bare.rig)
    marks = _Marks(bare, out_of_date)
    findings = [(finding, reads) for entry in found for finding, reads in entry.findings]
    rows = bare.rows
    if out_of_date:
        rows = {key: _outdated(row, marks.out_of_date_of(row)) for key, row in rows.items()}
        findings = [(_by_out_of_date(f, marks.out_of_date_of_finding(f, reads, rows)), reads) for f, reads in findings]
    if bare.rig.assumed:
        by_row = {key: paths for key in rows if (paths := marks.assumed_in(bare.evaluator.reads(key)))}
        rows = {key: replace(row, assumed=by_row[key]) if key in by_row else row for key, row in rows.items()}
        findings = [(_unproven(f, marks.assumed_of_finding(f, reads, by_row), marks), reads) for f, reads in findings]
    own = {key: rows.get(key, row) for key, row in bare.quantities.items()}
    bare = bare.with_results(rows=rows, quantities=own, findings=tuple(finding for finding, _ in findings))
    if conflicting_paths(bare.rig):
        bare = _with_conflicting(bare)
    if bare.rig.accepted:
        bare = bare.with_results(findings=tuple(_accepted(bare, finding) for finding in bare.findings))
    return bare


def doubts(bare: Evaluation, found: Sequence[Found]) -> dict[str, str]:
    """Return by finding id why a matter in which nothing is wrong is not proven, where assumed values were read for it.

    Parameters
    ----------
    bare, found
        The evaluation, and its findings with what was read for them.

    Returns
    -------
    dict of str to str
        A few words each. With another value there might be one more finding, and it might fail.
    """
    if not bare.rig.assumed:
        return {}
    marks = _Marks(bare, ())
    entries = {entry.declared.id: marks.assumed_in(entry.reads) for entry in found}
    return {
        key: f"assumed: {in_short([marks.labels[path] for path in paths])}" for key, paths in entries.items() if paths
    }


class _Marks:
    """What is assumed and out of date in a rig, against what was read."""

    def __init__(self, evaluation: Evaluation, out_of_date: Sequence[OutOfDate]) -> None:
        self._evaluation = evaluation
        self._assumed = _keys_of(evaluation.rig, evaluation.rig.assumed)
        self.labels = {path: mark_label(evaluation.rig, path) for path in evaluation.rig.assumed}
        self._by_row = {entry.row_id: entry for entry in out_of_date}
        # One that is judged for another row's sake, such as the spacing's error by a solved scale, is no mark itself.
        own = {entry.row_id: entry for entry in out_of_date if entry.row_id != SPACING_ERROR}
        self._by_path = [(reads_of_value(f"{path_text(entry.path)}.value"), entry) for entry in own.values()]
        self._known: dict[Reads, tuple[str, ...]] = {}

    def assumed_in(self, reads: Reads) -> tuple[str, ...]:
        """Return which assumed values are among what was read."""
        if reads not in self._known:  # what comes of one piece of work shares what it read
            self._known[reads] = tuple(path for path, keys in self._assumed.items() if not keys.isdisjoint(reads))
        return self._known[reads]

    def assumed_of_finding(
        self, finding: Finding, reads: Reads, by_row: Mapping[str, tuple[str, ...]]
    ) -> tuple[str, ...]:
        """Return which assumed values a finding depends on.

        One that fails by its number fails by that number's values alone: what else was read served the remedy.
        """
        of_rows = tuple(dict.fromkeys(path for key in finding.quantities for path in by_row.get(key, ())))
        if of_rows or (finding.quantities and finding.verdict is Verdict.FAILS):
            return of_rows
        return self.assumed_in(reads)

    def out_of_date_of(self, row: Quantity) -> OutOfDate | None:
        """Return the out-of-date measurement that a row shows, or was worked out with."""
        if row.id in self._by_row:
            return self._by_row[row.id] if row.measured is not None else None
        return self._out_of_date_in(self._evaluation.evaluator.reads(row.id))

    def out_of_date_of_finding(self, finding: Finding, reads: Reads, rows: Mapping[str, Quantity]) -> OutOfDate | None:
        """Return the out-of-date measurement that a finding depends on."""
        of_rows = [
            rows[key].out_of_date for key in finding.quantities if key in rows and rows[key].out_of_date is not None
        ]
        if of_rows or (finding.quantities and finding.verdict is Verdict.FAILS):
            return of_rows[0] if of_rows else None
        return self._out_of_date_in(reads)

    def _out_of_date_in(self, reads: Reads) -> OutOfDate | None:
        return next((entry for keys, entry in self._by_path if not keys.isdisjoint(reads)), None)


def _keys_of(rig: Rig, texts: Sequence[str]) -> dict[str, Reads]:
    """Return by marked path every read that changes with one of its values."""
    return {text: frozenset().union(*(reads_of_value(path) for path in marked_leaves(rig, [text]))) for text in texts}


def _outdated(row: Quantity, entry: OutOfDate | None) -> Quantity:
    return row if entry is None else replace(row, out_of_date=entry)


def _by_out_of_date(finding: Finding, entry: OutOfDate | None) -> Finding:
    if entry is None:
        return finding
    return replace(
        finding,
        verdict=Verdict.UNPROVEN,
        title=f"{finding.title} – measured before a change",
        arithmetic=(*finding.arithmetic, out_of_date_words(entry)),
        remedy=Remedy("measure it again, or confirm on the Proofs sheet that it still counts, with the reason"),
    )


def out_of_date_words(entry: OutOfDate) -> str:
    """Return in a line when something was measured, and what has changed since when."""
    measured = f"measured on {entry.measured_on}" if entry.measured_on else "measured, nobody noted when"
    changed = f"changed on {entry.changed_on}" if entry.changed_on else "changed since, nobody noted when"
    return f"{measured}; {changed}: {', '.join(entry.what[:MAX_NAMED])}"


def _with_conflicting(bare: Evaluation) -> Evaluation:
    """Return an evaluation whose rows know what they rest on that makers give otherwise."""
    paths = conflicting_paths(bare.rig)
    entries = {
        text: ConflictingFigures(
            conflict_words(bare.rig, text), *spread_of(bare.rig, text), marked_field(bare.rig, text).unit
        )
        for text in paths
    }
    keys_of = _keys_of(bare.rig, paths)
    by_row = {}
    for key in bare.rows:
        reads = bare.evaluator.reads(key)
        own = tuple(entries[text] for text, keys in keys_of.items() if not keys.isdisjoint(reads))
        if own:
            by_row[key] = own
    rows = {key: replace(row, conflicting=by_row[key]) if key in by_row else row for key, row in bare.rows.items()}
    quantities = {key: rows.get(key, row) for key, row in bare.quantities.items()}
    return bare.with_results(rows=rows, quantities=quantities)


def _unproven(finding: Finding, paths: tuple[str, ...], marks: _Marks) -> Finding:
    if not paths:
        return finding
    labels = marks.labels
    if finding.verdict is Verdict.UNPROVEN and not finding.quantities and finding.remedy.text:
        # It lacks something else first: its own title and remedy say what.
        arithmetic = (*finding.arithmetic, *(f"assumed, not entered: {labels[path]}" for path in paths))
        return replace(finding, arithmetic=arithmetic, assumed=paths)
    words = in_short([labels[path] for path in paths])
    return replace(
        finding,
        verdict=Verdict.UNPROVEN,
        title=f"{finding.title} – if {words} {'is' if len(paths) == 1 else 'are'} as assumed",
        arithmetic=(*finding.arithmetic, *(f"assumed, not given: {labels[path]}" for path in paths)),
        remedy=Remedy(f"enter {words} to get a verdict"),
        assumed=paths,
    )


def in_short(labels: Sequence[str]) -> str:
    """Return assumed values in a few words: ``ring: length 10 mm``, with how many more there are."""
    more = f" and {len(labels) - MAX_NAMED} more" if len(labels) > MAX_NAMED else ""
    return ", ".join(labels[:MAX_NAMED]) + more


# What the imager accepts


def number_of(finding: Finding, rows: Mapping[str, Quantity]) -> float | str:
    """Return the number that a finding speaks of, as its ledger shows it; its arithmetic where it has none.

    Parameters
    ----------
    finding, rows
        The finding, and every row of the rig.

    Returns
    -------
    float or str
        In the row's unit.
    """
    row = next((rows[key] for key in finding.quantities if key in rows), None)
    if row is not None and row.best is not None:
        return round(row.best.value, row.kind.decimals)
    return (" ".join(finding.arithmetic) or finding.title)[:400]


def acceptance(evaluation: Evaluation, finding: Finding, reason: str, date: str) -> Change:
    """Return the change that accepts a finding, in place of an older acceptance of it.

    Parameters
    ----------
    evaluation, finding
        The evaluation, and one of its findings.
    reason, date
        Why the imager lives with it, and since when (ISO 8601).

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
    kept = [own.model_dump(mode="json") for own in evaluation.rig.accepted if not _speaks_of(own, finding)]
    return Change.of(f"Accept: {finding.title[:60]}", ("accepted",), [*kept, entry])


def withdrawal(rig: Rig, finding: Finding) -> Change:
    """Return the change that takes a finding's acceptance back.

    Parameters
    ----------
    rig, finding
        The rig, and the finding.

    Returns
    -------
    Change
        For the rig.
    """
    kept = [own.model_dump(mode="json") for own in rig.accepted if not _speaks_of(own, finding)]
    return Change.of(f"No longer accept: {finding.title[:60]}", ("accepted",), kept or None)


def _speaks_of(entry: Accepted, finding: Finding) -> bool:
    return (entry.finding, entry.subject) == (finding.id, finding.subject)


def _accepted(evaluation: Evaluation, finding: Finding) -> Finding:
    entry = next((own for own in evaluation.rig.accepted if _speaks_of(own, finding)), None)
    if entry is None or finding.verdict is Verdict.HOLDS:
        return finding
    now, before = number_of(finding, evaluation.rows), entry.value
    if before is None or _same(now, before):
        return replace(finding, accepted=entry.reason, accepted_on=entry.date or "")
    since = f" on {entry.date}" if entry.date else ""
    lapsed = f"accepted{since} ({entry.reason}) at {before}, and lapsed: it is {now} now"
    return replace(finding, arithmetic=(*finding.arithmetic, lapsed))


def _same(now: float | str, before: float | str) -> bool:
    if isinstance(now, str) or isinstance(before, str):
        return now == before
    return abs(now - before) <= 1e-9 * max(abs(now), abs(before), 1.0)

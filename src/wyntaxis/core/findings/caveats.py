"""What is said of findings beyond their verdict: that they rest on what nobody gave, or that they are accepted."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import Finding, Remedy
from wyntaxis.core.ledger import Disputed, Quantity, Stale, Verdict
from wyntaxis.core.quantities.legs import reads_of_value
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.figures import dispute_words, disputed_paths, spread_of
from wyntaxis.core.rig.marks import mark_label, marked_field, marked_leaves
from wyntaxis.core.rig.model import Accepted, Rig
from wyntaxis.core.rig.resting import SCALES, stale_legs

MAX_TOLD = 4
"""How many assumed values a finding names."""


def with_caveats(bare: Evaluation) -> Evaluation:
    """Return an evaluation whose rows and findings know what they rest on that nobody gave, and what is accepted.

    Parameters
    ----------
    bare
        The evaluation, with its findings.

    Returns
    -------
    Evaluation
        Whatever rests on an assumed value is unproven, with that reason; verdicts of what is accepted stay.
    """
    stale = {entry.row_id: entry for entry in stale_legs(bare.rig)}
    if stale:
        bare = _with_stale(bare, stale)
    if bare.rig.assumed:
        by_row = _rests_on(bare, bare.rig.assumed)
        rows = {key: replace(row, assumed=by_row[key]) if key in by_row else row for key, row in bare.rows.items()}
        own = {key: rows.get(key, row) for key, row in bare.quantities.items()}
        labels = {path: mark_label(bare.rig, path) for path in bare.rig.assumed}
        found = tuple(_unproven(finding, by_row, labels) for finding in bare.findings)
        bare = bare.with_told(rows=rows, quantities=own, findings=found)
    if disputed_paths(bare.rig):
        bare = _with_disputed(bare)
    if bare.rig.accepted:
        bare = bare.with_told(findings=tuple(_accepted(bare, finding) for finding in bare.findings))
    return bare


def _with_stale(bare: Evaluation, stale: dict[str, Stale]) -> Evaluation:
    """Return an evaluation whose rows and findings know which measurements are stale; what follows from one is too."""
    scale = next((entry for key, entry in stale.items() if key in SCALES), None)
    derived = dict.fromkeys(bare.derived, scale) if scale is not None else {}
    by_row = {key: entry for key, entry in {**derived, **stale}.items() if entry is not None}
    rows = {
        key: replace(row, stale=by_row[key]) if key in by_row and row.measured is not None else row
        for key, row in bare.rows.items()
    }
    own = {key: rows.get(key, row) for key, row in bare.quantities.items()}
    found = tuple(_by_stale(finding, rows) for finding in bare.findings)
    return bare.with_told(rows=rows, quantities=own, findings=found)


def _by_stale(finding: Finding, rows: Mapping[str, Quantity]) -> Finding:
    entries = [rows[key].stale for key in finding.quantities if key in rows and rows[key].stale is not None]
    told = next((entry for entry in entries if entry is not None), None)
    if told is None:
        return finding
    return replace(
        finding,
        verdict=Verdict.UNPROVEN,
        title=f"{finding.title} – measured before a change",
        arithmetic=(*finding.arithmetic, stale_words(told)),
        remedy=Remedy("measure it anew, or confirm on the Proofs sheet that it still counts, with the reason"),
    )


def stale_words(entry: Stale) -> str:
    """Return in a line when something was measured, and what has changed since when."""
    measured = f"measured on {entry.measured_on}" if entry.measured_on else "measured, nobody noted when"
    changed = f"changed on {entry.changed_on}" if entry.changed_on else "changed since, nobody noted when"
    return f"{measured}; {changed}: {', '.join(entry.what[:MAX_TOLD])}"


def _with_disputed(bare: Evaluation) -> Evaluation:
    """Return an evaluation whose rows know what they rest on that makers give otherwise."""
    paths = disputed_paths(bare.rig)
    told = {
        text: Disputed(dispute_words(bare.rig, text), *spread_of(bare.rig, text), marked_field(bare.rig, text).unit)
        for text in paths
    }
    by_row = {key: tuple(told[text] for text in own) for key, own in _rests_on(bare, paths).items()}
    rows = {key: replace(row, disputed=by_row[key]) if key in by_row else row for key, row in bare.rows.items()}
    own = {key: rows.get(key, row) for key, row in bare.quantities.items()}
    return bare.with_told(rows=rows, quantities=own)


def _rests_on(evaluation: Evaluation, texts: Sequence[str]) -> dict[str, tuple[str, ...]]:
    """Return by row which of some paths' values it rests on."""
    rig = evaluation.rig
    known = {text: frozenset().union(*(reads_of_value(path) for path in marked_leaves(rig, [text]))) for text in texts}
    found, told = {}, dict[frozenset[str], tuple[str, ...]]()
    for key in evaluation.rows:
        reads = evaluation.legs.reads(key)
        if reads not in told:  # rows that come of one piece of work share what they read
            told[reads] = tuple(path for path, keys in known.items() if not keys.isdisjoint(reads))
        if told[reads]:
            found[key] = told[reads]
    return found


def _unproven(finding: Finding, by_row: Mapping[str, tuple[str, ...]], labels: Mapping[str, str]) -> Finding:
    paths = tuple(dict.fromkeys(path for key in finding.quantities for path in by_row.get(key, ())))
    if not paths:
        return finding
    words = _in_short([labels[path] for path in paths])
    return replace(
        finding,
        verdict=Verdict.UNPROVEN,
        title=f"{finding.title} – if {words} {'is' if len(paths) == 1 else 'are'} as assumed",
        arithmetic=(*finding.arithmetic, *(f"assumed, not given: {labels[path]}" for path in paths)),
        remedy=Remedy(f"give {words}; until then nothing is proven"),
        assumed=paths,
    )


def _in_short(labels: Sequence[str]) -> str:
    """Return assumed values in a few words: ``ring: length 10 mm``, with how many more there are."""
    more = f" and {len(labels) - MAX_TOLD} more" if len(labels) > MAX_TOLD else ""
    return ", ".join(labels[:MAX_TOLD]) + more


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

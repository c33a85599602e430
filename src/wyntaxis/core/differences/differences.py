"""What differs between two rigs: values with their reasons, numbers, findings that turned, and what died."""

from __future__ import annotations

import copy
from collections.abc import Sequence
from dataclasses import dataclass, replace

from wyntaxis.core.differences.invalidation import Invalidated, invalidations, newly_out_of_date, records_to_retype
from wyntaxis.core.differences.paths import PathChange, changes_between, value_named
from wyntaxis.core.evaluation import Evaluation, evaluate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.findings.finding import Finding
from wyntaxis.core.history.entries import Entry
from wyntaxis.core.history.states import RigHistory, patched
from wyntaxis.core.json_values import JsonObject, JsonValue
from wyntaxis.core.ledger import Quantity, Verdict
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.marks import marked_field
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.out_of_date import out_of_date_measurements
from wyntaxis.core.rig.parts import Part
from wyntaxis.core.rig.store import document_of

SAME = 1e-9
"""Numbers closer than this, relative, are one."""


@dataclass(frozen=True)
class ValueChange:
    """A value that differs, in words, and the save that changed it last where a history tells."""

    change: PathChange
    label: str
    by: Entry | None = None

    def as_json(self) -> JsonObject:
        """Return it as ``wyntaxis differ --json`` prints it."""
        return {
            "path": self.change.text,
            "label": self.label,
            "before": self.change.before,
            "after": self.change.after,
            "reason": self.by.reason if self.by is not None else None,
            "date": self.by.date if self.by is not None else None,
        }


@dataclass(frozen=True)
class NumberChange:
    """A number that differs: its row after the change (before it, where it is gone), and both values."""

    row: Quantity
    before: float | None
    after: float | None

    def as_json(self) -> JsonObject:
        """Return it as ``wyntaxis differ --json`` prints it."""
        kind = self.row.kind
        return {"id": kind.id, "label": kind.label, "unit": kind.unit, "before": self.before, "after": self.after}


@dataclass(frozen=True)
class Flip:
    """A finding whose verdict turned; None where there was, or is, none."""

    finding: Finding
    before: Verdict | None
    after: Verdict | None

    def as_json(self) -> JsonObject:
        """Return it as ``wyntaxis differ --json`` prints it."""
        return {
            "id": self.finding.id,
            "subject": self.finding.subject,
            "title": self.finding.title,
            "before": None if self.before is None else str(self.before),
            "after": None if self.after is None else str(self.after),
        }


@dataclass(frozen=True)
class Differences:
    """Everything that differs between two rigs, each as one train."""

    before: Rig
    after: Rig
    values: tuple[ValueChange, ...]
    numbers: tuple[NumberChange, ...]
    flips: tuple[Flip, ...]
    invalidated: tuple[Invalidated, ...]

    def as_json(self) -> list[JsonObject]:
        """Return them as ``wyntaxis differ --json`` prints them: one list, each entry with what it is of.

        Every entry has a path, what was before and is after, a reason and a date: of values as the file has them, of
        numbers, findings and what died by their ids.
        """
        reported = [value.as_json() | {"of": "value"} for value in self.values]
        for change in self.numbers:
            reported.append(_entry("number", "numbers", change.as_json()))
        for flip in self.flips:
            reported.append(_entry("finding", "findings", flip.as_json()))
        for own in self.invalidated:
            invalidated = own.as_json()
            reported.append(
                _entry("died", "died", invalidated | {"id": own.what, "before": "serves", "after": "died"}, own.rule)
            )
        return reported

    @property
    def nothing(self) -> bool:
        """Whether nothing differs."""
        return not (self.values or self.numbers or self.flips or self.invalidated)


def _entry(of: str, group: str, reported: JsonObject, reason: str | None = None) -> JsonObject:
    return {"path": f"{group}.{reported['id']}", "reason": reason, "date": None, "of": of} | reported


def differences_between(before: Rig, after: Rig) -> Differences:
    """Return what differs between two rigs.

    Parameters
    ----------
    before, after
        Each as one train: a variant is taken out of its document first.

    Returns
    -------
    Differences
        Values in the order of the document, numbers in that of the ledger, findings in their own.
    """
    then, now = evaluate(before), evaluate(after)
    values = tuple(
        ValueChange(change, _label(before, after, change))
        for change in changes_between(document_of(before), document_of(after))
    )
    retype = records_to_retype(then, _without_out_of_date(after) or now)
    invalidated = (*invalidations(before, after), *retype, *newly_out_of_date(before, after))
    return Differences(
        before,
        after,
        values,
        tuple(_numbers(then.rows, now.rows)),
        tuple(_flips(then.findings, now.findings)),
        invalidated,
    )


def _without_out_of_date(rig: Rig) -> Evaluation | None:
    """Return a rig's numbers without what was measured before a change; None where nothing is out of date.

    What a program is to be told now is what the rig is now, and not what a frame showed before.
    """
    out_of_date = {entry.path[1] for entry in out_of_date_measurements(rig) if entry.path[0] == "measured"}
    if not out_of_date:
        return None
    fresh = {key: value for key, value in rig.measured.items() if key not in out_of_date}
    return evaluate(rig.model_copy(update={"measured": fresh}))


def _label(before: Rig, after: Rig, change: PathChange) -> str:
    """Return what a value is called: ``ring 12.9: length``; its path where it is shown nowhere."""
    try:
        return marked_field(after if change.after is not None else before, change.text).title
    except (LookupError, ValueError):
        return change.text


def _numbers(then: dict[str, Quantity], now: dict[str, Quantity]) -> list[NumberChange]:
    found = []
    for key in dict.fromkeys([*now, *then]):
        one, other = _best(then.get(key)), _best(now.get(key))
        if one is not None and other is not None:
            if abs(one - other) <= SAME * max(abs(one), abs(other)):
                continue
        elif one is other:
            continue
        found.append(NumberChange(now.get(key) or then[key], one, other))
    return found


def _best(row: Quantity | None) -> float | None:
    return row.best.value if row is not None and row.best is not None else None


def _flips(then: Sequence[Finding], now: Sequence[Finding]) -> list[Flip]:
    """Return findings that turned; one that came or went counts where it does not hold."""
    first = {(finding.id, finding.subject): finding for finding in then}
    last = {(finding.id, finding.subject): finding for finding in now}
    found = []
    for key in dict.fromkeys([*last, *first]):
        one, other = first.get(key), last.get(key)
        verdicts = [own.verdict if own is not None else None for own in (one, other)]
        reported = [verdict for verdict in verdicts if verdict is not None]
        if verdicts[0] == verdicts[1] or reported == [Verdict.HOLDS]:
            continue
        finding = other or one
        assert finding is not None
        found.append(Flip(finding, verdicts[0], verdicts[1]))
    return found


def with_reasons(reported: Differences, history: RigHistory, since: int) -> Differences:
    """Return differences whose values know the save that changed them last.

    Parameters
    ----------
    told
        What differs between an entry of a history and its end.
    history, since
        The history, and the entry that is the earlier of the two.

    Returns
    -------
    Differences
        Values that no line explains stay without.
    """
    by = changed_last(history, [value.change.named for value in reported.values], since)
    values = tuple(replace(value, by=entry) for value, entry in zip(reported.values, by, strict=True))
    return replace(reported, values=values)


def changed_last(history: RigHistory, wanted: Sequence[tuple[str, ...]], since: int = 0) -> list[Entry | None]:
    """Return for each of some values, by named path, the save that changed it last.

    Parameters
    ----------
    history, since
        The history, and the entry from which on it is looked at.
    wanted
        Named paths, see :func:`~wyntaxis.core.differences.paths.value_named`.

    Returns
    -------
    list of Entry or None
        None for what no save since then has changed.
    """
    seen: list[JsonValue] = []
    by: list[Entry | None] = [None] * len(wanted)
    document: JsonValue = None
    for index in range(since, len(history.entries)):
        try:
            document = _next(history, index, document)
        except InputError:
            document = None
            continue
        values = [copy.deepcopy(value_named(document, named)) for named in wanted]
        if seen:
            entry = history.entries[index]
            by = [own if value == was else entry for own, value, was in zip(by, values, seen, strict=True)]
        seen = values
    return by


def _next(history: RigHistory, index: int, document: JsonValue) -> JsonValue:
    """Return the document one entry on: patched where it goes on from the one given, else rebuilt."""
    entry = history.entries[index]
    goes_on = document is not None and entry.before == history.entries[index - 1].after
    if goes_on and entry.rig is None:
        return patched(document, entry.patch or [], entry.line)
    return history.document_at(index)


def swap(rig: Rig, part_id: str, piece: Part) -> Change:
    """Return the edit that puts another piece where a part is; it keeps the part's id, so that what names it stays.

    Raises
    ------
    InputError
        For a part that is not there, or a piece of a kind that cannot stand there.
    """
    found = rig.find(part_id)
    if found is None:
        raise InputError(f'there is no part "{part_id}"; there are: {", ".join(part.id for _, part in rig.parts())}')
    path, part = found
    if (part.kind == "camera") != (piece.kind == "camera"):
        raise InputError(f"{piece.title} cannot be where {part.title} is: one is a camera, the other is not")
    reported = piece.model_dump(mode="json", exclude_unset=True) | {"id": part.id}
    return Change.of(f"{part.title}: {piece.title} in its place", path, reported)

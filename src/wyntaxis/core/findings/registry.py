"""Declaring findings: the step that shows each, the condition that it proves, its sentences, and their order."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache, partial
from types import MappingProxyType
from typing import Protocol

from wyntaxis.core import findings
from wyntaxis.core.findings.conditions import Condition
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.ledger import Quantity, Verdict
from wyntaxis.core.quantities.read_tracking import Reads, TrackedResults
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.steps import Step


class HasId(Protocol):
    """A row, or whatever else is known by its id."""

    @property
    def id(self) -> str: ...


@dataclass(frozen=True)
class Statement:
    """What a finding function yields: a subject, the rows it is about, named values, and an edit that cures it.

    Its sentences are made from the templates that the finding declares, see :mod:`wyntaxis.core.findings.message`.
    """

    subject: str
    rows: tuple[str, ...]
    verdict: Verdict
    case: str
    """Which of the declared titles it takes."""
    cure: str
    """Which of the declared remedies it takes."""
    lines: tuple[str, ...]
    """The arithmetic, line by line."""
    values: Mapping[str, Named] = field(hash=False)
    change: Change | None = None
    button: str = ""

    def with_edit(self, change: Change | None, button: str = "") -> Statement:
        """Return it with the edit that cures it, and the label of its button; empty for "Apply"."""
        return replace(self, change=change, button=button)


def say(
    subject: str,
    about: HasId | Sequence[HasId | None] | None = None,
    verdict: Verdict | None = None,
    named: Mapping[str, Named] = MappingProxyType({}),
    *,
    case: str = "",
    cure: str = "",
    lines: Iterable[str] = (),
) -> Statement:
    """Return a statement; the first row that it is about gives the verdict, unless one is passed.

    Parameters
    ----------
    subject : str
        Id of the part, device or quantity.
    about : Quantity, or sequence of Quantity
        The rows that it is about. What a program has on file may stand for a row.
    verdict : Verdict, optional
        Where it judges something that is no number, or more than the first row.
    named : mapping
        The values that the templates name.
    case : str, optional
        Which of the declared titles to take; that of the verdict where it is left out.
    cure : str, optional
        Which of the declared remedies to take; that of the case where it is left out.
    lines : iterable of str
        The arithmetic.

    Raises
    ------
    ValueError
        When neither a row nor a verdict is given.
    """
    rows = about if isinstance(about, Sequence) else (about,)
    known = [row for row in rows if row is not None]
    if verdict is None:
        first = next((row for row in known if isinstance(row, Quantity)), None)
        if first is None:
            raise ValueError(f"a statement on {subject} has neither a row nor a verdict")
        verdict = first.verdict
    ids = tuple(row.id for row in known)
    case = case or str(verdict)
    return Statement(subject, ids, verdict, case, cure or case, tuple(lines), named)


FindingFunction = Callable[[Evaluation], Iterable[Statement]]
Templates = str | Mapping[str, str]
"""One template for every case, or one each; that of ``""`` serves the cases that have none of their own."""


def _template(templates: Templates, case: str) -> str | None:
    return templates if isinstance(templates, str) else templates.get(case, templates.get(""))


@dataclass(frozen=True)
class Proof:
    """The condition of the night that a finding proves or breaks."""

    condition: Condition
    needed: str = ""
    """What is missing where the condition has no such finding, in a few words; empty where it can do without."""
    rank: int = 0
    """Its place among the findings of its condition, the lowest first; of one rank, that which is listed first."""


@dataclass(frozen=True)
class Listed:
    """Where a finding stands in the list, and at which step it is shown."""

    after: str | None = None
    """The id of the finding that it follows; left out, it comes last."""
    at_quantity: bool = False
    """Whether each of its findings is shown at the step of the number that it is about."""


@dataclass(frozen=True)
class Declared:
    """What a finding declares of itself, see :func:`finding`."""

    id: str
    function: FindingFunction
    step: Step
    source: str
    titles: Templates = field(hash=False)
    remedies: Templates = field(hash=False)
    proves: Proof | None = None
    listed: Listed = Listed()

    def title_of(self, case: str) -> str:
        """Return the template of a case's title; LookupError where it has none."""
        found = _template(self.titles, case)
        if found is None:
            raise LookupError(f"{self.id}: no title for the case {case}")
        return found

    def remedy_of(self, cure: str) -> str:
        """Return the template of a remedy by its case; empty where nothing is to be done."""
        if cure in _NOTHING_TO_DO:
            return "" if isinstance(self.remedies, str) else self.remedies.get(cure, "")
        return _template(self.remedies, cure) or ""


NO_CURE = "none"
"""The remedy of what is not well, and that nothing is to be done about."""
_NOTHING_TO_DO = frozenset({str(Verdict.HOLDS), NO_CURE})

DECLARED: dict[str, Declared] = {}


def finding(
    finding_id: str,
    *,
    step: Step,
    source: str,
    titles: Templates,
    remedies: Templates = "",
    proves: Proof | None = None,
    listed: Listed = Listed(),
) -> Callable[[FindingFunction], FindingFunction]:
    """Declare a function as the one that yields the findings of this id.

    Parameters
    ----------
    step : Step
        The step that shows it.
    source : str
        Where its formula or rule comes from.
    titles, remedies : str, or mapping of str to str
        Templates by case; a case is a verdict unless a statement names another. What holds has no remedy of its own
        accord.
    proves : Proof, optional
        The condition of the night that it proves or breaks.
    listed : Listed
        Where it stands in the list, and at which step.

    Raises
    ------
    ValueError
        When the id has been declared already.
    """

    def declare(function: FindingFunction) -> FindingFunction:
        if finding_id in DECLARED:
            raise ValueError(f"the finding {finding_id} is declared twice")
        DECLARED[finding_id] = Declared(finding_id, function, step, source, titles, remedies, proves, listed)
        in_order.cache_clear()
        return function

    return declare


@lru_cache(maxsize=1)
def in_order() -> tuple[Declared, ...]:
    """Return every finding declared, each after the one that it names: what stops the night comes first.

    Raises
    ------
    ValueError
        When one comes after a finding that is not declared, or two wait for each other.
    """
    _import_all()
    followers: dict[str | None, list[Declared]] = {}
    for item in DECLARED.values():
        if item.listed.after is not None and item.listed.after not in DECLARED:
            raise ValueError(f"{item.id} comes after {item.listed.after}, which no finding is")
        followers.setdefault(item.listed.after, []).append(item)
    ordered: list[Declared] = []
    waiting = list(reversed(followers.get(None, [])))
    while waiting:
        one = waiting.pop()
        ordered.append(one)
        waiting += reversed(followers.get(one.id, []))
    if len(ordered) < len(DECLARED):
        lost = sorted(set(DECLARED) - {entry.id for entry in ordered})
        raise ValueError(f"findings wait for each other: {', '.join(lost)}")
    return tuple(ordered)


def _import_all() -> None:
    """Import every module of this package, so that all findings are declared."""
    for module in pkgutil.iter_modules(findings.__path__):
        importlib.import_module(f"{findings.__name__}.{module.name}")


def declared(finding_id: str) -> Declared:
    """Return what a finding declares of itself; KeyError for an id that none has."""
    in_order()
    return DECLARED[finding_id]


@dataclass(frozen=True)
class Stated:
    """The statements of one finding, each with what was read for it, and all that was read for them."""

    declared: Declared
    statements: tuple[tuple[Statement, Reads], ...]
    reads: Reads


def statements(evaluation: Evaluation, finding_id: str) -> Sequence[Statement]:
    """Return the statements of one finding, made when first asked for; whoever asks depends on what they read."""
    function = declared(finding_id).function
    return evaluation.evaluator.memoized_each(f"finding {finding_id}", partial(function, evaluation.tracked()))


def all_statements(evaluation: Evaluation) -> Iterator[Stated]:
    """Yield the statements of every declared finding of an evaluation, in order."""
    for entry in in_order():
        found = statements(evaluation, entry.id)
        if isinstance(found, TrackedResults):
            yield Stated(entry, found.with_reads, found.all_reads)
        else:
            yield Stated(entry, tuple((statement, frozenset()) for statement in found), frozenset())

"""Declaring findings: where each is told, what it proves, and in which order all are told."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from functools import lru_cache, partial

from wyntaxis.core import findings
from wyntaxis.core.findings.conditions import Condition
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import Finding
from wyntaxis.core.quantities.read_tracking import Reads
from wyntaxis.core.steps import Step

FindingFunction = Callable[[Evaluation], Iterable[Finding]]


@dataclass(frozen=True)
class Declared:
    """What a finding declares of itself.

    ``needed`` says what is missing where it could not be had: then its condition is unproven whatever the others say.
    ``at_quantity`` tells each of its findings at the step of the number that it speaks of.
    """

    id: str
    function: FindingFunction
    step: Step
    condition: Condition | None = None
    after: str | None = None
    needed: str = ""
    at_quantity: bool = False
    rank: int = 0


_declared: dict[str, Declared] = {}


def finding(
    finding_id: str,
    *,
    step: Step,
    condition: Condition | None = None,
    after: str | None = None,
    needed: str = "",
    at_quantity: bool = False,
    rank: int = 0,
) -> Callable[[FindingFunction], FindingFunction]:
    """Declare a function as the one that yields the findings of this id.

    Parameters
    ----------
    step
        Where it is told.
    condition
        The condition of the night that it proves or breaks.
    after
        The id of the finding that it is told after; left out, it comes last.
    needed
        What is missing where the condition has no such finding, in a few words; empty where it can do without.
    at_quantity
        Whether each of its findings is told at the step of the number that it speaks of.
    rank
        Its place among the findings of its condition, the lowest first; of one rank, that which is told first.

    Raises
    ------
    ValueError
        When the id has been declared already.
    """

    def declare(function: FindingFunction) -> FindingFunction:
        if finding_id in _declared:
            raise ValueError(f"the finding {finding_id} is declared twice")
        _declared[finding_id] = Declared(finding_id, function, step, condition, after, needed, at_quantity, rank)
        in_order.cache_clear()
        return function

    return declare


@lru_cache(maxsize=1)
def in_order() -> tuple[Declared, ...]:
    """Return every finding declared, each after the one that it names: what stops the night comes first.

    Raises
    ------
    ValueError
        When one comes after a finding that nobody declares, or two wait for each other.
    """
    _import_all()
    followers: dict[str | None, list[Declared]] = {}
    for item in _declared.values():
        if item.after is not None and item.after not in _declared:
            raise ValueError(f"{item.id} comes after {item.after}, which no finding is")
        followers.setdefault(item.after, []).append(item)
    ordered: list[Declared] = []
    waiting = list(reversed(followers.get(None, [])))
    while waiting:
        one = waiting.pop()
        ordered.append(one)
        waiting += reversed(followers.get(one.id, []))
    if len(ordered) < len(_declared):
        lost = sorted(set(_declared) - {entry.id for entry in ordered})
        raise ValueError(f"findings wait for each other: {', '.join(lost)}")
    return tuple(ordered)


def _import_all() -> None:
    """Import every module of this package, so that all findings are declared."""
    for module in pkgutil.iter_modules(findings.__path__):
        importlib.import_module(f"{findings.__name__}.{module.name}")


def declared(finding_id: str) -> Declared:
    """Return what a finding declares of itself; KeyError for an id that none has."""
    in_order()
    return _declared[finding_id]


@dataclass(frozen=True)
class Found:
    """What the findings of one id are, each with what was read for it, and all that was read for them."""

    declared: Declared
    findings: tuple[tuple[Finding, Reads], ...]
    reads: Reads


def all_findings(evaluation: Evaluation) -> Iterator[Found]:
    """Yield every declared finding of an evaluation, in order.

    Parameters
    ----------
    evaluation
        The evaluation as it is; it is read through its own tracking where that is on.
    """
    tracked = evaluation.tracked()
    for entry in in_order():
        found, reads = evaluation.evaluator.collect_each(partial(entry.function, tracked))
        yield Found(entry, tuple(found), reads)

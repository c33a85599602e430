"""One declaration for each kind that is measured from files; command, sheet and dossier read files by it."""

from __future__ import annotations

import importlib
import importlib.util
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from types import MappingProxyType
from typing import Any, Generic, TypeVar

from wyntaxis.core.evidence.foreign.keymap import KeyRule
from wyntaxis.core.evidence.kinds import Evidence, EvidenceKind
from wyntaxis.core.evidence.reporting import Report
from wyntaxis.core.files.errors import InputError, Progress
from wyntaxis.core.findings.finding import Finding
from wyntaxis.core.quantities.numbers import Numbers

R = TypeVar("R")


def _quiet(_done: int, _of: int) -> None:
    pass


def _no_rules(_path: Path) -> Sequence[KeyRule]:
    return ()


@dataclass(frozen=True)
class Request:
    """Files to read for a rig: ``rules`` says which columns hold what, ``before`` is what stays beside them.

    ``numbers`` are the rig's; None without a rig, for a kind that needs none.

    ``progress`` is told of the work done and may cancel it; ``options`` are the kind's own.
    """

    paths: Sequence[Path]
    numbers: Numbers | None
    progress: Progress = _quiet
    rules: Callable[[Path], Sequence[KeyRule]] = _no_rules
    before: Any = None
    options: Mapping[str, Any] = field(default_factory=lambda: MappingProxyType({}))

    @property
    def rig_numbers(self) -> Numbers:
        """The rig's numbers, for a kind that needs them."""
        if self.numbers is None:
            raise InputError("name a rig: this is measured by what it says")
        return self.numbers


@dataclass(frozen=True)
class Measuring(Generic[R]):
    """A kind with how it is read for a rig, how it is told, and which findings are about it.

    ``about`` are the beginnings of the findings' ids; ``concerns`` leaves out those among them that are not.
    """

    kind: EvidenceKind[R]
    report: Report[R]
    read: Callable[[Request], R]
    about: tuple[str, ...]
    concerns: Callable[[Finding], bool] = lambda _finding: True
    notes: Callable[[R], Sequence[str]] = lambda _result: ()


def measuring_of(name: str) -> Measuring[Any]:
    """Return the declaration of a module of this package, imported when it is first asked for."""
    found: Measuring[Any] = importlib.import_module(f"wyntaxis.core.measuring.{name}").MEASURING
    return found


def held_results(evidence: Evidence) -> Iterator[tuple[Measuring[Any], Any]]:
    """Yield what evidence holds of the kinds that are measured from files, each with its declaration."""
    for key, result in evidence.held.items():
        if importlib.util.find_spec(f"wyntaxis.core.measuring.{key}") is not None:
            yield measuring_of(key), result

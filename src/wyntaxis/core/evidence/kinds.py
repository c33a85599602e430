"""What was looked at or measured outside the rig file, by kind: each kind reads, measures, and may be kept in the rig.

A kind is one folder of this package, whose module ``kind`` declares it; commands, JSON and sheets work on the same
result, and the session holds it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, Generic, TypeVar, cast

from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.model import Rig

R = TypeVar("R")


@dataclass(frozen=True)
class EvidenceKind(Generic[R]):
    """One kind of evidence.

    ``read`` makes a result of paths, with progress and cancel, and fails with one line; ``measures`` gives the measured
    values that it measures, by document path of the value; ``keep`` is the edit that writes them into the rig, None
    for a kind that is only looked at and read anew.
    """

    key: str
    read: Callable[..., R]
    measures: Callable[[Rig, R], Mapping[str, Estimate]]
    keep: Callable[[Rig, R], Change] | None = None


@dataclass(frozen=True)
class Evidence:
    """What is held of each kind. ``memo`` keeps what was computed of it between edits that do not touch it."""

    held: Mapping[str, Any] = field(default_factory=dict)
    memo: dict[str, Any] = field(default_factory=dict, compare=False, repr=False)

    def of(self, kind: EvidenceKind[R]) -> R | None:
        """Return what is held of a kind, None where nothing is."""
        return cast("R | None", self.held.get(kind.key))

    def having(self, kind: EvidenceKind[R], result: R | None) -> Evidence:
        """Return the evidence with another result of one kind, or without any."""
        rest = {key: held for key, held in self.held.items() if key != kind.key}
        return Evidence(rest if result is None else rest | {kind.key: result}, self.memo)

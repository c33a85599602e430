"""The stated, computed and measured values of a rig's quantities, each computed once, when it is first asked for.

A function that declares a value asks for others through :class:`QuantityEvaluator`, so their order does not matter.
What it reads of the document, itself or through other values, is recorded.
"""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable, Iterable, Sequence
from functools import lru_cache
from typing import Any, Literal, TypeVar, cast

from wyntaxis.core import quantities
from wyntaxis.core.ledger import Quantity, QuantityValue, Target, Verdict
from wyntaxis.core.quantities.read_tracking import (
    Reads,
    ReadStack,
    ReadTracker,
    TrackedByKey,
    TrackedModel,
    TrackedResults,
    enter,
    leave,
)
from wyntaxis.core.quantity_kinds import QuantityKind
from wyntaxis.core.rig.model import Rig

Role = Literal["stated", "computed", "measured", "target", "verdict"]
ROLES: tuple[Role, ...] = ("stated", "computed", "measured", "target", "verdict")
"""What can be declared of a quantity: its three values, what is wanted of it, and a verdict that rests on more."""

T = TypeVar("T")
R = TypeVar("R", bound=Quantity)
F = TypeVar("F", bound=Callable[["QuantityEvaluator"], Any])

DECLARED: dict[tuple[Role, str], Callable[[QuantityEvaluator], Any]] = {}


def declares(role: Role, kind: QuantityKind) -> Callable[[F], F]:
    """Declare a function as the one that gives a quantity's value, target or verdict, or None where there is none.

    Returns
    -------
    Callable[[F], F]
        A decorator.

    Raises
    ------
    ValueError
        When this has been declared already.

    Parameters
    ----------
    role
        Which value, target or verdict.
    kind
        The quantity.
    """

    def declare(function: F) -> F:
        if (role, kind.id) in DECLARED:
            raise ValueError(f"{kind.id}: {role} is declared twice")
        DECLARED[role, kind.id] = function
        return function

    return declare


def computed(kind: QuantityKind) -> Callable[[F], F]:
    """Declare the function that computes a quantity; see :func:`declares`.

    Returns
    -------
    Callable[[F], F]
        A decorator.
    """
    return declares("computed", kind)


def measured(kind: QuantityKind) -> Callable[[F], F]:
    """Declare the function that derives a quantity's measured value from what was measured; see :func:`declares`.

    Returns
    -------
    Callable[[F], F]
        A decorator.
    """
    return declares("measured", kind)


def target(kind: QuantityKind) -> Callable[[F], F]:
    """Declare the function that gives what is wanted of a quantity; see :func:`declares`.

    Returns
    -------
    Callable[[F], F]
        A decorator.
    """
    return declares("target", kind)


class QuantityEvaluator:
    """The values, targets and verdicts of one rig's quantities.

    Parameters
    ----------
    rig
        The rig; :attr:`rig` is it too, and notes what is read of it where that is traced.
    traced
        Whether :meth:`reads` is to know what each quantity rests on: of all the document, which takes some twice the
        time, or of some paths of it alone.
    """

    def __init__(self, rig: Rig, *, traced: bool | frozenset[str] = False) -> None:
        import_all()
        self.stack = ReadStack()
        self.traced = bool(traced)
        tracker = ReadTracker(self.stack, None if isinstance(traced, bool) else traced)
        self.rig = cast(Rig, TrackedModel(rig, "", tracker)) if traced else rig
        self._known: dict[str, tuple[Any, Reads]] = {}
        self._waiting: list[str] = []
        self._rows: dict[str, Reads] = {}
        self._reads: dict[str, Reads] = {}

    def collect(self, work: Callable[[], T]) -> tuple[T, Reads]:
        """Return what a piece of work gives, and what it read of the document.

        Parameters
        ----------
        work
            It reads through :attr:`rig` and these values.

        Returns
        -------
        tuple
            Its result, and the paths that it read; none where reads are not traced.
        """
        before = enter(self.stack)
        self.stack.sets.append(set())
        try:
            value = work()
        finally:
            reads = frozenset(self.stack.sets.pop())
            leave(before)
        return value, reads

    def collect_each(self, work: Callable[[], Iterable[T]]) -> tuple[list[tuple[T, Reads]], Reads]:
        """Return each result of a piece of work with what was read for it, and all that the work read."""

        def found() -> list[tuple[T, Reads]]:
            return [(result, frozenset(self.stack.sets[-1])) for result in work()]

        return self.collect(found)

    def memoized(self, name: str, work: Callable[[], T]) -> T:
        """Return what a piece of work gives, done when it is first asked for; its reads count for whoever asks.

        Raises
        ------
        RuntimeError
            When the work asks for itself.
        """
        if name not in self._known:
            if name in self._waiting:
                raise RuntimeError(f"{' → '.join([*self._waiting, name])}: waits for itself")
            self._waiting.append(name)
            try:
                self._known[name] = self.collect(work)
            finally:
                self._waiting.pop()
        value, kept = self._known[name]
        self.stack.note(kept)
        return cast(T, value)

    def memoized_each(self, name: str, work: Callable[[], Iterable[T]]) -> Sequence[T]:
        """Return the results of a piece of work, done once; of each its own reads count for whoever takes it."""
        if name not in self._known:
            results, reads = self.collect_each(work)
            kept = TrackedResults(results, reads, self.stack) if self.traced else tuple(one for one, _ in results)
            self._known[name] = kept, reads
        return cast("Sequence[T]", self._known[name][0])

    def memoized_by_key(self, name: str, work: Callable[[], Iterable[tuple[str, T]]]) -> dict[str, T]:
        """Return the results of a piece of work by their keys, done once; see :meth:`memoized_each`."""
        if name not in self._known:
            results, reads = self.collect_each(work)
            values, own = dict(one for one, _ in results), {key: kept for (key, _), kept in results}
            self._known[name] = TrackedByKey(values, own.__getitem__, self.stack) if self.traced else values, reads
        return cast("dict[str, T]", self._known[name][0])

    def tracked_rows(self, rows: dict[str, Quantity]) -> dict[str, Quantity]:
        """Return rows of which each, when it is asked for, notes what it depends on."""
        return TrackedByKey(rows, self.reads, self.stack)

    def _of(self, role: Role, quantity_id: str) -> Any:
        function = DECLARED.get((role, quantity_id))
        return None if function is None else self.memoized(f"{role} {quantity_id}", lambda: function(self))

    def stated(self, kind: QuantityKind) -> QuantityValue | None:
        """Return the value that other statements of the rig make of a quantity."""
        return cast("QuantityValue | None", self._of("stated", kind.id))

    def computed(self, kind: QuantityKind) -> QuantityValue | None:
        """Return a quantity's computed value."""
        return cast("QuantityValue | None", self._of("computed", kind.id))

    def measured(self, kind: QuantityKind) -> QuantityValue | None:
        """Return the measured value that follows from another quantity's measurement."""
        return cast("QuantityValue | None", self._of("measured", kind.id))

    def target(self, kind: QuantityKind) -> Target | None:
        """Return what is wanted of a quantity."""
        return cast("Target | None", self._of("target", kind.id))

    def verdict(self, kind: QuantityKind) -> Verdict | None:
        """Return the verdict on a quantity where it rests on more than its own values and target."""
        return cast("Verdict | None", self._of("verdict", kind.id))

    def best_value(self, kind: QuantityKind) -> QuantityValue | None:
        """Return the value to go on with: measured where it was, else computed."""
        return self.measured(kind) or self.computed(kind)

    def reads(self, quantity_id: str) -> frozenset[str]:
        """Return which document paths a quantity rests on, such as ``train`` or ``site.seeing_fwhm_arcsec``.

        An edit of none of them, nor of what lies below or above them, leaves the quantity as it is. What the rig holds
        of the quantity itself, stated or measured, counts.

        Raises
        ------
        RuntimeError
            When the values were not traced.
        """
        if not self.traced:
            raise RuntimeError("what a quantity depends on is known where evaluate() is asked to trace it")
        if quantity_id in self._rows:
            return self._rows[quantity_id]
        if quantity_id not in self._reads:
            found = {f"stated.{quantity_id}", f"measured.{quantity_id}"}
            for role in ROLES:
                self._of(role, quantity_id)
                _, kept = self._known.get(f"{role} {quantity_id}", (None, frozenset()))
                found |= kept
            self._reads[quantity_id] = frozenset(found)
        return self._reads[quantity_id]

    def memoized_rows(self, name: str, work: Callable[[], Iterable[R]]) -> tuple[R, ...]:
        """Return the rows of things that a piece of work yields; each rests on what was read for it."""

        def tracked() -> tuple[R, ...]:
            results, _ = self.collect_each(work)
            self._rows.update({row.id: reads for row, reads in results})
            return tuple(row for row, _ in results)

        return self.memoized(name, tracked)

    def note_use(self, kind: QuantityKind) -> None:
        """Note that whatever is being worked out rests on a quantity, too."""
        if self.traced and self.stack.sets:
            self.stack.note(self.reads(kind.id))


@lru_cache(maxsize=1)
def import_all() -> None:
    """Import every module of this package, so that all values are declared."""
    for module in pkgutil.iter_modules(quantities.__path__):
        importlib.import_module(f"{quantities.__name__}.{module.name}")


def recorded(evaluator: QuantityEvaluator, kind: QuantityKind) -> QuantityValue | None:
    """Return the measured value that the rig holds of a quantity, None where it holds none.

    Parameters
    ----------
    evaluator, kind
        The evaluator of the rig, and the quantity.

    Returns
    -------
    QuantityValue or None
        In the quantity's unit, with its standard uncertainty.
    """
    found = evaluator.rig.measured.get(kind.id)
    return None if found is None else QuantityValue(found.value, found.standard_uncertainty, source=found.source or "")

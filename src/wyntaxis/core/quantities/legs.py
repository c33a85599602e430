"""The legs of a rig's quantities, each worked out once, when it is first asked for, by the function that declares it.

A function that declares a leg asks for others through :class:`Legs`, so no order has to be kept; what it read of the
document on the way, itself or through other legs, is noted.
"""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable, Iterable
from functools import lru_cache
from inspect import getattr_static
from typing import Any, Literal, TypeVar, cast

from wyntaxis.core import quantities
from wyntaxis.core.ledger import Leg, Quantity, Target, Verdict
from wyntaxis.core.rig.base import StrictModel
from wyntaxis.core.rig.model import Rig

Role = Literal["stated", "computed", "measured", "target", "verdict"]
ROLES: tuple[Role, ...] = ("stated", "computed", "measured", "target", "verdict")
"""What can be declared of a quantity: its three legs, what is wanted of it, and a verdict that rests on more."""

T = TypeVar("T")
R = TypeVar("R", bound=Quantity)
F = TypeVar("F", bound=Callable[["Legs"], Any])

_functions: dict[tuple[Role, str], Callable[[Legs], Any]] = {}

MEMBERSHIP = "!"
"""Ends what is noted where only was asked whether a thing is there, or which a list holds: not what lies below it."""

_OPENED = {"telescope", "site", "plan", "guiding", "mount", "framing", "train"}
"""Sections of the document whose reading is noted value by value; of the others, the whole."""
_COPIED = ("train", "guiding", "telescope")
"""What a copy of the rig is taken to read."""


def rests_on(read: str, path: str) -> bool:
    """Return whether what was read, as :meth:`Legs.reads` tells it, changes with the value at a path.

    Parameters
    ----------
    read, path
        Such as ``train[2].length_mm``, ``train!`` (which parts there are) or ``devices``.

    Returns
    -------
    bool
        Whether one is the other, or lies below it.
    """
    if read.endswith(MEMBERSHIP):
        base = read[: -len(MEMBERSHIP)]
        return _is_within(base, path) or (
            path.startswith(f"{base}[") and path.endswith("]") and "." not in path[len(base) :]
        )
    return _is_within(read, path) or _is_within(path, read)


@lru_cache(maxsize=4096)
def reads_of_value(path: str) -> frozenset[str]:
    """Return every read, as :meth:`Legs.reads` may tell it, that changes with the plain value at a path.

    Parameters
    ----------
    path
        Of a value that has nothing below it, such as ``train[2].length_mm``.

    Returns
    -------
    frozenset of str
        The value itself, and all that it lies in: for those :func:`rests_on` holds, and for no other.
    """
    found = {path, path + MEMBERSHIP}
    for at, letter in enumerate(path):
        if letter in ".[" and at:
            found.add(path[:at])
    if path.endswith("]"):
        found.add(path[: path.rindex("[")] + MEMBERSHIP)
    return frozenset(found)


def _is_within(path: str, around: str) -> bool:
    return path == around or path.startswith((f"{around}.", f"{around}["))


def declares(role: Role, quantity_id: str) -> Callable[[F], F]:
    """Declare a function as the one that gives a quantity's leg, target or verdict, or None where there is none.

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
        Which leg, target or verdict.
    quantity_id
        The quantity, by id.
    """

    def declare(function: F) -> F:
        if (role, quantity_id) in _functions:
            raise ValueError(f"{quantity_id}: {role} is declared twice")
        _functions[role, quantity_id] = function
        return function

    return declare


def computed(quantity_id: str) -> Callable[[F], F]:
    """Declare the function that computes a quantity; see :func:`declares`.

    Parameters
    ----------
    quantity_id
        The quantity, by id.

    Returns
    -------
    Callable[[F], F]
        A decorator.
    """
    return declares("computed", quantity_id)


def measured(quantity_id: str) -> Callable[[F], F]:
    """Declare the function that derives a quantity's measured leg from what was measured; see :func:`declares`.

    Parameters
    ----------
    quantity_id
        The quantity, by id.

    Returns
    -------
    Callable[[F], F]
        A decorator.
    """
    return declares("measured", quantity_id)


def target(quantity_id: str) -> Callable[[F], F]:
    """Declare the function that gives what is wanted of a quantity; see :func:`declares`.

    Parameters
    ----------
    quantity_id
        The quantity, by id.

    Returns
    -------
    Callable[[F], F]
        A decorator.
    """
    return declares("target", quantity_id)


class Legs:
    """The legs, targets and verdicts of one rig's quantities.

    Parameters
    ----------
    rig
        The rig; :attr:`rig` is it too, and notes what is read of it where that is traced.
    traced
        Whether :meth:`reads` is to know what each quantity rests on: of all the document, which takes some twice the
        time, or of some paths of it alone.
    """

    def __init__(self, rig: Rig, *, traced: bool | frozenset[str] = False) -> None:
        _import_all()
        self._open: list[set[str]] = []
        self.traced = bool(traced)
        trace = _Trace(self._open, None if isinstance(traced, bool) else traced)
        self.rig = cast(Rig, _Watched(rig, "", trace)) if traced else rig
        self._known: dict[str, tuple[Any, frozenset[str]]] = {}
        self._waiting: list[str] = []
        self._rows: dict[str, frozenset[str]] = {}

    def once(self, name: str, work: Callable[[], T]) -> T:
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
            self._open.append(set())
            try:
                value = work()
            finally:
                self._waiting.pop()
                reads = self._open.pop()
            self._known[name] = value, frozenset(reads)
        value, kept = self._known[name]
        if self._open:
            self._open[-1] |= kept
        return cast(T, value)

    def _of(self, role: Role, quantity_id: str) -> Any:
        function = _functions.get((role, quantity_id))
        return None if function is None else self.once(f"{role} {quantity_id}", lambda: function(self))

    def stated(self, quantity_id: str) -> Leg | None:
        """Return the leg that other statements of the rig make of a quantity."""
        return cast("Leg | None", self._of("stated", quantity_id))

    def computed(self, quantity_id: str) -> Leg | None:
        """Return a quantity's computed leg."""
        return cast("Leg | None", self._of("computed", quantity_id))

    def measured(self, quantity_id: str) -> Leg | None:
        """Return the measured leg that follows from another quantity's measurement."""
        return cast("Leg | None", self._of("measured", quantity_id))

    def target(self, quantity_id: str) -> Target | None:
        """Return what is wanted of a quantity."""
        return cast("Target | None", self._of("target", quantity_id))

    def verdict(self, quantity_id: str) -> Verdict | None:
        """Return the verdict on a quantity where it rests on more than its own legs and target."""
        return cast("Verdict | None", self._of("verdict", quantity_id))

    def found(self, quantity_id: str) -> Leg | None:
        """Return the leg to go on with: measured where it was, else computed."""
        return self.measured(quantity_id) or self.computed(quantity_id)

    def reads(self, quantity_id: str) -> frozenset[str]:
        """Return which document paths a quantity rests on, such as ``train`` or ``site.seeing_fwhm_arcsec``.

        An edit of none of them, nor of what lies below or above them, leaves the quantity as it is. What the rig holds
        of the quantity itself, stated or measured, counts.

        Raises
        ------
        RuntimeError
            When the legs were not traced.
        """
        if not self.traced:
            raise RuntimeError("what a quantity rests on is known where evaluate() was told to trace it")
        found = {f"stated.{quantity_id}", f"measured.{quantity_id}"}
        if quantity_id in self._rows:
            return self._rows[quantity_id]
        for role in ROLES:
            self._of(role, quantity_id)
            _, kept = self._known.get(f"{role} {quantity_id}", (None, frozenset()))
            found |= kept
        return frozenset(found)

    def rows_once(self, name: str, work: Callable[[], Iterable[R]]) -> tuple[R, ...]:
        """Return the rows of things that a piece of work yields; each rests on what was read until it was yielded."""

        def told() -> tuple[R, ...]:
            found = []
            for row in work():
                found.append(row)
                self._rows[row.id] = frozenset(self._open[-1])
            return tuple(found)

        return self.once(name, told)

    def note_use(self, quantity_id: str) -> None:
        """Note that whatever is being worked out rests on a quantity, too."""
        if self.traced and self._open:
            self._open[-1].update(self.reads(quantity_id))


@lru_cache(maxsize=1)
def _import_all() -> None:
    """Import every module of this package, so that all legs are declared."""
    for module in pkgutil.iter_modules(quantities.__path__):
        importlib.import_module(f"{quantities.__name__}.{module.name}")


@lru_cache(maxsize=128)
def _fields_of(model: type[StrictModel]) -> frozenset[str]:
    return frozenset(model.model_fields)


@lru_cache(maxsize=512)
def _declared_in(model: type[StrictModel], name: str) -> Any:
    return getattr_static(model, name)


class _Trace:
    """Where reads are noted, and of which plain values alone; of all where those are None."""

    def __init__(self, opened: list[set[str]], paths: frozenset[str] | None) -> None:
        self.opened = opened
        self._reads = None if paths is None else frozenset().union(*(reads_of_value(path) for path in paths))

    def note(self, read: str) -> None:
        """Note what is read now."""
        if self.opened and self.matters(read):
            self.opened[-1].add(read)

    def matters(self, read: str) -> bool:
        """Return whether a read is to be noted."""
        return self._reads is None or read in self._reads

    def reaches(self, path: str) -> bool:
        """Return whether something at or below a path is to be noted: then it is among what a value lies in."""
        return self._reads is None or path in self._reads


class _Watched:
    """A rig, or something in one, that notes by path what is read of it.

    Its own properties and methods read through it too. What is noted ends in :data:`MEMBERSHIP` where only was asked
    whether a thing is there, or which a list holds.
    """

    __slots__ = ("_kept", "_of", "_path", "_trace")

    def __init__(self, of: Any, path: str, trace: _Trace) -> None:
        self._of, self._path, self._trace = of, path, trace
        self._kept: dict[str, tuple[Any, str]] = {}

    def __getattr__(self, name: str) -> Any:
        # Some thousand times for every edit: the shortest way for what has been read before.
        try:
            value, read = self._kept[name]
        except KeyError:
            if name not in _fields_of(self._of.__class__):
                return self._derived(name)
            value, read = self._kept[name] = self._first(name)
        if read and self._trace.opened:
            self._trace.opened[-1].add(read)
        return value

    def _first(self, name: str) -> tuple[Any, str]:
        """Return a field's value when it is first read, and what is noted of it from then on; empty for nothing."""
        path = f"{self._path}.{name}" if self._path else name
        value = self._watched(path, getattr(self._of, name))
        entries = value if isinstance(value, tuple) else (value,)
        is_opened = any(isinstance(entry, (_Watched, _WatchedLegs)) for entry in entries)
        read = path + MEMBERSHIP if is_opened else path
        return value, read if self._trace.matters(read) else ""

    def _watched(self, path: str, value: Any) -> Any:
        top = path.partition(".")[0].partition("[")[0]
        if path in ("stated", "measured"):
            return _WatchedLegs(value, path, self._trace)
        if top not in _OPENED or not self._trace.reaches(path):
            return value
        if isinstance(value, StrictModel):
            return _Watched(value, path, self._trace)
        if isinstance(value, tuple) and value and isinstance(value[0], StrictModel):
            places = [f"{path}[{index}]" for index in range(len(value))]
            return tuple(
                _Watched(entry, place, self._trace) if self._trace.reaches(place) else entry
                for place, entry in zip(places, value, strict=True)
            )
        return value

    def _derived(self, name: str) -> Any:
        """Return what a property or method gives, which reads through this; a copy reads everything."""
        if name.startswith("model_"):
            for path in (self._path,) if self._path else _COPIED:
                self._trace.note(path)
            return getattr(self._of, name)
        found = _declared_in(self._of.__class__, name)
        return found.__get__(self, type(self)) if hasattr(found, "__get__") else getattr(self._of, name)

    def __eq__(self, other: object) -> bool:
        return bool(self._of == (other._of if isinstance(other, _Watched) else other))

    def __hash__(self) -> int:
        return hash(self._of)

    def __repr__(self) -> str:
        return repr(self._of)


class _WatchedLegs:
    """The legs of one kind that a rig holds, by quantity, noting which are asked for."""

    __slots__ = ("_of", "_path", "_trace")

    def __init__(self, of: dict[str, Any], path: str, trace: _Trace) -> None:
        self._of, self._path, self._trace = of, path, trace

    def get(self, quantity_id: str) -> Any:
        self._trace.note(f"{self._path}.{quantity_id}")
        return self._of.get(quantity_id)


def recorded(legs: Legs, quantity_id: str) -> Leg | None:
    """Return the measured leg that the rig holds of a quantity, None where it holds none.

    Parameters
    ----------
    legs, quantity_id
        The legs of the rig, and the quantity by id.

    Returns
    -------
    Leg or None
        In the quantity's unit, with its standard uncertainty.
    """
    found = legs.rig.measured.get(quantity_id)
    return None if found is None else Leg(found.value, found.standard_uncertainty, source=found.source or "")

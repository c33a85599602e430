"""The legs of a rig's quantities, each worked out once, when it is first asked for, by the function that declares it.

A function that declares a leg asks for others through :class:`Legs`, so no order has to be kept; what it read of the
document on the way, itself or through other legs, is noted.
"""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable, Iterable
from functools import lru_cache
from typing import Any, Literal, TypeVar, cast

from wyntaxis.core import quantities
from wyntaxis.core.ledger import Leg, Target, Verdict
from wyntaxis.core.rig.model import Rig

Role = Literal["stated", "computed", "measured", "target", "verdict"]
ROLES: tuple[Role, ...] = ("stated", "computed", "measured", "target", "verdict")
"""What can be declared of a quantity: its three legs, what is wanted of it, and a verdict that rests on more."""

T = TypeVar("T")
F = TypeVar("F", bound=Callable[["Legs"], Any])

_functions: dict[tuple[Role, str], Callable[[Legs], Any]] = {}

_SECTIONS = {"telescope", "site", "plan", "guiding", "mount", "framing"}
_READ_OF = {
    "sensor": ("train",),
    "camera": ("train",),
    "parts": ("train", "guiding.path"),
    "find": ("train", "guiding"),
    "model_copy": ("train", "guiding", "telescope"),
}
"""What is read of the document by those names of a rig that are no keys of it."""


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
        The rig; :attr:`rig` is it too, and notes what is read of it.
    """

    def __init__(self, rig: Rig) -> None:
        _import_all()
        self.rig = cast(Rig, _Watched(rig, "", self._note))
        self._known: dict[str, tuple[Any, frozenset[str]]] = {}
        self._open: list[set[str]] = []
        self._waiting: list[str] = []
        self._rows: dict[str, str] = {}

    def _note(self, path: str) -> None:
        if self._open:
            self._open[-1].add(path)

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
        """
        found = {f"stated.{quantity_id}", f"measured.{quantity_id}"}
        if quantity_id in self._rows:
            return self._known[self._rows[quantity_id]][1]
        for role in ROLES:
            self._of(role, quantity_id)
            _, kept = self._known.get(f"{role} {quantity_id}", (None, frozenset()))
            found |= kept
        return frozenset(found)

    def note_rows(self, name: str, row_ids: Iterable[str]) -> None:
        """Note that rows of things came from a piece of work, by the name that it was done :meth:`once` under."""
        self._rows.update(dict.fromkeys(row_ids, name))

    def note_use(self, quantity_id: str) -> None:
        """Note that whatever is being worked out rests on a quantity, too."""
        if self._open:
            self._open[-1].update(self.reads(quantity_id))


@lru_cache(maxsize=1)
def _import_all() -> None:
    """Import every module of this package, so that all legs are declared."""
    for module in pkgutil.iter_modules(quantities.__path__):
        importlib.import_module(f"{quantities.__name__}.{module.name}")


class _Watched:
    """A rig, or a section of one, that notes by path what is read of it."""

    __slots__ = ("_note", "_of", "_path")

    def __init__(self, of: Any, path: str, note: Callable[[str], None]) -> None:
        self._of, self._path, self._note = of, path, note

    def __getattr__(self, name: str) -> Any:
        value = getattr(self._of, name)
        path = f"{self._path}.{name}" if self._path else name
        if not self._path:
            if name in ("stated", "measured"):
                return _WatchedLegs(value, name, self._note)
            if name in _SECTIONS and value is not None:
                return _Watched(value, name, self._note)
        for read in _READ_OF.get(name, (path,)) if not self._path else (path,):
            self._note(read)
        return value


class _WatchedLegs:
    """The legs of one kind that a rig holds, by quantity, noting which are asked for."""

    __slots__ = ("_note", "_of", "_path")

    def __init__(self, of: dict[str, Any], path: str, note: Callable[[str], None]) -> None:
        self._of, self._path, self._note = of, path, note

    def get(self, quantity_id: str) -> Any:
        self._note(f"{self._path}.{quantity_id}")
        return self._of.get(quantity_id)

"""Which values of the document were read on the way to a result.

A rig is handed out as a :class:`TrackedModel` that notes by path what is read of it. So a number or a finding knows
what it depends on, whichever function read it.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import lru_cache
from inspect import getattr_static
from typing import Any, TypeVar

from wyntaxis.core.files.errors import quoted
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.rig.base import StrictModel

MEMBERSHIP = "!"
"""Ends what is noted where only was asked whether a thing is there, or which a list holds: not what lies below it."""

_OPENED = {
    "telescope",
    "site",
    "plan",
    "guiding",
    "mount",
    "framing",
    "train",
    "devices",
    "supplies",
    "records",
    "stated",
    "measured",
}
"""Sections of the document whose reading is noted value by value; of the others, the whole."""
_COPIED = ("train", "guiding", "telescope")
"""What a copy of the rig is taken to read."""

T = TypeVar("T")
Reads = frozenset[str]


def rests_on(read: str, path: str) -> bool:
    """Return whether what was read changes with the value at a path.

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
def reads_of_value(path: str) -> Reads:
    """Return every read that changes with the plain value at a path.

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


# Where reads are noted


class ReadStack:
    """The sets that reads are noted in, one for each piece of work that is under way; the last is the innermost."""

    def __init__(self) -> None:
        self.sets: list[set[str]] = []

    def note(self, reads: Iterable[str]) -> None:
        """Note reads for the innermost work."""
        if self.sets:
            self.sets[-1].update(reads)


class _Current(threading.local):
    stack: ReadStack | None = None


_current = _Current()


def enter(stack: ReadStack) -> ReadStack | None:
    """Make a stack the one that :func:`apart` works on in this thread; return the one before, to be entered again."""
    before, _current.stack = _current.stack, stack
    return before


def leave(before: ReadStack | None) -> None:
    """Take back :func:`enter`."""
    _current.stack = before


def apart(things: Iterable[T], stack: ReadStack | None = None) -> Iterator[T]:
    """Yield things of which each is worked on by itself: what is read of one does not count for the next.

    After the last, or where the loop is left, all that was read of any of them counts.

    Parameters
    ----------
    things
        What a loop goes through. Its body must use nothing that it found in an earlier turn.
    stack
        Where reads are noted; that of the evaluation under way where it is left out.
    """
    stack = stack or _current.stack
    if stack is None or not stack.sets:
        yield from things
        return
    reads = stack.sets[-1]
    before, of_all = frozenset(reads), set[str]()
    remaining = iter(things)
    try:
        while True:
            of_all |= reads
            reads &= before
            try:
                thing = next(remaining)  # what is read to find it counts for it
            except StopIteration:
                return
            yield thing
    finally:
        reads |= of_all


class ReadTracker:
    """Notes reads of a rig: of all its values, or of some alone.

    Parameters
    ----------
    stack
        Where reads are noted.
    paths
        The plain values whose reading matters; of all where it is None.
    """

    def __init__(self, stack: ReadStack, paths: Reads | None) -> None:
        self.stack = stack
        self._reads = None if paths is None else frozenset().union(*(reads_of_value(path) for path in paths))

    def note(self, read: str) -> None:
        """Note one read."""
        if self.stack.sets and self.matters(read):
            self.stack.sets[-1].add(read)

    def matters(self, read: str) -> bool:
        """Return whether a read is to be noted."""
        return self._reads is None or read in self._reads

    def reaches(self, path: str) -> bool:
        """Return whether something at or below a path is to be noted: then it is among what a value lies in."""
        return self._reads is None or path in self._reads

    def tracked(self, path: str, value: Any) -> Any:
        """Return a value as one that notes what is read of it, where that matters; else the value itself."""
        if path.partition(".")[0].partition("[")[0] not in _OPENED or not self.reaches(path):
            return value
        if isinstance(value, StrictModel):
            return TrackedModel(value, path, self)
        if isinstance(value, dict):
            return TrackedMapping(value, path, self)
        if isinstance(value, tuple) and value and isinstance(value[0], StrictModel):
            return TrackedTuple((self.tracked(f"{path}[{at}]", entry) for at, entry in enumerate(value)), self.stack)
        return value


@lru_cache(maxsize=128)
def _fields_of(model: type[StrictModel]) -> frozenset[str]:
    return frozenset(model.model_fields)


@lru_cache(maxsize=512)
def _declared_in(model: type[StrictModel], name: str) -> Any:
    return getattr_static(model, name)


class TrackedTuple(tuple[Any, ...]):
    """A list of the document's; a loop over it counts what it reads of each entry apart, see :func:`apart`."""

    _stack: ReadStack

    def __new__(cls, entries: Iterable[Any], stack: ReadStack) -> TrackedTuple:
        own = super().__new__(cls, entries)
        own._stack = stack
        return own

    def __iter__(self) -> Iterator[Any]:
        return apart(super().__iter__(), self._stack)


class TrackedMapping(Mapping[str, Any]):
    """Values of the document by free names, such as a device's settings, noting which are asked for."""

    __slots__ = ("_kept", "_of", "_path", "_tracker")

    def __init__(self, of: JsonObject, path: str, tracker: ReadTracker) -> None:
        self._of, self._path, self._tracker = of, path, tracker
        self._kept: JsonObject = {}

    def __getitem__(self, key: str) -> Any:
        path = self._path_of(key)
        value = self._of.get(key)
        if not isinstance(value, StrictModel):
            self._tracker.note(path)
            return self._of[key]
        self._tracker.note(path + MEMBERSHIP)
        if key not in self._kept:
            self._kept[key] = self._tracker.tracked(path, value)
        return self._kept[key]

    def get(self, key: str, default: Any = None) -> Any:
        """Return the value of a name; the reading of one that is not there is noted too."""
        if key not in self._of:
            self._tracker.note(self._path_of(key) + MEMBERSHIP)
            return default
        return self[key]

    def __contains__(self, key: object) -> bool:
        self._tracker.note(self._path_of(str(key)) + MEMBERSHIP)
        return key in self._of

    def __iter__(self) -> Iterator[str]:
        self._tracker.note(self._path + MEMBERSHIP)
        return apart(self._of, self._tracker.stack)

    def __len__(self) -> int:
        self._tracker.note(self._path + MEMBERSHIP)
        return len(self._of)

    def __eq__(self, other: object) -> bool:
        self._tracker.note(self._path)
        return bool(self._of == (other._of if isinstance(other, TrackedMapping) else other))

    __hash__ = None  # type: ignore[assignment]

    def _path_of(self, key: str) -> str:
        return f"{self._path}.{key if key.isidentifier() else quoted(key)}"


class TrackedModel:
    """A rig, or something in one, that notes by path what is read of it.

    Its own properties and methods read through it too. What is noted ends in :data:`MEMBERSHIP` where only was asked
    whether a thing is there, or which a list holds.
    """

    __slots__ = ("_kept", "_of", "_path", "_tracker")

    def __init__(self, of: Any, path: str, tracker: ReadTracker) -> None:
        self._of, self._path, self._tracker = of, path, tracker
        self._kept: dict[str, tuple[Any, str]] = {}

    def __getattr__(self, name: str) -> Any:
        # Some thousand times for every edit: the shortest way for what has been read before.
        try:
            value, read = self._kept[name]
        except KeyError:
            if name not in _fields_of(self._of.__class__):
                return self._derived(name)
            value, read = self._kept[name] = self._first(name)
        if read and self._tracker.stack.sets:
            self._tracker.stack.sets[-1].add(read)
        return value

    def _first(self, name: str) -> tuple[Any, str]:
        """Return a field's value when it is first read, and what is noted of it from then on; empty for nothing."""
        path = f"{self._path}.{name}" if self._path else name
        value = self._tracker.tracked(path, getattr(self._of, name))
        is_opened = isinstance(value, (TrackedModel, TrackedMapping, TrackedTuple))
        read = path + MEMBERSHIP if is_opened else path
        return value, read if self._tracker.matters(read) else ""

    def _derived(self, name: str) -> Any:
        """Return what a property or method gives, which reads through this; a copy reads everything."""
        if name.startswith("model_"):
            for path in (self._path,) if self._path else _COPIED:
                self._tracker.note(path)
            return getattr(self._of, name)
        found = _declared_in(self._of.__class__, name)
        return found.__get__(self, type(self)) if hasattr(found, "__get__") else getattr(self._of, name)

    def __eq__(self, other: object) -> bool:
        if self is other:
            return True
        self._tracker.note(self._path)
        return bool(self._of == untracked(other))

    def __hash__(self) -> int:
        return hash(self._of)

    def __repr__(self) -> str:
        return repr(self._of)


def untracked(value: Any) -> Any:
    """Return what a tracked thing is; of lists, that of their entries."""
    if isinstance(value, (TrackedModel, TrackedMapping)):
        return value._of
    if isinstance(value, TrackedTuple):
        return tuple(untracked(entry) for entry in tuple.__iter__(value))
    return value


# Results that know what they depend on


class TrackedResults(Sequence[T]):
    """Results of one piece of work, each with what was read for it; asking for one notes that.

    Parameters
    ----------
    results
        Each with its reads.
    all_reads
        What the whole work read: how many results there are depends on it.
    stack
        Where reads are noted.
    """

    def __init__(self, results: Iterable[tuple[T, Reads]], all_reads: Reads, stack: ReadStack) -> None:
        self._results, self._all, self._stack = tuple(results), all_reads, stack

    @property
    def with_reads(self) -> tuple[tuple[T, Reads], ...]:
        """Each result with what was read for it; asking for them notes nothing."""
        return self._results

    @property
    def all_reads(self) -> Reads:
        """What the whole work read."""
        return self._all

    def __iter__(self) -> Iterator[T]:
        for result, reads in apart(self._results, self._stack):
            self._stack.note(reads)
            yield result
        self._stack.note(self._all)

    def __len__(self) -> int:
        self._stack.note(self._all)
        return len(self._results)

    def __getitem__(self, at: Any) -> Any:
        if isinstance(at, slice):
            self._stack.note(self._all)
            return tuple(result for result, _ in self._results[at])
        result, reads = self._results[at]
        self._stack.note(reads)
        return result

    def where(self, keeps: Callable[[T], bool]) -> TrackedResults[T]:
        """Return some of the results; see :func:`chosen`."""
        return TrackedResults([one for one in self._results if keeps(one[0])], frozenset(), self._stack)


def chosen(results: Sequence[T], keeps: Callable[[T], bool]) -> Sequence[T]:
    """Return some results of a piece of work, without depending on those that are left out.

    Parameters
    ----------
    results
        From :meth:`wyntaxis.core.quantities.evaluator.QuantityEvaluator.memoized_each`.
    keeps
        Which; by what no value of the document changes, such as a result's topic.
    """
    return results.where(keeps) if isinstance(results, TrackedResults) else [one for one in results if keeps(one)]


class TrackedByKey(dict[str, T]):
    """Results by key; whoever asks for one depends on what it depends on.

    Parameters
    ----------
    results
        The results.
    reads
        What each depends on, by its key.
    stack
        Where reads are noted.
    """

    def __init__(self, results: dict[str, T], reads: Callable[[str], Reads], stack: ReadStack) -> None:
        super().__init__(results)
        self._reads, self._stack = reads, stack

    def __getitem__(self, key: str) -> T:
        found = super().__getitem__(key)
        if self._stack.sets:
            self._stack.note(self._reads(key))
        return found

    def get(self, key: str, default: Any = None) -> Any:
        """Return a result, or the default where there is none of that key."""
        return self[key] if key in self else default  # noqa: SIM401 - dict.get reads past what notes

    def values(self) -> Iterator[T]:  # type: ignore[override]
        """Yield every result, each for itself."""
        for key in apart(self, self._stack):
            yield self[key]

    def items(self) -> Iterator[tuple[str, T]]:  # type: ignore[override]
        """Yield every result with its key, each for itself."""
        for key in apart(self, self._stack):
            yield key, self[key]

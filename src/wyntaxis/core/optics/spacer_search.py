"""The search behind the spacers: which chains of pieces fill the places, in numbers.

It meets in the middle: chains of up to half the pieces grown from the datum are joined with chains grown from the
camera where ends mate and the lengths add up. Growing is exhaustive, and a bound only ever drops what is worse than
the sets already kept, so what is returned is the best there is. Pieces that commute (rings of one thread in a row,
shims) are taken in one order only.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wyntaxis.core.optics.joints import is_shim, meet
from wyntaxis.core.rig.model import Joint, Part

MOST_PIECES = 7
KEPT = 10
SAME_MM = 1e-6
"""Errors that differ by less are equal, and fewer pieces decide."""

_CHUNK = 1_000_000
Ints = NDArray[np.int16]
Floats = NDArray[np.float64]


class SearchCancelledError(Exception):
    """The search was stopped from outside."""


@dataclass(frozen=True)
class Place:
    """Where pieces may stand: between a fixed part's rear end and the next fixed part's front end."""

    before: Part
    after: Part
    rear: Joint | None
    front: Joint | None


@dataclass
class Problem:
    """The search in numbers: pieces by index, joint ends by index, and which ends mate."""

    pieces: list[Part]
    lengths: Floats
    half_widths: Floats
    front: Ints
    rear: Ints
    shim: NDArray[np.bool_]
    loop: NDArray[np.bool_]
    mates: NDArray[np.bool_]
    place_rear: list[int]
    place_front: list[int]
    group: list[int]


@dataclass
class _Rows:
    """Chains of pieces: indices (rows, pieces), summed length, the place reached, the end there, the last piece."""

    used: Ints
    length: Floats
    place: Ints
    end: Ints
    last: Ints

    def take(self, rows: NDArray[Any]) -> _Rows:
        return _Rows(self.used[rows], self.length[rows], self.place[rows], self.end[rows], self.last[rows])

    @staticmethod
    def stacked(parts: Sequence[_Rows]) -> _Rows:
        return _Rows(
            *(np.concatenate([getattr(p, name) for p in parts]) for name in ("used", "length", "place", "end", "last"))
        )


@dataclass
class Found:
    """A set of pieces in chain order; places follow from the joints."""

    used: tuple[int, ...]
    error: float
    worst: float

    @property
    def key(self) -> tuple[float, int, float]:
        return (round(abs(self.error) / SAME_MM), len(self.used), round(self.worst, 9))


@dataclass
class Search:
    """One search: grows chains from both ends and joins those that add up to ``wanted`` mm."""

    problem: Problem
    wanted: float
    tolerance: float
    should_stop: Callable[[], bool]
    found: dict[tuple[int, ...], Found] = field(default_factory=dict)
    kept: int = KEPT

    def best(self, limit: float) -> list[Found]:
        """Return the best sets with an error of at most ``limit``, by error, then count, then worst case."""
        self.found = {}
        forward, backward = [self._start()], [self._goal()]
        for count in range(MOST_PIECES + 1):
            half = (count + 1) // 2
            while len(forward) <= half:
                forward.append(self._grown(forward[-1]))
            while len(backward) <= count - half:
                backward.append(self._grown_back(backward[-1]))
            self._join(self._closed(forward[half]), backward[count - half], limit)
        return self._ranked()[: self.kept]

    def nearest(self) -> Found | None:
        """Return the set with the least error, however large."""
        limit, self.kept = self.tolerance, 1
        reach = abs(self.wanted) + float(self.problem.lengths.sum()) + 1.0
        while limit < reach:
            limit *= 2
            found = self.best(limit)
            if found:
                return found[0]
        return None

    def _ranked(self) -> list[Found]:
        return sorted(self.found.values(), key=lambda entry: entry.key)

    # Growing chains

    def _start(self) -> _Rows:
        one = np.zeros(1, dtype=np.int16)
        return _Rows(
            np.empty((1, 0), dtype=np.int16), np.zeros(1), one, one + self.problem.place_rear[0], one - np.int16(1)
        )

    def _goal(self) -> _Rows:
        last = len(self.problem.place_front) - 1
        one = np.zeros(1, dtype=np.int16)
        return _Rows(
            np.empty((1, 0), dtype=np.int16),
            np.zeros(1),
            one + np.int16(last),
            one + self.problem.place_front[last],
            one - np.int16(1),
        )

    def _closed(self, rows: _Rows) -> _Rows:
        """Add the rows that go on into the next place, where the chain's end mates the fixed part."""
        parts = [rows]
        for place in range(len(self.problem.place_front) - 1):
            here = _Rows.stacked(parts)
            across = (here.place == place) & self.problem.mates[here.end, self.problem.place_front[place]]
            moved = here.take(across)
            moved.place += 1
            moved.end[:] = self.problem.place_rear[place + 1]
            moved.last[:] = -1
            parts.append(moved)
        return _Rows.stacked(parts)

    def _closed_back(self, rows: _Rows) -> _Rows:
        parts = [rows]
        for place in range(len(self.problem.place_front) - 1, 0, -1):
            here = _Rows.stacked(parts)
            across = (here.place == place) & self.problem.mates[self.problem.place_rear[place], here.end]
            moved = here.take(across)
            moved.place -= 1
            moved.end[:] = self.problem.place_front[place - 1]
            moved.last[:] = -1
            parts.append(moved)
        return _Rows.stacked(parts)

    def _grown(self, rows: _Rows) -> _Rows:
        """Return every chain that is longer by one piece at the sensor's side."""
        p, closed = self.problem, self._closed(rows)
        grown = [closed.take(np.zeros(0, dtype=int))]
        grown[0].used = np.empty((0, closed.used.shape[1] + 1), dtype=np.int16)
        for piece in range(len(p.pieces)):
            self._check()
            shim = bool(p.shim[piece])
            allowed = (closed.place == len(p.place_front) - 1 if shim else p.mates[closed.end, p.front[piece]]) & ~(
                closed.used == piece
            ).any(axis=1)
            allowed &= _in_order(p, closed.last, np.int16(piece))
            grown.append(_with_piece(closed.take(allowed), piece, p, None if shim else p.rear[piece], back=False))
        return _Rows.stacked(grown)

    def _grown_back(self, rows: _Rows) -> _Rows:
        """Return every chain that is longer by one piece at the telescope's side."""
        p, closed = self.problem, self._closed_back(rows)
        grown = [closed.take(np.zeros(0, dtype=int))]
        grown[0].used = np.empty((0, closed.used.shape[1] + 1), dtype=np.int16)
        for piece in range(len(p.pieces)):
            self._check()
            shim = bool(p.shim[piece])
            allowed = (closed.place == len(p.place_front) - 1 if shim else p.mates[p.rear[piece], closed.end]) & ~(
                closed.used == piece
            ).any(axis=1)
            first = closed.last
            allowed &= (first < 0) | _in_order(p, np.full_like(first, piece), first)
            grown.append(_with_piece(closed.take(allowed), piece, p, None if shim else p.front[piece], back=True))
        return _Rows.stacked(grown)

    # Joining

    def _join(self, forward: _Rows, backward: _Rows, limit: float) -> None:
        p = self.problem
        for place in range(len(p.place_front)):
            for end in np.unique(backward.end[backward.place == place]):
                rows = backward.take((backward.place == place) & (backward.end == end))
                order = np.argsort(rows.length, kind="stable")
                rows = rows.take(order)
                fits = (forward.place == place) & p.mates[forward.end, end]
                self._pairs(forward.take(fits), rows, limit)

    def _pairs(self, forward: _Rows, backward: _Rows, limit: float) -> None:
        """Look at every pair whose lengths add up to within the limit, or within what would still be kept."""
        start, size = 0, forward.length.size
        while start < size:
            self._check()
            width = self._width(limit, forward.used.shape[1] + backward.used.shape[1])
            if width < 0:
                return
            need = self.wanted - forward.length[start : start + _CHUNK]
            low = np.searchsorted(backward.length, need - width, side="left")
            high = np.searchsorted(backward.length, need + width, side="right")
            counts = np.cumsum(high - low)
            # As many rows as give one chunk of pairs, at least one.
            taken = max(1, int(np.searchsorted(counts, _CHUNK, side="right")))
            number = (high - low)[:taken]
            if number.sum():
                left = np.repeat(np.arange(start, start + taken), number)
                offsets = np.arange(number.sum()) - np.repeat(np.cumsum(number) - number, number)
                right = np.repeat(low[:taken], number) + offsets
                self._keep(forward, backward, left, right)
            start += taken

    def _width(self, limit: float, count: int) -> float:
        """Return how large an error may be to be kept still: ties go to fewer pieces, which came before."""
        if len(self.found) < self.kept:
            return limit + SAME_MM / 2
        last = self._ranked()[self.kept - 1]
        ties = SAME_MM if len(last.used) == count else -SAME_MM / 2
        return min(limit + SAME_MM / 2, abs(last.error) + ties)

    def _keep(self, forward: _Rows, backward: _Rows, left: NDArray[Any], right: NDArray[Any]) -> None:
        p = self.problem
        apart = np.ones(left.size, dtype=bool)
        for column in range(forward.used.shape[1]):
            for other in range(backward.used.shape[1]):
                apart &= forward.used[left, column] != backward.used[right, other]
        if backward.used.shape[1]:
            apart &= _in_order(p, forward.last[left], backward.last[right])
        left, right = left[apart], right[apart]
        if not left.size:
            return
        used = np.concatenate([forward.used[left], backward.used[right]], axis=1)
        errors = forward.length[left] + backward.length[right] - self.wanted
        worst = p.half_widths[used].sum(axis=1)
        order = np.lexsort((worst, np.round(np.abs(errors) / SAME_MM)))
        bound = self._ranked()[self.kept - 1].key if len(self.found) >= self.kept else None
        for row in order:
            entry = Found(tuple(int(i) for i in used[row]), float(errors[row]), float(worst[row]))
            if bound is not None and entry.key >= bound:
                break
            signature = tuple(sorted(p.group[i] for i in entry.used))
            known = self.found.get(signature)
            if known is None or entry.key < known.key:
                self.found[signature] = entry
                bound = self._ranked()[self.kept - 1].key if len(self.found) >= self.kept else None
        best = sorted(self.found.items(), key=lambda item: item[1].key)
        self.found = dict(best[: self.kept])

    def _check(self) -> None:
        if self.should_stop():
            raise SearchCancelledError


def problem_of(places: list[Place], stock: list[tuple[Part, int]]) -> Problem:
    """Put places and stock into numbers; two ends mate when they screw together without bottoming out."""
    ends: dict[Joint | None, int] = {}

    def end(joint: Joint | None) -> int:
        return ends.setdefault(joint, len(ends))

    pieces = [part for part, owned in stock for _ in range(min(owned, MOST_PIECES))]
    groups = [number for number, (_, owned) in enumerate(stock) for _ in range(min(owned, MOST_PIECES))]
    front = np.array([end(p.front) for p in pieces], dtype=np.int16)
    rear = np.array([end(p.rear) for p in pieces], dtype=np.int16)
    place_rear, place_front = [end(p.rear) for p in places], [end(p.front) for p in places]
    joints = list(ends)
    mates = np.zeros((len(joints), len(joints)), dtype=bool)
    for i, one in enumerate(joints):
        for j, other in enumerate(joints):
            state = meet(one, other)
            mates[i, j] = state.mating == "unknown" or (state.mating == "mates" and state.gap_mm == 0)
    shim = np.array([is_shim(p) for p in pieces], dtype=bool)
    loop = np.array([bool(mates[r, f]) for f, r in zip(front, rear, strict=True)], dtype=bool) & ~shim
    lengths = np.array([p.optical_length_mm for p in pieces], dtype=float)
    widths = np.array([p.length_tolerance_mm or 0.0 for p in pieces], dtype=float)
    return Problem(pieces, lengths, widths, front, rear, shim, loop, mates, place_rear, place_front, groups)


def _in_order(p: Problem, before: NDArray[Any], after: NDArray[Any] | np.int16) -> NDArray[np.bool_]:
    """Return whether a piece may directly follow another in the one order that commuting pieces are taken in.

    Shims come first in their place; equal rings and shims by ascending index. ``before`` below 0 is no piece.
    """
    none = before < 0
    same_type = (p.front[before] == p.front[after]) & (p.rear[before] == p.rear[after]) & p.loop[before] & p.loop[after]
    order = np.where(p.shim[after], p.shim[before] & (before < after), ~same_type | (before < after))
    result: NDArray[np.bool_] = none | order
    return result


def _with_piece(rows: _Rows, piece: int, p: Problem, end: Any, *, back: bool) -> _Rows:
    column = np.full((rows.length.size, 1), piece, dtype=np.int16)
    rows.used = np.concatenate([column, rows.used] if back else [rows.used, column], axis=1)
    rows.length = rows.length + p.lengths[piece]
    if end is not None:
        rows.end = np.full_like(rows.end, end)
    rows.last = np.full_like(rows.last, piece)
    return rows


def arranged(p: Problem, places: list[Place], used: tuple[int, ...]) -> tuple[tuple[Part, ...], ...]:
    """Divide a chain over the places: a depth-first walk that crosses a fixed part where the ends mate."""
    last = len(places) - 1

    def walk(at: int, place: int, end: int) -> list[list[int]] | None:
        if at == len(used) and place == last:
            return [[]] if p.mates[end, p.place_front[place]] else None
        if at < len(used):
            piece = used[at]
            shim = bool(p.shim[piece])
            if (shim and place == last) or (not shim and p.mates[end, p.front[piece]]):
                rest = walk(at + 1, place, end if shim else int(p.rear[piece]))
                if rest is not None:
                    return [[piece, *rest[0]], *rest[1:]]
        if place < last and p.mates[end, p.place_front[place]]:
            rest = walk(at, place + 1, p.place_rear[place + 1])
            if rest is not None:
                return [[], *rest]
        return None

    found = walk(0, 0, p.place_rear[0])
    assert found is not None, "a chain that the search made always fits its places"
    return tuple(tuple(p.pieces[i] for i in place) for place in found)

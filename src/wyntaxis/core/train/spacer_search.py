"""The search behind the spacers: the best sets of pieces in exact order, by bounds on what can still be reached.

Two tables make it quick. *Walks* tell for each vertex and remaining length what finishing costs at least, where pieces
that change the joint may be used again and again and loops may stand anywhere: never more than the truth. *Loops* tell
exactly what a subset of the loops at the classes visited costs (a subset sum by dynamic programming). A best-first
search over trails, ordered by error, then number of pieces, then worst case, meets sets in just that order, so the
first ones found are the best there are, whatever the number of pieces.
"""

from __future__ import annotations

import heapq
import itertools
import time
from collections import Counter, OrderedDict
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from wyntaxis.core.files.errors import CancelledError
from wyntaxis.core.train.spacer_problem import COUNT, MAX_STATES, Crossing, Edge, Problem, SpecialSet
from wyntaxis.core.train.spacer_tables import (
    NOTHING,
    Costs,
    LoopNode,
    Loops,
    Steps,
    followed,
    unrolled,
    with_copies,
    with_one,
)

KEPT = 10
SAME_MM = 1e-6
"""Errors that differ by less are equal, and fewer pieces decide."""
DEFAULT_SECONDS = 3.0
"""How long the search may take before it says that it has not proven its answer."""
MAX_NODES_A_LEVEL = 2_500
"""Opened for targets of one error before the order of worst cases, and then the level, is given up."""
MAX_STATES_NEAREST = 4 * MAX_STATES
TABLE_BYTES = 200 << 20


@dataclass(frozen=True)
class Found:
    """A set: how many of which kind, the trail of those that change the joint, the error, and how far to set ranges."""

    counts: tuple[tuple[int, int], ...]
    trail: tuple[Edge | Crossing | int, ...]
    error_mm: float
    cost: int
    extra_mm: float

    @property
    def key(self) -> tuple[int, int]:
        return (round(abs(self.error_mm) / SAME_MM), self.cost)


class _Node(NamedTuple):
    """A place in the search: the vertex, the length still to fill, what was used, and the trail so far."""

    vertex: int
    left: int
    visited: frozenset[int]
    used: tuple[tuple[int, int], ...]
    pending: tuple[tuple[int, int], ...]
    cost: int
    trail: Any


@dataclass
class Search:
    """One search: sets that add up to ``wanted_mm``."""

    problem: Problem
    wanted_mm: float
    should_stop: Callable[[], bool]
    seconds: float = DEFAULT_SECONDS
    proven: bool = True
    _given_up: bool = False
    _tables: OrderedDict[frozenset[int], Loops] = field(default_factory=OrderedDict)

    def best(self, limit_mm: float, kept: int = KEPT) -> list[Found]:
        """Return the best sets with an error of at most ``limit_mm``, by error, then count, then worst case."""
        return self._within(limit_mm, kept, self.wanted_mm + limit_mm, time.monotonic() + self.seconds)

    def nearest(self) -> Found | None:
        """Return the set with the least error, however large."""
        kinds = self.problem.kinds
        ends = time.monotonic() + self.seconds
        whole = sum((kind.low_mm + kind.slack_mm) * kind.owned for kind in kinds)
        reach = max(self.wanted_mm, 0.0) + 10.0
        while reach <= MAX_STATES_NEAREST * self.problem.unit_mm:
            found = self._within(reach + abs(self.wanted_mm), 1, min(reach, whole + 1), ends)
            if found or reach > whole or time.monotonic() > ends:
                return found[0] if found else None
            reach *= 2
        self.proven = False
        return None

    def _within(self, limit_mm: float, kept: int, reach_mm: float, ends: float) -> list[Found]:
        p = self.problem
        self._check()
        self._tables.clear()
        self._size = max(0, int(reach_mm / p.unit_mm + 1e-6)) + 1
        self._steps = [Steps.of(p, vertex) for vertex in range(len(p.vertices))]
        self._bound = self._walks()
        self.proven = p.complete
        best: list[Found] = []
        for level in self._levels(limit_mm):
            room = kept - len(best)
            found = list(itertools.islice(self._sets_of(level, ends, fine=True), room))
            if self._given_up and len(found) < room:
                # Which worst case is least cannot be told in time; which sets there are, with the fewest pieces, can.
                self.proven = False
                known = {entry.counts for entry in found}
                more = itertools.islice(self._sets_of(level, ends, fine=False), kept)
                found += [entry for entry in more if entry.counts not in known]
                found = sorted(found, key=lambda entry: entry.cost)[:room]
            best += found
            if len(best) == kept:
                break
            if time.monotonic() > ends:
                self.proven = False
                break
        return best

    # The order of the targets

    def _levels(self, limit_mm: float) -> Iterator[list[tuple[float, SpecialSet, int]]]:
        """Yield targets of equal error, the smallest error first: (error, special set, length in units)."""
        p = self.problem
        errors: list[NDArray[np.float64]] = []
        which: list[NDArray[np.int64]] = []
        lengths: list[NDArray[np.int64]] = []
        reachable = np.flatnonzero(self._bound[p.threads[0]] < NOTHING)
        for index, special in enumerate(p.specials):
            rest = self.wanted_mm - special.low_mm - reachable * p.unit_mm
            error = np.where(rest < 0, -rest, np.minimum(0.0, special.slack_mm - rest))
            near = np.abs(error) <= limit_mm + SAME_MM / 2
            errors.append(error[near])
            which.append(np.full(int(near.sum()), index))
            lengths.append(reachable[near])
        error, numbers, length = np.concatenate(errors), np.concatenate(which), np.concatenate(lengths)
        rank = np.round(np.abs(error) / SAME_MM).astype(np.int64)
        order = np.argsort(rank, kind="stable")
        for _, group in itertools.groupby(order, key=rank.__getitem__):
            yield [(float(error[i]), p.specials[numbers[i]], int(length[i])) for i in group]

    def _sets_of(self, level: list[tuple[float, SpecialSet, int]], ends: float, *, fine: bool) -> Iterator[Found]:
        """Yield the sets of some targets, each choice of pieces once, the cheapest first.

        Not ``fine``, those of equal count come in any order. Where it takes too long it stops, and says so in
        ``_given_up``.
        """
        p = self.problem
        self._given_up = False
        digits = 0 if fine else COUNT.bit_length() - 1
        heap: list[tuple[int, int, int, Any]] = []
        number = itertools.count()
        first = frozenset({p.vertices[0][1]})
        for target, (_, special, length) in enumerate(level):
            node = _Node(0, length, first, (), special.counts, special.cost, None)
            cost = special.cost + self._least(0, length)
            heap.append((cost >> digits, length, next(number), (target, node)))
        heapq.heapify(heap)
        seen: set[Any] = set()
        known: set[Any] = set()
        opened = 0
        while heap:
            _, _, _, (target, node) = heapq.heappop(heap)
            opened += 1
            if opened % 64 == 0:
                self._check()
            if opened > MAX_NODES_A_LEVEL or (opened % 64 == 0 and time.monotonic() > ends):
                self._given_up = True
                return
            if isinstance(node, _Node):
                mark = (target, node.vertex, node.left, node.visited, node.used, node.pending)
                if mark in seen:
                    continue
                seen.add(mark)
                for bound, after in itertools.chain(self._onward(node), self._into_loops(node)):
                    left = after.left if isinstance(after, _Node) else 0
                    heapq.heappush(heap, (bound >> digits, left, next(number), (target, after)))
                continue
            for bound, after in node.onward():
                heapq.heappush(heap, (bound >> digits, after.left, next(number), (target, after)))
            if not node.is_whole:
                continue
            counts = node.counts(p.kinds)
            if counts is None:
                continue
            error, special, length = level[target]
            whole = tuple(sorted((Counter(counts) + Counter(dict(special.counts))).items()))
            if whole not in known:
                known.add(whole)
                rest = self.wanted_mm - special.low_mm - length * p.unit_mm
                yield Found(whole, node.trail, error, node.cost, min(max(rest, 0.0), special.slack_mm))

    # Trails

    def _onward(self, node: _Node) -> Iterator[tuple[int, _Node]]:
        """Yield what may come next in a trail, each with what the whole will cost at least."""
        steps = self._steps[node.vertex]
        lengths = node.left - steps.lengths
        bounds = np.where(lengths >= 0, self._bound[steps.threads, np.maximum(lengths, 0)], NOTHING)
        used, kinds = dict(node.used), self.problem.kinds
        for index in np.flatnonzero(bounds < NOTHING):
            edge = steps.edges[index]
            pending = node.pending
            if kinds[edge.kind].special:
                left = Counter(dict(pending))
                if not left[edge.kind]:
                    continue
                left[edge.kind] -= 1
                pending, cost = tuple(sorted((+left).items())), 0
            elif used.get(edge.kind, 0) >= kinds[edge.kind].owned:
                continue
            else:
                cost = kinds[edge.kind].cost
            base = self._after(node, edge.to, int(lengths[index]), edge, pending, node.cost + cost)
            if cost:
                base = base._replace(used=with_one(base.used, edge.kind))
            yield from self._over_gap(base, edge.gap_mm, node.trail, edge)
        crossing = self.problem.crossings[node.vertex]
        if crossing is not None and crossing.to is not None:
            base = self._after(node, crossing.to, node.left, crossing, node.pending, node.cost)
            yield from self._over_gap(base, crossing.gap_mm, node.trail, crossing)

    def _after(self, node: _Node, to: int, left: int, step: Any, pending: Any, cost: int) -> _Node:
        visited = node.visited | {self.problem.vertices[to][1]}
        return _Node(to, left, visited, node.used, pending, cost, (node.trail, step))

    def _over_gap(self, base: _Node, gap_mm: float, trail: Any, step: Any) -> Iterator[tuple[int, _Node]]:
        """Yield a step, once for each set of rings that fills the gap in its joint."""
        if gap_mm == 0:
            bound = self._least(base.vertex, base.left)
            if bound < NOTHING:
                yield base.cost + bound, base
            return
        for rings, used, cost, left in self._filled(base, gap_mm):
            bound = self._least(base.vertex, left)
            if bound < NOTHING:
                through = (followed(trail, rings), step)
                yield cost + bound, base._replace(left=left, used=used, cost=cost, trail=through)

    def _filled(self, node: _Node, gap_mm: float) -> Iterator[tuple[tuple[int, ...], Any, int, int]]:
        """Yield the sets of rings that fill a gap, with what is then used, its cost, and the length left."""
        kinds = self.problem.kinds
        for rings in self.problem.covers[gap_mm]:
            used, left, cost = node.used, node.left, node.cost
            for ring in rings:
                used, left, cost = with_one(used, ring), left - kinds[ring].length, cost + kinds[ring].cost
            if left >= 0 and all(n <= kinds[k].owned for k, n in used):
                yield rings, used, cost, left

    def _into_loops(self, node: _Node) -> Iterator[tuple[int, LoopNode]]:
        """Yield the way out of the trail, where it may end here: what is left is filled by loops."""
        crossing = self.problem.crossings[node.vertex]
        if crossing is None or crossing.to is not None:
            return
        at_hand = {kind for end in node.visited for kind in self.problem.loops.get(end, ())}
        if any(kind not in at_hand for kind, _ in node.pending):
            return
        loops = self._loops(node.visited)
        endings: Any = (((), node.used, node.cost, node.left),)
        if crossing.gap_mm:
            endings = self._filled(node, crossing.gap_mm)
        for rings, used, cost, left in endings:
            bound = int(loops.tables[0][left])
            if bound < NOTHING:
                trail = unrolled((followed(node.trail, rings), crossing))
                yield cost + bound, LoopNode(loops, 0, left, None, used, cost, trail)

    def _least(self, vertex: int, left: int) -> int:
        return int(self._bound[self.problem.threads[vertex], left])

    # Tables

    def _walks(self) -> Costs:
        """Return by thread and length the least that finishing costs.

        Edges may be used at will, loops stand anywhere, and a joint that bottoms out needs no ring: never more than
        the truth. Nor is what the pieces cost when each is used once and joints do not matter; the dearer one counts.
        """
        p, size = self.problem, self._size
        into, anywhere, ends = self._ways()
        cost = np.full((len(into), size), NOTHING, dtype=np.int64)
        cost[sorted(ends), 0] = 0
        fresh = {vertex: np.zeros(1, dtype=np.int64) for vertex in sorted(ends)}
        while fresh:
            self._check()
            changed: dict[int, NDArray[np.bool_]] = {}
            values = {vertex: cost[vertex, at] for vertex, at in fresh.items()}
            for to, at in fresh.items():
                for vertex, length, price in into[to]:
                    here = at[: np.searchsorted(at, size - length)] + length
                    value = values[to][: here.size] + price
                    better = value < cost[vertex, here]
                    if better.any():
                        here = here[better]
                        cost[vertex, here] = value[better]
                        changed.setdefault(vertex, np.zeros(size, dtype=bool))[here] = True
            fresh = {vertex: np.flatnonzero(marks) for vertex, marks in changed.items()}
        for kind in sorted(anywhere):
            self._check()
            if not p.kinds[kind].special:
                cost = with_copies(cost, p.kinds[kind])
        return np.maximum(cost, self._once(anywhere | {edge.kind for row in p.edges for edge in row}))

    def _ways(self) -> tuple[list[dict[tuple[int, int, int], None]], set[int], set[int]]:
        """Return by thread what leads to it (from, length, cost), the kinds that fit anywhere, and threads that end."""
        p = self.problem
        into: list[dict[tuple[int, int, int], None]] = [{} for _ in range(max(p.threads) + 1)]
        anywhere = {kind for row in p.loops.values() for kind in row}
        ends: set[int] = set()
        for vertex, row in enumerate(p.edges):
            start = p.threads[vertex]
            for edge in row:
                piece, to = p.kinds[edge.kind], p.threads[edge.to]
                if piece.special:
                    into[to][start, 0, 0] = None
                elif to == start:
                    anywhere.add(edge.kind)
                else:
                    into[to][start, piece.length, piece.cost] = None
            crossing = p.crossings[vertex]
            if crossing is not None and crossing.to is None:
                ends.add(start)
            elif crossing is not None and crossing.to is not None:
                into[p.threads[crossing.to]][start, 0, 0] = None
        return into, anywhere, ends

    def _once(self, kinds: Iterable[int]) -> Costs:
        """Return by length the least that pieces cost which are each used once, whatever their joints."""
        cost = np.full(self._size, NOTHING, dtype=np.int64)
        cost[0] = 0
        for kind in kinds:
            self._check()
            if not self.problem.kinds[kind].special:
                cost = with_copies(cost, self.problem.kinds[kind])
        return cost

    def _loops(self, visited: frozenset[int]) -> Loops:
        """Return the subset sums of the loops at these classes, kept while there is room."""
        p = self.problem
        kinds = {k for end in visited for k in p.loops.get(end, ()) if not p.kinds[k].special}
        key = frozenset(kinds)
        if key in self._tables:
            self._tables.move_to_end(key)
            return self._tables[key]
        ordered = tuple(sorted(kinds, key=lambda k: (-p.kinds[k].length, k)))
        last = np.full(self._size, NOTHING, dtype=np.int64)
        last[0] = 0
        tables = [last]
        for kind in reversed(ordered):
            self._check()
            tables.append(with_copies(tables[-1], p.kinds[kind]))
        self._tables[key] = Loops(ordered, tuple(p.kinds[k] for k in ordered), tables[::-1])
        while (
            len(self._tables) > 1 and sum(sum(t.nbytes for t in x.tables) for x in self._tables.values()) > TABLE_BYTES
        ):
            self._tables.popitem(last=False)
        return self._tables[key]

    def _check(self) -> None:
        if self.should_stop():
            raise CancelledError

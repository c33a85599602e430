"""What the spacer search reads off tables: subset sums of pieces that leave the joint as it is, and their choices."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from wyntaxis.core.train.spacer_problem import Edge, Kind, Problem

NOTHING = np.int64(1) << 62
"""The cost of what cannot be reached."""

Costs = NDArray[np.int64]


@dataclass
class Loops:
    """The subset sums of the loops at some classes: kinds, and by position what filling each length costs."""

    kinds: tuple[int, ...]
    pieces: tuple[Kind, ...]
    tables: list[Costs]

    @property
    def size_bytes(self) -> int:
        return sum(table.nbytes for table in self.tables)


class LoopNode(NamedTuple):
    """A place among the loops: which kind is decided next, the length still to fill, and what was chosen."""

    loops: Loops
    at: int
    left: int
    chosen: Any
    used: tuple[tuple[int, int], ...]
    cost: int
    trail: tuple[Any, ...]

    @property
    def is_whole(self) -> bool:
        """Whether every kind has been decided."""
        return self.at == len(self.loops.kinds)

    def onward(self) -> Iterator[tuple[int, LoopNode]]:
        """Yield the choices of the next kind that still lead to an end, each with what the whole will cost."""
        node = self
        while not node.is_whole:
            kind = node.loops.kinds[node.at]
            more = node.loops.pieces[node.at]
            after, found = node.loops.tables[node.at + 1], []
            most = more.owned if more.length == 0 else min(more.owned, node.left // more.length)
            for n in range(most + 1):
                left = node.left - n * more.length
                rest = int(after[left])
                if rest < NOTHING:
                    chosen = (node.chosen, kind, n) if n else node.chosen
                    cost = node.cost + n * more.cost
                    found.append((cost + rest, node._replace(at=node.at + 1, left=left, chosen=chosen, cost=cost)))
            if len(found) != 1:
                yield from found
                return
            node = found[0][1]
        if node is not self:
            yield node.cost, node

    def counts(self, kinds: list[Kind]) -> dict[int, int] | None:
        """Return how many of which kind the set takes, or None where trail and loops take more than there are."""
        counts = dict(self.used)
        chosen = self.chosen
        while chosen is not None:
            chosen, kind, n = chosen
            counts[kind] = counts.get(kind, 0) + n
        return counts if all(n <= kinds[kind].owned for kind, n in counts.items()) else None


class Steps(NamedTuple):
    """The edges of a vertex, as arrays."""

    edges: list[Edge]
    lengths: NDArray[np.int64]
    threads: NDArray[np.int64]

    @staticmethod
    def of(p: Problem, vertex: int) -> Steps:
        """Return the edges of a vertex."""
        edges = p.edges[vertex]
        lengths = [0 if p.kinds[edge.kind].special else p.kinds[edge.kind].length for edge in edges]
        threads = [p.threads[edge.to] for edge in edges]
        return Steps(edges, np.array(lengths, dtype=np.int64), np.array(threads, dtype=np.int64))


def with_one(used: tuple[tuple[int, int], ...], kind: int) -> tuple[tuple[int, int], ...]:
    """Return how many of each kind are used with one more of a kind."""
    counts = dict(used)
    counts[kind] = counts.get(kind, 0) + 1
    return tuple(sorted(counts.items()))


def followed(trail: Any, steps: Iterable[int]) -> Any:
    """Return a trail with more steps behind it."""
    for step in steps:
        trail = (trail, step)
    return trail


def unrolled(trail: Any) -> tuple[Any, ...]:
    """Return the steps of a trail in order."""
    steps = []
    while trail is not None:
        trail, step = trail
        steps.append(step)
    return tuple(reversed(steps))


def with_copies(costs: Costs, kind: Kind) -> Costs:
    """Return what each length costs when up to ``owned`` pieces of a kind may be added (bounded subset sum)."""
    size = costs.shape[-1]
    if kind.length == 0 or kind.length >= size:
        return costs
    left, lot = min(kind.owned, (size - 1) // kind.length), 1
    while left > 0:
        taken = min(lot, left)
        shift = taken * kind.length
        more = costs.copy()
        if shift < size:
            np.minimum(more[..., shift:], costs[..., :-shift] + taken * kind.cost, out=more[..., shift:])
        costs, left, lot = more, left - taken, lot * 2
    return costs

"""The spacer search in numbers: which ends meet, what each kind of piece adds, and how it may be put in.

Ends that meet every other end alike are one *class*. A piece that leaves the class as it finds it is a *loop* there: it
commutes with all others, so only its length counts. A piece that changes the class is an *edge* of a small graph, in
which a set is a trail from the telescope's side to the camera's. Lengths are whole numbers of a unit, the greatest that
divides them all; pieces for which there is none (glass, adjustable ranges, odd lengths) are *special* and tried set by
set.
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass, field
from typing import NamedTuple

from wyntaxis.core.rig.parts import Joint, Part
from wyntaxis.core.train.joints import is_loose_ring, is_shim, lies_in_joint, meet
from wyntaxis.core.train.lightpath import plates_of, total_shift

TICK_MM = 1e-5
"""Lengths are told apart to this."""
MICRON_TICKS = 100
MAX_STATES = 400_000
"""Reachable lengths that are kept at the most; odd lengths become special pieces beyond it."""
COUNT = 1 << 32
"""One piece more in a cost; below it, the worst case in nm decides."""
MAX_SPECIAL_SETS = 256
"""Choices of glass, adjustable and odd pieces that are tried at the most, those of few pieces first."""
MAX_COVERS = 400
"""Ways to fill one gap with rings that are tried at the most, those of few rings first."""


@dataclass(frozen=True)
class Place:
    """Where pieces may stand: between a fixed part's rear end and the next fixed part's front end."""

    before: Part
    after: Part
    rear: Joint | None
    front: Joint | None


class Way(NamedTuple):
    """One way to put a piece in: its ends as they then lie, and whether it is turned round."""

    front: Joint | None
    rear: Joint | None
    turned: bool


@dataclass
class Kind:
    """Pieces that are interchangeable: same ends, length and tolerance. ``groups`` are (index in the stock, owned).

    ``low_mm`` is the least length that a piece adds, less the shift of its glass; ``slack_mm`` how much longer it can
    be set.
    """

    part: Part
    ways: tuple[Way, ...]
    low_mm: float
    slack_mm: float
    half_widths_mm: tuple[float, ...]
    shim: bool
    special: bool
    groups: list[tuple[int, int]] = field(default_factory=list)
    length: int = 0

    @property
    def owned(self) -> int:
        return sum(owned for _, owned in self.groups)

    @property
    def cost(self) -> int:
        """One piece, and its worst case in nm."""
        return COUNT + sum(round(width * 1e6) for width in self.half_widths_mm)


class Edge(NamedTuple):
    """A piece that leads from one vertex to another; ``gap_mm`` is what a ring must fill in the joint before it."""

    kind: int
    way: Way
    to: int
    gap_mm: float


class Crossing(NamedTuple):
    """The step over a fixed part into the next place, or out of the last one (``to`` is None)."""

    to: int | None
    gap_mm: float


@dataclass(frozen=True)
class SpecialSet:
    """Special pieces that are used together: how many of which kind, and what length they give and leave to set."""

    counts: tuple[tuple[int, int], ...]
    low_mm: float
    slack_mm: float
    cost: int


@dataclass
class Problem:
    """Kinds, vertices (place, class of the exposed end), and how to go from one vertex to the next."""

    places: list[Place]
    kinds: list[Kind]
    unit_mm: float
    vertices: list[tuple[int, int]]
    threads: list[int]
    """By vertex: a number for its place and thread, whatever the depths; what bounds are computed by."""
    edges: list[list[Edge]]
    crossings: list[Crossing | None]
    loops: dict[int, dict[int, Way]]
    """By class of the exposed end: the kinds that leave it as it is, and how they then lie."""
    covers: dict[float, list[tuple[int, ...]]]
    """By gap: the smallest sets of loose rings, as kinds, that fill it."""
    specials: list[SpecialSet]
    complete: bool = True
    """Whether every combination was admitted; False where there were too many to try them all."""


def problem_of(places: list[Place], stock: list[tuple[Part, int]], reach_mm: float) -> Problem:
    """Put places and stock into numbers, for sets of up to ``reach_mm``."""
    kinds = _kinds(stock)
    unit_mm, complete = _unit(kinds, reach_mm)
    classes = _Classes(places, kinds)
    vertices: dict[tuple[int, int], int] = {}
    edges: list[list[Edge]] = []
    crossings: list[Crossing | None] = []
    loops: dict[int, dict[int, Way]] = {}
    waiting = [(0, classes.of(places[0].rear))]
    vertices[waiting[0]] = 0

    def vertex(place: int, end: int) -> int:
        key = (place, end)
        if key not in vertices:
            vertices[key] = len(vertices)
            waiting.append(key)
        return vertices[key]

    while waiting:
        place, end = waiting.pop(0)
        found = []
        for index, kind in enumerate(kinds):
            if kind.shim:
                loops.setdefault(end, {})[index] = kind.ways[0]
                continue
            for way in kind.ways:
                gap = classes.gap(end, way.front)
                if gap is None:
                    continue
                to = classes.of(way.rear)
                if gap == 0 and to == end:
                    loops.setdefault(end, {}).setdefault(index, way)
                else:
                    found.append(Edge(index, way, vertex(place, to), gap))
        edges.append(found)
        gap = classes.gap(end, places[place].front)
        if gap is None:
            crossings.append(None)
        elif place + 1 < len(places):
            crossings.append(Crossing(vertex(place + 1, classes.of(places[place + 1].rear)), gap))
        else:
            crossings.append(Crossing(None, gap))
    gaps = {edge.gap_mm for row in edges for edge in row} | {c.gap_mm for c in crossings if c is not None}
    covers = {}
    for gap in sorted(gaps - {0.0}):
        covers[gap], whole = _covers(kinds, gap)
        complete = complete and whole
    specials, whole = _special_sets(kinds)
    order = sorted(vertices, key=vertices.__getitem__)
    numbers: dict[tuple[int, int], int] = {}
    threads = [numbers.setdefault((place, classes.thread(end)), len(numbers)) for place, end in order]
    return Problem(
        places, kinds, unit_mm, order, threads, edges, crossings, loops, covers, specials, complete and whole
    )


def _kinds(stock: list[tuple[Part, int]]) -> list[Kind]:
    found: dict[tuple[object, ...], Kind] = {}
    for number, (part, owned) in enumerate(stock):
        straight = Way(part.front, part.rear, False)
        ways = (straight,) if part.front == part.rear else (straight, Way(part.rear, part.front, True))
        plates = plates_of((part,))
        shift = total_shift(plates)
        low, high = (part.length_mm,) * 2
        if part.adjustable is not None:
            low, high = part.adjustable.min_mm, part.adjustable.max_mm
        widths = ((part.length_tolerance_mm or 0.0), *(plate.half_width_mm for plate in plates))
        odd = abs(low / TICK_MM - round(low / TICK_MM)) > 1e-3
        special = bool(plates) or high > low or odd
        key = (part.front, part.rear, low - shift, high - low, widths, is_shim(part), part.id if special else "")
        if key not in found:
            found[key] = Kind(part, ways, low - shift, high - low, widths, is_shim(part), special)
        found[key].groups.append((number, owned))
    return list(found.values())


def _unit(kinds: list[Kind], reach_mm: float) -> tuple[float, bool]:
    """Return the unit in mm, set every kind's length in it, and say whether all lengths are exact in it."""
    complete = True
    for fine in (True, False):
        ticks = {i: round(kind.low_mm / TICK_MM) for i, kind in enumerate(kinds) if not kind.special}
        unit = math.gcd(*ticks.values()) or MICRON_TICKS
        if reach_mm / (unit * TICK_MM) <= MAX_STATES:
            break
        if fine:
            for index, length in ticks.items():
                kinds[index].special = length % MICRON_TICKS != 0
        else:  # lengths to the µm over a train of metres
            unit, complete = math.ceil(reach_mm / MAX_STATES / TICK_MM), False
    for index, length in ticks.items():
        kinds[index].length = round(length / unit)
    return unit * TICK_MM, complete


class _Classes:
    """Ends by class: two exposed ends are of one class when they meet every front of the problem alike."""

    def __init__(self, places: list[Place], kinds: list[Kind]) -> None:
        ways = [way for kind in kinds for way in kind.ways if not kind.shim]
        fronts = {way.front for way in ways} | {place.front for place in places}
        rears = {way.rear for way in ways} | {place.rear for place in places}
        self._meeting: dict[tuple[object, object], bool] = {}
        self._gaps = {rear: {front: self._gap(rear, front) for front in fronts} for rear in rears}
        rows: dict[tuple[float | None, ...], int] = {}
        self._class: dict[Joint | None, int] = {}
        self._rows: list[dict[Joint | None, float | None]] = []
        self._threads: dict[tuple[bool, ...], int] = {}
        for rear, row in self._gaps.items():
            number = rows.setdefault(tuple(row.values()), len(rows))
            self._class[rear] = number
            if number == len(self._rows):
                self._rows.append(row)

    def _gap(self, rear: Joint | None, front: Joint | None) -> float | None:
        if rear is None or front is None:
            return 0.0
        key = ((rear.thread, rear.gender), (front.thread, front.gender))
        if key not in self._meeting:
            self._meeting[key] = meet(rear, front).mating == "mates"
        if not self._meeting[key]:
            return None
        male, female = (rear, front) if rear.gender == "male" else (front, rear)
        if male.gender != "male" or male.depth_mm is None or female.depth_mm is None:
            return 0.0
        return max(0.0, male.depth_mm - female.depth_mm)

    def of(self, rear: Joint | None) -> int:
        return self._class[rear]

    def thread(self, end: int) -> int:
        """Return a number for all classes that mate with the same fronts, bottoming out or not."""
        row = tuple(gap is not None for gap in self._rows[end].values())
        return self._threads.setdefault(row, len(self._threads))

    def gap(self, end: int, front: Joint | None) -> float | None:
        """Return the gap that a ring must fill where a front meets a class of ends, None where they do not mate."""
        return self._rows[end][front]


def _covers(kinds: list[Kind], gap_mm: float) -> tuple[list[tuple[int, ...]], bool]:
    """Return the smallest sets of loose rings that fill a gap, and whether these are all."""
    rings = [
        index
        for index, kind in enumerate(kinds)
        if is_loose_ring(kind.part) and not kind.special and lies_in_joint(kind.part, gap_mm)
    ]
    rings.sort(key=lambda i: -kinds[i].low_mm)
    found: list[tuple[int, ...]] = []
    growing: list[tuple[tuple[int, ...], float]] = [((), 0.0)]
    while growing:
        longer = []
        for chosen, total in growing:
            # Longest first: the ring that reaches the gap is then the smallest, so none of them can be spared.
            for index in rings[rings.index(chosen[-1]) if chosen else 0 :]:
                if chosen.count(index) == kinds[index].owned or kinds[index].low_mm == 0:
                    continue
                grown = ((*chosen, index), total + kinds[index].low_mm)
                if grown[1] >= gap_mm - 1e-6:
                    found.append(grown[0])
                else:
                    longer.append(grown)
                if len(found) + len(longer) > MAX_COVERS:
                    return found, False
        growing = longer
    return found, True


def _special_sets(kinds: list[Kind]) -> tuple[list[SpecialSet], bool]:
    """Return every choice of special pieces, the empty one first, and whether these are all."""
    special = [(index, kind) for index, kind in enumerate(kinds) if kind.special]
    found = [SpecialSet((), 0.0, 0.0, 0)]
    choices = itertools.product(*(range(kind.owned + 1) for _, kind in special))
    for counts in sorted(itertools.islice(choices, 64 * MAX_SPECIAL_SETS), key=sum):
        if not any(counts):
            continue
        if len(found) >= MAX_SPECIAL_SETS:
            return found, False
        used = [(index, kind, n) for (index, kind), n in zip(special, counts, strict=True) if n]
        found.append(
            SpecialSet(
                tuple((index, n) for index, _, n in used),
                math.fsum(kind.low_mm * n for _, kind, n in used),
                math.fsum(kind.slack_mm * n for _, kind, n in used),
                sum(kind.cost * n for _, kind, n in used),
            )
        )
    return found, math.prod(kind.owned + 1 for _, kind in special) <= 64 * MAX_SPECIAL_SETS

"""Exact search for the shelf pieces that bring the sensor to its distance and screw together.

The train behind the datum is cut into *fixed* parts and *places* between them. Spacers and adapters that stand in a
place now go back to the stock. A set fills every place with a chain of pieces, each end mating the next, turned round
where their joints allow, adjustable ones set; a joint that bottoms out counts only with a ring that fills its gap. Each
piece is used once per owned copy, and there may be any number of them.
"""

from __future__ import annotations

import itertools
import math
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.ledger import rectangular, rss
from wyntaxis.core.optics.imaging import effective_focal_length, focal_ratio
from wyntaxis.core.optics.uniform_sum import probability_inside
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import Adjustable, Joint, Part
from wyntaxis.core.rig.shelf import ShelfPart
from wyntaxis.core.train.illumination import Beam, openings
from wyntaxis.core.train.joints import joint_text, main_gaps, meet
from wyntaxis.core.train.lightpath import (
    BackFocus,
    back_focus,
    datum_index,
    magnifications,
    plates_of,
    total_shift,
    with_datum,
)
from wyntaxis.core.train.spacer_problem import Crossing, Edge, Kind, Place, Problem, Way, problem_of
from wyntaxis.core.train.spacer_search import DEFAULT_SECONDS, KEPT, Found, Search
from wyntaxis.core.wording import counted, number, short

__all__ = [
    "Place",
    "SpacerResult",
    "SpacerSet",
    "apply_set",
    "find_spacers",
    "pieces_text",
]

LOOSE_KINDS = frozenset({"spacer", "adapter"})
SETTING_DECIMALS = 6
"""An adjustable piece is set as finely as lengths are told apart."""


@dataclass(frozen=True)
class SpacerSet:
    """One way to fill the places: the pieces of each place as they go in, and the error they leave, in mm.

    ``turned`` are the ids of pieces that go in the other way round, ``set_to`` the lengths that adjustable ones are set
    to, ``vignettes`` says which piece takes light from the sensor's corner, empty where none does.
    """

    pieces: tuple[tuple[Part, ...], ...]
    error_mm: float
    worst_case_mm: float
    standard_mm: float
    probability: float
    turned: tuple[str, ...] = ()
    set_to: tuple[tuple[str, float], ...] = ()
    vignettes: str = ""

    @property
    def count(self) -> int:
        return sum(len(place) for place in self.pieces)


@dataclass(frozen=True)
class SpacerResult:
    """What the search found: sets that fit, best first; else the nearest set, and the one length to buy.

    ``proven`` is False where the search ran out of time: then there may be better sets than these.
    """

    places: tuple[Place, ...]
    wanted_mm: float
    tolerance_mm: float
    sets: tuple[SpacerSet, ...]
    nearest: SpacerSet | None
    buy: str
    buy_length_mm: float | None
    proven: bool = True

    @property
    def outcome(self) -> str:
        """The answer in a line: how many fit, or that nothing does, and whether that is proven."""
        if self.sets:
            return f"{counted(len(self.sets), 'best set')}" if self.proven else "best so far, not proven"
        return "nothing fits" if self.proven else "nothing found so far, not proven: the search ran out of time"


def find_spacers(
    rig: Rig,
    shelf: Iterable[ShelfPart],
    after: Sequence[str] = (),
    *,
    should_stop: Callable[[], bool] = lambda: False,
    seconds: float = DEFAULT_SECONDS,
) -> SpacerResult:
    """Search the shelf, and the loose parts in the train, for the sets that bring the error inside the tolerance.

    Parameters
    ----------
    after
        Ids of the fixed parts behind which pieces may stand; by default every joint behind the datum whose part does
        not say ``keep_with_next``.
    seconds
        After this long the answer is given as "best so far, not proven".

    Raises
    ------
    InputError
        If the rig has no required distance, no tolerance, or no such part.
    CancelledError
        When ``should_stop`` says so.
    """
    rig = with_datum(rig)
    path = back_focus(rig)
    if path is None:
        raise InputError("no corrector states a required distance and a camera ends the train: nothing to search for")
    if path.tolerance_mm is None:
        raise InputError(f"state the tolerance of {path.corrector.title}'s required distance first")
    fixed, places, loose = _cut(rig, after)
    stock = _stock(shelf, loose)
    wanted = path.stated_mm + total_shift(plates_of(tuple(fixed)))
    wanted -= math.fsum(part.optical_length_mm for part in fixed) + _fixed_gaps(rig, places)
    problem = problem_of(places, stock, max(0.0, wanted) + path.tolerance_mm)
    search = Search(problem, wanted, should_stop, seconds)
    finish = _Finish(path, fixed, problem, stock)
    found = list(itertools.islice(_by_groups(search.best(path.tolerance_mm), problem), KEPT))
    sets = tuple(finish.done(entry, groups) for entry, groups in found)
    proven, nearest = search.proven, None
    if not sets:
        near = search.nearest()
        nearest = finish.done(*next(_by_groups([near], problem))) if near else None
    buy, buy_length = ("", None) if sets else _to_buy(places, wanted)
    result = SpacerResult(tuple(places), wanted, path.tolerance_mm, sets, nearest, buy, buy_length, proven)
    lit = _Light(rig, result)
    return replace(
        result,
        sets=tuple(replace(found, vignettes=lit.vignetting(found)) for found in sets),
        nearest=replace(nearest, vignettes=lit.vignetting(nearest)) if nearest else None,
    )


def _by_groups(found: Iterable[Found], p: Problem) -> Iterator[tuple[Found, dict[int, list[int]]]]:
    """Yield every set with the stock's entries that its kinds are taken from: each choice of entries is a set."""
    for entry in found:
        shares = [[(kind, share) for share in _shares(p.kinds[kind], n)] for kind, n in entry.counts]
        for chosen in itertools.islice(itertools.product(*shares), KEPT):
            yield entry, dict(chosen)


def _shares(kind: Kind, count: int) -> Iterator[list[int]]:
    """Yield the ways to take ``count`` pieces from the entries of a kind, as indices into the stock."""

    def split(groups: list[tuple[int, int]], left: int) -> Iterator[list[int]]:
        if left == 0:
            yield []
            return
        if sum(owned for _, owned in groups) < left:
            return
        (number, owned), *rest = groups
        for n in range(min(owned, left), -1, -1):
            for more in split(rest, left - n):
                yield [number] * n + more

    yield from itertools.islice(split(kind.groups, count), KEPT)


class _Finish:
    """Makes sets of what the search found: pieces in their places, and the figures of each."""

    def __init__(self, path: BackFocus, fixed: list[Part], problem: Problem, stock: list[tuple[Part, int]]) -> None:
        self.path, self.problem, self.stock = path, problem, stock
        self._widths = [part.length_tolerance_mm or 0.0 for part in fixed]
        self._widths += [plate.half_width_mm for plate in plates_of(tuple(fixed))]

    def done(self, entry: Found, groups: dict[int, list[int]]) -> SpacerSet:
        """Return a set with its pieces in order and its figures."""
        kinds, tolerance = self.problem.kinds, self.path.tolerance_mm or 0.0
        widths = self._widths + [w for kind, n in entry.counts for w in kinds[kind].half_widths_mm * n]
        placed = _arranged(self.problem, entry)
        left = {kind: list(numbers) for kind, numbers in groups.items()}
        spare = entry.extra_mm
        turned, set_to, pieces = [], [], []
        for place in placed:
            row = []
            for kind, way in place:
                part = self.stock[left[kind].pop(0)][0]
                if way.turned:
                    part = part.model_copy(update={"front": part.rear, "rear": part.front})
                    turned.append(part.id)
                if part.adjustable is not None:
                    more = min(spare, part.adjustable.max_mm - part.adjustable.min_mm)
                    spare -= more
                    part = _set_to(part, part.adjustable.min_mm + more)
                    set_to.append((part.id, part.optical_length_mm))
                row.append(part)
            pieces.append(tuple(row))
        return SpacerSet(
            pieces=tuple(pieces),
            error_mm=entry.error_mm,
            worst_case_mm=math.fsum(widths),
            standard_mm=rss(rectangular(width) for width in widths),
            probability=probability_inside(entry.error_mm, widths, tolerance),
            turned=tuple(turned),
            set_to=tuple(set_to),
        )


def _set_to(part: Part, length_mm: float) -> Part:
    assert part.adjustable is not None
    ends = part.adjustable
    value = min(max(round(length_mm, SETTING_DECIMALS), ends.min_mm), ends.max_mm)
    return part.model_copy(update={"adjustable": Adjustable(min_mm=ends.min_mm, max_mm=ends.max_mm, set_mm=value)})


def _arranged(p: Problem, entry: Found) -> list[list[tuple[int, Way]]]:
    """Put the pieces of a set into the places: the trail's in their order, the loops where their joint comes first.

    Free shims lie in the first joint of the last place.
    """
    left = Counter(dict(entry.counts))
    left.subtract(
        step if isinstance(step, int) else step.kind for step in entry.trail if not isinstance(step, Crossing)
    )
    vertices = [0, *(step.to for step in entry.trail if not isinstance(step, int) and step.to is not None)]
    ends = [p.vertices[vertex][1] for vertex in vertices]
    # A loop goes where it need not be turned, if such a joint comes at all.
    straight = {kind for end in ends for kind, way in p.loops.get(end, {}).items() if not way.turned}
    rows: list[list[tuple[int, Way]]] = [[] for _ in p.places]

    def put_loops(vertex: int, shims: bool) -> None:
        place, end = p.vertices[vertex]
        for kind, way in p.loops.get(end, {}).items():
            if p.kinds[kind].shim is shims and (not way.turned or kind not in straight):
                rows[place] += [(kind, way)] * left.pop(kind, 0)

    def enter(vertex: int) -> None:
        if p.vertices[vertex][0] == len(rows) - 1:
            put_loops(vertex, True)
        put_loops(vertex, False)

    vertex = 0
    enter(vertex)
    for step in entry.trail:
        if isinstance(step, int):
            rows[p.vertices[vertex][0]].append((step, p.kinds[step].ways[0]))
            continue
        if isinstance(step, Edge):
            rows[p.vertices[vertex][0]].append((step.kind, step.way))
        if step.to is not None:
            vertex = step.to
            enter(vertex)
    assert not +left, "every loop of a set has a joint of its own kind in the trail"
    return rows


class _Light:
    """Tells whether a set takes light from the sensor's corner, by the openings of its own pieces."""

    def __init__(self, rig: Rig, result: SpacerResult) -> None:
        self._rig, self._result = rig, result
        focal = effective_focal_length(rig.telescope.focal_length_mm, magnifications(rig.train))
        ratio = focal_ratio(focal, rig.telescope.aperture_mm)
        self._beam = Beam(ratio, rig.telescope.exit_pupil_distance_mm)

    def vignetting(self, found: SpacerSet) -> str:
        sensor = self._rig.sensor
        own = {piece.id for place in found.pieces for piece in place if piece.clear_aperture_mm is not None}
        if sensor is None or not own:
            return ""
        train = tuple(_built_train(self._rig, self._result, found))
        words = []
        for opening in openings(self._rig.model_copy(update={"train": train})):
            share = self._beam.fraction(sensor.diagonal_mm / 2, opening.diameter_mm, opening.distance_mm)
            needed = self._beam.opening_needed(sensor.diagonal_mm, opening.distance_mm)
            if opening.part.id in own and opening.diameter_mm < needed:
                words.append(
                    f"vignettes: {opening.part.title} leaves the sensor's corner {number(100 * share, 0)} % of its "
                    f"light ({number(needed, 1)} mm needed, {short(opening.diameter_mm)} mm given)"
                )
        return "; ".join(words)


def _built_train(rig: Rig, result: SpacerResult, chosen: SpacerSet) -> Iterator[Part]:
    """Yield the parts of the train with a set in place of what stood in the places."""
    ends = {
        place.before.id: (place.after.id, pieces) for place, pieces in zip(result.places, chosen.pieces, strict=True)
    }
    until = None
    for part in rig.train:
        if part.id == until:
            until = None
        if until is not None:
            continue
        yield part
        if part.id in ends:
            until, pieces = ends[part.id]
            yield from pieces


def _cut(rig: Rig, after: Sequence[str]) -> tuple[list[Part], list[Place], list[Part]]:
    """Cut the train behind the datum into fixed parts, places, and loose parts."""
    index = datum_index(rig.train)
    assert index is not None
    behind = rig.train[index + 1 :]
    fixed = [part for part in behind if part.kind not in LOOSE_KINDS or part.pinned or part.adjustable]
    known = {rig.train[index].id, *(part.id for part in fixed[:-1])}
    for part_id in after:
        if part_id not in known:
            raise InputError(f'"{part_id}" is no fixed part in front of a place; there are: {", ".join(sorted(known))}')
    chain = [rig.train[index], *fixed]
    places = []
    freed: set[str] = set()
    for before, behind_it in itertools.pairwise(chain):
        between = _between(rig.train, before, behind_it)
        wanted = before.id in after if after else not before.keep_with_next
        if wanted:
            places.append(Place(before, behind_it, before.rear, behind_it.front))
            freed |= {part.id for part in between}
    # Loose parts outside the places stay where they are, as fixed as their neighbours.
    stay = [part for part in behind if part in fixed or part.id not in freed]
    if not places:
        raise InputError("no place for a spacer is left: every part behind the datum keeps with the next")
    return stay, places, [part for part in behind if part.id in freed]


def _between(train: tuple[Part, ...], before: Part, after: Part) -> tuple[Part, ...]:
    ids = [part.id for part in train]
    return train[ids.index(before.id) + 1 : ids.index(after.id)]


def _fixed_gaps(rig: Rig, places: list[Place]) -> float:
    """Return the bottoming gaps of joints that the search leaves as they are, in mm."""
    index = datum_index(rig.train)
    assert index is not None
    ids = [part.id for part in rig.train]
    open_joints: set[int] = set()
    for place in places:
        open_joints |= set(range(ids.index(place.before.id) + 1, ids.index(place.after.id) + 1))
    return math.fsum(gap for i, gap in enumerate(main_gaps(rig)) if i > index and i not in open_joints)


def _stock(shelf: Iterable[ShelfPart], loose: list[Part]) -> list[tuple[Part, int]]:
    """Return the loose pieces with how many there are; one in the train that the shelf lists too is one of those."""
    stock = [(entry.part, entry.owned) for entry in shelf if entry.part.kind in LOOSE_KINDS and entry.owned > 0]
    listed = {part.id for part, _ in stock}
    return stock + [(part, 1) for part in loose if part.id not in listed]


def _to_buy(places: list[Place], wanted_mm: float) -> tuple[str, float | None]:
    """Name the one ring that would do: alone in one place, where all other places close without any piece."""
    if wanted_mm <= 0:
        return f"the fixed parts alone are {short(-wanted_mm, 2)} mm too long: no spacer can correct that", None
    direct = [_closes(place) for place in places]
    for index in reversed(range(len(places))):
        if all(fits for other, fits in enumerate(direct) if other != index):
            place, length = places[index], round(wanted_mm, 2)
            ends = f"{_mating_end(place.rear)} in front, {_mating_end(place.front)} behind"
            return (
                f"one ring of {short(length, 2)} mm between {place.before.title} and {place.after.title}, {ends}",
                length,
            )
    return "no single ring would do: several places need an adapter each", None


def _closes(place: Place) -> bool:
    state = meet(place.rear, place.front)
    return state.mating == "unknown" or (state.mating == "mates" and state.gap_mm == 0)


def _mating_end(joint: Joint | None) -> str:
    if joint is None:
        return "thread not described"
    opposite = {"male": "female", "female": "male", "slip": "slip"}
    return joint_text(Joint.model_validate({"thread": joint.thread, "gender": opposite[joint.gender]}))


def pieces_text(result: SpacerResult, found: SpacerSet) -> str:
    """Return a set in words: which pieces behind which part, what is turned round or set, and what it shades."""
    lengths = dict(found.set_to)

    def named(part: Part) -> str:
        turned = " (turned round)" if part.id in found.turned else ""
        set_to = f" (set to {short(lengths[part.id])} mm)" if part.id in lengths else ""
        return f"{part.title}{turned}{set_to}"

    rows = [
        f"after {place.before.title}: {' + '.join(map(named, parts))}"
        for place, parts in zip(result.places, found.pieces, strict=True)
        if parts
    ]
    return "; ".join([*(rows or ["nothing"]), *([found.vignettes] if found.vignettes else [])])


def apply_set(rig: Rig, result: SpacerResult, chosen: SpacerSet) -> list[JsonObject]:
    """Return the train, as its file holds it, with a set in place of what stood in the places."""
    document = with_datum(rig).model_dump(mode="json", exclude_unset=True)["train"]
    ids = [part["id"] for part in document]
    spans = [(ids.index(place.before.id), ids.index(place.after.id)) for place in result.places]
    taken = (
        {part["id"] for i, part in enumerate(document) if not any(before < i < after for before, after in spans)}
        | {part.id for part in rig.guiding.path}
        | {rig.telescope.id}
    )
    train: list[JsonObject] = []
    for index, part in enumerate(document):
        if any(before < index < after for before, after in spans):
            continue
        train.append(part)
        for place, pieces in zip(result.places, chosen.pieces, strict=True):
            if place.before.id == part["id"]:
                for piece in pieces:
                    copy = piece.model_dump(mode="json", exclude_unset=True, exclude_none=True)
                    copy["id"] = _free(copy["id"], taken)
                    taken.add(copy["id"])
                    train.append(copy)
    return [part for part in train if part["id"] != rig.telescope.id]


def _free(stem: str, taken: set[str]) -> str:
    number, name = 2, stem
    while name in taken:
        name, number = f"{stem}_{number}", number + 1
    return name

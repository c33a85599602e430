"""Exact search for the shelf pieces that bring the sensor to its distance and screw together.

The train behind the datum is cut into *fixed* parts and *places* between them. Spacers and adapters that stand in a
place now go back to the stock. A set fills every place with a chain of pieces, each end mating the next without
bottoming out, each piece once per owned copy, at most :data:`MOST_PIECES` in all.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Any

from wyntaxis.core.ledger import rectangular, rss
from wyntaxis.core.optics.joints import joint_text, main_gaps
from wyntaxis.core.optics.lightpath import back_focus, datum_index, probability_within
from wyntaxis.core.optics.spacer_search import (
    MOST_PIECES,
    Found,
    Place,
    Problem,
    Search,
    SearchCancelledError,
    arranged,
    problem_of,
)
from wyntaxis.core.rig.errors import RigError
from wyntaxis.core.rig.model import Joint, Part, Rig
from wyntaxis.core.rig.shelf import ShelfPart
from wyntaxis.core.wording import short

__all__ = [
    "MOST_PIECES",
    "Place",
    "SearchCancelledError",
    "SpacerResult",
    "SpacerSet",
    "apply_set",
    "find_spacers",
]

LOOSE_KINDS = frozenset({"spacer", "adapter"})


@dataclass(frozen=True)
class SpacerSet:
    """One way to fill the places: the pieces of each place, and the error they leave, in mm."""

    pieces: tuple[tuple[Part, ...], ...]
    error_mm: float
    worst_case_mm: float
    standard_mm: float
    probability: float

    @property
    def count(self) -> int:
        return sum(len(place) for place in self.pieces)


@dataclass(frozen=True)
class SpacerResult:
    """What the search found: sets that fit, best first; else the nearest set, and the one length to buy."""

    places: tuple[Place, ...]
    wanted_mm: float
    tolerance_mm: float
    sets: tuple[SpacerSet, ...]
    nearest: SpacerSet | None
    buy: str
    buy_length_mm: float | None


def find_spacers(
    rig: Rig,
    shelf: Iterable[ShelfPart],
    after: Sequence[str] = (),
    *,
    should_stop: Callable[[], bool] = lambda: False,
) -> SpacerResult:
    """Search the shelf, and the loose parts in the train, for the sets that bring the error inside the tolerance.

    Parameters
    ----------
    after
        Ids of the fixed parts behind which pieces may stand; by default every joint behind the datum whose part does
        not say ``keep_with_next``.

    Raises
    ------
    RigError
        If the rig has no required distance, no tolerance, or no such part.
    SearchCancelledError
        When ``should_stop`` says so.
    """
    path = back_focus(rig)
    if path is None:
        raise RigError("no corrector states a required distance and a camera ends the train: nothing to search for")
    if path.tolerance_mm is None:
        raise RigError(f"state the tolerance of {path.corrector.title}'s required distance first")
    fixed, places, loose = _cut(rig, after)
    stock = _stock(shelf, loose)
    fixed_stack = [part.optical_length_mm for part in fixed]
    wanted = path.required_mm - math.fsum(fixed_stack) - _fixed_gaps(rig, places)
    spread = [(part.length_tolerance_mm or 0.0) for part in fixed]
    problem = problem_of(places, stock)
    search = Search(problem, wanted, path.tolerance_mm, should_stop)
    found = search.best(path.tolerance_mm)

    def finished(entry: Found) -> SpacerSet:
        arrangement = arranged(problem, places, entry.used)
        widths = spread + [problem.half_widths[i] for i in entry.used]
        standard = math.hypot(rss(rectangular(float(w)) for w in widths), path.glass_standard_mm)
        return SpacerSet(
            pieces=arrangement,
            error_mm=entry.error,
            worst_case_mm=float(math.fsum(widths)),
            standard_mm=standard,
            probability=probability_within(entry.error, standard, path.tolerance_mm or 0.0),
        )

    sets = tuple(finished(entry) for entry in found)
    nearest = None
    if not sets:
        near = search.nearest()
        nearest = finished(near) if near else None
    buy, buy_length = ("", None) if sets else _to_buy(places, problem, wanted)
    return SpacerResult(tuple(places), wanted, path.tolerance_mm, sets, nearest, buy, buy_length)


def _cut(rig: Rig, after: Sequence[str]) -> tuple[list[Part], list[Place], list[Part]]:
    """Cut the train behind the datum into fixed parts, places, and loose parts."""
    index = datum_index(rig.train)
    assert index is not None
    behind = rig.train[index + 1 :]
    fixed = [part for part in behind if part.kind not in LOOSE_KINDS or part.pinned or part.adjustable]
    known = {rig.train[index].id, *(part.id for part in fixed[:-1])}
    for part_id in after:
        if part_id not in known:
            raise RigError(f'"{part_id}" is no fixed part in front of a place; there are: {", ".join(sorted(known))}')
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
        raise RigError("no place for a spacer is left: every part behind the datum keeps with the next")
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


def _to_buy(places: list[Place], p: Problem, wanted_mm: float) -> tuple[str, float | None]:
    """Name the one ring that would do: alone in one place, where all other places close without any piece."""
    if wanted_mm <= 0:
        return f"the fixed parts alone are {short(-wanted_mm, 2)} mm too long: no spacer can mend that", None
    direct = [bool(p.mates[r, f]) for r, f in zip(p.place_rear, p.place_front, strict=True)]
    for index in reversed(range(len(places))):
        if all(fits for other, fits in enumerate(direct) if other != index):
            place, length = places[index], round(wanted_mm, 2)
            ends = f"{_mating_end(place.rear)} in front, {_mating_end(place.front)} behind"
            return (
                f"one ring of {short(length, 2)} mm between {place.before.title} and {place.after.title}, {ends}",
                length,
            )
    return "no single ring would do: several places need an adapter each", None


def _mating_end(joint: Joint | None) -> str:
    if joint is None:
        return "thread not described"
    opposite = {"male": "female", "female": "male", "slip": "slip"}
    return joint_text(Joint.model_validate({"thread": joint.thread, "gender": opposite[joint.gender]}))


def apply_set(rig: Rig, result: SpacerResult, chosen: SpacerSet) -> list[dict[str, Any]]:
    """Return the train, as its file holds it, with a set in place of what stood in the places."""
    document = rig.model_dump(mode="json", exclude_unset=True)["train"]
    ids = [part["id"] for part in document]
    spans = [(ids.index(place.before.id), ids.index(place.after.id)) for place in result.places]
    taken = (
        {part["id"] for i, part in enumerate(document) if not any(before < i < after for before, after in spans)}
        | {part.id for part in rig.guiding.path}
        | {rig.telescope.id}
    )
    train: list[dict[str, Any]] = []
    for index, part in enumerate(document):
        if any(before < index < after for before, after in spans):
            continue
        train.append(part)
        for place, pieces in zip(result.places, chosen.pieces, strict=True):
            if place.before.id == part["id"]:
                for piece in pieces:
                    copy = piece.model_dump(mode="json", exclude_unset=True)
                    copy["id"] = _free(copy["id"], taken)
                    taken.add(copy["id"])
                    train.append(copy)
    return train


def _free(stem: str, taken: set[str]) -> str:
    number, name = 2, stem
    while name in taken:
        name, number = f"{stem}_{number}", number + 1
    return name

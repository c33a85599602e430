"""Which points belong to one run: taken one after another, through one filter, with the counter going one way."""

from __future__ import annotations

import datetime
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from itertools import pairwise
from statistics import median

from wyntaxis.core.evidence.focus.points import Direction, FocusPoint, FocusRun
from wyntaxis.core.evidence.headers.headers import UnusedFile
from wyntaxis.core.evidence.headers.names import DEFAULT_FILTER_NAMES, FilterNames

MIN_POSITIONS = 4
"""What has fewer is no run: a look at the result, a frame between."""
MAX_PAUSE_S = 1200.0
MAX_PAUSE_FACTOR = 8.0
"""A pause of both so many s and so many times the usual one ends a run."""
MAX_JUMP_FACTOR = 2.5
"""A move of so many times the run's own begins another run."""
MIN_IN_ORDER_SHARE = 0.75
"""Where fewer of the points follow one another in runs, the focuser was moved to and fro."""


def runs_of(
    points: Sequence[FocusPoint], prefix: str = "", names: FilterNames = DEFAULT_FILTER_NAMES, *, in_order: bool
) -> tuple[list[FocusRun], list[UnusedFile]]:
    """Return the runs that points make, and which points belong to none.

    Parameters
    ----------
    points
        Points as they were read.
    prefix
        What the runs' names begin with.
    names
        When two filters are one.
    in_order
        Whether points without a time were taken in the order given: only then do they tell a direction.

    Returns
    -------
    tuple
        Runs, and the points left over with the reason.
    """
    timed = bool(points) and all(point.time is not None for point in points)
    ordered = sorted(points, key=lambda point: point.time) if timed else list(points)  # type: ignore[arg-type, return-value]
    runs: list[FocusRun] = []
    left: list[UnusedFile] = []
    for group in _groups(ordered, names):
        positions = {point.position for point in group}
        if len(positions) < MIN_POSITIONS:
            many = f"{len(positions)} positions are" if len(positions) > 1 else "one position is"
            left += [UnusedFile(point.file, f"{many} no run: it takes {MIN_POSITIONS}") for point in group]
            continue
        entries = timed or in_order
        runs.append(
            FocusRun(_name(prefix, len(runs) + 1), _of_one_binning(group), _direction(group) if entries else None)
        )
    if len(runs) == 1 and prefix:
        runs = [replace(runs[0], name=prefix)]
    return runs, left


def runs_to_and_fro(
    points: Sequence[FocusPoint], prefix: str, names: FilterNames
) -> tuple[list[FocusRun], list[UnusedFile]]:
    """Return the runs of a folder's points, also where a focuser was moved to and fro, as one moved by hand is.

    Parameters
    ----------
    points
        Points as they were read.
    prefix
        What the runs' names begin with.
    names
        When two filters are one.

    Returns
    -------
    tuple
        Runs, those that were taken to and fro without a direction; and the points left over with the reason.
    """
    runs, left = runs_of(points, prefix, names, in_order=False)
    if sum(len(run.points) for run in runs) < MIN_IN_ORDER_SHARE * len(points):
        found = run_in_any_order(points, prefix, names)
        if found:
            taken = {point.file for run in found for point in run.points}
            return found, [entry for entry in left if entry.path not in taken]
    return runs, left


def run_in_any_order(points: Sequence[FocusPoint], prefix: str, names: FilterNames) -> list[FocusRun]:
    """Return the runs of points that were taken in no order of positions, or do not tell it, one for each filter.

    Parameters
    ----------
    points
        Points as they were read.
    prefix
        What the runs' names begin with.
    names
        When two filters are one.

    Returns
    -------
    list of FocusRun
        Sorted by position, without a direction; none where a pause parts them, or they are too few.
    """
    times = sorted(point.time for point in points if point.time is not None)
    if any(after - before > datetime.timedelta(seconds=MAX_PAUSE_S) for before, after in pairwise(times)):
        return []
    by_filter: dict[str, list[FocusPoint]] = {}
    for point in sorted(points, key=lambda point: point.position):
        by_filter.setdefault(names.key(point.filter or ""), []).append(point)
    groups = [own for own in by_filter.values() if len({point.position for point in own}) >= MIN_POSITIONS]
    several = len(groups) > 1
    return [
        FocusRun(_name(prefix, k + 1) if several or not prefix else prefix, _of_one_binning(own))
        for k, own in enumerate(groups)
    ]


def _name(prefix: str, count: int) -> str:
    return f"{prefix} {count}" if prefix else f"run {count}"


def _direction(points: Sequence[FocusPoint]) -> Direction | None:
    """Return which way the counter went; None where it went both."""
    moves = [
        after.position - before.position for before, after in pairwise(points) if after.position != before.position
    ]
    if moves and all(move > 0 for move in moves):
        return "out"
    return "in" if moves and all(move < 0 for move in moves) else None


def _of_one_binning(points: Sequence[FocusPoint]) -> tuple[FocusPoint, ...]:
    """Leave out the points of a rarer binning: their sizes are in other px."""
    binnings = [point.binning for point in points]
    usual = max(binnings, key=lambda binning: (binnings.count(binning), -binning))
    return tuple(
        point if point.binning == usual else point.without(f"binned {point.binning}, the run's frames {usual}")
        for point in points
    )


def _groups(points: Sequence[FocusPoint], names: FilterNames) -> Iterator[list[FocusPoint]]:
    """Yield points that follow one another, until filter, direction, a pause or a jump parts them."""
    usual_pause = _usual(pause for a, b in pairwise(points) if (pause := _pause_s(a, b)) is not None)
    group: list[FocusPoint] = []
    for point in points:
        if group and _parts(group, point, usual_pause, names):
            held_over = _held_over(group, point)
            yield from _without_way_there(group[: len(group) - len(held_over)])
            group = held_over
        group.append(point)
    if group:
        yield from _without_way_there(group)


def _held_over(group: Sequence[FocusPoint], point: FocusPoint) -> list[FocusPoint]:
    """Return the point that belongs to the run that begins: where the counter turned, after too few for a run."""
    turned = _periodic_error(group)
    if not turned and len(group) > 1 and len({entry.position for entry in group}) < MIN_POSITIONS:
        last, before = group[-1], group[-2]
        if (last.position - before.position) * (point.position - last.position) < 0 and last.filter == point.filter:
            return [last]
    return turned


def _without_way_there(group: Sequence[FocusPoint]) -> Iterator[list[FocusPoint]]:
    """Yield a first point apart from which the counter went a long way to where the run begins; then the run."""
    moves = _moves(group)
    begins = len(moves) >= MIN_POSITIONS and group[0].position != group[1].position
    if begins and abs(moves[0]) > MAX_JUMP_FACTOR * max(median(abs(move) for move in moves[1:]), abs(moves[1])):
        yield [group[0]]
        group = group[1:]
    if group:
        yield list(group)


def _moves(group: Sequence[FocusPoint]) -> list[float]:
    """Return by how much the counter moved each time that it did."""
    return [b.position - a.position for a, b in pairwise(group) if b.position != a.position]


def _usual(values: Iterable[float]) -> float:
    entries = [value for value in values if value > 0]
    return median(entries) if entries else 0.0


def _pause_s(before: FocusPoint, after: FocusPoint) -> float | None:
    if before.time is None or after.time is None:
        return None
    return abs((after.time - before.time) / datetime.timedelta(seconds=1))


def _parts(group: Sequence[FocusPoint], point: FocusPoint, usual_pause: float, names: FilterNames) -> bool:
    """Return whether a point begins another run than the one so far."""
    last = group[-1]
    if (last.filter is None) != (point.filter is None):
        return True
    if last.filter is not None and point.filter is not None and not names.same(last.filter, point.filter):
        return True
    pause = _pause_s(last, point)
    if pause is not None and pause > max(MAX_PAUSE_S, MAX_PAUSE_FACTOR * usual_pause):
        return True
    move = point.position - last.position
    moves = _moves(group)
    if moves and move * moves[0] < 0:
        return True
    if len(moves) < MIN_POSITIONS - 1:
        return False
    # The moves of this run, not of all: a wide run may stand beside narrow ones.
    return abs(move) > MAX_JUMP_FACTOR * max(median(abs(entry) for entry in moves), abs(moves[-1]))


def _periodic_error(group: Sequence[FocusPoint]) -> list[FocusPoint]:
    """Return the last point where the counter turned on it: taken twice, where every other position was taken once."""
    positions = [point.position for point in group]
    twice = len(group) > 1 and positions[-1] == positions[-2]
    return [group[-1]] if twice and len(set(positions)) == len(positions) - 1 else []

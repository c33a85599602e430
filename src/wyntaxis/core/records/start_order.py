"""In which order a rig's programs are started: each after those that it needs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from wyntaxis.core.rig.programs import Program


@dataclass(frozen=True)
class StartOrder:
    """Programs in the order of their start; those that wait for each other in a circle; what is needed and not there.

    ``missing`` holds a program and the id of what it needs.
    """

    order: tuple[Program, ...]
    circle: tuple[Program, ...] = ()
    missing: tuple[tuple[Program, str], ...] = ()


def start_order(programs: Sequence[Program]) -> StartOrder:
    """Return in which order programs are started.

    Parameters
    ----------
    programs
        The rig's.

    Returns
    -------
    StartOrder
        Of programs that may start at the same time, the rig's order counts. A circle holds no program that only waits
        for one in it.
    """
    by_id = {program.id: program for program in programs}
    missing = tuple((program, need) for program in programs for need in program.needs if need not in by_id)
    left, order, started = list(programs), [], set[str]()
    while ready := [own for own in left if all(need in started or need not in by_id for need in own.needs)]:
        order.append(ready[0])
        started.add(ready[0].id)
        left.remove(ready[0])
    return StartOrder(tuple(order), _circle(left), missing)


def _circle(left: Sequence[Program]) -> tuple[Program, ...]:
    """Return one circle among programs that cannot start, in the order in which each needs the next."""
    by_id = {program.id: program for program in left}
    if not left:
        return ()
    way, at = [left[0]], left[0]
    while True:
        at = next(by_id[need] for need in at.needs if need in by_id)
        if at in way:
            return tuple(way[way.index(at) :])
        way.append(at)

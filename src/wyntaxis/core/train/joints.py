"""Joints: what mates with what, where a thread bottoms out, and what has no repeatable seat.

Thread: diameter × pitch (ISO 261), gender, usable depth. A male thread longer than the female is deep bottoms out and
leaves a gap of the difference, which lengthens the train. A slip joint mates by its nominal diameter and can tilt.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from typing import Literal

from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import Joint, Part

_METRIC = re.compile(r"M([0-9]+(?:\.[0-9]+)?)x([0-9]+(?:\.[0-9]+)?)")

THICKEST_SHIM_MM = 1.0
"""A thread of usual depth still holds through a shim of this thickness."""

SAME_LENGTH_MM = 1e-6
"""Lengths that differ by less are the same: decimal input must not fail by a binary rounding."""

Mating = Literal["mates", "unknown", "thread", "pitch", "gender", "slip"]


@dataclass(frozen=True)
class JointState:
    """How two ends meet: whether they mate, the gap they leave in mm, and whether the seat can be trusted."""

    mating: Mating
    gap_mm: float = 0.0
    seat: Literal["firm", "may tilt", "no shoulder", "unknown"] = "unknown"


@dataclass(frozen=True)
class Meeting:
    """One joint of a path: the rear end before it and the front end after it, with the titles of their parts.

    ``part_id`` is the part after the joint; ``place`` its index in the path. ``rings`` are the loose rings that lie in
    the joint: they fill its gap first, so that the joint adds max(gap, rings) to the length.
    """

    path: Literal["train", "guide"]
    place: int
    part_id: str
    before: str
    after: str
    rear: Joint | None
    front: Joint | None
    state: JointState
    rings: tuple[Part, ...] = ()

    @property
    def rings_mm(self) -> float:
        """The thickness of the rings that lie in the joint, together, in mm."""
        return math.fsum(ring.length_mm for ring in self.rings)

    @property
    def open_gap_mm(self) -> float:
        """What of the bottoming gap the rings leave open, in mm."""
        left = self.state.gap_mm - self.rings_mm
        return left if left > SAME_LENGTH_MM else 0.0


def meet(rear: Joint | None, front: Joint | None) -> JointState:
    """Return how the rear end of one part meets the front end of the next; an end not described is unknown."""
    if rear is None or front is None:
        return JointState("unknown")
    mating = _mating(rear, front)
    if mating != "mates":
        return JointState(mating)
    if rear.shoulder is False or front.shoulder is False:
        seat: Literal["firm", "may tilt", "no shoulder"] = "no shoulder"
    else:
        seat = "may tilt" if rear.gender == "slip" else "firm"
    return JointState("mates", bottoming_gap(rear, front), seat)


def bottoming_gap(one: Joint, other: Joint) -> float:
    """Return the gap in mm that a male thread longer than the female is deep leaves; 0 where a depth is not known."""
    male, female = (one, other) if one.gender == "male" else (other, one)
    if male.gender != "male" or female.gender != "female" or male.depth_mm is None or female.depth_mm is None:
        return 0.0
    return max(0.0, male.depth_mm - female.depth_mm)


def _mating(one: Joint, other: Joint) -> Mating:
    same = _thread_difference(one.thread, other.thread)
    if same is not None:
        return same
    genders = {one.gender, other.gender}
    if genders in ({"male", "female"}, {"slip"}):
        return "mates"
    return "slip" if "slip" in genders else "gender"


def _thread_difference(one: str, other: str) -> Literal["thread", "pitch"] | None:
    first, second = _METRIC.fullmatch(one), _METRIC.fullmatch(other)
    if first and second:
        if float(first[1]) != float(second[1]):
            return "thread"
        return None if float(first[2]) == float(second[2]) else "pitch"
    return None if one.casefold() == other.casefold() else "thread"


def is_shim(part: Part) -> bool:
    """Return whether a part is a loose ring without threads: it lies between two parts that screw together."""
    return is_loose_ring(part) and part.length_mm <= THICKEST_SHIM_MM


def is_loose_ring(part: Part) -> bool:
    """Return whether a part is a spacer without threads of its own, however thick."""
    return part.kind == "spacer" and part.front is None and part.rear is None and part.adjustable is None


def lies_in_joint(ring: Part, gap_mm: float) -> bool:
    """Return whether a loose ring lies in a joint: as thin as a shim, or no thicker than the gap that it is to fill."""
    return ring.length_mm <= max(THICKEST_SHIM_MM, gap_mm + SAME_LENGTH_MM)


def joint_text(joint: Joint | None) -> str:
    """Return a joint in words: ``M48×0.75 male, 4.5 mm``."""
    if joint is None:
        return "not described"
    depth = f", {joint.depth_mm:g} mm" if joint.depth_mm is not None else ""
    return f"{joint.thread.replace('x', '×')} {joint.gender}{depth}"


def gaps_before(parts: tuple[Part, ...], rear_before: Joint | None) -> list[float]:
    """Return what is left open of the bottoming gap in front of each part of a path, in mm.

    A ring that lies in a bottoming joint fills the gap first: joint and ring together add max(gap, ring).
    """
    gaps = [0.0] * len(parts)
    if not any(part.front or part.rear for part in parts):
        return gaps
    for meeting in _along("train", parts, rear_before, ""):
        gaps[meeting.place] = meeting.open_gap_mm
    return gaps


def main_gaps(rig: Rig) -> list[float]:
    """Return the bottoming gap in front of each part of the train, in mm."""
    return gaps_before(rig.train, rig.telescope.rear)


def guide_gaps(rig: Rig) -> list[float]:
    """Return the bottoming gap in front of each part of the guide path, in mm."""
    telescope = rig.guiding.telescope
    return gaps_before(rig.guiding.path, telescope.rear if telescope else None)


def meetings(rig: Rig) -> list[Meeting]:
    """Return every joint of the train and the guide path, from the telescope on; a prism's own seat is no joint."""
    found = _along("train", rig.train, rig.telescope.rear, rig.telescope.title)
    telescope = rig.guiding.telescope
    if telescope is not None:
        found += _along("guide", rig.guiding.path, telescope.rear, telescope.title)
    else:
        found += _along("guide", rig.guiding.path, None, "")[1:]
    return found


def _along(path: Literal["train", "guide"], parts: tuple[Part, ...], rear: Joint | None, before: str) -> list[Meeting]:
    found = []
    index = 0
    while index < len(parts):
        # The thread reaches through loose rings, which are themselves a stop.
        after = next((i for i in range(index, len(parts)) if not is_loose_ring(parts[i])), index)
        rings = parts[index:after]
        state = meet(rear, parts[after].front)
        if not all(lies_in_joint(ring, state.gap_mm) for ring in rings):
            rings, after = _leading_shims(parts, index)
            state = meet(rear, parts[after].front)
        part = parts[after]
        if not is_shim(part):
            found.append(Meeting(path, after, part.id, before, part.title, rear, part.front, state, rings))
            rear, before = part.rear, part.title
        index = after + 1
    return found


def _leading_shims(parts: tuple[Part, ...], index: int) -> tuple[tuple[Part, ...], int]:
    """Return the shims from an index on, and the index of the part behind them (the last part, where none is)."""
    after = next((i for i in range(index, len(parts)) if not is_shim(parts[i])), len(parts) - 1)
    return parts[index:after], after

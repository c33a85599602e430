"""How one frame's stars lie against another's: shifted, or turned by half a turn, as after a meridian flip."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats

BRIGHTEST = 40
"""So many of the brightest stars of each frame are compared."""
CELL_PX = 3.0
MIN_VOTES = 5
MIN_VOTE_SHARE = 0.25


@dataclass(frozen=True)
class Shift:
    """By how much, in px, a frame's stars lie to the right of and below another's; ``flipped`` after half a turn."""

    x: float
    y: float
    flipped: bool = False

    @property
    def length_px(self) -> float:
        """How far, in px."""
        return float(np.hypot(self.x, self.y))


def shift_between(one: Floats, other: Floats, size: tuple[float, float]) -> Shift | None:
    """Return how the stars of one frame lie against another's.

    Parameters
    ----------
    one, other
        Places of the stars in px, (n, 2) as x and y, the brightest first.
    size
        Width and height of the frames in px.

    Returns
    -------
    Shift or None
        None where too few stars agree on one.
    """
    first, second = np.asarray(one, float)[:BRIGHTEST], np.asarray(other, float)[:BRIGHTEST]
    if min(len(first), len(second)) < MIN_VOTES:
        return None
    turned = np.array(size) - 1 - first
    found = [(*_voted(first, second), False), (*_voted(turned, second), True)]
    votes, shift, flipped = max(found, key=lambda entry: entry[0])
    needed = max(MIN_VOTES, MIN_VOTE_SHARE * min(len(first), len(second)))
    return Shift(float(shift[0]), float(shift[1]), flipped) if votes >= needed else None


def _voted(first: Floats, second: Floats) -> tuple[int, Any]:
    """Return the shift that most pairs of stars agree on, and how many."""
    apart = (second[None, :, :] - first[:, None, :]).reshape(-1, 2)
    cells = np.floor(apart / CELL_PX).astype(np.int64)
    keys, counts = np.unique(cells[:, 0] * 1_000_003 + cells[:, 1], return_counts=True)
    middle = np.median(apart[cells[:, 0] * 1_000_003 + cells[:, 1] == keys[counts.argmax()]], axis=0)
    near = np.abs(apart - middle).max(axis=1) <= CELL_PX
    return int(near.sum()), np.median(apart[near], axis=0)

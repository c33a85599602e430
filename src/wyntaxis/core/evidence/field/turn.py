"""By how much the camera was turned between two sweeps: by the stars where both show the same, else by the headers."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from typing import TYPE_CHECKING, Literal

import numpy as np

from wyntaxis.core.evidence.stars.registration import MIN_VOTE_SHARE, MIN_VOTES

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats
    from wyntaxis.core.evidence.field.result import MeasuredSweep

MIN_TURN_DEG = 30.0
"""A smaller turn leaves the two planes too alike."""
HALF_TURN_SLACK_DEG = 15.0
"""A turn this near to half a turn may be a meridian flip."""
COMPARED = 30
CELLS = 300
"""Stars agree on a turn within this part of the half diagonal: the angles tried leave no more between them."""
FINE_SHARE = 0.2


@dataclass(frozen=True)
class CameraTurn:
    """By how much what belongs to the telescope turned in the image, from +x toward +y, in degrees.

    ``by``: the stars show it, the headers do, or only the imager said that the camera was turned. Headers do not show
    which way the image turns with their angle.
    """

    angle_deg: float
    by: Literal["stars", "headers", "said"]

    @property
    def angles(self) -> tuple[float, ...]:
        """The angles that it may have been, in degrees."""
        known = self.by == "stars" or abs(math.sin(math.radians(self.angle_deg))) < 1e-6
        return (self.angle_deg,) if known else (self.angle_deg, -self.angle_deg)


def wrapped(angle_deg: float) -> float:
    """Return an angle as one from -180 (not included) to 180 degrees."""
    return 180 - (180 - angle_deg) % 360


def header_turn(before: MeasuredSweep, after: MeasuredSweep) -> float | None:
    """Return by how many degrees the headers' angle changed, 0 to 180; None where they do not tell it."""
    one, other = before.sweep.header, after.sweep.header
    if one is None or other is None or one.rotation_deg is None or other.rotation_deg is None:
        return None
    return abs(wrapped(other.rotation_deg - one.rotation_deg))


def pier_sides_differ(before: MeasuredSweep, after: MeasuredSweep) -> bool | None:
    """Return whether the mount stood on the other side; None where the headers do not tell it."""
    one, other = before.sweep.header, after.sweep.header
    if one is None or other is None or not one.pier_side or not other.pier_side:
        return None
    return one.pier_side != other.pier_side


def star_turn(before: MeasuredSweep, after: MeasuredSweep) -> float | None:
    """Return by how many degrees the telescope's side turned in the image, as the stars of both sweeps show.

    Parameters
    ----------
    before, after
        Sweeps in time, of the same stars, by a mount that turns with the sky.

    Returns
    -------
    float or None
        From +x toward +y, -180 to 180; a flip of the mount, which turns the sky by half a turn, is taken off. None
        where the stars do not agree on a turn.
    """
    if before.sweep.size_px != after.sweep.size_px or before.sweep.binning != after.sweep.binning:
        return None
    stars = [
        tuple(map(tuple, entry.sweep.sharpest.brightest[:COMPARED].tolist())) for entry in (before, after)
    ]  # hashable: the search takes a moment, and the same is asked for again
    angle = _turn_of_stars(stars[0], stars[1], before.sweep.size_px)
    if angle is None:
        return None
    return wrapped(angle - 180) if pier_sides_differ(before, after) else angle


@lru_cache(maxsize=32)
def _turn_of_stars(
    one: tuple[tuple[float, ...], ...], other: tuple[tuple[float, ...], ...], size: tuple[int, int]
) -> float | None:
    if min(len(one), len(other)) < MIN_VOTES:
        return None
    half = math.hypot(*size) / 2
    middle = (np.array(size) - 1) / 2
    first, second = np.array(one) - middle, np.array(other) - middle
    cell = half / CELLS
    found = max(_votes(first, second, cell), key=lambda entry: entry[0])
    if found[0] < max(MIN_VOTES, MIN_VOTE_SHARE * min(len(first), len(second))):
        return None
    return _refined(first, second, found[1], found[2], FINE_SHARE * cell)


def _votes(first: Floats, second: Floats, cell: float) -> Iterator[tuple[int, float, Floats]]:
    """Yield how many pairs of stars agree on one shift, for each angle in degrees, and the shift in px."""
    count = round(2 * math.pi * CELLS)
    for k in range(count):
        angle = 360 * k / count
        apart = (second[None, :, :] - (first @ _rotation(angle).T)[:, None, :]).reshape(-1, 2)
        cells = np.floor(apart / cell).astype(np.int64)
        keys = cells[:, 0] * 1_000_003 + cells[:, 1]
        own, counts = np.unique(keys, return_counts=True)
        middle = np.median(apart[keys == own[counts.argmax()]], axis=0)
        near = np.abs(apart - middle).max(axis=1) <= cell
        yield int(near.sum()), angle, np.median(apart[near], axis=0)


def _refined(first: Floats, second: Floats, angle_deg: float, shift: Floats, fine_px: float) -> float:
    """Return the angle that brings the stars together best, by least squares over the pairs that agree."""
    from scipy.spatial import cKDTree

    tree, reach = cKDTree(second), 5 * fine_px / FINE_SHARE
    for _round in range(4):
        there = first @ _rotation(angle_deg).T + shift
        apart, which = tree.query(there)
        near = apart <= reach
        if near.sum() < MIN_VOTES:
            break
        one, other = first[near], second[which[near]]
        flat, seen = one - one.mean(axis=0), other - other.mean(axis=0)
        sine = float(np.sum(flat[:, 0] * seen[:, 1] - flat[:, 1] * seen[:, 0]))
        angle_deg = math.degrees(math.atan2(sine, float(np.sum(flat * seen))))
        shift = other.mean(axis=0) - one.mean(axis=0) @ _rotation(angle_deg).T
        reach = max(reach / 3, fine_px)
    return wrapped(angle_deg)


def _rotation(angle_deg: float) -> Floats:
    turn = math.radians(angle_deg)
    return np.array([[math.cos(turn), -math.sin(turn)], [math.sin(turn), math.cos(turn)]])

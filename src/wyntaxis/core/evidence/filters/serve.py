"""Whether old flats still serve: a new flat over an old one, what differs beyond its noise, and where."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.evidence.filters.shift import LEAST_NOISE, pixel_noise
from wyntaxis.core.evidence.filters.smooth_light import cell_means
from wyntaxis.core.fitting import clipped_fit, scatter_about_zero
from wyntaxis.core.ledger import Verdict

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats, Numbers

CELLS = 40
SIGNIFICANT = 6.0
SEEN, FRAME_PROBLEMS = 0.002, 0.005
"""A difference of so large a share is seen in a stretched picture, or spoils it."""
SLOPE_SEEN, SLOPE_SPOILS = 0.01, 0.03
"""The light's own change from middle to corner, less a plane, which a panel or the sky makes."""
MAX_PLACES = 8


@dataclass(frozen=True)
class Place:
    """Where two flats differ: in px of the frame, by what share of the light, over how many px across."""

    x: float
    y: float
    share: float
    across_px: float
    words: str


@dataclass(frozen=True)
class Comparison:
    """Whether an old flat serves for a new one's lights.

    ``places`` are where it does not; ``corner`` is by what share the corner's light changed against the middle's,
    ``plane`` what of the difference is a slope across the frame, from side to side, which proves nothing.
    """

    verdict: Verdict
    places: tuple[Place, ...]
    corner: float
    plane: float
    worst: float
    noise: float
    why: str = ""


def compared(old: Numbers, new: Numbers, binned: int) -> Comparison:
    """Return whether an old flat serves as well as a new one.

    Parameters
    ----------
    old, new
        Planes of light of the same shape.
    binned
        How many px of the frame one of the planes' is across.

    Returns
    -------
    Comparison
        Holds where they agree within noise; tight or failing by how much they differ, with the places.
    """
    ratio = np.log(new / old)
    side = max(2, min(ratio.shape) // CELLS)
    noise = pixel_noise(ratio) / side
    cells = cell_means(ratio, side)
    smooth, plane, corner, corner_standard = _smooth(cells, noise)
    detail = cells - smooth
    places = _places(detail, noise, side * binned)
    worst = max((abs(place.share) for place in places), default=0.0)
    certain_corner = abs(corner) if abs(corner) > SIGNIFICANT * corner_standard else 0.0
    verdict = Verdict.HOLDS
    if worst >= FRAME_PROBLEMS or certain_corner >= SLOPE_SPOILS:
        verdict = Verdict.FAILS
    elif worst >= SEEN or certain_corner >= SLOPE_SEEN:
        verdict = Verdict.TIGHT
    elif SIGNIFICANT * noise > FRAME_PROBLEMS:
        return Comparison(
            Verdict.UNPROVEN, (), corner, plane, worst, noise, "they are too noisy for a verdict: take more"
        )
    return Comparison(verdict, places, corner, plane, worst, noise)


def _smooth(cells: Any, noise: float) -> tuple[Any, float, float, float]:
    """Return the smooth part of a ratio, its slope from side to side, and its change from middle to corner."""
    rows, columns = cells.shape
    y, x = np.mgrid[-1 : 1 : rows * 1j, -1 : 1 : columns * 1j]
    across = np.hypot(rows, columns)
    x, y = x * columns / across, y * rows / across
    r2 = x**2 + y**2
    design = np.stack([np.ones(x.size), x.ravel(), y.ravel(), r2.ravel(), (r2**2).ravel()], axis=1)
    least = max(noise, LEAST_NOISE)
    fit = clipped_fit(design, cells.ravel(), rounds=4, least_scatter=least)
    found = fit.parameters
    scatter = max(scatter_about_zero(fit.residuals[fit.weights > 0]), least)
    covariance = fit.inverse * scatter**2
    at_corner = np.array([0, 0, 0, 1.0, 1.0])
    standard = math.sqrt(max(float(at_corner @ covariance @ at_corner), 0.0))
    slope = 2 * float(np.hypot(found[1], found[2]))
    return (design @ found).reshape(cells.shape), slope, float(found[3] + found[4]), standard


def _places(detail: Floats, noise: float, cell_px: int) -> tuple[Place, ...]:
    """Return the places that differ beyond noise and can be seen, the worst first; touching cells are one."""
    from scipy.ndimage import label

    found = []
    for sign in (-1.0, 1.0):
        beyond = sign * detail > max(SIGNIFICANT * noise, SEEN)
        marks, count = label(beyond, structure=np.ones((3, 3)))
        for mark in range(1, count + 1):
            rows, columns = np.nonzero(marks == mark)
            worst = int(np.argmax(np.abs(detail[rows, columns])))
            share = float(detail[rows[worst], columns[worst]])
            x, y = ((float(at.mean()) + 0.5) * cell_px for at in (columns, rows))
            words = where_words(x / (detail.shape[1] * cell_px), y / (detail.shape[0] * cell_px))
            found.append(Place(x, y, share, math.sqrt(len(rows)) * cell_px, words))
    return tuple(sorted(found, key=lambda place: -abs(place.share))[:MAX_PLACES])


def where_words(x: float, y: float) -> str:
    """Return in words where on the frame a place lies, told as shares from its left and its lower edge."""
    across = ("left", "", "right")[min(int(3 * x), 2)]
    down = ("lower", "", "upper")[min(int(3 * y), 2)]
    return " ".join(word for word in (down, across) if word) or "middle"

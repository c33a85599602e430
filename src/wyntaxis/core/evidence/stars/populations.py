"""What the stars of one frame have in common, and what is therefore no star, or a saturated one.

All stars of a frame have one size, that changes slowly across the field: galaxies and knots of nebula are larger, each
by another factor. The peaks of saturated stars pile up at one level, however that level scatters from pixel to pixel.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from wyntaxis.core.fitting import scatter_about_zero

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Flags, Floats
    from wyntaxis.core.evidence.stars.measuring import Shapes

LEAST_SIZED = 3
"""Objects of which a usual size is the median."""
ENOUGH_STARS = 12
"""Fewer do not tell which size is the stars' own."""
LEAST_BROADER = 0.12
"""Larger by less, as a share, is still the size of the frame's stars."""
MIN_SNR = 20.0
"""Medians are taken over stars above this (domain: stars of S/N > 20)."""
MIN_STAR_SNR = 4.0
"""What has less flux over its noise when it is measured was a crest of noise or of a nebula."""
MAX_ELONGATION = 20.0
KNOT_TIMES, KNOT_SNR = 1.8, 25.0
LARGER_TIMES = 3.5
"""The stars of one frame are of one size: what is so many times larger is none."""
SIGMAS = 4.0
WINDOW = 0.06
"""Sizes that differ by no more, as a share, are counted as one."""
NOISE_OF_SIZE = 1.2
"""A size is known to some 1.2 over the S/N, as a share: the same of both its measures, on drawn stars."""
FIELD_TURNS = 4
PILE, BELOW = (0.93, 1.0), (0.8, 0.93)
"""Peaks of saturated stars lie in the first share of the highest one; few lie in the second."""
LEAST_PILED, PILED_TIMES, FLUX_SPREAD = 8, 2, 1.35
"""So many stars of one peak, so many times those just below, with fluxes that differ by so much, are saturated."""


def broader_than_stars(shapes: Shapes, clear: Flags) -> Flags:
    """Return which objects are broader than the stars of their part of the frame.

    Parameters
    ----------
    shapes
        What was measured.
    clear
        Which of them are unsaturated and well over the noise; only these are told.

    Returns
    -------
    flags
        No object where there are too few to find the stars' size by. That size is the commonest one, about a plane or
        bowl across the field: stars of one size outnumber the galaxies of any one size long before they outnumber all.
        Both half-flux diameter and width must be larger: light of a neighbour alone is in the first and hardly in the
        second.
    """
    broad = np.zeros(len(shapes.x), bool)
    sized = clear & (shapes.hfd > 0) & (shapes.fwhm > 0)
    if sized.sum() < ENOUGH_STARS:
        return broad
    noise = NOISE_OF_SIZE / shapes.snr[sized]
    excess = [
        _excess(np.log(size[sized]), shapes.x[sized], shapes.y[sized], noise) for size in (shapes.hfd, shapes.fwhm)
    ]
    broad[sized] = excess[0] & excess[1]
    return broad


def _excess(size: Floats, x: Floats, y: Floats, noise: Floats) -> Flags:
    """Return whose logarithm of size lies over the common one of its place by more than scatter explains."""
    across, down = ((at - at.mean()) / max(float(np.ptp(at)), 1.0) for at in (x, y))
    terms = np.stack([np.ones_like(across), across, down, across**2, across * down, down**2], axis=-1)
    field = np.full(len(size), commonest(size, WINDOW))
    kept = np.ones(len(size), bool)
    for _ in range(FIELD_TURNS):
        off = size - field
        limit = np.maximum(SIGMAS * np.hypot(scatter_about_zero(off[off < 0]), noise), LEAST_BROADER)
        kept = np.abs(off) <= limit
        if kept.sum() < 2 * terms.shape[1]:
            break
        found, *_ = np.linalg.lstsq(terms[kept], size[kept], rcond=None)
        field = terms @ found
    return np.asarray(size - field > limit)


def commonest(values: Floats, width: float) -> float:
    """Return the mean of the values in the fullest window of a width; of the lowest one where several are as full."""
    ordered = np.sort(values)
    end = np.searchsorted(ordered, ordered + width, side="right")
    start = int((end - np.arange(len(ordered))).argmax())
    return float(ordered[start : end[start]].mean())


def piled_up(shapes: Shapes, over_sky: Floats) -> Flags:
    """Return which stars are saturated at a level that scatters, as of flat-divided or averaged frames.

    Parameters
    ----------
    shapes
        What was measured.
    over_sky
        Each one's peak over the sky about it, in ADU.

    Returns
    -------
    flags
        All of those whose peaks pile up at the highest; none where none do.
    """
    none = np.zeros(len(over_sky), bool)
    if len(over_sky) < LEAST_PILED:
        return none
    level = float(np.sort(over_sky)[-LEAST_PILED:].mean())
    share = over_sky / level if level > 0 else np.zeros_like(over_sky)
    pile = share >= PILE[0]
    below = (share >= BELOW[0]) & (share < BELOW[1])
    light = shapes.flux[pile & (shapes.flux > 0)]
    if pile.sum() < max(LEAST_PILED, PILED_TIMES * below.sum()) or len(light) < LEAST_PILED:
        return none
    return pile if light.max() > FLUX_SPREAD * light.min() else none


def why_no_star(shapes: Shapes, *, nebular: bool) -> list[str]:
    """Return for each measured spot why its shape is that of no star, empty where it is.

    In a frame with something larger than any disc, a faint spot that is clearly wider than the stars is a crest of it.
    """
    why = [""] * len(shapes.x)
    clear = ~shapes.saturated & (shapes.snr > MIN_SNR)
    usual = float(np.median(shapes.hfd[clear])) if clear.sum() >= LEAST_SIZED else np.inf
    larger = shapes.hfd > LARGER_TIMES * usual
    if nebular:
        larger |= (shapes.hfd > KNOT_TIMES * usual) & (shapes.snr < KNOT_SNR)
    larger |= broader_than_stars(shapes, clear)
    for reason, mask in (
        ("larger than the stars: a galaxy or a knot of nebula", larger),
        ("longer than any star: a trail or a bad column", ~(shapes.elongation < MAX_ELONGATION)),
        ("too faint over what is about it", ~((shapes.flux > 0) & (shapes.snr >= MIN_STAR_SNR))),
    ):
        for place in np.flatnonzero(mask):
            why[place] = reason
    return why

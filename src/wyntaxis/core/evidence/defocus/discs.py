"""Discs of defocused stars: found on a binned copy, each fitted by a disc with a hole and blurred edges."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from wyntaxis.core.arrays import Floats, Numbers
from wyntaxis.core.fitting import mad_scatter

BINS = (16, 8, 4, 2)
"""Copies on which discs are looked for: each where it is 5 to 24 of the copy's px across."""
MIN_ACROSS, MAX_ACROSS = 5.0, 24.0
BEST_ACROSS = 8.0
MESH_PX = 48
"""The background is the clipped median of squares of so many px of the copy."""
SIGMA = 4.0
MAX_ASPECT = 1.5
CORE_SHARE = 0.4
"""A disc is what is brighter than this share of its bright parts."""
ROUND_SHARE = (0.55, 1.0)
"""How much of its box a round thing fills: π/4, less what noise nibbles; two that touch fill less."""
NORMAL_LOW = 0.1587
FITTED_PX = 36
"""A cut-out is averaged to about so many px across before it is fitted."""
MARGIN = 0.35
"""A cut-out reaches so much of the disc's diameter beyond its edge."""
MIN_DIAMETER_PX = 8.0
CLEAR_EDGES = 3.0
"""A disc is at least so many times the FWHM of its blur across: else it is a star that is nearly in focus."""
PLAIN_EDGES, CLEARLY = 4.0, 40.0
"""A disc less than twice so wide as its blur must explain its px better than a star does, by so much in χ²."""
FWHM_PER_SIGMA = 2.354820045
MOST_DISCS = 24
BINNED_ROWS = 512
MIN_CONTRAST = 6.0
"""The disc's light stands over the noise of one px of the cut-out by this, in the mean of its area."""
KEPT_SHARE = 0.97
MAX_MISFIT_SHARE = 0.30
"""What a fit leaves of a disc's brightness, in the root mean square: spider and seeing take less."""


@dataclass(frozen=True)
class Disc:
    """One defocused star, lengths in px of the frame.

    Parameters
    ----------
    x, y
        The disc's centre.
    diameter, hole
        Outer diameter, and that of the hole; 0 where none is seen.
    hole_dx, hole_dy
        The hole's centre less the disc's.
    blur_fwhm
        How soft its edges are.
    light
        Flux in ADU.
    diameter_u, hole_u, offset_u
        Standard uncertainties of the fit.
    """

    x: float
    y: float
    diameter: float
    hole: float
    hole_dx: float
    hole_dy: float
    blur_fwhm: float
    light: float
    diameter_u: float
    hole_u: float
    offset_u: float


def find_discs(pixels: Numbers, saturated_adu: float = math.inf, expected_px: float | None = None) -> list[Disc]:
    """Return the defocused stars of a frame that stand alone, the brightest first.

    Parameters
    ----------
    pixels
        ADU, shape (height, width).
    saturated_adu
        A disc with px at or above it is left out.
    expected_px
        About how wide the discs are, where that is known: then one copy is enough.

    Returns
    -------
    list of Disc
        None where the stars are nearly in focus.

    Notes
    -----
    The blur moves the middle of an edge of radius R inward by σ²/(2R), which is put back.
    """
    candidates: list[tuple[float, float, float, float]] = []
    for binned in BINS if expected_px is None else _copies(expected_px):
        if min(pixels.shape) >= 3 * MIN_ACROSS * binned:
            candidates += _round_things(pixels, binned)
    found: list[Disc] = []
    for x, y, across, _flux in _without_doubles(candidates)[:MOST_DISCS]:
        disc = _fitted(pixels, x, y, across, saturated_adu)
        if disc is not None and not any(math.hypot(disc.x - own.x, disc.y - own.y) < own.diameter / 2 for own in found):
            found.append(disc)
    return alike(found)


def _copies(expected_px: float) -> list[int]:
    """Return on which copies discs of a size are found: they are eight of its px across, or more."""
    return [next((binned for binned in BINS if expected_px / binned >= BEST_ACROSS), BINS[-1])]


def _binned(pixels: Numbers, by: int) -> Floats:
    """Return the means of squares of px, read in bands of rows."""
    down, across = pixels.shape[0] // by, pixels.shape[1] // by
    made = np.empty((down, across), np.float32)
    for start in range(0, down, BINNED_ROWS):
        end = min(start + BINNED_ROWS, down)
        band = pixels[start * by : end * by, : across * by].reshape(end - start, by, across, by)
        made[start:end] = band.mean(axis=(1, 3), dtype=np.float32)
    return made


def _background(plane: Floats) -> Floats:
    """Return the sky below a plane: clipped medians of squares, smoothed over three."""
    from scipy.ndimage import median_filter, zoom

    tile = min(MESH_PX, *plane.shape)
    down, across = max(plane.shape[0] // tile, 1), max(plane.shape[1] // tile, 1)
    level = np.empty((down, across))
    for row in range(down):
        for column in range(across):
            part = plane[row * tile : (row + 1) * tile : 2, column * tile : (column + 1) * tile : 2].ravel()
            for _ in range(4):
                middle, scatter = float(np.median(part)), mad_scatter(part)
                kept = part[(part < middle + 2.5 * scatter) & (part > middle - 4 * scatter)]
                if not scatter or len(kept) < len(part) // 4 or len(kept) == len(part):
                    break
                part = kept
            level[row, column] = np.median(part)
    level = median_filter(level, size=3, mode="nearest")
    if level.size == 1:
        return np.full(plane.shape, level[0, 0])
    grown = zoom(level, (plane.shape[0] / down, plane.shape[1] / across), order=1, mode="nearest", grid_mode=True)
    return np.asarray(grown[: plane.shape[0], : plane.shape[1]])


def _round_things(pixels: Numbers, binned: int) -> list[tuple[float, float, float, float]]:
    """Return round blobs of a binned copy: middle and width in px of the frame, and their light."""
    from scipy.ndimage import binary_closing, binary_fill_holes, find_objects, label, uniform_filter
    from scipy.ndimage import sum as summed

    plane = _binned(pixels, binned)
    plane = plane - _background(plane)
    noise = mad_scatter(np.diff(plane, axis=1)) / math.sqrt(2)
    if not noise:
        noise = float(plane.std()) or 1.0
    smooth = uniform_filter(plane, 3, mode="nearest")
    low, middle = np.quantile(smooth, (NORMAL_LOW, 0.5))
    # What the background did not follow is scatter too: of what lies below the middle, where no star is.
    above = smooth > middle + SIGMA * max(noise / 3, float(middle - low))
    filled = binary_fill_holes(binary_closing(above, np.ones((3, 3))))
    marks, count = label(filled)
    light = np.atleast_1d(summed(plane, marks, np.arange(1, count + 1))) if count else np.zeros(0)
    found = []
    for place, box in enumerate(find_objects(marks)):
        rows, columns = box
        high, wide = rows.stop - rows.start, columns.stop - columns.start
        touches = rows.start == 0 or columns.start == 0 or rows.stop == plane.shape[0] or columns.stop == plane.shape[1]
        across = math.sqrt(high * wide)
        if touches or not MIN_ACROSS <= across <= MAX_ACROSS or max(high, wide) > MAX_ASPECT * min(high, wide):
            continue
        own = marks[box] == place + 1
        if not ROUND_SHARE[0] <= float(own.mean()) <= ROUND_SHARE[1]:
            continue
        # What stands above the noise of a bright star is far wider than its disc.
        bright = smooth[box] - middle
        disc = binary_fill_holes(own & (bright > CORE_SHARE * np.percentile(bright[own], 90)))
        at_y, at_x = np.nonzero(disc)
        x, y = (float(at.mean()) + start for at, start in ((at_x, columns.start), (at_y, rows.start)))
        across = 2 * math.sqrt(disc.sum() / math.pi)
        found.append(
            ((x + 0.5) * binned - 0.5, (y + 0.5) * binned - 0.5, across * binned, float(light[place]) * binned**2)
        )
    return found


def _without_doubles(candidates: list[tuple[float, float, float, float]]) -> list[tuple[float, float, float, float]]:
    """Return candidates of all copies, the brightest first; of the same thing only the one of most light."""
    kept: list[tuple[float, float, float, float]] = []
    for own in sorted(candidates, key=lambda one: -one[3]):
        if not any(math.hypot(own[0] - one[0], own[1] - one[1]) < 0.5 * max(own[2], one[2]) for one in kept):
            kept.append(own)
    return kept


def _model(p: Floats, x: Floats, y: Floats) -> Floats:
    """Return the light of a disc with a hole: middle, radius, hole's middle and radius, blur, brightness, sky."""
    from scipy.special import erfc

    soft = math.sqrt(2) * p[6]
    disc = 0.5 * erfc((np.hypot(x - p[0], y - p[1]) - p[2]) / soft)
    hole = 0.5 * erfc((np.hypot(x - p[3], y - p[4]) - p[5]) / soft)
    return np.asarray(p[7] * (disc - hole) + p[8] + p[9] * (x - p[0]) + p[10] * (y - p[1]))


def _slopes(p: Floats, x: Floats, y: Floats) -> Floats:
    """Return the derivatives of :func:`_model` by its numbers, a column each."""
    from scipy.special import erfc

    soft = math.sqrt(2) * p[6]
    columns = np.zeros((x.size, 11))
    shapes = []
    for place, sign in ((0, 1.0), (3, -1.0)):
        off_x, off_y = x - p[place], y - p[place + 1]
        apart = np.maximum(np.hypot(off_x, off_y), 1e-9)
        beyond = (apart - p[place + 2]) / soft
        steep = sign * p[7] * np.exp(-(beyond**2)) / (math.sqrt(math.pi) * soft)
        columns[:, place] = (steep * off_x / apart).ravel()
        columns[:, place + 1] = (steep * off_y / apart).ravel()
        columns[:, place + 2] = steep.ravel()
        columns[:, 6] += (steep * beyond * soft / p[6]).ravel()
        shapes.append(0.5 * erfc(beyond))
    columns[:, 7] = (shapes[0] - shapes[1]).ravel()
    columns[:, 8] = 1.0
    columns[:, 9], columns[:, 10] = (x - p[0]).ravel(), (y - p[1]).ravel()
    columns[:, 0] -= p[9]
    columns[:, 1] -= p[10]
    return columns


def _fitted(pixels: Numbers, x: float, y: float, across: float, saturated_adu: float) -> Disc | None:
    """Return the disc at a place, None where what is there is none."""
    from scipy.optimize import least_squares

    half = round((0.5 + MARGIN) * across) + 2
    left, top = round(x) - half, round(y) - half
    if left < 0 or top < 0 or left + 2 * half >= pixels.shape[1] or top + 2 * half >= pixels.shape[0]:
        return None
    cut = pixels[top : top + 2 * half + 1, left : left + 2 * half + 1]
    if cut.max() >= saturated_adu:
        return None
    by = max(1, (2 * half + 1) // FITTED_PX)
    plane = _binned(cut, by).astype(float)
    at_y, at_x = np.mgrid[: plane.shape[0], : plane.shape[1]]
    sky, bright = np.percentile(plane, 10), np.percentile(plane, 90)
    noise = max(mad_scatter(np.diff(plane, axis=1)) / math.sqrt(2), 1e-9)
    if bright <= sky:
        return None
    middle, radius = (half - (by - 1) / 2) / by, across / 2 / by
    limit = plane.shape[0] / 2
    low = [0, 0, 0.4 * radius, 0, 0, 0.0, 0.3, 0.0, -np.inf, -np.inf, -np.inf]
    high = [2 * limit, 2 * limit, min(1.6 * radius, limit), 2 * limit, 2 * limit, 1.2 * radius, radius, *[np.inf] * 4]
    apart = np.hypot(at_x - middle, at_y - middle)
    inner, outer = plane[apart < 0.25 * radius], plane[(apart > 0.5 * radius) & (apart < 0.8 * radius)]
    has_hole = inner.size and outer.size and np.median(inner) - sky < 0.7 * (np.median(outer) - sky)
    hole = (0.4 if has_hole else 0.12) * radius
    start = [middle, middle, radius, middle, middle, hole, max(0.08 * radius, 0.6), bright - sky, sky, 0, 0]
    found = least_squares(
        lambda p: (_model(p, at_x, at_y) - plane).ravel() / noise,
        np.clip(start, np.array(low) + 1e-6, np.array(high) - 1e-6), jac=lambda p: _slopes(p, at_x, at_y) / noise,
        bounds=(low, high), loss="soft_l1", f_scale=3.0, max_nfev=30, ftol=1e-5, x_scale="jac",
    )  # fmt: skip
    return _checked(found, plane, noise, by, (left, top))


def _checked(found: object, plane: Floats, noise: float, by: int, corner: tuple[int, int]) -> Disc | None:
    """Return a fit as a disc where it is one: clear of the noise and of its blur, and explained by a disc."""
    p, slopes = np.asarray(found.x), np.asarray(found.jac)  # type: ignore[attr-defined]
    at_y, at_x = np.mgrid[: plane.shape[0], : plane.shape[1]]
    left = _model(p, at_x, at_y) - plane
    sigma = float(p[6])
    radius = float(p[2]) + sigma**2 / (2 * float(p[2]))
    apart = math.hypot(p[3] - p[0], p[4] - p[1])
    has_hole = p[5] > 1.2 * sigma and p[5] > 0.08 * radius and apart < 0.8 * radius
    hole = float(p[5]) + sigma**2 / (2 * float(p[5])) if has_hole else 0.0
    area = math.pi * (radius**2 - hole**2)
    inside = np.hypot(at_x - p[0], at_y - p[1]) < radius + 2 * sigma
    misfit = math.sqrt(_mean_square(left[inside])) if inside.any() else math.inf
    excess = math.sqrt(max(misfit**2 - noise**2, 0.0))
    if 2 * radius * by < MIN_DIAMETER_PX or 2 * radius < CLEAR_EDGES * FWHM_PER_SIGMA * sigma or p[5] > 0.95 * p[2]:
        return None
    if radius < PLAIN_EDGES * FWHM_PER_SIGMA * sigma and not _beats_a_star(plane, p, noise, _mean_square(left)):
        return None
    if p[7] * math.sqrt(max(area, 1.0)) < MIN_CONTRAST * noise or excess > MAX_MISFIT_SHARE * p[7]:
        return None
    # The scatter of what is left, not the noise alone: spider and seeing are in it.
    weights = _mean_square(left) / noise**2
    spread = np.linalg.pinv(slopes.T @ slopes) * max(weights, 1.0)
    standard = np.sqrt(np.maximum(np.diag(spread), 0.0)) * by
    return Disc(
        corner[0] + float(p[0]) * by + (by - 1) / 2, corner[1] + float(p[1]) * by + (by - 1) / 2,
        2 * radius * by, 2 * hole * by,
        float(p[3] - p[0]) * by if has_hole else 0.0, float(p[4] - p[1]) * by if has_hole else 0.0,
        FWHM_PER_SIGMA * sigma * by, float(p[7]) * area * by**2,
        2 * float(standard[2]), 2 * float(standard[5]), math.hypot(standard[0], standard[3]),
    )  # fmt: skip


def _beats_a_star(plane: Floats, p: Floats, noise: float, of_disc: float) -> bool:
    """Return whether a disc explains a cut-out clearly better than a star in focus does."""
    from scipy.optimize import least_squares

    at_y, at_x = np.mgrid[: plane.shape[0], : plane.shape[1]]

    def star(q: Floats) -> Floats:
        radius2 = (at_x - q[0]) ** 2 + (at_y - q[1]) ** 2
        # Moffat's profile with an exponent between the air's and a Gaussian's.
        return np.asarray(q[3] * (1 + radius2 / (q[5] * q[2] ** 2)) ** -q[5] + q[4] - plane)

    start = [p[0], p[1], max(p[2], 1.0), p[7], p[8], 4.0]
    low, high = [-np.inf, -np.inf, 0.2, 0.0, -np.inf, 1.5], [np.inf, np.inf, np.inf, np.inf, np.inf, 60.0]
    found = least_squares(
        lambda q: star(q).ravel() / noise, start, bounds=(low, high), loss="soft_l1", f_scale=3.0, max_nfev=60
    )
    return (_mean_square(star(found.x)) - of_disc) / noise**2 * plane.size > CLEARLY


def _mean_square(left: Floats) -> float:
    """Return the mean square of what a fit leaves, but for the few px that are hot or a cosmic ray's."""
    squares = np.sort(left.ravel() ** 2)
    return float(squares[: math.ceil(KEPT_SHARE * len(squares))].mean())


def alike(discs: list[Disc]) -> list[Disc]:
    """Return the discs that are as large as most: another size is two stars in one, or no star."""
    if len(discs) < 3:
        return discs
    usual = float(np.median([own.diameter for own in discs]))
    return [own for own in discs if abs(own.diameter - usual) < 0.15 * usual]

"""Where a frame has stars: joined pixels over the noise, at the sharp scale and on a binned copy, and what is none."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.evidence.stars.background import MESH_PX, Mesh
from wyntaxis.core.files.errors import InputError

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats, Ints, Numbers

THRESHOLD_SIGMA = 3.5
"""Pixels over this are joined; three by chance are in a frame of 60 million pixels one time in sixty."""
PEAK_SIGMA, SHARED_PEAK_SIGMA, MOST_PEAK_SIGMA, MARGIN = 5.0, 5.8, 12.0, 1.2
"""A star's brightest pixel is over the first; where neighbours share their noise over the second, or as much more as
its own dark spots ask for with a margin, up to the third.
"""
MIN_JOINED = 3
MAX_BRIGHT_PX = 6_000_000
"""So many pixels over the noise are a tenth of the largest frame, and no field of stars."""
BINNED = 8
"""Discs of stars far out of focus are found on a copy binned by this."""
BINNED_ROWS = 32
"""How many rows of the binned copy are made at once."""
NORMAL_LOW = 0.1587
"""The share of normal values that lie more than one standard deviation below their mean."""
DISC_BINS = 5
"""At least so many joined bins make a disc."""
MAX_DISC_PX = 170.0
SURROUNDINGS_PX = 24
"""Over so many px the light of a nebula or a galaxy is smooth, and a star is not."""
LARGE = "a nebula or a gradient: larger than any disc"
TRAIL_BINS = 2.0
"""A trail is narrower than this, as the spread of its bins: a galaxy seen from its edge is not."""
TRAIL_TIMES = 3.0
"""A star on a trail stands out of it by this, in the mean of its pixels."""
DISC_SHARE = 0.6
"""A sharp spot of this share of a disc's spread is the disc; a smaller one is a star before it, or a piece of it."""
MIN_COLUMN_PX, MAX_COLUMN_WIDTH_PX = 30, 2
"""What is at most two pixels wide and at least so long is a bad column; a cosmic ray is shorter."""
HOT_SHARE = 0.72
"""A pixel that holds more of the light about it than this is no star: the sharpest fill half of theirs."""
MIN_MINOR_PX = 0.42
"""No star is thinner, by its second moment: a cosmic ray is, or a bad column."""
THREADS = 2


@dataclass(frozen=True)
class Spots:
    """What may be stars: places in px (0-based, middle of the first pixel), sizes as the radius of their spread in px.

    ``why`` is empty for stars, else why it is none; ``flux`` what stands over the noise, in ADU. ``top`` is the highest
    code of all, and how many pixels have it.
    """

    x: Floats
    y: Floats
    spread: Floats
    flux: Floats
    why: tuple[str, ...]
    top: tuple[int, int] = (0, 0)


def find_spots(pixels: Numbers, mesh: Mesh) -> Spots:
    """Return what stands out of a frame's noise.

    Parameters
    ----------
    pixels, mesh
        ADU, shape (height, width), and the background of them.

    Returns
    -------
    Spots
        Stars, and what was refused, with the reason.

    Raises
    ------
    InputError
        When more pixels stand over the noise than stars light up.
    """
    flat, above, sigma = _bright(pixels, mesh)
    codes = pixels.reshape(-1)[flat]
    top = int(codes.max(initial=0))
    sharp = joined_pixels(flat, above, sigma, pixels.shape[1])
    parted, whole = _parted(sharp, flat, above, sigma, pixels.shape)
    sharp_why = _judged(parted, pixels, mesh)
    discs = _discs(pixels, mesh)
    found = _merged(parted, sharp_why, discs, pixels.shape)
    return replace(_with(found, whole, LARGE), top=(top, int((codes == top).sum())))


@dataclass(frozen=True)
class _Blobs:
    """Joined pixels: per blob its count, flux, centroid, second moments and box; lengths in px."""

    count: Ints
    flux: Floats
    peak_sigma: Numbers
    peak: Ints
    x: Floats
    y: Floats
    xx: Floats
    yy: Floats
    xy: Floats
    box: Ints
    label: Numbers
    """To which blob each of the joined pixels belongs."""
    flat: Ints
    """Where those pixels are, as flat places in order."""

    @property
    def extent(self) -> Any:
        """The longer side of each blob's box in px."""
        wide, tall = self.box[:, 1] - self.box[:, 0] + 1, self.box[:, 3] - self.box[:, 2] + 1
        return np.maximum(wide, tall)

    @property
    def breadth(self) -> Any:
        """The shorter side of each blob's box in px."""
        wide, tall = self.box[:, 1] - self.box[:, 0] + 1, self.box[:, 3] - self.box[:, 2] + 1
        return np.minimum(wide, tall)

    @property
    def axes(self) -> tuple[Floats, Floats]:
        """Major and minor axis, as standard deviations in px."""
        middle, half = (self.xx + self.yy) / 2, np.hypot((self.xx - self.yy) / 2, self.xy)
        return np.sqrt(np.maximum(middle + half, 0.0)), np.sqrt(np.maximum(middle - half, 0.0))


def _bright(pixels: Any, mesh: Mesh) -> tuple[Any, Any, Any]:
    """Return flat places, residuals and residuals over the noise of all pixels over the threshold, in order."""
    height, width = pixels.shape
    lowest = np.clip(np.floor(mesh.lowest(THRESHOLD_SIGMA)), 0, np.iinfo(pixels.dtype).max).astype(pixels.dtype)
    column = np.minimum(np.arange(width) // MESH_PX, lowest.shape[1] - 1)
    starts = range(0, height, MESH_PX)

    def strip(start: int) -> tuple[Ints, Numbers, Numbers]:
        part = pixels[start : start + MESH_PX]
        # What is under the lowest limit about its tile needs no closer look.
        flat = np.flatnonzero(part >= lowest[min(start // MESH_PX, len(lowest) - 1), column])
        level, noise = mesh.at(flat // width + start, flat % width)
        above = part.reshape(-1)[flat].astype(np.float32) - level
        sigma = above / noise
        over = sigma > THRESHOLD_SIGMA
        return flat[over] + start * width, above[over], sigma[over]

    with ThreadPoolExecutor(THREADS) as pool:
        found = list(pool.map(strip, starts))
    bright = sum(len(part[0]) for part in found)
    if bright > MAX_BRIGHT_PX:
        raise InputError(f"has {bright:,} pixels over the noise, more than stars light up; give a linear, raw frame")
    return tuple(np.concatenate([part[k] for part in found]) for k in range(3))  # type: ignore[return-value]


def joined_pixels(flat: Any, above: Any, sigma: Any, width: int) -> _Blobs:
    """Join neighbouring pixels, diagonal ones too, and sum each blob up; they are joined run by run of each row."""
    if not len(flat):
        none, whole = np.zeros(0), np.zeros(0, int)
        return _Blobs(whole, none, none, whole, none, none, none, none, none, np.zeros((0, 4), int), whole, whole)
    y, x = np.divmod(flat, width)
    begins = np.concatenate([[True], (np.diff(flat) != 1) | (x[1:] == 0)])
    first = np.flatnonzero(begins)
    last = np.concatenate([first[1:], [len(flat)]]) - 1
    start, end = flat[first], flat[last]
    ones, others = _touching(start, end, x[first], x[last], width)
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    graph = coo_matrix((np.ones(len(ones), np.int8), (ones, others)), shape=(len(first), len(first)))
    blobs, of_run = connected_components(graph, directed=False)
    label = np.repeat(of_run, last - first + 1)

    def total(weights: Any) -> Any:
        return np.bincount(label, weights=weights, minlength=blobs)

    flux = np.maximum(total(above), 1e-9)
    middle_x, middle_y = total(above * x) / flux, total(above * y) / flux
    dx, dy = x - middle_x[label], y - middle_y[label]
    weighted_x, weighted_y = above * dx, above * dy
    order = np.argsort(of_run, kind="stable")
    starts = np.flatnonzero(np.diff(of_run[order], prepend=-1))

    def extreme(ufunc: Any, values: Any) -> Any:
        return ufunc.reduceat(values[order], starts)

    highest = extreme(np.maximum, np.maximum.reduceat(sigma, first))
    is_peak = sigma == highest[label]
    peak = np.zeros(blobs, flat.dtype)
    peak[label[is_peak]] = flat[is_peak]
    box = (
        extreme(np.minimum, x[first]), extreme(np.maximum, x[last]), extreme(np.minimum, y[first]),
        extreme(np.maximum, y[first]),
    )  # fmt: skip
    return _Blobs(
        count=np.bincount(label, minlength=blobs),
        flux=flux,
        peak_sigma=highest,
        peak=peak,
        x=middle_x,
        y=middle_y,
        xx=total(weighted_x * dx) / flux,
        yy=total(weighted_y * dy) / flux,
        xy=total(weighted_x * dy) / flux,
        box=np.stack(box, axis=-1),
        label=label,
        flat=flat,
    )


def _parted(
    blobs: _Blobs, flat: Ints, above: Numbers, sigma: Numbers, shape: tuple[int, int]
) -> tuple[_Blobs, list[tuple[float, float]]]:
    """Return the blobs, what is larger than any disc joined again over its own surroundings; and where that was.

    A galaxy, a nebula or a trail joins with the stars about it: what is smooth over :data:`SURROUNDINGS_PX` is taken
    off, so that only stars on its own sharp pixels are lost.
    """
    large = (blobs.extent > MAX_DISC_PX) & (blobs.breadth > MAX_COLUMN_WIDTH_PX)
    if not large.any():
        return blobs, []
    inside = large[blobs.label]
    level, noise = _surroundings(flat, above, sigma, shape)
    y, x = np.divmod(flat[inside], shape[1])
    own_noise = above[inside] / sigma[inside]
    fine_above = above[inside] - _between(level, y, x)
    fine_sigma = fine_above / np.maximum(_between(noise, y, x), own_noise)
    over = fine_sigma > THRESHOLD_SIGMA
    places = np.concatenate([flat[~inside], flat[inside][over]])
    order = np.argsort(places, kind="stable")
    residual = np.concatenate([above[~inside], fine_above[over].astype(above.dtype)])[order]
    parted = joined_pixels(places[order], residual, np.concatenate([sigma[~inside], fine_sigma[over]])[order], shape[1])
    return parted, list(zip(blobs.x[large].tolist(), blobs.y[large].tolist(), strict=True))


def _between(tiles: Any, y: Any, x: Any) -> Any:
    """Return values of tiles at pixels, between the middles of the tiles bilinearly."""
    from scipy.ndimage import map_coordinates

    at = [(places + 0.5) / SURROUNDINGS_PX - 0.5 for places in (y, x)]
    return map_coordinates(tiles, at, order=1, mode="nearest")


def _surroundings(flat: Ints, above: Numbers, sigma: Numbers, shape: tuple[int, int]) -> tuple[Floats, Floats]:
    """Return level and noise of the bright pixels by tiles: the median of each, and its scatter below that.

    What is not bright counts as none above the background, so that a tile with a few stars has the level 0.
    """
    from scipy.ndimage import uniform_filter

    height, width = (-(-side // SURROUNDINGS_PX) for side in shape)
    y, x = np.divmod(flat, shape[1])
    tile = y // SURROUNDINGS_PX * width + x // SURROUNDINGS_PX
    order = np.lexsort((above, tile))
    tile, values = tile[order], above[order].astype(float)
    first = np.searchsorted(tile, np.arange(height * width))
    count = np.searchsorted(tile, np.arange(height * width), side="right") - first
    dark = SURROUNDINGS_PX**2 - count  # those under the threshold come first
    usual = float(np.median(above / sigma))

    def quantile(share: float) -> Floats:
        rank = np.floor(share * SURROUNDINGS_PX**2).astype(int) - dark
        at = np.clip(first + rank, 0, len(values) - 1)
        return np.where(rank >= 0, values[at], 0.0)

    level, low = quantile(0.5), quantile(0.16)
    tiles, noise = level.reshape(height, width), np.maximum(level - low, usual).reshape(height, width)
    # Where the level bends from tile to tile it is known no better than by that.
    bend = np.abs(tiles - uniform_filter(tiles, 3, mode="nearest"))
    return tiles, np.hypot(noise, bend)


def _touching(start: Ints, end: Ints, left: Ints, right: Ints, width: int) -> tuple[Ints, Ints]:
    """Return pairs of runs that touch, one in the row below the other; runs are told by their first and last place."""
    # Of the row below, those that end at the column before or later, and begin at the column behind or earlier.
    low = np.searchsorted(end, start + width - (left > 0))
    high = np.searchsorted(start, end + width + (right < width - 1), side="right")
    many = np.maximum(high - low, 0)
    ones = np.repeat(np.arange(len(start)), many)
    within = np.arange(len(ones)) - np.repeat(np.cumsum(many) - many, many)
    return ones, low[ones] + within


def _with(spots: Spots, places: list[tuple[float, float]], why: str) -> Spots:
    """Return spots, and some that are none with the reason."""
    if not places:
        return spots
    x, y = np.array(places).T
    none = np.zeros(len(x))
    return replace(
        spots,
        x=np.concatenate([spots.x, x]),
        y=np.concatenate([spots.y, y]),
        spread=np.concatenate([spots.spread, none + 1.0]),
        flux=np.concatenate([spots.flux, none]),
        why=(*spots.why, *[why] * len(x)),
    )


def _judged(blobs: _Blobs, pixels: Numbers, mesh: Mesh) -> list[str]:
    """Return for each blob why it is no star, empty where it may be one; blobs too small or faint say nothing."""
    height, width = pixels.shape
    why = [""] * len(blobs.count)
    _, minor = blobs.axes
    share = _peak_share(blobs, pixels, mesh)
    edge = (
        (blobs.box[:, 0] <= 0)
        | (blobs.box[:, 1] >= width - 1)
        | (blobs.box[:, 2] <= 0)
        | (blobs.box[:, 3] >= height - 1)
    )
    least = _least_peak(pixels, mesh)
    faint = (blobs.count < MIN_JOINED) | (blobs.peak_sigma < least)
    long_thin = (blobs.breadth <= MAX_COLUMN_WIDTH_PX) & (blobs.extent >= MIN_COLUMN_PX)
    large = blobs.extent > MAX_DISC_PX
    thin = (minor < MIN_MINOR_PX) & (blobs.peak_sigma > 2 * PEAK_SIGMA)
    for reason, mask in (
        (LARGE, large),
        ("touches the edge", edge),
        ("a cosmic ray: thinner than a star", thin),
        ("a bad column or row", long_thin),
        ("a hot pixel: all its light in one", (share > HOT_SHARE) & (blobs.peak_sigma > PEAK_SIGMA)),
        ("too faint", faint),
    ):
        for index in np.flatnonzero(mask):
            why[index] = reason  # the last that holds is told: what is too faint says nothing else
    return why


def _least_peak(pixels: Numbers, mesh: Mesh) -> float:
    """Return over how many times the noise a star's brightest pixel stands.

    Where neighbours share their noise, three joined pixels prove nothing, and its tails depend on how the frame was
    made: what joins as far under the background as a star would over it tells how high noise comes.
    """
    if mesh.shared == 1.0:
        return PEAK_SIGMA
    height, width = pixels.shape
    columns, found = np.arange(width, dtype=float), []
    for start in range(0, height, MESH_PX):
        part = pixels[start : start + MESH_PX]
        rows = np.arange(start, start + len(part), dtype=float)
        level, noise = mesh.on(rows, columns)
        under = ((level - part) / noise).reshape(-1)
        flat = np.flatnonzero(under > THRESHOLD_SIGMA)
        found.append((flat + start * width, under[flat]))
    flat, sigma = (np.concatenate([part[k] for part in found]) for k in range(2))
    holes = joined_pixels(flat, sigma, sigma, width)
    deepest = float(holes.peak_sigma[holes.count >= MIN_JOINED].max(initial=0.0))
    return max(SHARED_PEAK_SIGMA, min(MARGIN * deepest, MOST_PEAK_SIGMA))


def _peak_share(blobs: _Blobs, pixels: Any, mesh: Mesh) -> Any:
    """Return the share that the brightest pixel holds of the three by three about it."""
    height, width = pixels.shape
    if not len(blobs.x):
        return np.zeros(0)
    y, x = np.divmod(blobs.peak, width)
    y, x = np.clip(y, 1, height - 2), np.clip(x, 1, width - 2)
    level, _ = mesh.at(y, x)
    around = np.stack([pixels[y + dy, x + dx] for dy in (-1, 0, 1) for dx in (-1, 0, 1)], axis=-1).astype(float)
    around = np.maximum(around - level[:, None], 0.0)
    return around.max(axis=1) / np.maximum(around.sum(axis=1), 1e-9)


def _discs(pixels: Numbers, mesh: Mesh) -> _Blobs:
    """Return the blobs of the binned copy, in its own px."""
    height, width = (side // BINNED * BINNED for side in pixels.shape)
    if not height or not width:
        return joined_pixels(np.zeros(0, int), np.zeros(0), np.zeros(0), 1)
    down, across = height // BINNED, width // BINNED

    def strip(start: int) -> tuple[Numbers, Numbers]:
        end = min(start + BINNED_ROWS, down)
        part = pixels[start * BINNED : end * BINNED, :width]
        rows = part.reshape(end - start, BINNED, width).sum(axis=1, dtype=np.uint32)
        means = rows.reshape(end - start, across, BINNED).sum(axis=2) / np.float32(BINNED * BINNED)
        level, noise = mesh.on(np.arange(start, end) * BINNED + BINNED / 2, np.arange(across) * BINNED + BINNED / 2)
        return (means - level).astype(np.float32), (noise / BINNED).astype(np.float32)

    with ThreadPoolExecutor(THREADS) as pool:
        found = list(pool.map(strip, range(0, down, BINNED_ROWS)))
    above = np.concatenate([part[0] for part in found])
    sigma = above / np.concatenate([part[1] for part in found])
    if mesh.shared > 1.0:
        # Of noise that neighbours share, a mean over a bin keeps more: the bins' own scatter below their middle tells.
        low, middle = np.quantile(sigma, (NORMAL_LOW, 0.5))
        sigma = sigma / np.float32(max(middle - low, 1.0))
    flat = np.flatnonzero(sigma > PEAK_SIGMA)
    return joined_pixels(flat, above.reshape(-1)[flat], sigma.reshape(-1)[flat], across)


def _bin_blobs(sharp: _Blobs, discs: _Blobs, across: int) -> Numbers:
    """Return for each sharp blob the blob of the binned copy whose bin it lies on, -1 for none."""
    if not len(discs.flat):
        return np.full(len(sharp.x), -1)
    bins = (sharp.y / BINNED + 0.5 / BINNED).astype(int) * across + (sharp.x / BINNED + 0.5 / BINNED).astype(int)
    at = np.minimum(np.searchsorted(discs.flat, bins), len(discs.flat) - 1)
    return np.where(discs.flat[at] == bins, discs.label[at], -1)


def _merged(sharp: _Blobs, why: list[str], discs: _Blobs, shape: tuple[int, int]) -> Spots:
    """Return sharp spots, and the discs of the binned copy in place of the fragments that the sharp scale tells."""
    height, width = shape
    major, minor = sharp.axes
    spread = np.sqrt(np.maximum(major * minor, 0.25))
    drop = np.zeros(len(why), bool)
    xs, ys, spreads, fluxes, reasons = [], [], [], [], []
    disc_major, disc_minor = discs.axes
    own = _bin_blobs(sharp, discs, width // BINNED)
    by_row = np.argsort(sharp.y, kind="stable")
    above, below = (np.searchsorted(sharp.y[by_row], (discs.box[:, 2:] + (0, 1)) * BINNED)).T
    for index in np.flatnonzero(discs.count >= DISC_BINS):
        # The binned flux is a mean for each pixel: by the area of a bin it is that of the whole.
        total = discs.flux[index] * BINNED * BINNED
        left, right, top, bottom = (discs.box[index] + (0, 1, 0, 1)) * BINNED
        inside = by_row[above[index] : below[index]]
        inside = inside[(sharp.x[inside] >= left) & (sharp.x[inside] < right)]
        size = max(right - left, bottom - top)
        thin = disc_minor[index] < 0.35 * disc_major[index]
        if size > MAX_DISC_PX or thin:  # it spoils what lies on its own pixels, never what its box holds
            inside = inside[own[inside] == index]
        disc_spread = float(np.sqrt(max(disc_major[index] * disc_minor[index], 0.25)) * BINNED)
        if sharp.flux[inside].sum() > total / 2 and spread[inside].max(initial=0.0) < DISC_SHARE * disc_spread:
            continue  # stars, near each other, that the bins join: each is sharp by itself
        at_edge = left <= 0 or top <= 0 or right >= width // BINNED * BINNED or bottom >= height // BINNED * BINNED
        if size > MAX_DISC_PX:
            # Stars were parted from it already; of a faint trail, what is no brighter than it is a piece of it.
            is_trail = thin and disc_minor[index] < TRAIL_BINS
            mean = discs.flux[index] / discs.count[index]
            inside = inside[is_trail & (sharp.flux[inside] < TRAIL_TIMES * mean * sharp.count[inside])]
        drop[inside] = True
        xs.append((discs.x[index] + 0.5) * BINNED - 0.5)
        ys.append((discs.y[index] + 0.5) * BINNED - 0.5)
        spreads.append(disc_spread)
        fluxes.append(total)
        reasons.append(
            "touches the edge" if at_edge
            else LARGE if size > MAX_DISC_PX
            else "a trail or a nebula: no disc" if thin
            else ""
        )  # fmt: skip
    keep = [index for index in range(len(why)) if not drop[index] and why[index] != "too faint"]
    return Spots(
        x=np.concatenate([sharp.x[keep], np.array(xs)]),
        y=np.concatenate([sharp.y[keep], np.array(ys)]),
        spread=np.concatenate([spread[keep], np.array(spreads)]),
        flux=np.concatenate([sharp.flux[keep], np.array(fluxes)]),
        why=(*(why[index] for index in keep), *reasons),
    )

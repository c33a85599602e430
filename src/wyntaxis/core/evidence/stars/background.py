"""The sky under the stars: a coarse mesh of trimmed medians, and the noise that its tiles scatter by."""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats, Ints, Numbers

MESH_PX = 64
SAMPLE_ROWS, SAMPLE_COLUMNS = 8, 2
"""Every eighth row and every second column is enough for a tile's median."""
THREADS = 2
INNER_SHARE = 0.6616
"""What of normal noise's standard deviation its inner four fifths have: √(1 − 2zφ(z)/0.8) at z = 1.2816."""
MAX_STEP_ADU = 32767
LAGS_PX = (1, 2, 4, 8, 16)
"""Pixels so far apart are compared: neighbours that were resampled share their noise, and tell too little of it."""
LAG_TILES, SETTLED, CORRELATED = 30, 1.03, 1.06
"""The noise of so many tiles is looked at; it is whole at the lag from which on it grows by less than the second; under
the third, neighbours share nothing.
"""
CLIPPED = 5.0
"""Differences of more than so many scatters are stars."""
MIN_NOISE_ADU = 0.3
"""Noise below the step of whole codes cannot be told: that of rounding, 1/√12."""


@dataclass(frozen=True)
class Mesh:
    """Level and noise of a frame in ADU, one value for each tile of :data:`MESH_PX`, shape (down, across)."""

    level: Numbers
    noise: Numbers
    shared: float = 1.0
    """How many times larger the noise is than neighbours' differences tell: 1 for pixels of their own noise."""

    def at(self, y: Any, x: Any) -> tuple[Numbers, Numbers]:
        """Return level and noise in ADU at points, interpolated between the tiles' middles."""
        places = _places(self.level.shape, y, x)
        return _at(self.level, places), _at(self.noise, places)

    def on(self, y: Floats, x: Floats) -> tuple[Numbers, Numbers]:
        """Return level and noise in ADU on the grid of some rows and columns, each of shape (len(y), len(x))."""
        return self.at(y[:, None], x[None, :])

    def lowest(self, sigma: float) -> Any:
        """Return for each tile a level, in ADU, that no point in it comes below with that many times the noise."""
        from scipy.ndimage import minimum_filter

        return minimum_filter(self.level + np.float32(sigma) * self.noise, size=3, mode="nearest")


def background_mesh(pixels: Numbers) -> Mesh:
    """Return the background of a frame.

    Parameters
    ----------
    pixels
        ADU, shape (height, width), of any kind of number.

    Returns
    -------
    Mesh
        Trimmed medians, smoothed over three tiles, and the trimmed scatter, of which what neighbours share is part.
    """
    height, width = pixels.shape
    tile = min(MESH_PX, height, width)
    down, across = max(height // tile, 1), max(width // tile, 1)
    level, noise = np.zeros((down, across), np.float32), np.zeros((down, across), np.float32)

    def tiles(row: int) -> None:
        rows = slice(row * tile, (row + 1) * tile, SAMPLE_ROWS)
        band = pixels[rows, : across * tile : SAMPLE_COLUMNS]
        side = band.shape[1] // across
        ordered = np.sort(_by_tile(band, across, side), axis=1, kind="stable")
        level[row], noise[row] = _level(ordered), _spread(ordered)
        if side > 1:
            # Neighbours differ by the noise alone, also where the sky rises across a tile.
            beside = pixels[rows, 1 : across * tile : SAMPLE_COLUMNS]
            apart = np.clip(band[:, : beside.shape[1]].astype(np.int32) - beside, -MAX_STEP_ADU, MAX_STEP_ADU)
            steps = np.sort(_by_tile(apart.astype(np.int16), across, side), axis=1, kind="stable")
            noise[row] = _spread(steps) / math.sqrt(2)
        np.maximum(noise[row], MIN_NOISE_ADU, out=noise[row])

    with ThreadPoolExecutor(THREADS) as pool:
        list(pool.map(tiles, range(down)))
    size = (min(3, down), min(3, across))
    from scipy.ndimage import median_filter

    shared = _shared_noise(pixels, noise, tile)
    smooth = median_filter(noise, size=size, mode="nearest") * np.float32(shared)
    return Mesh(median_filter(level, size=size, mode="nearest"), smooth, shared)


def _shared_noise(pixels: Numbers, noise: Numbers, tile: int) -> float:
    """Return how many times the noise of pixels exceeds that which neighbours' differences tell, at least 1.

    The scatter of differences grows with their distance until what was resampled, debayered or smoothed together is
    apart. Light that rises, and stars, make it grow too: the quieter quarter of the tiles tells the noise alone.
    """
    down, across = noise.shape
    if tile <= 2 * LAGS_PX[-1]:
        return 1.0
    found = []
    for place in np.unique(np.linspace(0, down * across - 1, LAG_TILES).astype(int)):
        row, column = divmod(int(place), across)
        own = pixels[row * tile : (row + 1) * tile, column * tile : (column + 1) * tile].astype(np.float32)
        usual = float(noise[row, column])
        if usual > MIN_NOISE_ADU:
            found.append([_difference_scatter(own, lag, usual) / usual for lag in LAGS_PX])
    if not found:
        return 1.0
    shares = np.quantile(np.array(found), 0.25, axis=0)
    whole = max(float(shares[0]), 1.0)
    for share in shares[1:]:
        if share < SETTLED * whole:
            break
        whole = float(share)
    return whole if whole > CORRELATED else 1.0


def _difference_scatter(tile: Numbers, lag: int, usual: float) -> float:
    """Return the scatter of pixels by the differences of those so far apart, across and down, without stars.

    Of pixels that were made by different rules, as debayered ones are, some scatter more: all count, up to a limit.
    """
    squares, count = 0.0, 0
    for steps in (tile[:, lag:] - tile[:, :-lag], tile[lag:] - tile[:-lag]):
        inner = 0.7413 * float(np.subtract(*np.quantile(steps, (0.75, 0.25))))
        kept = steps[np.abs(steps) <= CLIPPED * max(inner, usual)]
        squares, count = squares + float(np.square(kept, dtype=np.float64).sum()), count + kept.size
    return math.sqrt(squares / max(count, 1) / 2)


def _by_tile(band: Numbers, across: int, side: int) -> Numbers:
    """Return the values of a row of tiles, shape (tiles, values)."""
    return band.reshape(len(band), across, side).transpose(1, 0, 2).reshape(across, -1)


def _level(ordered: Numbers) -> Numbers:
    """Return the middle of each row of sorted values: of whole codes the mean of the inner half tells the fraction.

    Where stars or a gradient spread the inner half, it is the median.
    """
    count = ordered.shape[1]
    inner = ordered[:, count // 4 : max(count - count // 4, count // 4 + 1)]
    mean, middle = inner.mean(axis=1, dtype=np.float32), ordered[:, count // 2].astype(np.float32)
    wide = inner[:, -1].astype(np.float32) - inner[:, 0]
    return np.where(np.abs(mean - middle) < 0.5 * np.maximum(wide, 1.0), mean, middle)


def _spread(ordered: Any) -> Any:
    """Return the standard deviation of each row of sorted values by its inner four fifths."""
    count = ordered.shape[1]
    inner = ordered[:, count // 10 : max(count - count // 10, count // 10 + 1)].astype(np.float32)
    inner -= inner.mean(axis=1, keepdims=True)
    return np.sqrt(np.einsum("ij,ij->i", inner, inner) / inner.shape[1]) / INNER_SHARE


def _weights(positions: Floats, tiles: int) -> tuple[Ints, Ints, Numbers]:
    at = np.clip((positions + 0.5) / MESH_PX - 0.5, 0, tiles - 1)
    first = np.minimum(at.astype(int), max(tiles - 2, 0))
    return first, np.minimum(first + 1, tiles - 1), (at - first).astype(np.float32)


def _places(shape: tuple[int, int], y: Any, x: Any) -> tuple[tuple[Ints, Ints, Numbers], tuple[Ints, Ints, Numbers]]:
    """Return the tiles about points, down and across, and how far each point lies between them."""
    return _weights(np.asarray(y, float), shape[0]), _weights(np.asarray(x, float), shape[1])


def _at(grid: Numbers, places: tuple[tuple[Ints, Ints, Numbers], tuple[Ints, Ints, Numbers]]) -> Numbers:
    (top, bottom, down), (left, right, across) = places
    upper, lower = grid[top, left], grid[bottom, left]
    upper = upper + (grid[top, right] - upper) * across
    lower = lower + (grid[bottom, right] - lower) * across
    return upper + (lower - upper) * down

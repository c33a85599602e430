"""The sky under the stars: a coarse mesh of clipped medians, and the noise that its tiles scatter by."""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.ndimage import median_filter, minimum_filter

MESH_PX = 64
SAMPLE_ROWS, SAMPLE_COLUMNS = 4, 2
"""Every fourth row and every second column is enough for a tile's median."""
THREADS = 2
CLIP_SIGMA = 3.0
CLIPPED_SHARE = 0.9866
"""What of the standard deviation a clip at three sigma leaves of normal noise."""
ROUNDS = 3
MAX_STEP_ADU = 32767
MIN_NOISE_ADU = 0.3
"""Noise below the step of whole codes cannot be told: that of rounding, 1/√12."""


@dataclass(frozen=True)
class Mesh:
    """Level and noise of a frame in ADU, one value for each tile of :data:`MESH_PX`, shape (down, across)."""

    level: Any
    noise: Any

    def at(self, y: Any, x: Any) -> tuple[Any, Any]:
        """Return level and noise in ADU at points, interpolated between the tiles' middles."""
        return _at(self.level, y, x), _at(self.noise, y, x)

    def on(self, y: Any, x: Any) -> tuple[Any, Any]:
        """Return level and noise in ADU on the grid of some rows and columns, each of shape (len(y), len(x))."""
        return _at(self.level, y[:, None], x[None, :]), _at(self.noise, y[:, None], x[None, :])

    def lowest(self, sigma: float) -> Any:
        """Return for each tile a level, in ADU, that no point in it comes below with that many times the noise."""
        return minimum_filter(self.level + np.float32(sigma) * self.noise, size=3, mode="nearest")


def background_mesh(pixels: Any) -> Mesh:
    """Return the background of a frame.

    Parameters
    ----------
    pixels
        ADU, shape (height, width), of any kind of number.

    Returns
    -------
    Mesh
        Clipped medians, smoothed over three tiles, and the clipped scatter.
    """
    height, width = pixels.shape
    tile = min(MESH_PX, height, width)
    down, across = max(height // tile, 1), max(width // tile, 1)
    level, noise = np.zeros((down, across), np.float32), np.zeros((down, across), np.float32)

    def tiles(row: int) -> None:
        rows = slice(row * tile, (row + 1) * tile, SAMPLE_ROWS)
        band = pixels[rows, : across * tile : SAMPLE_COLUMNS]
        side = band.shape[1] // across
        values = band.reshape(band.shape[0], across, side).transpose(1, 0, 2).reshape(across, -1)
        level[row], noise[row] = _clipped(np.sort(values, axis=1, kind="stable"))
        if side > 1:
            # Neighbours differ by the noise alone, also where the sky rises across a tile.
            beside = pixels[rows, 1 : across * tile : SAMPLE_COLUMNS]
            apart = np.clip(band[:, : beside.shape[1]].astype(np.int32) - beside, -MAX_STEP_ADU, MAX_STEP_ADU)
            apart = apart.astype(np.int16)
            steps = apart.reshape(len(band), across, side).transpose(1, 0, 2).reshape(across, -1)
            noise[row] = np.maximum(_clipped(np.sort(steps, axis=1, kind="stable"))[1] / math.sqrt(2), MIN_NOISE_ADU)

    with ThreadPoolExecutor(THREADS) as pool:
        list(pool.map(tiles, range(down)))
    size = (min(3, down), min(3, across))
    return Mesh(median_filter(level, size=size, mode="nearest"), median_filter(noise, size=size, mode="nearest"))


def _clipped(ordered: Any) -> tuple[Any, Any]:
    """Return clipped median and scatter of each row of sorted values."""
    values = ordered.astype(np.float32)
    count = values.shape[1]
    low, high = np.zeros(len(values), int), np.full(len(values), count)
    total = np.concatenate([np.zeros((len(values), 1)), np.cumsum(values, axis=1, dtype=np.float64)], axis=1)
    squares = np.concatenate([np.zeros((len(values), 1)), np.cumsum(values.astype(np.float64) ** 2, axis=1)], axis=1)
    rows = np.arange(len(values))
    for _ in range(ROUNDS):
        kept = np.maximum(high - low, 1)
        mean = (total[rows, high] - total[rows, low]) / kept
        spread = np.sqrt(np.maximum((squares[rows, high] - squares[rows, low]) / kept - mean**2, 0.0))
        spread = np.maximum(spread, MIN_NOISE_ADU)
        middle = values[rows, np.minimum((low + high) // 2, count - 1)]
        low = np.maximum((values < (middle - CLIP_SIGMA * spread)[:, None]).sum(axis=1), 0)
        high = np.maximum((values <= (middle + CLIP_SIGMA * spread)[:, None]).sum(axis=1), low + 1)
    kept = np.maximum(high - low, 1)
    mean = (total[rows, high] - total[rows, low]) / kept
    spread = np.sqrt(np.maximum((squares[rows, high] - squares[rows, low]) / kept - mean**2, 0.0)) / CLIPPED_SHARE
    # The median of whole codes is a whole code: beside it the clipped mean tells the fraction.
    middle = values[rows, np.minimum((low + high) // 2, count - 1)]
    near = np.abs(mean - middle) < 0.5 * np.maximum(spread, 1.0)
    return np.where(near, mean, middle), np.maximum(spread, MIN_NOISE_ADU)


def _weights(positions: Any, tiles: int) -> tuple[Any, Any, Any]:
    at = np.clip((positions + 0.5) / MESH_PX - 0.5, 0, tiles - 1)
    first = np.minimum(at.astype(int), max(tiles - 2, 0))
    return first, np.minimum(first + 1, tiles - 1), (at - first).astype(np.float32)


def _at(grid: Any, y: Any, x: Any) -> Any:
    top, bottom, down = _weights(np.asarray(y, float), grid.shape[0])
    left, right, across = _weights(np.asarray(x, float), grid.shape[1])
    upper = grid[top, left] * (1 - across) + grid[top, right] * across
    lower = grid[bottom, left] * (1 - across) + grid[bottom, right] * across
    return upper * (1 - down) + lower * down

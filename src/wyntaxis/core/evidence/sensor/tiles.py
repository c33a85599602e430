"""Statistics of frames by tile, read once in strips: level, temporal noise of a pair, clipping, outliers.

A tile's noise comes from the difference of two frames, which takes fixed pattern and vignetting out; pixels that
differ by more than five standard deviations (hot, blinking, struck by a particle) are left out, and counted.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.evidence.sensor.strips import OpenFrame, Plane, open_frame
from wyntaxis.core.files.errors import InputError, shown

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Flags, Floats, Numbers

TILES_ACROSS = 48
"""About so many tiles lie along the longer side of a frame."""
MIN_TILE_PX, MAX_TILE_PX = 16, 128
OUTLIER_SIGMA = 5.0
OUTLIER_ROUNDS = 4
CODES = 65536
_FIELDS = ("mean", "shift", "variance", "count", "outliers", "highest")

Watch = Callable[[], None]
"""Called between strips; raises to end the work."""


@dataclass(frozen=True)
class TileStats:
    """Statistics of one frame or of a pair, one number a tile, in ADU; arrays are (down, across).

    ``mean`` is the level (of both frames of a pair), ``shift`` what the first has more than the second, ``variance``
    the temporal variance of one frame (NaN for a single frame), ``count`` the pixels of a tile that were kept,
    ``outliers`` those that were not, ``highest`` the highest code, ``at_highest`` how many pixels of the first frame
    have the highest code of all.
    """

    mean: Floats
    shift: Floats
    variance: Floats
    count: Floats
    outliers: Floats
    highest: Floats
    at_highest: int
    step: int
    tile_px: int
    size: tuple[int, int]

    @property
    def highest_code(self) -> int:
        return int(self.highest.max())


def tile_size(width: int, height: int) -> int:
    """Return the side of a tile for a frame of this size, a power of two.

    Parameters
    ----------
    width
        Width in px.
    height
        Height in px.

    Returns
    -------
    int
        In px.
    """
    wanted = max(width, height) / TILES_ACROSS
    side = MIN_TILE_PX
    while side * 2 <= min(wanted, MAX_TILE_PX):
        side *= 2
    return side


def pair_stats(one: Path, other: Path, watch: Watch = lambda: None, plane: Plane | None = None) -> TileStats:
    """Return the statistics of two frames taken alike, or of one colour plane of them.

    Parameters
    ----------
    one, other
        The two files.
    watch
        Called again and again; may raise to end the work.
    plane
        Which colour plane, as (row, column) of the mosaic; all pixels without.

    Returns
    -------
    TileStats
        By tile the mean in ADU, and the variance in time in ADU² from the difference, free of fixed pattern.

    Raises
    ------
    InputError
        With one line when a file cannot be read, or the two differ in size.
    """
    with open_frame(one) as first, open_frame(other) as second:
        if (first.width, first.height) != (second.width, second.height):
            raise InputError(
                f"has {second.width} × {second.height} px, but {shown(one)} has "
                f"{first.width} × {first.height}; the frames of a pair must be equal in size",
                other,
            )
        return _stats(first.plane(plane), second.plane(plane), one, watch)


def frame_stats(path: Path, watch: Watch = lambda: None, plane: Plane | None = None) -> TileStats:
    """Return the statistics of a single frame: levels by tile without outliers, no variance in time.

    Parameters
    ----------
    path
        The file.
    watch
        Called again and again; may raise to end the work.
    plane
        Which colour plane; all pixels without.

    Returns
    -------
    TileStats
        By tile the mean in ADU.
    """
    with open_frame(path) as frame:
        return _stats(frame.plane(plane), None, path, watch)


def _stats(first: OpenFrame, second: OpenFrame | None, path: Path, watch: Watch) -> TileStats:
    tile = tile_size(first.width, first.height)
    across, down = first.width // tile, first.height // tile
    if not across or not down:
        raise InputError(f"has {first.width} × {first.height} px; at least {tile} × {tile} are wanted", path)
    found = {name: np.empty((down, across)) for name in _FIELDS}
    occupied = np.zeros(CODES, bool)
    at_highest, top = 0, -1
    for number, (start, end) in enumerate(first.strips(tile)):
        watch()
        a = first.rows(start, end)[:, : across * tile]
        b = second.rows(start, end)[:, : across * tile] if second is not None else None
        rows = slice(start // tile, end // tile)
        strip = _Strip(a, b, tile)
        for name in _FIELDS:
            found[name][rows] = getattr(strip, name)
        highest = int(strip.highest.max())
        if highest > top:
            at_highest, top = 0, highest
        if highest == top:
            at_highest += int(np.count_nonzero(a == top))
        if number % 8 == 0:
            # Which codes occur tells the step of data that were multiplied up; a share of the strips is enough.
            occupied[a.ravel()] = True
    return TileStats(
        **found, at_highest=at_highest, step=code_step(occupied), tile_px=tile, size=(first.width, first.height)
    )


def code_step(occupied: Flags) -> int:
    """Return the step between codes that occur, a power of two: above 1 for data of few bits stored multiplied.

    ``occupied`` is a mask over all codes, (65536,). Clipped data may end on a code of all ones; it is passed over.

    Parameters
    ----------
    occupied
        Which codes occur, (65536,).

    Returns
    -------
    int
        In ADU.
    """
    codes = np.flatnonzero(occupied)
    if len(codes) < 3:
        return 1
    step = int(np.gcd.reduce(codes[:-1] - codes[0])) or 1
    return step & -step


class _Strip:
    """The tiles of one strip. Sums run along each tile's rows first, in float32, then over rows in float64."""

    def __init__(self, a: Numbers, b: Numbers | None, tile: int) -> None:
        rows, columns = a.shape
        self._shape = (rows // tile, tile, columns // tile, tile)
        self._tile = tile
        self.highest = a.reshape(self._shape).max(axis=(1, 3))
        self._n = tile * tile
        if b is None:
            self._single(a)
        else:
            self.highest = np.maximum(self.highest, b.reshape(self._shape).max(axis=(1, 3)))
            self._pair(a, b)

    def _sums(self, values: Any) -> Any:
        """Return the sum of each tile of float32 values, (down, across), float64."""
        ones = np.ones(self._tile, np.float32)
        return (values.reshape(-1, self._tile) @ ones).reshape(self._shape[:3]).sum(axis=1, dtype=np.float64)

    def _squares(self, values: Any) -> Any:
        flat = values.reshape(-1, self._tile)
        return np.einsum("ij,ij->i", flat, flat).reshape(self._shape[:3]).sum(axis=1, dtype=np.float64)

    def _spread(self, total: Floats) -> Numbers:
        """Return one value a tile as one a pixel, ready to subtract from a strip."""
        return np.repeat(np.repeat(total.astype(np.float32), self._tile, axis=0), self._tile, axis=1)

    def _pair(self, a: Numbers, b: Numbers) -> None:
        one, other = a.astype(np.float32), b.astype(np.float32)
        difference = one - other
        one += other
        sums, squares = self._sums(difference), self._squares(difference)
        level = self._sums(one) / 2
        count = np.full(sums.shape, float(self._n))
        out_d, out_d2, out_level, out_n = self._outliers(difference, one, sums, squares)
        sums, squares, level, count = sums - out_d, squares - out_d2, level - out_level / 2, count - out_n
        self.count, self.outliers = count, out_n
        kept = np.maximum(count, 2)
        self.mean = level / kept
        self.shift = sums / kept
        self.variance = np.maximum(squares - sums**2 / kept, 0) / (kept - 1) / 2

    def _outliers(
        self, d: Numbers, level: Numbers, sums: Floats, squares: Floats
    ) -> tuple[Floats, Floats, Floats, Floats]:
        """Return what outliers add to each tile: their differences, squares, levels, number. Few tiles need a look."""
        down, _, across, tile = self._shape
        gone = [np.zeros(sums.shape) for _ in range(4)]
        tiles = d.reshape(self._shape)
        levels = level.reshape(self._shape)
        largest = np.maximum(d.reshape(-1, tile).max(axis=1), -d.reshape(-1, tile).min(axis=1))
        largest = largest.reshape(down, tile, across).max(axis=1)
        mean, sigma = _moments(sums, squares, self._n)
        for i, j in zip(*np.nonzero(largest > np.abs(mean) + OUTLIER_SIGMA * sigma), strict=True):
            values, kept = tiles[i, :, j, :].ravel().astype(np.float64), None
            for _ in range(OUTLIER_ROUNDS):
                part = values if kept is None else values[kept]
                spread = max(part.std(), 1e-9)
                now = np.abs(values - part.mean()) <= OUTLIER_SIGMA * spread
                if kept is not None and (now == kept).all():
                    break
                kept = now
            assert kept is not None
            lost = ~kept
            gone[0][i, j] = values[lost].sum()
            gone[1][i, j] = (values[lost] ** 2).sum()
            gone[2][i, j] = levels[i, :, j, :].ravel()[lost].astype(np.float64).sum()
            gone[3][i, j] = lost.sum()
        return gone[0], gone[1], gone[2], gone[3]

    def _single(self, a: Numbers) -> None:
        values = a.astype(np.float32)
        base = self._sums(values) / self._n
        rest = values - self._spread(base)
        sums, squares = self._sums(rest), self._squares(rest)
        out, _, _, lost = self._outliers(rest, rest, sums, squares)
        self.count = self._n - lost
        self.outliers = lost
        self.mean = base + (sums - out) / np.maximum(self.count, 1)
        self.shift = np.zeros(base.shape)
        self.variance = np.full(base.shape, np.nan)


def _moments(sums: Floats, squares: Floats, n: int) -> tuple[Floats, Floats]:
    mean = sums / n
    return mean, np.sqrt(np.maximum(squares / n - mean**2, 1e-9))

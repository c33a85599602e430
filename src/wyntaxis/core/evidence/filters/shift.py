"""How two flats differ: their ratio against its noise, and by how much the dust moved between them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from wyntaxis.core.evidence.filters.dust import FlatLight, Shadow, shade_and_slopes, shade_of
from wyntaxis.core.evidence.filters.smooth_light import Plane, cell_means
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.fitting import mad_scatter, pixel_scatter
from wyntaxis.core.json_values import JsonObject

MAX_TURN_PX = 40.0
"""Shadows are looked for again within so many px of a plane."""
WINDOW_PX = 48
"""Windows about shadows are binned until they are no more px than this across."""
SAME_SURFACE = 1.2
"""Shadows of which each is less than so many times as wide as the next smaller one are of one surface."""
CHANCE = 0.01
"""A shadow has moved where fewer than this share of pairs would show so much by chance."""
LEAST_KNOWN_PX = 1.0
"""A shadow that tells its place in a pair no better than this, in px of the frame, tells no shift."""
DETAIL_SHARE = 8
"""What is coarser than this part of the shorter side is light, not dust, and taken out of a ratio."""
CELLS = 48
ROUNDS = 6
LEAST_NOISE = 1e-7
"""A ratio's px scatter by no less than this, so that equal frames divide by nothing."""


@dataclass(frozen=True)
class ShadowShift:
    """By how much one shadow moved, in px of the frame toward +x and +y, with standard uncertainties."""

    shadow: Shadow
    x: float
    y: float
    u_x: float
    u_y: float

    @property
    def significance(self) -> float:
        """The squared length in standard uncertainties."""
        return (self.x / self.u_x) ** 2 + (self.y / self.u_y) ** 2


@dataclass(frozen=True)
class PairShift:
    """How two flats differ. Lengths in px of the frame, ratios as shares of the light.

    ``shift_px`` is how far the dust moved that did move (all of it, where none did for certain), what noise adds to any
    length taken out; None with ``why``. ``ratio_rms`` is the scatter of the high-passed ratio over cells of
    ``cell_px``, ``shot_rms`` what the noise of single px makes of that, ``shot_standard`` its standard uncertainty.
    """

    shift_px: Estimate | None
    x: float
    y: float
    moved: int
    shadows: tuple[ShadowShift, ...]
    ratio_rms: float
    shot_rms: float
    shot_standard: float
    cell_px: int
    why: str = ""


def pair_shift(
    planes: tuple[Plane, Plane], light: FlatLight, binned: int, turning: Sequence[bool | None] = ()
) -> PairShift:
    """Return how a flat differs from another of the same filter.

    Parameters
    ----------
    planes
        Planes of light of the same shape, the earlier one first.
    light
        The light and the shadows of dust of the set that both are of.
    binned
        How many px of the frame one of the planes' is across.
    turning
        Of each shadow whether it lies on a filter, which turns with the wheel; None where nobody knows, and for those
        left out.

    Returns
    -------
    PairShift
        The shift is that of the later against the earlier.
    """
    one, other = planes
    ratio = np.log(other / one)
    ratio -= np.median(ratio)
    noise = pixel_noise(ratio)
    cell = max(2, min(ratio.shape) // CELLS)
    cells = _high_passed(cell_means(ratio, cell))
    rms = mad_scatter(cells)
    # The tails are what moved dust makes: the plain scatter tells them, the robust one does not.
    plain = float(cells.std())
    shot = noise / cell
    shadows = light.shadows
    known = [*turning, *[None] * (len(shadows) - len(turning))]
    pair = _Pair(one, other, light, binned, noise)
    found = {k: shift for k in range(len(shadows)) if (shift := pair.shift_of(k)) is not None}
    moved = _moved(list(found.values()))
    if moved:
        # Neighbours that moved along are taken from where each flat has them.
        pair.move([k for k, shift in found.items() if shift in moved], _mean(moved)[:2])
        found = {k: shift for k in found if (shift := pair.shift_of(k)) is not None}
        moved = _moved(list(found.values()))
    reported = tuple(found.values())
    of_wheel = [shift for k, shift in found.items() if known[k] is not False]
    common: JsonObject = {
        "ratio_rms": max(plain, rms),
        "shot_rms": shot,
        "shot_standard": shot / math.sqrt(2 * cells.size),
        "cell_px": cell * binned,
    }
    if not moved and not of_wheel:
        why = "every shadow that can be registered lies on glass that does not turn with the wheel"
        if not shadows:
            why = "no shadow of dust is on them to register by"
        elif not reported:
            why = "their shadows are too faint to register by"
        return PairShift(None, 0.0, 0.0, 0, reported, **common, why=why)
    x, y, u_x, u_y = _mean(moved or of_wheel)
    raw2, noise2 = x**2 + y**2, u_x**2 + u_y**2
    # Noise makes any length larger: what it adds is taken out, so that wheels that stop where they did show nothing.
    length = math.sqrt(max(raw2 - noise2, 0.0))
    standard = math.sqrt(noise2 / 2)
    return PairShift(Estimate(length, standard), x, y, len(moved), reported, **common)


def _moved(reported: Sequence[ShadowShift]) -> list[ShadowShift]:
    """Return the shadows that moved, for certain: of one surface together, which are alike in size, else one by one."""
    if not reported:
        return []
    surfaces: list[list[ShadowShift]] = []
    for entry in sorted(reported, key=lambda shift: shift.shadow.outer_px.value):
        size = entry.shadow.outer_px.value
        if surfaces and size < SAME_SURFACE * surfaces[-1][-1].shadow.outer_px.value:
            surfaces[-1].append(entry)
        else:
            surfaces.append([entry])
    limit = -2 * math.log(CHANCE / (len(surfaces) + len(reported)))
    surest, best = 0.0, None
    for group in [*surfaces, *([entry] for entry in reported)]:
        x, y, u_x, u_y = _mean(group)
        significance = (x / u_x) ** 2 + (y / u_y) ** 2
        if significance > max(limit, surest):
            surest, best = significance, (x, y)
    if best is None:
        return []
    away = [math.hypot((entry.x - best[0]) / entry.u_x, (entry.y - best[1]) / entry.u_y) for entry in reported]
    return [e for e, far in zip(reported, away, strict=True) if far < 3 and far**2 < e.significance]


def _mean(entries: Sequence[ShadowShift]) -> tuple[float, float, float, float]:
    """Return the weighted mean shift and its standard uncertainties, widened where the shadows disagree."""
    found = []
    for value, own in (("x", "u_x"), ("y", "u_y")):
        values = np.array([getattr(entry, value) for entry in entries])
        weights = 1 / np.array([getattr(entry, own) for entry in entries]) ** 2
        mean = float((weights * values).sum() / weights.sum())
        spread = float((weights * (values - mean) ** 2).sum()) / max(len(values) - 1, 1)
        found.append((mean, math.sqrt(max(spread if len(values) > 2 else 1.0, 1.0) / weights.sum())))
    return found[0][0], found[1][0], found[0][1], found[1][1]


def pixel_noise(ratio: Plane) -> float:
    """Return the scatter of a ratio's px that neighbours do not share."""
    return max(pixel_scatter(ratio), LEAST_NOISE)


def _high_passed(cells: Plane) -> Plane:
    """Return cells less their smooth part."""
    from scipy.ndimage import gaussian_filter

    return np.asarray(cells - gaussian_filter(cells, max(cells.shape[0] / DETAIL_SHARE, 2.0), mode="nearest"))


class _Pair:
    """Two flats with their common light and dust, in which each shadow is looked for again."""

    def __init__(self, one: Plane, other: Plane, light: FlatLight, binned: int, noise: float) -> None:
        smooth = light.smooth.on_plane()
        self.logs = tuple(np.log(plane) - smooth for plane in (one, other))
        self.shadows, self.binned, self.noise = light.shadows, binned, noise
        self.places = [[(shadow.x, shadow.y) for shadow in light.shadows] for _ in self.logs]

    def move(self, which: Sequence[int], shift: tuple[float, float]) -> None:
        """Take shadows as moved by half a shift either way of where both flats together have them."""
        for places, share in zip(self.places, (-0.5, 0.5), strict=True):
            for k in which:
                shadow = self.shadows[k]
                places[k] = (shadow.x + share * shift[0], shadow.y + share * shift[1])

    def shift_of(self, k: int) -> ShadowShift | None:
        """Return by how much a shadow moved from the first flat to the second; None where it is too faint to tell.

        Its shape is the same in both: the places at which it fits each best are compared. A px' own response pulls
        both alike, and shadows are as wide on all sides, so that neither noise of a flat nor a shape that is a little
        off moves one against the other; only the ratio's noise does.
        """
        shadow, binned = self.shadows[k], self.binned
        reach = (shadow.outer_px.value / 2 + 3 * shadow.soft_px) / binned + 3
        middle = ((shadow.x - (binned - 1) / 2) / binned, (shadow.y - (binned - 1) / 2) / binned)
        pad = math.ceil(1.15 * reach)
        rows, columns = self.logs[0].shape
        left, right = max(round(middle[0]) - pad, 0), min(round(middle[0]) + pad + 1, columns)
        top, bottom = max(round(middle[1]) - pad, 0), min(round(middle[1]) + pad + 1, rows)
        by = max(1, (2 * pad) // WINDOW_PX)
        if min(right - left, bottom - top) < max(pad, 6 * by):
            return None
        y, x = (
            (at + (by - 1) / 2) * binned + (binned - 1) / 2
            for at in np.meshgrid(
                np.arange(top, bottom - by + 1, by), np.arange(left, right - by + 1, by), indexing="ij"
            )
        )
        # A window that no whole number of px fills is cut at its right and upper edge, as its means are.
        fits = []
        cuts = []
        for log, places in zip(self.logs, self.places, strict=True):
            cut = cell_means(log[top:bottom, left:right], by)
            for other, place in enumerate(places):
                if other != k and self._is_near(other, shadow):
                    cut = cut + shade_of(self.shadows[other], place, x, y)
            cuts.append(cut)
        for cut, other_cut, place in zip(cuts, reversed(cuts), (p[k] for p in self.places), strict=True):
            starts = [place]
            if cut is cuts[1]:
                across, down = _whole_shift(other_cut, cut)
                starts.append((place[0] + across * by * binned, place[1] + down * by * binned))
            found = [_placed_best(shadow, start, cut, x, y) for start in starts]
            fits.append(min(found, key=lambda fit: fit.left))
        return self._compared(shadow, fits, by)

    def _is_near(self, other: int, shadow: Shadow) -> bool:
        there = self.shadows[other]
        apart = math.hypot(there.x - shadow.x, there.y - shadow.y)
        return apart < (there.outer_px.value + shadow.outer_px.value) * 0.8 + 3 * (there.soft_px + shadow.soft_px)

    def _compared(self, shadow: Shadow, fits: Sequence[_Placed], by: int) -> ShadowShift | None:
        """Return the shift between the places at which a shadow fits two flats, with its uncertainty."""
        first, second = fits
        shift = second.place - first.place
        if math.hypot(*shift) > MAX_TURN_PX * self.binned:
            return None
        normal = (first.normal + second.normal) / 2
        if np.linalg.det(normal) <= 0:
            return None
        inverse = np.linalg.inv(normal)
        # What noise leaves of the difference of both, and what is left more: then the model's uncertainty grows.
        usual = self.noise / by
        rest = second.rest - first.rest
        excess = max(float(np.mean(rest**2)) / usual**2, 1.0)
        # What the flats' common rest, which stays where it is, does to a shadow that moves over it.
        pattern = float(np.sqrt(np.mean(((first.rest + second.rest) / 2) ** 2)))
        bent = math.sqrt(first.bent) * pattern * inverse.diagonal()
        standard = np.hypot(np.sqrt(inverse.diagonal() * excess) * usual, bent * float(np.abs(shift).max()))
        if not standard.max() < LEAST_KNOWN_PX:
            return None
        return ShadowShift(shadow, float(shift[0]), float(shift[1]), float(standard[0]), float(standard[1]))


@dataclass(frozen=True)
class _Placed:
    """Where a shadow fits a flat best, in px of the frame, with the slopes' products, what is left, and its bends."""

    place: Plane
    normal: Plane
    rest: Plane
    left: float
    bent: float


def _placed_best(shadow: Shadow, start: tuple[float, float], cut: Plane, x: Plane, y: Plane) -> _Placed:
    """Return where a shadow of known shape fits a window best: steps of Gauss and Newton in its place and depth."""
    place = np.array(start, dtype=float)
    base = np.stack([np.ones(cut.size), (x - x.mean()).ravel(), (y - y.mean()).ravel()], axis=1)
    base /= np.linalg.norm(base, axis=0)
    base, _ = np.linalg.qr(base)
    depth = 1.0
    rest, normal = cut.ravel(), np.zeros((2, 2))
    for _ in range(ROUNDS):
        taken, growing = shade_and_slopes(shadow, (float(place[0]), float(place[1])), x, y)
        shade, slopes = -taken.ravel(), [-slope.ravel() for slope in growing]
        design = np.stack([depth * slopes[0], depth * slopes[1], shade], axis=1)
        values = cut.ravel() - depth * shade
        design = design - base @ (base.T @ design)
        values = values - base @ (base.T @ values)
        whole = design.T @ design + 1e-18 * np.eye(3)
        step = np.linalg.solve(whole, design.T @ values)
        rest, normal = values - design @ step, whole[:2, :2] - np.outer(whole[:2, 2], whole[2, :2]) / whole[2, 2]
        limit = shadow.outer_px.value / 8
        place = place + np.clip(step[:2], -limit, limit)
        depth = float(np.clip(depth + step[2], 0.2, 5.0))
        if np.abs(step[:2]).max() < 1e-4:
            break
    # How much the slopes change from place to place: what stays where it is pulls a shadow that moves over it.
    soft = max(shadow.soft_px, shadow.outer_px.value / 40)
    return _Placed(place, normal, rest, float(np.mean(rest**2)), float(np.trace(normal)) / 2 / soft**2)


def _whole_shift(first: Plane, second: Plane) -> tuple[float, float]:
    """Return by how many px the second window lies against the first, to a whole one, by phase correlation.

    Source: Kuglin and Hines, 1975; weighted by the product's own power, so that noise does not count.
    """
    from scipy.ndimage import gaussian_filter

    windows = []
    for cut in (first, second):
        smooth = gaussian_filter(cut, 1.0)
        tapered = (smooth - smooth.mean()) * np.outer(np.hanning(cut.shape[0]), np.hanning(cut.shape[1]))
        windows.append(np.fft.rfft2(tapered))
    cross = windows[1] * np.conj(windows[0])
    reported = np.fft.irfft2(cross / np.sqrt(np.abs(cross) + 1e-12), s=first.shape)
    row, column = np.unravel_index(int(np.argmax(reported)), reported.shape)
    down = row - reported.shape[0] if row > reported.shape[0] / 2 else row
    across = column - reported.shape[1] if column > reported.shape[1] / 2 else column
    return float(across), float(down)

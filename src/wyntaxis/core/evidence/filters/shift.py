"""How two flats differ: their ratio against its noise, and by how much the dust moved between them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from wyntaxis.core.evidence.filters.dust import Shadow
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.fitting import mad_scatter, pixel_scatter

SMOOTH_PX, MAX_SMOOTH_PX, SMOOTH_SHARE = 1.2, 10.0, 0.8
"""Windows are smoothed by this share of the softness of their shadow's edge, within limits, before their slopes are
taken.
"""
MAX_TURN_PX = 40.0
"""Shadows are looked for again within so many px of a plane."""
SAME_SURFACE = 1.2
"""Shadows of which each is less than so many times as wide as the next smaller one are of one surface."""
CHANCE = 0.01
"""A shadow has moved where fewer than this share of pairs would show so much by chance."""
MIN_SHARPNESS = 6.0
"""A shadow tells a shift where its slopes exceed those of noise so many times."""
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


def pair_shift(one: Any, other: Any, shadows: Sequence[Shadow], binned: int) -> PairShift:
    """Return how a flat differs from another of the same filter.

    Parameters
    ----------
    one, other
        Planes of light of the same shape, the earlier one first.
    shadows
        The shadows of dust on both, in px of the frame.
    binned
        How many px of the frame one of the planes' is across.

    Returns
    -------
    PairShift
        The shift is that of the later against the earlier.
    """
    ratio = np.log(other / one)
    ratio -= np.median(ratio)
    noise = pixel_noise(ratio)
    cell = max(2, min(ratio.shape) // CELLS)
    cells = _high_passed(cells_of(ratio, cell))
    rms = mad_scatter(cells)
    # The tails are what moved dust makes: the plain scatter tells them, the robust one does not.
    plain = float(cells.std())
    shot = noise / cell
    reported = [found for shadow in shadows if (found := _of_shadow(one, other, shadow, binned, noise)) is not None]
    common: dict[str, Any] = {
        "ratio_rms": max(plain, rms),
        "shot_rms": shot,
        "shot_standard": shot / math.sqrt(2 * cells.size),
        "cell_px": cell * binned,
    }
    if not reported:
        why = (
            "no shadow of dust is on them to register by"
            if not shadows
            else "their shadows are too faint to register by"
        )
        return PairShift(None, 0.0, 0.0, 0, (), **common, why=why)
    moved = _moved(reported)
    x, y, u_x, u_y = _mean(moved or reported)
    raw2, noise2 = x**2 + y**2, u_x**2 + u_y**2
    # Noise makes any length larger: what it adds is taken out, so that wheels that stop where they did show nothing.
    length = math.sqrt(max(raw2 - noise2, 0.0))
    standard = math.sqrt(noise2 / 2)
    return PairShift(Estimate(length, standard), x, y, len(moved), tuple(reported), **common)


def _moved(reported: Sequence[ShadowShift]) -> list[ShadowShift]:
    """Return the shadows that moved, for certain: of one surface together, which are alike in size, else one by one."""
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


def pixel_noise(ratio: Any) -> float:
    """Return the scatter of a ratio's px that neighbours do not share."""
    return max(pixel_scatter(ratio), LEAST_NOISE)


def cells_of(plane: Any, side: int) -> Any:
    """Return the means of a plane over squares of so many px."""
    rows, columns = plane.shape[0] // side, plane.shape[1] // side
    return plane[: rows * side, : columns * side].reshape(rows, side, columns, side).mean(axis=(1, 3))


def _high_passed(cells: Any) -> Any:
    """Return cells less their smooth part."""
    from scipy.ndimage import gaussian_filter

    return cells - gaussian_filter(cells, max(cells.shape[0] / DETAIL_SHARE, 2.0), mode="nearest")


def _of_shadow(one: Any, other: Any, shadow: Shadow, binned: int, noise: float) -> ShadowShift | None:
    """Return by how much one shadow moved between two planes, by the slopes of its edge; None where it is too faint.

    ``ln other − ln one = −s · ∇`` of the shadow to first order: the later plane is moved back by the shift found and
    compared again until nothing is left. Fixed patterns are in both planes and cancel in the difference.
    """
    reach = (shadow.outer_px.value / 2 + 3 * shadow.soft_px) / binned + 3
    middle = ((shadow.x - (binned - 1) / 2) / binned, (shadow.y - (binned - 1) / 2) / binned)
    pad = math.ceil(reach) + 4
    left, top = round(middle[0]) - pad, round(middle[1]) - pad
    right, bottom = left + 2 * pad + 1, top + 2 * pad + 1
    left, top = max(left, 0), max(top, 0)
    right, bottom = min(right, one.shape[1]), min(bottom, one.shape[0])
    if min(right - left, bottom - top) < pad:
        return None
    first, second = (np.log(plane[top:bottom, left:right].astype(float)) for plane in (one, other))
    whole = _whole_shift(first, second)
    smooth = float(np.clip(SMOOTH_SHARE * shadow.soft_px / binned, SMOOTH_PX, MAX_SMOOTH_PX))
    best: tuple[float, Any, Any] | None = None
    for start in {(0.0, 0.0), whole}:
        found = _registered(first, second, start, noise, smooth)
        if found is not None and (best is None or found[0] < best[0]):
            best = found
    if best is None:
        return None
    _left, shift, standard = best
    return ShadowShift(
        shadow,
        float(shift[0]) * binned,
        float(shift[1]) * binned,
        float(standard[0]) * binned,
        float(standard[1]) * binned,
    )


def _whole_shift(first: Any, second: Any) -> tuple[float, float]:
    """Return by how many px the second window lies against the first, to a whole one, by phase correlation.

    Source: Kuglin and Hines, 1975; weighted by the product's own power, so that noise does not count.
    """
    from scipy.ndimage import gaussian_filter

    windows = []
    for cut in (first, second):
        smooth = gaussian_filter(cut, 1.5)
        tapered = (smooth - smooth.mean()) * np.outer(np.hanning(cut.shape[0]), np.hanning(cut.shape[1]))
        windows.append(np.fft.rfft2(tapered))
    cross = windows[1] * np.conj(windows[0])
    reported = np.fft.irfft2(cross / np.sqrt(np.abs(cross) + 1e-12), s=first.shape)
    row, column = np.unravel_index(int(np.argmax(reported)), reported.shape)
    down = row - reported.shape[0] if row > reported.shape[0] / 2 else row
    across = column - reported.shape[1] if column > reported.shape[1] / 2 else column
    return (float(across), float(down)) if math.hypot(across, down) <= MAX_TURN_PX else (0.0, 0.0)


def _registered(
    first: Any, second: Any, start: tuple[float, float], noise: float, smooth: float
) -> tuple[float, Any, Any] | None:
    """Return what is left, the shift in px, and its standard uncertainties; None for a window without slopes."""
    from scipy.ndimage import gaussian_filter, spline_filter
    from scipy.ndimage import shift as moved_by

    first, second = (gaussian_filter(cut, smooth) for cut in (first, second))
    coefficients = spline_filter(second)
    shift = np.array(start)
    rim = 2 + math.ceil(float(np.abs(shift).max()))
    inner = (slice(rim, -rim), slice(rim, -rim))
    if min(first[inner].shape) < 8:
        return None
    down, across = np.mgrid[-1 : 1 : first[inner].shape[0] * 1j, -1 : 1 : first[inner].shape[1] * 1j]
    tilt = [np.ones(across.size), across.ravel(), down.ravel()]
    # Noise has slopes too, and they tell nothing: those of white noise smoothed by a Gaussian.
    empty = across.size * (noise**2 / 4) / (8 * math.pi * smooth**4)
    left = math.inf
    standard = np.zeros(2)
    for _ in range(ROUNDS):
        back = moved_by(coefficients, -shift[::-1], order=3, mode="nearest", prefilter=False)
        slope_y, slope_x = (slope[inner] for slope in np.gradient((first + back) / 2))
        difference = (back - first)[inner].ravel()
        design = np.stack([-slope_x.ravel(), -slope_y.ravel(), *tilt], axis=1)
        normal = design.T @ design
        if min(normal[0, 0], normal[1, 1]) < MIN_SHARPNESS * empty:
            return None
        normal[0, 0] -= empty
        normal[1, 1] -= empty
        inverse = np.linalg.inv(normal)
        step = inverse @ (design.T @ difference)
        left = float(np.mean((difference - design @ step) ** 2))
        # What is smoothed has neighbours alike: the slopes smoothed once more tell how noise adds up.
        again = np.stack([gaussian_filter(slope, smooth).ravel() for slope in (-slope_x, -slope_y)], axis=1)
        spread = inverse[:2, :2] @ (again.T @ again) @ inverse[:2, :2]
        # A window whose own pattern does not move along leaves more than noise does.
        usual = noise**2 / (4 * math.pi * smooth**2)
        standard = np.sqrt(np.diag(spread) * noise**2 * max(left / usual, 1.0))
        shift = shift + np.clip(step[:2], -2, 2)
        if np.abs(step[:2]).max() < 0.02 * standard.max():
            break
    return left, shift, standard

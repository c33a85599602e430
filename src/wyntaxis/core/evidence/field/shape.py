"""The shape of a frame's stars over the field: size, elongation along or across the radius, and one-sided tails.

Of a single frame it is a hint: where the corner's stars are long, tilt, spacing and collimation look alike.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.evidence.stars.frame_stars import FrameStars
from wyntaxis.core.fitting import clipped_fit
from wyntaxis.core.limits import FWHM_PER_SIGMA

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Flags, Floats, Numbers

ACROSS, DOWN = 3, 3
CORNER_SHARE, NEAREST = 0.17, 4
"""A star within this share of the diagonal from a corner shows its shape; of so many nearest ones the brightest."""
MIN_STARS = 12
MIN_SNR = 40.0
"""Tails are told of stars well over the noise."""
MAX_TAILED = 300
WINDOW = 1.3
"""Of the window by which tails are weighed, in standard deviations of the star."""


@dataclass(frozen=True)
class ShapeZone:
    """A ninth of the frame: mean place in px, how many stars, median FWHM in px and elongation with its direction.

    ``radial`` is the part of the ellipticity that lies along the radius: above 0 radial, below 0 tangential.
    """

    x: float
    y: float
    stars: int
    fwhm_px: float
    elongation: float
    angle_deg: float
    radial: float


@dataclass(frozen=True)
class FieldShape:
    """How a frame's stars look over the field.

    ``alike`` is the ellipticity, (a² − b²)/(a² + b²), that all stars have in one direction, ``alike_deg``; ``radial``
    that along the radius at the corner, below 0 for tangential; ``tail`` the skewness that points one way everywhere,
    toward ``tail_deg``; ``outward`` that away from the middle, at the corner.
    """

    file: str
    zones: tuple[ShapeZone, ...] = ()
    alike: Estimate | None = None
    alike_deg: float | None = None
    radial: Estimate | None = None
    tail: Estimate | None = None
    tail_deg: float | None = None
    outward: Estimate | None = None
    why: str = ""


def shape_of(frame: FrameStars, size_px: tuple[int, int]) -> FieldShape:
    """Return how the stars of a frame look over the field.

    Parameters
    ----------
    frame
        Stars, measured; tails are told where its file can be read again.
    size_px
        Width and height of the frame in px.

    Returns
    -------
    FieldShape
        With the reason where there are too few stars.
    """
    shapes, used = frame.shapes, frame.used
    if used.sum() < MIN_STARS:
        return FieldShape(frame.file, why=f"{int(used.sum())} stars show a shape; it takes {MIN_STARS}")
    x, y = shapes.x[used], shapes.y[used]
    half = math.hypot(*size_px) / 2
    from_x, from_y = (x - (size_px[0] - 1) / 2) / half, (y - (size_px[1] - 1) / 2) / half
    long2 = shapes.elongation[used] ** 2
    ellipticity = (long2 - 1) / (long2 + 1)
    turn = np.radians(2 * shapes.angle[used])
    even, odd = ellipticity * np.cos(turn), ellipticity * np.sin(turn)
    around = 2 * np.arctan2(from_y, from_x)
    along = even * np.cos(around) + odd * np.sin(around)
    r2 = from_x**2 + from_y**2
    ones = np.ones_like(r2)
    # What all stars share, and what turns with the radius and grows with its square.
    first = _fitted(np.stack([ones, r2 * np.cos(around)], axis=1), even)
    second = _fitted(np.stack([ones, r2 * np.sin(around)], axis=1), odd)
    alike, alike_turn = _vector(first[0][0], second[0][0], first[1][0], second[1][0])
    radial = _mean_of((first[0][1], first[1][1]), (second[0][1], second[1][1]))
    tail, tail_deg, outward = _tails(frame, size_px, half)
    zones = _zones(frame, used, size_px, along)
    return FieldShape(
        frame.file, zones, alike, None if alike_turn is None else alike_turn / 2 % 180, radial, tail, tail_deg, outward
    )


def corner_spots(frame: FrameStars, size_px: tuple[int, int]) -> tuple[tuple[float, float] | None, ...]:
    """Return which star to show of each ninth of a frame, row by row from row 0: a bright one near the corner or edge.

    Parameters
    ----------
    frame
        Stars, measured.
    size_px
        Width and height of the frame in px.

    Returns
    -------
    tuple
        Places in px; None for a ninth without a star that counts.
    """
    shapes, used = frame.shapes, frame.used
    x, y, flux = shapes.x[used], shapes.y[used], shapes.flux[used]
    found: list[tuple[float, float] | None] = []
    for row in range(DOWN):
        for column in range(ACROSS):
            target = column / (ACROSS - 1) * (size_px[0] - 1), row / (DOWN - 1) * (size_px[1] - 1)
            away = np.hypot(x - target[0], y - target[1])
            near = np.flatnonzero(away < CORNER_SHARE * math.hypot(*size_px))
            # The brightest of the nearest few: bright enough to see its shape, near enough to be the corner's.
            near = near[np.argsort(away[near])][:NEAREST]
            best = near[np.argmax(flux[near])] if len(near) else None
            found.append(None if best is None else (float(x[best]), float(y[best])))
    return tuple(found)


def _zones(frame: FrameStars, used: Flags, size_px: tuple[int, int], along: Floats) -> tuple[ShapeZone, ...]:
    shapes = frame.shapes
    x, y = shapes.x[used], shapes.y[used]
    column = np.clip((x / size_px[0] * ACROSS).astype(int), 0, ACROSS - 1)
    row = np.clip((y / size_px[1] * DOWN).astype(int), 0, DOWN - 1)
    found = []
    for zone in range(ACROSS * DOWN):
        own = row * ACROSS + column == zone
        if own.any():
            mean = np.exp(2j * np.radians(shapes.angle[used][own])).mean()
            found.append(
                ShapeZone(
                    float(x[own].mean()),
                    float(y[own].mean()),
                    int(own.sum()),
                    float(np.median(shapes.fwhm[used][own])),
                    float(np.median(shapes.elongation[used][own])),
                    float(np.degrees(np.angle(mean)) / 2 % 180),
                    float(np.median(along[own])),
                )
            )
    return tuple(found)


def _fitted(design: Floats, values: Floats) -> tuple[Floats, Floats]:
    """Return parameters and their standard uncertainties of a straight fit, what lies far off left out once."""
    fit = clipped_fit(design, values, rounds=1, least_scatter=1e-9)
    return fit.parameters, fit.standard


def _vector(x: float, y: float, u_x: float, u_y: float) -> tuple[Estimate, float | None]:
    """Return the length of a vector, what noise adds taken out, and its direction in degrees where it is certain."""
    noise = u_x**2 + u_y**2
    length, standard = math.sqrt(max(x**2 + y**2 - noise, 0.0)), math.sqrt(noise / 2)
    return Estimate(length, standard), math.degrees(math.atan2(y, x)) % 360 if length > 2 * standard else None


def _mean_of(one: tuple[float, float], other: tuple[float, float]) -> Estimate:
    """Return the weighted mean of two values with standard uncertainties."""
    weights = [1 / max(entry[1], 1e-9) ** 2 for entry in (one, other)]
    value = (weights[0] * one[0] + weights[1] * other[0]) / sum(weights)
    return Estimate(float(value), 1 / math.sqrt(sum(weights)))


def _tails(
    frame: FrameStars, size_px: tuple[int, int], half: float
) -> tuple[Estimate | None, float | None, Estimate | None]:
    """Return the stars' skewness that points one way everywhere, its direction, and that away from the middle."""
    entries = _skewness(frame)
    if entries is None:
        return None, None, None
    x, y, skew_x, skew_y = entries
    from_x, from_y = (x - (size_px[0] - 1) / 2) / half, (y - (size_px[1] - 1) / 2) / half
    ones = np.ones_like(from_x)
    first = _fitted(np.stack([ones, from_x], axis=1), skew_x)
    second = _fitted(np.stack([ones, from_y], axis=1), skew_y)
    tail, turn = _vector(first[0][0], second[0][0], first[1][0], second[1][0])
    return tail, turn, _mean_of((first[0][1], first[1][1]), (second[0][1], second[1][1]))


def _skewness(frame: FrameStars) -> tuple[Floats, Floats, Floats, Floats] | None:
    """Return places of the brightest lone stars and their windowed third moments along x and y, in their own width."""
    shapes = frame.shapes
    chosen = np.flatnonzero(frame.isolated & (shapes.snr > MIN_SNR))
    chosen = chosen[np.argsort(-shapes.flux[chosen], kind="stable")[:MAX_TAILED]]
    pixels = _pixels_of(frame.path) if frame.path is not None and len(chosen) >= MIN_STARS else None
    if pixels is None or (frame.header is not None and frame.header.mosaic is not None):
        return None
    found = []
    for k in chosen:
        skew = _skew(pixels, float(shapes.x[k]), float(shapes.y[k]), float(shapes.fwhm[k]) / FWHM_PER_SIGMA)
        if skew is not None:
            found.append((shapes.x[k], shapes.y[k], *skew))
    if len(found) < MIN_STARS:
        return None
    x, y, skew_x, skew_y = np.array(found, float).T
    return x, y, skew_x, skew_y


def _pixels_of(path: Path) -> Any:
    from wyntaxis.core.evidence.sensor.strips import open_frame
    from wyntaxis.core.files.errors import InputError

    try:
        with open_frame(path, raw=False) as frame:
            return np.concatenate([frame.rows(*strip) for strip in frame.strips(1)])
    except InputError:
        return None


def _skew(pixels: Numbers, x: float, y: float, sigma: float) -> tuple[float, float] | None:
    """Return a star's third moments ``Σ w I d² (dx, dy) / Σ w I σ³`` about its windowed middle."""
    half = max(4, math.ceil(5 * sigma))
    column, row = round(x), round(y)
    if not (half <= column < pixels.shape[1] - half and half <= row < pixels.shape[0] - half):
        return None
    cut = pixels[row - half : row + half + 1, column - half : column + half + 1].astype(float)
    rim = np.concatenate([cut[0], cut[-1], cut[:, 0], cut[:, -1]])
    cut -= np.median(rim)
    down, across = np.mgrid[-half : half + 1, -half : half + 1]
    middle = np.array([x - column, y - row])
    for _ in range(8):
        dx, dy = across - middle[0], down - middle[1]
        weighed = cut * np.exp(-(dx**2 + dy**2) / (2 * (WINDOW * sigma) ** 2))
        total = float(weighed.sum())
        if total <= 0:
            return None
        step = np.array([float((weighed * dx).sum()), float((weighed * dy).sum())]) / total
        middle = middle + 1.5 * np.clip(step, -1, 1)
    dx, dy = across - middle[0], down - middle[1]
    r2 = dx**2 + dy**2
    weighed = cut * np.exp(-r2 / (2 * (WINDOW * sigma) ** 2)) * r2 / (total * sigma**3)
    return float((weighed * dx).sum()), float((weighed * dy).sum())

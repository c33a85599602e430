"""The shape of each star: centroid, half-flux diameter by growth curve, FWHM, elongation, angle, S/N, saturation."""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, fields
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.evidence.stars.background import Mesh
from wyntaxis.core.limits import FWHM_PER_SIGMA

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Flags, Floats, Ints, Numbers

HALF_SIZES = (8, 9, 10, 11, 12, 13, 14, 15, 16, 18, 21, 28, 36, 48, 70, 110)
"""Half the side of the cut-outs, in px: each star is measured on the smallest that holds it."""
CHUNK_PIXELS = 800_000
"""How many pixels of cut-outs are worked on at once."""
WINDOW_ROUNDS = 7
MOFFAT_REACH_HFD, MIN_MOFFAT_PX = 1.6, 3.0
"""Moffat's profile is fitted to what lies within so many half-flux diameters, and so many px at the least."""
RING_STEP = 0.5
"""Width of the rings that Moffat's profile is fitted to, in px."""
APERTURE_HFD = 2.6
"""The growth curve is taken as whole at this many half-flux diameters from the middle."""
MIN_APERTURE_PX, MIN_HFD_PX = 2.0, 1.0
GROWTH_ROUNDS, HALVINGS = 3, 12
"""How often the aperture is drawn anew, and how often the half-flux radius is halved in: to 1/4000 of the aperture."""
PIXEL_VARIANCE = 1 / 12
"""What a square pixel adds to the second moment of a star, along each axis, in px²."""
GROWTH_VARIANCE = 1.27 * PIXEL_VARIANCE
"""What pixels, and a growth curve that cuts them by straight edges, add; found on drawn stars of FWHM 1.8 to 6 px."""
MOFFAT_ROUNDS = 7
THREADS = 2


@dataclass(frozen=True)
class Shapes:
    """What was measured of stars, one value for each; lengths in px, fluxes in ADU, angles in degrees."""

    x: Floats
    y: Floats
    flux: Floats
    peak: Floats
    hfd: Floats
    fwhm: Floats
    elongation: Floats
    angle: Floats
    snr: Floats
    saturated: Flags

    def brightest(self, count: int) -> Shapes:
        """Return the stars of the most flux, so many at most, in the order in which they stand."""
        return self.among(np.sort(np.argsort(-self.flux, kind="stable")[:count]))

    def among(self, which: Any) -> Shapes:
        """Return some of the stars: by their places, or by whether each is one of them."""
        return Shapes(*(getattr(self, item.name)[which] for item in fields(self)))


def measure(
    pixels: Any, mesh: Mesh, spots: tuple[Any, Any, Any], full_adu: float, peaks: Any = None, which: Any = None
) -> Shapes:
    """Measure stars on a frame.

    Parameters
    ----------
    pixels, mesh
        ADU, shape (height, width), and its background.
    spots
        Where the stars are, x and y, and the radius of their spread, in px.
    full_adu
        Pixels at or above it are saturated.
    peaks
        The highest code that each pixel was averaged of, where it was; ``pixels`` where left out.
    which
        Places of the stars to measure, the others being neighbours alone; all where left out.

    Returns
    -------
    Shapes
        In the order given; S/N as of one electron to the ADU.
    """
    x, y, spread = (np.asarray(values, float) for values in spots)
    count = len(x)
    columns = [np.zeros(count) for _ in range(9)]
    saturated = np.zeros(count, bool)
    wanted = np.clip(APERTURE_HFD * FWHM_PER_SIGMA * spread + 2, 0, HALF_SIZES[-1])
    group = np.searchsorted(HALF_SIZES, wanted)
    near = _neighbours(x, y, spread)
    asked = np.arange(count) if which is None else np.sort(which)
    jobs = []
    for place, half in enumerate(HALF_SIZES):
        own = asked[group[asked] == place]
        step = max(CHUNK_PIXELS // (2 * half + 1) ** 2, 1)
        jobs += [(half, own[start : start + step]) for start in range(0, len(own), step)]

    def work(job: tuple[int, Any]) -> None:
        half, own = job
        beside = [(k, near[star]) for k, star in enumerate(own) if star in near]
        found = _chunk((pixels, pixels if peaks is None else peaks), mesh, (x[own], y[own]), half, full_adu, beside)
        for column, values in zip(columns, found[:9], strict=True):
            column[own] = values
        saturated[own] = found[9]

    with ThreadPoolExecutor(THREADS) as pool:
        list(pool.map(work, jobs))
    x_px, y_px, flux, peak, hfd, fwhm, elongation, angle, snr = (column[asked] for column in columns)
    return Shapes(x_px, y_px, flux, peak, hfd, fwhm, elongation, angle, snr, saturated[asked])


def _neighbours(x: Floats, y: Floats, spread: Floats) -> dict[int, Any]:
    """Return, by star, the places (n, 2) of the stars whose light falls into its aperture."""
    if len(x) < 2:
        return {}
    places = np.stack([x, y], axis=-1)
    reach = FWHM_PER_SIGMA * (APERTURE_HFD * spread + 2 * float(np.median(spread)))
    from scipy.spatial import KDTree

    tree = KDTree(places)
    crowded = np.flatnonzero(tree.query(places, k=2)[0][:, 1] <= reach)
    found = tree.query_ball_point(places[crowded], reach[crowded])
    return {int(star): places[[k for k in near if k != star]] for star, near in zip(crowded, found, strict=True)}


def _without_neighbours(light: Numbers, places: Floats, offsets: Ints) -> Numbers:
    """Return a star's cut-out with what is nearer to a neighbour taken from the other side of the star.

    ``places`` (n, 2) are those of the neighbours against the middle pixel, the first row the star's own, in px.
    """
    (x, y), half, last = places[0], len(offsets) // 2, len(offsets) - 1
    theirs = np.zeros(light.shape, bool)
    for to_x, to_y in places[1:] - places[0]:
        # Nearer to the neighbour is what lies beyond the middle between both.
        theirs |= to_x * (offsets - x) + (to_y * (offsets - y))[:, None] > (to_x**2 + to_y**2) / 2
    down, across = np.nonzero(theirs)
    mirror_y, mirror_x = round(2 * y) + 2 * half - down, round(2 * x) + 2 * half - across
    held = (mirror_x >= 0) & (mirror_x <= last) & (mirror_y >= 0) & (mirror_y <= last)
    mirror = np.clip(mirror_y, 0, last), np.clip(mirror_x, 0, last)
    found = light.copy()
    found[down, across] = np.where(held & ~theirs[mirror], light[mirror], np.float32(0))
    return found


def _chunk(
    frame: tuple[Any, Any], mesh: Mesh, at: tuple[Any, Any], half: int, full_adu: float, beside: list[tuple[int, Any]]
) -> tuple[Any, ...]:
    """Measure stars on cut-outs of one size, all at once; ``beside`` are the neighbours of those that have some."""
    (pixels, peaks), (x, y) = frame, at
    height, width = pixels.shape
    column, row = np.rint(x).astype(int), np.rint(y).astype(int)
    offsets = np.arange(-half, half + 1)
    rows, columns = row[:, None] + offsets, column[:, None] + offsets
    inside = ((rows >= 0) & (rows < height))[:, :, None] & ((columns >= 0) & (columns < width))[:, None, :]
    raw = _cut_out(pixels, row, column, half)
    level, noise = mesh.at(row, column)
    light = raw.astype(np.float32)
    light -= level[:, None, None].astype(np.float32)
    if not inside.all():
        light[~inside] = 0.0
    light -= _border(light, inside)[:, None, None]
    for star, others in beside:
        own = np.concatenate([[[x[star], y[star]]], others]) - (column[star], row[star])
        light[star] = _without_neighbours(light[star], own, offsets)
    cx, cy = x - column, y - row
    cx, cy, xx, yy, xy = _windowed(light, offsets, cx, cy, half)
    round_, ones = np.zeros(len(cx)), np.ones(len(cx))
    radius = np.sqrt(_squares(offsets, cx, cy, ones, round_, ones))
    major, minor, angle = _axes(xx, yy, xy)
    flux, hfd = _growth(light, radius, half, FWHM_PER_SIGMA * np.sqrt(major * minor))
    # Of the profile and the peak only the middle tells.
    fitted = np.clip(MOFFAT_REACH_HFD * hfd, MIN_MOFFAT_PX, half)
    side = min(math.ceil(float(fitted.max())) + 2, half)
    middle = (slice(None), slice(half - side, half + side + 1), slice(half - side, half + side + 1))
    away = _elliptic(offsets[half - side : half + side + 1], cx, cy, minor / major, angle)
    fwhm = _moffat(light[middle], away, hfd, fitted)
    highest = raw if peaks is pixels else _cut_out(peaks, row, column, half)
    within = (radius[middle] <= np.maximum(hfd, 2.0).astype(np.float32)[:, None, None]) & inside[middle]
    peak = (highest[middle] * within).max(axis=(1, 2)).astype(float)
    area = math.pi * (APERTURE_HFD * hfd / 2) ** 2
    snr = flux / np.sqrt(np.maximum(flux, 0) + area * noise**2 + 1e-9)
    return (column + cx, row + cy, flux, peak, hfd, fwhm, major / minor, angle, snr, peak >= full_adu)


def _cut_out(pixels: Any, row: Any, column: Any, half: int) -> Any:
    """Return the pixels about some places, shape (stars, side, side); those beyond the edge are the edge's."""
    height, width = pixels.shape
    side = 2 * half + 1
    if height < side or width < side:
        offsets = np.arange(-half, half + 1)
        rows, columns = np.clip(row[:, None] + offsets, 0, height - 1), np.clip(column[:, None] + offsets, 0, width - 1)
        return pixels[rows[:, :, None], columns[:, None, :]]
    windows = np.lib.stride_tricks.sliding_window_view(pixels, (side, side))
    top, left = row - half, column - half
    cut = windows[np.clip(top, 0, height - side), np.clip(left, 0, width - side)]
    offsets = np.arange(-half, half + 1)
    for star in np.flatnonzero((top < 0) | (left < 0) | (top > height - side) | (left > width - side)):
        rows = np.clip(row[star] + offsets, 0, height - 1)
        cut[star] = pixels[rows[:, None], np.clip(column[star] + offsets, 0, width - 1)]
    return cut


def _squares(offsets: Ints, cx: Floats, cy: Floats, along_x: Floats, mixed: Floats, along_y: Floats) -> Numbers:
    """Return the quadratic form ``a·dx² + b·dx·dy + c·dy²`` about each star's middle, float32, (stars, side, side)."""
    dx, dy = (offsets - cx[:, None]).astype(np.float32), (offsets - cy[:, None]).astype(np.float32)
    a, b, c = (values.astype(np.float32)[:, None] for values in (along_x, mixed, along_y))
    across, down = (a * dx**2)[:, None, :], (c * dy**2)[:, :, None]
    total = across + down
    if mixed.any():
        total += (b * dy)[:, :, None] * dx[:, None, :]
    return np.maximum(total, 0.0, out=total)


def _border(light: Any, inside: Any) -> Any:
    """Return what the background is off at each star: the median of its cut-out's border."""
    ring = np.zeros(light.shape[1:], bool)
    ring[:2], ring[-2:], ring[:, :2], ring[:, -2:] = True, True, True, True
    border = np.median(light[:, ring], axis=1)
    for index in np.flatnonzero(~inside[:, ring].all(axis=1)):
        within = light[index][ring & inside[index]]
        border[index] = np.median(within) if len(within) else 0.0
    return border.astype(np.float32)


def _windowed(
    light: Numbers, offsets: Ints, cx: Floats, cy: Floats, half: int
) -> tuple[Floats, Floats, Floats, Floats, Floats]:
    """Return centroid and second moments within a Gaussian window that is matched to each star.

    The window's own width is taken out of the moments: for a Gaussian star those are then its own.
    """
    window2 = np.full(len(cx), float(min(max(half / 5.0, 1.5), half / 2.5)) ** 2)
    xx = yy = xy = np.zeros(len(cx))
    for _ in range(WINDOW_ROUNDS):
        (total, x, x2), (y, xy_raw, _), (y2, _, _) = _moments(light, offsets, cx, cy, window2)
        total = np.maximum(total, 1e-9)
        shift_x, shift_y = x / total, y / total
        cx = np.clip(cx + 1.6 * np.clip(shift_x, -2, 2), -half / 2, half / 2)
        cy = np.clip(cy + 1.6 * np.clip(shift_y, -2, 2), -half / 2, half / 2)
        xx, yy, xy = x2 / total - shift_x**2, y2 / total - shift_y**2, xy_raw / total - shift_x * shift_y
        seen = np.clip(np.sqrt(np.maximum(xx * yy - xy**2, 0.05)), 0.15, 0.97 * window2)
        own = 1 / (1 / seen - 1 / window2)
        window2 = np.clip(0.5 * window2 + 0.5 * np.clip(own, 0.8, (half / 2.5) ** 2), 0.8, (half / 2.2) ** 2)
    return cx, cy, *_unwindowed(xx, yy, xy, window2)


def _moments(light: Numbers, offsets: Ints, cx: Floats, cy: Floats, window2: Floats) -> Floats:
    """Return the sums of light · dyⁱ · dxʲ within each star's window, shape (i, j, stars), i and j up to 2.

    A round Gaussian is one of x times one of y: each sum is two products of matrices.
    """

    def powers(away: Floats) -> Numbers:
        weight = np.exp(-0.5 * away**2 / window2[:, None])
        return np.stack([weight, weight * away, weight * away**2], axis=-1).astype(np.float32)

    across, down = powers(offsets - cx[:, None]), powers(offsets - cy[:, None])
    return (down.transpose(0, 2, 1) @ (light @ across)).transpose(1, 2, 0).astype(np.float64)


def _unwindowed(xx: Floats, yy: Floats, xy: Floats, window2: Floats) -> tuple[Floats, Floats, Floats]:
    """Take a round Gaussian window out of second moments: C⁻¹ = W⁻¹ − I/w², and the pixel's own variance."""
    determinant = np.maximum(xx * yy - xy**2, 1e-6)
    ixx, iyy, ixy = yy / determinant - 1 / window2, xx / determinant - 1 / window2, -xy / determinant
    ixx, iyy = np.maximum(ixx, 1e-4), np.maximum(iyy, 1e-4)
    inverse = np.maximum(ixx * iyy - ixy**2, 1e-8)
    return iyy / inverse - PIXEL_VARIANCE, ixx / inverse - PIXEL_VARIANCE, -ixy / inverse


def _axes(xx: Floats, yy: Floats, xy: Floats) -> tuple[Floats, Floats, Floats]:
    """Return major and minor axis as standard deviations, and the major's angle from +x toward +y, 0 to 180°."""
    middle, half = (xx + yy) / 2, np.hypot((xx - yy) / 2, xy)
    major = np.sqrt(np.maximum(middle + half, 0.05))
    minor = np.sqrt(np.maximum(middle - half, 0.05))
    angle = np.rad2deg(0.5 * np.arctan2(2 * xy, xx - yy)) % 180.0
    return major, minor, angle


def _elliptic(offsets: Ints, cx: Floats, cy: Floats, ratio: Floats, angle: Floats) -> Numbers:
    """Return the distance from each star's middle as its own ellipse counts it, the mean of both axes kept."""
    turn, share = np.deg2rad(angle), np.clip(ratio, 0.2, 1.0)
    cos, sin = np.cos(turn), np.sin(turn)
    along_x, along_y = share * cos**2 + sin**2 / share, share * sin**2 + cos**2 / share
    return np.sqrt(_squares(offsets, cx, cy, along_x, 2 * sin * cos * (share - 1 / share), along_y))


def _growth(light: Numbers, radius: Numbers, half: int, about: Floats) -> tuple[Floats, Floats]:
    """Return flux in ADU and half-flux diameter in px, by the growth curve about the centroid.

    A pixel is inside a radius by the share that a straight edge through it would cut off; what that, and the pixels
    themselves, add to the spread is taken out in quadrature. The aperture grows from what the second moments tell
    (``about``, px): from without, a neighbour in the cut-out would hold it open.
    """
    hfd = np.maximum(about, MIN_HFD_PX)
    total = np.zeros(len(light))
    for _ in range(GROWTH_ROUNDS):
        reach = np.clip(APERTURE_HFD * hfd, MIN_APERTURE_PX, half)
        total = np.maximum(_inside(light, radius, reach), 1e-6)
        hfd = 2 * _half_light_radius(light, radius, total / 2, reach, half)
    return total, np.sqrt(np.maximum(hfd**2 - GROWTH_VARIANCE * FWHM_PER_SIGMA**2, 0.3))


def _inside(light: Numbers, radius: Numbers, reach: Floats) -> Floats:
    """Return the light inside a radius of each star: Σ light · clip(reach − r + ½, 0, 1)."""
    share = np.subtract((reach + 0.5).astype(np.float32)[:, None, None], radius)
    np.clip(share, 0, 1, out=share)
    stars = len(light)
    return (light.reshape(stars, 1, -1) @ share.reshape(stars, -1, 1)).reshape(stars).astype(np.float64)


def _half_light_radius(light: Numbers, radius: Numbers, wanted: Floats, reach: Floats, half: int) -> Floats:
    """Return the radius that holds so much light, by halving; only the middle of the cut-outs is looked at."""
    core = min(math.ceil(0.6 * float(reach.max()) / APERTURE_HFD) + 2, half)
    for side in (core, half):
        middle = slice(half - side, half + side + 1)
        inner, away = np.ascontiguousarray(light[:, middle, middle]), np.ascontiguousarray(radius[:, middle, middle])
        high = np.minimum(reach, side - 0.5)
        if side == half or (_inside(inner, away, high) >= wanted).all():
            break
    low = np.zeros(len(light))
    for _ in range(HALVINGS):
        tried = (low + high) / 2
        enough = _inside(inner, away, tried) >= wanted
        low, high = np.where(enough, low, tried), np.where(enough, tried, high)
    return (low + high) / 2


def _rings(light: Numbers, radius: Numbers, reach: Floats) -> tuple[Floats, Floats, Floats]:
    """Return each star's light as means over rings of :data:`RING_STEP`: value, mean r² in px², pixels in it.

    Nothing is left of a ring beyond the reach; one without a pixel has no weight.
    """
    stars, away = len(light), radius.reshape(len(light), -1)
    rings = math.ceil(float(reach.max()) / RING_STEP)
    ring = np.minimum((away * np.float32(1 / RING_STEP)).astype(np.int32), rings)
    ring[away > reach.astype(np.float32)[:, None]] = rings
    ring += ((rings + 1) * np.arange(stars, dtype=np.int32))[:, None]
    near = np.flatnonzero(away.ravel() <= np.float32(reach.max()))
    place = ring.ravel()[near]

    def total(values: Numbers | None) -> Floats:
        sums = np.bincount(place, None if values is None else values.ravel()[near], stars * (rings + 1))
        return sums.reshape(stars, rings + 1)[:, :rings].astype(float)

    weight = total(None)
    shared = np.maximum(weight, 1)
    return total(light) / shared, total(away**2) / shared, weight


def _moffat(light: Any, radius: Any, hfd: Any, reach: Any) -> Any:
    """Return the FWHM of a Moffat profile fitted to each star, in px; of discs, which have none, the HFD.

    Levenberg and Marquardt's steps on (amplitude, core, exponent, level), for all stars at once.
    """
    value, r2, weight = _rings(light, radius, reach)
    amplitude = np.maximum(value[:, : round(1 / RING_STEP)].max(axis=1), 1e-3)
    beta = np.full(len(light), 3.0)
    core = (np.maximum(hfd, 1.0) / 2) ** 2 / (2 ** (1 / beta) - 1)
    level = np.zeros(len(light))
    parameters = np.stack([np.log(amplitude), np.log(core), np.log(beta), level], axis=1)
    damping = np.full(len(light), 1e-2)

    def model(at: Floats) -> tuple[Floats, tuple[Floats, Floats, Floats, Floats]]:
        a, c, b = np.exp(at[:, 0])[:, None], np.exp(at[:, 1])[:, None], np.exp(at[:, 2])[:, None]
        relative = r2 / c
        log_base = np.log1p(relative)
        shape = a * np.exp(-b * log_base)
        return shape + at[:, 3][:, None], (shape, relative, log_base, b)

    modelled, parts = model(parameters)
    best = (weight * (value - modelled) ** 2).sum(axis=1)
    for _ in range(MOFFAT_ROUNDS):
        shape, relative, log_base, b = parts
        slopes = [shape, shape * b * relative / (1 + relative), -shape * b * log_base, np.ones_like(shape)]
        slope = np.stack(slopes, axis=-1)
        weighted = slope * weight[..., None]
        normal = weighted.transpose(0, 2, 1) @ slope
        right = (weighted.transpose(0, 2, 1) @ (value - modelled)[..., None])[..., 0]
        diagonal = np.arange(4)
        normal[:, diagonal, diagonal] *= 1 + damping[:, None]
        normal[:, diagonal, diagonal] += 1e-9
        step = np.linalg.solve(normal, right[..., None])[..., 0]
        step[:, :3] = np.clip(step[:, :3], -0.7, 0.7)
        trial = parameters + step
        trial[:, 2] = np.clip(trial[:, 2], np.log(1.2), np.log(30.0))
        tried, tried_parts = model(trial)
        new = (weight * (value - tried) ** 2).sum(axis=1)
        better = new < best
        parameters, best = np.where(better[:, None], trial, parameters), np.where(better, new, best)
        modelled = np.where(better[:, None], tried, modelled)
        kept = [np.where(better[:, None], after, before) for before, after in zip(parts, tried_parts, strict=True)]
        parts = (kept[0], kept[1], kept[2], kept[3])
        damping = np.where(better, damping / 4, np.minimum(damping * 6, 1e6))
    c, b = np.exp(parameters[:, 1]), np.exp(parameters[:, 2])
    fwhm = 2 * np.sqrt(c * (2 ** (1 / b) - 1))
    fwhm = np.sqrt(np.maximum(fwhm**2 - PIXEL_VARIANCE * FWHM_PER_SIGMA**2, 0.25))
    return np.where(np.isfinite(fwhm) & (fwhm < 1.6 * hfd) & (fwhm > 0.3 * hfd), fwhm, hfd)

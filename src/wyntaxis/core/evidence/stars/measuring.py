"""The shape of each star: centroid, half-flux diameter by growth curve, FWHM, elongation, angle, S/N, saturation."""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, fields
from typing import Any

import numpy as np

from wyntaxis.core.evidence.stars.background import Mesh

HALF_SIZES = (8, 12, 18, 28, 44, 70, 110)
"""Half the side of the cut-outs, in px: each star is measured on the smallest that holds it."""
CHUNK_PIXELS = 500_000
"""How many pixels of cut-outs are worked on at once."""
RADIUS_STEP = 0.25
APERTURE_HFD = 2.6
"""The growth curve is taken as whole at this many half-flux diameters from the middle."""
PIXEL_VARIANCE = 1 / 12
"""What a square pixel adds to the second moment of a star, along each axis, in px²."""
GROWTH_VARIANCE = 1.27 * PIXEL_VARIANCE
"""What pixels, and a growth curve that cuts them by straight edges, add; found on drawn stars of FWHM 1.8 to 6 px."""
MOFFAT_ROUNDS = 14
THREADS = 2
FWHM_PER_SIGMA = 2 * math.sqrt(2 * math.log(2))


@dataclass(frozen=True)
class Shapes:
    """What was measured of stars, one value for each; lengths in px, fluxes in ADU, angles in degrees."""

    x: Any
    y: Any
    flux: Any
    peak: Any
    hfd: Any
    fwhm: Any
    elongation: Any
    angle: Any
    snr: Any
    saturated: Any

    def brightest(self, count: int) -> Shapes:
        """Return the stars of the most flux, so many at most, in the order in which they stand."""
        order = np.sort(np.argsort(-self.flux, kind="stable")[:count])
        return Shapes(*(getattr(self, item.name)[order] for item in fields(self)))


def measure(pixels: Any, mesh: Mesh, x: Any, y: Any, spread: Any, full_adu: float, peaks: Any = None) -> Shapes:
    """Measure stars on a frame.

    Parameters
    ----------
    pixels, mesh
        ADU, shape (height, width), and its background.
    x, y, spread
        Where the stars are, and the radius of their spread, in px.
    full_adu
        Pixels at or above it are saturated.
    peaks
        The highest code that each pixel was averaged of, where it was; ``pixels`` where left out.

    Returns
    -------
    Shapes
        In the order given; S/N as of one electron to the ADU.
    """
    x, y, spread = (np.asarray(values, float) for values in (x, y, spread))
    count = len(x)
    columns = [np.zeros(count) for _ in range(9)]
    saturated = np.zeros(count, bool)
    wanted = np.clip(6.0 * spread + 3, 0, HALF_SIZES[-1])
    group = np.searchsorted(HALF_SIZES, wanted)
    near = _neighbours(x, y, spread)
    jobs = []
    for place, half in enumerate(HALF_SIZES):
        own = np.flatnonzero(group == place)
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
    x_px, y_px, flux, peak, hfd, fwhm, elongation, angle, snr = columns
    return Shapes(x_px, y_px, flux, peak, hfd, fwhm, elongation, angle, snr, saturated)


def _neighbours(x: Any, y: Any, spread: Any) -> dict[int, Any]:
    """Return, by star, the places (n, 2) of the stars whose light falls into its aperture."""
    if len(x) < 2:
        return {}
    from scipy.spatial import KDTree

    places = np.stack([x, y], axis=-1)
    reach = FWHM_PER_SIGMA * (APERTURE_HFD * spread + 2 * float(np.median(spread)))
    found = KDTree(places).query_ball_point(places, reach)
    return {star: places[[k for k in near if k != star]] for star, near in enumerate(found) if len(near) > 1}


def _without_neighbours(light: Any, places: Any, offsets: Any) -> Any:
    """Return a star's cut-out with what is nearer to a neighbour taken from the other side of the star.

    ``places`` (n, 2) are those of the neighbours against the middle pixel, the first row the star's own, in px.
    """
    grid_y, grid_x = np.meshgrid(offsets, offsets, indexing="ij")
    away = np.hypot(grid_x[..., None] - places[:, 0], grid_y[..., None] - places[:, 1])
    theirs = away.argmin(axis=-1) > 0
    half = len(offsets) // 2
    mirror_x = np.rint(2 * places[0, 0] - grid_x).astype(int) + half
    mirror_y = np.rint(2 * places[0, 1] - grid_y).astype(int) + half
    held = (mirror_x >= 0) & (mirror_x < len(offsets)) & (mirror_y >= 0) & (mirror_y < len(offsets))
    mirror = np.clip(mirror_y, 0, len(offsets) - 1), np.clip(mirror_x, 0, len(offsets) - 1)
    other = np.where(held & ~theirs[mirror], light[mirror], np.float32(0))
    return np.where(theirs, other, light)


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
    places = np.clip(rows, 0, height - 1)[:, :, None], np.clip(columns, 0, width - 1)[:, None, :]
    raw = pixels[places]
    level, noise = mesh.at(row, column)
    light = np.where(inside, raw.astype(np.float32) - level[:, None, None].astype(np.float32), np.float32(0))
    light -= _border(light, inside)[:, None, None]
    for star, others in beside:
        own = np.concatenate([[[x[star], y[star]]], others]) - (column[star], row[star])
        light[star] = _without_neighbours(light[star], own, offsets)
    grid_y, grid_x = np.meshgrid(offsets, offsets, indexing="ij")
    cx, cy = x - column, y - row
    cx, cy, xx, yy, xy = _windowed(light, offsets, cx, cy, half)
    radius = np.hypot(grid_x[None] - cx[:, None, None], grid_y[None] - cy[:, None, None]).astype(np.float32)
    major, minor, angle = _axes(xx, yy, xy)
    flux, hfd = _growth(light, radius, half, FWHM_PER_SIGMA * np.sqrt(major * minor))
    fwhm = _moffat(light, _elliptic(grid_x, grid_y, cx, cy, minor / major, angle), hfd, half)
    within = radius <= np.maximum(hfd, 2.0)[:, None, None]
    peak = np.where(within & inside, peaks[places], 0).max(axis=(1, 2)).astype(float)
    area = math.pi * (APERTURE_HFD * hfd / 2) ** 2
    snr = flux / np.sqrt(np.maximum(flux, 0) + area * noise**2 + 1e-9)
    return (column + cx, row + cy, flux, peak, hfd, fwhm, major / minor, angle, snr, peak >= full_adu)


def _border(light: Any, inside: Any) -> Any:
    """Return what the background is off at each star: the median of its cut-out's border."""
    ring = np.zeros(light.shape[1:], bool)
    ring[:2], ring[-2:], ring[:, :2], ring[:, -2:] = True, True, True, True
    border = np.median(light[:, ring], axis=1)
    for index in np.flatnonzero(~inside[:, ring].all(axis=1)):
        within = light[index][ring & inside[index]]
        border[index] = np.median(within) if len(within) else 0.0
    return border.astype(np.float32)


def _windowed(light: Any, offsets: Any, cx: Any, cy: Any, half: int) -> tuple[Any, ...]:
    """Return centroid and second moments within a Gaussian window that is matched to each star.

    The window's own width is taken out of the moments: for a Gaussian star those are then its own.
    """
    window2 = np.full(len(cx), float(min(max(half / 5.0, 1.5), half / 2.5)) ** 2)
    xx = yy = xy = np.zeros(len(cx))
    for _ in range(12):
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


def _moments(light: Any, offsets: Any, cx: Any, cy: Any, window2: Any) -> Any:
    """Return the sums of light · dyⁱ · dxʲ within each star's window, shape (i, j, stars), i and j up to 2.

    A round Gaussian is one of x times one of y: each sum is two products of matrices.
    """

    def powers(away: Any) -> Any:
        weight = np.exp(-0.5 * away**2 / window2[:, None])
        return np.stack([weight, weight * away, weight * away**2], axis=-1).astype(np.float32)

    across, down = powers(offsets - cx[:, None]), powers(offsets - cy[:, None])
    return (down.transpose(0, 2, 1) @ (light @ across)).transpose(1, 2, 0).astype(np.float64)


def _unwindowed(xx: Any, yy: Any, xy: Any, window2: Any) -> tuple[Any, Any, Any]:
    """Take a round Gaussian window out of second moments: C⁻¹ = W⁻¹ − I/w², and the pixel's own variance."""
    determinant = np.maximum(xx * yy - xy**2, 1e-6)
    ixx, iyy, ixy = yy / determinant - 1 / window2, xx / determinant - 1 / window2, -xy / determinant
    ixx, iyy = np.maximum(ixx, 1e-4), np.maximum(iyy, 1e-4)
    inverse = np.maximum(ixx * iyy - ixy**2, 1e-8)
    return iyy / inverse - PIXEL_VARIANCE, ixx / inverse - PIXEL_VARIANCE, -ixy / inverse


def _axes(xx: Any, yy: Any, xy: Any) -> tuple[Any, Any, Any]:
    """Return major and minor axis as standard deviations, and the major's angle from +x toward +y, 0 to 180°."""
    middle, half = (xx + yy) / 2, np.hypot((xx - yy) / 2, xy)
    major = np.sqrt(np.maximum(middle + half, 0.05))
    minor = np.sqrt(np.maximum(middle - half, 0.05))
    angle = np.rad2deg(0.5 * np.arctan2(2 * xy, xx - yy)) % 180.0
    return major, minor, angle


def _elliptic(grid_x: Any, grid_y: Any, cx: Any, cy: Any, ratio: Any, angle: Any) -> Any:
    """Return the distance from each star's middle as its own ellipse counts it, the mean of both axes kept."""
    turn = np.deg2rad(angle)[:, None, None]
    dx, dy = grid_x[None] - cx[:, None, None], grid_y[None] - cy[:, None, None]
    along, across = dx * np.cos(turn) + dy * np.sin(turn), -dx * np.sin(turn) + dy * np.cos(turn)
    share = np.clip(ratio, 0.2, 1.0)[:, None, None]
    return np.sqrt(along**2 * share + across**2 / share).astype(np.float32)


def _growth(light: Any, radius: Any, half: int, about: Any) -> tuple[Any, Any]:
    """Return flux in ADU and half-flux diameter in px, by the growth curve about the centroid.

    A pixel is inside a radius by the share that a straight edge through it would cut off; what that, and the pixels
    themselves, add to the spread is taken out in quadrature. The aperture grows from what the second moments tell
    (``about``, px): from without, a neighbour in the cut-out would hold it open.
    """
    steps = np.arange(RADIUS_STEP, half + RADIUS_STEP / 2, RADIUS_STEP)
    growth = _shares(light, radius, len(steps))
    reach = _reach(about, len(steps))
    hfd = np.full(len(light), float(half))
    for _ in range(6):
        total = np.maximum(growth[np.arange(len(light)), reach], 1e-6)
        hfd = 2 * _crossing(growth, steps, total / 2)
        reach = _reach(hfd, len(steps))
    total = growth[np.arange(len(light)), reach].astype(float)
    return total, np.sqrt(np.maximum(hfd**2 - GROWTH_VARIANCE * FWHM_PER_SIGMA**2, 0.3))


def _reach(hfd: Any, count: int) -> Any:
    """Return the step of the growth curve at which it is taken as whole, of so many."""
    return np.clip(np.rint(APERTURE_HFD * hfd / RADIUS_STEP).astype(int), 8, count - 1)


def _shares(light: Any, radius: Any, count: int) -> Any:
    """Return the light inside each of ``count`` radii, :data:`RADIUS_STEP` apart: Σ light · clip(step − r + ½, 0, 1).

    Along the steps a pixel's share is a straight rise over one px: its second differences are two numbers at the foot,
    and the same, negative, at the head. They are summed into place, and added up twice.
    """
    stars, per_px = len(light), round(1 / RADIUS_STEP)
    foot = np.maximum((radius.reshape(stars, -1) - 0.5) / RADIUS_STEP - 1, -1.0)
    first = np.floor(foot).astype(np.intp)
    past = foot - first
    first = np.minimum(first, count)
    columns = count + 3
    place = (first + 1 + columns * np.arange(stars)[:, None]).ravel()
    weight = light.reshape(stars, -1) * RADIUS_STEP
    bends = np.bincount(place, (weight * (1 - past)).ravel(), stars * columns)
    bends += np.bincount(place + 1, (weight * past).ravel(), stars * columns)
    bends = bends.reshape(stars, columns)
    bends[:, per_px:] -= bends[:, :-per_px].copy()
    return np.cumsum(np.cumsum(bends, axis=1), axis=1)[:, :count]


def _crossing(growth: Any, steps: Any, wanted: Any) -> Any:
    """Return the first radius at which each growth curve reaches a value, between its steps."""
    over = growth >= wanted[:, None]
    first = np.where(over.any(axis=1), over.argmax(axis=1), growth.shape[1] - 1)
    rows = np.arange(len(growth))
    before = np.where(first > 0, growth[rows, np.maximum(first - 1, 0)], 0.0)
    low = np.where(first > 0, steps[np.maximum(first - 1, 0)], 0.0)
    rise = np.maximum(growth[rows, first] - before, 1e-9)
    return low + (steps[first] - low) * np.clip((wanted - before) / rise, 0, 1)


def _rings(light: Any, radius: Any, reach: Any) -> tuple[Any, Any, Any]:
    """Return each star's light as means over rings of :data:`RADIUS_STEP`: value, mean r² in px², pixels in it.

    Nothing is left of a ring beyond the reach; one without a pixel has no weight.
    """
    stars, away = len(light), radius.reshape(len(light), -1)
    rings = math.ceil(float(reach.max()) / RADIUS_STEP)
    ring = np.where(away <= reach[:, None], (away / RADIUS_STEP).astype(np.intp), rings)
    place = (np.minimum(ring, rings) + (rings + 1) * np.arange(stars)[:, None]).ravel()

    def total(values: Any) -> Any:
        sums = np.bincount(place, values, stars * (rings + 1))
        return sums.reshape(stars, rings + 1)[:, :rings].astype(float)

    weight = total(None)
    shared = np.maximum(weight, 1)
    return total(light.ravel()) / shared, total((away**2).ravel()) / shared, weight


def _moffat(light: Any, radius: Any, hfd: Any, half: int) -> Any:
    """Return the FWHM of a Moffat profile fitted to each star, in px; of discs, which have none, the HFD.

    Levenberg and Marquardt's steps on (amplitude, core, exponent, level), for all stars at once.
    """
    value, r2, weight = _rings(light, radius, np.clip(1.6 * hfd, 3.0, half))
    amplitude = np.maximum(value[:, : round(1 / RADIUS_STEP)].max(axis=1), 1e-3)
    beta = np.full(len(light), 3.0)
    core = (np.maximum(hfd, 1.0) / 2) ** 2 / (2 ** (1 / beta) - 1)
    level = np.zeros(len(light))
    parameters = np.stack([np.log(amplitude), np.log(core), np.log(beta), level], axis=1)
    damping = np.full(len(light), 1e-2)

    def model(at: Any) -> tuple[Any, Any]:
        a, c, b = np.exp(at[:, 0])[:, None], np.exp(at[:, 1])[:, None], np.exp(at[:, 2])[:, None]
        base = 1 + r2 / c
        shape = a * base**-b
        return shape + at[:, 3][:, None], (shape, base, c, b)

    def cost(at: Any) -> Any:
        return (weight * (value - model(at)[0]) ** 2).sum(axis=1)

    best = cost(parameters)
    for _ in range(MOFFAT_ROUNDS):
        modelled, (shape, base, c, b) = model(parameters)
        slopes = [shape, shape * b * (r2 / c) / base, -shape * b * np.log(base), np.ones_like(shape)]
        slope = np.stack(slopes, axis=-1)
        weighted = slope * weight[..., None]
        normal = weighted.transpose(0, 2, 1) @ slope
        right = np.einsum("ijk,ij->ik", weighted, value - modelled)
        diagonal = np.einsum("nii->ni", normal)
        damped = normal + damping[:, None, None] * np.einsum("ni,ij->nij", diagonal + 1e-9, np.eye(4))
        step = np.linalg.solve(damped, right[..., None])[..., 0]
        step[:, :3] = np.clip(step[:, :3], -0.7, 0.7)
        trial = parameters + step
        trial[:, 2] = np.clip(trial[:, 2], np.log(1.2), np.log(30.0))
        new = cost(trial)
        better = new < best
        parameters, best = np.where(better[:, None], trial, parameters), np.where(better, new, best)
        damping = np.where(better, damping / 4, np.minimum(damping * 6, 1e6))
    c, b = np.exp(parameters[:, 1]), np.exp(parameters[:, 2])
    fwhm = 2 * np.sqrt(c * (2 ** (1 / b) - 1))
    fwhm = np.sqrt(np.maximum(fwhm**2 - PIXEL_VARIANCE * FWHM_PER_SIGMA**2, 0.25))
    return np.where(np.isfinite(fwhm) & (fwhm < 1.6 * hfd) & (fwhm > 0.3 * hfd), fwhm, hfd)

"""A simulated field of stars: seeing, defocus with a central obstruction, elongation, photon noise; all from a seed."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Numbers

OVERSAMPLED = 5


@dataclass(frozen=True)
class StarShape:
    """How a star is drawn: Gaussian or Moffat seeing of a FWHM in px, elongated, or a disc of a diameter in px.

    ``beta`` is Moffat's exponent, None for a Gaussian; ``angle_deg`` of the long axis from +x toward +y.
    """

    fwhm_px: float = 3.0
    beta: float | None = None
    elongation: float = 1.0
    angle_deg: float = 0.0
    disc_px: float = 0.0
    obstruction: float = 0.0


def stamp(shape: StarShape, dx: float, dy: float, half: int) -> Any:
    """Return a star's light of one unit on (2 half + 1)² pixels, its middle (dx, dy) off the middle pixel's."""
    fine = (np.arange((2 * half + 1) * OVERSAMPLED) + 0.5) / OVERSAMPLED - half - 0.5
    x, y = np.meshgrid(fine - dx, fine - dy)
    turn = np.deg2rad(shape.angle_deg)
    along, across = x * np.cos(turn) + y * np.sin(turn), -x * np.sin(turn) + y * np.cos(turn)
    along, across = along / np.sqrt(shape.elongation), across * np.sqrt(shape.elongation)
    r2 = along**2 + across**2
    if shape.disc_px > 0:
        r = np.sqrt(r2)
        edge = 0.5 * shape.fwhm_px / 2.355
        light = 1 / (1 + np.exp((r - shape.disc_px / 2) / edge))
        if shape.obstruction > 0:
            light = light - 1 / (1 + np.exp((r - shape.obstruction * shape.disc_px / 2) / edge))
    elif shape.beta is None:
        light = np.exp(-4 * np.log(2) * r2 / shape.fwhm_px**2)
    else:
        alpha2 = (shape.fwhm_px / 2) ** 2 / (2 ** (1 / shape.beta) - 1)
        light = (1 + r2 / alpha2) ** -shape.beta
    side = 2 * half + 1
    whole = light.reshape(side, OVERSAMPLED, side, OVERSAMPLED).sum(axis=(1, 3))
    return whole / whole.sum()


@dataclass(frozen=True)
class Taken:
    """How a field is taken: the sky and its rise to the right, the noise and full scale in ADU, e⁻ per ADU."""

    sky_adu: float = 1000.0
    noise_adu: float = 10.0
    gain_e_adu: float = 1.0
    full_adu: float = 65535.0
    slope_adu: float = 0.0


def draw_field(
    shape: StarShape, x: Any, y: Any, flux_adu: Any, size: tuple[int, int], *, taken: Taken = Taken(), seed: int = 1
) -> Numbers:
    """Return a frame (height, width) in uint16 ADU with stars at places, over a sky that may rise to the right."""
    rng = np.random.default_rng(seed)
    height, width = size
    light = np.full(size, taken.sky_adu) + taken.slope_adu * np.linspace(0, 1, width)[None, :]
    half = int(np.ceil(max(4 * shape.fwhm_px, shape.disc_px / 2 + 3 * shape.fwhm_px, 8)))
    for at_x, at_y, flux in zip(x, y, flux_adu, strict=True):
        column, row = round(float(at_x)), round(float(at_y))
        star = flux * stamp(shape, at_x - column, at_y - row, half)
        left, top = column - half, row - half
        cut = (slice(max(top, 0), min(row + half + 1, height)), slice(max(left, 0), min(column + half + 1, width)))
        own = (slice(cut[0].start - top, cut[0].stop - top), slice(cut[1].start - left, cut[1].stop - left))
        light[cut] += star[own]
    photons = rng.poisson(np.maximum(light - taken.sky_adu, 0) * taken.gain_e_adu) / taken.gain_e_adu
    noisy = photons + np.minimum(light, taken.sky_adu) + taken.noise_adu * rng.standard_normal(size)
    return np.clip(np.rint(noisy), 0, taken.full_adu).astype(np.uint16)

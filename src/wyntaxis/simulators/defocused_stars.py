"""Defocused stars by rays: photons from the pupil land where defocus, coma and the air send them."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

Pixels = Any


@dataclass(frozen=True)
class RayTelescope:
    """A telescope out of focus, seen by its sensor.

    Parameters
    ----------
    width, height, pixel_um
        The sensor.
    focal_ratio
        Of the cone of light.
    obstruction
        Diameter of the shade in the pupil, as a share of the pupil's.
    shade_off
        Where the shade's centre lies in the pupil, x and y in pupil radii.
    vanes, vane_share
        How many vanes hold the secondary mirror, and how wide each is, as a share of the pupil's diameter.
    seeing_um
        FWHM of the air's blur on the sensor.
    coma_um
        How long the coma of the marginal rays is, along x and y.
    """

    width: int = 900
    height: int = 700
    pixel_um: float = 3.8
    focal_ratio: float = 5.0
    obstruction: float = 0.35
    shade_off: tuple[float, float] = (0.0, 0.0)
    vanes: int = 4
    vane_share: float = 0.01
    seeing_um: float = 9.0
    coma_um: tuple[float, float] = (0.0, 0.0)
    sky_adu: float = 900.0
    gradient_adu: float = 60.0
    noise_adu: float = 14.0
    hot_pixels: int = 60

    def rays(self, rng: np.random.Generator, count: int) -> tuple[Pixels, Pixels]:
        """Return where so many rays pass the pupil, in pupil radii from its centre."""
        xs, ys = np.zeros(0), np.zeros(0)
        while len(xs) < count:
            x, y = rng.uniform(-1, 1, (2, 2 * count))
            free = np.hypot(x, y) <= 1
            if self.obstruction:
                free &= np.hypot(x - self.shade_off[0], y - self.shade_off[1]) >= self.obstruction
                for vane in range(self.vanes):
                    angle = math.pi * (vane + 0.25) / max(self.vanes / 2, 1)
                    along = x * math.cos(angle) + y * math.sin(angle)
                    across = -x * math.sin(angle) + y * math.cos(angle)
                    free &= ~((along > 0) & (np.abs(across) < self.vane_share))
            xs, ys = np.append(xs, x[free]), np.append(ys, y[free])
        return xs[:count], ys[:count]

    def frame(self, defocus_mm: float, stars: list[tuple[float, float, int]], seed: int = 0) -> Pixels:
        """Return a frame as 16-bit codes, (height, width).

        Parameters
        ----------
        defocus_mm
            How far behind the focus the sensor lies; before it where negative.
        stars
            Place in px and count of rays of each.
        seed
            Of rays, air and noise.
        """
        rng = np.random.default_rng(seed)
        light = np.zeros((self.height, self.width))
        for x, y, count in stars:
            u, v = self.rays(rng, count)
            air = rng.normal(0, self.seeing_um / 2.3548, (2, count))
            radius2 = u**2 + v**2
            blur_um = 1000 * defocus_mm / (2 * self.focal_ratio)
            # Coma of third order: the tail of a zone of the pupil grows with the square of its radius.
            tail = [(length / 3) * radius2 for length in self.coma_um]
            round_x = self.coma_um[0] / 3 * (u**2 - v**2) + self.coma_um[1] / 3 * 2 * u * v
            round_y = self.coma_um[0] / 3 * 2 * u * v + self.coma_um[1] / 3 * (v**2 - u**2)
            at_x = x + (blur_um * u + 2 * tail[0] + round_x + air[0]) / self.pixel_um
            at_y = y + (blur_um * v + 2 * tail[1] + round_y + air[1]) / self.pixel_um
            columns, rows = np.rint(at_x).astype(int), np.rint(at_y).astype(int)
            on = (columns >= 0) & (rows >= 0) & (columns < self.width) & (rows < self.height)
            np.add.at(light, (rows[on], columns[on]), 1.0)
        slope = np.linspace(-0.5, 0.5, self.width) * self.gradient_adu
        frame = light + self.sky_adu + slope[None, :] + rng.normal(0, self.noise_adu, light.shape)
        for _ in range(self.hot_pixels):
            frame[rng.integers(self.height), rng.integers(self.width)] += rng.uniform(300, 30000)
        return np.clip(np.rint(frame), 0, 65535).astype(np.uint16)

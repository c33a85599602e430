"""Flats drawn from the geometry of a train: every px sees the exit pupil through real openings and past real grains.

Nothing here is a formula that the measurements fit: what a px receives is the area of the pupil's image that is left
free at each distance before the sensor, where circles overlap as circles do.
"""

from __future__ import annotations

import datetime
import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

Plane = NDArray[np.float64]
START = datetime.datetime(2026, 11, 15, 6, 10, tzinfo=datetime.UTC)
CLEAN_NODES = 160
"""The light of a clean train is drawn at so many places across, and between them in straight lines."""
RAYS = 4001


@dataclass(frozen=True)
class Opening:
    """A round opening before the sensor: its distance, its clear radius, and how far its middle lies off, in mm."""

    distance_mm: float
    radius_mm: float
    x_mm: float = 0.0
    y_mm: float = 0.0


@dataclass(frozen=True)
class Grain:
    """An opaque grain of dust: where its shadow's middle falls on the sensor, its distance and its width in mm.

    ``filter`` names the filter that it lies on: it moves with the wheel, and is seen through that filter alone.
    """

    x_mm: float
    y_mm: float
    distance_mm: float
    size_mm: float
    filter: str | None = None


@dataclass(frozen=True)
class FlatTrain:
    """What stands between a flat panel and the sensor, and the sensor. Lengths in mm, levels in ADU above the bias.

    ``pupil_mm`` is how far the exit pupil lies before the sensor; ``pattern`` the scatter of the px' own response,
    ``columns`` that of whole columns; ``gradient`` the panel's rise from side to side, across and up, as shares.
    """

    width: int = 900
    height: int = 600
    pixel_um: float = 8.0
    focal_ratio: float = 7.0
    pupil_mm: float = 400.0
    obstruction: float = 0.0
    openings: tuple[Opening, ...] = ()
    grains: tuple[Grain, ...] = ()
    gradient: tuple[float, float] = (0.0, 0.0)
    pattern: float = 0.006
    columns: float = 0.0
    level_adu: float = 30_000.0
    bias_adu: float = 400.0
    gain_e_adu: float = 1.0
    read_noise_e: float = 3.0
    brightness: dict[str, float] = field(default_factory=dict)
    seed: int = 1

    def light(self, filter_name: str, stop_px: tuple[float, float] = (0.0, 0.0)) -> Plane:
        """Return the light on each px as a share of that of a clean middle, (height, width).

        Parameters
        ----------
        filter_name
            The filter in the beam.
        stop_px
            By how much the wheel stops off, as its grains' shadows move, in px.
        """
        light = self._clean()
        for grain in self.grains:
            if grain.filter in (None, filter_name):
                off = stop_px if grain.filter is not None else (0.0, 0.0)
                self._shade(light, grain, off)
        return light

    def _places(self, columns: Plane, rows: Plane) -> tuple[Plane, Plane]:
        """Return where px lie on the sensor, in mm from the optical axis."""
        per_px = self.pixel_um / 1000
        return (columns - (self.width - 1) / 2) * per_px, (rows - (self.height - 1) / 2) * per_px

    def _clean(self) -> Plane:
        """Return the light without dust: rays from all over the pupil that pass every opening, and cos⁴."""
        from scipy.interpolate import RegularGridInterpolator

        step = max(self.width, self.height) / CLEAN_NODES
        columns = np.linspace(0, self.width - 1, max(round(self.width / step), 2))
        rows = np.linspace(0, self.height - 1, max(round(self.height / step), 2))
        x, y = self._places(*np.meshgrid(columns, rows))
        pupil = self.pupil_mm / self.focal_ratio / 2
        # A spiral of rays, even over the ring that the obstruction leaves.
        number = np.arange(RAYS) + 0.5
        radius = pupil * np.sqrt(self.obstruction**2 + (1 - self.obstruction**2) * number / RAYS)
        angle = number * math.pi * (3 - math.sqrt(5))
        at_x, at_y = radius * np.cos(angle), radius * np.sin(angle)
        nodes = np.zeros(x.shape)
        for row in range(len(rows)):
            free = np.ones((len(columns), RAYS), bool)
            for opening in self.openings:
                share = opening.distance_mm / self.pupil_mm
                across = x[row][:, None] * (1 - share) + at_x * share - opening.x_mm
                down = y[row][:, None] * (1 - share) + at_y * share - opening.y_mm
                free &= across**2 + down**2 <= opening.radius_mm**2
            nodes[row] = free.mean(axis=1)
        nodes *= (self.pupil_mm**2 / (self.pupil_mm**2 + x**2 + y**2)) ** 2
        nodes *= 1 + self.gradient[0] * x / abs(x).max() + self.gradient[1] * y / abs(y).max()
        whole = np.stack(np.meshgrid(np.arange(self.height), np.arange(self.width), indexing="ij"), axis=-1)
        return np.asarray(RegularGridInterpolator((rows, columns), nodes)(whole))

    def _shade(self, light: Plane, grain: Grain, off_px: tuple[float, float]) -> None:
        share = grain.distance_mm / self.pupil_mm
        beam = grain.distance_mm / self.focal_ratio / 2
        middle_x = (self.width - 1) / 2 + grain.x_mm * 1000 / self.pixel_um + off_px[0]
        middle_y = (self.height - 1) / 2 + grain.y_mm * 1000 / self.pixel_um + off_px[1]
        reach = math.ceil((beam + grain.size_mm / 2) / (1 - share) * 1000 / self.pixel_um) + 2
        left, right = max(round(middle_x) - reach, 0), min(round(middle_x) + reach + 1, self.width)
        top, bottom = max(round(middle_y) - reach, 0), min(round(middle_y) + reach + 1, self.height)
        if left >= right or top >= bottom:
            return
        y, x = np.mgrid[top:bottom, left:right].astype(float)
        apart = np.hypot(x - middle_x, y - middle_y) * self.pixel_um / 1000 * (1 - share)
        hidden = shared_area(beam, grain.size_mm / 2, apart)
        if self.obstruction > 0:
            hidden = hidden - shared_area(beam * self.obstruction, grain.size_mm / 2, apart)
        light[top:bottom, left:right] *= 1 - hidden / (math.pi * beam**2 * (1 - self.obstruction**2))

    def frame(
        self, filter_name: str, number: int, stop_px: tuple[float, float] = (0.0, 0.0), light: Plane | None = None
    ) -> NDArray[np.uint16]:
        """Return one flat in ADU, (height, width); the same number gives the same frame.

        Parameters
        ----------
        filter_name
            The filter in the beam.
        number
            Which draw of the noise.
        stop_px
            By how much the wheel stops off.
        light
            What :meth:`light` returned for the same filter and stop, where it is at hand.
        """
        own, rng = np.random.default_rng([self.seed, 7]), np.random.default_rng([self.seed, number + 100])
        response = 1 + self.pattern * own.standard_normal((self.height, self.width))
        response *= 1 + self.columns * own.standard_normal(self.width)
        seen = self.light(filter_name, stop_px) if light is None else light
        electrons = self.level_adu * self.brightness.get(filter_name, 1.0) * self.gain_e_adu * seen * response
        read = self.read_noise_e * rng.standard_normal(seen.shape)
        adu = (rng.poisson(electrons) + read) / self.gain_e_adu + self.bias_adu
        return np.clip(np.rint(adu), 0, 65535).astype(np.uint16)

    def write(
        self, folder: Path, order: Sequence[tuple[str, tuple[float, float]]], *, each: int = 1,
        start: datetime.datetime = START, cards: dict[str, object] | None = None,
    ) -> list[Path]:  # fmt: skip
        """Write flats in the order of the wheel's visits, each visit a filter and by how many px it stops off."""
        from astropy.io import fits

        folder.mkdir(parents=True, exist_ok=True)
        paths: list[Path] = []
        for name, stop in order:
            light = self.light(name, stop)
            for _ in range(each):
                number = len(paths)
                header = fits.Header()
                header["IMAGETYP"], header["INSTRUME"] = "FLAT", "Pellucid Grand"
                header["EXPTIME"], header["XBINNING"], header["FILTER"] = 2.0, 1, name
                moment = start + datetime.timedelta(seconds=14 * number)
                header["DATE-OBS"] = moment.strftime("%Y-%m-%dT%H:%M:%S")
                header.update(dict(cards or {}))
                path = folder / f"flat_{number:03}_{name}.fits"
                pixels = self.frame(name, number + round(start.timestamp()) % 9973, light=light)
                fits.PrimaryHDU(pixels, header).writeto(path, overwrite=True)
                paths.append(path)
        return paths


def shared_area(one: float, other: float, apart: Plane) -> Plane:
    """Return the area that two circles share, at distances of their middles; all in one unit of length."""
    small, large = min(one, other), max(one, other)
    if small <= 0:
        return np.zeros_like(apart)
    d = np.clip(apart, large - small + 1e-12, large + small - 1e-12)
    # Each circle's segment beyond the common chord, which lies so far from the middles of the two.
    to_large = (d**2 + large**2 - small**2) / (2 * d)
    to_small = d - to_large
    area = np.zeros_like(apart)
    for radius, chord in ((large, to_large), (small, to_small)):
        turn = np.arccos(np.clip(chord / radius, -1, 1))
        area += radius**2 * (turn - np.sin(turn) * np.cos(turn))
    area = np.where(apart >= large + small, 0.0, area)
    return np.where(apart <= large - small, math.pi * small**2, area)

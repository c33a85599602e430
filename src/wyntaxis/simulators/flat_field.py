"""Simulated flats: light that falls off, pixels of their own, dust at distances before the sensor, and a wheel."""

from __future__ import annotations

import datetime
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats

FLAT_START = datetime.datetime(2026, 11, 15, 6, 10, tzinfo=datetime.UTC)


@dataclass(frozen=True)
class Mote:
    """A grain of dust: where its shadow's middle falls in px, how far before the sensor and how large it is in mm.

    ``filter`` names the filter that it sits on: it moves with the wheel and is seen through that filter alone.
    """

    x: float
    y: float
    distance_mm: float
    size_mm: float = 0.05
    filter: str | None = None


def lens_area(one: float, other: float, apart: Floats) -> Floats:
    """Return the area that two circles share, over arrays of distances; lengths in any one unit."""
    small, large = np.minimum(one, other), np.maximum(one, other)
    cosine = (apart**2 + one**2 - other**2) / np.maximum(2 * apart * one, 1e-12)
    cosine_other = (apart**2 + other**2 - one**2) / np.maximum(2 * apart * other, 1e-12)
    kite = (-apart + one + other) * (apart + one - other) * (apart - one + other) * (apart + one + other)
    area = (
        one**2 * np.arccos(np.clip(cosine, -1, 1))
        + other**2 * np.arccos(np.clip(cosine_other, -1, 1))
        - np.sqrt(np.maximum(kite, 0.0)) / 2
    )
    area = np.where(apart >= one + other, 0.0, area)
    return np.where(apart <= large - small, np.pi * small**2, area)


@dataclass(frozen=True)
class SimulatedFlats:
    """What makes a flat. Levels in ADU above the bias, lengths in px, µm and mm.

    ``corner_share`` is the light left in the corner, about a middle that lies ``centre_off_px`` off the frame's.
    ``stops_px`` is how far the wheel stops off at each visit, by turns; ``brightness`` that of each filter.
    """

    width: int = 600
    height: int = 400
    pixel_um: float = 3.9
    focal_ratio: float = 4.94
    obstruction: float = 0.0
    level_adu: float = 30_000.0
    bias_adu: float = 360.0
    gain_e_adu: float = 0.8
    corner_share: float = 0.86
    centre_off_px: tuple[float, float] = (0.0, 0.0)
    pattern: float = 0.006
    motes: tuple[Mote, ...] = ()
    stops_px: tuple[tuple[float, float], ...] = ((0.0, 0.0),)
    brightness: Mapping[str, float] = field(default_factory=dict)
    slope: tuple[float, float] = (0.0, 0.0)
    seed: int = 1

    def light(self, filter_name: str, stop: tuple[float, float] = (0.0, 0.0), *, turned: bool = False) -> Any:
        """Return the light of a filter, (height, width), 1 in the middle of a clean frame.

        ``stop`` is by how much the wheel stands off in px; ``turned`` after half a turn of the camera, which leaves its
        own pixels where they are and all else turned.
        """
        y, x = np.mgrid[0 : self.height, 0 : self.width].astype(float)
        if turned:
            x, y = self.width - 1 - x, self.height - 1 - y
        middle = np.array([(self.width - 1) / 2, (self.height - 1) / 2])
        far2 = (x - middle[0] - self.centre_off_px[0]) ** 2 + (y - middle[1] - self.centre_off_px[1]) ** 2
        light = 1 - (1 - self.corner_share) * far2 / float(middle @ middle)
        light *= 1 + self.slope[0] * (x / middle[0] - 1) + self.slope[1] * (y / middle[1] - 1)
        for mote in self.motes:
            if mote.filter not in (None, filter_name):
                continue
            off = stop if mote.filter is not None else (0.0, 0.0)
            apart = np.hypot(x - mote.x - off[0], y - mote.y - off[1])
            beam, grain = self._radii(mote)
            shaded = apart < beam + grain
            light[shaded] *= 1 - self._shadow(apart[shaded], mote)
        return light

    def _radii(self, mote: Mote) -> tuple[float, float]:
        """Return the radii of the beam at a grain and of the grain, in px."""
        beam = mote.distance_mm * 1000 / (2 * self.focal_ratio * self.pixel_um)
        return beam, mote.size_mm * 1000 / (2 * self.pixel_um)

    def _shadow(self, apart: Floats, mote: Mote) -> Floats:
        """Return the share of the light that a grain keeps from places so many px from its shadow's middle."""
        beam, grain = self._radii(mote)
        kept = lens_area(beam, grain, apart)
        if self.obstruction > 0:
            kept = kept - lens_area(beam * self.obstruction, grain, apart)
        return kept / (np.pi * beam**2 * (1 - self.obstruction**2))

    def frame(self, filter_name: str, number: int, stop: tuple[float, float] = (0.0, 0.0), **more: bool) -> Any:
        """Return one flat as uint16 ADU, (height, width); the same number gives the same frame."""
        own = np.random.default_rng([self.seed, 7])
        rng = np.random.default_rng([self.seed, number + 100])
        pixels = 1 + self.pattern * own.standard_normal((self.height, self.width))
        level = self.level_adu * self.brightness.get(filter_name, 1.0)
        electrons = level * self.gain_e_adu * self.light(filter_name, stop, **more) * pixels
        adu = rng.poisson(electrons) / self.gain_e_adu + self.bias_adu + 3 * rng.standard_normal(electrons.shape)
        return np.clip(np.rint(adu), 0, 65535).astype(np.uint16)

    def write(
        self, folder: Path, order: Sequence[str], *, start: datetime.datetime = FLAT_START, each: int = 1,
        number: int = 0, cards: Mapping[str, Any] | None = None, turned: bool = False,
    ) -> list[Path]:  # fmt: skip
        """Write flats in the order in which the wheel visits its filters, ``each`` of them at every visit."""
        from astropy.io import fits

        folder.mkdir(parents=True, exist_ok=True)
        paths: list[Path] = []
        visits = dict.fromkeys(order, 0)
        for name in order:
            stop = self.stops_px[visits[name] % len(self.stops_px)]
            visits[name] += 1
            for _ in range(each):
                header = fits.Header()
                header["IMAGETYP"] = "FLAT"
                header["INSTRUME"] = "Pellucid Grand"
                header["EXPTIME"] = 2.0
                header["XBINNING"] = 1
                header["FILTER"] = name
                moment = start + datetime.timedelta(seconds=14 * len(paths))
                header["DATE-OBS"] = moment.strftime("%Y-%m-%dT%H:%M:%S")
                header.update(dict(cards or {}))
                pixels = self.frame(name, number + len(paths), stop, turned=turned)
                paths.append(folder / f"flat_{number + len(paths):03}_{name}.fits")
                fits.PrimaryHDU(pixels, header).writeto(paths[-1], overwrite=True)
        return paths

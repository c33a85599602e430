"""A simulated telescope and focuser: star frames at any position, through any filter, at any temperature.

Stars are annuli of light as wide as the defocus makes them, blurred by the seeing: the product of both transfer
functions, turned back into an image (Goodman, *Introduction to Fourier Optics*). The counter has play: coming inward
the drawtube lags behind it.
"""

from __future__ import annotations

import datetime
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from wyntaxis.simulators.star_light import Profile, annulus_transfer, seeing_transfer

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats, Numbers

FINER = 3
"""Stars are drawn on a grid finer by this and summed up: on the sensor's own the sharpest would ring."""
MARGIN_PX = 32
STEP_PX = 4
START = datetime.datetime(2026, 11, 14, 19, 30, tzinfo=datetime.UTC)


Direction = Literal["in", "out"]


@dataclass(frozen=True)
class Spoiled:
    """What befalls a frame: stars blurred by a factor, drawn out, shifted in px, or turned by half a turn."""

    blur: float = 1.0
    trail_px: float = 0.0
    trail_deg: float = 0.0
    shift: tuple[float, float] = (0.0, 0.0)
    flipped: bool = False


@dataclass(frozen=True)
class SimulatedFocalSurface:
    """How best focus and the stars' shape change over the field; lengths in µm along the light, places in mm from the
    frame's middle, +x to the right and +y up the stored rows.

    ``tilt_um_mm`` is by how much best focus rises toward +x and +y, ``curvature_um_mm2`` by the squared distance from
    ``curvature_centre_mm``; ``astigmatism_um_mm2`` is by how much the radial and the tangential focus lie before and
    behind it; ``coma_px`` is how far light is drawn out to one side everywhere, ``coma_px_mm`` away from the middle.
    """

    tilt_um_mm: tuple[float, float] = (0.0, 0.0)
    curvature_um_mm2: float = 0.0
    curvature_centre_mm: tuple[float, float] = (0.0, 0.0)
    astigmatism_um_mm2: float = 0.0
    coma_px: tuple[float, float] = (0.0, 0.0)
    coma_px_mm: float = 0.0

    def focus_um(self, x_mm: float, y_mm: float) -> float:
        """Return where best focus lies at a place of the field, in µm along the light from where the middle has it."""
        curvature = (x_mm - self.curvature_centre_mm[0]) ** 2 + (y_mm - self.curvature_centre_mm[1]) ** 2
        middle = self.curvature_centre_mm[0] ** 2 + self.curvature_centre_mm[1] ** 2
        return self.tilt_um_mm[0] * x_mm + self.tilt_um_mm[1] * y_mm + self.curvature_um_mm2 * (curvature - middle)

    def turned(self) -> SimulatedFocalSurface:
        """Return the field as the frame shows it after half a turn of the camera, if all of it is the telescope's."""
        return replace(
            self,
            tilt_um_mm=(-self.tilt_um_mm[0], -self.tilt_um_mm[1]),
            curvature_centre_mm=(-self.curvature_centre_mm[0], -self.curvature_centre_mm[1]),
            coma_px=(-self.coma_px[0], -self.coma_px[1]),
        )


EVERY_S = 12.0


@dataclass(frozen=True)
class Run:
    """How the frames of one focus run are taken, and what their headers say besides."""

    filter_name: str | None = "L"
    temperature_c: float = 10.0
    start: datetime.datetime = START
    number: int = 0
    brightness: float = 1.0
    cards: Mapping[str, Any] = field(default_factory=dict)
    ending: str = ".fits"


@dataclass(frozen=True)
class SimulatedTelescope:
    """Where focus lies, how stars look, and what the sensor makes of them. Lengths in px, µm and steps.

    ``best_position`` is that of the reference filter at ``at_c``, in the middle between both directions; with a
    ``sharpest_px`` of half-flux diameter. ``seeing_scatter`` is by how much the seeing of a frame differs, as a share.
    ``turned_deg``: the sky lies turned by so much in the image, about its middle, from +x toward +y.
    """

    best_position: float = 7000.0
    step_um: float = 4.2
    focal_ratio: float = 4.94
    pixel_um: float = 3.9
    obstruction: float = 0.0
    sharpest_px: float = 2.6
    profile: Profile = "moffat"
    seeing_scatter: float = 0.01
    backlash_steps: float = 0.0
    steps_per_c: float = 0.0
    at_c: float = 10.0
    offsets: Mapping[str, float] = field(default_factory=dict)
    width: int = 360
    height: int = 280
    stars: int = 14
    faintest_adu: float = 2.0e4
    brightest_adu: float = 1.2e5
    exposure_s: float = 3.0
    sky_adu: float = 700.0
    noise_adu: float = 9.0
    gain_e_adu: float = 1.0
    full_adu: float = 65535.0
    turned_deg: float = 0.0
    over_field: SimulatedFocalSurface = field(default_factory=SimulatedFocalSurface)
    seed: int = 1

    def best(self, filter_name: str | None, temperature_c: float, direction: Direction | None) -> float:
        """Return the counter's best position in steps, approached from one side."""
        play = {"out": 0.5, "in": -0.5}.get(direction or "", 0.0) * self.backlash_steps
        moved = self.steps_per_c * (temperature_c - self.at_c)
        return self.best_position + moved + self.offsets.get(filter_name or "", 0.0) + play

    def disc_px(self, position: float, best: float) -> float:
        """Return the diameter that a point is blurred to at a position, in px: ``z/(N·p)``."""
        return abs(position - best) * self.step_um / (self.focal_ratio * self.pixel_um)

    def frame(
        self, position: float, *, filter_name: str | None = None, temperature_c: float = 10.0,
        direction: Direction | None = None, number: int = 0, brightness: float = 1.0, spoiled: Spoiled | None = None,
    ) -> Numbers:  # fmt: skip
        """Return one frame as uint16 ADU, shape (height, width); the same number gives the same frame."""
        sky, bad = np.random.default_rng([self.seed, 77]), spoiled or Spoiled()
        rng = np.random.default_rng([self.seed, number + 1])
        best = self.best(filter_name, temperature_c, direction)
        sharpest = bad.blur * self.sharpest_px * (1 + self.seeing_scatter * float(rng.standard_normal()))
        x = sky.uniform(MARGIN_PX, self.width - MARGIN_PX, self.stars)
        y = sky.uniform(MARGIN_PX, self.height - MARGIN_PX, self.stars)
        turn, middle = math.radians(self.turned_deg), ((self.width - 1) / 2, (self.height - 1) / 2)
        x, y = (
            middle[0] + (x - middle[0]) * math.cos(turn) - (y - middle[1]) * math.sin(turn),
            middle[1] + (x - middle[0]) * math.sin(turn) + (y - middle[1]) * math.cos(turn),
        )
        if bad.flipped:
            x, y = self.width - 1 - x, self.height - 1 - y
        faintest, brightest = math.log(self.faintest_adu), math.log(self.brightest_adu)
        flux = brightness * np.exp(sky.uniform(faintest, brightest, self.stars))
        light = np.zeros((self.height, self.width))
        for at_x, at_y, own in zip(x + bad.shift[0], y + bad.shift[1], flux, strict=True):
            if self.turned_deg and not (0 <= at_x < self.width and 0 <= at_y < self.height):
                continue
            self._add(light, float(at_x), float(at_y), own, position - best, sharpest, bad)
        electrons = rng.poisson(np.maximum(light, 0.0) * self.gain_e_adu) / self.gain_e_adu
        noisy = electrons + self.sky_adu + self.noise_adu * rng.standard_normal(light.shape)
        return np.clip(np.rint(noisy), 0, self.full_adu).astype(np.uint16)

    def _add(
        self, light: Floats, x: float, y: float, flux: float, off_steps: float, sharpest: float, bad: Spoiled
    ) -> None:
        shape = self._shape(x, y, off_steps)
        reach = max(shape.across_px) / 2 + 4 * math.hypot(*shape.coma_px)
        # In steps of some px, so that many stars are drawn on grids alike.
        half = STEP_PX * math.ceil((reach + 5 * sharpest + 4 + bad.trail_px / 2) / STEP_PX)
        column, row, side = round(x), round(y), 2 * half + 1
        shift = (x - column, y - row)
        trail = (bad.trail_px, bad.trail_deg)
        star = flux * blurred_star(shape, sharpest, self.obstruction, self.profile, side, shift, trail)
        left, top = column - half, row - half
        into = (slice(max(top, 0), min(top + side, self.height)), slice(max(left, 0), min(left + side, self.width)))
        own = (slice(into[0].start - top, into[0].stop - top), slice(into[1].start - left, into[1].stop - left))
        light[into] += star[own]

    def _shape(self, x: float, y: float, off_steps: float) -> StarBlur:
        """Return what the optics make of a star at a place of the frame, so many steps from the middle's best focus."""
        there, per_px = self.over_field, self.pixel_um / 1000
        x_mm, y_mm = (x - (self.width - 1) / 2) * per_px, (y - (self.height - 1) / 2) * per_px
        off_um = off_steps * self.step_um - there.focus_um(x_mm, y_mm)
        apart = there.astigmatism_um_mm2 * (x_mm**2 + y_mm**2)
        to_px = 1 / (self.focal_ratio * self.pixel_um)
        across = (abs(off_um - apart) * to_px, abs(off_um + apart) * to_px)
        coma = tuple(one + there.coma_px_mm * at for one, at in zip(there.coma_px, (x_mm, y_mm), strict=True))
        return StarBlur(across, math.degrees(math.atan2(y_mm, x_mm)), (coma[0], coma[1]))

    def write_run(self, folder: Path, positions: Sequence[float], run: Run = Run()) -> list[Path]:
        """Write the frames of one run, in the order of its positions, with the headers of a capture program."""
        way = float(positions[-1] - positions[0]) if len(positions) > 1 else 0.0
        direction: Direction = "out" if way >= 0 else "in"
        folder.mkdir(parents=True, exist_ok=True)
        paths = []
        for index, position in enumerate(positions):
            own = run.number + index
            pixels = self.frame(
                position,
                filter_name=run.filter_name,
                temperature_c=run.temperature_c,
                direction=direction,
                number=own,
                brightness=run.brightness,
            )
            moment = run.start + datetime.timedelta(seconds=EVERY_S * index)
            paths.append(folder / f"focus_{own:03}{run.ending}")
            self.write(paths[-1], pixels, position, run.filter_name, run.temperature_c, moment, run.cards)
        return paths

    def write(
        self, path: Path, pixels: Numbers, counter: float, filter_name: str | None, temperature_c: float,
        moment: datetime.datetime, cards: Mapping[str, Any],
    ) -> None:  # fmt: skip
        """Write a frame as FITS, with what the counter and the thermometer tell."""
        from astropy.io import fits

        header = fits.Header()
        header["IMAGETYP"] = "LIGHT"
        header["INSTRUME"] = "Pellucid Grand"
        header["EXPTIME"] = self.exposure_s
        header["XBINNING"] = 1
        header["FOCUSPOS"] = round(counter)
        header["FOCTEMP"] = round(temperature_c, 2)
        if filter_name is not None:
            header["FILTER"] = filter_name
        header["DATE-OBS"] = moment.strftime("%Y-%m-%dT%H:%M:%S")
        header.update(dict(cards))
        path.parent.mkdir(parents=True, exist_ok=True)
        fits.PrimaryHDU(pixels, header).writeto(path, overwrite=True)


@lru_cache(maxsize=32)
def _seeing(fine: int, sharpest_px: float, profile: Profile) -> Any:
    """Return the seeing's transfer function on the grid of a star: the same for all stars of a frame."""
    k = FINER * np.hypot(np.fft.rfftfreq(fine), np.fft.fftfreq(fine)[:, None])
    return seeing_transfer(k * sharpest_px, profile)


@dataclass(frozen=True)
class StarBlur:
    """What a star's light is spread over, in px: a disc's diameters along and across a direction in degrees from +x
    toward +y, and a tail that falls off exponentially to one side, by its mean length.
    """

    across_px: tuple[float, float]
    along_deg: float = 0.0
    coma_px: tuple[float, float] = (0.0, 0.0)


def blurred_star(
    blur: StarBlur, sharpest_px: float, obstruction: float, profile: Profile, side: int, shift: tuple[float, float],
    trail: tuple[float, float] = (0.0, 0.0),
) -> Any:  # fmt: skip
    """Return a star's light of one unit on ``side``² pixels (odd), its middle shifted by (x, y) px from the middle.

    ``trail`` is how far it was drawn out, in px, and in which direction, in degrees from +x toward +y.
    """
    fine = side * FINER
    along_x, along_y = FINER * np.fft.rfftfreq(fine), FINER * np.fft.fftfreq(fine)[:, None]
    image = _seeing(fine, sharpest_px, profile)
    if max(blur.across_px) > 0:
        to = math.radians(blur.along_deg)
        radial, tangential = (
            along_x * math.cos(to) + along_y * math.sin(to),
            along_y * math.cos(to) - along_x * math.sin(to),
        )
        wide = np.hypot(radial * blur.across_px[0], tangential * blur.across_px[1])
        image = image * annulus_transfer(wide, 1.0, obstruction)
    if any(blur.coma_px):
        image = image / (1 + 2j * np.pi * (along_x * blur.coma_px[0] + along_y * blur.coma_px[1]))
    if trail[0]:
        turned = math.radians(trail[1])
        image = image * np.sinc(trail[0] * (along_x * math.cos(turned) + along_y * math.sin(turned)))
    # The middle of the middle pixel, counted from the middle of the first fine one.
    middle = side // 2 + 0.5 - 0.5 / FINER
    right, up = (np.exp(-2j * np.pi * at * (middle + by)) for at, by in zip((along_x, along_y), shift, strict=True))
    light = np.fft.irfft2(image * right * up, s=(fine, fine))
    return light.reshape(side, FINER, side, FINER).sum(axis=(1, 3))

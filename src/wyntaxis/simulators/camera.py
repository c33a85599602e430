"""A simulated camera with known gain, noise, dark law, fixed pattern, clipping and cooler: it makes frames and logs.

Everything follows from a seed. Signals are in electrons until they are read out; times in s, temperatures in °C.
"""

from __future__ import annotations

import csv
import io
import math
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats

BOLTZMANN_EV_K = 8.617333262e-5
KELVIN = 273.15


@dataclass(frozen=True)
class SimulatedCamera:
    """What the camera is made of. ``gain_e_adu`` is at gain setting 0; each unit of gain divides it by 10^(1/200)."""

    width: int = 320
    height: int = 240
    gain_e_adu: float = 3.2
    read_noise_e: float = 3.0
    converter_noise_adu: float = 0.0
    """Noise behind the gain: at low gains it is more electrons."""
    full_well_e: float = 50_000.0
    bits: int = 16
    padded_to_16: bool = False
    adu_per_offset: float = 10.0
    linearity_error: float = 0.0
    dark_e_s: float = 0.05
    """Dark current of a typical pixel at 0 °C."""
    dark_energy_ev: float = 0.65
    hot_share: float = 1e-3
    hot_times: float = 200.0
    pattern: float = 0.01
    """Standard deviation of the pixels' sensitivity."""
    vignetting: float = 0.3
    glow_e_s: float = 0.0
    color: bool = False
    tau_min: float = 9.0
    pull_c_min: float = 5.5
    cooler_w: float = 36.0
    log_every_s: float = 10.0
    log_noise_c: float = 0.05
    seed: int = 1

    def gain_at(self, setting: float) -> float:
        """Return the conversion gain in e⁻/ADU at a gain setting."""
        return float(self.gain_e_adu / 10 ** (setting / 200))

    def noise_at(self, setting: float) -> float:
        """Return the read noise in e⁻ at a gain setting."""
        return math.hypot(self.read_noise_e, self.converter_noise_adu * self.gain_at(setting))

    @property
    def step(self) -> int:
        return 2 ** (16 - self.bits) if self.padded_to_16 else 1

    @property
    def highest_code(self) -> int:
        return ((1 << self.bits) - 1) * self.step

    def dark_current(self, temperature_c: float) -> float:
        """Return the dark current of a typical pixel in e⁻/s: Arrhenius' law."""
        inverse = 1 / (temperature_c + KELVIN) - 1 / KELVIN
        return self.dark_e_s * math.exp(-self.dark_energy_ev / BOLTZMANN_EV_K * inverse)

    @property
    def _fixed(self) -> tuple[Floats, Floats, Floats]:
        """Sensitivity, dark factor and glow of every pixel: the fixed pattern, the same in every frame."""
        rng = np.random.default_rng([self.seed, 77])
        shape = (self.height, self.width)
        y, x = np.mgrid[-1 : 1 : self.height * 1j, -1 : 1 : self.width * 1j]
        sensitivity = (1 + self.pattern * rng.standard_normal(shape)) * (1 - self.vignetting * (x**2 + y**2) / 2)
        if self.color:
            sensitivity[0::2, 0::2] *= 0.6
            sensitivity[1::2, 1::2] *= 0.8
        dark = np.ones(shape)
        hot = rng.random(shape) < self.hot_share
        dark[hot] = 1 + self.hot_times * rng.exponential(1.0, int(hot.sum()))
        glow = self.glow_e_s * np.exp(-((x - 1) ** 2 + y**2) / 0.1)
        return sensitivity, dark, glow

    def frame(
        self, number: int, *, light_e_s: float = 0.0, exposure_s: float = 0.0, gain: float = 0.0, offset: float = 50.0,
        temperature_c: float = -10.0,
    ) -> Any:  # fmt: skip
        """Return one frame as uint16 codes, (height, width); the same number gives the same frame."""
        rng = np.random.default_rng([self.seed, number])
        sensitivity, dark, glow = self._fixed
        signal = light_e_s * exposure_s * sensitivity + (self.dark_current(temperature_c) * dark + glow) * exposure_s
        electrons = rng.poisson(signal).astype(float)
        electrons = np.minimum(electrons, self.full_well_e)
        electrons -= self.linearity_error * electrons**2 / self.full_well_e
        electrons += self.noise_at(gain) * rng.standard_normal(electrons.shape)
        codes = np.rint(electrons / self.gain_at(gain) + self.adu_per_offset * offset / self.step)
        return (np.clip(codes, 0, 2**self.bits - 1) * self.step).astype(np.uint16)

    def write(self, path: Path, number: int, kind: str, **settings: Any) -> None:
        """Write one frame as FITS with the headers of a capture program.

        ``filter`` may be among the settings, and ``cards``: what else the header is to say, by keyword.
        """
        from astropy.io import fits

        name, cards = settings.pop("filter", None), settings.pop("cards", {})
        header = fits.Header()
        header["IMAGETYP"] = kind.upper()
        header["INSTRUME"] = "Pellucid Grand"
        header["EXPTIME"] = float(settings.get("exposure_s", 0.0))
        header["GAIN"] = settings.get("gain", 0.0)
        header["OFFSET"] = settings.get("offset", 50.0)
        header["SET-TEMP"] = settings.get("temperature_c", -10.0)
        header["CCD-TEMP"] = round(settings.get("temperature_c", -10.0) + 0.05, 2)
        header["XBINNING"] = 1
        if name is not None:
            header["FILTER"] = str(name)
        if self.color:
            header["BAYERPAT"] = "RGGB"
        header.update(cards)
        path.parent.mkdir(parents=True, exist_ok=True)
        fits.PrimaryHDU(self.frame(number, **settings), header).writeto(path, overwrite=True)


@dataclass
class BenchSession:
    """Writes the frames of an evening at the bench, each with a number of its own."""

    camera: SimulatedCamera
    folder: Path
    made: int = field(default=0)

    def add(self, kind: str, count: int, **settings: Any) -> None:
        """Write some frames taken alike."""
        for _ in range(count):
            self.made += 1
            self.camera.write(self.folder / f"{kind}_{self.made:03}.fits", self.made, kind, **settings)


def make_bench(
    camera: SimulatedCamera, folder: Path, gains: tuple[float, ...] = (0.0, 100.0), *,
    exposure_s: float = 300.0, setpoint_c: float = -10.0, offset: float = 50.0,
) -> None:  # fmt: skip
    """Write bias, flat pairs over the range, darks over temperature and a bias set at another offset."""
    bench = BenchSession(camera, folder)
    usual = {"offset": offset, "temperature_c": setpoint_c}
    for gain in gains:
        unit = camera.gain_at(gain)
        brightest = min(camera.full_well_e, unit * (2**camera.bits - 1 - camera.adu_per_offset * offset / camera.step))
        bench.add("bias", 4, gain=gain, **usual)
        for share in (0.04, 0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.75, 1.1):
            bench.add("flat", 2, gain=gain, exposure_s=10 * share, light_e_s=brightest / 10, filter="L", **usual)
    last = gains[-1]
    bench.add("bias", 2, gain=last, offset=2.0, temperature_c=setpoint_c)
    for warmer in (-5.0, 0.0, 5.0, 10.0, 15.0):
        bench.add("dark", 2, gain=last, exposure_s=exposure_s, temperature_c=setpoint_c + warmer, offset=offset)


def cooling_run(
    camera: SimulatedCamera, *, ambient_c: float, target_c: float, minutes: float = 40.0,
    ramp_c_min: float | None = None, full_power: bool = False, number: int = 0,
) -> list[tuple[float, float, float, float]]:  # fmt: skip
    """Return a log of (time s, sensor °C, power %, ambient °C) under the cooler's own control, or at full power.

    The sensor follows dT/dt = (T_amb − T)/τ − a·u; the control is proportional with what it needs at rest fed forward.
    """
    rng = np.random.default_rng([camera.seed, 5000 + number])
    temperature, wanted, rows = ambient_c, ambient_c, []
    steps = round(camera.log_every_s)
    for second in range(round(minutes * 60) + 1):
        wanted = target_c if ramp_c_min is None else max(target_c, wanted - ramp_c_min / 60)
        rest = (ambient_c - wanted) / (camera.pull_c_min * camera.tau_min)
        power = 1.0 if full_power else min(1.0, max(0.0, rest + 0.35 * (temperature - wanted)))
        if second % steps == 0:
            seen = round(temperature + camera.log_noise_c * rng.standard_normal(), 2)
            rows.append((float(second), seen, round(100 * power, 1), ambient_c))
        goal = ambient_c - camera.pull_c_min * camera.tau_min * power
        temperature = goal + (temperature - goal) * math.exp(-1 / 60 / camera.tau_min)
    return rows


def cooling_csv(rows: list[tuple[float, float, float, float]]) -> str:
    """Return a cooling log as CSV with headings."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(["time_s", "sensor_c", "power_percent", "ambient_c"])
    writer.writerows(rows)
    return text.getvalue()

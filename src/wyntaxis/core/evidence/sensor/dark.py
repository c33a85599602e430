"""Dark current: from darks minus bias, over temperature by Arrhenius' law; hot pixels, glow, and the setpoint's advice.

Source: EMVA Standard 1288 R4; Arrhenius: ln D = ln D₀ − E/(k T).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.evidence.sensor.strips import open_frame
from wyntaxis.core.evidence.sensor.tiles import TileStats, tile_size
from wyntaxis.core.evidence.sensor.transfer import BiasLevel
from wyntaxis.core.fitting import mad_scatter, median_error, weighted_fit
from wyntaxis.core.limits import SETPOINT_SHARE

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats

BOLTZMANN_EV_K = 8.617333262e-5
"""CODATA 2018, exact."""
KELVIN = 273.15
HOT_TIMES = 5.0
"""A hot pixel has at least this many times the typical dark signal, and stands out of the noise."""
HOT_SIGMA = 6.0


@dataclass(frozen=True)
class DarkPoint:
    """Dark current in e⁻/s/px at one temperature, from so many frames of one exposure."""

    temperature_c: float
    current: Estimate
    exposure_s: float
    frames: int


@dataclass(frozen=True)
class DarkModel:
    """Arrhenius' law through the points: ``ln D = log_at − E/k (1/T − 1/T_at)`` with its covariance."""

    at_c: float
    log_at: float
    energy_k: float
    covariance: Floats
    points: tuple[DarkPoint, ...]

    def current(self, temperature_c: float) -> Estimate:
        """Return the dark current in e⁻/s/px at a temperature, with its uncertainty."""
        lever = self._lever(temperature_c)
        value = math.exp(self.log_at + self.energy_k * lever)
        direction = np.array([1.0, lever])
        return Estimate(value, value * math.sqrt(float(direction @ self.covariance @ direction)))

    def _lever(self, temperature_c: float) -> float:
        return 1 / (self.at_c + KELVIN) - 1 / (temperature_c + KELVIN)

    @property
    def energy_ev(self) -> Estimate:
        return Estimate(self.energy_k, math.sqrt(float(self.covariance[1, 1]))).times(BOLTZMANN_EV_K)

    def doubling(self, temperature_c: float) -> Estimate:
        """Return the rise in °C that doubles the current at a temperature: ``ln 2 · T² k / E``."""
        kelvin = temperature_c + KELVIN
        value = math.log(2) * kelvin**2 / self.energy_k
        return Estimate(value, value * math.sqrt(float(self.covariance[1, 1])) / self.energy_k)

    def warmest(self, current_e_s: float) -> Estimate:
        """Return the warmest temperature in °C at which the current is no higher than given."""
        lever = (math.log(current_e_s) - self.log_at) / self.energy_k
        kelvin = 1 / (1 / (self.at_c + KELVIN) - lever)
        direction = np.array([1.0, lever])
        spread = math.sqrt(float(direction @ self.covariance @ direction)) * kelvin**2 / self.energy_k
        return Estimate(kelvin - KELVIN, spread)


def dark_point(
    frames: Sequence[TileStats], bias: BiasLevel, gain: Estimate, exposure_s: float, temperature_c: float
) -> DarkPoint:
    """Return the dark current of a typical pixel: the median over tiles, so that glow and hot pixels do not count.

    Parameters
    ----------
    frames
        The statistics of darks taken alike, in ADU.
    bias
        The bias level, in ADU.
    gain
        The conversion gain in e⁻/ADU.
    exposure_s, temperature_c
        How they were taken, in s and °C.

    Returns
    -------
    DarkPoint
        The current in e⁻/s/px with its standard uncertainty.

    Raises
    ------
    ValueError
        For an exposure that is not above 0.
    """
    if exposure_s <= 0:
        raise ValueError("darks need an exposure above 0 s")
    signals = np.mean([stats.mean for stats in frames], axis=0) - bias.tiles
    middle = float(np.median(signals))
    # A level between two codes is known no better than the median of the tiles.
    spread = median_error(signals)
    factor = gain.value / exposure_s
    standard = math.hypot(spread * factor, middle * factor * gain.standard / gain.value)
    return DarkPoint(temperature_c, Estimate(middle * factor, standard), exposure_s, len(frames))


def dark_model(points: Sequence[DarkPoint], gain: Estimate) -> DarkModel:
    """Fit Arrhenius' law to currents at three or more temperatures.

    The conversion gain lifts all points alike: it counts in the level, not in the slope.

    Parameters
    ----------
    points
        Currents in e⁻/s/px at temperatures in °C.
    gain
        The conversion gain in e⁻/ADU, which all points share.

    Returns
    -------
    DarkModel
        ln D = a − E/kT: energy in eV, current and doubling by temperature. Source: Arrhenius.

    Raises
    ------
    ValueError
        With fewer than three temperatures at which there is a current to be seen.
    """
    seen = [p for p in points if p.current.value > 2 * p.current.standard and p.current.value > 0]
    if len({round(p.temperature_c, 1) for p in seen}) < 3:
        raise ValueError("Arrhenius' law needs darks at three temperatures at which dark current can be seen")
    common = gain.standard / gain.value
    kelvin = np.array([p.temperature_c for p in seen]) + KELVIN
    logs = np.log([p.current.value for p in seen])
    own = np.sqrt(np.maximum([(p.current.standard / p.current.value) ** 2 - common**2 for p in seen], 1e-8))
    at = float(1 / np.average(1 / kelvin, weights=1 / own**2))
    fit = weighted_fit(np.stack([np.ones_like(kelvin), 1 / at - 1 / kelvin], axis=1), logs, 1 / own**2)
    level, energy = (float(v) for v in fit.parameters)
    covariance = fit.inverse * max(1.0, fit.variance)
    covariance[0, 0] += common**2
    if energy <= 0:
        raise ValueError("the dark current does not rise with temperature: look at the darks' temperatures")
    return DarkModel(at - KELVIN, level, energy, covariance, tuple(points))


@dataclass(frozen=True)
class DarkPicture:
    """Hot pixels as a share of all, and the map of dark signal by tile in e⁻/s, (down, across)."""

    hot_share: Estimate
    glow_e_s: Floats

    @property
    def glow(self) -> Estimate:
        """What the brightest place has above the typical one, in e⁻/s/px: means of 3 × 3 tiles, so noise is no glow."""
        smooth = _smoothed_tiles(self.glow_e_s)
        middle = float(np.median(self.glow_e_s))
        return Estimate(max(0.0, float(np.max(smooth)) - middle), mad_scatter(self.glow_e_s) / 3)

    @property
    def glow_times(self) -> float:
        """How many times the typical signal the brightest tile has."""
        middle = float(np.median(self.glow_e_s))
        return float(np.max(self.glow_e_s)) / middle if middle > 0 else math.inf


def _smoothed_tiles(values: Any) -> Any:
    """Return the mean of each tile with its neighbours, (down, across)."""
    padded = np.pad(values, 1, mode="edge")
    down, across = values.shape
    return np.mean([padded[i : i + down, j : j + across] for i in range(3) for j in range(3)], axis=0)


def dark_picture(
    path: Path, stats: TileStats, bias: BiasLevel, gain_e_adu: float, exposure_s: float,
    watch: Callable[[], None] = lambda: None,
) -> DarkPicture:  # fmt: skip
    """Return hot pixels and glow of one dark: a pixel is hot above its tile by both a factor and the noise.

    Parameters
    ----------
    path, stats
        A dark, and its statistics by tile in ADU.
    bias, gain_e_adu, exposure_s
        The bias level in ADU, the conversion gain in e⁻/ADU, the exposure in s.
    watch
        Called again and again; may raise to end the work.

    Returns
    -------
    DarkPicture
        The share of hot pixels, and the dark signal by tile in e⁻/s/px.
    """
    signals = stats.mean - bias.tiles
    typical = max(float(np.median(signals)), 0.0)
    noise = math.sqrt(bias.variance_adu2 + typical / gain_e_adu)
    above = max((HOT_TIMES - 1) * typical, HOT_SIGMA * noise)
    hot = total = 0
    with open_frame(path) as frame:
        tile = tile_size(frame.width, frame.height)
        across = frame.width // tile
        for start, end in frame.strips(tile):
            watch()
            limit = np.ceil(stats.mean[start // tile : end // tile] + above).astype(np.int32)
            limit = np.repeat(np.repeat(limit, tile, axis=0), tile, axis=1)
            codes = frame.rows(start, end)[:, : across * tile]
            hot += int(np.count_nonzero(codes > limit))
            total += codes.size
    share = hot / total
    return DarkPicture(Estimate(share, math.sqrt(max(hot, 1)) / total), signals * gain_e_adu / exposure_s)


def setpoint_current(read_noise_e: float, longest_s: float) -> float:
    """Return the dark current in e⁻/s/px that adds a tenth of the read noise's square in the longest exposure.

    Parameters
    ----------
    read_noise_e, longest_s
        The read noise in e⁻ and the longest exposure in s.

    Returns
    -------
    float
        The current in e⁻/s/px: ``0.1 σ_r² / t``.
    """
    return SETPOINT_SHARE * read_noise_e**2 / longest_s

"""What the bench measured: levels, transfers, dark current and sky of a folder of frames."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from wyntaxis.core.evidence.headers.headers import UnusedFile
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.evidence.sensor.dark import DarkModel, DarkPicture, DarkPoint
from wyntaxis.core.evidence.sensor.offset import BiasHistogram, OffsetLine
from wyntaxis.core.evidence.sensor.sorting import Sorted
from wyntaxis.core.evidence.sensor.transfer import BiasLevel, Transfer

Setting = tuple[float | None, float | None]
"""A gain and an offset."""


@dataclass(frozen=True)
class BiasResult:
    """Bias at one setting: level, noise, histogram."""

    gain: float | None
    offset: float | None
    level: BiasLevel
    histogram: BiasHistogram


@dataclass(frozen=True)
class GainResult:
    """The photon transfer at one gain setting; ``plane`` names the colour plane, empty for a sensor without colours."""

    gain: float | None
    offset: float | None
    plane: str
    transfer: Transfer


@dataclass(frozen=True)
class FlatLevel:
    """How bright a set of flats is, in % of saturation, how dark its corners are, and where its middle lies.

    ``level_of`` says of what: of the saturation measured, or of the converter's end where no flat reached it.
    """

    filter: str
    gain: float | None
    exposure_s: float
    level_percent: float
    corner_percent: float
    centre_off_percent: float
    frames: int
    level_of: str = "saturation"


@dataclass(frozen=True)
class SkyLevel:
    """The sky through one filter, in e⁻/s/px, from light frames less bias and dark current."""

    filter: str
    sky: Estimate


@dataclass(frozen=True)
class BenchResult:
    """Everything that a folder gave; what could not be said is in ``notes``, one line each."""

    folder: str
    sorted: Sorted
    biases: tuple[BiasResult, ...]
    gains: tuple[GainResult, ...]
    offsets: Mapping[float | None, OffsetLine]
    unity: Estimate | None
    model: DarkModel | None
    dark_points: tuple[DarkPoint, ...]
    dark_gain: float | None
    picture: DarkPicture | None
    flats: tuple[FlatLevel, ...]
    skies: tuple[SkyLevel, ...]
    step: int
    rejected: tuple[UnusedFile, ...]
    notes: tuple[str, ...]

    def gain_at(self, setting: float | None) -> GainResult | None:
        """Return the result at a gain setting: of the whole sensor, else of its first plane; the only one for None."""
        own = [gain for gain in self.gains if setting is None or gain.gain is None or gain.gain == setting]
        return next((entry for entry in own if not entry.plane), own[0] if own else None)

    def bias_at(self, setting: Setting) -> BiasResult | None:
        """Return the bias at a gain and offset, or at the gain alone."""
        gain, offset = setting
        alike = [bias for bias in self.biases if gain is None or bias.gain is None or bias.gain == gain]
        return next((entry for entry in alike if entry.offset == offset), alike[0] if alike else None)

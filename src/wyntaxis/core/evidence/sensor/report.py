"""How a bench is told: the photon transfer by gain, bias, dark current, flats and sky."""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.evidence.reporting import Column, Report, Table, fact, text
from wyntaxis.core.evidence.sensor.bench_result import BenchResult, BiasResult, FlatLevel, GainResult, SkyLevel
from wyntaxis.core.evidence.sensor.dark import DarkPoint
from wyntaxis.core.evidence.sensor.exposure import judge_flat_level
from wyntaxis.core.evidence.sensor.kind import SensorBench
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.wording import counted, number, plus_minus, sentence, short

UNRESOLVED = "the noise in dark is under half a step of the converter: which gives only an upper bound (EMVA 1288 R4)"
NOT_RECORDED = "not recorded"


def _pm(estimate: Estimate, digits: int) -> str:
    return plus_minus(estimate.value, estimate.standard, digits)


def _setting(value: float | None) -> str:
    return NOT_RECORDED if value is None else short(value)


def read_noise_text(gain: GainResult) -> str:
    """Return a read noise in e⁻ with its uncertainty, or the bound under which it lies."""
    transfer = gain.transfer
    if transfer.read_noise is not None:
        return _pm(transfer.read_noise, 3)
    return f"under {number(transfer.read_noise_below_e or 0.0, 3)}"


def _points(gain: GainResult) -> list[JsonObject]:
    return [
        {"signal_adu": point.signal_adu, "variance_adu2": point.variance_adu2, "rejected": point.rejected or None}
        for point in gain.transfer.points
    ]


Gain = Column[GainResult]
GAINS = Table[SensorBench, GainResult](
    "gains",
    "Photon transfer by gain",
    lambda bench: bench.result.gains,
    (
        text("gain", lambda gain: _setting(gain.gain)),
        text("plane", lambda gain: gain.plane or "all"),
        Gain("conversion", "e⁻/ADU", 4, lambda gain: gain.transfer.conversion_gain, "conversion_gain_e_adu"),
        Gain("read noise", "e⁻", 3, read_noise_text),
        Gain("full well", "e⁻", 0, lambda gain: gain.transfer.full_well or "not reached"),
        Gain("dynamic range", "stops", 2, lambda gain: gain.transfer.dynamic_range, "dynamic_range_stops"),
        Gain("linearity error", "%", 3, lambda gain: gain.transfer.linearity_percent, "linearity_percent"),
        fact("gain", lambda gain: gain.gain),
        fact("offset", lambda gain: gain.offset),
        fact("plane", lambda gain: gain.plane or None),
        fact("read_noise_e", lambda gain: gain.transfer.read_noise),
        fact("read_noise_below_e", lambda gain: gain.transfer.read_noise_below_e),
        fact("why", lambda gain: None if gain.transfer.read_noise is not None else UNRESOLVED),
        fact("full_well_e", lambda gain: gain.transfer.full_well),
        fact("saturation_adu", lambda gain: gain.transfer.saturation_adu),
        fact("points", _points),
    ),
)
Bias = Column[BiasResult]
BIASES = Table[SensorBench, BiasResult](
    "bias",
    "Bias",
    lambda bench: bench.result.biases,
    (
        text("gain", lambda bias: _setting(bias.gain)),
        text("offset", lambda bias: _setting(bias.offset)),
        Bias("mean", "ADU", 2, lambda bias: bias.level.mean_adu, "mean_adu"),
        Bias("noise", "ADU", 3, lambda bias: bias.level.noise_adu, "noise_adu"),
        Bias("lowest code", "", 0, lambda bias: bias.histogram.lowest, "lowest_code"),
        Bias("at the end", "%", 3, lambda bias: bias.histogram.piled_share, "pile_up_share", factor=100),
        fact("gain", lambda bias: bias.gain),
        fact("offset", lambda bias: bias.offset),
    ),
)
Dark = Column[DarkPoint]
DARKS = Table[SensorBench, DarkPoint](
    "dark",
    "Dark current",
    lambda bench: bench.result.dark_points,
    (
        Dark("temperature", "°C", 1, lambda point: point.temperature_c, "temperature_c"),
        Dark("exposure", "s", 1, lambda point: point.exposure_s, "exposure_s"),
        Dark("frames", "", 0, lambda point: point.frames, "frames"),
        Dark("dark current", "e⁻/s/px", 5, lambda point: point.current, "current_e_s"),
    ),
)
Flat = Column[FlatLevel]
FLATS = Table[SensorBench, FlatLevel](
    "flats",
    "Flats",
    lambda bench: bench.result.flats,
    (
        text("flats", lambda flat: flat.filter, "filter"),
        Flat("gain", "", 0, lambda flat: None if flat.gain is None else short(flat.gain)),
        Flat("exposure", "s", 0, lambda flat: short(flat.exposure_s, 3)),
        Flat("level", "% of full", 1, lambda flat: flat.level_percent, "level_percent"),
        Flat("corners", "% of middle", 1, lambda flat: flat.corner_percent, "corner_percent"),
        Flat("centre off", "% of diagonal", 1, lambda flat: flat.centre_off_percent, "centre_off_percent"),
        Flat("frames", "", 0, lambda flat: flat.frames, "frames"),
        fact("gain", lambda flat: flat.gain),
        fact("exposure_s", lambda flat: flat.exposure_s),
        fact("level_of", lambda flat: flat.level_of),
    ),
    lambda flat: judge_flat_level(flat.level_percent),
)
Sky = Column[SkyLevel]
SKIES = Table[SensorBench, SkyLevel](
    "sky",
    "Sky by filter",
    lambda bench: bench.result.skies,
    (text("filter", lambda sky: sky.filter, "filter"), Sky("sky", "e⁻/s/px", 3, lambda sky: sky.sky, "sky_e_s")),
)


def bench_facts(result: BenchResult) -> JsonObject:
    """Return what JSON holds besides the tables."""
    model, picture = result.model, result.picture
    law = None
    if model is not None:
        law = {
            "at_c": model.at_c,
            "current_e_s": model.current(model.at_c),
            "energy_ev": model.energy_ev,
            "doubling_c": model.doubling(model.at_c),
        }
    return {
        "folder": result.folder,
        "size_px": result.sorted.size,
        "mosaic": result.sorted.mosaic,
        "code_step": result.step,
        "offsets": [
            {"gain": gain, "adu_per_unit": line.adu_per_unit, "least_offset": line.least_offset}
            for gain, line in result.offsets.items()
        ],
        "unity_gain": result.unity,
        "dark_law": law,
        "glow_e_s": None if picture is None else picture.glow,
        "hot_share": None if picture is None else picture.hot_share,
    }


def summary_lines(bench: SensorBench) -> Iterator[str]:
    """Yield what frames tell besides the tables, a line each."""
    result = bench.result
    if result.step > 1:
        bits = 16 - (result.step.bit_length() - 1)
        yield f"codes come in steps of {result.step}: data of {bits} bits, multiplied"
    if result.unity is not None:
        yield f"unity gain at {_pm(result.unity, 1)}"
    for gain, line in result.offsets.items():
        yield (
            f"at gain {_setting(gain)} an offset of {short(line.least_offset)} suffices "
            f"({number(line.adu_per_unit, 2)} ADU a unit)"
        )


MOST_GAINS = 3
"""How many gains are told in the answer."""


def _answer(bench: SensorBench) -> str:
    gains = [gain for gain in bench.result.gains if gain.transfer.conversion_gain is not None]
    noises = [f"{read_noise_text(gain)} e⁻ at gain {_setting(gain.gain)}" for gain in gains]
    more = f" and {counted(len(noises) - MOST_GAINS, 'further gain')}" if len(noises) > MOST_GAINS else ""
    parts = [f"read noise {', '.join(noises[:MOST_GAINS])}{more}"] if noises else []
    model = bench.result.model
    if model is not None:
        current = model.current(model.at_c)
        parts.append(f"dark current {_pm(current, 5)} e⁻/s at {number(model.at_c, 1)} °C")
    return sentence("; ".join(parts))


REPORT = Report[SensorBench](
    (GAINS, BIASES, DARKS, FLATS, SKIES),
    not_used=lambda bench: bench.result.rejected,
    answer=_answer,
    facts=lambda bench: bench_facts(bench.result),
    lines=summary_lines,
    uncertainty="standard_uncertainty",
)
"""How a bench is told."""

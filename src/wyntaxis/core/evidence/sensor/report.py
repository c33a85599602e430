"""Bench results as plain values and rows of texts, for JSON and tables."""

from __future__ import annotations

from collections.abc import Sequence

from wyntaxis.core.evidence.cooling.cooler import CoolerModel, RunFigures
from wyntaxis.core.evidence.sensor.bench_result import BenchResult
from wyntaxis.core.evidence.sensor.transfer import Estimate, Transfer
from wyntaxis.core.wording import number, plus_minus

UNRESOLVED = "the noise in dark is under half a step of the converter: only an upper bound can be told (EMVA 1288 R4)"


def read_noise_text(transfer: Transfer, digits: int) -> str:
    """Return a read noise with its uncertainty, or the bound under which it lies."""
    if transfer.read_noise is not None:
        return plus_minus(transfer.read_noise.value, transfer.read_noise.standard, digits)
    return f"under {number(transfer.read_noise_below_e or 0.0, digits)}"


def _estimate(estimate: Estimate | None) -> dict[str, float] | None:
    return None if estimate is None else {"value": estimate.value, "standard_uncertainty": estimate.standard}


def bench_json(result: BenchResult) -> dict[str, object]:
    """Return a bench as ``wyntaxis sensor --json`` prints it."""
    return {
        "folder": result.folder,
        "size_px": list(result.sorted.size),
        "mosaic": result.sorted.mosaic,
        "code_step": result.step,
        "gains": [
            {
                "gain": one.gain,
                "offset": one.offset,
                "plane": one.plane or None,
                "conversion_gain_e_adu": _estimate(one.transfer.conversion_gain),
                "read_noise_e": _estimate(one.transfer.read_noise),
                "read_noise_below_e": one.transfer.read_noise_below_e,
                "why": None if one.transfer.read_noise is not None else UNRESOLVED,
                "full_well_e": _estimate(one.transfer.full_well),
                "dynamic_range_stops": _estimate(one.transfer.dynamic_range),
                "linearity_percent": _estimate(one.transfer.linearity_percent),
                "saturation_adu": one.transfer.saturation_adu,
                "points": [
                    {"signal_adu": p.signal_adu, "variance_adu2": p.variance_adu2, "rejected": p.rejected or None}
                    for p in one.transfer.points
                ],
            }
            for one in result.gains
        ],
        "bias": [
            {
                "gain": one.gain,
                "offset": one.offset,
                "mean_adu": one.level.mean_adu,
                "noise_adu": _estimate(one.level.noise_adu),
                "lowest_code": one.histogram.lowest,
                "pile_up_share": one.histogram.piled_share,
            }
            for one in result.biases
        ],
        "offsets": [
            {"gain": gain, "adu_per_unit": line.adu_per_unit, "least_offset": line.least_offset}
            for gain, line in result.offsets.items()
        ],
        "unity_gain": _estimate(result.unity),
        "dark": [
            {
                "temperature_c": p.temperature_c,
                "exposure_s": p.exposure_s,
                "frames": p.frames,
                "current_e_s": _estimate(p.current),
            }
            for p in result.dark_points
        ],
        "dark_law": None
        if result.law is None
        else {
            "at_c": result.law.at_c,
            "current_e_s": _estimate(result.law.current(result.law.at_c)),
            "energy_ev": _estimate(result.law.energy_ev),
            "doubling_c": _estimate(result.law.doubling(result.law.at_c)),
        },
        "glow_e_s": None if result.picture is None else _estimate(result.picture.glow),
        "hot_share": None if result.picture is None else _estimate(result.picture.hot_share),
        "flats": [
            {
                "filter": f.filter,
                "gain": f.gain,
                "exposure_s": f.exposure_s,
                "level_percent": f.level_percent,
                "level_of": f.level_of,
                "corner_percent": f.corner_percent,
                "centre_off_percent": f.centre_off_percent,
                "frames": f.frames,
            }
            for f in result.flats
        ],
        "sky": [{"filter": s.filter, "sky_e_s": _estimate(s.sky)} for s in result.skies],
        "not_used": [{"file": m.path, "why": m.why} for m in result.misfits],
        "notes": list(result.notes),
    }


def cooling_json(runs: Sequence[RunFigures], model: CoolerModel | None, notes: Sequence[str]) -> dict[str, object]:
    """Return cooling runs as ``wyntaxis cooling --json`` prints them."""
    return {
        "runs": [
            {
                "name": run.name,
                "target_c": run.target_c,
                "start_c": run.start_c,
                "to_target_min": run.to_target_min,
                "mean_rate_c_min": run.mean_rate_c_min,
                "steepest_c_min": run.steepest_c_min,
                "overshoot_c": run.overshoot_c,
                "settled_min": run.settled_min,
                "scatter_c": _estimate(run.scatter_c),
                "rest_power": run.rest_power,
                "ambient_c": run.ambient_c,
            }
            for run in runs
        ],
        "model": None
        if model is None
        else {
            "tau_min": _estimate(model.tau),
            "pull_c_min": _estimate(model.pull),
            "depth_c": _estimate(model.depth),
            "residual_c": model.residual_c,
        },
        "notes": list(notes),
    }


RUN_HEADINGS = (
    "run",
    "target °C",
    "to target min",
    "mean °C/min",
    "steepest °C/min",
    "overshoot °C",
    "settled min",
    "scatter °C",
    "power at rest %",
    "ambient °C",
)


def run_row(run: RunFigures) -> list[str]:
    """Return one run as the cells under :data:`RUN_HEADINGS`."""

    def maybe(value: float | None, digits: int) -> str:
        return "–" if value is None else number(value, digits)

    return [
        run.name,
        number(run.target_c, 1),
        maybe(run.to_target_min, 1),
        maybe(run.mean_rate_c_min, 2),
        "–" if run.steepest_c_min is None else number(run.steepest_c_min, 2),
        maybe(run.overshoot_c, 2),
        maybe(run.settled_min, 1),
        "–" if run.scatter_c is None else number(run.scatter_c.value, 3),
        maybe(None if run.rest_power is None else 100 * run.rest_power, 0),
        number(run.ambient_c, 1),
    ]

"""Bench results as plain values and rows of texts, for JSON and tables."""

from __future__ import annotations

from wyntaxis.core.evidence.measured import estimate_json
from wyntaxis.core.evidence.sensor.bench_result import BenchResult
from wyntaxis.core.evidence.sensor.transfer import Transfer
from wyntaxis.core.wording import number, plus_minus

UNRESOLVED = "the noise in dark is under half a step of the converter: which gives only an upper bound (EMVA 1288 R4)"


def read_noise_text(transfer: Transfer, digits: int) -> str:
    """Return a read noise with its uncertainty, or the bound under which it lies.

    Parameters
    ----------
    transfer
        A photon transfer.
    digits
        Decimals shown.

    Returns
    -------
    str
        In e⁻.
    """
    if transfer.read_noise is not None:
        return plus_minus(transfer.read_noise.value, transfer.read_noise.standard, digits)
    return f"under {number(transfer.read_noise_below_e or 0.0, digits)}"


def bench_json(result: BenchResult) -> dict[str, object]:
    """Return a bench as ``wyntaxis sensor --json`` prints it.

    Parameters
    ----------
    result
        What the bench gave.

    Returns
    -------
    dict[str, object]
        Plain values, units in the keys.
    """
    return {
        "folder": result.folder,
        "size_px": list(result.sorted.size),
        "mosaic": result.sorted.mosaic,
        "code_step": result.step,
        "gains": [
            {
                "gain": entry.gain,
                "offset": entry.offset,
                "plane": entry.plane or None,
                "conversion_gain_e_adu": estimate_json(entry.transfer.conversion_gain),
                "read_noise_e": estimate_json(entry.transfer.read_noise),
                "read_noise_below_e": entry.transfer.read_noise_below_e,
                "why": None if entry.transfer.read_noise is not None else UNRESOLVED,
                "full_well_e": estimate_json(entry.transfer.full_well),
                "dynamic_range_stops": estimate_json(entry.transfer.dynamic_range),
                "linearity_percent": estimate_json(entry.transfer.linearity_percent),
                "saturation_adu": entry.transfer.saturation_adu,
                "points": [
                    {"signal_adu": p.signal_adu, "variance_adu2": p.variance_adu2, "rejected": p.rejected or None}
                    for p in entry.transfer.points
                ],
            }
            for entry in result.gains
        ],
        "bias": [
            {
                "gain": bias.gain,
                "offset": bias.offset,
                "mean_adu": bias.level.mean_adu,
                "noise_adu": estimate_json(bias.level.noise_adu),
                "lowest_code": bias.histogram.lowest,
                "pile_up_share": bias.histogram.piled_share,
            }
            for bias in result.biases
        ],
        "offsets": [
            {"gain": gain, "adu_per_unit": line.adu_per_unit, "least_offset": line.least_offset}
            for gain, line in result.offsets.items()
        ],
        "unity_gain": estimate_json(result.unity),
        "dark": [
            {
                "temperature_c": p.temperature_c,
                "exposure_s": p.exposure_s,
                "frames": p.frames,
                "current_e_s": estimate_json(p.current),
            }
            for p in result.dark_points
        ],
        "dark_law": None
        if result.model is None
        else {
            "at_c": result.model.at_c,
            "current_e_s": estimate_json(result.model.current(result.model.at_c)),
            "energy_ev": estimate_json(result.model.energy_ev),
            "doubling_c": estimate_json(result.model.doubling(result.model.at_c)),
        },
        "glow_e_s": None if result.picture is None else estimate_json(result.picture.glow),
        "hot_share": None if result.picture is None else estimate_json(result.picture.hot_share),
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
        "sky": [{"filter": s.filter, "sky_e_s": estimate_json(s.sky)} for s in result.skies],
        "not_used": [{"file": m.path, "why": m.why} for m in result.rejected],
        "notes": list(result.notes),
    }

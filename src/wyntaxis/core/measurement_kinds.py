"""The kinds of measurement that the application knows: what each needs, its minutes, and the edit that ends it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Literal

from wyntaxis.core.evaluation import Evaluation
from wyntaxis.core.evidence.measured import Estimate, device_index
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.quantity_kinds import DEPTH_OF_FOCUS_DIFFRACTION, DEPTH_OF_FOCUS_SEEING, STAR_FWHM
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.device_settings import SETTINGS
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.steps import (
    COOLING,
    FIELD,
    FILTERS,
    GUIDE_LOG,
    LIGHT_PATH,
    PORTS,
    RECORDS,
    SCALES,
    SENSOR,
    STARS,
    TRAVEL,
    Step,
)

Need = Literal["bench", "daylight", "twilight", "stars"]
SCALE_SHARE = 5e-4
ALUMINIUM_PPM, USUAL_STOP_ERROR_UM = 23.0, 2.0
DATE = "2000-01-01T00:00:00Z"
"""A trial's own date: nothing of it is kept."""


@dataclass(frozen=True)
class MeasurementKind:
    """One kind of measurement: what it needs, how many minutes it takes, at which step it is done, and what it tells.

    ``usual`` says at what uncertainty it usually tells it, in words. ``trial`` is the edit that it would end with, were
    the numbers as they are expected; None for a rig that has nothing to measure so.
    """

    key: str
    title: str
    needs: Need
    minutes: float
    step: Step
    usual: str
    trial: Callable[[Evaluation], Change | None]


# What each kind would write


def _value_document(estimate: Estimate, method: str) -> JsonObject:
    return {
        "value": estimate.value,
        "standard_uncertainty": estimate.standard,
        "source": "trial",
        "evidence": {"method": method, "date": DATE},
    }


def _measured(evaluation: Evaluation, method: str, expected: Mapping[str, Estimate | None]) -> Change | None:
    """Return an edit that writes measured values of the rig's own quantities."""
    values: list[tuple[DocumentPath, Any]] = [
        (("measured", key), _value_document(estimate, method))
        for key, estimate in expected.items()
        if estimate is not None
    ]
    return Change("Trial", tuple(values)) if values else None


def _best(evaluation: Evaluation, key: str, share: float, least: float = 0.0) -> Estimate | None:
    """Return a number as it is expected: measured, computed or stated, with a usual uncertainty."""
    row = evaluation.rows.get(key)
    if row is None or row.best is None:
        return None
    return Estimate(row.best.value, max(share * abs(row.best.value), least))


def _device_values(
    evaluation: Evaluation,
    kind: str,
    method: str,
    shares: Mapping[str, tuple[float, float]],
    expected: Mapping[str, float | None] | None = None,
) -> Change | None:
    """Return an edit that writes measured values of a device's settings: by key the share and the least uncertainty.

    What the rig does not say of a setting, and what is not ``expected`` of any of its kind, is not promised: how it
    would come out, nobody knows.
    """
    index = device_index(evaluation.rig, kind)
    if index is None:
        return None
    device: Device = evaluation.rig.devices[index]
    values: dict[str, Estimate] = {}
    for key, (share, least) in shares.items():
        value = device.best(key)
        if value is None and expected is not None:
            value = expected.get(key)
        if value is not None and key in SETTINGS and device.kind in SETTINGS[key].kinds:
            values[key] = Estimate(value, max(share * abs(value), least))
    if not values:
        return None
    changes = [
        (("devices", index, "settings", key, "measured"), _value_document(value, method))
        for key, value in values.items()
    ]
    return Change("Trial", tuple(changes))


def _solved_frame(evaluation: Evaluation) -> Change | None:
    return _measured(
        evaluation,
        "typed",
        {"pixel_scale_arcsec_px": _best(evaluation, "pixel_scale_arcsec_px", SCALE_SHARE)},
    )


def _focus_runs(evaluation: Evaluation) -> Change | None:
    return _device_values(
        evaluation,
        "focuser",
        "focus_run",
        {"position": (0.0, 3.0), "backlash_steps": (0.0, 3.0), "step_um": (0.02, 0.0)},
    )


def _focus_night(evaluation: Evaluation) -> Change | None:
    rig, wheel = evaluation.rig, device_index(evaluation.rig, "filter_wheel")
    base = _device_values(
        evaluation,
        "focuser",
        "focus_run",
        {"temperature_slope_steps_c": (0.1, 0.0), "run_scatter_steps": (0.2, 0.0)},
        {"temperature_slope_steps_c": _usual_slope(evaluation)},
    )
    values = list(base.values) if base is not None else []
    for place, slot in enumerate(rig.devices[wheel].slots) if wheel is not None else ():
        known = slot.focus_offset_measured.value if slot.focus_offset_measured is not None else slot.focus_offset_steps
        if slot.name.strip() and known is not None:
            found = _value_document(Estimate(known, 2.0), "focus_run")
            values.append((("devices", wheel, "slots", place, "focus_offset_measured"), found))  # type: ignore[arg-type]
    return Change("Trial", tuple(values)) if values else None


def _usual_slope(evaluation: Evaluation) -> float | None:
    """Return by how many steps a tube of aluminium moves focus for each °C."""
    index = device_index(evaluation.rig, "focuser")
    step = evaluation.rig.devices[index].best("step_um") if index is not None else None
    return None if not step else ALUMINIUM_PPM * evaluation.rig.telescope.focal_length_mm / 1000 / step


def _sweep(evaluation: Evaluation) -> Change | None:
    if evaluation.rig.sensor is None or device_index(evaluation.rig, "focuser") is None:
        return None
    depth = evaluation.quantity(DEPTH_OF_FOCUS_SEEING).best or evaluation.quantity(DEPTH_OF_FOCUS_DIFFRACTION).best
    if depth is None:
        return None
    return _measured(
        evaluation,
        "field_sweep",
        {
            "field_tilt_um": Estimate(depth.value / 8, depth.value / 40),
            "field_curvature_um": Estimate(0.0, depth.value / 40),
        },
    )


def _flat_spacing(evaluation: Evaluation) -> Change | None:
    if evaluation.back_focus is None:
        return None
    return _measured(
        evaluation, "field_sweep", {"back_focus_required_mm": _best(evaluation, "back_focus_required_mm", 0.0, 0.1)}
    )


def _star_frames(evaluation: Evaluation) -> Change | None:
    if evaluation.rig.sensor is None:
        return None
    return _measured(
        evaluation,
        "stars",
        {"star_fwhm_arcsec": _best(evaluation, "star_fwhm_arcsec", 0.03), "star_elongation": Estimate(1.08, 0.02)},
    )


def _guide_log(evaluation: Evaluation) -> Change | None:
    rig = evaluation.rig
    if rig.guiding.kind == "none" or evaluation.guide_optics is None:
        return None
    fwhm = evaluation.quantity(STAR_FWHM).computed
    rms = fwhm.value / 2.3548 / 3 if fwhm is not None else 0.4
    axis = Estimate(rms / 2**0.5, 0.03 * rms)
    allowed = rig.guiding.settings.settle_allowed_s if rig.guiding.settings is not None else None
    return _measured(
        evaluation,
        "guide_log",
        {
            "guide_rms_arcsec": Estimate(rms, 0.03 * rms),
            "guide_rms_ra_arcsec": axis,
            "guide_rms_dec_arcsec": axis,
            "guide_drift_ra_arcsec_min": Estimate(0.0, 0.005),
            "guide_drift_dec_arcsec_min": Estimate(0.0, 0.005),
            "guide_autocorrelation": Estimate(0.1, 0.03),
            "guide_lost_percent": Estimate(0.3, 0.1),
            "guide_settle_s": Estimate(allowed / 2, allowed / 10) if allowed is not None else None,
            "polar_drift_arcsec_min": Estimate(0.3, 0.01),
        },
    )


def _guide_calibration(evaluation: Evaluation) -> Change | None:
    if evaluation.rig.guiding.kind == "none":
        return None
    return _measured(
        evaluation, "guide_log", {"guide_scale_arcsec_px": _best(evaluation, "guide_scale_arcsec_px", 0.004)}
    )


_BENCH = {
    "conversion_gain_e_adu": (0.01, 0.0), "read_noise_e": (0.02, 0.0), "full_well_e": (0.02, 0.0),
    "dynamic_range_stops": (0.01, 0.0), "linearity_percent": (0.1, 0.0), "bias_mean_adu": (0.001, 0.0),
    "bias_noise_adu": (0.02, 0.0), "least_offset": (0.05, 0.0),
}  # fmt: skip
_DARKS = {"dark_current_e_s": (0.05, 0.0), "dark_doubling_c": (0.05, 0.0), "glow_e_s": (0.1, 0.0)}
_COOLER = {
    "cooler_power_w": (0.05, 0.0), "cooling_reach_c": (0.0, 0.5), "cooler_tau_min": (0.05, 0.0),
    "cooler_pull_c_min": (0.05, 0.0), "rest_power_percent": (0.03, 0.0), "scatter_c": (0.1, 0.0),
}  # fmt: skip


def _bench(evaluation: Evaluation) -> Change | None:
    return _device_values(evaluation, "camera", "bench", _BENCH)


def _darks(evaluation: Evaluation) -> Change | None:
    return _device_values(evaluation, "camera", "bench", _DARKS)


def _cooling(evaluation: Evaluation) -> Change | None:
    return _device_values(evaluation, "camera", "cooling_run", _COOLER)


def _flats(evaluation: Evaluation) -> Change | None:
    return _device_values(
        evaluation, "filter_wheel", "flats", {"stop_error_um": (0.1, 0.3)}, {"stop_error_um": USUAL_STOP_ERROR_UM}
    )


def _no_trial(_evaluation: Evaluation) -> Change | None:
    return None


SOLVED = MeasurementKind("solved_frame", "One solved frame", "stars", 5, SCALES, "0.05 %", _solved_frame)
FOCUS_RUN = MeasurementKind(
    "focus_run", "Focus runs, out and in", "stars", 12, TRAVEL, "3 steps; 2 % of the step", _focus_runs
)
CALLIPERS = MeasurementKind("callipers", "Callipers", "bench", 3, LIGHT_PATH, "0.02 mm", _no_trial)
PORTS_READ = MeasurementKind("ports", "Ports read, all plugged in", "bench", 4, PORTS, "exact", _no_trial)
PROGRAM = MeasurementKind("program_file", "A program's file", "bench", 4, RECORDS, "exact", _no_trial)
KINDS: tuple[MeasurementKind, ...] = (
    SOLVED,
    FOCUS_RUN,
    MeasurementKind("focus_night", "Focus runs of a whole night", "stars", 50, TRAVEL, "10 %; 2 steps", _focus_night),
    MeasurementKind("sweep", "A sweep over the field", "stars", 15, FIELD, "a fortieth of the depth of focus", _sweep),
    MeasurementKind("spacing_sweeps", "Sweeps at two spacings", "stars", 45, FIELD, "0.1 mm", _flat_spacing),
    MeasurementKind("star_frames", "A dozen frames of stars", "stars", 10, STARS, "3 %", _star_frames),
    MeasurementKind(
        "guide_log", "Half an hour guided", "stars", 35, GUIDE_LOG, "3 % of the RMS; 0.005 ″/min", _guide_log
    ),
    MeasurementKind("guide_calibration", "A guide calibration", "stars", 5, GUIDE_LOG, "0.4 %", _guide_calibration),
    MeasurementKind("bench_frames", "Bench frames: bias and flats", "bench", 30, SENSOR, "1 to 2 %", _bench),
    MeasurementKind("darks", "Bench frames: darks", "bench", 60, SENSOR, "5 %", _darks),
    MeasurementKind("cooling_run", "A cooling run", "bench", 45, COOLING, "5 %; 0.5 °C", _cooling),
    MeasurementKind("flats", "Flats, the wheel turned between", "twilight", 20, FILTERS, "0.3 µm", _flats),
)  # fmt: skip
"""Every kind that ends with measured values; callipers, ports and programs' files are tried out in their own way."""

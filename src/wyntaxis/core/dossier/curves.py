"""What was measured, as plots: cooling, transfer, focus and surface; from the evidence at hand, else as it was kept."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np

from wyntaxis.core.dossier.charts import Chart, Series
from wyntaxis.core.dossier.focus_surface import focus_surface
from wyntaxis.core.evaluation import Evaluation
from wyntaxis.core.evidence.cooling.ramp import design_both, kept_model, ramp_words, usual_inputs
from wyntaxis.core.evidence.focus.kind import FOCUS
from wyntaxis.core.evidence.sensor.kind import SENSOR
from wyntaxis.core.quantity_kinds import DEPTH_OF_FOCUS_SEEING
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.wording import number, plus_minus, short

KEPT = "Drawn from the numbers that the rig keeps; the single points are not kept with it."
MOST_RUNS, MOST_GAINS = 4, 2


def charts_of(evaluation: Evaluation) -> Iterator[Chart]:
    """Yield the plots of a rig: of what was measured in this session with its points, else by its kept numbers.

    Parameters
    ----------
    evaluation
        Everything computed of the rig, with the evidence at hand.

    Yields
    ------
    Chart
        Those that have something to draw.
    """
    for make in (_cooling, _transfer, _focus, _surface):
        for chart in make(evaluation):
            if not chart.is_empty:
                yield chart


def _camera(evaluation: Evaluation) -> Device | None:
    return next((device for device in evaluation.rig.devices if device.kind == "camera"), None)


def _cooling(evaluation: Evaluation) -> Iterator[Chart]:
    rig = evaluation.rig
    model = kept_model(rig)
    if model is None:
        return
    try:
        down, up = design_both(model, rig, usual_inputs(rig, []))
    except ValueError:
        return
    minutes, late = [tuple(map(float, ramp.minutes)) for ramp in (down, up)]
    yield Chart(
        "Cooling schedule",
        "time, min",
        "sensor, °C",
        (
            Series("cooling down", minutes, tuple(map(float, down.sensor_c))),
            Series("warming up", late, tuple(map(float, up.sensor_c))),
        ),
        tuple(ramp_words(down, up)),
    )


def _transfer(evaluation: Evaluation) -> Iterator[Chart]:
    result = evaluation.evidence.of(SENSOR)
    found = [own for own in result.result.gains if own.transfer.points] if result is not None else []
    for own in found[:MOST_GAINS]:
        transfer = own.transfer
        used = [point for point in transfer.points if not point.rejected]
        left = [point for point in transfer.points if point.rejected]
        line = np.linspace(0.0, max((point.signal_adu for point in used), default=1.0), 30)
        gain, factor = f"gain {short(own.gain)}" if own.gain is not None else "gain unknown", transfer.conversion_gain
        yield Chart(
            f"Transfer curve, {gain}",
            "signal above bias, ADU",
            "variance, ADU²",
            (
                _series("fit", line, transfer.variance_at(line)),
                _points("flat pairs", [(point.signal_adu, point.variance_adu2) for point in used]),
                _points("left out", [(point.signal_adu, point.variance_adu2) for point in left], hollow=True),
            ),
            (f"{plus_minus(factor.value, factor.standard, 4)} e⁻/ADU",),
        )
    if not found:
        yield from _kept_transfer(_camera(evaluation))


def _kept_transfer(camera: Device | None) -> Iterator[Chart]:
    """Yield the transfer curve that a camera's kept numbers make."""
    if camera is None:
        return
    gain, noise, well = (camera.best(key) for key in ("conversion_gain_e_adu", "read_noise_e", "full_well_e"))
    if gain and noise and well:
        signal = np.linspace(0.0, well / gain, 40)
        text = f"{number(gain, 4)} e⁻/ADU, read noise {number(noise, 2)} e⁻, full well {number(well, 0)} e⁻"
        curve = _series("", signal, (noise / gain) ** 2 + signal / gain)
        yield Chart("Transfer curve", "signal above bias, ADU", "variance, ADU²", (curve,), (text, KEPT))


def _focus(evaluation: Evaluation) -> Iterator[Chart]:
    result = evaluation.evidence.of(FOCUS)
    runs = list(zip(result.runs, result.curves, strict=True)) if result is not None else []
    drawn = 0
    for run, curve in runs:
        best, sharpest, slope = curve.best_position, curve.hfd_px, curve.slope_px_step
        if best is None or sharpest is None or slope is None or drawn == MOST_RUNS:
            continue
        drawn += 1
        seen = [(point.position, point.hfd_px, point.used) for point in curve.points if point.hfd_px is not None]
        places = np.linspace(min(own[0] for own in seen), max(own[0] for own in seen), 80)
        yield Chart(
            f"Focus curve, {run.name}",
            "counter, steps",
            "HFD, px",
            (
                _series("hyperbola", places, np.hypot(sharpest.value, slope.value * (places - best.value))),
                _points("frames", [(x, y) for x, y, used in seen if used]),
                _points("left out", [(x, y) for x, y, used in seen if not used], hollow=True),
            ),
            (f"best at {plus_minus(best.value, best.standard, 0)} steps, HFD {number(sharpest.value, 2)} px",),
        )


def _series(name: str, x: Any, y: Any) -> Series:
    return Series(name, tuple(map(float, x)), tuple(map(float, y)))


def _points(name: str, at: Sequence[tuple[float, float]], *, hollow: bool = False) -> Series:
    return Series(name, tuple(x for x, _ in at), tuple(y for _, y in at), points=True, hollow=hollow)


def _surface(evaluation: Evaluation) -> Iterator[Chart]:
    surface = focus_surface(evaluation)
    if surface is None:
        return
    shares = np.linspace(-1, 1, 41)
    depth = evaluation.value(DEPTH_OF_FOCUS_SEEING)
    text = f"tilt {number(surface.tilt_um, 1)} µm to the corner, curvature {number(surface.curvature_um, 1)} µm"
    yield Chart(
        "Surface of best focus, in the plane of its tilt",
        "from the middle, mm",
        "best focus, µm along the light",
        (_series("", shares * surface.half_mm, [surface.at_um(share) for share in shares]),),
        (text, *(("shaded: the depth of focus by seeing",) if depth else ())),
        level=0.0,
        bands=((-depth / 2, depth / 2),) if depth else (),
    )

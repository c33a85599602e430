"""Ramps for a rig: what is asked, filled in from the rig where nothing is typed; both ways designed; told in words."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from wyntaxis.core.evidence.cooling.cooler import CoolerModel, CoolingLog
from wyntaxis.core.evidence.measured import DEFAULT_SETPOINT_C, camera_index
from wyntaxis.core.limits import TOLERANCE_C
from wyntaxis.core.rig.devices import Device, Supply
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.wording import counted, number

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats

DEFAULT_AMBIENT_C = 20.0
DEFAULT_VOLTAGE_V = 12.0
DEFAULT_USABLE_SHARE = 0.8
MIN_STEP_C = 0.001
"""No cooler tells its temperature more finely."""
MIN_MINUTES, MAX_MINUTES = 0.1, 1440.0
"""A day: no ramp of a night is longer, and none is planned step by step beyond it."""


@dataclass(frozen=True)
class Ramp:
    """A staged ramp: steps of so many °C, each held for so many minutes; with the course that the model predicts."""

    step_c: float
    dwell_min: float
    stages: int
    minutes: Floats
    setpoint_c: Floats
    sensor_c: Floats
    power: Floats
    arrival_min: float | None
    energy_wh: float | None
    rest_power: float
    battery_h: float | None
    warmest_ambient_c: float
    limited: bool
    """Whether the cooler could not follow: at full power, or, on the way up, already off."""


@dataclass(frozen=True)
class Wanted:
    """What a ramp is to do: temperatures in °C, within so many minutes, in steps of about ``step_c``."""

    start_c: float
    target_c: float
    ambient_c: float
    minutes: float
    step_c: float = 1.0
    tolerance_c: float = TOLERANCE_C
    """How near the target counts as arrived."""


@dataclass(frozen=True)
class Supplied:
    """The cooler's draw at full power and that of the rest of the rig in W, and what may be drawn in Wh."""

    power_w: float | None = None
    battery_wh: float | None = None
    others_w: float = 0.0


def design_ramp(model: CoolerModel, wanted: Wanted, supplied: Supplied = Supplied()) -> Ramp:
    """Return a ramp that goes from start to target in the wanted minutes, down or up.

    Parameters
    ----------
    model
        The cooler's law.
    wanted
        Temperatures in °C and the time in min.
    supplied
        Power in W and energy in Wh.

    Returns
    -------
    Ramp
        Its stages, arrival in min, power as a share, energy in Wh.

    Raises
    ------
    ValueError
        For a step that is not above 0, next to no minutes, or more than a day has.
    """
    if wanted.minutes < MIN_MINUTES or wanted.step_c <= 0:
        raise ValueError(f"a ramp needs a step above 0, and at least {MIN_MINUTES:g} min")
    if wanted.step_c < MIN_STEP_C:
        raise ValueError(f"a ramp's step must be at least {MIN_STEP_C:g} °C, got {wanted.step_c:g} °C")
    if wanted.minutes > MAX_MINUTES or model.tau_min > MAX_MINUTES:
        raise ValueError(f"a ramp, and the cooler's time constant, may take {MAX_MINUTES:g} min at the most")
    stages = max(1, math.ceil(abs(wanted.target_c - wanted.start_c) / wanted.step_c - 1e-9))
    dwell = wanted.minutes / stages
    seconds = 5.0
    count = int((wanted.minutes * 1.5 + 6 * model.tau_min) * 60 / seconds) + 1
    time = np.arange(count) * seconds / 60
    done = np.minimum(np.floor(time / dwell) + 1, stages)
    asked = wanted.start_c + (wanted.target_c - wanted.start_c) * done / stages
    courses: list[tuple[float, float]] = []
    now, depth = wanted.start_c, model.depth.value
    decay = math.exp(-seconds / 60 / model.tau_min)
    for stage in asked.tolist():
        # What brings the sensor to the stage's temperature within one more time step, as a good control would.
        aim = (stage - now * decay) / (1 - decay)
        share = min(1.0, max(0.0, (wanted.ambient_c - aim) / depth))
        courses.append((now, share))
        goal = wanted.ambient_c - depth * share
        now = goal + (now - goal) * decay
    sensor, power = (np.array(column) for column in zip(*courses, strict=True))
    near = (np.abs(sensor - wanted.target_c) <= wanted.tolerance_c) & (done == stages)
    arrived = int(np.argmax(near)) if near.any() else None
    late = arrived is None or bool(time[arrived] > wanted.minutes + dwell)
    energy = None
    if supplied.power_w is not None and arrived is not None:
        energy = float(power[:arrived].sum()) * seconds / 3600 * supplied.power_w
    rest = model.rest_power(wanted.ambient_c, wanted.target_c).value
    drawn = max(rest, 0.0) * (supplied.power_w or 0.0) + supplied.others_w
    battery = (
        supplied.battery_wh / drawn
        if supplied.battery_wh is not None and supplied.power_w is not None and drawn > 0
        else None
    )
    return Ramp(
        abs(wanted.target_c - wanted.start_c) / stages,
        dwell,
        stages,
        time,
        asked,
        sensor,
        power,
        float(time[arrived]) if arrived is not None else None,
        energy,
        rest,
        battery,
        model.warmest_ambient(wanted.target_c),
        late,
    )


@dataclass(frozen=True)
class RampInputs:
    """What a ramp is designed for: °C, minutes, W."""

    ambient_c: float
    target_c: float
    minutes_down: float = 20.0
    minutes_up: float = 15.0
    step_c: float = 2.0
    others_w: float = 0.0


def _camera(rig: Rig) -> Device | None:
    index = camera_index(rig)
    return rig.devices[index] if index is not None else None


def _supply(rig: Rig) -> Supply | None:
    """Return what feeds the camera."""
    camera = _camera(rig)
    power = camera.power if camera is not None else None
    return next((s for s in rig.supplies if power is not None and s.id == power.supply), None)


def usual_inputs(rig: Rig, logs: list[CoolingLog]) -> RampInputs:
    """Return what rig and runs suggest: the warmest night planned, the set temperature, the rest of the load.

    Parameters
    ----------
    rig
        The rig with its plan and camera.
    logs
        Runs read so far; the last one's ambient stands where the plan has none.

    Returns
    -------
    RampInputs
        Temperatures in °C, time in min, power in W, energy in Wh.
    """
    planned = rig.plan.ambient_c if rig.plan is not None else None
    ambient = planned if planned is not None else logs[-1].ambient if logs else DEFAULT_AMBIENT_C
    camera, supply = _camera(rig), _supply(rig)
    target = camera.number("set_temperature_c") if camera is not None else None
    others = 0.0
    if supply is not None and camera is not None:
        drawn = [
            device.power.current_a or 0.0
            for device in rig.devices
            if device.id != camera.id and device.power is not None and device.power.supply == supply.id
        ]
        others = sum(drawn) * (supply.voltage_v or DEFAULT_VOLTAGE_V)
    return RampInputs(ambient, DEFAULT_SETPOINT_C if target is None else target, others_w=others)


def kept_model(rig: Rig) -> CoolerModel | None:
    """Return the cooler's model that the rig has kept or states; None where it has none.

    Parameters
    ----------
    rig
        The rig with its camera.

    Returns
    -------
    CoolerModel or None
        As measured, else as stated.
    """
    camera = _camera(rig)
    tau = camera.best("cooler_tau_min") if camera is not None else None
    pull = camera.best("cooler_pull_c_min") if camera is not None else None
    return CoolerModel(tau, pull, np.zeros((2, 2)), 0.0) if tau is not None and pull is not None else None


def design_both(model: CoolerModel, rig: Rig, asked: RampInputs) -> tuple[Ramp, Ramp]:
    """Return the ramp down and the warm-up; ValueError of one line for inputs that cannot be.

    Parameters
    ----------
    model, rig
        The cooler's law, and the rig that it belongs to.
    asked
        Temperatures in °C, times in min, power in W, energy in Wh.

    Returns
    -------
    tuple of Ramp
        Down and up; see :func:`design_ramp`.
    """
    camera, supply = _camera(rig), _supply(rig)
    power_w = camera.best("cooler_power_w") if camera is not None else None
    battery = None
    if supply is not None and supply.capacity_ah is not None:
        volts, share = supply.voltage_v or DEFAULT_VOLTAGE_V, supply.usable_share or DEFAULT_USABLE_SHARE
        battery = supply.capacity_ah * volts * share
    down = design_ramp(
        model,
        wanted=Wanted(
            start_c=asked.ambient_c,
            target_c=asked.target_c,
            ambient_c=asked.ambient_c,
            minutes=asked.minutes_down,
            step_c=asked.step_c,
        ),
        supplied=Supplied(power_w=power_w, battery_wh=battery, others_w=asked.others_w),
    )
    up = design_ramp(
        model,
        wanted=Wanted(
            start_c=asked.target_c,
            target_c=asked.ambient_c,
            ambient_c=asked.ambient_c,
            minutes=asked.minutes_up,
            step_c=asked.step_c,
        ),
        supplied=Supplied(power_w=power_w),
    )
    return down, up


def _arrival_text(ramp: Ramp) -> str:
    if ramp.arrival_min is None:
        return "it never arrives"
    late = ", later than asked: the cooler cannot follow" if ramp.limited else ""
    return f"it arrives after {number(ramp.arrival_min, 1)} min{late}"


def _stages(ramp: Ramp) -> str:
    return (
        f"{counted(ramp.stages, 'step')} of {number(ramp.step_c, 2)} °C, each held {number(ramp.dwell_min, 2)} min "
        f"({number(ramp.step_c / ramp.dwell_min, 2)} °C/min)"
    )


def ramp_words(down: Ramp, up: Ramp) -> tuple[str, str]:
    """Return both ramps in words: stages, arrival, power, energy, battery, and the warmest ambient with reserve.

    Parameters
    ----------
    down
        The ramp that cools.
    up
        The ramp that warms.

    Returns
    -------
    tuple[str, str]
        A text for each.
    """
    text = (
        f"Down: {_stages(down)}; {_arrival_text(down)}; {number(100 * down.rest_power, 0)} % power at rest; "
        f"it holds with reserve up to {number(down.warmest_ambient_c, 1)} °C ambient"
    )
    if down.energy_wh is not None:
        text += f"; {number(down.energy_wh, 1)} Wh until then"
    else:
        text += "; state the cooler's full power in W for energy and battery hours"
    if down.battery_h is not None:
        text += f"; the battery lasts {number(down.battery_h, 1)} h at rest"
    return f"{text}.", f"Up: {_stages(up)}; {_arrival_text(up)}."

"""Can the cooler hold the set temperature, with power to spare, gently and steadily?"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

from wyntaxis.core.evidence.cooling.cooler import MOST_REST_POWER, TOLERANCE_C
from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import COVERAGE_FACTOR, Verdict
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.settings import CAMERAS
from wyntaxis.core.steps import COOLING
from wyntaxis.core.wording import MINUS, number, plus_minus, short

STEADY_WITHIN_C = 0.1
RATE_SLACK, RATE_FAILS = 1.1, 1.5
"""A steepest rate this many times the ramp's is doubtful, or wrong: rates are read from noisy logs."""

_MODEL_SOURCE = "dT/dt = (T_amb − T)/τ − a·u: coldest T_amb − a·τ, power at rest (T_amb − T)/(a·τ)"
_RUN_SOURCE = "Cooling run: slope over a minute; scatter over the last fifth of the run"


@dataclass(frozen=True)
class _Cooler:
    index: int
    device: Device
    set_c: float
    ambient_c: float
    ambient_from: str
    depth_c: float
    depth_standard_c: float


def _coolers(evaluation: Evaluation) -> Iterator[_Cooler]:
    plan = evaluation.rig.plan
    for index, device in enumerate(evaluation.rig.devices):
        wanted, reach_leg = device.number("set_temperature_c"), cooler_depth(device)
        if device.kind not in CAMERAS or wanted is None or reach_leg is None:
            continue
        depth, spread = reach_leg
        planned = plan.ambient_c if plan is not None else None
        ambient = planned if planned is not None else device.best("rest_ambient_c")
        if ambient is None:
            continue
        told = "the warmest night planned" if planned is not None else "as in the cooling run"
        yield _Cooler(index, device, wanted, ambient, told, depth, spread)


def cooler_depth(device: Device) -> tuple[float, float] | None:
    """Return how far below ambient a cooler comes at the most, and its standard uncertainty, in °C.

    As measured or stated; else a·τ, from the measured or stated pull and time constant.
    """
    measured = device.measured("cooling_reach_c")
    if measured is not None:
        return measured.value, measured.standard_uncertainty
    stated = device.number("cooling_reach_c")
    if stated is not None:
        return stated, 0.0
    tau, pull = device.best("cooler_tau_min"), device.best("cooler_pull_c_min")
    if tau is None or pull is None:
        return None
    legs = [device.measured(key) for key in ("cooler_tau_min", "cooler_pull_c_min")]
    relative = [leg.standard_uncertainty / leg.value if leg is not None and leg.value else 0.0 for leg in legs]
    # τ and a are told apart by one run: their errors pull against each other, so this is no less than the truth.
    return tau * pull, tau * pull * math.hypot(*relative)


@finding("cooling.reach", step=COOLING, condition=conditions.COOLING, after="flats.level", rank=-1)
def reach(evaluation: Evaluation) -> Iterator[Finding]:
    """Can the cooler come down to the set temperature at all?"""
    for cooler in _coolers(evaluation):
        coldest = cooler.ambient_c - cooler.depth_c
        margin, spread = cooler.set_c - coldest, COVERAGE_FACTOR * cooler.depth_standard_c
        verdict = Verdict.FAILS if margin < 0 else Verdict.HOLDS if margin >= spread else Verdict.TIGHT
        yield Finding(
            "cooling.reach",
            verdict,
            cooler.device.id,
            f"{cooler.device.title}: the coldest reach is {number(coldest, 1)} °C at "
            f"{short(cooler.ambient_c)} °C ambient, {short(cooler.set_c)} °C is set",
            (
                f"T_amb {MINUS} a·τ = {short(cooler.ambient_c)} {MINUS} {number(cooler.depth_c, 1)} = "
                f"{number(coldest, 1)} °C ({cooler.ambient_from})",
            ),
            NO_REMEDY if verdict is Verdict.HOLDS else _warmer(cooler),
            _MODEL_SOURCE,
            (f"{cooler.device.id}.cooling_reach_c",),
        )


def _warmer(cooler: _Cooler) -> Remedy:
    """Return the remedy that sets a temperature which holds with reserve."""
    holds = -(-(cooler.ambient_c - MOST_REST_POWER * cooler.depth_c) // 1)
    change = Change.of(
        "Set a temperature that holds",
        ("devices", cooler.index, "settings", "set_temperature_c", "value"),
        float(holds),
    )
    return Remedy(f"set {number(holds, 0)} °C, and take darks there", change)


@finding("cooling.reserve", step=COOLING, condition=conditions.COOLING, after="cooling.reach", rank=-1)
def reserve(evaluation: Evaluation) -> Iterator[Finding]:
    """Is there power to spare at the set temperature?"""
    for cooler in _coolers(evaluation):
        share = (cooler.ambient_c - cooler.set_c) / cooler.depth_c
        holds = share <= MOST_REST_POWER
        warmest = cooler.set_c + MOST_REST_POWER * cooler.depth_c
        yield Finding(
            "cooling.reserve",
            Verdict.HOLDS if holds else Verdict.TIGHT if share <= 1 else Verdict.FAILS,
            cooler.device.id,
            f"{cooler.device.title}: {number(100 * share, 0)} % of the power holds {short(cooler.set_c)} °C at "
            f"{short(cooler.ambient_c)} °C ambient",
            (
                f"({short(cooler.ambient_c)} {MINUS} ({short(cooler.set_c)})) / {number(cooler.depth_c, 1)} = "
                f"{number(100 * share, 1)} %, wanted at most {number(100 * MOST_REST_POWER, 0)} % "
                f"({cooler.ambient_from})",
                f"it holds with reserve up to {number(warmest, 1)} °C ambient",
            ),
            NO_REMEDY if holds else _warmer(cooler),
            _MODEL_SOURCE,
            (f"{cooler.device.id}.rest_power_percent",),
        )


@finding("cooling.rate", step=COOLING, after="cooling.reserve")
def rate(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the sensor cool no faster than the ramp says?"""
    for device in evaluation.rig.devices:
        steepest = device.measured("steepest_c_min") if device.kind in CAMERAS else None
        if steepest is None:
            continue
        ramp = device.number("ramp_c_min")
        if not ramp:
            title = f"{device.title}: cools by {number(steepest.value, 1)} °C/min at the steepest; no ramp is stated"
            remedy = Remedy("state the ramp that the camera may have, in °C/min")
            yield Finding("cooling.rate", Verdict.UNPROVEN, device.id, title, (), remedy, _RUN_SOURCE)
            continue
        times = steepest.value / ramp
        yield Finding(
            "cooling.rate",
            Verdict.HOLDS if times <= RATE_SLACK else Verdict.TIGHT if times <= RATE_FAILS else Verdict.FAILS,
            device.id,
            f"{device.title}: cools by {number(steepest.value, 1)} °C/min at the steepest, "
            f"the ramp is {short(ramp)} °C/min",
            (f"{number(steepest.value, 2)} / {short(ramp)} = {number(times, 2)} times the ramp",),
            NO_REMEDY
            if times <= RATE_SLACK
            else Remedy("cool in stages: the Cooling sheet designs a ramp that arrives in the time you want"),
            _RUN_SOURCE,
            (f"{device.id}.steepest_c_min",),
        )


@finding("cooling.stability", step=COOLING, after="cooling.rate")
def stability(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the temperature stand still at rest?"""
    for device in evaluation.rig.devices:
        scatter = device.measured("scatter_c") if device.kind in CAMERAS else None
        if scatter is None:
            continue
        setting = device.settings.get("set_temperature_c")
        tolerance = setting.tolerance if setting is not None and setting.tolerance is not None else TOLERANCE_C
        verdict = (
            Verdict.HOLDS
            if scatter.value <= STEADY_WITHIN_C
            else Verdict.TIGHT
            if scatter.value <= tolerance / 2
            else Verdict.FAILS
        )
        yield Finding(
            "cooling.stability",
            verdict,
            device.id,
            f"{device.title}: at rest the temperature scatters by {number(scatter.value, 2)} °C",
            (
                f"{plus_minus(scatter.value, scatter.standard_uncertainty, 3)} °C, steady within "
                f"{short(STEADY_WITHIN_C)}, useless above {short(tolerance / 2)} (half the tolerance)",
            ),
            NO_REMEDY
            if verdict is Verdict.HOLDS
            else Remedy("give the cooler reserve with a warmer set temperature, and look at its supply's voltage"),
            _RUN_SOURCE,
            (f"{device.id}.scatter_c",),
        )

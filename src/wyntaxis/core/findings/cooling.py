"""Can the cooler hold the set temperature, with power to spare, gently and steadily?"""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.limits import MAX_REST_POWER
from wyntaxis.core.quantities.cooling import (
    COLDEST,
    POWER_NEEDED,
    STEADY_WITHIN_C,
    Cooler,
    coolers,
    scatter_limit_c,
)
from wyntaxis.core.rig.device_settings import CAMERAS
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.steps import COOLING
from wyntaxis.core.wording import MINUS, number, plus_minus, short

_MODEL_SOURCE = "dT/dt = (T_amb − T)/τ − a·u: coldest T_amb − a·τ, power at rest (T_amb − T)/(a·τ)"
_RUN_SOURCE = "Cooling run: slope over a minute; scatter over the last fifth of the run"


@finding("cooling.reach", step=COOLING, condition=conditions.COOLING, after="flats.level", rank=-1)
def reach(evaluation: Evaluation) -> Iterator[Finding]:
    """Can the cooler come down to the set temperature at all?"""
    for cooler in coolers(evaluation):
        row, coldest = evaluation.rows[COLDEST.id_of(cooler.device.id)], cooler.coldest_c
        yield Finding(
            "cooling.reach",
            row.verdict,
            cooler.device.id,
            f"{cooler.device.title}: the coldest reach is {number(coldest, 1)} °C at "
            f"{short(cooler.ambient_c)} °C ambient, {short(cooler.set_c)} °C is set",
            (
                f"T_amb {MINUS} a·τ = {short(cooler.ambient_c)} {MINUS} {number(cooler.depth_c, 1)} = "
                f"{number(coldest, 1)} °C ({cooler.ambient_from})",
            ),
            NO_REMEDY if row.verdict is Verdict.HOLDS else _warmer(cooler),
            _MODEL_SOURCE,
            (f"{cooler.device.id}.cooling_reach_c", row.id),
        )


def _warmer(cooler: Cooler) -> Remedy:
    """Return the remedy that sets a temperature which holds with reserve."""

    holds = -(-(cooler.ambient_c - MAX_REST_POWER * cooler.depth_c) // 1)
    change = Change.of(
        "Set a temperature that holds",
        ("devices", cooler.index, "settings", "set_temperature_c", "value"),
        float(holds),
    )
    return Remedy(f"set {number(holds, 0)} °C, and take darks there", change)


@finding("cooling.reserve", step=COOLING, condition=conditions.COOLING, after="cooling.reach", rank=-1)
def reserve(evaluation: Evaluation) -> Iterator[Finding]:
    """Is there power to spare at the set temperature?"""

    for cooler in coolers(evaluation):
        row, share = evaluation.rows[POWER_NEEDED.id_of(cooler.device.id)], cooler.share
        warmest = cooler.set_c + MAX_REST_POWER * cooler.depth_c
        yield Finding(
            "cooling.reserve",
            row.verdict,
            cooler.device.id,
            f"{cooler.device.title}: {number(100 * share, 0)} % of the power holds {short(cooler.set_c)} °C at "
            f"{short(cooler.ambient_c)} °C ambient",
            (
                f"({short(cooler.ambient_c)} {MINUS} ({short(cooler.set_c)})) / {number(cooler.depth_c, 1)} = "
                f"{number(100 * share, 1)} %, wanted at most {number(100 * MAX_REST_POWER, 0)} % "
                f"({cooler.ambient_from})",
                f"it holds with reserve up to {number(warmest, 1)} °C ambient",
            ),
            NO_REMEDY if row.verdict is Verdict.HOLDS else _warmer(cooler),
            _MODEL_SOURCE,
            (f"{cooler.device.id}.rest_power_percent", row.id),
        )


@finding("cooling.rate", step=COOLING, after="cooling.reserve")
def rate(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the sensor cool no faster than the ramp says?"""
    for device in evaluation.rig.devices:
        steepest = device.measured("steepest_c_min") if device.kind in CAMERAS else None
        if device.kind in CAMERAS and steepest is None:
            yield from _ramp_without_run(device)
        if steepest is None:
            continue
        ramp = device.number("ramp_c_min")
        if not ramp:
            title = f"{device.title}: cools by {number(steepest.value, 1)} °C/min at the steepest; no ramp is stated"
            remedy = Remedy("state the ramp that the camera may have, in °C/min")
            yield Finding("cooling.rate", Verdict.UNPROVEN, device.id, title, (), remedy, _RUN_SOURCE)
            continue
        row, times = evaluation.rows[f"{device.id}.steepest_c_min"], steepest.value / ramp
        yield Finding(
            "cooling.rate",
            row.target_verdict,
            device.id,
            f"{device.title}: cools by {number(steepest.value, 1)} °C/min at the steepest, "
            f"the ramp is {short(ramp)} °C/min",
            (f"{number(steepest.value, 2)} / {short(ramp)} = {number(times, 2)} times the ramp",),
            NO_REMEDY
            if row.target_verdict is Verdict.HOLDS
            else Remedy("cool in stages: the Cooling sheet designs a ramp that arrives in the time you want"),
            _RUN_SOURCE,
            (row.id,),
        )


def _ramp_without_run(device: Device) -> Iterator[Finding]:
    """Yield how a stated ramp stands where no run shows it: one that the cooler cannot follow fails."""
    ramp, most = device.number("ramp_c_min"), device.best("cooler_pull_c_min")
    if not ramp:
        return
    text = f"{device.title}: a ramp of {short(ramp)} °C/min"
    if most is not None and ramp > most:
        title = f"{text} is more than the cooler can do, {number(most, 1)} °C/min"
        yield Finding(
            "cooling.rate",
            Verdict.FAILS,
            device.id,
            title,
            (f"at full power the sensor falls by {number(most, 2)} °C/min at first, and slower as it gets colder",),
            Remedy("Design a ramp on the Cooling sheet, or set a slower one."),
            _RUN_SOURCE,
        )
        return
    yield Finding(
        "cooling.rate",
        Verdict.UNPROVEN,
        device.id,
        f"{text} is not verified: no cooling run was measured",
        (),
        Remedy("Read a log of a cooling run on the Cooling sheet."),
        _RUN_SOURCE,
    )


@finding("cooling.stability", step=COOLING, after="cooling.rate")
def stability(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the temperature stand still at rest?"""
    for device in evaluation.rig.devices:
        scatter = device.measured("scatter_c") if device.kind in CAMERAS else None
        if scatter is None:
            continue
        row = evaluation.rows[f"{device.id}.scatter_c"]
        yield Finding(
            "cooling.stability",
            row.target_verdict,
            device.id,
            f"{device.title}: at rest the temperature scatters by {number(scatter.value, 2)} °C",
            (
                f"{plus_minus(scatter.value, scatter.standard_uncertainty, 3)} °C, steady within "
                f"{short(STEADY_WITHIN_C)}, useless above {short(scatter_limit_c(device))} (half the tolerance)",
            ),
            NO_REMEDY
            if row.target_verdict is Verdict.HOLDS
            else Remedy("give the cooler reserve with a warmer set temperature, and look at its supply's voltage"),
            _RUN_SOURCE,
            (row.id,),
        )

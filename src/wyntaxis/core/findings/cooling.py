"""Can the cooler hold the set temperature, with power to spare, at the stated ramp and steadily?"""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Proof, Statement, finding, say
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
_WARMER = "Set {holding:0} °C, and take darks at that temperature."


@finding(
    "cooling.reach",
    step=COOLING,
    proves=Proof(condition=conditions.COOLING, rank=-1),
    listed=Listed(after="flats.level"),
    source=_MODEL_SOURCE,
    titles="{device}: the lowest reachable temperature is {coldest:1} °C at {ambient} °C ambient; {set} °C is set",
    remedies=_WARMER,
)
def reach(evaluation: Evaluation) -> Iterator[Statement]:
    """Can the cooler come down to the set temperature at all?"""
    for cooler in coolers(evaluation):
        row, coldest = evaluation.rows[COLDEST.id_of(cooler.device.id)], cooler.coldest_c
        line = (
            f"T_amb {MINUS} a·τ = {short(cooler.ambient_c)} {MINUS} {number(cooler.depth_c, 1)} = "
            f"{number(coldest, 1)} °C ({cooler.ambient_from})"
        )
        rows = (evaluation.rows.get(f"{cooler.device.id}.cooling_reach_c"), row)
        named = _values(cooler) | {"coldest": coldest}
        yield say(cooler.device.id, rows, row.verdict, named, lines=(line,)).with_edit(_warmer(cooler))


def _holding_c(cooler: Cooler) -> float:
    """Return the coldest whole °C that the cooler holds with reserve."""
    return float(-(-(cooler.ambient_c - MAX_REST_POWER * cooler.depth_c) // 1))


def _values(cooler: Cooler) -> dict[str, Named]:
    return {
        "device": cooler.device.title,
        "ambient": cooler.ambient_c,
        "set": cooler.set_c,
        "holding": _holding_c(cooler),
    }


def _warmer(cooler: Cooler) -> Change:
    path = ("devices", cooler.index, "settings", "set_temperature_c", "value")
    return Change.of("Set a temperature that holds", path, _holding_c(cooler))


@finding(
    "cooling.reserve",
    step=COOLING,
    proves=Proof(condition=conditions.COOLING, rank=-1),
    listed=Listed(after="cooling.reach"),
    source=_MODEL_SOURCE,
    titles="{device}: holding {set} °C at {ambient} °C ambient takes {share:0} % of the power (at most {most:0} %)",
    remedies=_WARMER,
)
def reserve(evaluation: Evaluation) -> Iterator[Statement]:
    """Is there power to spare at the set temperature?"""
    for cooler in coolers(evaluation):
        row, share = evaluation.rows[POWER_NEEDED.id_of(cooler.device.id)], 100 * cooler.share
        most = 100 * MAX_REST_POWER
        warmest = cooler.set_c + MAX_REST_POWER * cooler.depth_c
        lines = (
            f"({short(cooler.ambient_c)} {MINUS} ({short(cooler.set_c)})) / {number(cooler.depth_c, 1)} = "
            f"{number(share, 1)} %, at most {number(most, 0)} % ({cooler.ambient_from})",
            f"it holds with reserve up to {number(warmest, 1)} °C ambient",
        )
        rows = (evaluation.rows.get(f"{cooler.device.id}.rest_power_percent"), row)
        named = _values(cooler) | {"share": share, "most": most}
        yield say(cooler.device.id, rows, row.verdict, named, lines=lines).with_edit(_warmer(cooler))


@finding(
    "cooling.rate",
    step=COOLING,
    listed=Listed(after="cooling.reserve"),
    source=_RUN_SOURCE,
    titles={
        "": "{device}: the sensor cools by up to {steepest:1} °C/min; the ramp is {ramp} °C/min",
        "no ramp": "{device}: the sensor cools by up to {steepest:1} °C/min; its ramp is not entered",
        "too steep": "{device}: a ramp of {ramp} °C/min is more than the cooler can do ({most:1} °C/min)",
        "no run": "{device}: a ramp of {ramp} °C/min is not verified, as no cooling run was measured",
    },
    remedies={
        "": "Cool in stages: the Cooling sheet designs a ramp that reaches the set temperature at the time you want.",
        "no ramp": "Enter the ramp that the camera may have, in °C/min.",
        "too steep": "Design a ramp on the Cooling sheet, or set a slower one.",
        "no run": "Read a log of a cooling run on the Cooling sheet.",
    },
)
def rate(evaluation: Evaluation) -> Iterator[Statement]:
    """Does the sensor cool no faster than the ramp says?"""
    for device in evaluation.rig.devices:
        steepest = device.measured("steepest_c_min") if device.kind in CAMERAS else None
        if device.kind in CAMERAS and steepest is None:
            yield from _ramp_without_run(device)
        if steepest is None:
            continue
        title, ramp = device.title, device.number("ramp_c_min")
        if not ramp:
            yield say(device.id, None, Verdict.UNPROVEN, {"device": title, "steepest": steepest.value}, case="no ramp")
            continue
        row, times = evaluation.rows[f"{device.id}.steepest_c_min"], steepest.value / ramp
        line = f"{number(steepest.value, 2)} / {short(ramp)} = {number(times, 2)} times the ramp"
        named: dict[str, Named] = {"device": title, "steepest": steepest.value, "ramp": ramp}
        yield say(device.id, row, row.target_verdict, named, lines=(line,))


def _ramp_without_run(device: Device) -> Iterator[Statement]:
    """Yield the verdict on a stated ramp that no run shows: one that the cooler cannot follow fails."""
    ramp, most = device.number("ramp_c_min"), device.best("cooler_pull_c_min")
    if not ramp:
        return
    if most is None or ramp <= most:
        yield say(device.id, None, Verdict.UNPROVEN, {"device": device.title, "ramp": ramp}, case="no run")
        return
    line = f"at full power the sensor cools by {number(most, 2)} °C/min at first, and slower as it gets colder"
    named: dict[str, Named] = {"device": device.title, "ramp": ramp, "most": most}
    yield say(device.id, None, Verdict.FAILS, named, case="too steep", lines=(line,))


@finding(
    "cooling.stability",
    step=COOLING,
    listed=Listed(after="cooling.rate"),
    source=_RUN_SOURCE,
    titles="{device}: at the set temperature the reading scatters by {scatter:2} °C (steady within {steady} °C)",
    remedies="Set a warmer temperature so that the cooler has reserve, and check the voltage of its supply.",
)
def stability(evaluation: Evaluation) -> Iterator[Statement]:
    """Is the temperature steady once it is reached?"""
    for device in evaluation.rig.devices:
        scatter = device.measured("scatter_c") if device.kind in CAMERAS else None
        if scatter is None:
            continue
        row = evaluation.rows[f"{device.id}.scatter_c"]
        line = (
            f"{plus_minus(scatter.value, scatter.standard_uncertainty, 3)} °C, steady within "
            f"{short(STEADY_WITHIN_C)}, fails above {short(scatter_limit_c(device))} (half the tolerance)"
        )
        named: dict[str, Named] = {"device": device.title, "scatter": scatter.value, "steady": STEADY_WITHIN_C}
        yield say(device.id, row, row.target_verdict, named, lines=(line,))

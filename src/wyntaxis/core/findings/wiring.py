"""What the wiring, the mount's load, the weather and the dew point say."""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Proof, Statement, finding, say
from wyntaxis.core.ledger import Quantity, Verdict, worst
from wyntaxis.core.optics.electrics import cable_resistance
from wyntaxis.core.quantities.plan import draw_of
from wyntaxis.core.quantities.wiring import (
    AT_MOST,
    AT_REST,
    CABLE,
    DEW_MARGIN,
    DEW_POINT,
    GLASS_BELOW_AIR_C,
    NEAR_END,
    OUTLET,
    PAYLOAD,
    SupplyVoltage,
    link_speed_mbit,
    outlet_loads,
    payload_of,
    resistance,
    supply_voltages,
    warmed_c,
)
from wyntaxis.core.rig.device_settings import SHUTTERS, WATCHERS
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.steps import DEVICES, PORTS
from wyntaxis.core.wording import number, short

MAX_NAMED = 4
_CABLE_TEMPERATURE_C = 20.0
"""A cable's temperature where the plan states no ambient."""


@finding(
    "power.drop",
    step=DEVICES,
    proves=Proof(condition=conditions.POWER),
    listed=Listed(after="power.battery"),
    source="U = supply − I · 2ρL/A − contacts; copper 0.0172 Ω·mm²/m at 20 °C, +0.39 %/K (IEC 60028)",
    titles={
        "holds": "{device} gets {volts:2} V at full load (needs {least} V)",
        "tight": "{device} gets {volts:2} V at full load, too little near the battery's end (needs {least} V)",
        "fails": "{device} gets {volts:2} V at full load, too little (needs {least} V)",
        "unproven": "{device} gets {volts:2} V at full load (needs {least} V)",
        "no voltage": "{supply} states no voltage",
        "no need": "{device} gets {volts:2} V at full load; the voltage that it needs is not entered",
        "no cable": "The voltage at {device} is not known: its supply cable is not described",
        "no feed": "{device} gets at most {volts:2} V: the cable that feeds {names} is not described",
        "no draw": "{device} gets at most {volts:2} V: what {names} draws is not entered",
    },
    remedies={
        "no voltage": "Enter its voltage.",
        "no need": "Enter the lowest voltage that it works at.",
        "no cable": "Enter length and cross-section of its supply cable on the Devices sheet.",
        "no feed": "Enter length and cross-section of the cable of {names} on the Devices sheet; length 0 if it has "
        "none.",
        "no draw": "Enter what {names} draws on the Devices sheet.",
        "cable": "Use a shorter cable, or a thicker one.",
        "thicker": "Use {mm2:2} mm² or more for its {length} m, or a shorter cable.",
        "voltage": "Raise the voltage, or feed the supply before it by a thicker cable: its own cable cannot cure "
        "this.",
    },
)
def power_drop(evaluation: Evaluation) -> Iterator[Statement]:
    """Does each device get enough voltage with all devices at full load?"""
    yield from _undescribed_cables(evaluation)
    for way in supply_voltages(evaluation):
        yield _drop(evaluation, way)


def _drop(evaluation: Evaluation, way: SupplyVoltage) -> Statement:
    device, source = way.device, way.source
    found = [evaluation.rows.get(kind.id_of(device.id)) for kind in (AT_REST, AT_MOST, NEAR_END)]
    rows = [row for row in found if row is not None]
    least = device.power.least_v if device.power is not None else None
    named: dict[str, Named] = {"device": device.title, "supply": source.title}
    if source.voltage_v is None or not rows:
        return say(device.id, None, Verdict.UNPROVEN, named, case="no voltage")
    named["volts"] = way.volts(source.voltage_v, at_most=True)
    lines = [*_sum_of(way, source.voltage_v)]
    if source.end_v is not None:
        low = way.volts(source.end_v, at_most=True)
        lines.append(f"near the battery's end, at {short(source.end_v)} V: {number(low, 2)} V")
    if least is None:
        return say(device.id, None, Verdict.UNPROVEN, named, case="no need", lines=lines)
    named["least"] = least
    lines.append(f"needed: {short(least)} V")
    verdict = worst(row.verdict for row in rows)
    if verdict is Verdict.UNPROVEN and way.is_at_best:
        return _at_best(way, named, lines, rows)
    cure, values = _cable_remedy(evaluation, way, least)
    cure = str(verdict) if verdict is Verdict.HOLDS else cure
    return say(device.id, rows, verdict, named | values, cure=cure, lines=lines)


def _at_best(way: SupplyVoltage, named: dict[str, Named], lines: list[str], rows: list[Quantity]) -> Statement:
    """Return that the voltage is not verified, as a cable or a current on the way is not entered."""
    if way.undescribed:
        case, names = "no feed", ", ".join(supply.title for supply in way.undescribed)
    else:
        case, names = "no draw", ", ".join(own.title for own in way.unknown[:MAX_NAMED])
    return say(way.device.id, rows, Verdict.UNPROVEN, named | {"names": names}, case=case, lines=lines)


def _undescribed_cables(evaluation: Evaluation) -> Iterator[Statement]:
    """Yield each device that states the voltage that it needs, and not the cable that feeds it."""
    supplies = {supply.id: supply for supply in evaluation.rig.supplies}
    for device in evaluation.rig.devices:
        power = device.power
        if power is None or power.least_v is None or power.supply not in supplies or draw_of(device) is None:
            continue
        if resistance(power.cable, evaluation.rig) is None:
            yield say(device.id, None, Verdict.UNPROVEN, {"device": device.title}, case="no cable")


def _sum_of(way: SupplyVoltage, start_v: float) -> Iterator[str]:
    for segment in way.segments:
        if segment.ohm is None:
            yield f"from {segment.before.title}: cable not described × {short(segment.peak_a, 3)} A"
            continue
        yield (
            f"from {segment.before.title}: {number(segment.ohm, 4)} Ω × {short(segment.peak_a, 3)} A = "
            f"{number(segment.drop_v(at_most=True), 3)} V"
        )
    drop = start_v - way.volts(start_v, at_most=True)
    yield (
        f"{short(start_v)} − {number(drop, 3)} = {number(start_v - drop, 2)} V at full load, "
        f"{number(way.volts(start_v, at_most=False), 2)} V at typical load"
    )


def _cable_remedy(evaluation: Evaluation, way: SupplyVoltage, least_v: float) -> tuple[str, dict[str, Named]]:
    """Return which cross-section is enough, of the device's own cable alone."""
    power, source = way.device.power, way.source
    cable = power.cable if power is not None else None
    start = source.voltage_v if source.end_v is None else min(source.voltage_v or source.end_v, source.end_v)
    if cable is None or not cable.length_m or start is None:
        return "cable", {}
    own = way.segments[0]
    others = start - least_v - sum(segment.drop_v(at_most=True) for segment in way.segments[1:])
    may_be = others / own.peak_a - (cable.contact_mohm or 0.0) / 1000 if own.peak_a else 0.0
    if may_be <= 0:
        return "voltage", {}
    ambient = evaluation.rig.plan.ambient_c if evaluation.rig.plan is not None else None
    warm = _CABLE_TEMPERATURE_C if ambient is None else ambient
    return "thicker", {"mm2": cable_resistance(cable.length_m, 1.0, warm) / may_be, "length": cable.length_m}


@finding(
    "power.outlet",
    step=DEVICES,
    proves=Proof(condition=conditions.POWER),
    listed=Listed(after="power.drop"),
    source="Σ of the highest currents on an outlet against its rating",
    titles={
        "": "{supply}, {outlet}: {peak:1} A of its {rated} A",
        "not stated": "The outlet of {device} is not entered",
        "no such": "{device} is on outlet {outlet}, which its supply does not have",
    },
    remedies={
        "": "Move one of them to another outlet.",
        "not stated": "Enter its outlet on the Devices sheet.",
        "no such": "Enter its outlet on the Devices sheet.",
    },
)
def power_outlet(evaluation: Evaluation) -> Iterator[Statement]:
    """Is each device on an outlet that exists, and that may give what hangs on it?"""
    outlets = {supply.id: {outlet.name for outlet in supply.outlets} for supply in evaluation.rig.supplies}
    for device in evaluation.rig.devices:
        power = device.power
        known = outlets.get(power.supply or "") if power is not None else None
        if power is None or not known or power.outlet in known:
            continue
        verdict = Verdict.UNPROVEN if power.outlet is None else Verdict.FAILS
        line = f"outlets: {', '.join(sorted(known)[:MAX_NAMED])}"
        case = "not stated" if power.outlet is None else "no such"
        yield say(
            device.id, None, verdict, {"device": device.title, "outlet": power.outlet or ""}, case=case, lines=(line,)
        )
    for load in outlet_loads(evaluation):
        row = evaluation.rows.get(OUTLET.id_of(load.key))
        if row is None:
            continue
        named: dict[str, Named] = {
            "supply": load.supply.title,
            "outlet": load.name,
            "peak": load.peak_a,
            "rated": load.rated_a or 0.0,
        }
        yield say(load.supply.id, row, None, named, lines=[device.title for device in load.devices])


@finding(
    "ports.cable",
    step=PORTS,
    proves=Proof(condition=conditions.USB),
    listed=Listed(after="ports.hub"),
    source="5 m at 480 Mbit/s, 3 m at 5 Gbit/s without a repeater (USB 2.0, USB 3.2)",
    titles={
        "": "{device}: a cable of {length} m suits {speed} Mbit/s",
        "tight": "{device}: a cable of {length} m is close to the limit for {speed} Mbit/s",
        "fails": "{device}: a cable of {length} m is too long for {speed} Mbit/s",
    },
    remedies="Use a shorter cable, or one with a repeater and enter that.",
)
def data_cable(evaluation: Evaluation) -> Iterator[Statement]:
    """Is each USB cable short enough for its speed?"""
    for device in evaluation.rig.devices:
        row = evaluation.rows.get(CABLE.id_of(device.id))
        if row is None or row.stated is None or row.target is None:
            continue
        speed, why = link_speed_mbit(evaluation, device)
        repeated = device.connection is not None and device.connection.repeater
        length = row.stated.value
        limit = "with a repeater in it" if repeated else f"allowed {short(row.target.high)} m without a repeater"
        lines = (f"{short(length)} m at {short(speed)} Mbit/s, {limit}", why)
        yield say(device.id, row, None, {"device": device.title, "length": length, "speed": speed}, lines=lines)


@finding(
    "devices.safety",
    step=DEVICES,
    proves=Proof(condition=conditions.WEATHER),
    listed=Listed(after="mount.payload"),
    source="A watch proves something only once its stop has been tried",
    titles={
        "tried": "{watch} stops the night, and this has been tried",
        "not tried": "{watch} is to stop the night, but this has not been tried",
        "not stated": "Whether {watch} stops the run is not entered",
        "none": "Nothing stops the night in bad weather",
    },
    remedies={
        "tried": "",
        "not tried": "Try it by day: let it report rain, and see the run end, the mount park and the roof close. Then "
        "enter it.",
        "not stated": "Enter whether it stops the run.",
        "no watch": "Let a weather station or sensor stop the run, and try it by day.",
    },
)
def safety(evaluation: Evaluation) -> Iterator[Statement]:
    """Does something stop the night in bad weather, and has that been tried?"""
    devices = evaluation.rig.devices
    open_to_sky = [device for device in devices if device.kind in SHUTTERS]
    watch = [device for device in devices if device.kind in WATCHERS]
    if not open_to_sky and not watch:
        return
    stop = [device for device in watch if device.truth("stops_the_run")]
    tried = [device for device in stop if device.truth("stop_was_tried")]
    unsaid = [device for device in watch if device.truth("stops_the_run") is None]
    refuses = any(device.truth("stops_the_run") is False for device in watch)
    lines = (
        f"open to the sky: {_titles(open_to_sky)}",
        f"watch: {_titles(watch)}; stop the run: {_titles(stop)}",
    )
    if tried:
        case, verdict, subject = "tried", Verdict.HOLDS, tried[0]
    elif stop:
        case, verdict, subject = "not tried", Verdict.UNPROVEN, stop[0]
    elif unsaid and not refuses:
        case, verdict, subject = "not stated", Verdict.UNPROVEN, unsaid[0]
    else:
        case, verdict, subject = "none", Verdict.FAILS, (open_to_sky or watch)[0]
    cure = "no watch" if case == "none" else case
    yield say(subject.id, None, verdict, {"watch": subject.title}, case=case, cure=cure, lines=lines)


def _titles(devices: list[Device]) -> str:
    return ", ".join(device.title for device in devices) or "–"


@finding(
    "mount.payload",
    step=DEVICES,
    proves=Proof(condition=conditions.MOUNT),
    listed=Listed(after="power.outlet"),
    source="Σ mass with the cameras on, against the mount's rating; over four fifths of it is tight",
    titles={
        "": "The mount carries {load:1} kg of its {rating} kg",
        "unproven": "The mount carries at least {load:1} kg of its {rating} kg; {count} masses are not entered",
    },
    remedies={
        "": "Take weight off, or use a stronger mount. Balance it with the cameras on.",
        "unproven": "Enter the mass of: {missing}.",
    },
)
def payload(evaluation: Evaluation) -> Iterator[Statement]:
    """Does the mount carry its load, cameras on?"""
    row = evaluation.rows.get(PAYLOAD.id_of("mount"))
    mount = evaluation.rig.mount
    if row is None or row.best is None or mount is None or mount.payload_rating_kg is None:
        return
    carried = payload_of(evaluation.rig)
    rating, load = mount.payload_rating_kg, carried.known_kg
    lines = [f"{number(load, 2)} kg of {short(rating)} kg: {number(100 * load / rating, 0)} %"]
    missing = ", ".join(carried.missing[:MAX_NAMED])
    if carried.missing:
        lines.append(f"no mass: {missing}" + (" …" if len(carried.missing) > MAX_NAMED else ""))
    named: dict[str, Named] = {"load": load, "rating": rating, "missing": missing, "count": len(carried.missing)}
    yield say("mount", row, None, named, lines=lines)


@finding(
    "dew.point",
    step=DEVICES,
    proves=Proof(condition=conditions.WEATHER),
    listed=Listed(after="devices.safety"),
    source="Magnus' formula, WMO-No. 8 annex 4.B; glass under a clear sky falls some 2 °C below the air",
    titles={
        "above": "The optics stay {above:1} °C above the dew point",
        "below": "The optics fall {below:1} °C below the dew point",
        "readings": "{device}: two readings of the dew point disagree",
    },
    remedies={
        "heat": "Heat the optics more, and enter by how much the heater keeps them above the air.",
        "readings": "Compare it with another thermometer and hygrometer: a wet or dirty sensor reads too moist.",
    },
)
def dew(evaluation: Evaluation) -> Iterator[Statement]:
    """Do two readings of the dew point agree, and do the optics stay above it?"""
    for device in evaluation.rig.devices:
        row, margin = (evaluation.rows.get(kind.id_of(device.id)) for kind in (DEW_POINT, DEW_MARGIN))
        if row is None or row.best is None:
            continue
        lines = [f"{name}: {number(one.value, 1)} °C" for name, one in row.values.items()]
        if len(row.values) > 1 and row.verdict is not Verdict.HOLDS:
            yield say(device.id, row, None, {"device": device.title}, case="readings", lines=lines)
        if margin is None or margin.best is None:
            continue
        air, above = device.best("air_c") or 0.0, margin.best.value
        lines.append(
            f"{number(air, 1)} − {short(GLASS_BELOW_AIR_C)} + {number(warmed_c(evaluation.rig), 1)} (heaters) − "
            f"{number(row.best.value, 1)} = {number(above, 1)} °C"
        )
        case, cure = "above" if above >= 0 else "below", str(margin.verdict)
        cure = cure if margin.verdict is Verdict.HOLDS else "heat"
        yield say(device.id, margin, None, {"above": above, "below": -above}, case=case, cure=cure, lines=lines)

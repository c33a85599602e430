"""What the wiring, the mount's load, the weather and the dew say."""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Verdict, worst
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
from wyntaxis.core.steps import DEVICES, PORTS
from wyntaxis.core.wording import number, short

_DROP_SOURCE = "U = supply − I · 2ρL/A − contacts; copper 0.0172 Ω·mm²/m at 20 °C, +0.39 %/K (IEC 60028)"
_OUTLET_SOURCE = "Σ of the highest currents on an outlet against its rating"
_CABLE_SOURCE = "5 m at 480 Mbit/s, 3 m at 5 Gbit/s without a repeater (USB 2.0, USB 3.2)"
_SAFETY_SOURCE = "A watch that was never tried is a hope"
_PAYLOAD_SOURCE = "Σ mass with the cameras on, against the mount's rating; over four fifths of it is tight"
_DEW_SOURCE = "Magnus' formula, WMO-No. 8 annex 4.B; glass under a clear sky falls some 2 °C below the air"
MAX_NAMED = 4


@finding("power.drop", step=DEVICES, condition=conditions.POWER, after="power.battery")
def power_drop(evaluation: Evaluation) -> Iterator[Finding]:
    """Does enough voltage arrive at each device, with all at their most?"""
    yield from _undescribed_cables(evaluation)
    for way in supply_voltages(evaluation):
        device, source = way.device, way.source
        rows = [evaluation.rows.get(kind.id_of(device.id)) for kind in (AT_REST, AT_MOST, NEAR_END)]
        entries = [row for row in rows if row is not None]
        least = device.power.least_v if device.power is not None else None
        if source.voltage_v is None or not entries:
            title, text = f"{source.title} states no voltage", "state the voltage that it gives"
            yield Finding("power.drop", Verdict.UNPROVEN, device.id, title, (), Remedy(text), _DROP_SOURCE)
            continue
        most = way.volts(source.voltage_v, at_most=True)
        lines = [*_sum_of(way, source.voltage_v)]
        if source.end_v is not None:
            low = way.volts(source.end_v, at_most=True)
            lines.append(f"near the battery's end, at {short(source.end_v)} V: {number(low, 2)} V")
        if least is None:
            title = f"{number(most, 2)} V arrive at {device.title}; what it needs is not stated"
            text = "state the least voltage that it works at"
            yield Finding("power.drop", Verdict.UNPROVEN, device.id, title, tuple(lines), Remedy(text), _DROP_SOURCE)
            continue
        lines.append(f"needed: {short(least)} V")
        verdict = worst(row.verdict for row in entries)
        if verdict is Verdict.UNPROVEN and way.is_at_best:
            yield _at_the_best(way, most, tuple(lines), tuple(row.id for row in entries))
            continue
        short_of = " – too little" if verdict is Verdict.FAILS else ""
        late = ", too little near the battery's end" if verdict is Verdict.TIGHT else ""
        yield Finding(
            "power.drop",
            verdict,
            device.id,
            f"{number(most, 2)} V arrive at {device.title}{short_of}{late}",
            tuple(lines),
            NO_REMEDY if verdict is Verdict.HOLDS else _thicker(evaluation, way, least),
            _DROP_SOURCE,
            tuple(row.id for row in entries),
        )


def _at_the_best(way: SupplyVoltage, most_v: float, lines: tuple[str, ...], rows: tuple[str, ...]) -> Finding:
    """Return that what arrives is not verified, as a cable or a current on the way is not stated."""
    device = way.device
    if way.undescribed:
        names = ", ".join(supply.title for supply in way.undescribed)
        title = f"At most {number(most_v, 2)} V arrive at {device.title}: the cable that feeds {names} is not described"
        text = f"Enter length and cross-section of the cable of {names} on the Devices sheet; length 0 if it has none."
    else:
        names = ", ".join(own.title for own in way.unknown[:MAX_NAMED])
        title = f"At most {number(most_v, 2)} V arrive at {device.title}: what {names} draws is not stated"
        text = f"Enter what {names} draws on the Devices sheet."
    return Finding("power.drop", Verdict.UNPROVEN, device.id, title, lines, Remedy(text), _DROP_SOURCE, rows)


def _undescribed_cables(evaluation: Evaluation) -> Iterator[Finding]:
    """Yield each device that states what voltage it needs, and not by which cable it is fed."""
    supplies = {supply.id: supply for supply in evaluation.rig.supplies}
    for device in evaluation.rig.devices:
        power = device.power
        if power is None or power.least_v is None or power.supply not in supplies or draw_of(device) is None:
            continue
        if resistance(power.cable, evaluation.rig) is None:
            title = f"What arrives at {device.title} is not known: its supply cable is not described"
            text = "Enter length and cross-section of its supply cable on the Devices sheet."
            yield Finding("power.drop", Verdict.UNPROVEN, device.id, title, (), Remedy(text), _DROP_SOURCE)


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
        f"{short(start_v)} − {number(drop, 3)} = {number(start_v - drop, 2)} V at the most, "
        f"{number(way.volts(start_v, at_most=False), 2)} V as a rule"
    )


def _thicker(evaluation: Evaluation, way: SupplyVoltage, least_v: float) -> Remedy:
    """Return which cross-section would bring enough, by the device's own cable alone."""
    power, source = way.device.power, way.source
    cable = power.cable if power is not None else None
    start = source.voltage_v if source.end_v is None else min(source.voltage_v or source.end_v, source.end_v)
    if cable is None or not cable.length_m or start is None:
        return Remedy("feed it by a shorter cable, or a thicker one")
    own = way.segments[0]
    others = start - least_v - sum(segment.drop_v(at_most=True) for segment in way.segments[1:])
    may_be = others / own.peak_a - (cable.contact_mohm or 0.0) / 1000 if own.peak_a else 0.0
    if may_be <= 0:
        return Remedy("no cable mends it: raise the voltage, or feed the supply before it by a thicker cable")
    warm = evaluation.rig.plan.ambient_c if evaluation.rig.plan is not None else None
    wanted = cable_resistance(cable.length_m, 1.0, 20.0 if warm is None else warm) / may_be
    return Remedy(f"take {number(wanted, 2)} mm² or more for its {short(cable.length_m)} m, or a shorter cable")


@finding("power.outlet", step=DEVICES, condition=conditions.POWER, after="power.drop")
def power_outlet(evaluation: Evaluation) -> Iterator[Finding]:
    """Is each device on an outlet that exists, and that may give what hangs on it?"""
    outlets = {supply.id: {outlet.name for outlet in supply.outlets} for supply in evaluation.rig.supplies}
    for device in evaluation.rig.devices:
        power = device.power
        known = outlets.get(power.supply or "") if power is not None else None
        if power is None or not known or power.outlet in known:
            continue
        names = ", ".join(sorted(known)[:MAX_NAMED])
        yield Finding(
            "power.outlet",
            Verdict.UNPROVEN if power.outlet is None else Verdict.FAILS,
            device.id,
            f"On which outlet {device.title} hangs is not stated"
            if power.outlet is None
            else f"{device.title} hangs on {power.outlet}, which its supply does not have",
            (f"outlets: {names}",),
            Remedy("state its outlet on the Devices sheet"),
            _OUTLET_SOURCE,
        )
    for load in outlet_loads(evaluation):
        row = evaluation.rows.get(OUTLET.id_of(load.key))
        if row is None:
            continue
        rated = short(load.rated_a or 0.0)
        yield Finding(
            "power.outlet",
            row.verdict,
            load.supply.id,
            f"{load.supply.title}, {load.name}: {number(load.peak_a, 1)} A of its {rated} A",
            tuple(device.title for device in load.devices),
            NO_REMEDY if row.verdict is Verdict.HOLDS else Remedy("move one of them to another outlet"),
            _OUTLET_SOURCE,
            (row.id,),
        )


@finding("ports.cable", step=PORTS, condition=conditions.USB, after="ports.hub")
def data_cable(evaluation: Evaluation) -> Iterator[Finding]:
    """Is each USB cable short enough for its speed?"""
    for device in evaluation.rig.devices:
        row = evaluation.rows.get(CABLE.id_of(device.id))
        if row is None or row.stated is None or row.target is None:
            continue
        speed, why = link_speed_mbit(evaluation, device)
        repeated = device.connection is not None and device.connection.repeater
        length = short(row.stated.value)
        limit = "with a repeater in it" if repeated else f"allowed {short(row.target.high)} m without a repeater"
        yield Finding(
            "ports.cable",
            row.verdict,
            device.id,
            f"{device.title}: a cable of {length} m"
            + (f" is too long for {short(speed)} Mbit/s" if row.verdict is Verdict.FAILS else ""),
            (f"{length} m at {short(speed)} Mbit/s, {limit}", why),
            NO_REMEDY
            if row.verdict is Verdict.HOLDS
            else Remedy("take a shorter cable, or one with a repeater in it and say so"),
            _CABLE_SOURCE,
            (row.id,),
        )


@finding("devices.safety", step=DEVICES, condition=conditions.WEATHER, after="mount.payload")
def safety(evaluation: Evaluation) -> Iterator[Finding]:
    """Does somebody stop the night when the weather turns, and has that been tried?"""
    devices = evaluation.rig.devices
    open_to_sky = [device for device in devices if device.kind in SHUTTERS]
    watch = [device for device in devices if device.kind in WATCHERS]
    if not open_to_sky and not watch:
        return
    stop = [device for device in watch if device.truth("stops_the_run")]
    tried = [device for device in stop if device.truth("stop_was_tried")]
    unsaid = [device for device in watch if device.truth("stops_the_run") is None]
    lines = [f"open to the sky: {', '.join(d.title for d in open_to_sky) or '–'}"]
    lines.append(
        f"watch: {', '.join(d.title for d in watch) or '–'}; stop the run: {', '.join(d.title for d in stop) or '–'}"
    )
    if tried:
        yield _safety(
            Verdict.HOLDS, tried[0].id, f"{tried[0].title} stops the night, and that has been tried", lines, ""
        )
    elif stop:
        text = "try it by day: let it report rain, and see the run end, the mount park and the roof shut; then say so"
        title = f"{stop[0].title} is to stop the night, but nobody has tried it"
        yield _safety(Verdict.UNPROVEN, stop[0].id, title, lines, text)
    elif unsaid and not [d for d in watch if d.truth("stops_the_run") is False]:
        title = f"Whether {unsaid[0].title} stops the run is not stated"
        yield _safety(Verdict.UNPROVEN, unsaid[0].id, title, lines, "state whether it stops the run")
    else:
        subject = (open_to_sky or watch)[0]
        title = "Nobody stops the night when the weather turns"
        yield _safety(
            Verdict.FAILS, subject.id, title, lines, "let the weather's watch stop the run, and try it by day"
        )


def _safety(verdict: Verdict, subject: str, title: str, lines: list[str], text: str) -> Finding:
    return Finding("devices.safety", verdict, subject, title, tuple(lines), Remedy(text), _SAFETY_SOURCE)


@finding("mount.payload", step=DEVICES, condition=conditions.MOUNT, after="power.outlet")
def payload(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the mount carry what rides on it, cameras on?"""
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
    yield Finding(
        "mount.payload",
        row.verdict,
        "mount",
        f"The mount carries at least {number(load, 1)} kg; {len(carried.missing)} masses are not stated"
        if row.verdict is Verdict.UNPROVEN
        else f"The mount carries {number(load, 1)} kg of its {short(rating)} kg",
        tuple(lines),
        NO_REMEDY
        if row.verdict is Verdict.HOLDS
        else Remedy(f"state the mass of: {missing}")
        if row.verdict is Verdict.UNPROVEN
        else Remedy("take weight off, or a stronger mount; balance it with the cameras on"),
        _PAYLOAD_SOURCE,
        (row.id,),
    )


@finding("dew.point", step=DEVICES, condition=conditions.WEATHER, after="devices.safety")
def dew(evaluation: Evaluation) -> Iterator[Finding]:
    """Do two readings of the dew point agree, and do the optics stay above it?"""
    for device in evaluation.rig.devices:
        row, margin = (evaluation.rows.get(kind.id_of(device.id)) for kind in (DEW_POINT, DEW_MARGIN))
        if row is None or row.best is None:
            continue
        entries = [f"{name}: {number(quantity_value.value, 1)} °C" for name, quantity_value in row.values.items()]
        if len(row.values) > 1 and row.verdict is not Verdict.HOLDS:
            title = f"{device.title} tells a dew point that its own air, or another reading, does not have"
            text = "hold it against another thermometer and hygrometer; a wet or dirty sensor reads too moist"
            yield Finding(
                "dew.point", row.verdict, device.id, title, tuple(entries), Remedy(text), _DEW_SOURCE, (row.id,)
            )
        if margin is None or margin.best is None:
            continue
        air, above = device.best("air_c") or 0.0, margin.best.value
        warm = warmed_c(evaluation.rig)
        lines = (
            *entries,
            f"{number(air, 1)} − {short(GLASS_BELOW_AIR_C)} + {number(warm, 1)} (heaters) − "
            f"{number(row.best.value, 1)} = {number(above, 1)} °C",
        )
        yield Finding(
            "dew.point",
            margin.verdict,
            device.id,
            f"The optics stay {number(above, 1)} °C above the dew point"
            if above >= 0
            else f"The optics fall {number(-above, 1)} °C below the dew point",
            lines,
            NO_REMEDY
            if margin.verdict is Verdict.HOLDS
            else Remedy("heat the optics more, and state by how much the heater keeps them above the air"),
            _DEW_SOURCE,
            (margin.id,),
        )

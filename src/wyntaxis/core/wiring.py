"""The wiring as it is drawn: computer, hubs, devices and supplies as blocks, data and power as lines between them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Literal

from wyntaxis.core.evaluation import Evaluation
from wyntaxis.core.ledger import Verdict, worst
from wyntaxis.core.quantities.plan import CURRENT, draw_of
from wyntaxis.core.quantities.ports import LINK, bus_of
from wyntaxis.core.quantities.wiring import AT_MOST, AT_REST, CABLE, NEAR_END
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.wording import number, short

Row = Literal["program", "head", "device", "supply"]
COMPUTER = ""
"""The id of the computer's block where the rig lists none."""


@dataclass(frozen=True)
class Block:
    """A program, computer, hub, device or supply: its row of the drawing, and the gravest finding about it."""

    id: str
    title: str
    row: Row
    symbol: str
    verdict: Verdict | None


@dataclass(frozen=True)
class Wire:
    """A line between two blocks, by id: what it carries, its labels, and how it stands (None where nothing is known).

    ``form`` says how a data line is drawn: USB and serial in full, the network dashed. Programs ``talk``: to the
    devices that they drive, and to those that they need.
    """

    carries: Literal["data", "power", "talk"]
    start: str
    end: str
    form: str
    labels: tuple[str, ...]
    verdict: Verdict | None
    story: str


@dataclass(frozen=True)
class Wiring:
    """Everything that the wiring drawing shows."""

    blocks: tuple[Block, ...]
    wires: tuple[Wire, ...]

    def row(self, row: Row) -> list[Block]:
        """Return the blocks of one row, from left to right."""
        return [block for block in self.blocks if block.row == row]


def wiring(evaluation: Evaluation) -> Wiring:
    """Lay the wiring of an evaluated rig out.

    Returns
    -------
    Wiring
        Heads (computer and hubs), devices ordered by the hub they hang on, supplies; and the lines between them.
    """
    rig = evaluation.rig
    marks = _marks(evaluation)
    computer = next((device for device in rig.devices if device.kind == "computer"), None)
    home = computer.id if computer is not None else COMPUTER
    heads = [Block(home, computer.title if computer else "Computer", "head", "computer", marks.get(home))]
    hubs = [device for device in rig.devices if device.kind == "hub"]
    heads += [Block(hub.id, hub.title, "head", "hub", marks.get(hub.id)) for hub in hubs]
    order = {block.id: index for index, block in enumerate(heads)}
    others = [device for device in rig.devices if device.id not in order]
    others.sort(key=lambda device: order.get(_hub_of(device, home), 0))
    blocks = [Block(device.id, device.title, "device", device.kind, marks.get(device.id)) for device in others]
    supplies = [Block(own.id, own.title, "supply", own.kind or "supply", marks.get(own.id)) for own in rig.supplies]
    wires = [wire for device in (*hubs, *others) if (wire := _data(evaluation, device, home)) is not None]
    wires += [wire for device in rig.devices if (wire := _power(evaluation, device)) is not None]
    for supply in rig.supplies:
        if supply.fed_by is not None:
            row = evaluation.rows.get(CURRENT.id_of(supply.id))
            text = f"{number(row.best.value, 1)} A" if row is not None and row.best is not None else ""
            story = f"{supply.title} is fed by {_title(rig, supply.fed_by)}"
            wires.append(Wire("power", supply.fed_by, supply.id, "power", (text,) if text else (), None, story))
    programs = [Block(own.id, own.title, "program", "program", marks.get(own.id)) for own in rig.programs]
    return Wiring((*programs, *heads, *blocks, *supplies), (*wires, *_talk(rig)))


def _talk(rig: Rig) -> Iterator[Wire]:
    """Yield lines from each program to what it drives, and to the programs that it needs."""
    programs = {program.id: program for program in rig.programs}
    for program in rig.programs:
        layer = (program.layer,) if program.layer else ()
        for driven in program.drives:
            story = f"{program.name} drives {_title(rig, driven)}"
            yield Wire("talk", program.id, driven, "talk", layer, None, story)
        for need in program.needs:
            if need in programs and need != program.id:
                story = f"{program.name} needs {programs[need].name}"
                yield Wire("talk", program.id, need, "talk", (), None, story)


def _marks(evaluation: Evaluation) -> dict[str, Verdict]:
    found: dict[str, list[Verdict]] = {}
    for finding in evaluation.findings:
        if finding.is_open and finding.verdict is not Verdict.UNPROVEN:
            found.setdefault(finding.subject, []).append(finding.verdict)
    return {subject: worst(verdicts) for subject, verdicts in found.items()}


def _title(rig: Rig, thing_id: str) -> str:
    return next((thing.title for thing in (*rig.supplies, *rig.devices) if thing.id == thing_id), thing_id)  # type: ignore[attr-defined]


def _hub_of(device: Device, home: str) -> str:
    return (device.connection.hub if device.connection is not None else None) or home


def _data(evaluation: Evaluation, device: Device, home: str) -> Wire | None:
    link = device.connection
    if link is None or link.kind in (None, "none") or device.id == home:
        return None
    rows = [evaluation.rows.get(kind.id_of(device.id)) for kind in (LINK, CABLE)]
    entries = [row.verdict for row in rows if row is not None]
    labels = []
    speed = _speed(evaluation, device)
    if speed:
        labels.append(speed)
    if link.cable_m is not None:
        labels.append(f"{short(link.cable_m)} m")
    start = _hub_of(device, home)
    words = ", ".join(labels) or "nothing known of the line"
    story = f"{device.title} by {link.kind} from {_title(evaluation.rig, start) or 'the computer'}: {words}"
    verdict = worst(entries) if entries else None
    return Wire("data", start, device.id, link.kind or "usb", tuple(labels), verdict, story)


def _speed(evaluation: Evaluation, device: Device) -> str:
    """Return the speed that a device's link was negotiated at, and what the device asks of it."""
    bus = bus_of(evaluation)
    usb = next((m.usb for m in bus.matches if m.device.id == device.id), None) if bus is not None else None
    rate, limit = device.number("data_rate_mb_s"), device.number("traffic_percent")
    asked = f"{short(rate * (100.0 if limit is None else limit) / 100, 0)} MB/s" if rate is not None else ""
    negotiated = f"{short(usb.speed_mbit)} Mbit/s" if usb is not None and usb.speed_mbit is not None else ""
    return ", ".join(text for text in (negotiated, asked) if text)


def _power(evaluation: Evaluation, device: Device) -> Wire | None:
    power = device.power
    if power is None or power.supply is None:
        return None
    draw, labels = draw_of(device), []
    most = evaluation.rows.get(AT_MOST.id_of(device.id))
    if most is not None and most.best is not None:
        labels.append(f"{number(most.best.value, 1)} V")
    if draw is not None:
        labels.append(f"{short(draw.peak_a)} A")
    rows = [evaluation.rows.get(kind.id_of(device.id)) for kind in (AT_REST, AT_MOST, NEAR_END)]
    verdict = _gravest(row.verdict for row in rows if row is not None and row.target is not None)
    by = f", outlet {power.outlet}" if power.outlet else ""
    story = f"{device.title} is fed by {_title(evaluation.rig, power.supply)}{by}: {', '.join(labels) or 'not stated'}"
    return Wire("power", power.supply, device.id, "power", tuple(labels), verdict, story)


def _gravest(verdicts: Iterable[Verdict]) -> Verdict | None:
    entries = list(verdicts)
    return worst(entries) if entries else None


def plugging(rig: Rig, thing_id: str, into: str) -> Change | None:
    """Return the change that plugs a device or a supply in elsewhere.

    Parameters
    ----------
    rig
        The document.
    thing_id, into
        A device or a supply; a hub, the computer (:data:`COMPUTER` too) or a supply.

    Returns
    -------
    Change or None
        None where no line goes between the two.
    """
    devices = {device.id: (at, device) for at, device in enumerate(rig.devices)}
    supplies = {supply.id: (at, supply) for at, supply in enumerate(rig.supplies)}
    if thing_id in supplies and into in supplies:
        at, supply = supplies[thing_id]
        return Change.of(f"Feed {supply.title}", ("supplies", at, "fed_by"), into)
    if thing_id not in devices:
        return None
    at, device = devices[thing_id]
    if into in supplies:
        label = f"Feed {device.title} from {supplies[into][1].title}"
        return Change(label, ((("devices", at, "power", "supply"), into), (("devices", at, "power", "outlet"), None)))
    if into == COMPUTER or (into in devices and devices[into][1].kind in ("hub", "computer")):
        label = f"Plug {device.title} into {devices[into][1].title if into in devices else 'the computer'}"
        hub = None if into == COMPUTER or devices[into][1].kind == "computer" else into
        kind = device.connection.kind if device.connection is not None else None
        return Change(
            label, ((("devices", at, "connection", "hub"), hub), (("devices", at, "connection", "kind"), kind or "usb"))
        )
    return None

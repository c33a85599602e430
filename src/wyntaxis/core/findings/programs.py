"""Can the programs be started one after another, and does each device have one that drives it?"""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.registry import Listed, Proof, Statement, finding, say
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.records.start_order import start_order
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.programs import Program
from wyntaxis.core.steps import RECORDS


@finding(
    "programs.order",
    step=RECORDS,
    proves=Proof(condition=conditions.CONNECTIONS),
    listed=Listed(after="records.sides"),
    source="Each program is started after those that it needs",
    titles={
        "circle": "Programs wait for each other in a circle: {circle}",
        "missing": "{program} needs {need}, which is no program of the rig",
        "order": "Programs can be started in this order: {order}",
    },
    remedies={
        "circle": "Take one of these needs out.",
        "missing": "Add the program {need}, or take the need out of {program}.",
        "order": "",
    },
)
def order(evaluation: Evaluation) -> Iterator[Statement]:
    """Find programs that cannot be started, since what they need is missing or waits for them."""
    programs = evaluation.rig.programs
    if not programs:
        return
    found = start_order(programs)
    for program, need in found.missing:
        yield say(program.id, None, Verdict.FAILS, {"program": program.name, "need": need}, case="missing")
    if found.circle:
        way = " → ".join(program.name for program in (*found.circle, found.circle[0]))
        lines = [f"{program.name} needs {', '.join(_names(program, programs))}" for program in found.circle]
        yield say(found.circle[0].id, None, Verdict.FAILS, {"circle": way}, case="circle", lines=lines)
    elif not found.missing:
        names = ", ".join(program.name for program in found.order)
        yield say(programs[0].id, None, Verdict.HOLDS, {"order": names}, case="order")


def _names(program: Program, programs: tuple[Program, ...]) -> list[str]:
    return [own.name for need in program.needs for own in programs if own.id == need]


@finding(
    "programs.drives",
    step=RECORDS,
    proves=Proof(condition=conditions.CONNECTIONS),
    listed=Listed(after="programs.order"),
    source="A device answers one program at a time, unless a device server stands between",
    titles={
        "shared": "{device} is driven by {programs} at once",
        "one": "Each device is driven by one program, or through a device server",
    },
    remedies={
        "shared": "Let one of them drive it, or all through a device server.",
        "one": "",
    },
)
def drives(evaluation: Evaluation) -> Iterator[Statement]:
    """Find devices that several programs drive, none of them a device server."""
    rig = evaluation.rig
    driven = [device for device in rig.devices if _drivers(rig, device.id)]
    if not driven:
        return
    shared = 0
    for device in driven:
        own = _drivers(rig, device.id)
        if len(own) > 1 and not any("device_server" in program.roles for program in own):
            shared += 1
            names = " and ".join(program.name for program in own)
            yield say(device.id, None, Verdict.TIGHT, {"device": device.title, "programs": names}, case="shared")
    if not shared:
        lines = [f"{device.title}: {', '.join(p.name for p in _drivers(rig, device.id))}" for device in driven]
        yield say(rig.programs[0].id, None, Verdict.HOLDS, {}, case="one", lines=lines)


def _drivers(rig: Rig, device_id: str) -> list[Program]:
    return [program for program in rig.programs if device_id in program.drives]

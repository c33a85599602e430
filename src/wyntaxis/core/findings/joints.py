"""Do the parts screw together, and to a length that repeats?"""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantities.mechanics import GAP, joints_of
from wyntaxis.core.rig.shelf import ShelfPart
from wyntaxis.core.steps import LIGHT_PATH
from wyntaxis.core.train.joints import Meeting, joint_text, meet
from wyntaxis.core.train.lightpath import datum_index
from wyntaxis.core.wording import MINUS, number, short

_MATE_SOURCE = "Threads mate with the same diameter and pitch and opposite gender (ISO 261); slip joints by diameter"
_DEPTH_SOURCE = "A male thread longer than the female is deep bottoms out: gap = male − female"
_SEAT_SOURCE = "Only a shoulder stops a part at the same place each time; a slip joint can tilt"
_REASONS = {
    "thread": "another thread diameter or standard",
    "pitch": "the same diameter but another pitch",
    "gender": "the same gender on both sides",
    "slip": "one side slips, the other screws",
}


@finding("joints.mate", step=LIGHT_PATH, condition=conditions.SPACING, after="scale.measured", rank=1)
def mate(evaluation: Evaluation) -> Iterator[Finding]:
    """Tell every joint that cannot be made; one line for all when there is none."""
    found = joints_of(evaluation)
    bad = [m for m in found if m.state.mating in _REASONS]
    for meeting in bad:
        yield Finding(
            "joints.mate",
            Verdict.FAILS,
            meeting.part_id,
            f"{meeting.before} and {meeting.after} do not screw together",
            (_ends(meeting), f"{_REASONS[meeting.state.mating]}"),
            Remedy(_adapter_text(evaluation.shelf, meeting)),
            _MATE_SOURCE,
        )
    if not bad and found:
        unknown = [m for m in found if m.state.mating == "unknown"]
        verdict = Verdict.UNPROVEN if unknown else Verdict.HOLDS
        title = f"{len(unknown)} of {len(found)} joints are not described" if unknown else "All joints mate"
        text = "state thread and gender of: " + "; ".join(f"{m.before} | {m.after}" for m in unknown)
        yield Finding(
            "joints.mate",
            verdict,
            "train",
            title,
            tuple(_ends(m) for m in found if m.state.mating == "mates"),
            Remedy(text) if unknown else NO_REMEDY,
            _MATE_SOURCE,
        )


def _ends(meeting: Meeting) -> str:
    return f"{meeting.before} | {meeting.after}: {joint_text(meeting.rear)} | {joint_text(meeting.front)}"


def _adapter_text(shelf: tuple[ShelfPart, ...], meeting: Meeting) -> str:
    """Name the shelf's adapters that would go between, the shortest first."""
    assert meeting.rear is not None
    assert meeting.front is not None
    fitting = [
        part
        for part in shelf
        if part.owned > 0
        and part.part.front is not None
        and part.part.rear is not None
        and meet(meeting.rear, part.part.front).mating == "mates"
        and meet(part.part.rear, meeting.front).mating == "mates"
    ]
    if fitting:
        best = min(fitting, key=lambda p: p.part.optical_length_mm)
        return f"put {best.part.title} from the shelf between them: it adds {short(best.part.optical_length_mm)} mm"
    return (
        f"nothing on the shelf goes between {joint_text(meeting.rear)} and {joint_text(meeting.front)}: "
        "an adapter with the mating ends is needed"
    )


@finding("joints.depth", step=LIGHT_PATH, condition=conditions.SPACING, after="joints.mate", rank=1)
def depth(evaluation: Evaluation) -> Iterator[Finding]:
    """Tell every joint whose male thread bottoms out before the shoulders meet, and that no ring fills."""
    rig = evaluation.rig
    datum = datum_index(rig.train)
    for meeting in joints_of(evaluation):
        row = evaluation.rows.get(GAP.id_of(meeting.part_id))
        if row is None or meeting.open_gap_mm == 0 or meeting.rear is None or meeting.front is None:
            continue
        male, female = meeting.rear, meeting.front
        if male.gender != "male":
            male, female = female, male
        gap, left = number(meeting.state.gap_mm, 2), number(meeting.open_gap_mm, 2)
        if meeting.path == "guide":
            where = "in the guide path's built length"
        elif datum is not None and meeting.place <= datum:
            where = "before the datum, so outside the built length: it moves the corrector, not its distance"
        else:
            where = "in the built length"
        lines = [f"{number(male.depth_mm or 0, 2)} {MINUS} {number(female.depth_mm or 0, 2)} = {gap} mm"]
        if meeting.rings:
            names = ", ".join(ring.title for ring in meeting.rings)
            lines.append(f"{gap} {MINUS} {number(meeting.rings_mm, 2)} ({names}) = {left} mm left open")
        lines[-1] += f", {where}"
        tail = "" if "before" in where else "; the gap counts in the built length until then"
        yield Finding(
            "joints.depth",
            row.verdict,
            meeting.part_id,
            f"The thread bottoms out between {meeting.before} and {meeting.after}: a gap of {left} mm",
            tuple(lines),
            Remedy(
                f"put a ring of {gap} mm or more around the male thread as a stop, or use a part with a "
                f"shorter male or a deeper female thread{tail}"
            ),
            _DEPTH_SOURCE,
            (row.id,),
        )


@finding("joints.seat", step=LIGHT_PATH, after="joints.depth")
def seat(evaluation: Evaluation) -> Iterator[Finding]:
    """Tell every joint that has no repeatable seat, or can tilt."""
    for meeting in joints_of(evaluation):
        if meeting.state.seat in ("no shoulder", "may tilt"):
            bare = meeting.state.seat == "no shoulder"
            what = "has no shoulder to seat on" if bare else "is a slip joint and can tilt"
            yield Finding(
                "joints.seat",
                Verdict.FAILS if bare else Verdict.TIGHT,
                meeting.part_id,
                f"The joint between {meeting.before} and {meeting.after} {what}",
                (_ends(meeting),),
                Remedy(
                    "use a part with a shoulder there, or a lock ring: without one the length is different each time"
                    if bare
                    else "use a threaded joint there, or a clamping ring that pulls square"
                ),
                _SEAT_SOURCE,
            )

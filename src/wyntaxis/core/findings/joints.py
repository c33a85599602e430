"""Do the parts' threads mate, bottom out, and seat?"""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Proof, Statement, finding, say
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantities.mechanics import GAP, joints_of
from wyntaxis.core.rig.shelf import ShelfPart
from wyntaxis.core.steps import LIGHT_PATH
from wyntaxis.core.train.joints import Meeting, joint_text, meet
from wyntaxis.core.train.lightpath import datum_index
from wyntaxis.core.wording import MINUS, number

_REASONS = {
    "thread": "another thread diameter or standard",
    "pitch": "the same diameter but another pitch",
    "gender": "the same gender on both sides",
    "slip": "one side slips, the other screws",
}


@finding(
    "joints.mate",
    step=LIGHT_PATH,
    proves=Proof(condition=conditions.SPACING, rank=1),
    listed=Listed(after="scale.measured"),
    source="Threads mate with the same diameter and pitch and opposite gender (ISO 261); slip joints by diameter",
    titles={
        "fails": "{before} and {after} do not screw together",
        "unproven": "{unknown} of {count} joints are not described",
        "holds": "All {count} joints mate",
    },
    remedies={
        "adapter": "Put {adapter} from the shelf between them: it adds {adds} mm.",
        "none on the shelf": "Get an adapter between {rear} and {front}: the shelf has none.",
        "unproven": "Enter thread and gender of: {joints}.",
    },
)
def mate(evaluation: Evaluation) -> Iterator[Statement]:
    """Find every joint that cannot be made; one statement for all when there is none."""
    found = joints_of(evaluation)
    bad = [m for m in found if m.state.mating in _REASONS]
    for meeting in bad:
        cure, named = _adapter(evaluation.shelf, meeting)
        named |= {"before": meeting.before, "after": meeting.after}
        lines = (_ends(meeting), _REASONS[meeting.state.mating])
        yield say(meeting.part_id, None, Verdict.FAILS, named, cure=cure, lines=lines)
    if not bad and found:
        unknown = [m for m in found if m.state.mating == "unknown"]
        joints = "; ".join(f"{m.before} | {m.after}" for m in unknown)
        mating = tuple(_ends(m) for m in found if m.state.mating == "mates")
        verdict = Verdict.UNPROVEN if unknown else Verdict.HOLDS
        named = {"unknown": len(unknown), "count": len(found), "joints": joints}
        yield say("train", None, verdict, named, lines=mating)


def _ends(meeting: Meeting) -> str:
    return f"{meeting.before} | {meeting.after}: {joint_text(meeting.rear)} | {joint_text(meeting.front)}"


def _adapter(shelf: tuple[ShelfPart, ...], meeting: Meeting) -> tuple[str, dict[str, Named]]:
    """Return which of the shelf's adapters goes between, the shortest where several do."""
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
    if not fitting:
        return "none on the shelf", {"rear": joint_text(meeting.rear), "front": joint_text(meeting.front)}
    best = min(fitting, key=lambda p: p.part.optical_length_mm)
    return "adapter", {"adapter": best.part.title, "adds": best.part.optical_length_mm}


@finding(
    "joints.depth",
    step=LIGHT_PATH,
    proves=Proof(condition=conditions.SPACING, rank=1),
    listed=Listed(after="joints.mate"),
    source="A male thread longer than the female is deep bottoms out: gap = male − female",
    titles="The thread bottoms out between {before} and {after}: a gap of {left:2} mm",
    remedies={
        "": "Put a ring of {gap:2} mm or more around the male thread as a stop, or use a part with a shorter male or a "
        "deeper female thread. Until then the gap counts in the built length.",
        "before the datum": "Put a ring of {gap:2} mm or more around the male thread as a stop, or use a part with a "
        "shorter male or a deeper female thread.",
    },
)
def depth(evaluation: Evaluation) -> Iterator[Statement]:
    """Find every joint whose male thread bottoms out before the shoulders meet, and that no ring fills."""
    datum = datum_index(evaluation.rig.train)
    for meeting in joints_of(evaluation):
        row = evaluation.rows.get(GAP.id_of(meeting.part_id))
        if row is None or meeting.open_gap_mm == 0 or meeting.rear is None or meeting.front is None:
            continue
        is_before = meeting.path != "guide" and datum is not None and meeting.place <= datum
        named: dict[str, Named] = {
            "before": meeting.before,
            "after": meeting.after,
            "left": meeting.open_gap_mm,
            "gap": meeting.state.gap_mm,
        }
        cure = "before the datum" if is_before else ""
        lines = _depth_lines(meeting, is_before)
        yield say(meeting.part_id, row, None, named, cure=cure, lines=lines)


def _depth_lines(meeting: Meeting, is_before: bool) -> list[str]:
    male, female = meeting.rear, meeting.front
    assert male is not None
    assert female is not None
    if male.gender != "male":
        male, female = female, male
    where = "in the built length"
    if meeting.path == "guide":
        where = "in the guide path's built length"
    elif is_before:
        where = "before the datum, so outside the built length: it moves the corrector, not its distance"
    gap, left = number(meeting.state.gap_mm, 2), number(meeting.open_gap_mm, 2)
    lines = [f"{number(male.depth_mm or 0, 2)} {MINUS} {number(female.depth_mm or 0, 2)} = {gap} mm"]
    if meeting.rings:
        names = ", ".join(ring.title for ring in meeting.rings)
        lines.append(f"{gap} {MINUS} {number(meeting.rings_mm, 2)} ({names}) = {left} mm left open")
    lines[-1] += f", {where}"
    return lines


@finding(
    "joints.seat",
    step=LIGHT_PATH,
    listed=Listed(after="joints.depth"),
    source="Only a shoulder stops a part at the same place each time; a slip joint can tilt",
    titles={
        "fails": "The joint between {before} and {after} has no shoulder to seat on",
        "tight": "The joint between {before} and {after} is a slip joint and can tilt",
    },
    remedies={
        "fails": "Use a part with a shoulder there, or a lock ring: without one the length is different each time.",
        "tight": "Use a threaded joint there, or a clamping ring that pulls square.",
    },
)
def seat(evaluation: Evaluation) -> Iterator[Statement]:
    """Find every joint that has no repeatable seat, or can tilt."""
    for meeting in joints_of(evaluation):
        if meeting.state.seat in ("no shoulder", "may tilt"):
            verdict = Verdict.FAILS if meeting.state.seat == "no shoulder" else Verdict.TIGHT
            named = {"before": meeting.before, "after": meeting.after}
            yield say(meeting.part_id, None, verdict, named, lines=(_ends(meeting),))

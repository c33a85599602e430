"""What the headers of a folder of frames say against the rig, once they have been read."""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Proof, Statement, finding, say
from wyntaxis.core.ledger import Verdict, worst
from wyntaxis.core.quantities.read_tracking import apart
from wyntaxis.core.records.audit import Check
from wyntaxis.core.records.quantities import Comparable, comparables
from wyntaxis.core.steps import RECORDS
from wyntaxis.core.wording import number, short

_SOURCE = "FITS Standard 4.0 headers are the record that every program leaves"
MAX_NAMED = 12


@finding(
    "frames.header",
    step=RECORDS,
    proves=Proof(condition=conditions.CALIBRATION),
    listed=Listed(after="ports.permission"),
    source=_SOURCE,
    titles={
        "agree": "The headers of {count} frames agree with the rig",
        "": "{count} frames have {keyword} {has}, the rig {wanted}{story}",
    },
    remedies={"": "Correct the program that wrote the frames, or the rig if the program is right.", "agree": ""},
)
def header(evaluation: Evaluation) -> Iterator[Statement]:
    """Compare every value that the frames' headers hold with the rig's."""
    found = evaluation.frames
    if found is None:
        return
    known = comparables(evaluation)
    for check in apart(found.checks):
        compared = known[check.quantity]  # the audit is kept from edit to edit: what it compared is noted here
        if check.verdict is not Verdict.HOLDS:
            yield _difference(check, compared)
    if found.checks and all(check.verdict is Verdict.HOLDS for check in found.checks):
        lines = tuple(f"{c.keyword}: {_text(c.value)} {c.unit}".rstrip() for c in found.checks[:MAX_NAMED])
        yield say("frames", None, Verdict.HOLDS, {"count": found.count}, case="agree", lines=lines)


def _text(value: object) -> str:
    return short(value) if isinstance(value, float) else ", ".join(value) if isinstance(value, tuple) else str(value)


def _difference(check: Check, compared: Comparable) -> Statement:
    has = f"{_text(check.value)} {check.unit}".rstrip()
    wanted = f"{_text(check.rig)} {check.unit}".rstrip()
    lines = [f"{check.keyword} = {has} in {check.count} frames, as in {check.example}", f"rig: {wanted}"]
    if check.by:
        lines.append(f"difference: {check.by}")
    subject = check.quantity.partition(".")[0] if "." in check.quantity else check.quantity
    named: dict[str, Named] = {
        "count": check.count,
        "keyword": check.keyword,
        "has": has,
        "wanted": wanted,
        "story": f": {check.story}" if check.story else "",
    }
    return say(subject, compared, check.verdict, named, lines=lines)


@finding(
    "frames.exposure",
    step=RECORDS,
    proves=Proof(condition=conditions.CALIBRATION),
    listed=Listed(after="frames.partners"),
    source=_SOURCE,
    titles="{count} frames were exposed for {actual} s instead of {asked} s",
    remedies="Match darks on the actual exposure; cameras round to their own steps.",
)
def exposure(evaluation: Evaluation) -> Iterator[Statement]:
    """Find frames whose actual exposure is not the one that was asked for."""
    found, plan = evaluation.frames, evaluation.rig.plan
    if found is None:
        return
    _ = plan.exposure_s if plan is not None else None  # the audit's own, where a header does not say what was asked
    for off in found.exposures:
        line = f"{short(off.actual_s)} / {short(off.asked_s)} = {number(off.actual_s / off.asked_s, 4)}"
        named = {"count": off.count, "actual": off.actual_s, "asked": off.asked_s}
        yield say("frames", None, Verdict.TIGHT, named, lines=(line,))


@finding(
    "frames.partners",
    step=RECORDS,
    proves=Proof(condition=conditions.CALIBRATION, needed="no light frames were read", rank=-1),
    listed=Listed(after="frames.header"),
    source="Lights need darks of the same camera, exposure, gain, offset, binning and set temperature, and flats of "
    "the "
    "same filter, binning and rotation",
    titles={
        "complete": "All {count} light frames have their darks, flats and bias",
        "": "{count} lights ({group}) have no matching {kind}",
        "more": "{count} more groups of lights have no matching frames",
    },
    remedies={
        "complete": "",
        "": "Take {kind} frames that match, or sort these lights out.",
        "more": "See the table on the Programs sheet.",
    },
)
def partners(evaluation: Evaluation) -> Iterator[Statement]:
    """Find groups of lights without matching darks, flats or bias."""
    found = evaluation.frames
    if found is None:
        return
    lights = sum(group.count for group in found.groups if group.kind == "light")
    if not lights:
        return
    if not found.missing:
        lines = tuple(f"{group.count} × {group.title}" for group in found.groups[:MAX_NAMED])
        yield say("frames", None, Verdict.HOLDS, {"count": lights}, case="complete", lines=lines)
        return
    for lack in found.missing[:MAX_NAMED]:
        named: dict[str, Named] = {"count": lack.lights.count, "group": lack.lights.title, "kind": lack.kind}
        lines = (lack.reason, *(frame.path for frame in lack.lights.frames[:3]))
        yield say(lack.lights.title, None, lack.verdict, named, lines=lines)
    rest = found.missing[MAX_NAMED:]
    if rest:
        yield say("frames", None, worst(lack.verdict for lack in rest), {"count": len(rest)}, case="more")


@finding(
    "frames.broken",
    step=RECORDS,
    proves=Proof(condition=conditions.CALIBRATION),
    listed=Listed(after="frames.exposure"),
    source=_SOURCE,
    titles="{broken} of {count} files cannot be read",
    remedies="Take these files out, and check the disk or card that wrote them.",
)
def broken(evaluation: Evaluation) -> Iterator[Statement]:
    """List the files that could not be read."""
    found = evaluation.frames
    if found is None or not found.broken:
        return
    lines = [f"{entry.path}: {entry.why}" for entry in found.broken[:MAX_NAMED]]
    more = len(found.broken) - len(lines)
    lines += [f"and {more} more"] if more > 0 else []
    named = {"broken": len(found.broken), "count": found.count + len(found.broken)}
    yield say("frames", None, Verdict.FAILS, named, lines=lines)

"""What the headers of a folder of frames say against the rig, once they have been read."""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Verdict, worst
from wyntaxis.core.quantities.read_tracking import apart
from wyntaxis.core.records.audit import Check
from wyntaxis.core.records.quantities import comparables
from wyntaxis.core.steps import RECORDS
from wyntaxis.core.wording import number, short

_SOURCE = "FITS Standard 4.0 headers are the record that every program leaves"
_PARTNERS_SOURCE = (
    "Lights need darks of the same camera, exposure, gain, offset, binning and set temperature, and flats of the same "
    "filter, binning and rotation"
)
MAX_NAMED = 12


@finding("frames.header", step=RECORDS, condition=conditions.CALIBRATION, after="ports.permission")
def header(evaluation: Evaluation) -> Iterator[Finding]:
    """Compare every value that the frames' headers hold with the rig's."""
    found = evaluation.frames
    if found is None:
        return
    known = comparables(evaluation)
    for check in apart(found.checks):
        _ = known[check.quantity]  # the audit is kept from edit to edit: what it compared is noted here
        if check.verdict is not Verdict.HOLDS:
            yield _difference(check)
    if found.checks and all(check.verdict is Verdict.HOLDS for check in found.checks):
        lines = tuple(f"{c.keyword}: {_text(c.value)} {c.unit}".rstrip() for c in found.checks[:MAX_NAMED])
        title = f"The headers of {found.count} frames agree with the rig"
        yield Finding("frames.header", Verdict.HOLDS, "frames", title, lines, NO_REMEDY, _SOURCE)


def _text(value: object) -> str:
    return short(value) if isinstance(value, float) else ", ".join(value) if isinstance(value, tuple) else str(value)


def _difference(check: Check) -> Finding:
    story = f": {check.story}" if check.story else ""
    has = f"{_text(check.value)} {check.unit}".rstrip()
    wanted = f"{_text(check.rig)} {check.unit}".rstrip()
    lines = [f"{check.keyword} = {has} in {check.count} frames, as in {check.example}", f"rig: {wanted}"]
    if check.by:
        lines.append(f"difference: {check.by}")
    return Finding(
        "frames.header",
        check.verdict,
        check.quantity.partition(".")[0] if "." in check.quantity else check.quantity,
        f"{check.count} frames have {check.keyword} {has}, the rig {wanted}{story}",
        tuple(lines),
        Remedy("correct the program that wrote the frames, or the rig if the program is right"),
        _SOURCE,
        (check.quantity,),
    )


@finding("frames.exposure", step=RECORDS, condition=conditions.CALIBRATION, after="frames.partners")
def exposure(evaluation: Evaluation) -> Iterator[Finding]:
    """Tell where the actual exposure is not the asked one."""
    found, plan = evaluation.frames, evaluation.rig.plan
    if found is None:
        return
    _ = plan.exposure_s if plan is not None else None  # the audit's own, where a header does not say what was asked
    for off in found.exposures:
        yield Finding(
            "frames.exposure",
            Verdict.TIGHT,
            "frames",
            f"{off.count} frames were exposed for {short(off.actual_s)} s where {short(off.asked_s)} s were asked",
            (f"{short(off.actual_s)} / {short(off.asked_s)} = {number(off.actual_s / off.asked_s, 4)}",),
            Remedy("match darks on the actual exposure; cameras round to their own steps"),
            _SOURCE,
        )


@finding(
    "frames.partners",
    step=RECORDS,
    condition=conditions.CALIBRATION,
    after="frames.header",
    needed="no light frames were read",
    rank=-1,
)
def partners(evaluation: Evaluation) -> Iterator[Finding]:
    """Have all lights their darks, flats and bias?"""
    found = evaluation.frames
    if found is None:
        return
    lights = sum(group.count for group in found.groups if group.kind == "light")
    if not lights:
        return
    if not found.missing:
        title = f"All {lights} light frames have their darks, flats and bias"
        lines = tuple(f"{group.count} × {group.title}" for group in found.groups[:MAX_NAMED])
        yield Finding("frames.partners", Verdict.HOLDS, "frames", title, lines, NO_REMEDY, _PARTNERS_SOURCE)
        return
    for lack in found.missing[:MAX_NAMED]:
        yield Finding(
            "frames.partners",
            lack.verdict,
            lack.lights.title,
            f"{lack.lights.count} lights ({lack.lights.title}) have no matching {lack.kind}",
            (lack.reason, *(frame.path for frame in lack.lights.frames[:3])),
            Remedy(f"take {lack.kind} frames that match, or sort these lights out"),
            _PARTNERS_SOURCE,
        )
    if len(found.missing) > MAX_NAMED:
        rest = found.missing[MAX_NAMED:]
        verdict = worst(lack.verdict for lack in rest)
        title = f"{len(rest)} more groups of lights lack a partner"
        yield Finding("frames.partners", verdict, "frames", title, (), Remedy("see the table"), _PARTNERS_SOURCE)


@finding("frames.broken", step=RECORDS, condition=conditions.CALIBRATION, after="frames.exposure")
def broken(evaluation: Evaluation) -> Iterator[Finding]:
    """Tell which files could not be read."""
    found = evaluation.frames
    if found is None or not found.broken:
        return
    lines = tuple(f"{entry.path}: {entry.why}" for entry in found.broken[:MAX_NAMED])
    more = len(found.broken) - len(lines)
    yield Finding(
        "frames.broken",
        Verdict.FAILS,
        "frames",
        f"{len(found.broken)} of {found.count + len(found.broken)} files cannot be read",
        lines + ((f"and {more} more",) if more > 0 else ()),
        Remedy("take these files out, and look at the disk or card that wrote them"),
        _SOURCE,
    )

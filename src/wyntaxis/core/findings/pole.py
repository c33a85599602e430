"""Where the mount's pole is missed, or the field turns: what that smears, and what of the frame is lost."""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.evidence.guide_log import kind
from wyntaxis.core.evidence.guide_log.kind import GUIDE_LOG
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import QuantityValue, Verdict
from wyntaxis.core.optics import guiding as optics
from wyntaxis.core.quantities.guide_log import POLAR_SMEAR, RECENTRE, TURN, TURN_LOST
from wyntaxis.core.quantities.guiding import guide_use
from wyntaxis.core.steps import GUIDE_LOG as STEP
from wyntaxis.core.wording import number, plus_minus, short

_POLAR_SOURCE = "Drift 15.041 ″/s · e · sin(H − H₀); the field turns by 15.041 ″/s · e / cos δ at the most"
_TURN_SOURCE = "Parallactic angle from half the session before the meridian to half after: W. M. Smart"


@finding("mount.polar", step=STEP, after="guiding.darks")
def polar(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the polar error, or the turning field, smear the corner in one exposure?"""
    rig = evaluation.rig
    if rig.mount is not None and rig.mount.kind == "alt_azimuth":
        yield from _turning_field(evaluation)
        return
    error, smear = evaluation.quantities[kind.POLAR_ERROR], evaluation.quantities[POLAR_SMEAR]
    best = error.measured or error.computed
    if best is None:
        yield from _not_reported(evaluation)
        return
    drifts = evaluation.quantities[kind.POLAR_DRIFT].measured
    lines = []
    if drifts is not None and error.measured is None:
        lines.append(
            f"{plus_minus(abs(drifts.value), drifts.uncertainty, 3)} ″/min / {optics.POLAR_DRIFT:.4f} = "
            f"{plus_minus(best.value, best.uncertainty, 2)}′ at least"
        )
        lines.append("flexure drifts too: a run six hours of hour angle apart tells them apart")
    else:
        lines.append(f"polar error {plus_minus(best.value, best.uncertainty, 2)}′ ({best.source})")
    if smear.best is None or rig.plan is None:
        yield Finding(
            "mount.polar",
            Verdict.UNPROVEN,
            kind.POLAR_ERROR,
            f"The pole is missed by {number(best.value, 1)}′; what that smears is not known",
            tuple(lines),
            Remedy("state the camera's sensor and the planned exposure"),
            _POLAR_SOURCE,
            (kind.POLAR_ERROR, POLAR_SMEAR),
        )
        return
    lines.append(
        f"about the guide star the corner goes by {number(smear.best.value, 2)} px in {short(rig.plan.exposure_s)} s, "
        f"allowed {short(guide_use(rig).drift_px)}"
    )
    good = smear.verdict is Verdict.HOLDS
    wanted = best.value * guide_use(rig).drift_px / 2 / max(smear.best.value, 1e-9)
    at_least = " at least" if error.measured is None else ""
    yield Finding(
        "mount.polar",
        smear.verdict,
        kind.POLAR_ERROR,
        f"The pole is missed by {number(best.value, 1)}′{at_least}: the corner smears {number(smear.best.value, 2)} px",
        tuple(lines),
        NO_REMEDY if good else Remedy(f"better the polar alignment to {number(wanted, 1)}′, or expose shorter"),
        _POLAR_SOURCE,
        (kind.POLAR_ERROR, POLAR_SMEAR),
    )


def _not_reported(evaluation: Evaluation) -> Iterator[Finding]:
    """Yield that the polar error is not verified where a log holds a guided star, and not what was corrected."""
    result = evaluation.evidence.of(GUIDE_LOG)
    own = result.last if result is not None else None
    if own is None or own.drift_dec is None or own.drift_dec.is_free:
        return
    yield Finding(
        "mount.polar",
        Verdict.UNPROVEN,
        kind.POLAR_ERROR,
        "The polar error is not verified: the log does not say what was corrected in declination",
        (
            f"the star stays in place, within {number(abs(own.drift_dec.own.value), 3)} ″/min: it is held there",
            *own.run.notes,
        ),
        Remedy("Log the corrections with their sign or direction, or let the mount run unguided for ten minutes."),
        _POLAR_SOURCE,
        (kind.POLAR_ERROR,),
    )


def _turning_field(evaluation: Evaluation) -> Iterator[Finding]:
    turn, lost, recentre = (evaluation.quantities[key] for key in (TURN, TURN_LOST, RECENTRE))
    if turn.computed is None or lost.computed is None:
        return
    hours = evaluation.rig.plan.hours if evaluation.rig.plan is not None else None
    lines = [f"over {short(hours or 0.0)} h about the meridian the field turns by {number(turn.computed.value, 1)}°"]
    lines.append(f"{number(lost.computed.value, 1)} % of the frame is not on all of them")
    if recentre.computed is not None:
        lines.append(
            "about the guide star the middle goes by 2 % of the frame in "
            f"{number(recentre.computed.value, 0)} min at the fastest"
        )
    verdict = lost.target.judge(QuantityValue(lost.computed.value)) if lost.target is not None else Verdict.UNPROVEN
    good = verdict is Verdict.HOLDS
    yield Finding(
        "mount.polar",
        verdict,
        TURN_LOST,
        f"The field turns by {number(turn.computed.value, 0)}° over the session: {number(lost.computed.value, 0)} % of "
        "the frame is lost",
        tuple(lines),
        NO_REMEDY
        if good
        else Remedy("take it on several nights, each shorter, or turn the camera with a driven rotator"),
        _TURN_SOURCE,
        (TURN, TURN_LOST, RECENTRE),
    )

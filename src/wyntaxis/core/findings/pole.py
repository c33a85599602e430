"""How far the mount misses the pole, or how the field rotates: what that smears, and what of the frame is lost."""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.evidence.guide_log.kind import GUIDE_LOG
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Statement, finding, say
from wyntaxis.core.ledger import QuantityValue, Verdict
from wyntaxis.core.optics import guiding as optics
from wyntaxis.core.quantities.guiding import guide_use
from wyntaxis.core.quantity_kinds import (
    POLAR_DRIFT,
    POLAR_ERROR,
    POLAR_SMEAR,
    ROTATION_LOST,
    ROTATION_RECENTRE,
    ROTATION_SESSION,
)
from wyntaxis.core.steps import GUIDE_LOG as STEP
from wyntaxis.core.wording import number, plus_minus, short


@finding(
    "mount.polar",
    step=STEP,
    listed=Listed(after="guiding.darks"),
    source="Drift 15.041 ″/s · e · sin(H − H₀); the field rotates by 15.041 ″/s · e / cos δ at the most; "
    "parallactic angle "
    "from half the session before the meridian to half after: W. M. Smart",
    titles={
        "": "The polar error is {error:1}′{at_least}: the corner smears by {smear:2} px (allowed {allowed})",
        "no effect": "The polar error is {error:1}′; how much that smears is not known",
        "no log": "The polar error is not verified: the log does not say what was corrected in declination",
        "rotates": "The field rotates by {turn:0}° over the session: {lost:0} % of the frame is lost",
    },
    remedies={
        "": "Improve the polar alignment to {wanted:1}′, or expose shorter.",
        "no effect": "Enter the camera's sensor and the planned exposure.",
        "no log": "Log the corrections with their sign or direction, or let the mount run unguided for ten minutes.",
        "rotates": "Take the frames on several nights, each shorter, or turn the camera with a driven rotator.",
    },
)
def polar(evaluation: Evaluation) -> Iterator[Statement]:
    """Does the polar error, or the rotating field, smear the corner in one exposure?"""
    rig = evaluation.rig
    if rig.mount is not None and rig.mount.kind == "alt_azimuth":
        yield from _rotating_field(evaluation)
        return
    error, smear = evaluation.quantity(POLAR_ERROR), evaluation.quantity(POLAR_SMEAR)
    best = error.measured or error.computed
    if best is None:
        yield from _not_in_the_log(evaluation)
        return
    drift = evaluation.quantity(POLAR_DRIFT).measured
    lines = [f"polar error {plus_minus(best.value, best.uncertainty, 2)}′ ({best.source})"]
    if drift is not None and error.measured is None:
        lines = [
            f"{plus_minus(abs(drift.value), drift.uncertainty, 3)} ″/min / {optics.POLAR_DRIFT:.4f} = "
            f"{plus_minus(best.value, best.uncertainty, 2)}′ at least",
            "flexure drifts too: a second run, six hours of hour angle away, separates them",
        ]
    rows = (error, smear)
    if smear.best is None or rig.plan is None:
        yield say(error.id, rows, Verdict.UNPROVEN, {"error": best.value}, case="no effect", lines=lines)
        return
    allowed = guide_use(rig).drift_px
    lines.append(
        f"about the guide star the corner moves by {number(smear.best.value, 2)} px in {short(rig.plan.exposure_s)} s, "
        f"allowed {short(allowed)}"
    )
    named: dict[str, Named] = {
        "error": best.value,
        "at_least": " at least" if error.measured is None else "",
        "smear": smear.best.value,
        "allowed": allowed,
        "wanted": best.value * allowed / 2 / max(smear.best.value, 1e-9),
    }
    yield say(error.id, rows, smear.verdict, named, lines=lines)


def _not_in_the_log(evaluation: Evaluation) -> Iterator[Statement]:
    """Yield that the polar error is not verified where a log has a guided star, and not what was corrected."""
    result = evaluation.evidence.of(GUIDE_LOG)
    own = result.last if result is not None else None
    if own is None or own.drift_dec is None or own.drift_dec.is_free:
        return
    lines = (
        f"the star stays in place, within {number(abs(own.drift_dec.own.value), 3)} ″/min: it is held there",
        *own.run.notes,
    )
    row = evaluation.quantity(POLAR_ERROR)
    yield say(row.id, row, Verdict.UNPROVEN, case="no log", lines=lines)


def _rotating_field(evaluation: Evaluation) -> Iterator[Statement]:
    rows = [evaluation.quantity(kind) for kind in (ROTATION_SESSION, ROTATION_LOST, ROTATION_RECENTRE)]
    turn, lost, recentre = (row.computed for row in rows)
    if turn is None or lost is None:
        return
    hours = evaluation.rig.plan.hours if evaluation.rig.plan is not None else None
    lines = [f"over {short(hours or 0.0)} h about the meridian the field rotates by {number(turn.value, 1)}°"]
    lines.append(f"{number(lost.value, 1)} % of the frame is not on all of them")
    if recentre is not None:
        lines.append(
            "about the guide star the middle moves by 2 % of the frame in "
            f"{number(recentre.value, 0)} min at the fastest"
        )
    target = rows[1].target
    verdict = target.judge(QuantityValue(lost.value)) if target is not None else Verdict.UNPROVEN
    named = {"turn": turn.value, "lost": lost.value}
    yield say(ROTATION_LOST.id, rows, verdict, named, case="rotates", cure=_cure(verdict), lines=lines)


def _cure(verdict: Verdict) -> str:
    return "none" if verdict is Verdict.HOLDS else "rotates"

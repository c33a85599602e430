"""Whether the guider's calibration still serves: its age, declination, binning, pier side and camera angle."""

from __future__ import annotations

import datetime
from collections.abc import Iterator

from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.registry import Listed, Statement, finding, say
from wyntaxis.core.ledger import Verdict, worst
from wyntaxis.core.quantity_kinds import GUIDE_SCALE
from wyntaxis.core.rig.out_of_date import calibration_from_earlier_setup
from wyntaxis.core.rig.plan import GuideCalibration, GuideSettings
from wyntaxis.core.steps import GUIDE_LOG as STEP
from wyntaxis.core.wording import number, short

MAX_AGE_DAYS, DOUBTFUL_AGE_DAYS = 365.0, 60.0
MAX_DECLINATION_APART, DOUBTFUL_DECLINATION_APART = 60.0, 30.0
ANGLE_FAILS_DEG, ANGLE_TIGHT_DEG = 20.0, 5.0
"""A calibration turned by this sends a third of a correction along the other axis, or a twelfth."""
NOT_SQUARE_DEG = 10.0


@finding(
    "guiding.calibration_age",
    step=STEP,
    listed=Listed(after="guiding.limit"),
    source="A calibration is valid for the guide train, binning, camera angle and pier side that it was made with",
    titles={
        "holds": "The guider's calibration is still valid",
        "tight": "The guider's calibration is doubtful: {worst}",
        "fails": "The guider's calibration is no longer valid: {worst}",
        "unproven": "It is not known whether the guider's calibration is still valid",
    },
    remedies="Calibrate again, near the equator and the meridian, and keep its log.",
)
def calibration_age(evaluation: Evaluation) -> Iterator[Statement]:
    """Is the guider's calibration still valid?"""
    rig = evaluation.rig
    found = rig.guiding.calibration
    if found is None or rig.guiding.kind == "none":
        return
    changes = list(_changes_since(evaluation, found))
    verdict = worst([Verdict.HOLDS, *(own for own, _ in changes)]) if _known(found) else Verdict.UNPROVEN
    named = {"worst": next((words for own, words in changes if own is verdict), "")}
    yield say(GUIDE_SCALE.id, None, verdict, named, lines=(words for _, words in changes))


def _known(found: GuideCalibration) -> bool:
    return any(value is not None for value in (found.date, found.declination_deg, found.binning, found.pier_side))


def _by_limits(value: float, doubtful: float, most: float) -> Verdict:
    return Verdict.FAILS if value > most else Verdict.TIGHT if value > doubtful else Verdict.HOLDS


def _changes_since(evaluation: Evaluation, found: GuideCalibration) -> Iterator[tuple[Verdict, str]]:
    """Yield what has changed since a calibration, and how severe it is."""
    rig = evaluation.rig
    days = _days_since(found.date)
    if days is not None:
        yield _by_limits(days, DOUBTFUL_AGE_DAYS, MAX_AGE_DAYS), f"made {short(days, 0)} days ago"
    camera = rig.guiding.camera
    binning = camera.sensor.binning if camera is not None and camera.sensor is not None else None
    if found.binning is not None and binning is not None:
        same = found.binning == binning
        words = f"made at binning {found.binning}" + ("" if same else f", now {binning}")
        yield Verdict.HOLDS if same else Verdict.FAILS, words
    if found.declination_deg is not None and rig.framing is not None:
        away = abs(found.declination_deg - rig.framing.dec_deg)
        there = number(rig.framing.dec_deg, 0)
        words = f"made at declination {number(found.declination_deg, 0)}°, the object is at {there}°"
        yield _by_limits(away, DOUBTFUL_DECLINATION_APART, MAX_DECLINATION_APART), words
    if found.camera_angle_deg is not None and rig.framing is not None:
        turned = abs((found.camera_angle_deg - rig.framing.position_angle_deg + 180) % 360 - 180)
        words = f"the camera has been turned by {number(turned, 0)}° since"
        yield _by_limits(turned, ANGLE_TIGHT_DEG, ANGLE_FAILS_DEG), words
    if found.pier_side is not None and rig.plan is not None and "flip" in rig.plan.actions:
        yield _after_the_flip(rig.guiding.settings or GuideSettings(), found.pier_side)
    if found.not_square_deg is not None:
        off = abs(found.not_square_deg)
        verdict = Verdict.HOLDS if off <= NOT_SQUARE_DEG else Verdict.TIGHT
        yield verdict, f"its axes are {number(off, 1)}° from a right angle"
    earlier = calibration_from_earlier_setup(rig)
    if earlier is not None:
        yield Verdict.UNPROVEN, f"made in an earlier set-up, before {earlier.changed_on[:10]}"
    elif found.confirmed is not None:
        yield Verdict.HOLDS, f"confirmed on {(found.confirmed.date or '–')[:10]}: {found.confirmed.reason}"
    out_of_date = evaluation.quantity(GUIDE_SCALE).out_of_date
    if out_of_date is not None:
        yield Verdict.FAILS, f"changed since: {', '.join(out_of_date.what[:3])}"


def _after_the_flip(settings: GuideSettings, pier_side: str) -> tuple[Verdict, str]:
    turns = settings.turns_calibration
    if turns is None:
        verdict, words = Verdict.TIGHT, "whether it is turned is not entered"
    else:
        verdict, words = (Verdict.HOLDS, "turned") if turns else (Verdict.FAILS, "not turned")
    return verdict, f"made on the {pier_side} side, and after the flip {words}"


def _days_since(text: str | None) -> float | None:
    try:
        then = datetime.datetime.fromisoformat(text or "")
    except ValueError:
        return None
    if then.tzinfo is None:
        then = then.replace(tzinfo=datetime.UTC)
    return max((datetime.datetime.now(datetime.UTC) - then).total_seconds() / 86_400, 0.0)

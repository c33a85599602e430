"""What guide logs prove: how steady, what drives the errors, whether limits, calibration and darks fit; the pole."""

from __future__ import annotations

import datetime
from collections.abc import Iterator
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.guide_log import kind
from wyntaxis.core.evidence.guide_log.kind import GUIDE_LOG
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Quantity, QuantityValue, Target, Verdict, compare, worst
from wyntaxis.core.limits import FWHM_PER_SIGMA
from wyntaxis.core.quantities.guide_log import drift_allowed_arcsec_min
from wyntaxis.core.quantities.guiding import guide_focal_length, guide_use
from wyntaxis.core.quantities.read_tracking import apart
from wyntaxis.core.rig.plan import GuideCalibration, GuideSettings
from wyntaxis.core.steps import GUIDE_LOG as STEP
from wyntaxis.core.wording import number, plus_minus, short

if TYPE_CHECKING:
    from wyntaxis.core.evidence.guide_log.result import MeasuredRun

_RMS_SOURCE = "RMS about the running line of 20 min; half of the star's FWHM/2.355 widens it by a ninth"
_DRIFT_SOURCE = "Robust line through the errors; d ″/min means at least d/0.2625 ′ of polar error, or flexure"
_PERIOD_SOURCE = "Lomb and Scargle's periodogram: Scargle, ApJ 263, 835 (1982)"
_EAGER_SOURCE = "Autocorrelation one frame apart: below −0.2 corrections overshoot, above +0.6 they lag"
_SETTLE_SOURCE = "Time from the dither until inside the limit for the time wanted, 95 % of dithers"
_LIMIT_SOURCE = "A limit in arcsec over the main scale; errors of two axes lie within it in 1 − exp(−L²/RMS²)"
_SCALE_SOURCE = "rate × 15.041 × t × cos δ ÷ px: the guide scale by the calibration's steps"
_AGE_SOURCE = "A calibration holds for the guide train, binning, camera angle and pier side that it was made with"
SEVERE_LIMIT_SIGMAS = 3.0
"""A stop limit under so many RMS stops for nothing."""
WIDE_LIMIT_MAIN_PX = 2.0
"""A stop limit beyond so many main px stops nothing that matters."""
MAX_AGE_DAYS, DOUBTFUL_AGE_DAYS = 365.0, 60.0
MAX_DECLINATION_APART, DOUBTFUL_DECLINATION_APART = 60.0, 30.0
ANGLE_FAILS_DEG, ANGLE_TIGHT_DEG = 20.0, 5.0
"""A calibration turned by this sends a third of a correction along the other axis, or a twelfth."""
NOT_SQUARE_DEG = 10.0
SCALES_AGREE = 0.05
"""A program that goes by another scale than this corrects too much or too little, and dithers wrongly."""


def _measured(row: Quantity, decimals: int) -> str:
    found = row.measured
    assert found is not None
    unit = row.kind.unit if row.kind.unit == "″" else f" {row.kind.unit}"
    return f"measured: {plus_minus(found.value, found.uncertainty, decimals)}{unit} ({found.source})"


def _reported(row: Quantity) -> Verdict:
    """Return the verdict on a measured number; unproven where nothing is wanted of it."""
    return row.verdict if row.target is not None or len(row.values) > 1 else Verdict.UNPROVEN


def _last(evaluation: Evaluation) -> MeasuredRun | None:
    result = evaluation.evidence.of(GUIDE_LOG)
    return result.last if result is not None else None


@finding("guiding.rms", step=STEP, after="spacing.flat")
def rms(evaluation: Evaluation) -> Iterator[Finding]:
    """Is the guiding steady enough not to widen the stars?"""

    row, ra, dec = (evaluation.quantities[key] for key in (kind.RMS, kind.RMS_RA, kind.RMS_DEC))
    if row.measured is None:
        return
    main = evaluation.value("pixel_scale_arcsec_px")
    lines = [_measured(row, 2)]
    if ra.measured is not None and dec.measured is not None:
        lines.append(f"right ascension {number(ra.measured.value, 2)}″, declination {number(dec.measured.value, 2)}″")
    if row.target is not None:
        lines.append(
            f"star's FWHM/{FWHM_PER_SIGMA:.3f}: {number(row.target.high, 2)}″; half of it: "
            f"{number(row.target.inner_high, 2)}″"
        )
    inside = f" = {number(row.measured.value / main, 2)} main px" if main else ""
    good = row.verdict is Verdict.HOLDS
    worse = "declination" if dec.measured and ra.measured and dec.measured.value > ra.measured.value else "the worm"
    yield Finding(
        "guiding.rms",
        _reported(row),
        row.id,
        f"The guiding strays by {number(row.measured.value, 2)}″ RMS{inside}"
        + ("" if good else ": it widens the stars"),
        tuple(lines),
        NO_REMEDY
        if good
        else Remedy(f"look at period, drift and corrections on the Guide log sheet: start with {worse}"),
        _RMS_SOURCE,
        (row.id, ra.id, dec.id),
    )


@finding("guiding.drift", step=STEP, after="guiding.rms")
def drift(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the star stay in place over an exposure, with the corrections that are made?"""
    rows = [evaluation.quantities[key] for key in (kind.DRIFT_RA, kind.DRIFT_DEC)]
    entries = [row for row in rows if row.measured is not None]
    if not entries:
        return
    allowed = drift_allowed_arcsec_min(evaluation.evaluator)
    lines = [f"{row.kind.label.lower()}: {_measured(row, 3)}" for row in entries]
    if allowed is not None and evaluation.rig.plan is not None:
        drift_px = guide_use(evaluation.rig).drift_px
        lines.append(
            f"{short(drift_px)} main px in {short(evaluation.rig.plan.exposure_s)} s allow {number(allowed, 3)} ″/min"
        )
    verdict = worst(_reported(row) for row in entries)
    most = max(entries, key=lambda row: abs(row.measured.value if row.measured else 0.0))
    assert most.measured is not None
    polar = evaluation.quantities[kind.POLAR_ERROR].best
    good = verdict is Verdict.HOLDS
    if polar is not None:
        lines.append(f"polar error of {number(polar.value, 1)}′ at least, or flexure: not told apart by one run")
    yield Finding(
        "guiding.drift",
        verdict,
        most.id,
        "The star stays in place while it is guided"
        if good
        else f"The star goes by {number(abs(most.measured.value), 2)} ″/min though it is guided",
        tuple(lines),
        NO_REMEDY
        if good
        else Remedy("correct more eagerly, or better the polar alignment; guide at another hour angle to tell flexure"),
        _DRIFT_SOURCE,
        tuple(row.id for row in entries),
    )


@finding("guiding.period", step=STEP, after="guiding.drift")
def period(evaluation: Evaluation) -> Iterator[Finding]:
    """Is what turns in right ascension the worm?"""
    row, own = evaluation.quantities[kind.PERIOD], _last(evaluation)
    if row.measured is None:
        return
    lines = [_measured(row, 1)]
    if own is not None and own.amplitude_arcsec is not None:
        swing = own.amplitude_arcsec
        lines.append(f"it swings by ±{plus_minus(swing.value, swing.standard, 2)}″")
    if row.stated is None:
        yield Finding(
            "guiding.period",
            Verdict.UNPROVEN,
            row.id,
            f"Something turns once in {number(row.measured.value, 0)} s; the worm's period is not stated",
            tuple(lines),
            Remedy("state the worm's period (mount, Guide branch): then it is known whether it is the worm"),
            _PERIOD_SOURCE,
            (row.id,),
        )
        return
    agreed = compare(row.stated, row.measured)
    lines.append(f"the worm turns in {number(row.stated.value, 1)} s, ±{short(row.stated.tolerance, 1)} s allowed")
    good = agreed is not Verdict.FAILS
    ratio = row.stated.value / row.measured.value
    whole = round(ratio) if ratio >= 1 else 0
    harmonic = whole > 1 and abs(ratio / whole - 1) < 0.02
    title = f"What turns in {number(row.measured.value, 0)} s is the worm"
    if not good:
        title = f"What turns in {number(row.measured.value, 0)} s is not the worm" + (
            f", but {whole} times its pace" if harmonic else ""
        )
    remedy = Remedy("log a longer run: its period is told more closely") if agreed is Verdict.TIGHT else NO_REMEDY
    if not good:
        remedy = Remedy(
            "train the mount's own correction, or clean the worm: a part of its turn is uneven"
            if harmonic
            else "look at what has that period: a gear before the worm, a belt, or the stated period is another mount's"
        )
    yield Finding("guiding.period", agreed, row.id, title, tuple(lines), remedy, _PERIOD_SOURCE, (row.id,))


@finding("guiding.aggression", step=STEP, after="guiding.period")
def aggression(evaluation: Evaluation) -> Iterator[Finding]:
    """Are the corrections too eager, or too weak?"""
    for key, axis in apart(((kind.AUTOCORRELATION, ""), (kind.AUTOCORRELATION_DEC, " in declination"))):
        row = evaluation.quantities[key]
        if row.measured is not None and row.target is not None:
            yield _eagerness(row, row.measured, row.target, axis)


def _eagerness(row: Quantity, found: QuantityValue, wanted: Target, axis: str) -> Finding:
    """Return whether corrections on one axis are too eager, or too weak."""
    value, verdict = found.value, row.verdict
    lines = (_measured(row, 2), f"wanted: {number(wanted.low, 1)} to {number(wanted.high, 1)}")
    eager = value < (wanted.low + wanted.high) / 2
    title = f"Corrections{axis} follow the star as they should"
    remedy = NO_REMEDY
    if verdict is not Verdict.HOLDS:
        what = "too eager: they overshoot" if eager else "too weak: errors linger"
        title = f"Corrections{axis} are {what}"
        remedy = Remedy(
            "correct a smaller share of each error, or expose longer: seeing is being chased"
            if eager
            else "correct a larger share of each error, or lower the least move that is corrected"
        )
    return Finding("guiding.aggression", verdict, row.id, title, lines, remedy, _EAGER_SOURCE, (row.id,))


@finding("guiding.log_scale", step=STEP, after="guiding.aggression")
def log_scale(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the guiding program go by the scale that the rig makes?"""
    result = evaluation.evidence.of(GUIDE_LOG)
    if result is None:
        return
    row = evaluation.quantities[kind.SCALE]
    own = row.best
    entries = {run.run.file: run.run.facts.scale_arcsec_px for run in result.runs}
    for file, scale in entries.items():
        if scale is None or own is None:
            continue
        off = scale / own.value - 1
        holds = abs(off) <= SCALES_AGREE
        yield Finding(
            "guiding.log_scale",
            Verdict.HOLDS if holds else Verdict.FAILS,
            file,
            f"{file} goes by {number(scale, 3)} ″/px, the rig makes {number(own.value, 3)}",
            (
                f"{number(scale, 4)} / {number(own.value, 4)} = {number(1 + off, 3)}, "
                f"allowed ±{number(100 * SCALES_AGREE, 0)} %",
            ),
            NO_REMEDY
            if holds
            else Remedy("Correct the focal length, pixel size or binning in the guiding program, or in the rig."),
            _SCALE_SOURCE,
        )


@finding("guiding.settling", step=STEP, after="guiding.log_scale")
def settling(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the guider settle after a dither in the time that it is given?"""
    row, own = evaluation.quantities[kind.SETTLE], _last(evaluation)
    never = own.settling.never if own is not None and own.settling is not None else 0
    if row.measured is None and not never:
        return
    lines = [_measured(row, 1)] if row.measured is not None else []
    if own is not None and own.settling is not None:
        found = own.settling
        lines.append(
            f"{len(found.dithers)} dithers; settled is who stays within {number(found.limit_arcsec, 2)}″ for "
            f"{short(found.for_s)} s"
        )
    if never:
        lines.append(f"{never} of them never settled")
    if row.target is not None:
        lines.append(f"time allowed: {short(row.target.high)} s")
    verdict = Verdict.FAILS if never else _reported(row)
    remedy = NO_REMEDY
    if verdict is Verdict.UNPROVEN:
        remedy = Remedy("state the time to settle at most (Guide branch)")
    elif verdict is not Verdict.HOLDS:
        remedy = Remedy(
            "allow more time, dither by less, correct more eagerly, or widen the limit that counts as settled"
        )
    title = f"{never} dithers never settle" if never else ""
    if row.measured is not None and not never:
        title = f"After a dither it takes {number(row.measured.value, 0)} s to settle, 19 times of 20"
    yield Finding("guiding.settling", verdict, row.id, title, tuple(lines), remedy, _SETTLE_SOURCE, (row.id,))


@finding("guiding.limit", step=STEP, after="guiding.settling")
def limit(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the stop limit stop what matters, and nothing else?"""
    rig, over, measured = evaluation.rig, evaluation.quantities[kind.OVER], evaluation.quantities[kind.RMS].measured
    settings, main = rig.guiding.settings, evaluation.value("pixel_scale_arcsec_px")
    stop = settings.stop_threshold_arcsec if settings is not None else None
    if measured is None or measured.value <= 0 or stop is None or main is None:
        return
    wide = stop / main
    lines = [
        f"{short(stop)}″ / {number(main, 3)} ″/px = {number(wide, 2)} main px",
        f"{short(stop)}″ / {number(measured.value, 2)}″ RMS = {number(stop / measured.value, 1)}",
    ]
    if over.measured is not None:
        lines.append(f"{number(over.measured.value, 1)} % of the frames lie beyond it")
    verdict = worst([Verdict.HOLDS, *([over.verdict] if over.target is not None else [])])
    remedy, title = NO_REMEDY, f"The stop limit of {short(stop)}″ is {number(wide, 1)} main px, and suits"
    if stop < SEVERE_LIMIT_SIGMAS * measured.value:
        verdict = worst([verdict, Verdict.TIGHT])
        title = f"The stop limit of {short(stop)}″ stops for the guiding's usual scatter"
        remedy = Remedy(f"set it to {number(SEVERE_LIMIT_SIGMAS * measured.value, 1)}″ or more, or guide more steadily")
    elif wide > WIDE_LIMIT_MAIN_PX:
        verdict = worst([verdict, Verdict.TIGHT])
        title = f"The stop limit of {short(stop)}″ is {number(wide, 1)} main px: it stops nothing in time"
        remedy = Remedy(
            f"set it between {number(SEVERE_LIMIT_SIGMAS * measured.value, 1)}″ and "
            f"{number(max(WIDE_LIMIT_MAIN_PX * main, SEVERE_LIMIT_SIGMAS * measured.value), 1)}″"
        )
    elif verdict is not Verdict.HOLDS:
        title = f"{number(over.measured.value if over.measured else 0.0, 1)} % of the frames lie beyond the stop limit"
        remedy = Remedy("guide more steadily, or widen the limit: each of these stops the run")
    yield Finding(
        "guiding.limit", verdict, kind.OVER, title, tuple(lines), remedy, _LIMIT_SOURCE, (kind.OVER, kind.RMS)
    )


@finding("guiding.calibration_age", step=STEP, after="guiding.limit")
def calibration_age(evaluation: Evaluation) -> Iterator[Finding]:
    """Does the guider's calibration still serve?"""
    rig = evaluation.rig
    found = rig.guiding.calibration
    if found is None or rig.guiding.kind == "none":
        return
    entries = list(_doubts(evaluation, found))
    verdict = worst([Verdict.HOLDS, *(own for own, _ in entries)]) if _known(found) else Verdict.UNPROVEN
    lines = tuple(words for _, words in entries)
    severe = next((words for own, words in entries if own is verdict), "")
    good = verdict is Verdict.HOLDS
    title = "The guider's calibration still serves" if good else f"The guider's calibration is doubtful: {severe}"
    if verdict is Verdict.FAILS:
        title = f"The guider's calibration no longer serves: {severe}"
    if verdict is Verdict.UNPROVEN:
        title = "Whether the guider's calibration still serves is not known"
    remedy = NO_REMEDY if good else Remedy("calibrate anew, near the equator and the meridian, and keep its log")
    key = kind.SCALE
    yield Finding("guiding.calibration_age", verdict, key, title, lines, remedy, _AGE_SOURCE, ())


def _known(found: GuideCalibration) -> bool:
    return any(value is not None for value in (found.date, found.declination_deg, found.binning, found.pier_side))


def _doubts(evaluation: Evaluation, found: GuideCalibration) -> Iterator[tuple[Verdict, str]]:
    """Yield what has changed since a calibration, and how grave it is."""
    rig = evaluation.rig
    days = _days_since(found.date)
    if days is not None:
        verdict = Verdict.FAILS if days > MAX_AGE_DAYS else Verdict.HOLDS
        verdict = Verdict.TIGHT if DOUBTFUL_AGE_DAYS < days <= MAX_AGE_DAYS else verdict
        yield verdict, f"made {short(days, 0)} days ago"
    camera = rig.guiding.camera
    binning = camera.sensor.binning if camera is not None and camera.sensor is not None else None
    if found.binning is not None and binning is not None:
        same = found.binning == binning
        yield (
            Verdict.HOLDS if same else Verdict.FAILS,
            f"made at binning {found.binning}" + ("" if same else f", now {binning}"),
        )
    if found.declination_deg is not None and rig.framing is not None:
        apart = abs(found.declination_deg - rig.framing.dec_deg)
        verdict = Verdict.HOLDS if apart <= DOUBTFUL_DECLINATION_APART else Verdict.TIGHT
        verdict = Verdict.FAILS if apart > MAX_DECLINATION_APART else verdict
        yield (
            verdict,
            f"made at declination {number(found.declination_deg, 0)}°, the object is at "
            f"{number(rig.framing.dec_deg, 0)}°",
        )
    if found.camera_angle_deg is not None and rig.framing is not None:
        turned = abs((found.camera_angle_deg - rig.framing.position_angle_deg + 180) % 360 - 180)
        verdict = Verdict.HOLDS if turned <= ANGLE_TIGHT_DEG else Verdict.TIGHT
        verdict = Verdict.FAILS if turned > ANGLE_FAILS_DEG else verdict
        yield verdict, f"the camera has been turned by {number(turned, 0)}° since"
    flips = rig.plan is not None and "flip" in rig.plan.actions
    settings = rig.guiding.settings or GuideSettings()
    if found.pier_side is not None and flips:
        turns = settings.turns_calibration
        verdict = Verdict.HOLDS if turns else Verdict.FAILS if turns is False else Verdict.TIGHT
        words = {True: "turned", False: "not turned"}.get(turns, "nobody says whether it is turned")  # type: ignore[arg-type]
        yield verdict, f"made on the {found.pier_side} side, and after the flip {words}"
    if found.not_square_deg is not None:
        off = abs(found.not_square_deg)
        verdict = Verdict.HOLDS if off <= NOT_SQUARE_DEG else Verdict.TIGHT
        yield verdict, f"its axes miss a right angle by {number(off, 1)}°"
    out_of_date = evaluation.rows[kind.SCALE].out_of_date
    if out_of_date is not None:
        yield Verdict.FAILS, f"since then changed: {', '.join(out_of_date.what[:3])}"


def _days_since(text: str | None) -> float | None:
    try:
        then = datetime.datetime.fromisoformat(text or "")
    except ValueError:
        return None
    if then.tzinfo is None:
        then = then.replace(tzinfo=datetime.UTC)
    return max((datetime.datetime.now(datetime.UTC) - then).total_seconds() / 86_400, 0.0)


@finding("guiding.scale_measured", step=STEP, after="guiding.calibration_age")
def scale_measured(evaluation: Evaluation) -> Iterator[Finding]:
    """Is the guide scale that the rig makes the one that the calibration measured?"""
    row = evaluation.quantities[kind.SCALE]
    recorded = evaluation.rig.measured.get(kind.SCALE)
    if row.computed is None or row.measured is None or recorded is None:
        return
    agreed = compare(row.computed, row.measured)
    focal, path = guide_focal_length(evaluation.evaluator), evaluation.guide_optics
    lines = [
        f"measured: {plus_minus(row.measured.value, row.measured.uncertainty, 4)} ″/px ({row.measured.source})",
        f"computed: {plus_minus(row.computed.value, row.computed.uncertainty, 4)} ″/px",
    ]
    if focal is not None and path is not None:
        lines.append(
            f"a guide focal length of {number(focal.value, 1)} mm, computed {number(path.focal_length_mm, 1)} mm"
        )
    off = 100 * (row.measured.value / row.computed.value - 1)
    good, way = agreed is not Verdict.FAILS, "above" if off > 0 else "below"
    yield Finding(
        "guiding.scale_measured",
        agreed,
        row.id,
        "The calibration measures the guide scale that the rig makes"
        if good
        else f"The calibration measures a guide scale {number(abs(off), 1)} % {way} the rig's",
        tuple(lines),
        NO_REMEDY
        if good
        else Remedy(
            "check the guide focal length (a reducer left out?), the guide camera's pixel and binning, the guide rate"
        ),
        _SCALE_SOURCE,
        (row.id,),
    )


@finding("guiding.darks", step=STEP, after="guiding.scale_measured")
def darks(evaluation: Evaluation) -> Iterator[Finding]:
    """Are there guide darks of the guide exposure?"""
    settings = evaluation.rig.guiding.settings
    if settings is None or settings.exposure_s is None or not settings.dark_exposures_s:
        return
    wanted = settings.exposure_s
    there = any(abs(own - wanted) <= 0.05 * wanted for own in settings.dark_exposures_s)
    longer = any(own >= wanted for own in settings.dark_exposures_s)
    verdict = Verdict.HOLDS if there else Verdict.TIGHT if longer else Verdict.FAILS
    text = ", ".join(short(own) for own in sorted(settings.dark_exposures_s))
    yield Finding(
        "guiding.darks",
        verdict,
        "guiding.dark_exposures",
        f"Guide darks cover the exposure of {short(wanted)} s"
        if there
        else f"No guide dark is of {short(wanted)} s: hot pixels may be taken for the star",
        (f"guide exposure {short(wanted)} s; darks of {text} s",),
        NO_REMEDY if there else Remedy(f"take guide darks of {short(wanted)} s"),
        "A dark removes hot pixels of its own exposure",
    )

"""What guide logs prove: how steady, what drives the errors, whether limits, calibration and darks fit."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.guide_log.kind import GUIDE_LOG
from wyntaxis.core.evidence.guide_log.sentences import AXES, advice_text, setting_text
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Statement, finding, say
from wyntaxis.core.ledger import Quantity, Verdict, compare, worst
from wyntaxis.core.limits import FWHM_PER_SIGMA
from wyntaxis.core.quantities.guide_log import drift_allowed_arcsec_min
from wyntaxis.core.quantities.guiding import guide_focal_length, guide_use
from wyntaxis.core.quantities.read_tracking import apart
from wyntaxis.core.quantity_kinds import (
    GUIDE_AUTOCORRELATION,
    GUIDE_AUTOCORRELATION_DEC,
    GUIDE_DRIFT_DEC,
    GUIDE_DRIFT_RA,
    GUIDE_OVER_LIMIT,
    GUIDE_PERIOD,
    GUIDE_RMS,
    GUIDE_RMS_DEC,
    GUIDE_RMS_RA,
    GUIDE_SCALE,
    GUIDE_SETTLE,
    PIXEL_SCALE,
    POLAR_ERROR,
)
from wyntaxis.core.steps import GUIDE_LOG as STEP
from wyntaxis.core.wording import counted, number, plus_minus, short

if TYPE_CHECKING:
    from wyntaxis.core.evidence.guide_log.result import MeasuredRun

_SCALE_SOURCE = "rate × 15.041 × t × cos δ ÷ px: the guide scale by the calibration's steps"
SEVERE_LIMIT_SIGMAS = 3.0
"""A stop limit under so many RMS stops for nothing."""
WIDE_LIMIT_MAIN_PX = 2.0
"""A stop limit beyond so many main px stops nothing that matters."""
SCALES_AGREE = 0.05
"""A program that uses another scale than this corrects too much or too little, and dithers wrongly."""
_HARMONIC = 0.02
"""A period is a fraction of the worm's within this relative difference."""
_SAME_EXPOSURE = 0.05
"""Guide darks serve an exposure within this relative difference."""


def _measured(row: Quantity, decimals: int) -> str:
    found = row.measured
    assert found is not None
    unit = row.kind.unit if row.kind.unit == "″" else f" {row.kind.unit}"
    return f"measured: {plus_minus(found.value, found.uncertainty, decimals)}{unit} ({found.source})"


def _verdict_of(row: Quantity) -> Verdict:
    """Return the verdict on a measured number; unproven where it has no target."""
    return row.verdict if row.target is not None or len(row.values) > 1 else Verdict.UNPROVEN


def _last(evaluation: Evaluation) -> MeasuredRun | None:
    result = evaluation.evidence.of(GUIDE_LOG)
    return result.last if result is not None else None


@finding(
    "guiding.rms",
    step=STEP,
    listed=Listed(after="spacing.flat"),
    source="RMS about the running line of 20 min; half of the star's FWHM/2.355 widens it by a ninth",
    titles={
        "holds": "Guiding errors are {rms:2}″ RMS{on_main}",
        "": "Guiding errors are {rms:2}″ RMS{on_main}: they widen the stars",
    },
    remedies="Check period, drift and corrections on the Guide log sheet: start with {first}.",
)
def rms(evaluation: Evaluation) -> Iterator[Statement]:
    """Is the guiding steady enough not to widen the stars?"""
    rows = [evaluation.quantity(kind) for kind in (GUIDE_RMS, GUIDE_RMS_RA, GUIDE_RMS_DEC)]
    row, ra, dec = rows[0], rows[1].measured, rows[2].measured
    if row.measured is None:
        return
    value, main = row.measured.value, evaluation.value(PIXEL_SCALE)
    lines = [_measured(row, 2)]
    if ra is not None and dec is not None:
        lines.append(f"right ascension {number(ra.value, 2)}″, declination {number(dec.value, 2)}″")
    if row.target is not None:
        lines.append(
            f"star's FWHM/{FWHM_PER_SIGMA:.3f}: {number(row.target.high, 2)}″; half of it: "
            f"{number(row.target.inner_high, 2)}″"
        )
    named: dict[str, Named] = {
        "rms": value,
        "on_main": f" = {number(value / main, 2)} main px" if main else "",
        "first": "declination" if dec and ra and dec.value > ra.value else "the worm",
    }
    yield say(row.id, rows, _verdict_of(row), named, lines=lines)


@finding(
    "guiding.drift",
    step=STEP,
    listed=Listed(after="guiding.rms"),
    source="Robust line through the errors; d ″/min means at least d/0.2625 ′ of polar error, or flexure",
    titles={
        "holds": "The star stays in place while it is guided ({drift:2} ″/min)",
        "": "The star drifts by {drift:2} ″/min although it is guided",
    },
    remedies="Correct more strongly, or improve the polar alignment. Guide at another hour angle to find out "
    "whether it is "
    "flexure.",
)
def drift(evaluation: Evaluation) -> Iterator[Statement]:
    """Does the star stay in place over an exposure, with the corrections that are made?"""
    rows = [evaluation.quantity(kind) for kind in (GUIDE_DRIFT_RA, GUIDE_DRIFT_DEC)]
    rows = [row for row in rows if row.measured is not None]
    if not rows:
        return
    allowed = drift_allowed_arcsec_min(evaluation.evaluator)
    lines = [f"{row.kind.label.lower()}: {_measured(row, 3)}" for row in rows]
    if allowed is not None and evaluation.rig.plan is not None:
        drift_px = guide_use(evaluation.rig).drift_px
        lines.append(
            f"{short(drift_px)} main px in {short(evaluation.rig.plan.exposure_s)} s allow {number(allowed, 3)} ″/min"
        )
    most = max(rows, key=lambda row: abs(row.measured.value if row.measured else 0.0))
    assert most.measured is not None
    polar = evaluation.quantity(POLAR_ERROR).best
    if polar is not None:
        lines.append(f"polar error of {number(polar.value, 1)}′ at least, or flexure: one run cannot separate them")
    verdict = worst(_verdict_of(row) for row in rows)
    yield say(most.id, rows, verdict, {"drift": abs(most.measured.value)}, lines=lines)


@finding(
    "guiding.period",
    step=STEP,
    listed=Listed(after="guiding.drift"),
    source="Lomb and Scargle's periodogram: Scargle, ApJ 263, 835 (1982)",
    titles={
        "unproven": "Periodic error of {period:0} s; the worm's period is not entered",
        "worm": "The periodic error of {period:0} s is the worm's",
        "not the worm": "The periodic error of {period:0} s is not the worm's ({worm:0} s)",
        "harmonic": "The periodic error of {period:0} s is not the worm's, but {times} times as fast",
    },
    remedies={
        "unproven": "Enter the worm's period (mount, Guide branch) to see whether it is the worm.",
        "worm": "Log a longer run: it gives the period more exactly.",
        "not the worm": "Look for what has that period: a gear before the worm, a belt. Or the stated period is "
        "another "
        "mount's.",
        "harmonic": "Train the mount's own correction, or clean the worm: a part of its turn is uneven.",
    },
)
def period(evaluation: Evaluation) -> Iterator[Statement]:
    """Is the periodic error in right ascension the worm's?"""
    row, own = evaluation.quantity(GUIDE_PERIOD), _last(evaluation)
    if row.measured is None:
        return
    lines = [_measured(row, 1)]
    if own is not None and own.amplitude_arcsec is not None:
        swing = own.amplitude_arcsec
        lines.append(f"amplitude ±{plus_minus(swing.value, swing.standard, 2)}″")
    named: dict[str, Named] = {"period": row.measured.value}
    if row.stated is None:
        yield say(row.id, row, Verdict.UNPROVEN, named, lines=lines)
        return
    agreed = compare(row.stated, row.measured)
    lines.append(f"worm period {number(row.stated.value, 1)} s, ±{short(row.stated.tolerance, 1)} s allowed")
    ratio = row.stated.value / row.measured.value
    whole = round(ratio) if ratio >= 1 else 0
    named |= {"worm": row.stated.value, "times": whole}
    case, cure = "worm", "none" if agreed is Verdict.HOLDS else "worm"
    if agreed is Verdict.FAILS:
        case = cure = "harmonic" if whole > 1 and abs(ratio / whole - 1) < _HARMONIC else "not the worm"
    yield say(row.id, row, agreed, named, case=case, cure=cure, lines=lines)


@finding(
    "guiding.aggression",
    step=STEP,
    listed=Listed(after="guiding.period"),
    source="Autocorrelation one frame apart: below −0.2 corrections overshoot, above +0.6 they lag",
    titles={
        "holds": "Corrections{axis} are neither too strong nor too weak (lag-1 autocorrelation {value:2})",
        "strong": "Corrections{axis} are too strong: they overshoot (lag-1 autocorrelation {value:2})",
        "weak": "Corrections{axis} are too weak: errors remain (lag-1 autocorrelation {value:2})",
    },
    remedies={
        "strong": "Correct a smaller share of each error, or expose longer: the guider follows the seeing.",
        "weak": "Correct a larger share of each error, or lower the smallest move that is corrected.",
    },
)
def aggression(evaluation: Evaluation) -> Iterator[Statement]:
    """Are the corrections too strong, or too weak?"""
    for kind, axis in apart(((GUIDE_AUTOCORRELATION, ""), (GUIDE_AUTOCORRELATION_DEC, " in declination"))):
        row = evaluation.quantity(kind)
        if row.measured is None or row.target is None:
            continue
        value, low, high = row.measured.value, row.target.low, row.target.high
        lines = (_measured(row, 2), f"wanted: {number(low, 1)} to {number(high, 1)}")
        case = "strong" if value < (low + high) / 2 else "weak"
        case = str(row.verdict) if row.verdict is Verdict.HOLDS else case
        yield say(row.id, row, None, {"axis": axis, "value": value}, case=case, lines=lines)


@finding(
    "guiding.other_settings",
    step=STEP,
    listed=Listed(after="guiding.aggression"),
    source="The run's own path, corrected frame by frame; settings chosen by half of its blocks, judged by the rest",
    titles={
        "holds": "Other corrections would not have guided better in {axis} ({now:2}″)",
        "tight": "Other corrections would have guided to {then:2}″ in {axis}, instead of {now:2}″",
        "unproven": "It is not known whether other corrections would guide better in {axis}",
    },
    remedies={
        "tight": "Correct {best} in {axis}.",
        "unproven": "Log a run in which one share of each error is corrected, and no other rule applies.",
    },
)
def other_settings(evaluation: Evaluation) -> Iterator[Statement]:
    """Would another share, smallest move or exposure have guided better?"""
    own = _last(evaluation)
    if own is None:
        return
    for axis, name in apart(tuple(AXES.items())):
        advice = own.axes[axis].advice if axis in own.axes else None
        if advice is None:
            continue
        verdict = Verdict.UNPROVEN
        if advice.reproduces:
            verdict = Verdict.HOLDS if advice.best is None else Verdict.TIGHT
        best = setting_text(advice.best) if advice.best is not None else ""
        named: dict[str, Named] = {"axis": name, "now": advice.replayed, "then": advice.then, "best": best}
        yield say(f"guiding.other_settings_{axis}", None, verdict, named, lines=(f"{name}: {advice_text(advice)}",))


@finding(
    "guiding.log_scale",
    step=STEP,
    listed=Listed(after="guiding.other_settings"),
    source=_SCALE_SOURCE,
    titles="{file} uses {scale:3} ″/px; the rig's guide scale is {own:3} ″/px",
    remedies="Correct the focal length, pixel size or binning in the guiding program, or in the rig.",
)
def log_scale(evaluation: Evaluation) -> Iterator[Statement]:
    """Does the guiding program use the rig's guide scale?"""
    result = evaluation.evidence.of(GUIDE_LOG)
    if result is None:
        return
    own = evaluation.quantity(GUIDE_SCALE).best
    scales = {run.run.file: run.run.facts.scale_arcsec_px for run in result.runs}
    for file, scale in scales.items():
        if scale is None or own is None:
            continue
        off = scale / own.value - 1
        verdict = Verdict.HOLDS if abs(off) <= SCALES_AGREE else Verdict.FAILS
        line = (
            f"{number(scale, 4)} / {number(own.value, 4)} = {number(1 + off, 3)}, "
            f"allowed ±{number(100 * SCALES_AGREE, 0)} %"
        )
        yield say(file, None, verdict, {"file": file, "scale": scale, "own": own.value}, lines=(line,))


@finding(
    "guiding.settling",
    step=STEP,
    listed=Listed(after="guiding.log_scale"),
    source="Time from the dither until inside the limit for the time wanted, 95 % of dithers",
    titles={
        "": "After a dither the guider settles within {seconds:0} s, 19 times of 20",
        "never": "The guider never settles after {dithers}",
    },
    remedies={
        "unproven": "Enter the longest time to settle (Guide branch).",
        "": "Allow more time, dither by less, correct more strongly, or widen the limit that counts as settled.",
    },
)
def settling(evaluation: Evaluation) -> Iterator[Statement]:
    """Does the guider settle after a dither in the time allowed?"""
    row, own = evaluation.quantity(GUIDE_SETTLE), _last(evaluation)
    found = own.settling if own is not None else None
    never = found.never if found is not None else 0
    if row.measured is None and not never:
        return
    lines = [_measured(row, 1)] if row.measured is not None else []
    if found is not None:
        lines.append(
            f"{counted(len(found.dithers), 'dither')}; settled means within {number(found.limit_arcsec, 2)}″ for "
            f"{short(found.for_s)} s"
        )
    if never:
        lines.append(f"{never} of them never settled")
    if row.target is not None:
        lines.append(f"time allowed: {short(row.target.high)} s")
    verdict = Verdict.FAILS if never else _verdict_of(row)
    named: dict[str, Named] = {
        "dithers": counted(never, "dither"),
        "seconds": row.measured.value if row.measured is not None else 0.0,
    }
    case = "never" if never else str(verdict)
    yield say(row.id, row, verdict, named, case=case, cure=str(verdict), lines=lines)


@finding(
    "guiding.limit",
    step=STEP,
    listed=Listed(after="guiding.settling"),
    source="A limit in arcsec over the main scale; errors of two axes lie within it in 1 − exp(−L²/RMS²)",
    titles={
        "suits": "The stop limit of {stop}″ is {wide:1} main px, which suits",
        "narrow": "The stop limit of {stop}″ stops for the guiding's usual scatter",
        "wide": "The stop limit of {stop}″ is {wide:1} main px: it stops nothing in time",
        "often": "{over:1} % of the frames are beyond the stop limit",
    },
    remedies={
        "suits": "",
        "narrow": "Set it to {least:1}″ or more, or guide more steadily.",
        "wide": "Set it between {least:1}″ and {most:1}″.",
        "just": "Set it to {least:1}″.",
        "often": "Guide more steadily, or widen the limit: each of these stops the run.",
    },
)
def limit(evaluation: Evaluation) -> Iterator[Statement]:
    """Does the stop limit stop what matters, and nothing else?"""
    over, row = evaluation.quantity(GUIDE_OVER_LIMIT), evaluation.quantity(GUIDE_RMS)
    settings, main, measured = evaluation.rig.guiding.settings, evaluation.value(PIXEL_SCALE), row.measured
    stop = settings.stop_threshold_arcsec if settings is not None else None
    if measured is None or measured.value <= 0 or stop is None or main is None:
        return
    wide, least = stop / main, SEVERE_LIMIT_SIGMAS * measured.value
    lines = [
        f"{short(stop)}″ / {number(main, 3)} ″/px = {number(wide, 2)} main px",
        f"{short(stop)}″ / {number(measured.value, 2)}″ RMS = {number(stop / measured.value, 1)}",
    ]
    share = over.measured.value if over.measured is not None else 0.0
    if over.measured is not None:
        lines.append(f"{number(share, 1)} % of the frames are beyond it")
    verdict, case = worst([Verdict.HOLDS, *([over.verdict] if over.target is not None else [])]), "suits"
    if stop < least:
        verdict, case = worst([verdict, Verdict.TIGHT]), "narrow"
    elif wide > WIDE_LIMIT_MAIN_PX:
        verdict, case = worst([verdict, Verdict.TIGHT]), "wide"
    elif verdict is not Verdict.HOLDS:
        case = "often"
    named = {"stop": stop, "wide": wide, "over": share, "least": least, "most": max(WIDE_LIMIT_MAIN_PX * main, least)}
    is_one = case == "wide" and number(least, 1) == number(named["most"], 1)
    yield say(over.id, (over, row), verdict, named, case=case, cure="just" if is_one else "", lines=lines)


@finding(
    "guiding.scale_measured",
    step=STEP,
    listed=Listed(after="guiding.calibration_age"),
    source=_SCALE_SOURCE,
    titles={
        "fails": "The calibration measures a guide scale {percent:1} % {way} the rig's",
        "": "The calibration measures the rig's guide scale, within {percent:1} %",
    },
    remedies={
        "fails": "Check the guide focal length (a reducer left out?), the guide camera's pixel and binning, the "
        "guide rate.",
    },
)
def scale_measured(evaluation: Evaluation) -> Iterator[Statement]:
    """Is the rig's guide scale the one that the calibration measured?"""
    row = evaluation.quantity(GUIDE_SCALE)
    if row.computed is None or row.measured is None or evaluation.rig.measured.get(GUIDE_SCALE.id) is None:
        return
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
    named: dict[str, Named] = {"percent": abs(off), "way": "above" if off > 0 else "below"}
    yield say(row.id, row, compare(row.computed, row.measured), named, lines=lines)


@finding(
    "guiding.darks",
    step=STEP,
    listed=Listed(after="guiding.scale_measured"),
    source="A dark removes hot pixels of its own exposure",
    titles={
        "holds": "Guide darks cover the exposure of {exposure} s",
        "": "No guide dark has {exposure} s: hot pixels may be mistaken for the star",
    },
    remedies="Take guide darks of {exposure} s.",
)
def darks(evaluation: Evaluation) -> Iterator[Statement]:
    """Are there guide darks of the guide exposure?"""
    settings = evaluation.rig.guiding.settings
    if settings is None or settings.exposure_s is None or not settings.dark_exposures_s:
        return
    wanted = settings.exposure_s
    there = any(abs(own - wanted) <= _SAME_EXPOSURE * wanted for own in settings.dark_exposures_s)
    longer = any(own >= wanted for own in settings.dark_exposures_s)
    verdict = Verdict.HOLDS if there else Verdict.TIGHT if longer else Verdict.FAILS
    text = ", ".join(short(own) for own in sorted(settings.dark_exposures_s))
    line = f"guide exposure {short(wanted)} s; darks of {text} s"
    yield say("guiding.dark_exposures", None, verdict, {"exposure": wanted}, lines=(line,))

"""How guide logs are told: a row for each run, sentences, and the calibration."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import NamedTuple

from wyntaxis.core.evidence.guide_log.calibration import Calibration
from wyntaxis.core.evidence.guide_log.comparisons import Comparison, comparisons_of
from wyntaxis.core.evidence.guide_log.nights import night_of_run
from wyntaxis.core.evidence.guide_log.one_axis import AxisOfRun
from wyntaxis.core.evidence.guide_log.result import GuideResult, MeasuredRun
from wyntaxis.core.evidence.guide_log.run import GuideOptics
from wyntaxis.core.evidence.guide_log.sentences import drift_kind, run_lines
from wyntaxis.core.evidence.guide_log.settling import Settling
from wyntaxis.core.evidence.guide_log.statistics import Drift
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.evidence.reporting import Column, Report, Table, fact, text
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.wording import counted, number, plus_minus, short

NO_PERIOD = "no periodic error above the noise, or the run is too short to show it"
NO_DITHER = "the log has no dither"
NO_CALIBRATION = "the log holds no calibration: rows of a way (west, north …), pulse and x, y in px"


def summary_lines(result: GuideResult) -> list[str]:
    """Return in sentences what the run that counts, and the calibration, tell."""
    lines: list[str] = []
    own = result.last
    if own is not None:
        lines += run_lines(own)
    return lines + together_lines(result)


def together_lines(result: GuideResult) -> list[str]:
    """Return in sentences what all runs tell of the pole, and what the calibration tells."""
    lines = []
    if result.polar is not None:
        found = result.polar
        lines.append(
            f"By {counted(found.runs, 'run')} at other hour angles the pole is missed by "
            f"{plus_minus(found.error_arcmin.value, found.error_arcmin.standard, 1)}′, towards "
            f"{number(found.hour_angle_h, 1)} h."
        )
    return lines + calibration_lines(result.calibration)


def calibration_lines(found: Calibration | None) -> list[str]:
    """Return in sentences what a calibration measured."""
    if found is None:
        return []
    lines = []
    scale, focal = found.guide_scale_arcsec_px, found.guide_focal_length_mm
    if scale is not None:
        text = f"Calibration: {plus_minus(scale.value, scale.standard, 3)} ″/px"
        if focal is not None:
            text += f", a guide focal length of {plus_minus(focal.value, focal.standard, 1)} mm"
        lines.append(text + ".")
    if found.angle_deg is not None:
        text = f"Right ascension lies at {plus_minus(found.angle_deg.value, found.angle_deg.standard, 1)}° in the image"
        if found.not_square_deg is not None:
            text += f"; the axes miss a right angle by {number(found.not_square_deg.value, 1)}°"
        lines.append(text + ".")
    if found.backlash_ms is not None:
        play = found.backlash_ms
        lines.append(f"Play in declination: {plus_minus(play.value, play.standard, 0)} ms of pulse.")
    return lines + [f"{note[:1].upper()}{note[1:]}." for note in found.notes]


def settling_text(found: Settling | None) -> str:
    """Return in a sentence how dithers settled; empty without any."""
    if found is None:
        return ""
    dithers = counted(len(found.dithers), "dither")
    text = f"{dithers}, settled within {number(found.limit_arcsec, 2)}″ for {short(found.for_s)} s"
    if found.median_s is not None and found.p95_s is not None:
        text += (
            f": half of them in {plus_minus(found.median_s.value, found.median_s.standard, 0)} s, 19 of 20 in "
            f"{plus_minus(found.p95_s.value, found.p95_s.standard, 0)} s"
        )
    return text + (f"; {found.never} never." if found.never else ".")


class RunOfLog(NamedTuple):
    """A run, with what the rig says."""

    own: MeasuredRun
    optics: GuideOptics

    @property
    def rms_main_px(self) -> Estimate | None:
        """The scatter in pixels of the main camera; None without one."""
        rms, scale = self.own.rms, self.optics.main_scale_arcsec_px
        return rms.times(1 / scale) if rms is not None and scale else None

    @property
    def why(self) -> dict[str, str]:
        """Why a number is not there, by its key."""
        reasons = {
            "period_s": NO_PERIOD if self.own.period_s is None else "",
            "settle_s": NO_DITHER if self.own.settling is None else "",
            "over_limit_share": "the rig states no stop limit" if self.own.over_limit_share is None else "",
            "rms_main_px": "" if self.optics.main_scale_arcsec_px else "the rig has no main camera",
        }
        return {key: reason for key, reason in reasons.items() if reason}


def _settle(row: RunOfLog) -> JsonObject | None:
    found = row.own.settling
    if found is None:
        return None
    entries = {
        "median": found.median_s,
        "p95": found.p95_s,
        "inside_median": found.inside_median_s,
        "inside_p95": found.inside_p95_s,
        "dithers": len(found.dithers),
        "never": found.never,
        "within_arcsec": found.limit_arcsec,
        "for_s": found.for_s,
    }
    return entries | ({"why": "no dither settled before the next"} if found.median_s is None else {})


def _drift(drift: Drift | None) -> Estimate | None:
    return drift.rate if drift is not None else None


def _gusts(row: RunOfLog) -> list[JsonObject]:
    return [
        {"at_s": own.at_s, "seconds": own.seconds, "peak_arcsec": own.peak_arcsec, "frames": len(own.rows)}
        for own in row.own.gusts
    ]


def _shares(axis: AxisOfRun) -> JsonObject | None:
    found = axis.shares
    if found is None:
        return None
    return {
        "noise_arcsec": found.noise,
        "centroid_arcsec": found.centroid,
        "seeing_arcsec": found.seeing,
        "loop_arcsec": found.loop,
        "alone_arcsec": found.alone,
    }


def _advice(axis: AxisOfRun) -> JsonObject | None:
    found = axis.advice
    if found is None:
        return None
    best = found.best if found.reproduces else None
    return {
        "logged": found.logged._asdict(),
        "measured_arcsec": found.measured,
        "replayed_arcsec": found.replayed,
        "reproduces": found.reproduces,
        "best": best._asdict() if best is not None else None,
        "then_arcsec": found.then if best is not None else None,
        "gain_arcsec": found.gain if best is not None else None,
        "frames": found.frames,
    }


Run = Column[RunOfLog]
RUNS = Table[GuideResult, RunOfLog](
    "runs",
    "Guided runs",
    lambda result: [RunOfLog(own, result.optics) for own in result.runs],
    (
        text("run", lambda row: row.own.name, "name"),
        text("night", lambda row: night_of_run(row.own), "night"),
        Run("minutes", "", 0, lambda row: row.own.run.seconds / 60),
        Run("frames", "", 0, lambda row: len(row.own.run.time_s), "frames"),
        Run("counted", "", 0, lambda row: int(row.own.used.sum()), "counted"),
        Run("RMS", "″", 2, lambda row: row.own.rms, "rms_arcsec", bare=True),
        Run("right asc.", "″", 2, lambda row: row.own.rms_ra, "rms_ra_arcsec", bare=True),
        Run("decl.", "″", 2, lambda row: row.own.rms_dec, "rms_dec_arcsec", bare=True),
        Run("RMS", "main px", 2, lambda row: row.rms_main_px, "rms_main_px", bare=True),
        Run("peak", "″", 1, lambda row: row.own.peak_arcsec, "peak_arcsec"),
        Run("drift RA", "″/min", 2, lambda row: _drift(row.own.drift_ra), "drift_ra_arcsec_min", bare=True),
        Run("drift Dec", "″/min", 2, lambda row: _drift(row.own.drift_dec), "drift_dec_arcsec_min", bare=True),
        text("drift Dec of", lambda row: drift_kind(row.own.drift_dec), "drift_dec_kind"),
        Run("period", "s", 0, lambda row: row.own.period_s, "period_s", bare=True),
        Run("settling", "s", 0, lambda row: row.own.settling and row.own.settling.median_s, bare=True),
        Run("lost", "%", 1, lambda row: row.own.lost_share, "lost_share", factor=100),
        fact("file", lambda row: row.own.run.file),
        fact("seconds", lambda row: row.own.run.seconds),
        fact("over_limit_share", lambda row: row.own.over_limit_share),
        fact("drift_with_corrections", lambda row: row.own.drift_dec is not None and bool(row.own.drift_dec.guided)),
        fact("amplitude_arcsec", lambda row: row.own.amplitude_arcsec),
        fact("drift_ra_kind", lambda row: drift_kind(row.own.drift_ra)),
        fact("autocorrelation", lambda row: row.own.alike_ra),
        fact("settle_s", _settle),
        fact("predicted_elongation", lambda row: row.own.elongation),
        fact("gusts", _gusts),
        fact("rms_without_gusts_arcsec", lambda row: row.own.calm_rms),
        fact("correction_lag_frames", lambda row: row.own.lag),
        fact("made_of", lambda row: {axis: _shares(own) for axis, own in row.own.axes.items()}),
        fact("replayed", lambda row: {axis: _advice(own) for axis, own in row.own.axes.items()}),
        fact("notes", lambda row: row.own.run.notes),
        fact("why", lambda row: row.why, optional=True),
    ),
)


def _facts(result: GuideResult) -> JsonObject:
    polar = result.polar
    return {
        "calibration": _calibration(result.calibration),
        "without_gusts": result.without_gusts,
        "polar": None
        if polar is None
        else {"error_arcmin": polar.error_arcmin, "hour_angle_h": polar.hour_angle_h, "runs": polar.runs},
    }


def _calibration(found: Calibration | None) -> JsonObject:
    if found is None:
        keys = ("guide_scale_arcsec_px", "guide_focal_length_mm", "angle_deg", "backlash_ms")
        return dict.fromkeys(keys) | {"why": NO_CALIBRATION}
    return {
        "guide_scale_arcsec_px": found.guide_scale_arcsec_px,
        "guide_focal_length_mm": found.guide_focal_length_mm,
        "angle_deg": found.angle_deg,
        "backlash_ms": found.backlash_ms,
        "not_square_deg": found.not_square_deg,
        "file": found.file,
        "notes": found.notes,
    }


def _all_lines(result: GuideResult) -> Iterator[str]:
    for own in result.runs:
        before = f"{own.name}: " if len(result.runs) > 1 else ""
        yield from (f"{before}{line}" for line in (*run_lines(own), settling_text(own.settling)) if line)
    yield from together_lines(result)


def _answer(result: GuideResult) -> str:
    own = result.last
    if own is None or own.rms is None:
        return ""
    axes = [
        f"{name} {number(rms.value, 2)}″"
        for name, rms in (("right ascension", own.rms_ra), ("declination", own.rms_dec))
        if rms is not None
    ]
    text = f"{own.name}: RMS {plus_minus(own.rms.value, own.rms.standard, 2)}″ ({', '.join(axes)})"
    pixels = RunOfLog(own, result.optics).rms_main_px
    return f"{text}, {number(pixels.value, 2)} px of the main camera." if pixels is not None else f"{text}."


Pair = Column[Comparison]
COMPARISONS = Table[GuideResult, Comparison](
    "comparisons",
    "Runs held against each other",
    comparisons_of,
    (
        text("number", lambda row: ", ".join(part for part in (row.what, row.unit) if part)),
        Pair("first", "", 2, lambda row: row.first, "first_value"),
        Pair("second", "", 2, lambda row: row.second, "second_value"),
        Pair("difference", "", 2, lambda row: row.difference, "difference"),
        Pair("in u", "", 1, lambda row: row.significance if math.isfinite(row.significance) else None, "significance"),
        text("differ", lambda row: "yes" if row.differs else "not shown"),
        text("first run", lambda row: row.before.name, "first"),
        text("second run", lambda row: row.after.name, "second"),
        text("why", lambda row: row.why, "why"),
        fact("number", lambda row: row.what),
        fact("unit", lambda row: row.unit),
        fact("differs", lambda row: row.differs),
    ),
)
"""Numbers of two runs with their difference; they differ where it is more than twice its standard uncertainty."""

REPORT = Report[GuideResult](
    (RUNS, COMPARISONS), not_used=lambda result: result.not_used, answer=_answer, facts=_facts, lines=_all_lines
)
"""How guide logs are told."""

"""What guide logs found, as rows, sentences and JSON."""

from __future__ import annotations

import datetime
from typing import Any

from wyntaxis.core.evidence.guide_log.calibration import Calibration
from wyntaxis.core.evidence.guide_log.result import GuideResult, MeasuredRun
from wyntaxis.core.evidence.guide_log.settling import Settling
from wyntaxis.core.evidence.measured import Estimate, figure
from wyntaxis.core.wording import number, plus_minus, short

RUN_HEADINGS = (
    "run",
    "night",
    "minutes",
    "frames",
    "RMS ″",
    "right asc. ″",
    "decl. ″",
    "RMS main px",
    "peak ″",
    "drift RA ″/min",
    "drift Dec ″/min",
    "period s",
    "settling s",
    "lost %",
)
NO_PERIOD = "no periodic error above the noise, or the run is too short to show it"
NO_DITHER = "the log has no dither"
NO_CALIBRATION = "the log holds no calibration: rows of a way (west, north …), pulse and x, y in px"


def run_row(own: MeasuredRun, main_scale: float | None) -> list[str]:
    """Return a run as a row under :data:`RUN_HEADINGS`."""
    settled = own.settling
    median = settled.median_s if settled is not None else None
    return [
        own.name,
        night_of_run(own),
        number(own.run.seconds / 60, 0),
        str(len(own.run.time_s)),
        _or_dash(own.rms, 2),
        _or_dash(own.rms_ra, 2),
        _or_dash(own.rms_dec, 2),
        "–" if own.rms is None or not main_scale else number(own.rms.value / main_scale, 2),
        "–" if own.peak_arcsec is None else number(own.peak_arcsec, 1),
        _or_dash(own.drift_ra.rate if own.drift_ra else None, 2),
        _or_dash(own.drift_dec.rate if own.drift_dec else None, 2),
        _or_dash(own.period_s, 0),
        _or_dash(median, 0),
        number(100 * own.lost_share, 1),
    ]


def night_of_run(own: MeasuredRun) -> str:
    """Return the night of a run, by the day on which its evening lies; a dash where the log tells no date."""
    start = own.run.start_s
    if start is None:
        return own.run.facts.date or "–"
    try:
        moment = datetime.datetime.fromtimestamp(start, datetime.UTC) - datetime.timedelta(hours=12)
    except (ValueError, OverflowError, OSError):
        return "–"
    return moment.date().isoformat()


def _or_dash(estimate: Estimate | None, decimals: int) -> str:
    return "–" if estimate is None else number(estimate.value, decimals)


def summary_lines(result: GuideResult) -> list[str]:
    """Return in sentences what the run that counts, and the calibration, tell."""
    lines: list[str] = []
    own = result.last
    if own is not None:
        lines += _run_lines(own)
    if result.polar is not None:
        found = result.polar
        lines.append(
            f"By {found.runs} runs at other hour angles the pole is missed by "
            f"{plus_minus(found.error_arcmin.value, found.error_arcmin.standard, 1)}′, towards "
            f"{number(found.hour_angle_h, 1)} h."
        )
    lines += calibration_lines(result.calibration)
    return lines


def _run_lines(own: MeasuredRun) -> list[str]:
    lines = []
    found = own.periodogram.found if own.periodogram is not None else None
    if found is not None:
        lines.append(
            f"{own.name}: right ascension swings by ±"
            f"{plus_minus(found.amplitude_arcsec.value, found.amplitude_arcsec.standard, 2)}″ in "
            f"{plus_minus(found.period_s.value, found.period_s.standard, 0)} s."
        )
    if own.drift_dec is not None:
        how = "with what was corrected" if own.drift_dec.guided else "of the errors themselves"
        lines.append(
            f"Drift in declination {plus_minus(own.drift_dec.rate.value, own.drift_dec.rate.standard, 3)} ″/min, {how}."
        )
    if own.alike_ra is not None:
        lines.append(
            f"Lag-1 autocorrelation {plus_minus(own.alike_ra.value, own.alike_ra.standard, 2)} (below "
            "−0.2 too eager, above 0.6 too weak)."
        )
    if own.elongation is not None:
        lines.append(f"By the guiding alone a star would be {number(own.elongation, 2)} times as long as wide.")
    lines += [f"{note[:1].upper()}{note[1:]}." for note in own.run.notes]
    return lines


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


def guide_json(result: GuideResult) -> dict[str, Any]:
    """Return everything that logs tell as ``wyntaxis guide --json`` prints it."""
    return {
        "runs": [_run_json(own, result) for own in result.runs],
        "calibration": _calibration_json(result.calibration),
        "polar": None
        if result.polar is None
        else {
            "error_arcmin": figure(result.polar.error_arcmin),
            "hour_angle_h": result.polar.hour_angle_h,
            "runs": result.polar.runs,
        },
        "not_used": [{"file": entry.path, "why": entry.why} for entry in result.not_used],
    }


def _run_json(own: MeasuredRun, result: GuideResult) -> dict[str, Any]:
    run, main, why = own.run, result.optics.main_scale_arcsec_px, dict[str, str]()
    entries: dict[str, Any] = {
        "file": run.file,
        "name": own.name,
        "night": night_of_run(own),
        "seconds": run.seconds,
        "frames": len(run.time_s),
        "rms_ra_arcsec": figure(own.rms_ra),
        "rms_dec_arcsec": figure(own.rms_dec),
        "rms_arcsec": figure(own.rms),
        "rms_main_px": figure(own.rms, 1 / main) if main else None,
        "peak_arcsec": own.peak_arcsec,
        "over_limit_share": own.over_limit_share,
        "drift_ra_arcsec_min": figure(own.drift_ra.rate) if own.drift_ra is not None else None,
        "drift_dec_arcsec_min": figure(own.drift_dec.rate) if own.drift_dec is not None else None,
        "drift_with_corrections": bool(own.drift_dec is not None and own.drift_dec.guided),
        "period_s": figure(own.period_s),
        "amplitude_arcsec": figure(own.amplitude_arcsec),
        "autocorrelation": figure(own.alike_ra),
        "settle_s": _settle_json(own.settling),
        "lost_share": own.lost_share,
        "predicted_elongation": own.elongation,
        "notes": list(run.notes),
    }
    if own.period_s is None:
        why["period_s"] = NO_PERIOD
    if own.settling is None:
        why["settle_s"] = NO_DITHER
    if own.over_limit_share is None:
        why["over_limit_share"] = "the rig states no stop limit"
    if not main:
        why["rms_main_px"] = "the rig has no main camera"
    return entries | ({"why": why} if why else {})


def _settle_json(found: Settling | None) -> dict[str, Any] | None:
    if found is None:
        return None
    entries: dict[str, Any] = {
        "median": figure(found.median_s),
        "p95": figure(found.p95_s),
        "inside_median": figure(found.inside_median_s),
        "inside_p95": figure(found.inside_p95_s),
        "dithers": len(found.dithers),
        "never": found.never,
        "within_arcsec": found.limit_arcsec,
        "for_s": found.for_s,
    }
    if found.median_s is None:
        entries["why"] = "no dither settled before the next"
    return entries


def _calibration_json(found: Calibration | None) -> dict[str, Any]:
    keys = ("guide_scale_arcsec_px", "guide_focal_length_mm", "angle_deg", "backlash_ms")
    if found is None:
        return dict.fromkeys(keys) | {"why": NO_CALIBRATION}
    return {
        **{key: figure(getattr(found, key)) for key in keys},
        "not_square_deg": figure(found.not_square_deg),
        "file": found.file,
        "notes": list(found.notes),
    }


def settling_text(found: Settling | None) -> str:
    """Return in a sentence how dithers settled; empty without any."""
    if found is None:
        return ""
    text = f"{len(found.dithers)} dithers, settled within {number(found.limit_arcsec, 2)}″ for {short(found.for_s)} s"
    if found.median_s is not None and found.p95_s is not None:
        text += (
            f": half of them in {plus_minus(found.median_s.value, found.median_s.standard, 0)} s, 19 of 20 in "
            f"{plus_minus(found.p95_s.value, found.p95_s.standard, 0)} s"
        )
    return text + (f"; {found.never} never." if found.never else ".")

"""What one guided run tells, in sentences."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.wording import counted, number, plus_minus, short

if TYPE_CHECKING:
    from wyntaxis.core.evidence.guide_log.replay import Advice, Setting
    from wyntaxis.core.evidence.guide_log.result import MeasuredRun
    from wyntaxis.core.evidence.guide_log.statistics import Drift

AXES = {"ra": "right ascension", "dec": "declination"}
TOLD_APART = 2.0
"""One axis limits where it is worse by more than so many standard uncertainties of the difference."""
MOST_NAMED = 3


def drift_kind(drift: Drift | None) -> str:
    """Return what a drift is that of: the mount alone, a star that ran away, or a star that was held by the guiding."""
    if drift is None:
        return "–"
    if drift.guided:
        return "mount"
    return "star, unguided" if drift.is_free else "star, guided"


def run_lines(own: MeasuredRun) -> list[str]:
    """Return what a run tells, a sentence each."""
    return [
        *_frames(own),
        *_limiting(own),
        *_gusts(own),
        *_period(own),
        *_drifts(own),
        *_autocorrelation(own),
        *_made_of(own),
        *_lag(own),
        *_advice(own),
        *(f"{note[:1].upper()}{note[1:]}." for note in own.run.notes),
    ]


def _frames(own: MeasuredRun) -> Iterator[str]:
    whole, used, lost = len(own.run.time_s), int(own.used.sum()), int(own.run.lost.sum())
    gusty = sum(len(gust.rows) for gust in own.gusts) if own.without_gusts else 0
    settling = whole - used - lost - gusty
    reasons = [
        f"{count} {words}"
        for count, words in ((lost, "lost"), (settling, "settling"), (gusty, "in gusts"))
        if count > 0
    ]
    yield f"{used} of {counted(whole, 'frame')} count" + (f": {', '.join(reasons)}." if reasons else ".")


def _limiting(own: MeasuredRun) -> Iterator[str]:
    ra, dec = own.rms_ra, own.rms_dec
    if ra is None or dec is None or own.run.facts.unguided:
        return
    apart = Estimate(ra.value - dec.value, (ra.standard**2 + dec.standard**2) ** 0.5)
    values = f"right ascension {number(ra.value, 2)}″, declination {number(dec.value, 2)}″"
    if abs(apart.value) <= TOLD_APART * apart.standard:
        yield f"Neither axis limits more than the other: {values}."
    else:
        yield f"{'Right ascension' if apart.value > 0 else 'Declination'} limits: {values}."


def _gusts(own: MeasuredRun) -> Iterator[str]:
    if not own.gusts:
        return
    worst = sorted(own.gusts, key=lambda gust: -gust.peak_arcsec)
    named = ", ".join(
        f"{number(gust.peak_arcsec, 1)}″ after {number(gust.at_s / 60, 1)} min" for gust in worst[:MOST_NAMED]
    )
    seconds = sum(gust.seconds for gust in own.gusts)
    text = f"{counted(len(own.gusts), 'jolt')} as by gusts of wind, {number(seconds, 0)} s in all: {named}"
    text += ", and smaller ones" if len(worst) > MOST_NAMED else ""
    if own.calm_rms is not None:
        rms = plus_minus(own.calm_rms.value, own.calm_rms.standard, 2)
        text += f". The RMS without them is {rms}″" if not own.without_gusts else ". They are left out"
    yield text + "."


def _period(own: MeasuredRun) -> Iterator[str]:
    found = own.periodogram.found if own.periodogram is not None else None
    if found is not None:
        swing, period = found.amplitude_arcsec, found.period_s
        yield (
            f"Right ascension swings by ±{plus_minus(swing.value, swing.standard, 2)}″ in "
            f"{plus_minus(period.value, period.standard, 0)} s."
        )


def _drifts(own: MeasuredRun) -> Iterator[str]:
    how = {
        "mount": "the mount's own, with what was corrected counted back",
        "star, unguided": "of a star that nothing held",
        "star, guided": "of the guided star, which shows nothing of the mount: the log holds no corrections",
    }
    for axis, drift in (("right ascension", own.drift_ra), ("declination", own.drift_dec)):
        if drift is not None:
            rate = plus_minus(drift.rate.value, drift.rate.standard, 3)
            yield f"Drift in {axis} {rate} ″/min, {how[drift_kind(drift)]}."


def _autocorrelation(own: MeasuredRun) -> Iterator[str]:
    if own.alike_ra is not None:
        yield (
            f"Lag-1 autocorrelation {plus_minus(own.alike_ra.value, own.alike_ra.standard, 2)} (below −0.2 too eager, "
            "above 0.6 too weak)."
        )
    if own.elongation is not None:
        yield f"By the guiding alone a star would be {number(own.elongation, 2)} times as long as wide."


def _made_of(own: MeasuredRun) -> Iterator[str]:
    for axis, found in own.axes.items():
        shares = found.shares
        if shares is None or found.rms is None:
            continue
        name = AXES[axis]
        if shares.noise is None or shares.loop is None:
            yield (
                f"What {name} is made of is not known: its noise from frame to frame is hidden by how the star wanders."
            )
            continue
        noise = plus_minus(shares.noise.value, shares.noise.standard, 2)
        text = (
            f"{name[:1].upper()}{name[1:]}'s {number(found.rms.value, 2)}″ are {noise}″ of seeing and centroid noise "
            f"from frame to frame, which no correction takes away, and "
            f"{plus_minus(shares.loop.value, shares.loop.standard, 2)}″ that the corrections leave"
        )
        text += f"; left alone, the mount would have strayed by {number(shares.alone, 1)}″"
        if shares.centroid is not None:
            text += f". By the star's signal-to-noise ratio its centroid scatters by {number(shares.centroid, 2)}″"
        yield text + "."


def _lag(own: MeasuredRun) -> Iterator[str]:
    if own.lag is None:
        return
    lag = plus_minus(own.lag.value, own.lag.standard, 2)
    if round(own.lag.value) >= 1:
        yield (
            f"A correction shows {lag} frames late: the guider measures before the mount has moved. Wait a moment "
            "after each correction, or correct a smaller share."
        )
    else:
        yield f"A correction shows in the next frame ({lag} frames late)."


def _advice(own: MeasuredRun) -> Iterator[str]:
    for axis, found in own.axes.items():
        advice = found.advice
        if advice is not None:
            yield f"{AXES[axis][:1].upper()}{AXES[axis][1:]} replayed with other settings: {advice_text(advice)}."


def setting_text(setting: Setting) -> str:
    """Return how a guider corrects, in words."""
    text = f"{number(100 * setting.share, 0)} % of an error"
    text += f" from {number(setting.smallest, 2)}″ on" if setting.smallest > 0 else ", however small"
    return text + (f", exposures {short(setting.frames)} times as long" if setting.frames > 1 else "")


def advice_text(advice: Advice) -> str:
    """Return what a replay says, in words."""
    logged = f"as logged ({setting_text(advice.logged)})"
    if not advice.reproduces:
        return (
            f"{logged} gives {number(advice.replayed, 2)}″, the log holds {number(advice.measured, 2)}″, so the guider "
            "corrects in another way and no settings can be advised"
        )
    frames = f"{advice.frames} frames"
    if advice.best is None:
        return f"{logged} is as good as any, {number(advice.replayed, 2)}″ over {frames}"
    gain = plus_minus(advice.gain.value, advice.gain.standard, 2)
    return (
        f"{setting_text(advice.best)} would have left {number(advice.then, 2)}″ instead of "
        f"{number(advice.replayed, 2)}″ {logged}, {gain}″ less, over {frames}"
    )

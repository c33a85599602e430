"""Guide logs, measured: each run by itself, the calibration, and what the rig's limits say of them."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.evidence.guide_log.calibration import Calibration
from wyntaxis.core.evidence.guide_log.corrections import signed_steps
from wyntaxis.core.evidence.guide_log.gusts import Gust, calm, gusts_of
from wyntaxis.core.evidence.guide_log.loop import lag_of
from wyntaxis.core.evidence.guide_log.one_axis import AxisOfRun
from wyntaxis.core.evidence.guide_log.periods import Periodogram, periodogram_of
from wyntaxis.core.evidence.guide_log.run import GuideOptics, GuideRun
from wyntaxis.core.evidence.guide_log.settling import Settling, settling_of, while_settling
from wyntaxis.core.evidence.guide_log.statistics import (
    Drift,
    about_running_line,
    drift_of,
    lag_one_autocorrelation,
    scatter_of,
)
from wyntaxis.core.evidence.headers.headers import UnusedFile
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.limits import FWHM_PER_SIGMA
from wyntaxis.core.optics.guiding import polar_error_of

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Flags, Floats

DEFAULT_SETTLE_MAIN_PX = 1.0
"""Settled is taken to be who stays within a main pixel, where the rig states nothing."""
DEFAULT_SETTLE_ARCSEC = 1.5
MIN_SETTLED_SHARE, SKIPPED_S = 0.5, 60.0
"""Where dithers leave less than this share of the frames settled, frames count from so long after each on."""
MIN_HOURS_APART = 2.0
"""Hour angles nearer than this tell one component of the polar error only."""


@dataclass(frozen=True)
class MeasuredRun:
    """One run and what was measured of it, lengths in arcsec; None where it could not be told."""

    run: GuideRun
    rms_ra: Estimate | None
    rms_dec: Estimate | None
    rms: Estimate | None
    peak_arcsec: float | None
    over_limit_share: float | None
    drift_ra: Drift | None
    drift_dec: Drift | None
    periodogram: Periodogram | None
    alike_ra: Estimate | None
    alike_dec: Estimate | None
    """Errors one frame apart, in declination."""
    settling: Settling | None
    lost_share: float
    elongation: float | None
    rest_ra: Floats
    rest_dec: Floats
    used: Flags
    """Which frames count: the star seen, and settled; the rests are of these alone."""
    gusts: tuple[Gust, ...] = ()
    calm_rms: Estimate | None = None
    """RMS of both axes without the gusts; None where there are none."""
    without_gusts: bool = False
    """Whether the gusts were left out of all numbers."""
    axes: Mapping[str, AxisOfRun] = field(default_factory=dict)
    """Axes whose corrections the log holds, by "ra" and "dec"."""
    lag: Estimate | None = None
    """After how many further frames a correction shows."""

    @property
    def name(self) -> str:
        return self.run.name

    @property
    def period_s(self) -> Estimate | None:
        """What turns in right ascension, in s."""
        found = self.periodogram.found if self.periodogram is not None else None
        return found.period_s if found is not None else None

    @property
    def amplitude_arcsec(self) -> Estimate | None:
        """How far it swings in right ascension, in arcsec."""
        found = self.periodogram.found if self.periodogram is not None else None
        return found.amplitude_arcsec if found is not None else None


@dataclass(frozen=True)
class PolarError:
    """By how much the pole is missed in arcmin, at which hour angle in hours, and by how many runs that is told."""

    error_arcmin: Estimate
    hour_angle_h: float
    runs: int


@dataclass(frozen=True)
class GuideResult:
    """Runs, the newest calibration, and what was not used."""

    runs: tuple[MeasuredRun, ...]
    calibration: Calibration | None
    optics: GuideOptics
    not_used: tuple[UnusedFile, ...] = ()
    without_gusts: bool = False
    """Whether gusts were left out."""

    @property
    def last(self) -> MeasuredRun | None:
        """The run that counts: the longest of those that came last on their night."""
        return max(self.runs, key=lambda own: own.run.seconds, default=None)

    @property
    def polar(self) -> PolarError | None:
        """The polar error that drifts in declination at two hour angles or more tell; None for fewer."""
        entries = [
            (own.drift_dec.rate, own.run.facts.hour_angle_h)
            for own in self.runs
            if own.drift_dec is not None and own.drift_dec.is_free and own.run.facts.hour_angle_h is not None
        ]
        hours = [hour for _, hour in entries]
        if len(entries) < 2 or max(hours) - min(hours) < MIN_HOURS_APART:
            return None
        rates = np.array([rate.value for rate, _ in entries])
        error, direction = polar_error_of(rates, hours)
        # Each drift by itself moves the error by so much: their sum in quadrature.
        shares = []
        for place, (rate, _) in enumerate(entries):
            moved = rates.copy()
            moved[place] += rate.standard
            shares.append(polar_error_of(moved, hours)[0] - error)
        return PolarError(Estimate(error, math.hypot(*shares)), direction, len(entries))

    def without_run(self, place: int) -> GuideResult:
        """Return the result without one run."""
        return replace(self, runs=tuple(own for at, own in enumerate(self.runs) if at != place))

    def leaving_gusts(self, *, out: bool, watch: Callable[[], None] = lambda: None) -> GuideResult:
        """Return the result measured with the gusts left out, or with all frames; ``watch`` may cancel."""
        again = measured([own.run for own in self.runs], [], self.optics, watch=watch, without_gusts=out)
        return replace(self, runs=again.runs, without_gusts=out)


def settle_limit(optics: GuideOptics) -> tuple[float, bool]:
    """Return within how many arcsec a run is settled, and whether the rig states it."""
    if optics.settle_arcsec is not None:
        return optics.settle_arcsec, True
    main = optics.main_scale_arcsec_px
    return (DEFAULT_SETTLE_MAIN_PX * main if main is not None else DEFAULT_SETTLE_ARCSEC), False


def measured_run(run: GuideRun, optics: GuideOptics, *, without_gusts: bool = False) -> MeasuredRun:
    """Return what one run tells.

    Returns
    -------
    MeasuredRun
        Scatter about the running line of 20 minutes, of settled frames alone; without gusts where these are to be left
        out.
    """
    limit, stated = settle_limit(optics)
    settling = settling_of(run, limit, optics.settle_s, by_marks=not stated)
    used, note = _settled_frames(run, settling, limit)
    if note and note not in run.notes:
        run = replace(run, notes=(*run.notes, note))
    rests, scatters = _about_line(run, used)
    rest = {axis: found[0] if found is not None else np.zeros(int(used.sum())) for axis, found in rests.items()}
    gusts = gusts_of(run.time_s[used], rest["ra"], rest["dec"], np.flatnonzero(used))
    quiet = used & calm(len(used), gusts)
    calm_rms = None
    if gusts:
        without, calmer = _about_line(run, quiet)
        calm_rms = _together(calmer["ra"], calmer["dec"])
        if without_gusts:
            used, rests, scatters = quiet, without, calmer
            rest = {axis: found[0] if found is not None else np.zeros(int(used.sum())) for axis, found in rests.items()}
    time, stretch = run.time_s[used], run.stretch[used]
    away = np.hypot(rest["ra"], rest["dec"])
    periodogram = periodogram_of(time, run.ra[used], run.interval_s) if rests["ra"] is not None else None
    periodic = periodogram.found if periodogram is not None else None
    autocorrelation = {
        axis: lag_one_autocorrelation(rest[axis], stretch) if found is not None else None
        for axis, found in rests.items()
    }
    over = None
    if optics.stop_limit_arcsec is not None:
        raw = np.hypot(np.nan_to_num(run.ra[used]), np.nan_to_num(run.dec[used]))
        over = float(np.mean(raw > optics.stop_limit_arcsec))
    return MeasuredRun(
        run,
        scatters["ra"],
        scatters["dec"],
        _together(scatters["ra"], scatters["dec"]),
        float(away.max()) if len(away) else None,
        over,
        drift_of(run, run.ra, run.ra_moved, used, periodic) if rests["ra"] is not None else None,
        drift_of(run, run.dec, run.dec_moved, used, None, play=True) if rests["dec"] is not None else None,
        periodogram,
        autocorrelation["ra"],
        autocorrelation["dec"],
        settling,
        float(run.lost.mean()),
        predicted_elongation(scatters["ra"], scatters["dec"], optics.star_fwhm_arcsec),
        rest["ra"],
        rest["dec"],
        used,
        gusts,
        calm_rms,
        without_gusts,
        *_axes(run, optics, quiet, scatters),
    )


def _about_line(
    run: GuideRun, used: Flags
) -> tuple[dict[str, tuple[Floats, Floats] | None], dict[str, Estimate | None]]:
    """Return the errors about their running line on each axis, and their scatter; None for an axis without any."""
    time, stretch = run.time_s[used], run.stretch[used]
    rests = {
        axis: about_running_line(time, values[used], stretch) if np.isfinite(values[used]).all() else None
        for axis, values in (("ra", run.ra), ("dec", run.dec))
    }
    return rests, {axis: scatter_of(*rest) if rest is not None else None for axis, rest in rests.items()}


def _axes(
    run: GuideRun, optics: GuideOptics, good: Flags, scatters: Mapping[str, Estimate | None]
) -> tuple[dict[str, AxisOfRun], Estimate | None]:
    """Return the axes whose corrections the log holds, and after how many further frames a correction shows."""
    whole, lag = scatters["ra"], None
    if run.ra_moved is not None and whole is not None:
        lag = lag_of(run, run.ra, signed_steps(run.ra, run.ra_moved, run.stretch), whole.value)
    frames = round(lag.value) if lag is not None else 0
    fwhm = optics.star_fwhm_arcsec
    if fwhm is not None and optics.scale_arcsec_px is not None:
        fwhm = math.hypot(fwhm, optics.scale_arcsec_px)  # a pixel widens the star in the guide camera
    entries = (("ra", run.ra, run.ra_moved, False), ("dec", run.dec, run.dec_moved, True))
    return {
        axis: AxisOfRun(run, values, moved, good, scatters[axis], max(frames, 0), fwhm, play=play)
        for axis, values, moved, play in entries
        if moved is not None
    }, lag


def _settled_frames(run: GuideRun, settling: Settling | None, limit_arcsec: float) -> tuple[Any, str]:
    """Return which frames count, (n,), and what is to be said of it: those of the star, settled after a dither.

    Where dithers that never settle would leave few frames, those count that come a while after each dither.
    """
    seen = ~run.lost
    used = seen & ~while_settling(run, settling)
    if settling is None or not settling.never or used.sum() >= MIN_SETTLED_SHARE * seen.sum():
        return (used, "") if used.sum() >= 3 else (seen, "")
    later = seen.copy()
    for entry in settling.dithers:
        until = int(np.searchsorted(run.time_s, entry.at_s + SKIPPED_S))
        later[entry.row : min(max(until, entry.row + 1), entry.until_row)] = False
    if later.sum() < 3:
        later = seen
    count, of = settling.never, len(settling.dithers)
    return later, (
        f"{count} of {of} dithers never settled within {limit_arcsec:.2g}″: {int(later.sum())} frames from "
        f"{SKIPPED_S:.0f} s after each on are counted"
    )


def _together(ra: Estimate | None, dec: Estimate | None) -> Estimate | None:
    """Return the RMS of both axes together."""
    entries = [own for own in (ra, dec) if own is not None]
    if not entries:
        return None
    value = math.hypot(*(own.value for own in entries))
    if value <= 0:
        return Estimate(0.0, 0.0)
    return Estimate(value, math.hypot(*(own.value * own.standard for own in entries)) / value)


def predicted_elongation(ra: Estimate | None, dec: Estimate | None, fwhm_arcsec: float | None) -> float | None:
    """Return the long over the short axis that unlike guiding makes of a round star; None without all three.

    Parameters
    ----------
    ra, dec
        RMS on each axis in arcsec.
    fwhm_arcsec
        The star's FWHM without guiding errors, in arcsec.

    Returns
    -------
    float or None
        FWHM and 2.355 RMS add in quadrature on each axis.
    """
    if ra is None or dec is None or fwhm_arcsec is None:
        return None
    sides = [math.hypot(fwhm_arcsec, FWHM_PER_SIGMA * own.value) for own in (ra, dec)]
    return max(sides) / min(sides)


def measured(
    runs: Sequence[GuideRun],
    calibrations: Sequence[Calibration],
    optics: GuideOptics,
    not_used: Sequence[UnusedFile] = (),
    watch: Callable[[], None] = lambda: None,
    *,
    without_gusts: bool = False,
) -> GuideResult:
    """Return what runs and calibrations tell.

    Parameters
    ----------
    runs, calibrations
        In the order of their files.
    optics
        What the rig says.
    not_used
        What was left out, with the reason.
    watch
        Called between runs; may cancel.
    without_gusts
        Whether gusts are left out of all numbers.

    Returns
    -------
    GuideResult
        Of calibrations the last that tells a scale.
    """
    found = []
    for run in runs:
        watch()
        own = measured_run(run, optics, without_gusts=without_gusts)
        for axis in own.axes.values():
            axis.compute()
            watch()
        found.append(own)
    good = [own for own in calibrations if own.guide_scale_arcsec_px is not None] or list(calibrations)
    return GuideResult(tuple(found), good[-1] if good else None, optics, tuple(not_used), without_gusts)

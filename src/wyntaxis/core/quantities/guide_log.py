"""What guide logs are told of the rig, what is wanted of what they measured, and the polar error with its smear.

Sources of the formulas: see :mod:`wyntaxis.core.optics.guiding`.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.ledger import QuantityValue, Target
from wyntaxis.core.limits import FWHM_PER_SIGMA
from wyntaxis.core.optics import guiding
from wyntaxis.core.quantities.evaluator import QuantityEvaluator, computed, declares, measured, recorded, target
from wyntaxis.core.quantities.guiding import guide_use
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantities.stars import LONG, ROUND
from wyntaxis.core.quantity_kinds import (
    GUIDE_AUTOCORRELATION,
    GUIDE_AUTOCORRELATION_DEC,
    GUIDE_DRIFT_DEC,
    GUIDE_DRIFT_RA,
    GUIDE_ELONGATION,
    GUIDE_LOST,
    GUIDE_OVER_LIMIT,
    GUIDE_PERIOD,
    GUIDE_RMS,
    GUIDE_RMS_DEC,
    GUIDE_RMS_RA,
    GUIDE_SCALE,
    GUIDE_SETTLE,
    PIXEL_SCALE,
    POLAR_DRIFT,
    POLAR_ERROR,
    POLAR_SMEAR,
    ROTATION_LOST,
    ROTATION_RECENTRE,
    ROTATION_SESSION,
    STAR_ELONGATION,
    STAR_FWHM,
    QuantityKind,
)
from wyntaxis.core.rig.plan import GuideSettings

if TYPE_CHECKING:
    from wyntaxis.core.evidence.guide_log.run import GuideOptics

COMFORTABLE_RMS = 0.5
"""Half the star's own sigma: what widens it by less than a ninth."""
EAGER, WEAK = -0.2, 0.6
"""Errors one frame apart that are less or more alike than this: corrections overshoot, or lag."""
COMFORTABLE_AUTOCORRELATION = (-0.15, 0.5)
MAX_OVER_PERCENT, MAX_LOST_PERCENT = 1.0, 5.0
WORM_WIDTH = 0.02
"""A period within this share of the worm's is the worm's."""
MAX_TURN_LOST_PERCENT = 20.0
RECENTRE_SHARE = 0.02
"""The field is centred anew when its middle has gone by this share of the frame's shorter side."""


def guide_log_optics(numbers: Numbers) -> GuideOptics:
    """Return what guide logs are told of a rig.

    Returns
    -------
    GuideOptics
        Scales in arcsec/px; what the rig does not tell is left out.
    """
    from wyntaxis.core.evidence.guide_log.run import GuideOptics

    rig = numbers.rig
    settings, use = rig.guiding.settings or GuideSettings(), guide_use(rig)
    optics = numbers.guide_optics
    scale = numbers.quantity(GUIDE_SCALE)
    guide = scale.computed or scale.best
    fwhm = numbers.quantity(STAR_FWHM).computed
    calibrated, framed = settings.calibration_declination_deg, rig.framing.dec_deg if rig.framing is not None else None
    return GuideOptics(
        scale_arcsec_px=guide.value if guide is not None else None,
        pixel_um=optics.sensor.pixel_um if optics is not None else None,
        binning=optics.sensor.binning if optics is not None else 1,
        main_scale_arcsec_px=numbers.value(PIXEL_SCALE),
        rate_sidereal=use.rate_sidereal,
        rate_is_stated="rate_sidereal" not in use.usual,
        declination_deg=calibrated if framed is None else framed,
        calibration_declination_deg=framed if calibrated is None else calibrated,
        stop_limit_arcsec=settings.stop_threshold_arcsec,
        settle_arcsec=settings.settle_px * guide.value if settings.settle_px is not None and guide else None,
        settle_s=settings.settle_s or 0.0,
        star_fwhm_arcsec=fwhm.value if fwhm is not None else None,
        one_axis=rig.mount is not None and rig.mount.corrects == "ra",
    )


def _declare_recorded(kind: QuantityKind) -> None:
    measured(kind)(lambda evaluator: recorded(evaluator, kind))


for _kind in (
    GUIDE_RMS, GUIDE_RMS_RA, GUIDE_RMS_DEC, GUIDE_DRIFT_RA, GUIDE_DRIFT_DEC, GUIDE_PERIOD, GUIDE_AUTOCORRELATION,
    GUIDE_SETTLE, GUIDE_AUTOCORRELATION_DEC, GUIDE_OVER_LIMIT, GUIDE_LOST, POLAR_DRIFT, POLAR_ERROR,
):  # fmt: skip
    _declare_recorded(_kind)


def _star_sigma(evaluator: QuantityEvaluator) -> float | None:
    """Return the sigma in arcsec of the star that guiding widens: by seeing and aperture."""

    fwhm = evaluator.computed(STAR_FWHM)
    return fwhm.value / FWHM_PER_SIGMA if fwhm is not None else None


@target(GUIDE_RMS)
def _wanted_rms(evaluator: QuantityEvaluator) -> Target | None:
    sigma = _star_sigma(evaluator)
    if sigma is None or evaluator.measured(GUIDE_RMS) is None:
        return None
    return Target(high=sigma, inner_high=COMFORTABLE_RMS * sigma)


@computed(GUIDE_ELONGATION)
def _elongation(evaluator: QuantityEvaluator) -> QuantityValue | None:
    ra, dec, fwhm = (
        evaluator.measured(GUIDE_RMS_RA),
        evaluator.measured(GUIDE_RMS_DEC),
        evaluator.computed(STAR_FWHM),
    )
    if ra is None or dec is None or fwhm is None:
        return None
    from wyntaxis.core.evidence.guide_log.result import predicted_elongation

    value = predicted_elongation(Estimate(ra.value), Estimate(dec.value), fwhm.value)
    assert value is not None
    sides = [math.hypot(fwhm.value, FWHM_PER_SIGMA * axis.value) for axis in (ra, dec)]
    shares = [
        math.hypot(fwhm.value * fwhm.uncertainty, FWHM_PER_SIGMA**2 * axis.value * axis.uncertainty) / side**2
        for axis, side in zip((ra, dec), sides, strict=True)
    ]
    return QuantityValue(value, (value - 1 / value) * math.hypot(*shares) if value > 1 else 0.0)


@measured(GUIDE_ELONGATION)
def _measured_elongation(evaluator: QuantityEvaluator) -> QuantityValue | None:
    """Return how long the frames' stars are, which guiding is to explain."""
    if evaluator.computed(GUIDE_ELONGATION) is None:
        return None
    found = evaluator.measured(STAR_ELONGATION)
    # Tilt, coma and focus make stars long as well: what guiding makes is a part.
    return (
        None
        if found is None
        else QuantityValue(found.value, found.uncertainty, tolerance=LONG - 1, source=found.source)
    )


@target(GUIDE_ELONGATION)
def _wanted_elongation(evaluator: QuantityEvaluator) -> Target | None:
    return Target(high=LONG, inner_high=ROUND) if evaluator.computed(GUIDE_ELONGATION) is not None else None


def drift_allowed_arcsec_min(evaluator: QuantityEvaluator) -> float | None:
    """Return how fast a star may go during one exposure, in arcsec/min.

    Returns
    -------
    float or None
        By the drift that the plan allows on a frame; None without plan or sensor.
    """
    plan, main = evaluator.rig.plan, evaluator.best_value(PIXEL_SCALE)
    if plan is None or main is None:
        return None
    return guide_use(evaluator.rig).drift_px * main.value * 60 / plan.exposure_s


def _drift_target(kind: QuantityKind, evaluator: QuantityEvaluator) -> Target | None:
    allowed = drift_allowed_arcsec_min(evaluator)
    return None if allowed is None or evaluator.measured(kind) is None else Target(-allowed, allowed)


target(GUIDE_DRIFT_RA)(lambda evaluator: _drift_target(GUIDE_DRIFT_RA, evaluator))
target(GUIDE_DRIFT_DEC)(lambda evaluator: _drift_target(GUIDE_DRIFT_DEC, evaluator))


@declares("stated", GUIDE_PERIOD)
def _worm(evaluator: QuantityEvaluator) -> QuantityValue | None:
    mount = evaluator.rig.mount
    if mount is None or mount.worm_period_s is None or evaluator.measured(GUIDE_PERIOD) is None:
        return None
    return QuantityValue(mount.worm_period_s, tolerance=WORM_WIDTH * mount.worm_period_s)


def _autocorrelation_target(kind: QuantityKind, evaluator: QuantityEvaluator) -> Target | None:
    return Target(EAGER, WEAK, *COMFORTABLE_AUTOCORRELATION) if evaluator.measured(kind) is not None else None


target(GUIDE_AUTOCORRELATION)(lambda evaluator: _autocorrelation_target(GUIDE_AUTOCORRELATION, evaluator))
target(GUIDE_AUTOCORRELATION_DEC)(lambda evaluator: _autocorrelation_target(GUIDE_AUTOCORRELATION_DEC, evaluator))


@target(GUIDE_SETTLE)
def _wanted_settling(evaluator: QuantityEvaluator) -> Target | None:
    settings = evaluator.rig.guiding.settings
    if settings is None or settings.settle_allowed_s is None or evaluator.measured(GUIDE_SETTLE) is None:
        return None
    return Target(high=settings.settle_allowed_s)


@target(GUIDE_OVER_LIMIT)
def _wanted_over(evaluator: QuantityEvaluator) -> Target | None:
    return Target(high=MAX_OVER_PERCENT) if evaluator.measured(GUIDE_OVER_LIMIT) is not None else None


@target(GUIDE_LOST)
def _wanted_lost(evaluator: QuantityEvaluator) -> Target | None:
    return Target(high=MAX_LOST_PERCENT) if evaluator.measured(GUIDE_LOST) is not None else None


# The pole


@computed(POLAR_ERROR)
def _polar_error(evaluator: QuantityEvaluator) -> QuantityValue | None:
    """Return the least polar error that explains the drift, in arcmin."""
    drift, mount = evaluator.measured(POLAR_DRIFT), evaluator.rig.mount
    if drift is None or (mount is not None and mount.kind == "alt_azimuth"):
        return None
    if evaluator.measured(POLAR_ERROR) is not None:
        return None  # both components are known: the least of one hour angle says nothing beside them
    value = guiding.polar_error_at_least(drift.value)
    return QuantityValue(value, drift.uncertainty / guiding.POLAR_DRIFT)


def guide_star_px(evaluator: QuantityEvaluator) -> float | None:
    """Return how far from the middle of the frame the guide star stands, in main px; None without a guide camera.

    Returns
    -------
    float or None
        Behind a prism its middle; beside a telescope of its own, half of what the guide camera sees.
    """
    rig, sensor, main = evaluator.rig, evaluator.rig.sensor, evaluator.best_value(PIXEL_SCALE)
    if sensor is None or main is None or rig.guiding.kind == "none":
        return None
    if rig.guiding.kind == "off_axis":
        tapped = next((part for part in rig.train if part.id == rig.guiding.taps), None)
        if tapped is None or tapped.prism is None:
            return None
        away = (tapped.prism.edge_from_axis_mm or 0.0) + (tapped.prism.height_mm or 0.0) / 2
        return 1000 * away / (sensor.pixel_um * sensor.binning)
    guide, camera = evaluator.best_value(GUIDE_SCALE), rig.guiding.camera
    if guide is None or camera is None or camera.sensor is None:
        return None
    return camera.sensor.corner_px / 2 * guide.value / main.value


@computed(POLAR_SMEAR)
def _polar_smear(evaluator: QuantityEvaluator) -> QuantityValue | None:
    """Return how far the corner farthest from the guide star goes in one exposure."""
    rig, error, sensor = evaluator.rig, evaluator.best_value(POLAR_ERROR), evaluator.rig.sensor
    if error is None or sensor is None or rig.plan is None:
        return None
    declination = rig.framing.dec_deg if rig.framing is not None else 0.0
    radius = sensor.corner_px + (guide_star_px(evaluator) or 0.0)
    value = guiding.polar_smear(error.value, declination, radius, rig.plan.exposure_s)
    return QuantityValue(value, value * error.uncertainty / error.value if error.value else 0.0)


@target(POLAR_SMEAR)
def _wanted_smear(evaluator: QuantityEvaluator) -> Target | None:
    if evaluator.computed(POLAR_SMEAR) is None:
        return None
    allowed = guide_use(evaluator.rig).drift_px
    return Target(high=allowed, inner_high=allowed / 2)


# The field of an alt-azimuth mount over a session


def _turns(evaluator: QuantityEvaluator) -> tuple[float, float, float] | None:
    """Return latitude and declination in degrees and the session's hours of an alt-azimuth mount."""
    rig = evaluator.rig
    if rig.mount is None or rig.mount.kind != "alt_azimuth" or rig.site is None or rig.framing is None:
        return None
    hours = rig.plan.hours if rig.plan is not None else None
    return None if hours is None else (rig.site.latitude_deg, rig.framing.dec_deg, hours)


@computed(ROTATION_SESSION)
def _session_turn(evaluator: QuantityEvaluator) -> QuantityValue | None:
    entries = _turns(evaluator)
    if entries is None:
        return None
    from wyntaxis.core.optics import field_rotation

    return QuantityValue(field_rotation.field_turn(*entries))


@computed(ROTATION_LOST)
def _turn_lost(evaluator: QuantityEvaluator) -> QuantityValue | None:
    turn, sensor = evaluator.computed(ROTATION_SESSION), evaluator.rig.sensor
    if turn is None or sensor is None:
        return None
    from wyntaxis.core.optics import field_rotation

    return QuantityValue(100 * (1 - field_rotation.common_share(sensor.width_px, sensor.height_px, turn.value)))


@target(ROTATION_LOST)
def _wanted_lost_frame(evaluator: QuantityEvaluator) -> Target | None:
    return Target(high=MAX_TURN_LOST_PERCENT) if evaluator.computed(ROTATION_LOST) is not None else None


@computed(ROTATION_RECENTRE)
def _recentre(evaluator: QuantityEvaluator) -> QuantityValue | None:
    """Return after how many minutes the field has turned off its middle about the guide star."""
    entries, away, sensor = _turns(evaluator), guide_star_px(evaluator), evaluator.rig.sensor
    turn = evaluator.computed(ROTATION_SESSION)
    if entries is None or not away or sensor is None or turn is None or turn.value <= 0:
        return None
    latitude, declination, _ = entries
    altitude = guiding.culmination_altitude(latitude, declination)
    from wyntaxis.core.optics import field_rotation

    fastest = abs(float(field_rotation.rotation_rate(latitude, 180.0, min(altitude, 89.99))))
    allowed = RECENTRE_SHARE * min(sensor.width_px, sensor.height_px)
    return QuantityValue(allowed / (away * fastest) / 60)

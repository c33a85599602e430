"""What guide logs are told of the rig, what is wanted of what they measured, and the polar error with its smear.

Sources of the formulas: see :mod:`wyntaxis.core.optics.guiding`.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.guide_log import kind
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.ledger import Leg, Target
from wyntaxis.core.limits import FWHM_PER_SIGMA
from wyntaxis.core.optics import guiding
from wyntaxis.core.quantities.guiding import guide_use
from wyntaxis.core.quantities.legs import Legs, computed, declares, measured, recorded, target
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantities.stars import LONG, ROUND
from wyntaxis.core.rig.plan import GuideSettings

if TYPE_CHECKING:
    from wyntaxis.core.evidence.guide_log.run import GuideOptics

POLAR_SMEAR = "polar_smear_px"
TURN, TURN_LOST, RECENTRE = "rotation_session_deg", "rotation_lost_percent", "rotation_recentre_min"
COMFORTABLE_RMS = 0.5
"""Half the star's own sigma: what widens it by less than a ninth."""
EAGER, WEAK = -0.2, 0.6
"""Errors one frame apart that are less or more alike than this: corrections overshoot, or lag."""
COMFORTABLE_ALIKE = (-0.15, 0.5)
MAX_OVER_PERCENT, MAX_LOST_PERCENT = 1.0, 5.0
WORM_WIDTH = 0.02
"""A period within this share of the worm's is the worm's."""
MAX_TURN_LOST_PERCENT = 20.0
RECENTRE_SHARE = 0.02
"""The field is centred anew when its middle has gone by this share of the frame's shorter side."""


def guide_log_optics(numbers: Numbers) -> GuideOptics:
    """Return what guide logs are told of a rig.

    Parameters
    ----------
    numbers
        The rig's numbers.

    Returns
    -------
    GuideOptics
        Scales in arcsec/px; what the rig does not tell is left out.
    """
    from wyntaxis.core.evidence.guide_log.run import GuideOptics

    rig = numbers.rig
    settings, use = rig.guiding.settings or GuideSettings(), guide_use(rig)
    optics = numbers.guide_optics
    scale = numbers.quantities["guide_scale_arcsec_px"]
    guide = scale.computed or scale.best
    fwhm = numbers.quantities["star_fwhm_arcsec"].computed
    calibrated, framed = settings.calibration_declination_deg, rig.framing.dec_deg if rig.framing is not None else None
    return GuideOptics(
        scale_arcsec_px=guide.value if guide is not None else None,
        pixel_um=optics.sensor.pixel_um if optics is not None else None,
        binning=optics.sensor.binning if optics is not None else 1,
        main_scale_arcsec_px=numbers.value("pixel_scale_arcsec_px"),
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


def _declare_recorded(key: str) -> None:
    measured(key)(lambda legs: recorded(legs, key))


for _key in (
    kind.RMS, kind.RMS_RA, kind.RMS_DEC, kind.DRIFT_RA, kind.DRIFT_DEC, kind.PERIOD, kind.ALIKE, kind.SETTLE,
    kind.ALIKE_DEC, kind.OVER, kind.LOST, kind.POLAR_DRIFT, kind.POLAR_ERROR,
):  # fmt: skip
    _declare_recorded(_key)


def _star_sigma(legs: Legs) -> float | None:
    """Return the sigma in arcsec of the star that guiding widens: by seeing and aperture."""

    fwhm = legs.computed("star_fwhm_arcsec")
    return fwhm.value / FWHM_PER_SIGMA if fwhm is not None else None


@target(kind.RMS)
def _wanted_rms(legs: Legs) -> Target | None:
    sigma = _star_sigma(legs)
    if sigma is None or legs.measured(kind.RMS) is None:
        return None
    return Target(high=sigma, inner_high=COMFORTABLE_RMS * sigma)


@computed("guide_elongation")
def _elongation(legs: Legs) -> Leg | None:
    ra, dec, fwhm = legs.measured(kind.RMS_RA), legs.measured(kind.RMS_DEC), legs.computed("star_fwhm_arcsec")
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
    return Leg(value, (value - 1 / value) * math.hypot(*shares) if value > 1 else 0.0)


@measured("guide_elongation")
def _measured_elongation(legs: Legs) -> Leg | None:
    """Return how long the frames' stars are, which guiding is to explain."""
    if legs.computed("guide_elongation") is None:
        return None
    found = legs.measured("star_elongation")
    # Tilt, coma and focus make stars long as well: what guiding makes is a part.
    return None if found is None else Leg(found.value, found.uncertainty, tolerance=LONG - 1, source=found.source)


@target("guide_elongation")
def _wanted_elongation(legs: Legs) -> Target | None:
    return Target(high=LONG, inner_high=ROUND) if legs.computed("guide_elongation") is not None else None


def drift_allowed_arcsec_min(legs: Legs) -> float | None:
    """Return how fast a star may go during one exposure, in arcsec/min.

    Parameters
    ----------
    legs
        The legs of the rig.

    Returns
    -------
    float or None
        By the drift that the plan allows on a frame; None without plan or sensor.
    """
    plan, main = legs.rig.plan, legs.found("pixel_scale_arcsec_px")
    if plan is None or main is None:
        return None
    return guide_use(legs.rig).drift_px * main.value * 60 / plan.exposure_s


def _wanted_drift(key: str, legs: Legs) -> Target | None:
    allowed = drift_allowed_arcsec_min(legs)
    return None if allowed is None or legs.measured(key) is None else Target(-allowed, allowed)


target(kind.DRIFT_RA)(lambda legs: _wanted_drift(kind.DRIFT_RA, legs))
target(kind.DRIFT_DEC)(lambda legs: _wanted_drift(kind.DRIFT_DEC, legs))


@declares("stated", kind.PERIOD)
def _worm(legs: Legs) -> Leg | None:
    mount = legs.rig.mount
    if mount is None or mount.worm_period_s is None or legs.measured(kind.PERIOD) is None:
        return None
    return Leg(mount.worm_period_s, tolerance=WORM_WIDTH * mount.worm_period_s)


def _wanted_alike(key: str, legs: Legs) -> Target | None:
    return Target(EAGER, WEAK, *COMFORTABLE_ALIKE) if legs.measured(key) is not None else None


target(kind.ALIKE)(lambda legs: _wanted_alike(kind.ALIKE, legs))
target(kind.ALIKE_DEC)(lambda legs: _wanted_alike(kind.ALIKE_DEC, legs))


@target(kind.SETTLE)
def _wanted_settling(legs: Legs) -> Target | None:
    settings = legs.rig.guiding.settings
    if settings is None or settings.settle_allowed_s is None or legs.measured(kind.SETTLE) is None:
        return None
    return Target(high=settings.settle_allowed_s)


@target(kind.OVER)
def _wanted_over(legs: Legs) -> Target | None:
    return Target(high=MAX_OVER_PERCENT) if legs.measured(kind.OVER) is not None else None


@target(kind.LOST)
def _wanted_lost(legs: Legs) -> Target | None:
    return Target(high=MAX_LOST_PERCENT) if legs.measured(kind.LOST) is not None else None


# The pole


@computed(kind.POLAR_ERROR)
def _polar_error(legs: Legs) -> Leg | None:
    """Return the least polar error that explains the drift, in arcmin."""
    drift, mount = legs.measured(kind.POLAR_DRIFT), legs.rig.mount
    if drift is None or (mount is not None and mount.kind == "alt_azimuth"):
        return None
    if legs.measured(kind.POLAR_ERROR) is not None:
        return None  # both components are known: the least of one hour angle says nothing beside them
    value = guiding.polar_error_at_least(drift.value)
    return Leg(value, drift.uncertainty / guiding.POLAR_DRIFT)


def guide_star_px(legs: Legs) -> float | None:
    """Return how far from the middle of the frame the guide star stands, in main px; None without a guide camera.

    Parameters
    ----------
    legs
        The legs of the rig.

    Returns
    -------
    float or None
        Behind a prism its middle; beside a telescope of its own, half of what the guide camera sees.
    """
    rig, sensor, main = legs.rig, legs.rig.sensor, legs.found("pixel_scale_arcsec_px")
    if sensor is None or main is None or rig.guiding.kind == "none":
        return None
    if rig.guiding.kind == "off_axis":
        tapped = next((part for part in rig.train if part.id == rig.guiding.taps), None)
        if tapped is None or tapped.prism is None:
            return None
        away = (tapped.prism.edge_from_axis_mm or 0.0) + (tapped.prism.height_mm or 0.0) / 2
        return 1000 * away / (sensor.pixel_um * sensor.binning)
    guide, camera = legs.found("guide_scale_arcsec_px"), rig.guiding.camera
    if guide is None or camera is None or camera.sensor is None:
        return None
    return camera.sensor.corner_px / 2 * guide.value / main.value


@computed(POLAR_SMEAR)
def _polar_smear(legs: Legs) -> Leg | None:
    """Return how far the corner farthest from the guide star goes in one exposure."""
    rig, error, sensor = legs.rig, legs.found(kind.POLAR_ERROR), legs.rig.sensor
    if error is None or sensor is None or rig.plan is None:
        return None
    declination = rig.framing.dec_deg if rig.framing is not None else 0.0
    radius = sensor.corner_px + (guide_star_px(legs) or 0.0)
    value = guiding.polar_smear(error.value, declination, radius, rig.plan.exposure_s)
    return Leg(value, value * error.uncertainty / error.value if error.value else 0.0)


@target(POLAR_SMEAR)
def _wanted_smear(legs: Legs) -> Target | None:
    if legs.computed(POLAR_SMEAR) is None:
        return None
    allowed = guide_use(legs.rig).drift_px
    return Target(high=allowed, inner_high=allowed / 2)


# The field of an alt-azimuth mount over a session


def _turns(legs: Legs) -> tuple[float, float, float] | None:
    """Return latitude and declination in degrees and the session's hours of an alt-azimuth mount."""
    rig = legs.rig
    if rig.mount is None or rig.mount.kind != "alt_azimuth" or rig.site is None or rig.framing is None:
        return None
    hours = rig.plan.hours if rig.plan is not None else None
    return None if hours is None else (rig.site.latitude_deg, rig.framing.dec_deg, hours)


@computed(TURN)
def _session_turn(legs: Legs) -> Leg | None:
    told = _turns(legs)
    if told is None:
        return None
    from wyntaxis.core.optics import field_rotation

    return Leg(field_rotation.field_turn(*told))


@computed(TURN_LOST)
def _turn_lost(legs: Legs) -> Leg | None:
    turn, sensor = legs.computed(TURN), legs.rig.sensor
    if turn is None or sensor is None:
        return None
    from wyntaxis.core.optics import field_rotation

    return Leg(100 * (1 - field_rotation.common_share(sensor.width_px, sensor.height_px, turn.value)))


@target(TURN_LOST)
def _wanted_lost_frame(legs: Legs) -> Target | None:
    return Target(high=MAX_TURN_LOST_PERCENT) if legs.computed(TURN_LOST) is not None else None


@computed(RECENTRE)
def _recentre(legs: Legs) -> Leg | None:
    """Return after how many minutes the field has turned off its middle about the guide star."""
    told, away, sensor = _turns(legs), guide_star_px(legs), legs.rig.sensor
    turn = legs.computed(TURN)
    if told is None or not away or sensor is None or turn is None or turn.value <= 0:
        return None
    latitude, declination, _ = told
    altitude = guiding.culmination_altitude(latitude, declination)
    from wyntaxis.core.optics import field_rotation

    fastest = abs(float(field_rotation.rotation_rate(latitude, 180.0, min(altitude, 89.99))))
    allowed = RECENTRE_SHARE * min(sensor.width_px, sensor.height_px)
    return Leg(allowed / (away * fastest) / 60)

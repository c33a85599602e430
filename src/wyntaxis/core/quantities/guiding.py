"""The guide camera: its scale, its path, what a guided run takes, and what a field that turns allows.

Sources of the formulas: see :mod:`wyntaxis.core.optics.guiding`.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.ledger import QuantityValue, Target, Verdict
from wyntaxis.core.optics import guiding, imaging
from wyntaxis.core.quantities.evaluator import QuantityEvaluator, computed, declares, measured, target
from wyntaxis.core.quantities.imaging import focal_length
from wyntaxis.core.quantities.spacing import filtered_rig, possible_shift_mm, unknown_behind
from wyntaxis.core.quantity_kinds import (
    CALIBRATION_PULSE,
    DEPTH_OF_FOCUS_DIFFRACTION,
    DEPTH_OF_FOCUS_SEEING,
    DITHER_GUIDE,
    DITHER_SKY,
    FLEXURE,
    FLEXURE_BUDGET,
    FOCAL_LENGTH,
    GUIDE_CENTROID,
    GUIDE_PATH_BUILT,
    GUIDE_PATH_ERROR,
    GUIDE_PATH_REQUIRED,
    GUIDE_SCALE,
    GUIDE_TO_MAIN_RATIO,
    PIXEL_SCALE,
    ROTATION_EXPOSURE,
    STOP_THRESHOLD,
)
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.plan import GuideSettings
from wyntaxis.core.train.guidepath import GuideOptics, GuidePath, guide_optics, guide_path, pickoff_index

CALIBRATION_TIGHT, CALIBRATION_FAILS = 4 / 3, 2.0
"""A calibration pulse this many times too long or short makes the calibration doubtful, or wrong."""

MIN_DITHER_CENTROIDS = 3.0
"""A dither under three centroid errors is lost in the noise of the guide star."""


def guide_optics_of(evaluator: QuantityEvaluator) -> GuideOptics | None:
    """Return what the guide camera looks through; None without one.

    Returns
    -------
    GuideOptics or None
        The focal length in mm with its standard uncertainty, and the sensor.
    """
    focal = focal_length(evaluator)
    return evaluator.memoized("guide optics", lambda: guide_optics(evaluator.rig, focal.value, focal.uncertainty))


def guide_path_of(evaluator: QuantityEvaluator) -> GuidePath | None:
    """Return the path from the prism to the guide sensor; None where nothing taps the train.

    Returns
    -------
    GuidePath or None
        Lengths in mm; see :mod:`wyntaxis.core.train.guidepath`.
    """
    return evaluator.memoized("guide path", lambda: guide_path(filtered_rig(evaluator)))


@dataclass(frozen=True)
class GuideUse:
    """What the guiding goes by: as the rig states it, else the usual value; ``usual`` names those nobody stated."""

    centroid_px: float
    distance_px: float
    pulses: int
    rate_sidereal: float
    declination_deg: float
    dither_main_px: float
    drift_px: float
    usual: frozenset[str]

    def taken(self, name: str) -> str:
        """Return what a line of arithmetic adds to a value that nobody stated."""
        return " (usual value)" if name in self.usual else ""


def guide_use(rig: Rig) -> GuideUse:
    """Return what the guiding of a rig goes by.

    Parameters
    ----------
    rig
        The rig: its guide settings, the drift that its plan allows, and where it is framed.

    Returns
    -------
    GuideUse
        Lengths in guide px, or main px where the name says so; the calibration is made where it is stated to be, else
        at the framing, else at the equator. Source of the usual values: :mod:`wyntaxis.core.optics.guiding`.
    """
    settings, plan = rig.guiding.settings or GuideSettings(), rig.plan
    stated = {
        "centroid_px": (settings.centroid_error_px, guiding.CENTROID_ERROR_PX[1]),
        "distance_px": (settings.calibration_distance_px, guiding.DEFAULT_DISTANCE_PX),
        "pulses": (settings.calibration_pulses, guiding.DEFAULT_PULSES),
        "rate_sidereal": (settings.rate_sidereal, guiding.DEFAULT_RATE_SIDEREAL),
        "declination_deg": (settings.calibration_declination_deg, rig.framing.dec_deg if rig.framing else 0.0),
        "dither_main_px": (settings.dither_main_px, guiding.DEFAULT_DITHER_MAIN_PX),
        "drift_px": (plan.allowed_drift_px if plan else None, guiding.DEFAULT_DRIFT_PX),
    }
    values: JsonObject = {name: usual if value is None else value for name, (value, usual) in stated.items()}
    return GuideUse(**values, usual=frozenset(name for name, (value, _) in stated.items() if value is None))


def _use(evaluator: QuantityEvaluator) -> GuideUse:
    return evaluator.memoized("guide use", lambda: guide_use(evaluator.rig))


def _settings(evaluator: QuantityEvaluator) -> GuideSettings:
    return evaluator.rig.guiding.settings or GuideSettings()


# Scale


@computed(GUIDE_SCALE)
def _guide_scale(evaluator: QuantityEvaluator) -> QuantityValue | None:
    guide = guide_optics_of(evaluator)
    if guide is None:
        return None
    value = imaging.pixel_scale(guide.sensor.pixel_um, guide.sensor.binning, guide.focal_length_mm)
    return QuantityValue(value, value * (guide.focal_length_standard_mm / guide.focal_length_mm))


@measured(GUIDE_SCALE)
def _measured_guide_scale(evaluator: QuantityEvaluator) -> QuantityValue | None:
    """Return the measured guide scale: as recorded; behind a prism a measured main focal length is its own too."""
    recorded, optics = evaluator.rig.measured.get("guide_scale_arcsec_px"), guide_optics_of(evaluator)
    if recorded is not None:
        return QuantityValue(recorded.value, recorded.standard_uncertainty, source=recorded.source or "")
    guide, main = evaluator.computed(GUIDE_SCALE), evaluator.measured(FOCAL_LENGTH)
    if guide is None or main is None or optics is None or not optics.shares_main:
        return None
    value = guide.value * focal_length(evaluator).value / main.value
    return QuantityValue(value, value * main.uncertainty / main.value, 0.0, main.source)


def guide_focal_length(evaluator: QuantityEvaluator) -> QuantityValue | None:
    """Return the focal length that the guide camera works at, in mm: by the measured guide scale, else computed.

    Returns
    -------
    QuantityValue or None
        In mm, with its standard uncertainty; None without a guide camera.
    """
    optics = guide_optics_of(evaluator)
    if optics is None:
        return None
    scale, sensor = evaluator.measured(GUIDE_SCALE), optics.sensor
    if scale is None:
        return QuantityValue(optics.focal_length_mm, optics.focal_length_standard_mm)
    value = imaging.pixel_scale(sensor.pixel_um, sensor.binning, scale.value)  # the formula is its own inverse
    return QuantityValue(value, value * scale.uncertainty / scale.value, 0.0, scale.source)


@computed(GUIDE_TO_MAIN_RATIO)
def _ratio(evaluator: QuantityEvaluator) -> QuantityValue | None:
    optics, guide, main = (
        guide_optics_of(evaluator),
        evaluator.computed(GUIDE_SCALE),
        evaluator.computed(PIXEL_SCALE),
    )
    if optics is None or guide is None or main is None:
        return None
    ratio = imaging.guide_to_main_ratio(guide.value, main.value)
    # Behind a prism both scales hold the same focal length, which cancels.
    spread = math.hypot(optics.focal_length_standard_mm / optics.focal_length_mm, main.uncertainty / main.value)
    return QuantityValue(ratio, 0.0 if optics.shares_main else ratio * spread)


@target(GUIDE_TO_MAIN_RATIO)
def _wanted_ratio(evaluator: QuantityEvaluator) -> Target | None:
    if evaluator.computed(GUIDE_TO_MAIN_RATIO) is None:
        return None
    good, poor = (guiding.ALLOWED_MAIN_PX / error for error in guiding.CENTROID_ERROR_PX)
    return Target(0, good, 0, poor)


# Path


def guide_focus_half_width_mm(evaluator: QuantityEvaluator) -> float:
    """Return half the depth of focus, in mm: the seeing zone, or the diffraction zone where no seeing is stated.

    Returns
    -------
    float
        In mm.
    """
    zone = evaluator.computed(DEPTH_OF_FOCUS_SEEING) or evaluator.computed(DEPTH_OF_FOCUS_DIFFRACTION)
    assert zone is not None
    return zone.value / 2000


@computed(GUIDE_PATH_REQUIRED)
def _required(evaluator: QuantityEvaluator) -> QuantityValue | None:
    path = guide_path_of(evaluator)
    if path is None:
        return None
    return QuantityValue(path.required_mm, math.sqrt(max(0.0, path.standard_mm**2 - path.stack.standard_mm**2)))


@computed(GUIDE_PATH_BUILT)
def _built(evaluator: QuantityEvaluator) -> QuantityValue | None:
    path = guide_path_of(evaluator)
    return QuantityValue(path.built_mm, path.stack.standard_mm) if path else None


@computed(GUIDE_PATH_ERROR)
def _error(evaluator: QuantityEvaluator) -> QuantityValue | None:
    path = guide_path_of(evaluator)
    return QuantityValue(path.error_mm, path.standard_mm) if path else None


@target(GUIDE_PATH_ERROR)
def _wanted_error(evaluator: QuantityEvaluator) -> Target | None:
    width = guide_focus_half_width_mm(evaluator)
    return Target(-width, width) if guide_path_of(evaluator) else None


@target(GUIDE_PATH_BUILT)
def _wanted_built(evaluator: QuantityEvaluator) -> Target | None:
    path, width = guide_path_of(evaluator), guide_focus_half_width_mm(evaluator)
    return Target(path.required_mm - width, path.required_mm + width) if path else None


@declares("verdict", GUIDE_PATH_ERROR)
@declares("verdict", GUIDE_PATH_BUILT)
def _within_reach(evaluator: QuantityEvaluator) -> Verdict | None:
    """Return that it holds where the guide focuser takes up what the tolerances leave open.

    A filter behind the prism of which nothing is known moves the main focus alone: then nothing is verified, unless the
    guide camera is out of focus with any filter.
    """
    path = guide_path_of(evaluator)
    if path is None:
        return None
    unknown = unknown_behind(evaluator, pickoff_index(evaluator.rig))
    if unknown:
        (low, high), width = possible_shift_mm(unknown), guide_focus_half_width_mm(evaluator)
        out = path.error_mm + low > width or path.error_mm + high < -width
        return Verdict.FAILS if out else Verdict.UNPROVEN
    if path.reach is None:
        return None
    inside = abs(path.error_mm) <= guide_focus_half_width_mm(evaluator)
    return Verdict.HOLDS if inside and path.reach.margin_mm >= 2 * path.standard_mm else None


# The run


@computed(CALIBRATION_PULSE)
def _calibration_pulse(evaluator: QuantityEvaluator) -> QuantityValue | None:
    guide, use = evaluator.best_value(GUIDE_SCALE), _use(evaluator)
    if guide is None or abs(use.declination_deg) >= 89.95:
        return None
    wanted = guiding.calibration_pulse_ms(
        use.distance_px, guide.value, use.pulses, use.rate_sidereal, use.declination_deg
    )
    return QuantityValue(wanted, wanted * guide.uncertainty / guide.value)


@declares("stated", CALIBRATION_PULSE)
def _stated_pulse(evaluator: QuantityEvaluator) -> QuantityValue | None:
    pulse, wanted = _settings(evaluator).calibration_pulse_ms, evaluator.computed(CALIBRATION_PULSE)
    if pulse is None or wanted is None:
        return None
    # The values agree up to a factor of two; the verdict between is the calibration's own.
    return QuantityValue(pulse, tolerance=wanted.value * (CALIBRATION_FAILS - 1))


@declares("verdict", CALIBRATION_PULSE)
def _pulse_suits(evaluator: QuantityEvaluator) -> Verdict | None:
    pulse, wanted = evaluator.stated(CALIBRATION_PULSE), evaluator.computed(CALIBRATION_PULSE)
    if pulse is None or wanted is None:
        return None
    factor = max(pulse.value / wanted.value, wanted.value / pulse.value)
    if factor > CALIBRATION_FAILS:
        return Verdict.FAILS
    return Verdict.TIGHT if factor > CALIBRATION_TIGHT else Verdict.HOLDS


def _guide_to_main(evaluator: QuantityEvaluator) -> tuple[float, float] | None:
    """Return the guide pixel in main pixels and the main scale, by the best values; None without both cameras."""
    main, guide = evaluator.best_value(PIXEL_SCALE), evaluator.best_value(GUIDE_SCALE)
    return None if main is None or guide is None else (guide.value / main.value, main.value)


@computed(GUIDE_CENTROID)
def _centroid(evaluator: QuantityEvaluator) -> QuantityValue | None:
    found = _guide_to_main(evaluator)
    return QuantityValue(_use(evaluator).centroid_px * found[0]) if found else None


@target(GUIDE_CENTROID)
def _wanted_centroid(evaluator: QuantityEvaluator) -> Target | None:
    if _guide_to_main(evaluator) is None:
        return None
    # A usual centroid error fails only where even its good end would: nobody has stated it.
    good, poor = guiding.CENTROID_ERROR_PX
    slack = poor / good if "centroid_px" in _use(evaluator).usual else 1.0
    return Target(0, guiding.ALLOWED_MAIN_PX * slack, 0, guiding.ALLOWED_MAIN_PX)


@computed(DITHER_SKY)
def _dither_on_sky(evaluator: QuantityEvaluator) -> QuantityValue | None:
    found = _guide_to_main(evaluator)
    return QuantityValue(_use(evaluator).dither_main_px * found[1]) if found else None


@computed(DITHER_GUIDE)
def _dither_on_guide(evaluator: QuantityEvaluator) -> QuantityValue | None:
    found = _guide_to_main(evaluator)
    return QuantityValue(_use(evaluator).dither_main_px / found[0]) if found else None


@target(DITHER_GUIDE)
def _wanted_dither(evaluator: QuantityEvaluator) -> Target | None:
    if _guide_to_main(evaluator) is None:
        return None
    return Target(MIN_DITHER_CENTROIDS * _use(evaluator).centroid_px, _settings(evaluator).search_region_px or math.inf)


@computed(STOP_THRESHOLD)
def _stop_threshold(evaluator: QuantityEvaluator) -> QuantityValue | None:
    found, threshold = _guide_to_main(evaluator), _settings(evaluator).stop_threshold_arcsec
    return None if found is None or threshold is None else QuantityValue(threshold / found[1])


@computed(FLEXURE_BUDGET)
def _flexure_budget(evaluator: QuantityEvaluator) -> QuantityValue | None:
    found, plan = _guide_to_main(evaluator), evaluator.rig.plan
    if found is None or plan is None or evaluator.rig.guiding.kind != "separate":
        return None
    return QuantityValue(guiding.flexure_budget(_use(evaluator).drift_px, found[1], plan.exposure_s))


@target(FLEXURE)
def _wanted_flexure(evaluator: QuantityEvaluator) -> Target | None:
    budget = evaluator.computed(FLEXURE_BUDGET)
    return Target(-budget.value, budget.value) if budget else None


# The field of an alt-azimuth mount turns


@computed(ROTATION_EXPOSURE)
def _rotation_exposure(evaluator: QuantityEvaluator) -> QuantityValue | None:
    rig, sensor = evaluator.rig, evaluator.rig.sensor
    if rig.mount is None or rig.mount.kind != "alt_azimuth" or rig.site is None or sensor is None:
        return None
    if rig.framing is None:
        return None
    altitude = guiding.culmination_altitude(rig.site.latitude_deg, rig.framing.dec_deg)
    from wyntaxis.core.optics import field_rotation

    rate = field_rotation.rotation_rate(rig.site.latitude_deg, 180.0, min(altitude, 89.99))
    longest = float(field_rotation.rotation_exposure(rate, sensor.corner_px, _use(evaluator).drift_px))
    return QuantityValue(longest) if math.isfinite(longest) else None


@target(ROTATION_EXPOSURE)
def _wanted_rotation(evaluator: QuantityEvaluator) -> Target | None:
    plan = evaluator.rig.plan
    return None if plan is None or evaluator.computed(ROTATION_EXPOSURE) is None else Target(low=plan.exposure_s)

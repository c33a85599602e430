"""Telescope and sensor: focal length, scale, field, sampling, depth of focus, and what field solving is told.

Sources of the formulas: see :mod:`wyntaxis.core.optics.imaging` and :mod:`wyntaxis.core.optics.focus`.
"""

from __future__ import annotations

import math
from functools import partial

from wyntaxis.core.ledger import STATED_RELATIVE_TOLERANCE, QuantityValue, Target, rectangular
from wyntaxis.core.optics import focus, imaging
from wyntaxis.core.quantities.evaluator import QuantityEvaluator, computed, declares, measured, target
from wyntaxis.core.quantity_kinds import (
    AIRY_DIAMETER,
    DEPTH_OF_FOCUS_DIFFRACTION,
    DEPTH_OF_FOCUS_SEEING,
    FIELD_DIAGONAL,
    FIELD_HEIGHT,
    FIELD_WIDTH,
    FOCAL_LENGTH,
    FOCAL_RATIO,
    PIXEL_SCALE,
    SAMPLING,
    SEARCH_RADIUS,
    SEARCH_SCALE_HIGH,
    SEARCH_SCALE_LOW,
    SENSOR_DIAGONAL,
)
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import Sensor
from wyntaxis.core.train import sampling
from wyntaxis.core.train.lightpath import magnifications

SIDES = ("width", "height", "diagonal")


def best_focal_length_mm(rig: Rig) -> float:
    """Return the effective focal length to act on: as measured, or as computed from the parts.

    Returns
    -------
    float
        In mm.
    """
    evaluator = QuantityEvaluator(rig)
    return (evaluator.measured(FOCAL_LENGTH) or focal_length(evaluator)).value


def focal_length(evaluator: QuantityEvaluator) -> QuantityValue:
    """Return the computed effective focal length, in mm: it follows from any train.

    Returns
    -------
    QuantityValue
        In mm, with its standard uncertainty.
    """
    found = evaluator.computed(FOCAL_LENGTH)
    assert found is not None
    return found


def seeing(evaluator: QuantityEvaluator) -> float | None:
    """Return the site's seeing, in arcseconds FWHM, where it is stated.

    Returns
    -------
    float or None
        In arcseconds.
    """
    return evaluator.rig.site.seeing_fwhm_arcsec if evaluator.rig.site else None


def like_focal_length(evaluator: QuantityEvaluator, value: float, power: float = 1) -> QuantityValue:
    """Return a value whose relative uncertainty is ``power`` times that of the focal length.

    Parameters
    ----------
    evaluator
        The evaluator of the rig.
    value, power
        The value's value in its own unit, and the power of the focal length in it.

    Returns
    -------
    QuantityValue
        With uncertainty and tolerance in the value's unit.
    """
    focal = focal_length(evaluator)
    return QuantityValue(
        value, value * power * focal.uncertainty / focal.value, value * power * focal.tolerance / focal.value
    )


@computed(FOCAL_LENGTH)
def _focal_length(evaluator: QuantityEvaluator) -> QuantityValue:
    telescope, factors = evaluator.rig.telescope, magnifications(evaluator.rig.train)
    value = imaging.effective_focal_length(telescope.focal_length_mm, factors)
    tolerance = telescope.focal_length_tolerance_mm
    rounding = STATED_RELATIVE_TOLERANCE * value if tolerance is None else 0.0
    return QuantityValue(value, rectangular(tolerance) * math.prod(factors), rounding)


@computed(FOCAL_RATIO)
def _focal_ratio(evaluator: QuantityEvaluator) -> QuantityValue:
    return like_focal_length(
        evaluator, imaging.focal_ratio(focal_length(evaluator).value, evaluator.rig.telescope.aperture_mm)
    )


def focal_ratio(evaluator: QuantityEvaluator) -> QuantityValue:
    """Return the computed focal ratio: it follows from any train.

    Returns
    -------
    QuantityValue
        Without a unit.
    """
    found = evaluator.computed(FOCAL_RATIO)
    assert found is not None
    return found


@computed(AIRY_DIAMETER)
def _airy_diameter(evaluator: QuantityEvaluator) -> QuantityValue:
    return like_focal_length(evaluator, imaging.airy_diameter(focal_ratio(evaluator).value))


@computed(SENSOR_DIAGONAL)
def _sensor_diagonal(evaluator: QuantityEvaluator) -> QuantityValue | None:
    sensor = evaluator.rig.sensor
    return QuantityValue(sensor.diagonal_mm) if sensor else None


@computed(PIXEL_SCALE)
def _pixel_scale(evaluator: QuantityEvaluator) -> QuantityValue | None:
    sensor = evaluator.rig.sensor
    if sensor is None:
        return None
    return like_focal_length(
        evaluator, imaging.pixel_scale(sensor.pixel_um, sensor.binning, focal_length(evaluator).value)
    )


def _side_mm(sensor: Sensor, name: str) -> float:
    return {"width": sensor.width_mm, "height": sensor.height_mm, "diagonal": sensor.diagonal_mm}[name]


def _field(evaluator: QuantityEvaluator, name: str) -> QuantityValue | None:
    sensor, focal = evaluator.rig.sensor, focal_length(evaluator)
    if sensor is None:
        return None
    slope = imaging.field_angle_slope(_side_mm(sensor, name), focal.value)
    angle = imaging.field_angle(_side_mm(sensor, name), focal.value)
    return QuantityValue(angle, slope * focal.uncertainty, slope * focal.tolerance)


@computed(SAMPLING)
def _sampling(evaluator: QuantityEvaluator) -> QuantityValue | None:
    scale, fwhm = evaluator.computed(PIXEL_SCALE), seeing(evaluator)
    return None if scale is None or fwhm is None else like_focal_length(evaluator, imaging.sampling(fwhm, scale.value))


@target(SAMPLING)
def _wanted_sampling(evaluator: QuantityEvaluator) -> Target | None:
    if evaluator.computed(SAMPLING) is None:
        return None
    return Target(imaging.UNDERSAMPLED_BELOW, imaging.OVERSAMPLED_ABOVE, imaging.MATCHED_FROM, imaging.MATCHED_TO)


@computed(DEPTH_OF_FOCUS_DIFFRACTION)
def _depth_by_diffraction(evaluator: QuantityEvaluator) -> QuantityValue:
    return like_focal_length(evaluator, focus.depth_of_focus_diffraction(focal_ratio(evaluator).value), power=2)


@computed(DEPTH_OF_FOCUS_SEEING)
def _depth_by_seeing(evaluator: QuantityEvaluator) -> QuantityValue | None:
    fwhm = seeing(evaluator)
    if fwhm is None:
        return None
    zone = focus.depth_of_focus_seeing(focal_ratio(evaluator).value, focal_length(evaluator).value, fwhm)
    return like_focal_length(evaluator, zone, power=2)


# What follows from a measured pixel scale or focal length


def scale_basis(evaluator: QuantityEvaluator) -> str | None:
    """Return which recorded measurement the derived values follow from: the focal length, else the pixel scale.

    Returns
    -------
    str or None
        Its quantity id; None where neither was measured.
    """
    if evaluator.rig.measured.get("effective_focal_length_mm") is not None:
        return "effective_focal_length_mm"
    if evaluator.rig.measured.get("pixel_scale_arcsec_px") is not None and evaluator.rig.sensor is not None:
        return "pixel_scale_arcsec_px"
    return None


@measured(FOCAL_LENGTH)
def _measured_focal_length(evaluator: QuantityEvaluator) -> QuantityValue | None:
    """Return the effective focal length that was measured, itself or through the pixel scale."""
    basis = scale_basis(evaluator)
    if basis is None:
        return None
    recorded, sensor = evaluator.rig.measured.get(basis), evaluator.rig.sensor
    assert recorded is not None
    if basis == "effective_focal_length_mm":
        return QuantityValue(recorded.value, recorded.standard_uncertainty, source=recorded.source or "")
    assert sensor is not None
    binning = recorded.evidence.binning if recorded.evidence and recorded.evidence.binning else sensor.binning
    value = imaging.pixel_scale(sensor.pixel_um, binning, recorded.value)  # the formula is its own inverse
    return QuantityValue(value, value * recorded.standard_uncertainty / recorded.value, source=recorded.source or "")


def _following(evaluator: QuantityEvaluator, value: float) -> QuantityValue:
    """Return a measured value as well known, relatively, as the measured focal length."""
    focal = evaluator.measured(FOCAL_LENGTH)
    assert focal is not None
    return QuantityValue(value, value * (focal.uncertainty / focal.value), source=focal.source)


@measured(FOCAL_RATIO)
def _measured_ratio(evaluator: QuantityEvaluator) -> QuantityValue | None:
    focal = evaluator.measured(FOCAL_LENGTH)
    if focal is None:
        return None
    return _following(evaluator, imaging.focal_ratio(focal.value, evaluator.rig.telescope.aperture_mm))


@measured(PIXEL_SCALE)
def _measured_scale(evaluator: QuantityEvaluator) -> QuantityValue | None:
    focal, sensor = evaluator.measured(FOCAL_LENGTH), evaluator.rig.sensor
    if focal is None or sensor is None:
        return None
    return _following(evaluator, imaging.pixel_scale(sensor.pixel_um, sensor.binning, focal.value))


def _measured_field(evaluator: QuantityEvaluator, name: str) -> QuantityValue | None:
    focal, sensor = evaluator.measured(FOCAL_LENGTH), evaluator.rig.sensor
    if focal is None or sensor is None:
        return None
    slope = imaging.field_angle_slope(_side_mm(sensor, name), focal.value)
    return QuantityValue(
        imaging.field_angle(_side_mm(sensor, name), focal.value), slope * focal.uncertainty, source=focal.source
    )


@measured(SAMPLING)
def _measured_sampling(evaluator: QuantityEvaluator) -> QuantityValue | None:
    scale, fwhm = evaluator.measured(PIXEL_SCALE), seeing(evaluator)
    return None if scale is None or fwhm is None else _following(evaluator, imaging.sampling(fwhm, scale.value))


for _kind, _name in ((FIELD_WIDTH, "width"), (FIELD_HEIGHT, "height"), (FIELD_DIAGONAL, "diagonal")):
    declares("computed", _kind)(partial(_field, name=_name))
    declares("measured", _kind)(partial(_measured_field, name=_name))


# What field solving is told


def plate_solving_hints(evaluator: QuantityEvaluator) -> sampling.PlateSolvingHints | None:
    """Return the range that field solving is told, from the measured scale where there is one, for a sensor.

    Returns
    -------
    PlateSolvingHints or None
        Scales in arcsec/px and the field's radius in degrees.
    """

    def work() -> sampling.PlateSolvingHints | None:
        sensor, focal = evaluator.rig.sensor, evaluator.best_value(FOCAL_LENGTH)
        if sensor is None or focal is None:
            return None
        scale = imaging.pixel_scale(sensor.pixel_um, sensor.binning, focal.value)
        return sampling.plate_solving_hints(sensor, scale, focal.value, focal.uncertainty / focal.value)

    return evaluator.memoized("search range", work)


@computed(SEARCH_SCALE_LOW)
def _lowest_scale(evaluator: QuantityEvaluator) -> QuantityValue | None:
    found = plate_solving_hints(evaluator)
    return QuantityValue(found.low_arcsec_px) if found else None


@computed(SEARCH_SCALE_HIGH)
def _highest_scale(evaluator: QuantityEvaluator) -> QuantityValue | None:
    found = plate_solving_hints(evaluator)
    return QuantityValue(found.high_arcsec_px) if found else None


@computed(SEARCH_RADIUS)
def _search_radius(evaluator: QuantityEvaluator) -> QuantityValue | None:
    found = plate_solving_hints(evaluator)
    return QuantityValue(found.radius_deg) if found else None

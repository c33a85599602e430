"""Telescope and sensor: focal length, scale, field, sampling, depth of focus, and what field solving is told.

Sources of the formulas: see :mod:`wyntaxis.core.optics.imaging` and :mod:`wyntaxis.core.optics.focus`.
"""

from __future__ import annotations

import math
from functools import partial

from wyntaxis.core.ledger import STATED_RELATIVE_TOLERANCE, Leg, Target, rectangular
from wyntaxis.core.optics import focus, imaging
from wyntaxis.core.quantities.legs import Legs, computed, declares, measured, target
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import Sensor
from wyntaxis.core.train import sampling
from wyntaxis.core.train.lightpath import magnifications

SIDES = ("width", "height", "diagonal")


def best_focal_length_mm(rig: Rig) -> float:
    """Return the effective focal length to act on: as measured, or as computed from the parts.

    Parameters
    ----------
    rig
        The rig.

    Returns
    -------
    float
        In mm.
    """
    legs = Legs(rig)
    return (legs.measured("effective_focal_length_mm") or focal_length(legs)).value


def focal_length(legs: Legs) -> Leg:
    """Return the computed effective focal length, in mm: it follows from any train.

    Parameters
    ----------
    legs
        The legs of the rig.

    Returns
    -------
    Leg
        In mm, with its standard uncertainty.
    """
    found = legs.computed("effective_focal_length_mm")
    assert found is not None
    return found


def seeing(legs: Legs) -> float | None:
    """Return the site's seeing, in arcseconds FWHM, where it is stated.

    Parameters
    ----------
    legs
        The legs of the rig.

    Returns
    -------
    float or None
        In arcseconds.
    """
    return legs.rig.site.seeing_fwhm_arcsec if legs.rig.site else None


def like_focal_length(legs: Legs, value: float, power: float = 1) -> Leg:
    """Return a leg whose relative uncertainty is ``power`` times that of the focal length.

    Parameters
    ----------
    legs
        The legs of the rig.
    value, power
        The leg's value in its own unit, and the power of the focal length in it.

    Returns
    -------
    Leg
        With uncertainty and tolerance in the value's unit.
    """
    focal = focal_length(legs)
    return Leg(value, value * power * focal.uncertainty / focal.value, value * power * focal.tolerance / focal.value)


@computed("effective_focal_length_mm")
def _focal_length(legs: Legs) -> Leg:
    telescope, factors = legs.rig.telescope, magnifications(legs.rig.train)
    value = imaging.effective_focal_length(telescope.focal_length_mm, factors)
    tolerance = telescope.focal_length_tolerance_mm
    rounding = STATED_RELATIVE_TOLERANCE * value if tolerance is None else 0.0
    return Leg(value, rectangular(tolerance) * math.prod(factors), rounding)


@computed("focal_ratio")
def _focal_ratio(legs: Legs) -> Leg:
    return like_focal_length(legs, imaging.focal_ratio(focal_length(legs).value, legs.rig.telescope.aperture_mm))


def focal_ratio(legs: Legs) -> Leg:
    """Return the computed focal ratio: it follows from any train.

    Parameters
    ----------
    legs
        The legs of the rig.

    Returns
    -------
    Leg
        Without a unit.
    """
    found = legs.computed("focal_ratio")
    assert found is not None
    return found


@computed("airy_diameter_um")
def _airy_diameter(legs: Legs) -> Leg:
    return like_focal_length(legs, imaging.airy_diameter(focal_ratio(legs).value))


@computed("sensor_diagonal_mm")
def _sensor_diagonal(legs: Legs) -> Leg | None:
    sensor = legs.rig.sensor
    return Leg(sensor.diagonal_mm) if sensor else None


@computed("pixel_scale_arcsec_px")
def _pixel_scale(legs: Legs) -> Leg | None:
    sensor = legs.rig.sensor
    if sensor is None:
        return None
    return like_focal_length(legs, imaging.pixel_scale(sensor.pixel_um, sensor.binning, focal_length(legs).value))


def _side_mm(sensor: Sensor, name: str) -> float:
    return {"width": sensor.width_mm, "height": sensor.height_mm, "diagonal": sensor.diagonal_mm}[name]


def _field(legs: Legs, name: str) -> Leg | None:
    sensor, focal = legs.rig.sensor, focal_length(legs)
    if sensor is None:
        return None
    slope = imaging.field_angle_slope(_side_mm(sensor, name), focal.value)
    angle = imaging.field_angle(_side_mm(sensor, name), focal.value)
    return Leg(angle, slope * focal.uncertainty, slope * focal.tolerance)


@computed("sampling_px_per_fwhm")
def _sampling(legs: Legs) -> Leg | None:
    scale, fwhm = legs.computed("pixel_scale_arcsec_px"), seeing(legs)
    return None if scale is None or fwhm is None else like_focal_length(legs, imaging.sampling(fwhm, scale.value))


@target("sampling_px_per_fwhm")
def _wanted_sampling(legs: Legs) -> Target | None:
    if legs.computed("sampling_px_per_fwhm") is None:
        return None
    return Target(imaging.UNDERSAMPLED_BELOW, imaging.OVERSAMPLED_ABOVE, imaging.MATCHED_FROM, imaging.MATCHED_TO)


@computed("depth_of_focus_diffraction_um")
def _depth_by_diffraction(legs: Legs) -> Leg:
    return like_focal_length(legs, focus.depth_of_focus_diffraction(focal_ratio(legs).value), power=2)


@computed("depth_of_focus_seeing_um")
def _depth_by_seeing(legs: Legs) -> Leg | None:
    fwhm = seeing(legs)
    if fwhm is None:
        return None
    zone = focus.depth_of_focus_seeing(focal_ratio(legs).value, focal_length(legs).value, fwhm)
    return like_focal_length(legs, zone, power=2)


# What follows from a measured pixel scale or focal length


def scale_basis(legs: Legs) -> str | None:
    """Return which recorded measurement the derived legs follow from: the focal length, else the pixel scale.

    Parameters
    ----------
    legs
        The legs of the rig.

    Returns
    -------
    str or None
        Its quantity id; None where neither was measured.
    """
    if legs.rig.measured.get("effective_focal_length_mm") is not None:
        return "effective_focal_length_mm"
    if legs.rig.measured.get("pixel_scale_arcsec_px") is not None and legs.rig.sensor is not None:
        return "pixel_scale_arcsec_px"
    return None


@measured("effective_focal_length_mm")
def _measured_focal_length(legs: Legs) -> Leg | None:
    """Return the effective focal length that was measured, itself or through the pixel scale."""
    basis = scale_basis(legs)
    if basis is None:
        return None
    recorded, sensor = legs.rig.measured.get(basis), legs.rig.sensor
    assert recorded is not None
    if basis == "effective_focal_length_mm":
        return Leg(recorded.value, recorded.standard_uncertainty, source=recorded.source or "")
    assert sensor is not None
    binning = recorded.evidence.binning if recorded.evidence and recorded.evidence.binning else sensor.binning
    value = imaging.pixel_scale(sensor.pixel_um, binning, recorded.value)  # the formula is its own inverse
    return Leg(value, value * recorded.standard_uncertainty / recorded.value, source=recorded.source or "")


def _following(legs: Legs, value: float) -> Leg:
    """Return a measured leg as well known, relatively, as the measured focal length."""
    focal = legs.measured("effective_focal_length_mm")
    assert focal is not None
    return Leg(value, value * (focal.uncertainty / focal.value), source=focal.source)


@measured("focal_ratio")
def _measured_ratio(legs: Legs) -> Leg | None:
    focal = legs.measured("effective_focal_length_mm")
    if focal is None:
        return None
    return _following(legs, imaging.focal_ratio(focal.value, legs.rig.telescope.aperture_mm))


@measured("pixel_scale_arcsec_px")
def _measured_scale(legs: Legs) -> Leg | None:
    focal, sensor = legs.measured("effective_focal_length_mm"), legs.rig.sensor
    if focal is None or sensor is None:
        return None
    return _following(legs, imaging.pixel_scale(sensor.pixel_um, sensor.binning, focal.value))


def _measured_field(legs: Legs, name: str) -> Leg | None:
    focal, sensor = legs.measured("effective_focal_length_mm"), legs.rig.sensor
    if focal is None or sensor is None:
        return None
    slope = imaging.field_angle_slope(_side_mm(sensor, name), focal.value)
    return Leg(imaging.field_angle(_side_mm(sensor, name), focal.value), slope * focal.uncertainty, source=focal.source)


@measured("sampling_px_per_fwhm")
def _measured_sampling(legs: Legs) -> Leg | None:
    scale, fwhm = legs.measured("pixel_scale_arcsec_px"), seeing(legs)
    return None if scale is None or fwhm is None else _following(legs, imaging.sampling(fwhm, scale.value))


for _name in SIDES:
    declares("computed", f"field_{_name}_deg")(partial(_field, name=_name))
    declares("measured", f"field_{_name}_deg")(partial(_measured_field, name=_name))


# What field solving is told


def plate_solving_hints(legs: Legs) -> sampling.PlateSolvingHints | None:
    """Return the range that field solving is told, from the measured scale where there is one, for a sensor.

    Parameters
    ----------
    legs
        The legs of the rig.

    Returns
    -------
    PlateSolvingHints or None
        Scales in arcsec/px and the field's radius in degrees.
    """

    def work() -> sampling.PlateSolvingHints | None:
        sensor, focal = legs.rig.sensor, legs.found("effective_focal_length_mm")
        if sensor is None or focal is None:
            return None
        scale = imaging.pixel_scale(sensor.pixel_um, sensor.binning, focal.value)
        return sampling.plate_solving_hints(sensor, scale, focal.value, focal.uncertainty / focal.value)

    return legs.once("search range", work)


@computed("search_scale_low_arcsec_px")
def _lowest_scale(legs: Legs) -> Leg | None:
    found = plate_solving_hints(legs)
    return Leg(found.low_arcsec_px) if found else None


@computed("search_scale_high_arcsec_px")
def _highest_scale(legs: Legs) -> Leg | None:
    found = plate_solving_hints(legs)
    return Leg(found.high_arcsec_px) if found else None


@computed("search_radius_deg")
def _search_radius(legs: Legs) -> Leg | None:
    found = plate_solving_hints(legs)
    return Leg(found.radius_deg) if found else None

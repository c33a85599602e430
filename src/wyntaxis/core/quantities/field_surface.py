"""What sweeps are told of the rig, and how tilt and curvature stand against the depth of focus."""

from __future__ import annotations

from typing import TYPE_CHECKING

from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.ledger import QuantityValue, Target
from wyntaxis.core.quantities.evaluator import QuantityEvaluator, measured, recorded, target
from wyntaxis.core.quantities.focuser import depth_of_focus_um, focusers
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantity_kinds import (
    BACK_FOCUS_BUILT,
    BACK_FOCUS_REQUIRED,
    DEPTH_OF_FOCUS_DIFFRACTION,
    DEPTH_OF_FOCUS_SEEING,
    FIELD_CURVATURE,
    FIELD_TILT,
    FOCAL_RATIO,
)
from wyntaxis.core.rig.parts import Part

if TYPE_CHECKING:
    from wyntaxis.core.evidence.field.result import FieldOptics, PlateScrews

COMFORTABLE = 0.5
"""Of half the depth of focus, what leaves room for the rest that goes wrong."""


def plate_screws(train: tuple[Part, ...]) -> PlateScrews | None:
    """Return the screws of the train's last tilt plate that documents them; None without one.

    Parameters
    ----------
    train
        The parts of the train.

    Returns
    -------
    PlateScrews or None
        Lengths in mm, angles in degrees.
    """
    from wyntaxis.core.evidence.field.result import PlateScrews

    for part in reversed(train):
        screws = part.screws
        if screws is not None:
            return PlateScrews(
                part.id,
                screws.radius_mm,
                screws.pitch_mm,
                tuple(place.azimuth_deg for place in screws.at),
                screws.drive == "push_pull",
                screws.mirrored,
                tuple(place.clock for place in screws.at),
            )
    return None


def field_optics(numbers: Numbers) -> FieldOptics:
    """Return what sweeps are told of a rig.

    Returns
    -------
    FieldOptics
        Lengths in µm and mm; what the rig does not tell is left out.
    """
    from wyntaxis.core.evidence.field.result import FieldOptics

    rig, devices = numbers.rig, focusers(numbers)
    ratio, built = numbers.quantity(FOCAL_RATIO), numbers.quantity(BACK_FOCUS_BUILT)
    step = None
    if devices:
        found, stated = devices[0].measured("step_um"), devices[0].number("step_um")
        if found is not None:
            step = Estimate(found.value, found.standard_uncertainty)
        elif stated is not None:
            step = Estimate(stated)
    return FieldOptics(
        pixel_um=rig.sensor.pixel_um if rig.sensor is not None else None,
        step_um=step,
        step_is_stated=not devices or devices[0].measured("step_um") is None,
        depth_um=depth_of_focus_um(numbers),
        focal_ratio=ratio.best.value if ratio is not None and ratio.best is not None else None,
        obstruction=rig.telescope.obstruction_ratio or 0.0,
        built_mm=built.best.value if built is not None and built.best is not None else None,
        reversed=bool(devices and devices[0].truth("reversed")),
        screws=plate_screws(rig.train),
        field_follows=rig.mount is None or rig.mount.kind != "alt_azimuth",
    )


def _half_depth_um(evaluator: QuantityEvaluator) -> float | None:
    """Return half the depth of focus in µm: by the seeing, else by diffraction."""
    found = evaluator.best_value(DEPTH_OF_FOCUS_SEEING) or evaluator.best_value(DEPTH_OF_FOCUS_DIFFRACTION)
    return found.value / 2 if found is not None else None


@measured(FIELD_TILT)
def _tilt(evaluator: QuantityEvaluator) -> QuantityValue | None:
    return recorded(evaluator, FIELD_TILT)


@measured(FIELD_CURVATURE)
def _curvature(evaluator: QuantityEvaluator) -> QuantityValue | None:
    return recorded(evaluator, FIELD_CURVATURE)


@measured(BACK_FOCUS_REQUIRED)
def _flat_at(evaluator: QuantityEvaluator) -> QuantityValue | None:
    return recorded(evaluator, BACK_FOCUS_REQUIRED)


@target(FIELD_TILT)
def _wanted_tilt(evaluator: QuantityEvaluator) -> Target | None:
    half = _half_depth_um(evaluator)
    if half is None or evaluator.measured(FIELD_TILT) is None:
        return None
    return Target(high=half, inner_high=COMFORTABLE * half)


@target(FIELD_CURVATURE)
def _wanted_curvature(evaluator: QuantityEvaluator) -> Target | None:
    half = _half_depth_um(evaluator)
    if half is None or evaluator.measured(FIELD_CURVATURE) is None:
        return None
    return Target(-half, half, -COMFORTABLE * half, COMFORTABLE * half)

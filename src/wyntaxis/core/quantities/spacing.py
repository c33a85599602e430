"""The distances of the light path: glass, back focus, and the corrector as a thin lens at its built distance."""

from __future__ import annotations

import math

from wyntaxis.core.ledger import QuantityValue, Target, Verdict, rectangular
from wyntaxis.core.optics import thinlens
from wyntaxis.core.quantities.evaluator import QuantityEvaluator, computed, declares, measured, target
from wyntaxis.core.quantities.imaging import focal_length
from wyntaxis.core.quantity_kinds import (
    BACK_FOCUS_BUILT,
    BACK_FOCUS_ERROR,
    BACK_FOCUS_REQUIRED,
    CORRECTOR_MAGNIFICATION,
    FOCAL_LENGTH,
    GLASS_SHIFT,
    SPACING_ERROR_BY_SCALE,
)
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.train.lightpath import (
    BackFocus,
    back_focus,
    datum_index,
    main_plates,
    shift_standard,
    total_shift,
)
from wyntaxis.core.train.slots import UnknownFilter, unknown_filters, with_known_filter


def back_focus_of(evaluator: QuantityEvaluator) -> BackFocus | None:
    """Return the distance behind the corrector, wanted and built; None where no corrector states one.

    Returns
    -------
    BackFocus or None
        Lengths in mm; see :mod:`wyntaxis.core.train.lightpath`.
    """
    return evaluator.memoized("back focus", lambda: back_focus(filtered_rig(evaluator)))


def filtered_rig(evaluator: QuantityEvaluator) -> Rig:
    """Return the rig with the glass of its wheel's first filter, where only the wheel's slots state any.

    Returns
    -------
    Rig
        The same where the train states its glass.
    """
    return evaluator.memoized("filtered rig", lambda: with_known_filter(evaluator.rig))


def unknown_behind(evaluator: QuantityEvaluator, first: int | None) -> tuple[UnknownFilter, ...]:
    """Return the wheels and drawers behind a place of the train whose filters are not known.

    Parameters
    ----------
    evaluator
        The evaluator of the rig.
    first
        The place of the datum, or of the prism; all of the train where it is None.

    Returns
    -------
    tuple of UnknownFilter
        See :func:`wyntaxis.core.train.slots.unknown_filters`.
    """
    found = evaluator.memoized("unknown filters", lambda: tuple(unknown_filters(evaluator.rig)))
    return tuple(own for own in found if first is None or own.place > first)


def possible_shift_mm(found: tuple[UnknownFilter, ...]) -> tuple[float, float]:
    """Return the least and the greatest shift that filters of which nothing is known may make, in mm.

    Parameters
    ----------
    found
        Wheels and drawers.

    Returns
    -------
    tuple of float
        In mm.
    """
    return math.fsum(own.shift_mm[0] for own in found), math.fsum(own.shift_mm[1] for own in found)


@computed(GLASS_SHIFT)
def _glass_shift(evaluator: QuantityEvaluator) -> QuantityValue:
    plates = main_plates(filtered_rig(evaluator))
    return QuantityValue(total_shift(plates), shift_standard(plates))


@computed(BACK_FOCUS_REQUIRED)
def _required(evaluator: QuantityEvaluator) -> QuantityValue | None:
    path = back_focus_of(evaluator)
    if path is None:
        return None
    # The maker's tolerance is what a measured distance may differ by.
    within = (path.tolerance_mm or 0.0) if evaluator.measured(BACK_FOCUS_REQUIRED) is not None else 0.0
    return QuantityValue(path.required_mm, path.glass_standard_mm, within)


@computed(BACK_FOCUS_BUILT)
def _built(evaluator: QuantityEvaluator) -> QuantityValue | None:
    path = back_focus_of(evaluator)
    return QuantityValue(path.built_mm, path.stack.standard_mm) if path else None


@computed(BACK_FOCUS_ERROR)
def _error(evaluator: QuantityEvaluator) -> QuantityValue | None:
    path = back_focus_of(evaluator)
    return QuantityValue(path.error_mm, path.error_standard_mm) if path else None


@target(BACK_FOCUS_ERROR)
def _wanted_error(evaluator: QuantityEvaluator) -> Target | None:
    path = back_focus_of(evaluator)
    return None if path is None or path.tolerance_mm is None else Target(-path.tolerance_mm, path.tolerance_mm)


@target(BACK_FOCUS_BUILT)
def _wanted_built(evaluator: QuantityEvaluator) -> Target | None:
    path = back_focus_of(evaluator)
    if path is None or path.tolerance_mm is None:
        return None
    return Target(path.required_mm - path.tolerance_mm, path.required_mm + path.tolerance_mm)


@declares("verdict", BACK_FOCUS_ERROR)
@declares("verdict", BACK_FOCUS_BUILT)
def _with_unknown_filter(evaluator: QuantityEvaluator) -> Verdict | None:
    """Return that nothing is verified where a filter is not known, unless no filter could bring the sensor in place."""
    path = back_focus_of(evaluator)
    unknown = unknown_behind(evaluator, datum_index(evaluator.rig.train))
    if path is None or not unknown:
        return None
    low, high = possible_shift_mm(unknown)
    out = path.tolerance_mm is not None and (
        path.error_mm - high > path.tolerance_mm or path.error_mm - low < -path.tolerance_mm
    )
    return Verdict.FAILS if out else Verdict.UNPROVEN


# The corrector as a thin lens, and what a measured image scale says of it


def corrector_lens_mm(evaluator: QuantityEvaluator) -> float | None:
    """Return the focal length of the corrector as a thin lens, in mm; None where it states no magnification.

    Returns
    -------
    float or None
        In mm. Source: Gaussian optics of a thin lens.
    """
    path = back_focus_of(evaluator)
    if path is None or path.corrector.magnification is None:
        return None
    return thinlens.focal_length_of(path.corrector.magnification, path.stated_mm)


@computed(CORRECTOR_MAGNIFICATION)
def _magnification(evaluator: QuantityEvaluator) -> QuantityValue | None:
    """Return the magnification that the built distance gives."""
    path, lens = back_focus_of(evaluator), corrector_lens_mm(evaluator)
    if path is None or lens is None:
        return None
    value = thinlens.magnification_at(path.stated_mm + path.error_mm, lens)
    return QuantityValue(value, path.error_standard_mm / abs(lens)) if value > 0 else None


@measured(CORRECTOR_MAGNIFICATION)
def _measured_magnification(evaluator: QuantityEvaluator) -> QuantityValue | None:
    path, telescope, focal = (
        back_focus_of(evaluator),
        evaluator.rig.telescope,
        evaluator.measured(FOCAL_LENGTH),
    )
    if path is None or focal is None or corrector_lens_mm(evaluator) is None or path.corrector.magnification is None:
        return None
    value = focal.value / (focal_length(evaluator).value / path.corrector.magnification)
    tolerance = rectangular(telescope.focal_length_tolerance_mm)
    standard = value * math.hypot(focal.uncertainty / focal.value, tolerance / telescope.focal_length_mm)
    return QuantityValue(value, standard, source=focal.source)


@measured(SPACING_ERROR_BY_SCALE)
def _error_by_scale(evaluator: QuantityEvaluator) -> QuantityValue | None:
    """Return the spacing error that would explain the measured magnification."""
    path, lens, found = (
        back_focus_of(evaluator),
        corrector_lens_mm(evaluator),
        evaluator.measured(CORRECTOR_MAGNIFICATION),
    )
    if path is None or lens is None or found is None or path.corrector.magnification is None:
        return None
    error = thinlens.spacing_error(found.value, path.corrector.magnification, lens)
    return QuantityValue(error, found.uncertainty * abs(lens), source=found.source)


@computed(SPACING_ERROR_BY_SCALE)
def _error_to_compare(evaluator: QuantityEvaluator) -> QuantityValue | None:
    """Return the built error beside a measured one; alone it would say nothing new."""
    return evaluator.computed(BACK_FOCUS_ERROR) if evaluator.measured(SPACING_ERROR_BY_SCALE) else None

"""The distances of the light path: glass, back focus, and the corrector as a thin lens at its built distance."""

from __future__ import annotations

import math

from wyntaxis.core.ledger import Leg, Target, rectangular
from wyntaxis.core.optics import thinlens
from wyntaxis.core.quantities.imaging import focal_length
from wyntaxis.core.quantities.legs import Legs, computed, measured, target
from wyntaxis.core.train.lightpath import BackFocus, back_focus, main_plates, shift_standard, total_shift


def back_focus_of(legs: Legs) -> BackFocus | None:
    """Return the distance behind the corrector, wanted and built; None where no corrector states one.

    Parameters
    ----------
    legs
        The legs of the rig.

    Returns
    -------
    BackFocus or None
        Lengths in mm; see :mod:`wyntaxis.core.train.lightpath`.
    """
    return legs.once("back focus", lambda: back_focus(legs.rig))


@computed("glass_shift_mm")
def _glass_shift(legs: Legs) -> Leg:
    plates = main_plates(legs.rig)
    return Leg(total_shift(plates), shift_standard(plates))


@computed("back_focus_required_mm")
def _required(legs: Legs) -> Leg | None:
    path = back_focus_of(legs)
    if path is None:
        return None
    # The maker's tolerance is what a measured distance may differ by.
    within = (path.tolerance_mm or 0.0) if legs.measured("back_focus_required_mm") is not None else 0.0
    return Leg(path.required_mm, path.glass_standard_mm, within)


@computed("back_focus_built_mm")
def _built(legs: Legs) -> Leg | None:
    path = back_focus_of(legs)
    return Leg(path.built_mm, path.stack.standard_mm) if path else None


@computed("back_focus_error_mm")
def _error(legs: Legs) -> Leg | None:
    path = back_focus_of(legs)
    return Leg(path.error_mm, path.error_standard_mm) if path else None


@target("back_focus_error_mm")
def _wanted_error(legs: Legs) -> Target | None:
    path = back_focus_of(legs)
    return None if path is None or path.tolerance_mm is None else Target(-path.tolerance_mm, path.tolerance_mm)


@target("back_focus_built_mm")
def _wanted_built(legs: Legs) -> Target | None:
    path = back_focus_of(legs)
    if path is None or path.tolerance_mm is None:
        return None
    return Target(path.required_mm - path.tolerance_mm, path.required_mm + path.tolerance_mm)


# The corrector as a thin lens, and what a measured image scale says of it


def corrector_lens_mm(legs: Legs) -> float | None:
    """Return the focal length of the corrector as a thin lens, in mm; None where it states no magnification.

    Parameters
    ----------
    legs
        The legs of the rig.

    Returns
    -------
    float or None
        In mm. Source: Gaussian optics of a thin lens.
    """
    path = back_focus_of(legs)
    if path is None or path.corrector.magnification is None:
        return None
    return thinlens.focal_length_of(path.corrector.magnification, path.stated_mm)


@computed("corrector_magnification")
def _magnification(legs: Legs) -> Leg | None:
    """Return the magnification that the built distance gives."""
    path, lens = back_focus_of(legs), corrector_lens_mm(legs)
    if path is None or lens is None:
        return None
    value = thinlens.magnification_at(path.stated_mm + path.error_mm, lens)
    return Leg(value, path.error_standard_mm / abs(lens)) if value > 0 else None


@measured("corrector_magnification")
def _measured_magnification(legs: Legs) -> Leg | None:
    path, telescope, focal = back_focus_of(legs), legs.rig.telescope, legs.measured("effective_focal_length_mm")
    if path is None or focal is None or corrector_lens_mm(legs) is None or path.corrector.magnification is None:
        return None
    value = focal.value / (focal_length(legs).value / path.corrector.magnification)
    tolerance = rectangular(telescope.focal_length_tolerance_mm)
    standard = value * math.hypot(focal.uncertainty / focal.value, tolerance / telescope.focal_length_mm)
    return Leg(value, standard, source=focal.source)


@measured("spacing_error_by_scale_mm")
def _error_by_scale(legs: Legs) -> Leg | None:
    """Return the spacing error that would explain the measured magnification."""
    path, lens, found = back_focus_of(legs), corrector_lens_mm(legs), legs.measured("corrector_magnification")
    if path is None or lens is None or found is None or path.corrector.magnification is None:
        return None
    error = thinlens.spacing_error(found.value, path.corrector.magnification, lens)
    return Leg(error, found.uncertainty * abs(lens), source=found.source)


@computed("spacing_error_by_scale_mm")
def _error_to_compare(legs: Legs) -> Leg | None:
    """Return the built error beside a measured one; alone it would say nothing new."""
    return legs.computed("back_focus_error_mm") if legs.measured("spacing_error_by_scale_mm") else None

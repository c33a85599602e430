"""How large and how round stars are: by the seeing and the aperture, and as frames measured them."""

from __future__ import annotations

import math

from wyntaxis.core.ledger import QuantityValue, Target
from wyntaxis.core.optics.imaging import ARCSEC_PER_RADIAN, WAVELENGTH_UM
from wyntaxis.core.quantities.evaluator import QuantityEvaluator, computed, measured, recorded, target
from wyntaxis.core.quantities.imaging import seeing
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantity_kinds import PIXEL_SCALE, STAR_ELONGATION, STAR_FWHM

DIFFRACTION_FWHM = 1.029
"""FWHM of the Airy pattern in λ/D."""
SEEING_SHARE = 0.15
"""A site's seeing is a usual figure: nights differ by this, as a share."""
LARGE, TOO_LARGE = 1.3, 2.0
"""Stars of so many times what seeing and aperture make are doubtful, or wrong: focus, guiding, tilt."""
ROUND, LONG = 1.15, 1.35
"""Long over short axis that is not seen, and that is."""


def frame_scale(numbers: Numbers, binning: int | None) -> float | None:
    """Return the scale of a frame by the rig, in arcsec to its own px.

    Parameters
    ----------
    numbers
        The rig's numbers.
    binning
        Of the frame; the rig's own where it does not tell.

    Returns
    -------
    float or None
        None without a sensor.
    """
    scale, sensor = numbers.value(PIXEL_SCALE), numbers.rig.sensor
    return None if scale is None or sensor is None else scale * (binning or sensor.binning) / sensor.binning


@computed(STAR_FWHM)
def _by_seeing(evaluator: QuantityEvaluator) -> QuantityValue | None:
    """Return the FWHM in arcsec that seeing and aperture make together, in quadrature."""
    fwhm = seeing(evaluator)
    if fwhm is None:
        return None
    diffraction = DIFFRACTION_FWHM * WAVELENGTH_UM / (1000 * evaluator.rig.telescope.aperture_mm) * ARCSEC_PER_RADIAN
    value = math.hypot(fwhm, diffraction)
    # A night of better seeing than usual contradicts nothing: how large is too large, the target says.
    return QuantityValue(value, SEEING_SHARE * value, tolerance=value)


@target(STAR_FWHM)
def _wanted_size(evaluator: QuantityEvaluator) -> Target | None:
    made = evaluator.computed(STAR_FWHM)
    if made is None or evaluator.measured(STAR_FWHM) is None:
        return None
    return Target(high=TOO_LARGE * made.value, inner_high=LARGE * made.value)


@measured(STAR_FWHM)
def _size(evaluator: QuantityEvaluator) -> QuantityValue | None:
    return recorded(evaluator, STAR_FWHM)


@measured(STAR_ELONGATION)
def _elongation(evaluator: QuantityEvaluator) -> QuantityValue | None:
    return recorded(evaluator, STAR_ELONGATION)


@target(STAR_ELONGATION)
def _wanted_roundness(evaluator: QuantityEvaluator) -> Target | None:
    return Target(high=LONG, inner_high=ROUND) if evaluator.measured(STAR_ELONGATION) is not None else None

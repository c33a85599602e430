"""Whether all the light reaches the sensor's corners, and where the prism stands in it.

Source: the beam of a field point at x before the sensor is a disc x/N wide about h (1 − x/P); overlap of two circles.
"""

from __future__ import annotations

import math
from collections.abc import Iterator

from wyntaxis.core.ledger import Quantity, QuantityValue, Target
from wyntaxis.core.quantities.evaluator import QuantityEvaluator, target
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantities.rows import DeviceQuantity, memoized, rows
from wyntaxis.core.quantity_kinds import FOCAL_RATIO, SENSOR_DIAGONAL
from wyntaxis.core.steps import GUIDE_BRANCH, LIGHT_PATH
from wyntaxis.core.train.illumination import Beam, Opening, PrismPlace, image_circle_at_sensor, openings, prism_place

VISIBLE_LOSS_PERCENT = 10.0
"""A corner that keeps 90 % of its light flat-fields without a trace: tight, not failing."""
PRISM_MARGIN_MM = 0.5
"""Play of a prism's stalk: nearer to a limit than this is tight."""
CENTRING_RESERVE = 0.05
"""A circle less than 5 % wider than the diagonal leaves nothing for a sensor off the axis."""

CORNER = DeviceQuantity("corner_light_percent", "Corner illumination", "%", 1, LIGHT_PATH)
CLEARANCE = DeviceQuantity("prism_clearance_mm", "Prism clearance from the sensor's light", "mm", 2, GUIDE_BRANCH)
IN_CIRCLE = DeviceQuantity("prism_in_circle_mm", "Prism inside the image circle", "mm", 2, GUIDE_BRANCH)


@memoized
def beam_of(numbers: Numbers) -> Beam:
    """Return the beam behind the last corrector, by the best focal ratio.

    Returns
    -------
    Beam
        Its focal ratio, and its exit pupil in mm.
    """
    return Beam(numbers.value(FOCAL_RATIO) or 1.0, numbers.rig.telescope.exit_pupil_distance_mm)


@memoized
def prism_place_of(numbers: Numbers) -> PrismPlace | None:
    """Return where the prism stands and may stand, in mm; None without a prism or a sensor.

    Returns
    -------
    PrismPlace or None
        Lengths in mm.
    """
    circle = image_circle_at_sensor(numbers.rig)
    return prism_place(numbers.rig, beam_of(numbers), circle.diameter_mm if circle else None)


@memoized
def openings_of(numbers: Numbers) -> list[Opening]:
    """Return what may cut the light; see :func:`~wyntaxis.core.train.illumination.openings`.

    Returns
    -------
    list of Opening
        Diameters and distances in mm.
    """
    return openings(numbers.rig)


@target(SENSOR_DIAGONAL)
def _inside_the_circle(evaluator: QuantityEvaluator) -> Target | None:
    circle = image_circle_at_sensor(evaluator.rig)
    if circle is None or evaluator.rig.sensor is None:
        return None
    return Target(0, circle.diameter_mm, 0, circle.diameter_mm / (1 + CENTRING_RESERVE))


@rows
def corner_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield how much of its light each opening leaves the sensor's corner."""
    sensor = numbers.rig.sensor
    if sensor is None:
        return
    beam, diagonal = beam_of(numbers), sensor.diagonal_mm
    whole = Target(low=100 - VISIBLE_LOSS_PERCENT, inner_low=100.0)
    for opening in openings_of(numbers):
        x, wide = opening.distance_mm, opening.diameter_mm
        lit = wide >= beam.opening_needed(diagonal, x)
        # What the overlap rounds to 1 is no more than nearly all, where the opening is too narrow.
        share = 100.0 if lit else min(100 * beam.fraction(diagonal / 2, wide, x), math.nextafter(100.0, 0.0))
        yield CORNER.row(opening.part.id, opening.part.title, computed=QuantityValue(share), target=whole)


@rows
def prism_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield how far the prism stands clear of the sensor's light, and inside the image circle."""
    place, taps = prism_place_of(numbers), numbers.rig.guiding.taps
    if place is None or taps is None:
        return
    clear = QuantityValue(place.edge_mm - place.lowest_mm)
    yield CLEARANCE.row(taps, "Guide branch", computed=clear, target=Target(low=0, inner_low=PRISM_MARGIN_MM))
    circle = image_circle_at_sensor(numbers.rig)
    if place.highest_mm is not None and circle is not None:
        # A circle that is computed from the telescope's through a corrector, not stated, leaves a doubt, no proof.
        low = -math.inf if circle.is_estimated else 0.0
        inside = QuantityValue(place.highest_mm - place.edge_mm)
        yield IN_CIRCLE.row(taps, "Guide branch", computed=inside, target=Target(low=low, inner_low=PRISM_MARGIN_MM))

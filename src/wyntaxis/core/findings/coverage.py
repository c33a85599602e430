"""Does the corrected image circle reach the sensor's corners?"""

from __future__ import annotations

import math
from collections.abc import Iterator

from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Leg, Target, Verdict
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.steps import SCALES
from wyntaxis.core.train.lightpath import magnifications
from wyntaxis.core.wording import number, short

CENTRING_RESERVE = 0.05
"""A circle less than 5 % wider than the diagonal leaves nothing for a sensor off the axis."""

_SOURCE = "The corrected image circle must exceed the sensor's diagonal; a reducer shrinks the circle with the image"


@finding("coverage.image_circle", step=SCALES, after="scale.guide")
def image_circle(evaluation: Evaluation) -> Iterator[Finding]:
    """Compare the image circle behind the correctors with the sensor's diagonal."""
    rig, diagonal = evaluation.rig, evaluation.value("sensor_diagonal_mm")
    circle, lines = circle_at_sensor(rig)
    if circle is None or diagonal is None:
        missing = "the camera and its sensor" if diagonal is None else "the telescope's image circle (image_circle_mm)"
        yield Finding(
            "coverage.image_circle",
            Verdict.UNPROVEN,
            "sensor_diagonal_mm",
            "Whether the image circle covers the sensor is not known",
            (),
            Remedy(f"state {missing}"),
            _SOURCE,
        )
        return
    verdict = Target(0, circle, 0, circle / (1 + CENTRING_RESERVE)).judge(Leg(diagonal))
    sensor = rig.sensor
    assert sensor is not None
    diagonal_line = (
        f"sensor: √({number(sensor.width_mm, 2)}² + {number(sensor.height_mm, 2)}²) = {number(diagonal, 2)} mm"
    )
    spare = f"reserve: {number(circle, 2)} − {number(diagonal, 2)} = {number(circle - diagonal, 2)} mm"
    title = {
        Verdict.HOLDS: "The image circle covers the sensor",
        Verdict.TIGHT: "The image circle barely covers the sensor",
    }.get(verdict, "The image circle does not reach the sensor's corners")
    remedy = NO_REMEDY
    if verdict is Verdict.TIGHT:
        remedy = Remedy(f"centre the sensor to within {number((circle - diagonal) / 2, 2)} mm of the axis")
    elif verdict is Verdict.FAILS:
        side = circle / math.sqrt(2)
        remedy = Remedy(
            f"expect soft, dark corners beyond {number(circle, 1)} mm: crop to a diagonal of that size "
            f"(a square of {number(side, 1)} mm), use a smaller sensor or a corrector with a wider circle"
        )
    yield Finding(
        id="coverage.image_circle",
        verdict=verdict,
        subject=rig.camera.id if rig.camera else "train",
        title=title,
        arithmetic=(*lines, diagonal_line, spare),
        remedy=remedy,
        source=_SOURCE,
        quantities=("sensor_diagonal_mm",),
    )


def circle_at_sensor(rig: Rig) -> tuple[float | None, tuple[str, ...]]:
    """Return the image circle at the sensor in mm, and how it was found.

    The last corrector that states a circle fixes it; every magnification after that, or after the telescope, scales it.
    """
    circle, name, start = rig.telescope.image_circle_mm, rig.telescope.title, 0
    for index, part in enumerate(rig.train):
        if part.image_circle_mm is not None:
            circle, name, start = part.image_circle_mm, part.title, index + 1
    if circle is None:
        return None, ()
    factors = [factor for factor in magnifications(rig.train[start:]) if factor != 1]
    if not factors:
        return circle, (f"image circle of {name}: {number(circle, 2)} mm",)
    product = circle * math.prod(factors)
    written = " × ".join(short(factor, 4) for factor in factors)
    return product, (f"image circle: {number(circle, 2)} mm of {name} × {written} = {number(product, 2)} mm",)

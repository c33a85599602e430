"""Does the corrected image circle reach the sensor's corners?"""

from __future__ import annotations

import math
from collections.abc import Iterator

from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.steps import SCALES
from wyntaxis.core.train.illumination import ImageCircle, image_circle_at_sensor
from wyntaxis.core.wording import number, short

_SOURCE = "The corrected image circle must exceed the sensor's diagonal; a reducer shrinks the circle with the image"


@finding("coverage.image_circle", step=SCALES, after="scale.guide")
def image_circle(evaluation: Evaluation) -> Iterator[Finding]:
    """Compare the image circle behind the correctors with the sensor's diagonal."""
    rig, diagonal = evaluation.rig, evaluation.value("sensor_diagonal_mm")
    row, found = evaluation.rows["sensor_diagonal_mm"], image_circle_at_sensor(rig)
    circle = found.diameter_mm if found is not None else None
    if found is None or circle is None or diagonal is None:
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
    verdict = row.target_verdict
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
        arithmetic=(_circle_line(found), diagonal_line, spare),
        remedy=remedy,
        source=_SOURCE,
        quantities=("sensor_diagonal_mm",),
    )


def _circle_line(circle: ImageCircle) -> str:
    if not circle.factors:
        return f"image circle of {circle.of}: {number(circle.stated_mm, 2)} mm"
    written = " × ".join(short(factor, 4) for factor in circle.factors)
    return (
        f"image circle: {number(circle.stated_mm, 2)} mm of {circle.of} × {written} = "
        f"{number(circle.diameter_mm, 2)} mm"
    )

"""Does the corrected image circle reach the sensor's corners?"""

from __future__ import annotations

import math
from collections.abc import Iterator

from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.registry import Listed, Statement, finding, say
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantity_kinds import SENSOR_DIAGONAL
from wyntaxis.core.steps import SCALES
from wyntaxis.core.train.illumination import ImageCircle, image_circle_at_sensor
from wyntaxis.core.wording import number, short


@finding(
    "coverage.image_circle",
    step=SCALES,
    listed=Listed(after="scale.guide"),
    source="The corrected image circle must exceed the sensor's diagonal; a reducer shrinks the circle with the image",
    titles={
        "holds": "The image circle of {circle:1} mm covers the sensor's diagonal of {diagonal:1} mm",
        "tight": "The image circle of {circle:1} mm barely covers the sensor's diagonal of {diagonal:1} mm",
        "fails": "The image circle of {circle:1} mm does not reach the sensor's corners ({diagonal:1} mm)",
        "no sensor": "It is not known whether the image circle covers the sensor",
        "no circle": "It is not known whether the image circle covers the sensor",
    },
    remedies={
        "tight": "Centre the sensor to within {half:2} mm of the axis.",
        "fails": "Expect soft, dark corners beyond {circle:1} mm. Crop to that diagonal (a square of {side:1} mm), "
        "or use a smaller sensor or a corrector with a wider circle.",
        "no sensor": "Enter the camera and its sensor.",
        "no circle": "Enter the telescope's image circle (image_circle_mm).",
    },
)
def image_circle(evaluation: Evaluation) -> Iterator[Statement]:
    """Compare the image circle behind the correctors with the sensor's diagonal."""
    rig, diagonal = evaluation.rig, evaluation.value(SENSOR_DIAGONAL)
    row, found = evaluation.quantity(SENSOR_DIAGONAL), image_circle_at_sensor(rig)
    circle = found.diameter_mm if found is not None else None
    if found is None or circle is None or diagonal is None:
        case = "no sensor" if diagonal is None else "no circle"
        yield say(SENSOR_DIAGONAL.id, verdict=Verdict.UNPROVEN, case=case)
        return
    sensor = rig.sensor
    assert sensor is not None
    lines = (
        _circle_line(found),
        f"sensor: √({number(sensor.width_mm, 2)}² + {number(sensor.height_mm, 2)}²) = {number(diagonal, 2)} mm",
        f"reserve: {number(circle, 2)} − {number(diagonal, 2)} = {number(circle - diagonal, 2)} mm",
    )
    values = {"circle": circle, "diagonal": diagonal, "half": (circle - diagonal) / 2, "side": circle / math.sqrt(2)}
    yield say(rig.camera.id if rig.camera else "train", row, row.target_verdict, values, lines=lines)


def _circle_line(circle: ImageCircle) -> str:
    if not circle.factors:
        return f"image circle of {circle.of}: {number(circle.stated_mm, 2)} mm"
    written = " × ".join(short(factor, 4) for factor in circle.factors)
    return (
        f"image circle: {number(circle.stated_mm, 2)} mm of {circle.of} × {written} = "
        f"{number(circle.diameter_mm, 2)} mm"
    )

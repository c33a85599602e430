"""Does all the light reach the sensor's corners, and is the prism where it neither shades nor starves?"""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Statement, finding, say
from wyntaxis.core.ledger import Quantity, Verdict
from wyntaxis.core.quantities.light import (
    CLEARANCE,
    CORNER,
    IN_CIRCLE,
    PRISM_MARGIN_MM,
    beam_of,
    openings_of,
    prism_place_of,
)
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.steps import GUIDE_BRANCH, LIGHT_PATH
from wyntaxis.core.train.illumination import Beam, Opening, PrismPlace, image_circle_at_sensor
from wyntaxis.core.wording import MINUS, number, short

_PRISM_SOURCE = "The prism shades below h (1 − x/P) + x/2N, and sees light while its outer edge is in the image circle"


@finding(
    "illumination.corner",
    step=LIGHT_PATH,
    listed=Listed(after="joints.seat"),
    source="Beam of a field point at x before the sensor: a disc x/N wide at h (1 − x/P); overlap of two circles",
    titles={
        "cut": "{part} lets {light:0} % of the light reach the sensor's corner",
        "clear": "Every opening lights the sensor's corners fully",
        "not known": "No clear aperture is entered, so vignetting is not known",
    },
    remedies={
        "cut": "Use an opening of {needed:1} mm, or bring {part} closer to the sensor. Good flats correct a small "
        "loss.",
        "clear": "",
        "not known": "Enter the clear aperture of the parts behind the corrector (clear_aperture_mm).",
    },
)
def corner(evaluation: Evaluation) -> Iterator[Statement]:
    """Compare each opening with what the sensor's corner needs; one statement for all when none cuts."""
    sensor, found = evaluation.rig.sensor, openings_of(evaluation)
    if sensor is None:
        return
    if not found:
        yield say("train", None, Verdict.UNPROVEN, case="not known")
        return
    beam, diagonal = beam_of(evaluation), sensor.diagonal_mm
    judged = [(opening, evaluation.rows[CORNER.id_of(opening.part.id)]) for opening in found]
    narrow = [(opening, row) for opening, row in judged if row.verdict is not Verdict.HOLDS]
    for opening, row in narrow:
        yield _cut(beam, opening, diagonal, row)
    if not narrow:
        lit = min(beam.fully_lit_circle(o.diameter_mm, o.distance_mm) for o in found)
        lines = (*(_line(beam, o, diagonal) for o in found), f"fully lit circle: {number(lit, 1)} mm")
        yield say("train", [row for _, row in judged], Verdict.HOLDS, case="clear", lines=lines)


def _line(beam: Beam, opening: Opening, diagonal_mm: float) -> str:
    x = opening.distance_mm
    share = f" × |1 {MINUS} {number(x, 1)}/{number(beam.pupil_mm, 1)}|" if beam.pupil_mm else ""
    needed = beam.opening_needed(diagonal_mm, x)
    return (
        f"{opening.part.title}: {number(diagonal_mm, 2)}{share} + {number(x, 1)}/{number(beam.ratio, 2)} = "
        f"{number(needed, 2)} mm needed, {short(opening.diameter_mm)} mm available"
    )


def _cut(beam: Beam, opening: Opening, diagonal_mm: float, row: Quantity) -> Statement:
    assert row.computed is not None
    lit = beam.fully_lit_circle(opening.diameter_mm, opening.distance_mm)
    named: dict[str, Named] = {
        "part": opening.part.title,
        "light": row.computed.value,
        "needed": beam.opening_needed(diagonal_mm, opening.distance_mm),
    }
    lines = (
        _line(beam, opening, diagonal_mm),
        f"fully lit circle: {number(lit, 1)} mm of {number(diagonal_mm, 1)} mm",
    )
    return say(opening.part.id, row, None, named, case="cut", lines=lines)


_PRISM_REMEDIES = {
    "move": "Set the prism's edge {wanted} mm from the axis.",
    "smaller": "Use a smaller prism, or enter the corrector's own image circle (image_circle_mm) if it is wider. "
    "Prefer "
    "losing guide light to shading the sensor.",
}


@finding(
    "prism.shade",
    step=GUIDE_BRANCH,
    listed=Listed(after="illumination.corner"),
    source=_PRISM_SOURCE,
    titles={
        "holds": "The prism is clear of the sensor's light",
        "tight": "The prism barely clears the sensor's light",
        "": "The prism reaches {depth:2} mm into the sensor's light",
    },
    remedies=_PRISM_REMEDIES,
)
def shade(evaluation: Evaluation) -> Iterator[Statement]:
    """Compare the prism's edge with the light that the sensor needs."""
    place = prism_place_of(evaluation)
    if place is None:
        return
    beam, pickoff = beam_of(evaluation), evaluation.rig.guiding.taps or "guiding"
    row = evaluation.rows[CLEARANCE.id_of(pickoff)]
    limit = (
        f"{number(place.half_side_mm, 2)} + {number(place.distance_mm, 1)}/(2 × {number(beam.ratio, 2)})"
        if beam.pupil_mm is None
        else f"{number(place.half_side_mm, 2)} × (1 {MINUS} {number(place.distance_mm, 1)}/"
        f"{number(beam.pupil_mm, 1)}) + {number(place.distance_mm, 1)}/(2 × {number(beam.ratio, 2)})"
    )
    lines = (
        f"light ends at {limit} = {number(place.lowest_mm, 2)} mm from the axis",
        f"prism's edge: {number(place.edge_mm, 2)} mm",
        _range_text(place),
    )
    yield _prism(evaluation, place, row, lines, {"depth": place.lowest_mm - place.edge_mm})


@finding(
    "prism.light",
    step=GUIDE_BRANCH,
    listed=Listed(after="prism.shade"),
    source=_PRISM_SOURCE,
    titles={
        "holds": "The prism is inside the image circle",
        "tight": "The prism reaches the edge of the image circle",
        "fails": "The prism reaches out of the image circle",
        "estimated": "The prism reaches out of the image circle estimated behind the corrector",
        "not known": "It is not known whether the prism is in the image circle",
    },
    remedies={**_PRISM_REMEDIES, "not known": "Enter the telescope's image circle (image_circle_mm)."},
)
def light(evaluation: Evaluation) -> Iterator[Statement]:
    """Compare the prism's outer edge with the image circle."""
    place = prism_place_of(evaluation)
    if place is None:
        return
    pickoff = evaluation.rig.guiding.taps or "guiding"
    if place.highest_mm is None:
        yield say(pickoff, None, Verdict.UNPROVEN, case="not known")
        return
    row, circle = evaluation.rows[IN_CIRCLE.id_of(pickoff)], image_circle_at_sensor(evaluation.rig)
    tapped = next(part for part in evaluation.rig.train if part.id == pickoff)
    height = tapped.prism.height_mm if tapped.prism else 0.0
    lines = (
        f"prism: {number(place.edge_mm, 2)} + {number(height, 2)} = {number(place.edge_mm + height, 2)} mm",
        f"image circle's radius there: {number(place.highest_mm + height, 2)} mm",
        _range_text(place),
    )
    is_estimated = circle is not None and circle.is_estimated and place.highest_mm < place.edge_mm
    yield _prism(evaluation, place, row, lines, {}, "estimated" if is_estimated else "")


def _prism(
    evaluation: Evaluation,
    place: PrismPlace,
    row: Quantity,
    lines: tuple[str, ...],
    named: dict[str, Named],
    case: str = "",
) -> Statement:
    """Return a statement on the prism, with where its edge should be."""
    wanted, change = _better_place(evaluation, place)
    cure = "smaller" if wanted is None else "move"
    if row.verdict is Verdict.HOLDS:
        cure, change = "none", None
    named = {**named, "wanted": wanted or 0.0}
    pickoff = evaluation.rig.guiding.taps or "guiding"
    return say(pickoff, row, None, named, case=case, cure=cure, lines=lines).with_edit(change)


def _range_text(place: PrismPlace) -> str:
    if place.highest_mm is None:
        return f"the edge may be from {number(place.lowest_mm, 2)} mm outward"
    if place.highest_mm < place.lowest_mm:
        return (
            f"no place is right: clear of the sensor from {number(place.lowest_mm, 2)} mm, "
            f"in the circle up to {number(place.highest_mm, 2)} mm"
        )
    return f"the edge may be {number(place.lowest_mm, 2)} to {number(place.highest_mm, 2)} mm from the axis"


def _better_place(evaluation: Evaluation, place: PrismPlace) -> tuple[float | None, Change | None]:
    """Return where the prism's edge should be, in mm from the axis, and the edit; None where no place is right."""
    tapped = evaluation.rig.find(evaluation.rig.guiding.taps or "")
    highest = place.highest_mm if place.highest_mm is not None else place.lowest_mm + 2 * PRISM_MARGIN_MM
    if highest < place.lowest_mm or tapped is None:
        return None, None
    wanted = round(min(place.lowest_mm + PRISM_MARGIN_MM, (place.lowest_mm + highest) / 2), 1)
    if not place.lowest_mm <= wanted <= highest:
        wanted = round((place.lowest_mm + highest) / 2, 2)
    return wanted, Change.of("Move the prism", (*tapped[0], "prism", "edge_from_axis_mm"), wanted)

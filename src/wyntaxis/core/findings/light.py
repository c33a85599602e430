"""Does all the light reach the sensor's corners, and does the prism stand where it neither shades nor starves?"""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.finding import NO_REMEDY, Finding, Remedy
from wyntaxis.core.findings.registry import finding
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

_SOURCE = "Beam of a field point at x before the sensor: a disc x/N wide at h (1 − x/P); overlap of two circles"
_PRISM_SOURCE = "The prism shades below h (1 − x/P) + x/2N, and sees light while its outer edge is in the image circle"


@finding("illumination.corner", step=LIGHT_PATH, after="joints.seat")
def corner(evaluation: Evaluation) -> Iterator[Finding]:
    """Compare each opening with what the sensor's corner needs; one line for all when none cuts."""
    sensor, found = evaluation.rig.sensor, openings_of(evaluation)
    if sensor is None:
        return
    if not found:
        yield Finding(
            "illumination.corner",
            Verdict.UNPROVEN,
            "train",
            "No clear aperture is stated, so vignetting is not known",
            (),
            Remedy("state the clear aperture of the parts behind the corrector (clear_aperture_mm)"),
            _SOURCE,
        )
        return
    beam, diagonal = beam_of(evaluation), sensor.diagonal_mm
    judged = [(opening, evaluation.rows[CORNER.id_of(opening.part.id)]) for opening in found]
    narrow = [(opening, row) for opening, row in judged if row.verdict is not Verdict.HOLDS]
    for opening, row in narrow:
        yield _cut(beam, opening, diagonal, row)
    if not narrow:
        lit = min(beam.fully_lit_circle(o.diameter_mm, o.distance_mm) for o in found)
        yield Finding(
            "illumination.corner",
            Verdict.HOLDS,
            "train",
            "Every opening lights the sensor's corners fully",
            (*(_line(beam, o, diagonal) for o in found), f"fully lit circle: {number(lit, 1)} mm"),
            NO_REMEDY,
            _SOURCE,
            tuple(row.id for _, row in judged),
        )


def _line(beam: Beam, opening: Opening, diagonal_mm: float) -> str:
    x = opening.distance_mm
    share = f" × |1 {MINUS} {number(x, 1)}/{number(beam.pupil_mm, 1)}|" if beam.pupil_mm else ""
    needed = beam.opening_needed(diagonal_mm, x)
    return (
        f"{opening.part.title}: {number(diagonal_mm, 2)}{share} + {number(x, 1)}/{number(beam.ratio, 2)} = "
        f"{number(needed, 2)} mm needed, {short(opening.diameter_mm)} mm given"
    )


def _cut(beam: Beam, opening: Opening, diagonal_mm: float, row: Quantity) -> Finding:
    assert row.computed is not None
    lit = beam.fully_lit_circle(opening.diameter_mm, opening.distance_mm)
    needed = beam.opening_needed(diagonal_mm, opening.distance_mm)
    return Finding(
        "illumination.corner",
        row.verdict,
        opening.part.id,
        f"{opening.part.title} leaves the sensor's corner {number(row.computed.value, 0)} % of its light",
        (_line(beam, opening, diagonal_mm), f"fully lit circle: {number(lit, 1)} mm of {number(diagonal_mm, 1)} mm"),
        Remedy(
            f"use an opening of {number(needed, 1)} mm, or bring {opening.part.title} closer to the sensor; "
            "good flats even out a small loss"
        ),
        _SOURCE,
        (row.id,),
    )


@finding("prism.shade", step=GUIDE_BRANCH, after="illumination.corner")
def shade(evaluation: Evaluation) -> Iterator[Finding]:
    """Compare the prism's edge with the light that the sensor needs."""
    place = prism_place_of(evaluation)
    if place is None:
        return
    beam, taps = beam_of(evaluation), evaluation.rig.guiding.taps or "guiding"
    row = evaluation.rows[CLEARANCE.id_of(taps)]
    limit = (
        f"{number(place.half_side_mm, 2)} + {number(place.distance_mm, 1)}/(2 × {number(beam.ratio, 2)})"
        if beam.pupil_mm is None
        else f"{number(place.half_side_mm, 2)} × (1 {MINUS} {number(place.distance_mm, 1)}/"
        f"{number(beam.pupil_mm, 1)}) + {number(place.distance_mm, 1)}/(2 × {number(beam.ratio, 2)})"
    )
    verdict = row.verdict
    yield Finding(
        "prism.shade",
        verdict,
        taps,
        {
            Verdict.HOLDS: "The prism stands clear of the sensor's light",
            Verdict.TIGHT: "The prism barely clears the sensor's light",
        }.get(verdict, f"The prism reaches {number(place.lowest_mm - place.edge_mm, 2)} mm into the sensor's light"),
        (
            f"light ends at {limit} = {number(place.lowest_mm, 2)} mm from the axis",
            f"prism's edge: {number(place.edge_mm, 2)} mm",
            _range_text(place),
        ),
        NO_REMEDY if verdict is Verdict.HOLDS else _prism_remedy(evaluation, place),
        _PRISM_SOURCE,
        (row.id,),
    )


@finding("prism.light", step=GUIDE_BRANCH, after="prism.shade")
def light(evaluation: Evaluation) -> Iterator[Finding]:
    """Compare the prism's outer edge with the image circle."""
    place = prism_place_of(evaluation)
    if place is None:
        return
    taps = evaluation.rig.guiding.taps or "guiding"
    if place.highest_mm is None:
        yield Finding(
            "prism.light",
            Verdict.UNPROVEN,
            taps,
            "Whether the prism lies in the image circle is not known",
            (),
            Remedy("state the telescope's image circle (image_circle_mm)"),
            _PRISM_SOURCE,
        )
        return
    row, circle = evaluation.rows[IN_CIRCLE.id_of(taps)], image_circle_at_sensor(evaluation.rig)
    verdict = row.verdict
    titles = {
        Verdict.HOLDS: "The prism lies inside the image circle",
        Verdict.TIGHT: "The prism reaches the edge of the image circle",
        Verdict.FAILS: "The prism reaches out of the image circle",
    }
    title = titles[verdict]
    if circle is not None and circle.is_estimated and place.highest_mm < place.edge_mm:
        title = "The prism reaches out of the image circle estimated behind the corrector"
    tapped = next(part for part in evaluation.rig.train if part.id == taps)
    height = tapped.prism.height_mm if tapped.prism else 0.0
    yield Finding(
        "prism.light",
        verdict,
        taps,
        title,
        (
            f"prism: {number(place.edge_mm, 2)} + {number(height, 2)} = {number(place.edge_mm + height, 2)} mm",
            f"image circle's radius there: {number(place.highest_mm + height, 2)} mm",
            _range_text(place),
        ),
        NO_REMEDY if verdict is Verdict.HOLDS else _prism_remedy(evaluation, place),
        _PRISM_SOURCE,
        (row.id,),
    )


def _range_text(place: PrismPlace) -> str:
    if place.highest_mm is None:
        return f"the edge may stand from {number(place.lowest_mm, 2)} mm outward"
    if place.highest_mm < place.lowest_mm:
        return (
            f"no place is right: clear of the sensor from {number(place.lowest_mm, 2)} mm, "
            f"in the circle up to {number(place.highest_mm, 2)} mm"
        )
    return f"the edge may stand {number(place.lowest_mm, 2)} to {number(place.highest_mm, 2)} mm from the axis"


def _prism_remedy(evaluation: Evaluation, place: PrismPlace) -> Remedy:
    tapped = evaluation.rig.find(evaluation.rig.guiding.taps or "")
    highest = place.highest_mm if place.highest_mm is not None else place.lowest_mm + 2 * PRISM_MARGIN_MM
    if highest < place.lowest_mm or tapped is None:
        return Remedy(
            "use a smaller prism, or state the corrector's own image circle (image_circle_mm) if it is wider; "
            "of two evils, less light for the guide camera is the lesser"
        )
    wanted = round(min(place.lowest_mm + PRISM_MARGIN_MM, (place.lowest_mm + highest) / 2), 1)
    if not place.lowest_mm <= wanted <= highest:
        wanted = round((place.lowest_mm + highest) / 2, 2)
    change = Change.of("Move the prism", (*tapped[0], "prism", "edge_from_axis_mm"), wanted)
    return Remedy(f"set the prism's edge {short(wanted)} mm from the axis", change)

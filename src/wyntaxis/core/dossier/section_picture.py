"""The section of the light path on paper: parts in cut-away with lengths, threads, drawtube, prism and camera angle."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from wyntaxis.core.dossier.svg import FAINT, GLASS, INK, LIGHT, PAPER, SHADE, Svg
from wyntaxis.core.evaluation import Evaluation
from wyntaxis.core.quantities.mechanics import POSITION
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import Part
from wyntaxis.core.section import section
from wyntaxis.core.train.broken_section import shortened
from wyntaxis.core.train.section import PartShape, Section
from wyntaxis.core.wording import number, short, signed

WIDTH = 1000.0
LEFT, RIGHT, TOP = 70.0, 40.0, 26.0
LEAST_SCALE, MOST_SCALE = 0.6, 6.0
MOST_BRANCH_MM = 70.0
MOST_HEIGHT, LEAST_WIDTH, MOST_ROW = 560.0, 640.0, 90.0
"""How high the drawing may be, how wide its sheet is at the least, and half of one of two rows."""
CHAIN_PX = 118.0
NUMBER_PX, NARROW_PX, THREAD_PX = 17.0, 13.0, 14.0
"""How far apart numbers, figures of thin parts and threads stand, so that they stay readable."""


@dataclass(frozen=True)
class _Sheet:
    """Where millimetres stand on the sheet: the axis at ``axis``, the telescope's rear face at ``LEFT``."""

    scale: float
    axis: float

    def x(self, mm: float) -> float:
        return LEFT + self.scale * mm

    def y(self, mm: float) -> float:
        return self.axis - self.scale * mm


def section_svg(evaluation: Evaluation) -> str:
    """Return the section of an evaluated rig as an SVG element; a line of words where there are no parts.

    Returns
    -------
    str
        Markup, to scale along the axis and across it.
    """
    whole = shortened(section(evaluation), MOST_BRANCH_MM)
    if not whole.parts:
        return "<p>The train has no parts yet.</p>"
    sheet, svg = _sheet(whole, "Section of the light path")
    _draw(svg, sheet, whole)
    _figures(svg, sheet, whole, evaluation)
    return svg.markup()


def _sheet(whole: Section, title: str) -> tuple[_Sheet, Svg]:
    length = max(whole.length_mm, whole.branch.at_mm + 40 if whole.branch is not None else 0.0, 20.0)
    below = max([shape.outer_radius_mm for shape in whole.parts] + [whole.telescope_radius_mm])
    room = (WIDTH - LEFT - RIGHT) / length
    scale = max(min(room, MOST_SCALE, MOST_HEIGHT / (whole.top_mm + below)), LEAST_SCALE)
    axis = TOP + 16 + scale * whole.top_mm
    width = max(LEFT + RIGHT + scale * length, LEAST_WIDTH)
    return _Sheet(scale, axis), Svg(width, axis + scale * below + CHAIN_PX + 40, title)


def _draw(svg: Svg, sheet: _Sheet, whole: Section) -> None:
    """Draw light, parts, branch and planes."""
    _light(svg, sheet, whole)
    radius = whole.telescope_radius_mm
    for sign in (1, -1):
        top, bottom = sorted((sheet.y(sign * radius), sheet.y(sign * (radius + 4))))
        svg.rect((sheet.x(-9), top, 9 * sheet.scale, bottom - top), fill=PAPER)
        svg.hatch(sheet.x(-9), top, 9 * sheet.scale, bottom - top, rising=True)
    svg.text((sheet.x(0) - 4, sheet.y(-radius - 6) + 10), "telescope", size=9, anchor="end", color=FAINT)
    for place, shape in enumerate(whole.parts):
        _part(svg, sheet, shape, rising=bool(place % 2))
    last = -NUMBER_PX
    for shape in whole.parts:  # where many thin parts stand together, the first and the last of them are numbered
        at = sheet.x((shape.start_mm + shape.end_mm) / 2)
        if at - last >= NUMBER_PX:
            _number(svg, sheet, shape, at)
            last = at
    end = sheet.x(whole.length_mm)
    svg.line((LEFT - 40, sheet.axis), (end + 24, sheet.axis), width=0.6, dash="14 3 2 3", color=FAINT)
    _branch(svg, sheet, whole)
    if whole.plane is not None:
        x = sheet.x(whole.plane.required_mm)
        half = 26 * sheet.scale
        svg.line((x, sheet.axis - half), (x, sheet.axis + half), width=1.2, dash="7 4")


def _light(svg: Svg, sheet: _Sheet, whole: Section) -> None:
    rays = whole.rays
    if len(rays) < 2:
        return
    upper = [(sheet.x(ray.at_mm), sheet.y(min(ray.corner_mm, 60.0))) for ray in rays]
    lower = [(sheet.x(ray.at_mm), sheet.y(-min(ray.corner_mm, 60.0))) for ray in reversed(rays)]
    svg.polygon([*upper, *lower], fill=LIGHT)
    for sign in (1, -1):
        svg.polyline([(sheet.x(ray.at_mm), sheet.y(sign * min(ray.axial_mm, 60.0))) for ray in rays], width=0.6)


def _part(svg: Svg, sheet: _Sheet, shape: PartShape, *, rising: bool) -> None:
    left, width = sheet.x(shape.start_mm), sheet.scale * shape.length_mm
    dash = "5 3" if shape.assumed else ""
    for sign in (1, -1):
        top, bottom = sorted((sheet.y(sign * shape.opening_radius_mm), sheet.y(sign * shape.outer_radius_mm)))
        svg.rect((left, top, width, bottom - top), fill=PAPER, dash=dash)
        svg.hatch(left, top, width, bottom - top, rising=rising)
    for plate in shape.plates:
        thick = max(sheet.scale * plate.thickness_mm, 2.0)
        drawn = replace(plate, thickness_mm=thick / sheet.scale)
        corners = drawn.outline(-shape.opening_radius_mm, shape.opening_radius_mm)
        svg.polygon([(sheet.x(along), sheet.y(across)) for along, across in corners], fill=GLASS, stroke=INK, line=0.7)
    if shape.part.magnification is not None:
        tall = 2 * sheet.scale * shape.opening_radius_mm
        svg.rect((left + 0.3 * width, sheet.axis - tall / 2, 0.4 * width, tall), fill=GLASS, line=0.7)
    half = shape.sensor_half_mm
    if half is not None:
        x = sheet.x(shape.end_mm)
        svg.line((x, sheet.y(half)), (x, sheet.y(-half)), width=4.0)


def _number(svg: Svg, sheet: _Sheet, shape: PartShape, x: float) -> None:
    """Write a part's number above it, in a circle."""
    top = sheet.y(shape.outer_radius_mm)
    svg.line((x, top), (x, top - 4), width=0.5)
    svg.circle((x, top - 11), 8.0)
    svg.text((x, top - 7.5), shape.number, size=11 if len(shape.number) < 2 else 9, anchor="middle")


def _branch(svg: Svg, sheet: _Sheet, whole: Section) -> None:
    branch = whole.branch
    if branch is None:
        return
    if not branch.turned:
        for place, shape in enumerate(branch.parts):
            left, width = sheet.x(branch.at_mm + shape.start_mm), sheet.scale * shape.length_mm
            top = sheet.y(branch.height_mm + shape.outer_radius_mm)
            svg.rect((left, top, width, 2 * sheet.scale * shape.outer_radius_mm), fill=SHADE if place % 2 else PAPER)
            svg.text((left + width / 2, top - 3), shape.number, size=11, anchor="middle")
        return
    x, base = sheet.x(branch.at_mm), branch.height_mm
    svg.polygon(
        [(x - 10, sheet.y(base - 6)), (x + 10, sheet.y(base - 6)), (x + 10, sheet.y(base + 4))], fill=GLASS, stroke=INK
    )
    svg.line((x, sheet.y(base)), (x, sheet.y(base + branch.length_mm) - 12), width=0.6, dash="14 3 2 3", color=FAINT)
    for place, shape in enumerate(branch.parts):
        top, bottom = sheet.y(base + shape.end_mm), sheet.y(base + shape.start_mm)
        for sign in (1, -1):
            sides = sorted(x + sign * sheet.scale * r for r in (shape.opening_radius_mm, shape.outer_radius_mm))
            svg.rect((sides[0], top, sides[1] - sides[0], bottom - top), fill=PAPER)
            svg.hatch(sides[0], top, sides[1] - sides[0], bottom - top, rising=bool(place % 2))
        right = x + sheet.scale * shape.outer_radius_mm
        length = shape.part.optical_length_mm
        svg.label((right + 5, (top + bottom) / 2 + 3.5), f"{shape.number}  {short(length, 2)}")
    if branch.parts and branch.parts[-1].part.sensor is not None:
        top = sheet.y(base + branch.length_mm)
        svg.line((x - 14, top), (x + 14, top), width=4.0)


def _figures(svg: Svg, sheet: _Sheet, whole: Section, evaluation: Evaluation) -> None:
    """Write the chain of lengths, the back focus, threads, the drawtube, the prism and the camera's angle."""
    below = max([shape.outer_radius_mm for shape in whole.parts] + [whole.telescope_radius_mm])
    chain = sheet.axis + sheet.scale * below + 42
    entries = -NARROW_PX
    for shape in whole.parts:
        left, right = sheet.x(shape.start_mm), sheet.x(shape.end_mm)
        for x in (left, right):
            svg.line((x, sheet.axis + sheet.scale * shape.outer_radius_mm), (x, chain + 4), width=0.4, color=FAINT)
        crowded = right - left < NARROW_PX and left - entries < NARROW_PX
        svg.dimension(left, right, chain, "" if crowded else short(shape.part.optical_length_mm, 2))
        entries = entries if crowded else left
    last = -THREAD_PX
    for at_mm, thread in _threads(whole, evaluation.rig):
        if sheet.x(at_mm) - last < THREAD_PX:
            continue
        last = sheet.x(at_mm)
        svg.text((sheet.x(at_mm) + 2, chain + 13), thread, size=9.5, turn=35, color=FAINT)
    if whole.datum_mm is not None and whole.plane is not None:
        low = chain + 66
        svg.dimension(sheet.x(whole.datum_mm), sheet.x(whole.length_mm), low, _back_focus(whole), bold=True)
    notes = list(_notes(evaluation))
    for line, words in enumerate(notes):
        svg.text((LEFT, chain + 90 + 14 * line), words, size=11)
    svg.height = max(svg.height, chain + 98 + 14 * len(notes))


def _threads(whole: Section, rig: Rig) -> Iterator[tuple[float, str]]:
    """Yield each joint's place along the axis and its thread, once: both sides where they differ."""
    rear = rig.telescope.rear
    for shape in whole.parts:
        entries = dict.fromkeys(joint.thread for joint in (rear, shape.part.front) if joint is not None)
        if entries:
            yield shape.start_mm, " / ".join(entries)
        rear = shape.part.rear


def _back_focus(whole: Section) -> str:
    plane, datum = whole.plane, whole.datum_mm
    assert plane is not None
    assert datum is not None
    built, required = plane.built_mm - datum, plane.required_mm - datum
    return f"{number(built, 2)} built, {number(required, 2)} required: {signed(plane.error_mm, 2)} mm"


def _notes(evaluation: Evaluation) -> list[str]:
    """Return what else the drawing tells, a line each."""
    rig, lines = evaluation.rig, []
    pickoff = next((part for part in rig.train if part.id == rig.guiding.taps), None)
    if pickoff is not None and pickoff.prism is not None:
        prism = pickoff.prism
        turned = f", {short(prism.angle_deg)}° from the frame's top" if prism.angle_deg is not None else ""
        lines.append(f"Prism: {short(prism.edge_from_axis_mm)} mm from the axis to its edge{turned}")
    scales = [f"{part.title} {short(part.optical_length_mm, 2)} mm" for _, part in rig.parts() if part.adjustable]
    if scales:
        lines.append(f"Drawtubes and helical focusers are set to: {', '.join(scales)}")
    row = evaluation.rows.get(POSITION.id_of(rig.telescope.id))
    if row is not None and row.best is not None:
        lines.append(f"The telescope's drawtube is at focus at {number(row.best.value, 1)} mm")
    angle = camera_angle(rig)
    if angle:
        lines.append(f"Camera: {angle}")
    return lines


def camera_angle(rig: Rig) -> str:
    """Return how the camera stands: on the sky by the framing, at the rotator by its position; empty where unknown."""
    entries = []
    if rig.framing is not None:
        entries.append(f"position angle {short(rig.framing.position_angle_deg, 1)}° (north through east)")
    for device in rig.devices:
        position = device.best("position_deg") if device.kind == "rotator" else None
        if position is not None:
            entries.append(f"{device.title} at {short(position, 1)}°")
    return ", ".join(entries)


def differing_svg(before: Evaluation, after: Evaluation) -> str:
    """Return the section after a change as an SVG element: what was taken out dashed above it, what is new bold.

    Parameters
    ----------
    before, after
        The rig, evaluated.

    Returns
    -------
    str
        Markup; both trains begin at the telescope's rear face.
    """
    was, now = section(before), section(after)
    if not was.parts and not now.parts:
        return "<p>Neither train has parts.</p>"
    length = max(was.length_mm, now.length_mm, 20.0)
    radius = max(shape.outer_radius_mm for shape in (*was.parts, *now.parts))
    scale = min((WIDTH - LEFT - RIGHT) / length, MOST_SCALE, MOST_ROW / radius)
    row = 2 * scale * radius + 62
    svg = Svg(max(LEFT + RIGHT + scale * length, LEAST_WIDTH), 2 * row + 20, "What changed in the light path")
    rows = (
        ("before", was, {s.part.id: s.part for s in now.parts}),
        ("after", now, {s.part.id: s.part for s in was.parts}),
    )
    for place, (name, whole, other) in enumerate(rows):
        sheet = _Sheet(scale, 34 + scale * radius + place * row)
        svg.text((LEFT - 8, sheet.axis + 4), name, size=11, anchor="end", bold=True)
        svg.line(
            (LEFT, sheet.axis), (sheet.x(whole.length_mm) + 16, sheet.axis), width=0.6, dash="14 3 2 3", color=FAINT
        )
        for shape in whole.parts:
            _compared(svg, sheet, shape, other.get(shape.part.id), is_before=name == "before")
        if whole.plane is not None:
            x = sheet.x(whole.plane.required_mm)
            svg.line((x, sheet.axis - scale * radius), (x, sheet.axis + scale * radius), width=1.2, dash="7 4")
    return svg.markup()


def _compared(svg: Svg, sheet: _Sheet, shape: PartShape, other: Part | None, *, is_before: bool) -> None:
    """Draw a part: dashed where it was taken out or is another after, bold where it is new or another."""
    changed = other is None or other != shape.part
    dash, line = ("6 4", 1.2) if changed and is_before else ("", 3.0 if changed else 1.0)
    left, width = sheet.x(shape.start_mm), sheet.scale * shape.length_mm
    for sign in (1, -1):
        top, bottom = sorted((sheet.y(sign * shape.opening_radius_mm), sheet.y(sign * shape.outer_radius_mm)))
        svg.rect((left, top, width, bottom - top), fill=SHADE if not changed else PAPER, dash=dash, line=line)
    low = sheet.axis + sheet.scale * shape.outer_radius_mm + 16
    words = short(shape.part.optical_length_mm, 2)
    svg.dimension(left, left + width, low + 12, words, bold=changed and not is_before)
    if changed:
        svg.text((left + width / 2, sheet.y(shape.outer_radius_mm) - 4), shape.part.title, size=11, anchor="middle")

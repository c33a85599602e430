"""Paints a section: half-sections above the axis, the light, the planes and the guide branch.

Symmetrical parts are drawn as the half above the axis, which is marked at both ends by two short strokes (ISO 128-3).
"""

from __future__ import annotations

import itertools
from collections.abc import Hashable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainterPath, QPolygonF

from wyntaxis.core.canvas import CHAIN_DASHES, WIDE_PX
from wyntaxis.core.ledger import Verdict
from wyntaxis.desk.glyphs import draw_verdict
from wyntaxis.desk.section.drafting import DOUBLE_CHAIN_DASHES, DraftingPainter

if TYPE_CHECKING:
    from wyntaxis.core.train.section import Branch, DeviceMark, PartShape, PlateShape, Section

STUB_MM = 16.0
CAMERA_BODY_MM = 14.0
MARK_PX = 13.0
PLUG_PX = 9.0
BALLOON_ROWS = 3


@dataclass(frozen=True)
class View:
    """How mm become pixels: one scale both ways, the axis at ``axis_y``, the telescope's rear face at ``origin_x``."""

    scale: float
    origin_x: float
    axis_y: float

    def x(self, along_mm: float) -> float:
        return self.origin_x + along_mm * self.scale

    def y(self, across_mm: float) -> float:
        return self.axis_y - across_mm * self.scale

    def box(self, start_mm: float, end_mm: float, low_mm: float, high_mm: float) -> QRectF:
        return QRectF(QPointF(self.x(start_mm), self.y(high_mm)), QPointF(self.x(end_mm), self.y(low_mm)))


def draw_section(sheet: DraftingPainter, section: Section, view: View, chosen: str | None) -> None:
    """Draw the train and its guide branch."""
    _draw_light(sheet, section, view)
    _draw_telescope(sheet, section, view)
    for index, shape in enumerate(section.parts):
        _piece_of_part(sheet, shape, view, forward=index % 2 == 0, chosen=shape.part.id == chosen)
    _draw_axis(sheet, section, view)
    if section.branch is not None:
        draw_branch(sheet, section.branch, view, chosen)
    _draw_planes(sheet, section, view)


def _draw_light(sheet: DraftingPainter, section: Section, view: View) -> None:
    if not section.rays:
        return
    first, ground = section.rays[0], sheet.palette.color("paper")
    sheet.painter.setPen(Qt.PenStyle.NoPen)
    for name, color in (("corner_mm", "light"), ("axial_mm", "light_core")):
        top = [QPointF(view.x(-STUB_MM), view.y(getattr(first, name)))]
        top += [QPointF(view.x(ray.at_mm), view.y(getattr(ray, name))) for ray in section.rays]
        end = QPointF(view.x(section.length_mm), view.y(0))
        ground = sheet.palette.over(color, 150, ground)
        sheet.painter.setBrush(ground)
        sheet.painter.drawPolygon(QPolygonF([*top, end, QPointF(view.x(-STUB_MM), view.y(0))]))


def _draw_telescope(sheet: DraftingPainter, section: Section, view: View) -> None:
    """Draw the telescope's rear as a stub that ends in a break line."""
    radius = section.telescope_radius_mm
    own = View(view.scale, 0.0, 0.0)
    room = own.box(-STUB_MM, 0, radius, radius + 4).adjusted(-10, -4, 4, 4)
    sheet.piece(("telescope", radius, view.scale), view.x(0), view.y(0), room, lambda on: _draw_stub(on, radius, own))


def _draw_stub(sheet: DraftingPainter, radius: float, view: View) -> None:
    box = view.box(-STUB_MM, 0, radius, radius + 4)
    path = QPainterPath(QPointF(box.right(), box.top()))
    path.lineTo(box.right(), box.bottom())
    path.lineTo(box.left() + 3, box.bottom())
    path.cubicTo(box.left() - 4, box.center().y() + 3, box.left() + 8, box.center().y() - 3, box.left(), box.top())
    path.closeSubpath()
    sheet.hatched(path, forward=False)


def _piece_of_part(sheet: DraftingPainter, shape: PartShape, view: View, *, forward: bool, chosen: bool) -> None:
    """Draw a part about the place where it begins on the axis, as it was drawn before if it looks the same."""
    own = View(view.scale, -shape.start_mm * view.scale, 0.0)
    reach = CAMERA_BODY_MM if shape.part.kind == "camera" else 0.0
    room = QRectF(own.box(shape.start_mm, shape.end_mm + reach, 0, shape.outer_radius_mm + 2)).adjusted(-14, -4, 14, 4)
    sheet.piece(
        ("part", _look(shape), view.scale, forward, chosen),
        view.x(shape.start_mm),
        view.y(0),
        room,
        lambda on: _draw_part(on, shape, own, forward=forward, chosen=chosen),
    )


def _look(shape: PartShape) -> Hashable:
    """Return all that a part's drawing shows of it, wherever it stands: lengths to a tenth of a micrometre."""
    part, prism = shape.part, shape.part.prism
    return (
        part.kind,
        round(shape.length_mm, 4),
        shape.opening_radius_mm,
        shape.outer_radius_mm,
        tuple((round(plate.centre_mm - shape.start_mm, 4), plate.thickness_mm) for plate in shape.plates),
        part.magnification,
        prism and (prism.from_front_mm, prism.edge_from_axis_mm, prism.height_mm),
        shape.sensor_half_mm,
        "length_mm" in shape.assumed,
        shape.break_mm and round(shape.break_mm - shape.start_mm, 4),
    )


def _outline(plate: PlateShape, view: View, low_mm: float, high_mm: float) -> QPolygonF:
    return QPolygonF([QPointF(view.x(along), view.y(across)) for along, across in plate.outline(low_mm, high_mm)])


def _draw_part(sheet: DraftingPainter, shape: PartShape, view: View, *, forward: bool, chosen: bool) -> None:
    for plate in shape.plates:
        outline = _outline(plate, view, 0.0, shape.opening_radius_mm + 1.5)
        sheet.tint(outline, "glass", 190)
        sheet.painter.setPen(sheet.pen())
        sheet.painter.drawPolygon(outline)
    if shape.part.kind in ("corrector", "extender"):
        _draw_lens(sheet, shape, view)
    metal = QPainterPath()
    metal.addRect(view.box(shape.start_mm, shape.end_mm, shape.opening_radius_mm, shape.outer_radius_mm))
    if shape.part.kind == "camera":
        metal.addRect(view.box(shape.end_mm, shape.end_mm + CAMERA_BODY_MM, 0, shape.outer_radius_mm))
        metal = metal.simplified()
    sheet.hatched(metal, forward=forward, chosen=chosen, assumed="length_mm" in shape.assumed)
    if shape.part.prism is not None:
        _draw_prism(sheet, shape, view)
    if shape.sensor_half_mm is not None:
        sensor = view.box(shape.end_mm, shape.end_mm + 1.2, 0, shape.sensor_half_mm)
        sheet.painter.fillRect(sensor.adjusted(0, 0, max(0.0, 3 - sensor.width()), 0), sheet.palette.color("ink"))


def _rect(box: QRectF) -> QPainterPath:
    path = QPainterPath()
    path.addRect(box)
    return path


def _draw_lens(sheet: DraftingPainter, shape: PartShape, view: View) -> None:
    """Draw the corrector's glass as a doublet: collecting for a reducer or flattener, spreading for an extender."""
    middle, radius = (shape.start_mm + shape.end_mm) / 2, shape.opening_radius_mm + 1
    size = min(shape.length_mm * 0.4, 11.0)
    sign = 1 if (shape.part.magnification or 1) <= 1 else -1
    # Surfaces from left to right: where each meets the axis, and how far it bends by the edge, in shares of the size.
    surfaces = [(-0.5, 0.16 * sign), (0.1, -0.16 * sign), (0.4, 0.05 * sign)]
    for (left, left_bend), (right, right_bend) in itertools.pairwise(surfaces):
        path = QPainterPath(QPointF(view.x(middle + left * size), view.y(0)))
        _arc(path, view, middle + left * size, left_bend * size, radius, up=True)
        path.lineTo(view.x(middle + (right + right_bend) * size), view.y(radius))
        _arc(path, view, middle + right * size, right_bend * size, radius, up=False)
        path.closeSubpath()
        sheet.tint(path, "glass", 200)
        sheet.painter.setPen(sheet.pen())
        sheet.painter.drawPath(path)


def _arc(path: QPainterPath, view: View, at_mm: float, bend_mm: float, radius_mm: float, *, up: bool) -> None:
    """Add a shallow surface between the axis and the edge, upright where it meets the axis."""
    end = (view.x(at_mm + bend_mm), view.y(radius_mm)) if up else (view.x(at_mm), view.y(0))
    path.quadTo(view.x(at_mm), view.y(radius_mm * 0.5), *end)


def _draw_prism(sheet: DraftingPainter, shape: PartShape, view: View) -> None:
    prism = shape.part.prism
    if prism is None:
        return
    centre = shape.start_mm + prism.from_front_mm
    low, high, half = prism.edge_from_axis_mm, prism.edge_from_axis_mm + prism.height_mm, prism.height_mm / 2
    corners = [(centre - half, low), (centre - half, high), (centre + half, high)]
    polygon = QPolygonF([QPointF(view.x(x), view.y(y)) for x, y in corners])
    sheet.tint(polygon, "glass", 235)
    sheet.painter.setPen(sheet.pen(width=WIDE_PX))
    sheet.painter.drawPolygon(polygon)


def _draw_axis(sheet: DraftingPainter, section: Section, view: View) -> None:
    left, right, y = view.x(-STUB_MM) - 12, view.x(section.length_mm + CAMERA_BODY_MM) + 14, view.y(0)
    sheet.line(left, y, right, y, sheet.pen(dashes=CHAIN_DASHES))
    for x in (left + 3, right - 3):
        for shift in (-1.6, 1.6):
            sheet.line(x + shift, y - 5, x + shift, y + 5, sheet.pen())


def _draw_planes(sheet: DraftingPainter, section: Section, view: View) -> None:
    plane = section.plane
    if plane is None:
        return
    top = max((shape.outer_radius_mm for shape in section.parts), default=20.0)
    if plane.allowed_mm is not None:
        band = view.box(plane.required_mm - plane.allowed_mm, plane.required_mm + plane.allowed_mm, -1.5, top + 2)
        sheet.tint(_rect(band), "holds", 70)
    x = view.x(plane.required_mm)
    sheet.line(x, view.y(top + 2), x, view.y(-1.5), sheet.pen("holds", WIDE_PX, DOUBLE_CHAIN_DASHES))
    x = view.x(plane.built_mm)
    sheet.line(x, view.y(top + 2), x, view.y(-1.5), sheet.pen("ink", WIDE_PX))


def draw_branch(sheet: DraftingPainter, branch: Branch, view: View, chosen: str | None) -> None:
    """Draw the guide path: turned up at its prism, or as a train of its own above the main one."""
    x, y = view.x(branch.at_mm), view.y(branch.height_mm)
    own = View(view.scale, 0.0, 0.0)
    length = own.x(branch.length_mm + CAMERA_BODY_MM * 0.64) + 4
    half = max(shape.outer_radius_mm for shape in branch.parts) * view.scale + 8
    room = QRectF(-half, -length, 2 * half, length) if branch.turned else QRectF(0, -half, length, 2 * half)
    looks = tuple((_look(shape), shape.part.id == chosen) for shape in branch.parts)
    key = ("branch", looks, round(branch.parts[0].start_mm, 4), branch.turned, view.scale)
    sheet.piece(key, x, y, room.adjusted(-6, -6, 6, 6), lambda on: _draw_tubes(on, branch, own, length, chosen))
    if branch.plane is not None:
        painter = sheet.painter
        painter.save()
        painter.translate(x, y)
        if branch.turned:
            painter.rotate(-90)
        x, half = own.x(branch.plane.required_mm), branch.parts[-1].outer_radius_mm + 3
        sheet.line(x, own.y(half), x, own.y(-half), sheet.pen("holds", WIDE_PX, DOUBLE_CHAIN_DASHES))
        painter.restore()


def _draw_tubes(sheet: DraftingPainter, branch: Branch, view: View, length_px: float, chosen: str | None) -> None:
    """Draw the parts of the guide path along their axis."""
    if branch.turned:
        sheet.painter.rotate(-90)
    sheet.painter.setPen(sheet.pen(dashes=CHAIN_DASHES))
    sheet.painter.drawLine(QPointF(0, 0), QPointF(length_px, 0))
    for index, shape in enumerate(branch.parts):
        _draw_tube(sheet, shape, view, forward=index % 2 == 1, chosen=shape.part.id == chosen)


def _draw_tube(sheet: DraftingPainter, shape: PartShape, view: View, *, forward: bool, chosen: bool) -> None:
    """Draw a part of the guide path whole, both halves of its wall cut."""
    opening, outer = shape.opening_radius_mm, shape.outer_radius_mm
    metal = QPainterPath()
    metal.addRect(view.box(shape.start_mm, shape.end_mm, opening, outer))
    metal.addRect(view.box(shape.start_mm, shape.end_mm, -outer, -opening))
    if shape.part.kind == "camera":
        metal.addRect(view.box(shape.end_mm, shape.end_mm + CAMERA_BODY_MM * 0.64, -outer, outer))
        metal = metal.simplified()
    sheet.hatched(metal, forward=forward, chosen=chosen, assumed="length_mm" in shape.assumed)
    if shape.break_mm is not None:
        _draw_break(sheet, view.x(shape.break_mm), outer * view.scale)
    for plate in shape.plates:
        sheet.tint(_outline(plate, view, -opening, opening), "glass", 190)
    half_sensor = shape.sensor_half_mm
    if half_sensor is not None:
        sensor = view.box(shape.end_mm, shape.end_mm + 1.0, -half_sensor, half_sensor)
        sheet.painter.fillRect(sensor.adjusted(0, 0, max(0.0, 3 - sensor.width()), 0), sheet.palette.color("ink"))


def _draw_break(sheet: DraftingPainter, x: float, half_px: float) -> None:
    """Draw two break lines with zigzags across a tube that is shown shorter than it is (ISO 128, line type 01.1)."""
    reach, gap, tooth = half_px + 4, 2.0, 3.0
    sheet.painter.fillRect(QRectF(x - gap, -reach, 2 * gap, 2 * reach), sheet.palette.color("paper"))
    sheet.painter.setPen(sheet.pen())
    for at in (x - gap, x + gap):
        points = [
            (at, -reach),
            (at, -tooth),
            (at - tooth, -tooth / 3),
            (at + tooth, tooth / 3),
            (at, tooth),
            (at, reach),
        ]
        sheet.painter.drawPolyline(QPolygonF([QPointF(*point) for point in points]))


def branch_box(branch: Branch, shape: PartShape, view: View) -> QRectF:
    """Return the pixels that a part of the guide path covers."""
    if branch.turned:
        low, high = branch.height_mm + shape.start_mm, branch.height_mm + shape.end_mm
        return view.box(branch.at_mm - shape.outer_radius_mm, branch.at_mm + shape.outer_radius_mm, low, high)
    start = branch.at_mm + shape.start_mm
    low, high = branch.height_mm - shape.outer_radius_mm, branch.height_mm + shape.outer_radius_mm
    return view.box(start, start + shape.length_mm, low, high)


def draw_balloons(sheet: DraftingPainter, section: Section, view: View, chosen: str | None) -> None:
    """Number the parts, each number with the shape of the worst finding at its part."""
    step = 2.2 * sheet.height_of(small=True)
    taken = [-1e9] * BALLOON_ROWS
    for shape in section.parts:
        is_chosen = shape.part.id == chosen
        x = view.x((shape.start_mm + shape.end_mm) / 2)
        half = max(sheet.width_of(shape.number, small=True) / 2 + 4, sheet.height_of(small=True) / 2 + 1) + 1
        row = next((row for row, right in enumerate(taken) if x - half > right), None)
        if row is None:
            if not is_chosen and shape.verdict is None:
                continue  # no room: zooming in brings it back
            row = min(range(BALLOON_ROWS), key=taken.__getitem__)
        taken[row] = x + half
        y = (view.y(shape.opening_radius_mm) + view.y(shape.outer_radius_mm)) / 2 - row * step
        if row:
            sheet.line(x, y, x, y + row * step, sheet.pen("faded"))
        _piece_of_balloon(sheet, shape, x, y, is_chosen, beside=False, plugs=not row)
    if section.branch is not None and not section.branch.is_stub:
        # A part of the branch that stands inside the main parts has its number above them.
        lowest = view.y(max((s.outer_radius_mm for s in section.parts), default=0.0)) - sheet.height_of(small=True)
        for shape in section.branch.parts:
            box = branch_box(section.branch, shape, view)
            x = box.right() if section.branch.turned else box.center().x()
            y = min(box.center().y(), lowest) if section.branch.turned else box.top()
            lowest = y - 2.3 * sheet.height_of(small=True)
            if y < sheet.height_of(small=True):  # no room above: beside the one before it
                y += 2.3 * sheet.height_of(small=True)
                x += 3.2 * MARK_PX + 2.3 * sheet.height_of(small=True)
            _piece_of_balloon(sheet, shape, x, y, shape.part.id == chosen, beside=True, plugs=True)


def _piece_of_balloon(
    sheet: DraftingPainter, shape: PartShape, x: float, y: float, chosen: bool, *, beside: bool, plugs: bool
) -> None:
    """Draw a part's number with its mark and its plugs: above and below it, or beside."""
    devices = shape.devices if plugs else ()
    key = ("balloon", _numbered(shape), shape.verdict, tuple(device.verdict for device in devices), chosen, beside)
    size, row = sheet.balloon_radius(_numbered(shape)) + 3, len(devices) * PLUG_PX
    if beside:
        room = QRectF(-size, -size, 2 * size + 2 * MARK_PX + row, 2 * size)
    else:
        wide = max(size, row)
        room = QRectF(-wide, -size - MARK_PX - 4, 2 * wide, 2 * size + MARK_PX + PLUG_PX + 8)

    def draw(on: DraftingPainter) -> None:
        radius = on.balloon(0, 0, _numbered(shape), chosen=chosen)
        if beside:
            _mark(on, shape, radius + MARK_PX / 2 + 2, 0)
            _plugs(on, devices, radius + 1.5 * MARK_PX + 4, -PLUG_PX / 2)
        else:
            _mark(on, shape, 0, -radius - MARK_PX / 2 - 2)
            _plugs(on, devices, 0, radius + 2)

    sheet.piece(key, round(x), round(y), room, draw)


def _numbered(shape: PartShape) -> str:
    """Return a part's number, with a question mark where something of it nobody gave."""
    return f"{shape.number}?" if shape.assumed else shape.number


def _plugs(sheet: DraftingPainter, devices: tuple[DeviceMark, ...], x: float, top: float) -> None:
    """Draw a plug for each device at a part: filled when it is connected, hollow when unproven, struck out when not."""
    width = PLUG_PX * 0.8
    left = x - (len(devices) * (width + 2) - 2) / 2
    for index, device in enumerate(devices):
        at = left + index * (width + 2)
        color = "fails" if device.verdict is Verdict.FAILS else "ink"
        body = QRectF(at, top + PLUG_PX * 0.4, width, PLUG_PX * 0.6)
        for share in (0.25, 0.75):
            sheet.line(at + share * width, top, at + share * width, body.top(), sheet.pen(color, 1.4))
        sheet.painter.fillRect(body, sheet.palette.color(color if device.verdict is Verdict.HOLDS else "paper"))
        sheet.painter.setPen(sheet.pen(color, 1.2))
        sheet.painter.setBrush(Qt.BrushStyle.NoBrush)
        sheet.painter.drawRect(body)
        if device.verdict is Verdict.FAILS:
            sheet.line(at - 2, top + PLUG_PX, at + width + 2, top, sheet.pen(color, 1.6))


def draw_joints(sheet: DraftingPainter, section: Section, view: View) -> None:
    """Mark the joints that cannot be trusted, where the two parts meet."""
    size = MARK_PX - 2
    for joint in section.joints:
        if not joint.on_branch:
            x, y = view.x(joint.at_mm), view.y(0) - 12
            sheet.line(x, view.y(section.telescope_radius_mm * 0.6), x, y, sheet.pen(str(joint.verdict), 1.4))
        elif section.branch is not None and section.branch.turned:
            x = view.x(section.branch.at_mm)
            y = view.y(section.branch.height_mm + joint.at_mm)
        elif section.branch is not None:
            x, y = view.x(section.branch.at_mm + joint.at_mm), view.y(section.branch.height_mm)
        else:
            continue
        box = QRectF(x - size / 2, y - size / 2, size, size)
        sheet.painter.fillRect(box.adjusted(-1, -1, 1, 1), sheet.palette.color("paper"))
        draw_verdict(
            sheet.painter, box, joint.verdict, sheet.palette.verdict(joint.verdict), sheet.palette.color("paper")
        )


def _mark(sheet: DraftingPainter, shape: PartShape, x: float, y: float) -> None:
    if shape.verdict is None:
        return
    box = QRectF(x - MARK_PX / 2, y - MARK_PX / 2, MARK_PX, MARK_PX)
    sheet.painter.fillRect(box.adjusted(-1, -1, 1, 1), sheet.palette.color("paper"))
    draw_verdict(sheet.painter, box, shape.verdict, sheet.palette.verdict(shape.verdict), sheet.palette.color("paper"))

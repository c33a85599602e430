"""What is where on a drawn section: the part at a point, and the place of a part that is dropped there."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from PyQt6.QtCore import QPointF

from wyntaxis.desk.section.chain import DimensionBox
from wyntaxis.desk.section.drawing import CAMERA_BODY_MM, MARK_PX, View, branch_box

if TYPE_CHECKING:
    from wyntaxis.core.train.section import PartShape, Section


def shape_at(section: Section, view: View, dimensions: Sequence[DimensionBox], point: QPointF) -> PartShape | None:
    """Return the part whose shape or dimension is at a point; None for none."""
    dimension = next((d for d in dimensions if d.box.contains(point)), None)
    if dimension is not None:
        return next((s for s in section.all_parts() if s.part.id == dimension.part_id), None)
    if section.branch is not None:
        for shape in section.branch.parts:
            if branch_box(section.branch, shape, view).contains(point):
                return shape
    for shape in section.parts:
        end = shape.end_mm + (CAMERA_BODY_MM if shape.part.kind == "camera" else 0)
        box = view.box(shape.start_mm, end, 0, shape.outer_radius_mm + MARK_PX * 2 / view.scale)
        if box.adjusted(0, 0, 0, 22).contains(point):
            return shape
    return None


def drop_place(section: Section | None, view: View, point: QPointF) -> tuple[str, int]:
    """Return the path ("train" or "guide") and the index before which a part dropped there would stand."""
    if section is None:
        return "train", 0
    if section.branch is not None and section.branch.parts:
        boxes = [branch_box(section.branch, shape, view) for shape in section.branch.parts]
        if any(box.adjusted(-6, -6, 6, 6).contains(point) for box in boxes):
            if section.branch.turned:
                return "guide", sum(point.y() < box.center().y() for box in boxes)
            return "guide", sum(point.x() > box.center().x() for box in boxes)
    return "train", sum(point.x() > view.x((s.start_mm + s.end_mm) / 2) for s in section.parts)

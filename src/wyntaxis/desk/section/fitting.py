"""How a section is fitted into a picture: its scale and place, and what of a long guide branch is broken off."""

from __future__ import annotations

import math
from dataclasses import dataclass

from wyntaxis.core.train.broken_section import shortened, stubbed
from wyntaxis.core.train.section import CAMERA_BEHIND_SENSOR_MM, Section
from wyntaxis.desk.section.chain import chain_height, leader_rows_needed, length_text
from wyntaxis.desk.section.drafting import DraftingPainter
from wyntaxis.desk.section.drawing import CAMERA_BODY_MM, STUB_MM, View

SMALLEST_SCALE_PX_MM, LARGEST_SCALE_PX_MM = 0.2, 14.0
EMPTY_SCALE_PX_MM = 3.0
STUB_BELOW_EM = 19.0
"""In a band that is lower, in sizes of the text, the guide branch is drawn as a stub, or the train would be small."""
SCALE_STEP, ORIGIN_STEP_PX = 1.02, 8.0
"""In what steps the scale, as a ratio, and the drawing's place, in px, follow the train's length."""
MARGIN_PX = 34.0


@dataclass(frozen=True)
class Room:
    """What a drawing is fitted into: its size in px, the size of its text, and what is kept free behind the train."""

    width: float
    height: float
    em: float
    behind: float = 0.0


def stepped(scale: float) -> float:
    """Return the next lower of the scales that are drawn at: small edits keep it, and leave all else where it is."""
    return float(SCALE_STEP ** math.floor(math.log(scale, SCALE_STEP)))


def fitted(sheet: DraftingPainter, section: Section | None, room: Room) -> tuple[View, Section | None]:
    """Return the view that shows the whole train, and the section as it is drawn by it."""
    if section is None or not section.parts:
        return View(EMPTY_SCALE_PX_MM, room.width / 3, room.height - chain_height(sheet, section, 0)), section
    if room.height < STUB_BELOW_EM * room.em:
        section = stubbed(section)
    rows = 0
    view, drawn = _fitted_with(sheet, section, room, rows)
    # Rows under the chain cost height, a lower scale may cost more rows: until no more are needed.
    while (needed := leader_rows_needed(sheet, drawn, view)) > rows:
        rows = needed
        view, drawn = _fitted_with(sheet, section, room, rows)
    return view, drawn


def _fitted_with(sheet: DraftingPainter, section: Section, room: Room, leader_rows: int) -> tuple[View, Section]:
    axis_y = room.height - chain_height(sheet, section, leader_rows)
    left_mm, right_mm = STUB_MM + 2, CAMERA_BODY_MM + 2
    branch, labels = section.branch, 0.0
    if branch is not None and not branch.turned:
        left_mm = max(left_mm, -branch.at_mm)
    if branch is not None and branch.turned:
        labels = max(sheet.width_of(length_text(shape), small=True) for shape in branch.parts)
    along = max(room.width - 2 * MARGIN_PX - room.behind, 60.0) / (section.length_mm + left_mm + right_mm)
    across = (axis_y - 10) / (shortened(section, 0.0).top_mm + 2)
    scale = stepped(max(min(across, along, LARGEST_SCALE_PX_MM), SMALLEST_SCALE_PX_MM))
    drawn = section
    if branch is not None and branch.turned:
        ends = CAMERA_BEHIND_SENSOR_MM if branch.parts[-1].part.kind == "camera" else 0.0
        drawn = shortened(section, (axis_y - 10) / scale - 2 - branch.height_mm - ends - 2)
    spare = room.width - room.behind - scale * (section.length_mm + left_mm + right_mm)
    origin = spare / 2 // ORIGIN_STEP_PX * ORIGIN_STEP_PX + left_mm * scale
    if branch is not None and branch.turned:
        origin = max(origin, labels + 24 + 20 * scale - branch.at_mm * scale)
    return View(scale, origin, axis_y), drawn

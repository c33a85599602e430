"""What of the sky a rig images: its fields by the numbers of its ledger."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantity_kinds import FOCAL_LENGTH

if TYPE_CHECKING:
    from wyntaxis.core.sky.footprint import Field, Footprint, Optics, Position


def optics_of(numbers: Numbers) -> Optics | None:
    """Return the fields of a rig by its best focal length; None without a sensor.

    Returns
    -------
    Optics or None
        Half sides as tangents, the guide field beside the main one.
    """
    from wyntaxis.core.sky.footprint import Field, Optics

    rig, focal = numbers.rig, numbers.value(FOCAL_LENGTH)
    sensor = rig.sensor
    if sensor is None or focal is None:
        return None
    main = Field(0, 0, sensor.width_mm / 2 / focal, sensor.height_mm / 2 / focal)
    return Optics(rig.name, main, _guide_field(numbers, focal), rig.guiding.kind == "off_axis")


def _guide_field(numbers: Numbers, focal_mm: float) -> Field | None:
    from wyntaxis.core.sky.footprint import Field, prism_angle_deg, prism_middle_mm

    guide, rig = numbers.guide_optics, numbers.rig
    if guide is None:
        return None
    # Behind a prism a measured main focal length holds for the guide field too.
    computed = numbers.quantity(FOCAL_LENGTH).computed
    share = focal_mm / computed.value if guide.shares_main and computed else 1.0
    guide_mm = guide.focal_length_mm * share
    width, height = guide.sensor.width_mm / 2 / guide_mm, guide.sensor.height_mm / 2 / guide_mm
    path = numbers.guide_path
    if not guide.shares_main:
        return Field(0, 0, width, height)
    if path is None:
        return None
    middle = prism_middle_mm(path.prism, path.main_distance_mm, rig.telescope.exit_pupil_distance_mm) / focal_mm
    angle = prism_angle_deg(path.prism)
    # The prism passes no more than its own face shows: height along the radius, width across it.
    half = min(width, path.prism.width_mm / 2 / focal_mm), min(height, path.prism.height_mm / 2 / focal_mm)
    left, up = middle * math.sin(math.radians(angle)), middle * math.cos(math.radians(angle))
    return Field(left, up, *half, turn_deg=angle)


def footprint(numbers: Numbers, center: Position, position_angle_deg: float) -> Footprint | None:
    """Return where a rig's frame lies when it points at a centre; None without a sensor.

    Parameters
    ----------
    numbers
        The rig's numbers.
    center, position_angle_deg
        Right ascension and declination (J2000), and the angle of the frame's top from north through east, in degrees.

    Returns
    -------
    Footprint or None
        Where the frame and the guide field lie.
    """
    from wyntaxis.core.sky.footprint import Footprint

    optics = optics_of(numbers)
    return Footprint(optics, center, position_angle_deg % 360) if optics else None

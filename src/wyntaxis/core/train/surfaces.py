"""The surfaces in the beam that dust can lie on, with their distance before the sensor."""

from __future__ import annotations

from dataclasses import dataclass

from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import MAGNIFYING_KINDS, Part
from wyntaxis.core.train.illumination import FILTER_KINDS, faces

FILTER_CLEARANCE_MM = 1.0
"""How far from the middle of its wheel or drawer a filter may lie, beyond half its thickness."""
FACE_CLEARANCE_MM = 1.0


@dataclass(frozen=True)
class DustSurface:
    """A surface: the part that has it, what it is, and between which distances before the sensor it lies, in mm."""

    part_id: str
    title: str
    near_mm: float
    far_mm: float
    is_filter: bool = False
    """Whether it turns with a wheel or comes out with a drawer."""

    @property
    def middle_mm(self) -> float:
        """The middle of where it may lie."""
        return (self.near_mm + self.far_mm) / 2

    def away_mm(self, distance_mm: float) -> float:
        """Return how far a distance is from it, 0 within."""
        return max(self.near_mm - distance_mm, distance_mm - self.far_mm, 0.0)


def dust_surfaces(rig: Rig) -> tuple[DustSurface, ...]:
    """Return the surfaces of a rig that dust can lie on: the camera's window, filters, windows and correctors.

    Parameters
    ----------
    rig
        The rig; its train ends at the sensor.

    Returns
    -------
    tuple of DustSurface
        The nearest to the sensor first.
    """
    found = []
    for part, (front, rear) in zip(rig.train, faces(rig), strict=True):
        found += _of_part(part, front, rear)
    return tuple(sorted(found, key=lambda surface: surface.middle_mm))


def _of_part(part: Part, front: float, rear: float) -> list[DustSurface]:
    middle, thick = (front + rear) / 2, sum(plate.thickness_mm for plate in part.glass)
    if part.kind == "camera":
        # Every camera has a window before its sensor; where in the camera it sits, few makers tell.
        return [DustSurface(part.id, f"{part.title}’s window", 0.0, front)]
    if part.kind in FILTER_KINDS:
        half = thick / 2 + FILTER_CLEARANCE_MM
        return [DustSurface(part.id, f"filter in {part.title}", middle - half, middle + half, is_filter=True)]
    if part.kind in MAGNIFYING_KINDS:
        return [
            DustSurface(part.id, f"{part.title}, rear lens", rear - FACE_CLEARANCE_MM, (front + rear) / 2),
            DustSurface(part.id, f"{part.title}, front lens", (front + rear) / 2, front + FACE_CLEARANCE_MM),
        ]
    if part.kind == "window" or part.glass:
        return [DustSurface(part.id, part.title, rear, front)]
    return []

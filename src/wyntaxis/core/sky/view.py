"""A view of the sky: where it looks, how wide, what is in it, and the frame that is moved about in it."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from wyntaxis.core.sky.footprint import Footprint, Position
from wyntaxis.core.sky.gnomonic import to_sky
from wyntaxis.core.sky.objects import SkyObject

RADIUS_LIMITS_DEG = (0.05, 40.0)
MARGIN_OF_VIEW = 1.7
"""How much wider than the frame's corner radius the view opens."""


@dataclass
class SkyView:
    """What is shown of the sky; positions in degrees."""

    center: Position = (0.0, 0.0)
    radius_deg: float = 2.0
    frame: Footprint | None = None
    others: list[Footprint] = field(default_factory=list)
    panels: list[Footprint] = field(default_factory=list)
    objects: list[SkyObject] = field(default_factory=list)
    target: SkyObject | None = None

    def look_at_frame(self) -> None:
        """Centre the view on the frame and open it a little wider than everything that belongs to it."""
        if self.frame is None:
            return
        self.center = self.frame.center
        reach = self.frame.radius_deg
        guide = self.frame.guide_place()
        if guide is not None:
            reach = max(reach, guide[0] + 0.2 * reach)
        for other in self.others:
            reach = max(reach, other.radius_deg)
        self.radius_deg = min(max(reach * MARGIN_OF_VIEW * 0.8, RADIUS_LIMITS_DEG[0]), RADIUS_LIMITS_DEG[1])

    def zoom(self, factor: float) -> None:
        self.radius_deg = min(max(self.radius_deg * factor, RADIUS_LIMITS_DEG[0]), RADIUS_LIMITS_DEG[1])

    def move_frame(self, left_deg: float, up_deg: float) -> None:
        """Move the frame by so many degrees toward its own left and top."""
        if self.frame is None:
            return
        angle = math.radians(self.frame.position_angle_deg)
        left, up = math.tan(math.radians(left_deg)), math.tan(math.radians(up_deg))
        east = left * math.cos(angle) + up * math.sin(angle)
        north = up * math.cos(angle) - left * math.sin(angle)
        ra, dec = to_sky(self.frame.center, np.array([east, north]))
        self.frame = self.frame.moved((float(ra), float(dec)), self.frame.position_angle_deg)

    def put_frame(self, center: Position) -> None:
        if self.frame is not None:
            self.frame = self.frame.moved(center, self.frame.position_angle_deg)

    def turn_frame(self, by_deg: float) -> None:
        if self.frame is not None:
            self.frame = self.frame.moved(self.frame.center, (self.frame.position_angle_deg + by_deg) % 360)

"""Which way is which in a picture: north and east on it, where to move the telescope, how far to turn the camera."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Compass = Literal["N", "E", "S", "W"]
Side = Literal["left", "right", "up", "down"]
COMPASS: tuple[Compass, ...] = ("N", "E", "S", "W")
SIDES_DEG: dict[Side, float] = {"right": 0.0, "up": 90.0, "left": 180.0, "down": 270.0}
"""Where each side of the picture lies, from right toward up."""
WORDS: dict[Compass, str] = {"N": "north", "E": "east", "S": "south", "W": "west"}
OPPOSITE: dict[Side, Side] = {"left": "right", "right": "left", "up": "down", "down": "up"}


def wrapped(angle_deg: float) -> float:
    """Return an angle as one from -180 (not included) to 180 degrees."""
    return 180 - (180 - angle_deg) % 360


@dataclass(frozen=True)
class PictureDirections:
    """How a picture lies on the sky: the position angle of its top, north through east, and whether it is mirrored.

    Angles within the picture count from right toward up. A picture that is not mirrored has east a quarter turn on from
    north, counter-clockwise, as the sky has.
    """

    angle_deg: float
    mirrored: bool

    @property
    def north_deg(self) -> float:
        """Where north is in the picture, 0 to 360."""
        return (90 + self.angle_deg if self.mirrored else 90 - self.angle_deg) % 360

    @property
    def east_deg(self) -> float:
        """Where east is in the picture, 0 to 360."""
        return (self.north_deg + (-90 if self.mirrored else 90)) % 360

    def position_angle(self, picture_deg: float) -> float:
        """Return the position angle on the sky of a direction in the picture, 0 to 360."""
        from_top = picture_deg - 90
        return (self.angle_deg + (-from_top if self.mirrored else from_top)) % 360

    def move(self, side: Side) -> Compass:
        """Return which way the telescope must move so that the target moves to a side of the picture.

        The stars move against the telescope: it goes toward what lies on the other side. Of two that are as near, the
        one in declination.
        """
        angle = self.position_angle(SIDES_DEG[OPPOSITE[side]])
        return min(COMPASS, key=lambda way: (round(abs(wrapped(angle - 90 * COMPASS.index(way))), 6), way in "EW"))

    def off_axis_deg(self, side: Side) -> float:
        """Return by how much the target then moves beside that side, in degrees: 45 at the most."""
        angle = self.position_angle(SIDES_DEG[OPPOSITE[side]])
        return abs(wrapped(angle - 90 * COMPASS.index(self.move(side))))

    def turn_to(self, planned_deg: float) -> float:
        """Return by how many degrees the position angle must change to reach a planned one, -180 to 180."""
        return wrapped(planned_deg - self.angle_deg)

    def turn_words(self, planned_deg: float) -> str:
        """Return how to turn the camera to a planned angle, seen from behind it; half a turn more frames the same."""
        turn = self.turn_to(planned_deg)
        other = wrapped(turn + 180)
        parts = [_turned(own, mirrored=self.mirrored) for own in sorted((turn, other), key=abs)]
        return f"{parts[0]}, or {parts[1]}: then the picture lies upside down, in the same frame"

    def seen_from_top(self) -> PictureDirections:
        """Return the directions of the same frame shown with its first row on top, not at the bottom."""
        return PictureDirections((self.angle_deg + 180) % 360, not self.mirrored)


def _turned(turn_deg: float, *, mirrored: bool) -> str:
    if round(abs(turn_deg), 1) == 0:
        return "leave the camera as it is"
    way = "counter-clockwise" if (turn_deg > 0) != mirrored else "clockwise"
    return f"turn the camera by {abs(turn_deg):.1f}° {way}, seen from behind it"


@dataclass(frozen=True)
class AltAzDirections:
    """Which way an alt-azimuth mount moves in the picture: where the zenith is, in degrees from right toward up."""

    picture: PictureDirections
    parallactic_deg: float

    @property
    def zenith_deg(self) -> float:
        """Where the zenith is in the picture, 0 to 360: its position angle is the parallactic angle."""
        own = self.picture
        from_north = self.parallactic_deg
        return (own.north_deg + (-from_north if own.mirrored else from_north)) % 360

    def move(self, side: Side) -> str:
        """Return which way the telescope must move, up, down, left or right as one who stands behind it sees it.

        Facing the object, azimuth grows to the right: clockwise from the zenith as the sky is seen.
        """
        toward = SIDES_DEG[OPPOSITE[side]] - self.zenith_deg
        clockwise = wrapped(toward if self.picture.mirrored else -toward)
        ways = {"up": 0.0, "right": 90.0, "down": 180.0, "left": -90.0}
        return min(ways, key=lambda way: (round(abs(wrapped(clockwise - ways[way])), 6), way in ("left", "right")))

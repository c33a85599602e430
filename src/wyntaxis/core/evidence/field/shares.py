"""How two sweeps differ, whose a tilt is once the camera was turned between them, and the screws that take it away."""

from __future__ import annotations

import datetime
import math
from dataclasses import dataclass

from wyntaxis.core.evidence.field.result import FieldResult, MeasuredSweep, Relation, ScrewAdvice, screw_advice
from wyntaxis.core.evidence.field.turn import (
    HALF_TURN_SLACK_DEG,
    MIN_TURN_DEG,
    CameraTurn,
    header_turn,
    pier_sides_differ,
    star_turn,
)
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.wording import number, plus_minus

OTHER_ALTITUDE_DEG = 15.0
OTHER_DAY = datetime.timedelta(hours=10)
OTHER_SPACING_MM = 0.05
CHI2_95 = 6.0
"""Two numbers that differ by chance alone have a squared distance below this in 95 of 100 cases."""


def relation_of(before: MeasuredSweep, after: MeasuredSweep, *, field_follows: bool = True) -> Relation:
    """Return how two sweeps differ by what their headers say, and their stars.

    Parameters
    ----------
    before, after
        Sweeps in time.
    field_follows
        Whether the mount turns with the sky: else stars and headers turn by themselves.

    Returns
    -------
    Relation
        The strongest difference that is told.
    """
    spacings = (before.sweep.spacing_mm, after.sweep.spacing_mm)
    if None not in spacings and abs(spacings[1] - spacings[0]) >= OTHER_SPACING_MM:  # type: ignore[operator]
        return "spacing"
    if field_follows and _is_turned(before, after):
        return "turned"
    if pier_sides_differ(before, after) or (field_follows and is_flip_or_turn(before, after)):
        return "flip"
    one, other = before.sweep.header, after.sweep.header
    if one is not None and other is not None:
        heights = (one.altitude_deg, other.altitude_deg)
        if None not in heights and abs(heights[1] - heights[0]) > OTHER_ALTITUDE_DEG:  # type: ignore[operator]
            return "altitude"
    times = (before.sweep.time, after.sweep.time)
    if times[0] is not None and times[1] is not None and times[1] - times[0] > OTHER_DAY:
        return "day"
    return "repeat"


def is_flip_or_turn(before: MeasuredSweep, after: MeasuredSweep) -> bool:
    """Return whether the stars lie turned by half a turn, and nothing shows whether by a flip or with the camera."""
    if header_turn(before, after) is not None or pier_sides_differ(before, after) is not None:
        return False
    seen = star_turn(before, after)
    return seen is not None and abs(seen) >= 180 - HALF_TURN_SLACK_DEG


def _is_turned(before: MeasuredSweep, after: MeasuredSweep) -> bool:
    """Return whether the camera was turned: as the headers say, else as the stars show.

    Stars that lie turned by half a turn may have done so by a flip of the mount, where no header tells the side.
    """
    told = header_turn(before, after)
    if told is not None:
        return told >= MIN_TURN_DEG
    seen = star_turn(before, after)
    if seen is None or abs(seen) < MIN_TURN_DEG:
        return False
    return abs(seen) < 180 - HALF_TURN_SLACK_DEG or pier_sides_differ(before, after) is not None


def turn_of(before: MeasuredSweep, after: MeasuredSweep, *, field_follows: bool = True) -> CameraTurn:
    """Return by how much the camera was turned between two sweeps of which it is known that it was.

    Parameters
    ----------
    before, after
        Sweeps in time.
    field_follows
        Whether the mount turns with the sky, so that the stars show the turn.

    Returns
    -------
    CameraTurn
        Half a turn, said only, where neither stars nor headers show another.
    """
    told = header_turn(before, after)
    seen = star_turn(before, after) if field_follows else None
    if seen is not None and abs(seen) >= MIN_TURN_DEG:
        return CameraTurn(seen, "stars")
    if told is not None and told >= MIN_TURN_DEG:
        return CameraTurn(180.0 if told > 180 - HALF_TURN_SLACK_DEG else told, "headers")
    return CameraTurn(180.0, "said")


@dataclass(frozen=True)
class Plane:
    """A plane's rise toward +x and +y at the corner's distance, and its standard uncertainties; in µm."""

    x: float
    y: float
    u_x: float
    u_y: float

    def mapped(self, by: tuple[tuple[float, float], tuple[float, float]]) -> Plane:
        """Return it through a matrix."""
        (a, b), (c, d) = by
        return Plane(
            a * self.x + b * self.y,
            c * self.x + d * self.y,
            math.hypot(a * self.u_x, b * self.u_y),
            math.hypot(c * self.u_x, d * self.u_y),
        )

    def plus(self, other: Plane, sign: float = 1.0) -> Plane:
        """Return the sum, or the difference, with a plane of another measurement."""
        return Plane(
            self.x + sign * other.x,
            self.y + sign * other.y,
            math.hypot(self.u_x, other.u_x),
            math.hypot(self.u_y, other.u_y),
        )

    @property
    def length(self) -> Estimate:
        """Its length, what noise adds taken out."""
        noise = self.u_x**2 + self.u_y**2
        return Estimate(math.sqrt(max(self.x**2 + self.y**2 - noise, 0.0)), math.sqrt(noise / 2))

    @property
    def is_certain(self) -> bool:
        """Whether it is no chance."""
        return (self.x / max(self.u_x, 1e-9)) ** 2 + (self.y / max(self.u_y, 1e-9)) ** 2 > CHI2_95

    @property
    def azimuth_deg(self) -> float | None:
        """Where it rises, from +x toward +y; None where it may be chance."""
        return math.degrees(math.atan2(self.y, self.x)) % 360 if self.is_certain else None

    @property
    def text(self) -> str:
        """Its length and direction."""
        entries, azimuth = self.length, self.azimuth_deg
        turn = "" if azimuth is None else f" toward {number(azimuth, 0)}°"
        return f"{plus_minus(entries.value, entries.standard, 1)} µm{turn}"


def plane_um(entry: MeasuredSweep) -> Plane | None:
    """Return a sweep's plane in µm at the corner's distance; None where it has none, or the step is not known."""
    step = entry.step_um
    if step is None or entry.surface.tilt is None:
        return None
    (x, y), (u_x, u_y) = entry.surface.plane, entry.surface.plane_standard
    return Plane(x * step.value, y * step.value, u_x * abs(step.value), u_y * abs(step.value))


@dataclass(frozen=True)
class TiltShares:
    """Whose a tilt is after the camera was turned: the camera's share of the plane, the telescope's, and the turn.

    Planes are in µm at the corner's distance, in the image of the later sweep.
    """

    camera: Plane
    telescope: Plane
    turn_deg: float


def tilt_shares(result: FieldResult) -> tuple[TiltShares, ...]:
    """Return whose the tilt is by the last two sweeps; two answers where nothing shows which way the camera turned.

    Parameters
    ----------
    result
        Sweeps, measured.

    Returns
    -------
    tuple[TiltShares, ...]
        None where the camera was not turned between the last two sweeps, or one of them has no plane.
    """
    pair, turn = result.last_two, turn_in(result)
    if pair is None or turn is None:
        return ()
    one, other = plane_um(pair[0]), plane_um(pair[1])
    if one is None or other is None:
        return ()
    return tuple(_shares(one, other, angle) for angle in turn.angles)


def turn_in(result: FieldResult) -> CameraTurn | None:
    """Return by how much the camera was turned between the last two sweeps; None where it was not."""
    pair = result.last_two
    if pair is None or relation_in(result) != "turned":
        return None
    return turn_of(*pair, field_follows=result.optics.field_follows)


def relation_in(result: FieldResult) -> Relation | None:
    """Return how the last two sweeps differ, as the imager said or else as they show; None with fewer than two."""
    pair = result.last_two
    if pair is None:
        return None
    return result.relation or relation_of(*pair, field_follows=result.optics.field_follows)


def _shares(one: Plane, other: Plane, turn_deg: float) -> TiltShares:
    """Return the planes c and t with one = c + t and other = c + R t, R the turn in the image.

    ``(I - R) t = one - other``; u grows as 1/(2 sin(θ/2)).
    """
    # Of (I − R)⁻¹ for a turn by θ: [[1, −cot(θ/2)], [cot(θ/2), 1]] / 2.
    cot = 0.5 / math.tan(math.radians(turn_deg) / 2)
    inverse, rest = ((0.5, -cot), (cot, 0.5)), ((0.5, cot), (-cot, 0.5))
    camera = one.mapped(rest).plus(other.mapped(inverse))
    # What is left of the later sweep is the telescope's, as it lies in its image.
    return TiltShares(camera, other.mapped(rest).plus(one.mapped(rest), -1.0), turn_deg)


def camera_plane(result: FieldResult) -> Plane | None:
    """Return the camera's share of the tilt, where the last two sweeps show one alone that is no chance."""
    answers = tilt_shares(result)
    return answers[0].camera if len(answers) == 1 and answers[0].camera.is_certain else None


def screws_in(result: FieldResult) -> ScrewAdvice | None:
    """Return what to turn so that the tilt goes: the camera's share, where a turned camera shows it, else all of it.

    Parameters
    ----------
    result
        Sweeps, measured.

    Returns
    -------
    ScrewAdvice or None
        None without a plate's screws, or where no tilt that is the plate's to take away is certain.
    """
    screws, pair = result.optics.screws, result.last_two
    if not tilt_shares(result) or pair is None:
        return screws_for_all(result)
    plane, half = camera_plane(result), pair[1].half_diagonal_um
    if plane is None or half is None or screws is None:
        return None
    return screw_advice((1000 * plane.x / half, 1000 * plane.y / half), half, screws)


def screws_for_all(result: FieldResult) -> ScrewAdvice | None:
    """Return what takes all of the last sweep's tilt away, whoever's it is, while the camera stays at that angle."""
    last = result.last
    if last is None or last.surface.azimuth_deg is None or last.slope_um_mm is None or result.optics.screws is None:
        return None
    return screw_advice(last.slope_um_mm, last.half_diagonal_um or 0.0, result.optics.screws)

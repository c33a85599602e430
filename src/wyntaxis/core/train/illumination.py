"""What every opening of the train leaves of the light for the sensor's corner, and where a prism may stand.

With the exit pupil at distance P before the image (infinite where unknown, the cautious side), the beam of a field
point at height h is, at distance x before the sensor, a disc of diameter x/N centred at h (1 - x/P).
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import MAGNIFYING_KINDS, Part
from wyntaxis.core.train.joints import main_gaps
from wyntaxis.core.train.lightpath import magnifications

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

FILTER_KINDS = frozenset({"filter_wheel", "filter_drawer"})
FALLOFF_STEPS = 48
PUPIL_RINGS, PUPIL_SPOKES = 24, 48


@dataclass(frozen=True)
class Beam:
    """The light behind the last corrector: focal ratio, and the exit pupil's distance before the image in mm."""

    ratio: float
    pupil_mm: float | None = None

    def centre(self, height_mm: float, distance_mm: float) -> float:
        """Return how far from the axis the beam of a field point is, ``distance_mm`` before the sensor."""
        return height_mm * (1 - distance_mm / self.pupil_mm) if self.pupil_mm else height_mm

    def radius(self, distance_mm: float) -> float:
        """Return the beam's radius there: ``x / 2N``."""
        return distance_mm / (2 * self.ratio)

    def opening_needed(self, diagonal_mm: float, distance_mm: float) -> float:
        """Return the diameter that passes all the light for the sensor's corner: ``d |1 - x/P| + x/N``.

        Behind an exit pupil nearer than the opening the beam has crossed the axis: only its distance from it counts.
        """
        return 2 * (abs(self.centre(diagonal_mm / 2, distance_mm)) + self.radius(distance_mm))

    def fully_lit_circle(self, opening_mm: float, distance_mm: float) -> float:
        """Return the diameter of the field that an opening lights fully, in mm; 0 where it stops the axis down."""
        share = abs(1 - distance_mm / self.pupil_mm) if self.pupil_mm else 1.0
        return max(0.0, (opening_mm - distance_mm / self.ratio) / share) if share > 0 else math.inf

    def fraction(self, height_mm: float, opening_mm: float, distance_mm: float) -> float:
        """Return the share of a field point's beam that an opening passes, 0 to 1."""
        radius = self.radius(distance_mm)
        if radius == 0:
            return 1.0 if abs(height_mm) <= opening_mm / 2 else 0.0
        overlap = circles_overlap(radius, opening_mm / 2, abs(self.centre(height_mm, distance_mm)))
        return min(1.0, overlap / (math.pi * radius**2))


def circles_overlap(one: float, other: float, apart: float) -> float:
    """Return the area that two circles of these radii share, their centres so far apart (plane geometry)."""
    if apart >= one + other:
        return 0.0
    small, large = sorted((one, other))
    if apart <= large - small:
        return math.pi * small**2

    def wedge(near: float, far: float) -> float:
        cosine = (apart**2 + near**2 - far**2) / (2 * apart * near)
        return near**2 * math.acos(min(1.0, max(-1.0, cosine)))

    kite = (-apart + one + other) * (apart + one - other) * (apart - one + other) * (apart + one + other)
    return wedge(one, other) + wedge(other, one) - math.sqrt(max(0.0, kite)) / 2


@dataclass(frozen=True)
class Opening:
    """A clear aperture in the beam behind the last corrector: diameter and distance before the sensor, in mm."""

    part: Part
    diameter_mm: float
    distance_mm: float


def faces(rig: Rig) -> list[tuple[float, float]]:
    """Return for each part of the train how far its front and its rear face lie before the sensor, in mm."""
    gaps, found, at = main_gaps(rig), [], 0.0
    for part, gap in zip(reversed(rig.train), reversed(gaps), strict=True):
        found.append((at + part.optical_length_mm, at))
        at += part.optical_length_mm + gap
    return found[::-1]


def openings(rig: Rig) -> list[Opening]:
    """Return the openings from the last corrector's rear to the camera.

    Each counts at the face where the beam is wider, its front; a filter wheel or drawer in its middle, where the
    filter's cell is; a corrector at its rear, where its own beam leaves it.
    """
    last = max((i for i, part in enumerate(rig.train) if part.kind in MAGNIFYING_KINDS), default=-1)
    found = []
    for index, (part, (front, rear)) in enumerate(zip(rig.train, faces(rig), strict=True)):
        if part.clear_aperture_mm is not None and index >= max(last, 0):
            distance = rear if index == last else (front + rear) / 2 if part.kind in FILTER_KINDS else front
            found.append(Opening(part, part.clear_aperture_mm, distance))
    return found


@dataclass(frozen=True)
class ImageCircle:
    """The image circle at the sensor: that of the last part which states one, scaled by what magnifies behind it.

    ``is_estimated`` tells that it is the telescope's, computed through correctors that state none of their own.
    """

    of: str
    stated_mm: float
    factors: tuple[float, ...]
    is_estimated: bool

    @property
    def diameter_mm(self) -> float:
        """Its diameter at the sensor, in mm."""
        return self.stated_mm * math.prod(self.factors)


def image_circle_at_sensor(rig: Rig) -> ImageCircle | None:
    """Return the image circle at the sensor; None where neither telescope nor a corrector states one."""
    circle, title, start = rig.telescope.image_circle_mm, rig.telescope.title, 0
    for index, part in enumerate(rig.train):
        if part.image_circle_mm is not None:
            circle, title, start = part.image_circle_mm, part.title, index + 1
    if circle is None:
        return None
    factors = tuple(factor for factor in magnifications(rig.train[start:]) if factor != 1)
    return ImageCircle(title, circle, factors, is_estimated=start == 0 and bool(factors))


@dataclass(frozen=True)
class PrismPlace:
    """Where a prism's edge may stand, in mm from the axis: from the sensor's light up to the image circle's end."""

    edge_mm: float
    lowest_mm: float
    highest_mm: float | None
    distance_mm: float
    half_side_mm: float


def prism_place(rig: Rig, beam: Beam, circle_mm: float | None) -> PrismPlace | None:
    """Return where the tapped prism stands and may stand, or None without a prism or a sensor.

    It shades the sensor below ``h (1 - x/P) + x/2N``; it sees light while edge + height lies inside the circle.
    """
    index = next((i for i, part in enumerate(rig.train) if part.id == rig.guiding.taps), None)
    if index is None or rig.sensor is None:
        return None
    prism = rig.train[index].prism
    if prism is None:
        return None
    x = faces(rig)[index][0] - prism.from_front_mm
    sides = sorted((rig.sensor.width_mm, rig.sensor.height_mm))
    half = sides[0 if prism.beside == "long_side" else 1] / 2
    highest = None if circle_mm is None else abs(beam.centre(circle_mm / 2, x)) - prism.height_mm
    return PrismPlace(prism.edge_from_axis_mm, abs(beam.centre(half, x)) + beam.radius(x), highest, x, half)


@dataclass(frozen=True)
class Falloff:
    """Relative light against the distance from the sensor's middle: heights in mm, shares 0 to 1."""

    heights_mm: NDArray[np.float64]
    shares: NDArray[np.float64]


def falloff(beam: Beam, found: list[Opening], diagonal_mm: float) -> Falloff:
    """Return how the light falls off toward the sensor's corner, all openings together.

    Each field point's beam is sampled by rays of equal area over the pupil; a ray counts when it passes every opening.
    """
    import numpy as np

    heights = np.linspace(0, diagonal_mm / 2, FALLOFF_STEPS)
    ring = np.sqrt((np.arange(PUPIL_RINGS) + 0.5) / PUPIL_RINGS)
    angle = 2 * np.pi * np.arange(PUPIL_SPOKES) / PUPIL_SPOKES
    across, along = (np.outer(ring, np.cos(angle)).ravel(), np.outer(ring, np.sin(angle)).ravel())
    passes = np.ones((heights.size, across.size), dtype=bool)
    for opening in found:
        x, radius = opening.distance_mm, beam.radius(opening.distance_mm)
        centre = np.array([beam.centre(float(height), x) for height in heights])
        far = np.hypot(centre[:, None] + radius * across, radius * along)
        passes &= far <= opening.diameter_mm / 2
    return Falloff(heights, passes.mean(axis=1))


def falloff_map(profile: Falloff, width_mm: float, height_mm: float, columns: int = 90) -> NDArray[np.float64]:
    """Return the share of light over the sensor, shape (rows, columns), rows in proportion to the sensor."""
    import numpy as np

    rows = max(2, round(columns * height_mm / width_mm))
    x, y = np.linspace(-width_mm / 2, width_mm / 2, columns), np.linspace(-height_mm / 2, height_mm / 2, rows)
    return np.interp(np.hypot(x[None, :], y[:, None]), profile.heights_mm, profile.shares)

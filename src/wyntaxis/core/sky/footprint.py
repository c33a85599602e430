"""What of the sky falls on the sensor: its corners, the guide camera's field, objects covered, panels of a mosaic."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.rig.parts import Prism
from wyntaxis.core.sky.gnomonic import clip_to_convex, signed_area, to_plane, to_sky, turned
from wyntaxis.core.sky.objects import SkyObject, objects_near
from wyntaxis.core.wording import number

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats

Position = tuple[float, float]
CORNERS = ("top left", "top right", "bottom right", "bottom left")
DEFAULT_OVERLAP = 0.15
"""Neighbouring panels share this much of a side where nothing is stated: enough to register and blend them."""
MAX_PANELS = 400
UNKNOWN_ANGLE_STEP_DEG = 15.0


@dataclass(frozen=True)
class Field:
    """A rectangle on the focal plane: middle (left, up), half width and half height, all divided by the focal
    length.
    """

    left: float
    up: float
    half_width: float
    half_height: float
    turn_deg: float = 0.0

    def corners(self) -> Any:
        """Return the corners (4, 2), top left first, clockwise as the frame shows them."""
        w, h = self.half_width, self.half_height
        box = turned(np.array([(w, h), (-w, h), (-w, -h), (w, -h)]), self.turn_deg)
        return box + np.array([self.left, self.up])


@dataclass(frozen=True)
class Optics:
    """What a rig images: the main field, and the guide camera's where there is one, as tangents of angles."""

    name: str
    main: Field
    guide: Field | None
    guide_is_prism: bool


def prism_angle_deg(prism: Prism) -> float:
    """Return where the prism stands about the axis, from the frame's top toward its left, in degrees."""
    if prism.angle_deg is not None:
        return prism.angle_deg
    return 0.0 if prism.beside == "long_side" else 90.0


def prism_middle_mm(prism: Prism, before_sensor_mm: float, exit_pupil_mm: float | None) -> float:
    """Return how far from the axis the prism's middle looks, on the focal plane: ``r / (1 − x/P)``, P the exit
    pupil.
    """
    middle = prism.edge_from_axis_mm + prism.height_mm / 2
    share = 1 - before_sensor_mm / exit_pupil_mm if exit_pupil_mm else 1.0
    return middle / share if share > 0 else middle


@dataclass(frozen=True)
class Footprint:
    """Where a rig's fields lie on the sky; positions in degrees (ICRS, J2000)."""

    optics: Optics
    center: Position
    position_angle_deg: float

    def corners(self) -> list[Position]:
        """Return the sensor's corners: top left, top right, bottom right, bottom left of the frame, unmirrored."""
        return self._on_sky(self.optics.main)

    def guide_corners(self) -> list[Position]:
        """Return the corners of the guide field, none without one."""
        return self._on_sky(self.optics.guide) if self.optics.guide else []

    def guide_place(self) -> tuple[float, float] | None:
        """Return distance and position angle of the guide field's middle from the centre, in degrees."""
        guide = self.optics.guide
        if guide is None:
            return None
        east, north = (float(v) for v in turned((guide.left, guide.up), self.position_angle_deg))
        return math.degrees(math.atan(math.hypot(east, north))), math.degrees(math.atan2(east, north)) % 360

    def plane(self, field: Field) -> Floats:
        """Return a field's corners on the plane at the centre, (4, 2): east and north."""
        return turned(field.corners(), self.position_angle_deg)

    def _on_sky(self, field: Field) -> list[Position]:
        return [(float(ra), float(dec)) for ra, dec in to_sky(self.center, self.plane(field))]

    @property
    def size_deg(self) -> tuple[float, float]:
        """The angles that width and height span."""
        return tuple(
            2 * math.degrees(math.atan(half)) for half in (self.optics.main.half_width, self.optics.main.half_height)
        )  # type: ignore[return-value]

    @property
    def radius_deg(self) -> float:
        """From the centre to the corner."""
        return math.degrees(math.atan(math.hypot(self.optics.main.half_width, self.optics.main.half_height)))

    def covered_share(self, target: SkyObject) -> float | None:
        """Return the share of an object's ellipse on the sensor; of an object without a size, 1 or 0 for its middle."""
        outline = target.outline()
        if len(outline) == 0:
            at = to_plane(self.center, target.ra_deg, target.dec_deg)
            if not np.isfinite(at).all():
                return 0.0
            back = turned(at, -self.position_angle_deg)
            inside = abs(back[0]) <= self.optics.main.half_width and abs(back[1]) <= self.optics.main.half_height
            return 1.0 if inside else 0.0
        on_sky = to_sky((target.ra_deg, target.dec_deg), outline)
        plane = to_plane(self.center, on_sky[:, 0], on_sky[:, 1])
        if not np.isfinite(plane).all():
            return 0.0
        whole = abs(signed_area(plane))
        return min(1.0, abs(signed_area(clip_to_convex(plane, self.plane(self.optics.main)))) / whole) if whole else 0.0

    def share_range(self, target: SkyObject) -> tuple[float, float] | None:
        """Return the least and the greatest share over all angles, for an object whose angle nobody catalogued."""
        if target.angle_known:
            return None
        angles = np.arange(0.0, 180.0, UNKNOWN_ANGLE_STEP_DEG)
        shares = [self.covered_share(replace(target, angle_deg=float(angle))) or 0.0 for angle in angles]
        return min(shares), max(shares)

    def objects(self) -> list[tuple[SkyObject, float]]:
        """Return the objects that fall on the sensor with the share of each, the largest first."""
        found = [(target, self.covered_share(target)) for target in objects_near(self.center, self.radius_deg)]
        return [(target, share) for target, share in found if share]

    def panels(self, target: SkyObject, overlap: float = DEFAULT_OVERLAP) -> Panels:
        """Return the mosaic that covers an object at this position angle."""
        return mosaic(self, target, overlap)

    def moved(self, center: Position, position_angle_deg: float) -> Footprint:
        return Footprint(self.optics, center, position_angle_deg)

    def as_json(self, *, with_objects: bool = True) -> dict[str, object]:
        """Return the footprint as ``wyntaxis footprint --json`` prints it."""
        width, height = self.size_deg
        guide = self.guide_place()
        return {
            "name": self.optics.name,
            "frame": "ICRS",
            "center": _place(self.center),
            "position_angle_deg": self.position_angle_deg,
            "width_deg": width,
            "height_deg": height,
            "corners": [_place(corner) for corner in self.corners()],
            "guide": None
            if guide is None
            else {
                "kind": "prism" if self.optics.guide_is_prism else "telescope",
                "distance_deg": guide[0],
                "position_angle_deg": guide[1],
                "corners": [_place(corner) for corner in self.guide_corners()],
            },
            "stc_s": stc_s([self.corners()]),
            "objects": [_object(self, target, share) for target, share in self.objects()] if with_objects else [],
        }


def _place(position: Position) -> dict[str, float]:
    return {"ra_deg": position[0], "dec_deg": position[1]}


def angle_caveat(frame: Footprint, target: SkyObject) -> str:
    """Return what to say of an object that is drawn at an angle nobody catalogued, empty where there is nothing."""
    span = frame.share_range(target)
    if span is None:
        return ""
    low, high = (number(100 * share, 0) for share in span)
    return f"its angle is not catalogued, it is drawn pointing north: {low} to {high} % over all angles"


def _object(frame: Footprint, target: SkyObject, share: float) -> dict[str, object]:
    return {
        "name": target.label,
        "kind": target.kind,
        **_place((target.ra_deg, target.dec_deg)),
        "major_arcmin": target.major_arcmin,
        "minor_arcmin": target.minor_arcmin,
        "position_angle_deg": target.angle_deg,
        "covered_share": share,
        "caveat": angle_caveat(frame, target) or None,
    }


@dataclass(frozen=True)
class Panels:
    """A mosaic: columns across, rows down, the overlap aimed at, and where every panel's centre lies."""

    columns: int
    rows: int
    overlap: float
    panels: tuple[Footprint, ...]

    @property
    def count(self) -> int:
        return self.columns * self.rows


def mosaic(frame: Footprint, target: SkyObject, overlap: float) -> Panels:
    """Return the fewest panels of a frame's size and angle that hold an object's ellipse with the overlap asked for.

    Centres lie on the plane that touches the sky at the object, rows of panels along the frame's sides; panels more
    than one are spread evenly about the object. Each keeps the position angle that its own meridian needs to stay
    parallel.
    """
    center = (target.ra_deg, target.dec_deg)
    outline = target.outline()
    main = frame.optics.main
    extent = np.zeros(2) if len(outline) == 0 else np.abs(turned(outline, -frame.position_angle_deg)).max(axis=0)
    counts = []
    for half, side in zip(extent, (main.half_width, main.half_height), strict=True):
        wanted, full, step = 2 * float(half), 2 * side, 2 * side * (1 - overlap)
        counts.append(1 if wanted <= full else math.ceil((wanted - full) / step - 1e-9) + 1)
    columns, rows = counts
    if columns * rows > MAX_PANELS:
        raise ValueError(
            f"{target.label} would take {columns} × {rows} panels; use a shorter focal length or less overlap"
        )
    found = []
    for row in range(rows):
        for column in range(columns):
            left = ((columns - 1) / 2 - column) * 2 * main.half_width * (1 - overlap)
            up = ((rows - 1) / 2 - row) * 2 * main.half_height * (1 - overlap)
            place = turned((left, up), frame.position_angle_deg)
            angle = math.radians(frame.position_angle_deg)
            above = place + 1e-4 * np.array([math.sin(angle), math.cos(angle)])
            (ra, dec), (ra2, dec2) = to_sky(center, np.array([place, above]))
            found.append(frame.moved((float(ra), float(dec)), _bearing((ra, dec), (ra2, dec2))))
    return Panels(columns, rows, overlap, tuple(found))


def _bearing(start: Sequence[float], end: Sequence[float]) -> float:
    """Return the position angle from one position toward another, in degrees from 0 to 360."""
    east, north = to_plane((float(start[0]), float(start[1])), float(end[0]), float(end[1]))
    return float(np.degrees(np.arctan2(east, north))) % 360


def stc_s(polygons: Iterable[Sequence[Position]]) -> str:
    """Return polygons as IVOA STC-S text (Note 1.33), ICRS degrees, edges along great circles."""
    texts = [
        "Polygon ICRS " + " ".join(f"{ra:.6f} {dec:.6f}" for ra, dec in reversed(list(polygon))) for polygon in polygons
    ]
    if len(texts) == 1:
        return texts[0]
    inner = " ".join(text.replace("Polygon ICRS", "Polygon") for text in texts)
    return f"Union ICRS ( {inner} )"


def corners_csv(footprints: Iterable[Footprint]) -> str:
    """Return centres and corners of frames as CSV, one line each point, degrees."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(["rig", "point", "ra_deg", "dec_deg", "position_angle_deg"])
    for frame in footprints:
        angle = f"{frame.position_angle_deg:.3f}"
        points = [("centre", frame.center), *zip(CORNERS, frame.corners(), strict=True)]
        guide = frame.guide_corners()
        points += [(f"guide {name}", corner) for name, corner in zip(CORNERS[: len(guide)], guide, strict=True)]
        writer.writerows([frame.optics.name, name, f"{ra:.6f}", f"{dec:.6f}", angle] for name, (ra, dec) in points)
    return text.getvalue()

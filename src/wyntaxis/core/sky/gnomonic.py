"""The gnomonic projection by unit vectors: exact anywhere on the sky, the poles included.

On the plane that touches the sky at the centre, east (xi) and north (eta) are in radians; a camera's focal plane is
this plane times its focal length. Source: Calabretta and Greisen 2002, TAN.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats


def unit_vectors(ra_deg: Any, dec_deg: Any) -> Floats:
    """Return unit vectors (..., 3) toward positions in degrees."""
    ra, dec = np.radians(ra_deg), np.radians(dec_deg)
    return np.stack(np.broadcast_arrays(np.cos(dec) * np.cos(ra), np.cos(dec) * np.sin(ra), np.sin(dec)), axis=-1)


def _axes(center: tuple[float, float]) -> Floats:
    """Return the unit vectors east, north and toward the centre, (3, 3); at a pole, east is that of the meridian
    given.
    """
    ra, dec = np.radians(center[0]), np.radians(center[1])
    east = (-np.sin(ra), np.cos(ra), 0.0)
    north = (-np.sin(dec) * np.cos(ra), -np.sin(dec) * np.sin(ra), np.cos(dec))
    return np.array([east, north, unit_vectors(*center)])


def to_plane(center: tuple[float, float], ra_deg: Floats | float, dec_deg: Floats | float) -> Floats:
    """Return (xi, eta) in radians, shape (..., 2); NaN for what lies 90° or more from the centre."""
    along = unit_vectors(ra_deg, dec_deg) @ _axes(center).T
    with np.errstate(divide="ignore", invalid="ignore"):
        plane = along[..., :2] / along[..., 2:]
    return np.where(along[..., 2:] > 1e-9, plane, np.nan)


def to_sky(center: tuple[float, float], plane: Any) -> Floats:
    """Return (ra, dec) in degrees, shape (..., 2), of points (xi, eta) in radians; ra from 0 to 360."""
    points = np.asarray(plane, dtype=float)
    axes = _axes(center)
    rays = points[..., :1] * axes[0] + points[..., 1:] * axes[1] + axes[2]
    ra = np.degrees(np.arctan2(rays[..., 1], rays[..., 0])) % 360
    dec = np.degrees(np.arctan2(rays[..., 2], np.hypot(rays[..., 0], rays[..., 1])))
    return np.stack([ra, dec], axis=-1)


def turned(points: Any, position_angle_deg: float) -> Floats:
    """Return frame points (left, up) as (east, north): the frame's top lies at the position angle, its left east of
    it.
    """
    angle = np.radians(position_angle_deg)
    left, up = np.asarray(points, dtype=float)[..., 0], np.asarray(points, dtype=float)[..., 1]
    return np.stack([left * np.cos(angle) + up * np.sin(angle), up * np.cos(angle) - left * np.sin(angle)], axis=-1)


def clip_to_convex(polygon: Any, convex: Any) -> Floats:
    """Return the part of a polygon (n, 2) inside a convex one (m, 2): Sutherland and Hodgman 1974."""
    found = [tuple(point) for point in np.asarray(polygon, dtype=float)]
    window = np.asarray(convex, dtype=float)
    if signed_area(window) < 0:
        window = window[::-1]
    for start, end in zip(window, np.roll(window, -1, axis=0), strict=True):
        edge = end - start

        def side(point: tuple[float, float], start: Floats = start, edge: Floats = edge) -> float:
            return float(edge[0] * (point[1] - start[1]) - edge[1] * (point[0] - start[0]))

        kept = []
        for entry, other in zip(found, found[1:] + found[:1], strict=True):
            a, b = side(entry), side(other)
            if a >= 0:
                kept.append(entry)
            if (a > 0 > b) or (a < 0 < b):
                t = a / (a - b)
                kept.append((entry[0] + t * (other[0] - entry[0]), entry[1] + t * (other[1] - entry[1])))
        found = kept
        if not found:
            return np.empty((0, 2))
    return np.array(found)


def signed_area(polygon: Floats) -> float:
    """Return a polygon's area, above 0 when its points run counterclockwise; 0 for fewer than three points."""
    points = np.asarray(polygon, dtype=float)
    if len(points) < 3:
        return 0.0
    x, y = points[:, 0], points[:, 1]
    return float(np.sum(x * np.roll(y, -1) - y * np.roll(x, -1)) / 2)

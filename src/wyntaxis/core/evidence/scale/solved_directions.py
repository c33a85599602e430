"""The directions of a solved frame: by its WCS, its row order, and, for an alt-azimuth mount, its moment and site."""

from __future__ import annotations

import datetime
from dataclasses import dataclass
from pathlib import Path

from wyntaxis.core.evidence.scale.image_scale import read_solved_frame
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.fits import headers_of
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.optics.direction import SIDES_DEG, AltAzDirections, PictureDirections
from wyntaxis.core.optics.field_rotation import parallactic_angle
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.plan import Site

J2000 = datetime.datetime(2000, 1, 1, 12, tzinfo=datetime.UTC)


@dataclass(frozen=True)
class SolvedDirections:
    """A frame's directions as its picture is shown: with its first row at the ``top`` or at the ``bottom``."""

    picture: PictureDirections
    first_row: str
    altaz: AltAzDirections | None = None

    def as_json(self, planned_deg: float | None = None) -> JsonObject:
        """Return them as ``wyntaxis direction --json`` prints them."""
        own, altaz = self.picture, self.altaz
        return {
            "angle_deg": own.angle_deg,
            "mirrored": own.mirrored,
            "north_deg": own.north_deg,
            "east_deg": own.east_deg,
            "turn_camera_deg": None if planned_deg is None else own.turn_to(planned_deg),
            "turn": None if planned_deg is None else own.turn_words(planned_deg),
            "move": {side: own.move(side) for side in SIDES_DEG},
            "beside_deg": {side: own.off_axis_deg(side) for side in SIDES_DEG},
            "move_altaz": None if altaz is None else {side: altaz.move(side) for side in SIDES_DEG},
            "first_row": self.first_row,
        }


def directions_of(path: Path, rig: Rig) -> SolvedDirections:
    """Return the directions of a solved FITS frame.

    Parameters
    ----------
    path
        A FITS frame with a celestial WCS.
    rig
        The rig; its mount and site count for an alt-azimuth mount.

    Returns
    -------
    SolvedDirections
        As the picture is shown: ROWORDER says whether the first row is on top.

    Raises
    ------
    InputError
        In one line, where the frame holds no solution.
    """
    reading = read_solved_frame(path, rig.sensor)
    if reading.position_angle_deg is None or reading.mirrored is None:
        raise InputError("its solution shows no direction", path)
    picture = PictureDirections(reading.position_angle_deg % 360, reading.mirrored)
    header = next(own for own in headers_of(path) if "CTYPE1" in own and "CTYPE2" in own)
    is_top = str(header.get("ROWORDER", "")).strip().upper() == "TOP-DOWN"
    if is_top:
        picture = picture.seen_from_top()
    altaz = None
    date = str(header.get("DATE-OBS", ""))
    is_altaz = rig.mount is not None and rig.mount.kind == "alt_azimuth"
    if is_altaz and rig.site is not None and reading.center_deg is not None and date:
        angle = _parallactic(rig.site, reading.center_deg, date)
        altaz = AltAzDirections(picture, angle) if angle is not None else None
    return SolvedDirections(picture, "top" if is_top else "bottom", altaz)


def _parallactic(site: Site, center_deg: tuple[float, float], date: str) -> float | None:
    """Return the parallactic angle of a place of the sky at a moment in UTC; None for no moment.

    Mean sidereal time by J. Meeus, *Astronomical Algorithms*, 12.4, without small terms: to 0.01° for a century.
    """
    try:
        moment = datetime.datetime.fromisoformat(date)
    except ValueError:
        return None
    if moment.tzinfo is None:
        moment = moment.replace(tzinfo=datetime.UTC)
    days = (moment - J2000) / datetime.timedelta(days=1)
    sidereal = 280.46061837 + 360.98564736629 * days + site.longitude_deg
    return float(parallactic_angle(site.latitude_deg, center_deg[1], (sidereal - center_deg[0]) % 360))

"""The horizon of a site, an object's path above it, and the hours that it is up in the dark. All times are UTC.

Earth's rotation is told as steady, see :mod:`wyntaxis.core.sky.earth`; nothing is fetched.
"""

from __future__ import annotations

import csv
import datetime
import hashlib
import io
import warnings
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from wyntaxis.core.files.errors import InputError, shown
from wyntaxis.core.files.opening import read_bytes
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.plan import Site
from wyntaxis.core.sky.earth import steady_rotation
from wyntaxis.core.wording import utc_stamp

SIZE_LIMIT_BYTES = 1 << 20
MAX_POINTS = 3601
STEP_MINUTES = 4
DARK_BELOW_DEG = -18.0
"""The sun's altitude at astronomical twilight."""
HINT = "a horizon file has two columns, azimuth and altitude in degrees, as in: 90, 12.5"


@dataclass(frozen=True)
class HorizonFile:
    """A horizon read from a file: (azimuth, altitude) in degrees with azimuths rising, and the file's digest."""

    points: tuple[tuple[float, float], ...]
    name: str
    sha256: str


def read_horizon(path: Path) -> HorizonFile:
    """Return the horizon of a CSV file; one heading line and lines that begin with # are passed over.

    Raises
    ------
    InputError
        With one line that names the file, the line and the fault.
    """
    data = read_bytes(path, SIZE_LIMIT_BYTES)
    try:
        points = parse_horizon(data)
    except ValueError as error:
        raise InputError(str(error), path) from None
    return HorizonFile(points, shown(Path(path.name)), hashlib.sha256(data).hexdigest())


def parse_horizon(data: bytes) -> tuple[tuple[float, float], ...]:
    """Return the points of a horizon file's bytes, sorted by azimuth; ValueError of one line for what is none.

    Two points at one azimuth are a wall: the horizon steps there from the first to the last of them.
    """
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise ValueError(f"is not UTF-8 text; {HINT}") from None
    separator = ";" if ";" in text else "," if "," in text else None
    found: list[tuple[float, float]] = []
    heading_allowed = True
    for line, row in enumerate(text.splitlines(), start=1):
        cells = [cell.strip() for cell in row.split(separator)] if row.strip() else []
        if not cells or cells[0].startswith("#"):
            continue
        try:
            azimuth, altitude = (float(cell.replace(",", ".")) for cell in cells[:2])
        except ValueError:
            if heading_allowed:
                heading_allowed = False
                continue
            raise ValueError(f"line {line} holds no two numbers; {HINT}") from None
        heading_allowed = False
        if not (0 <= azimuth <= 360 and -90 <= altitude <= 90):
            raise ValueError(f"line {line}: azimuth must lie from 0 to 360, altitude from -90 to 90 degrees; {HINT}")
        found.append((azimuth, altitude))
    if len(found) < 2:
        raise ValueError(f"holds fewer than two points; {HINT}")
    if len(found) > MAX_POINTS:
        raise ValueError(f"holds {len(found)} points, at most {MAX_POINTS} are of use: thin it out")
    # Stable: two points at one azimuth are a wall, and keep the order in which the file has them.
    return tuple(sorted(found, key=lambda point: point[0]))


def horizon_csv(site: Site) -> str:
    """Return a site's horizon as a file that :func:`read_horizon` takes."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(["azimuth_deg", "altitude_deg"])
    writer.writerows(site.horizon)
    return text.getvalue()


def keep_horizon(found: HorizonFile) -> Change:
    """Return the edit that keeps a horizon at the rig's site."""
    evidence = {"method": "horizon_file", "file": found.name, "sha256": found.sha256, "date": utc_stamp()}
    points = [list(point) for point in found.points]
    return Change("Bring a horizon in", ((("site", "horizon"), points), (("site", "horizon_from"), evidence)))


def horizon_altitude(site: Site, azimuth_deg: Any) -> Any:
    """Return the altitude of the horizon in degrees at azimuths, straight between points, closed over north; 0
    without.
    """
    if not site.horizon:
        return np.zeros_like(np.asarray(azimuth_deg, dtype=float))
    azimuths, altitudes = np.array(site.horizon).T
    # Closed over north by hand: points of one azimuth (walls) must keep their order, which ``period`` does not promise.
    azimuths = np.concatenate([[azimuths[-1] - 360], azimuths, [azimuths[0] + 360]])
    altitudes = np.concatenate([altitudes[-1:], altitudes, altitudes[:1]])
    return np.interp(np.asarray(azimuth_deg, dtype=float) % 360, azimuths, altitudes)


@dataclass(frozen=True)
class NightPath:
    """One object over one night: times as Unix seconds (UTC), azimuth, altitude, horizon, sun's altitude, in
    degrees.
    """

    date: datetime.date
    seconds: Any
    azimuth_deg: Any
    altitude_deg: Any
    horizon_deg: Any
    sun_deg: Any

    @property
    def up(self) -> Any:
        return self.altitude_deg > self.horizon_deg

    @property
    def dark(self) -> Any:
        return self.sun_deg < DARK_BELOW_DEG

    @property
    def hours_up(self) -> float:
        """Hours above the horizon from noon to noon."""
        return self._hours(self.up)

    @property
    def hours_dark(self) -> float:
        return self._hours(self.dark)

    @property
    def hours_up_and_dark(self) -> float:
        return self._hours(self.up & self.dark)

    def _hours(self, mask: Any) -> float:
        return float(mask[:-1].sum()) * STEP_MINUTES / 60

    def spans(self, least_deg: float = -90.0) -> list[tuple[float, float]]:
        """Return when the object is up in the dark, and so high, as (from, to) in Unix seconds."""
        mask = np.concatenate([[False], self.up & self.dark & (self.altitude_deg > least_deg), [False]])
        edges = np.flatnonzero(mask[1:] != mask[:-1])
        return [
            (float(self.seconds[a]), float(self.seconds[min(b, len(self.seconds) - 1)]))
            for a, b in edges.reshape(-1, 2)
        ]

    @property
    def highest(self) -> tuple[float, float]:
        """Highest altitude in degrees and when, in Unix seconds."""
        at = int(np.argmax(self.altitude_deg))
        return float(self.altitude_deg[at]), float(self.seconds[at])


def night_path(site: Site, ra_deg: float, dec_deg: float, date: datetime.date) -> NightPath:
    """Return an object's path from local noon of a date to the next, with the sun's, geometric (no refraction).

    Local noon is that of the site's longitude. Takes about a second the first time; it belongs in a thread.

    Raises
    ------
    ValueError
        For a date far outside the tables of Earth's rotation.
    """
    from astropy import units
    from astropy.coordinates import AltAz, EarthLocation, SkyCoord, get_sun
    from astropy.time import Time

    steady_rotation()
    if not 1973 <= date.year <= 2100:
        raise ValueError(f"{date}: choose a date from 1973 to 2100")
    east = (site.longitude_deg + 180) % 360 - 180
    noon = datetime.datetime.combine(date, datetime.time(12), datetime.UTC).timestamp() - 240 * east
    seconds = noon + 60.0 * np.arange(0, 24 * 60 + 1, STEP_MINUTES)
    place = EarthLocation.from_geodetic(site.longitude_deg, site.latitude_deg, site.elevation_m or 0.0)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        times = Time(seconds, format="unix")
        frame = AltAz(obstime=times, location=place)
        target = SkyCoord(ra_deg, dec_deg, unit="deg").transform_to(frame)
        sun = get_sun(times).transform_to(frame)
        azimuth, altitude = target.az.to_value(units.deg), target.alt.to_value(units.deg)
    horizon = horizon_altitude(site, azimuth)
    return NightPath(date, seconds, azimuth, altitude, horizon, sun.alt.to_value(units.deg))


def with_horizon(rig: Rig, path: Path) -> Change:
    """Return the edit that brings a horizon file in; :class:`InputError` for a rig without a site."""
    if rig.site is None:
        raise InputError("the rig has no site yet: add one (Edit → Add a site), then bring its horizon in")
    return keep_horizon(read_horizon(path))

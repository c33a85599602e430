"""A night at a site: how long it is dark, how long each object is up, when it crosses the meridian, and the moon."""

from __future__ import annotations

import csv
import datetime
import io
import warnings
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from wyntaxis.core.rig.plan import Site
from wyntaxis.core.sky.coordinates import separation_deg
from wyntaxis.core.sky.earth import steady_rotation
from wyntaxis.core.sky.horizon import NightPath, night_path

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Flags, Floats

TURN_DEG = 360.0


@dataclass(frozen=True)
class Moon:
    """The moon in the middle of the dark hours (or at midnight): how much is lit, and how long it is up in the dark."""

    illuminated: float
    ra_deg: float
    dec_deg: float
    hours_up_dark: float


@dataclass(frozen=True)
class ObjectNight:
    """One object's night: its path, when it crosses the meridian, when the mount flips. Times as Unix seconds, UTC."""

    name: str
    ra_deg: float
    dec_deg: float
    path: NightPath
    transit: float | None
    flip: float | None
    moon_apart_deg: float


@dataclass(frozen=True)
class Night:
    """What a date has for a site and some objects."""

    date: datetime.date
    dark: tuple[tuple[float, float], ...]
    dark_hours: float
    moon: Moon
    objects: tuple[ObjectNight, ...]

    def as_json(self) -> dict[str, object]:
        """Return the night as ``wyntaxis night --json`` prints it."""
        return {
            "date": self.date.isoformat(),
            "dark_hours": self.dark_hours,
            "dark": [{"from": utc_text(a), "to": utc_text(b)} for a, b in self.dark],
            "moon": {
                "illuminated": self.moon.illuminated,
                "ra_deg": self.moon.ra_deg,
                "dec_deg": self.moon.dec_deg,
                "hours_up_dark": self.moon.hours_up_dark,
            },
            "objects": [
                {
                    "name": entry.name,
                    "ra_deg": entry.ra_deg,
                    "dec_deg": entry.dec_deg,
                    "hours_up": entry.path.hours_up,
                    "hours_up_dark": entry.path.hours_up_and_dark,
                    "spans": [{"from": utc_text(a), "to": utc_text(b)} for a, b in entry.path.spans()],
                    "highest_deg": entry.path.highest[0],
                    "highest_at": utc_text(entry.path.highest[1]),
                    "transit": utc_text(entry.transit) if entry.transit is not None else None,
                    "flip": utc_text(entry.flip) if entry.flip is not None else None,
                    "moon_apart_deg": entry.moon_apart_deg,
                }
                for entry in self.objects
            ],
        }

    def as_csv(self) -> str:
        """Return one line for each object."""
        text = io.StringIO()
        writer = csv.writer(text, lineterminator="\n")
        names = ["name", "ra_deg", "dec_deg", "hours_up", "hours_up_dark", "highest_deg", "transit", "flip"]
        writer.writerow([*names, "moon_apart_deg"])
        for entry in self.objects:
            figures = [f"{v:.3f}" for v in (entry.path.hours_up, entry.path.hours_up_and_dark, entry.path.highest[0])]
            times = ["" if t is None else utc_text(t) for t in (entry.transit, entry.flip)]
            place = [f"{entry.ra_deg:.5f}", f"{entry.dec_deg:.5f}"]
            writer.writerow([entry.name, *place, *figures, *times, f"{entry.moon_apart_deg:.1f}"])
        return text.getvalue()


def utc_text(seconds: float) -> str:
    """Return Unix seconds as ``2026-11-26T21:04Z``."""
    return datetime.datetime.fromtimestamp(round(seconds / 60) * 60, datetime.UTC).strftime("%Y-%m-%dT%H:%MZ")


def night_of(
    site: Site,
    targets: Sequence[tuple[str, float, float]],
    date: datetime.date,
    flip_margin_min: float | None = None,
) -> Night:
    """Return the night that begins on a date, from local noon to local noon.

    Parameters
    ----------
    targets
        Name, right ascension and declination in degrees (ICRS) of each object.
    flip_margin_min
        How long after the meridian the mount flips, in min; None where it does not, or does not say.

    Raises
    ------
    ValueError
        For a date outside 1973 to 2100.
    """
    first = night_path(site, targets[0][1], targets[0][2], date)
    seconds, place = first.seconds, _Place(site, first.seconds)
    ra, dec, altitude, illuminated = place.moon()
    dark = first.dark
    middle = int(np.flatnonzero(dark)[int(dark.sum()) // 2]) if dark.any() else len(seconds) // 2
    moon_at = (float(ra[middle]), float(dec[middle]))
    up = (altitude > 0) & dark
    step = (seconds[1] - seconds[0]) / 3600
    moon = Moon(float(illuminated[middle]), *moon_at, float(up[:-1].sum()) * step)
    objects: list[ObjectNight] = []
    for name, target_ra, target_dec in targets:
        path = first if not objects else night_path(site, target_ra, target_dec, date)
        transit = place.transit(target_ra, target_dec)
        flip = transit + 60 * flip_margin_min if transit is not None and flip_margin_min is not None else None
        apart = separation_deg(moon_at, (target_ra, target_dec))
        objects.append(ObjectNight(name, target_ra, target_dec, path, transit, flip, apart))
    return Night(date, tuple(_spans(dark, seconds)), first.hours_dark, moon, tuple(objects))


def _spans(mask: Flags, seconds: Floats) -> list[tuple[float, float]]:
    edges = np.flatnonzero(np.diff(np.concatenate([[False], mask, [False]]).astype(int)))
    return [(float(seconds[a]), float(seconds[min(b, len(seconds) - 1)])) for a, b in edges.reshape(-1, 2)]


class _Place:
    """A site at some times, for what astropy computes there."""

    def __init__(self, site: Site, seconds: Floats) -> None:
        from astropy.coordinates import EarthLocation
        from astropy.time import Time

        steady_rotation()
        self.seconds = seconds
        self.location = EarthLocation.from_geodetic(site.longitude_deg, site.latitude_deg, site.elevation_m or 0.0)
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            self.times = Time(seconds, format="unix", location=self.location)

    def moon(self) -> tuple[Floats, Floats, Floats, Floats]:
        """Return right ascension, declination, altitude in degrees and the lit share of the moon (Meeus, 48)."""
        from astropy.coordinates import AltAz, get_body, get_sun

        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            moon, sun = get_body("moon", self.times, self.location), get_sun(self.times)
            altitude = moon.transform_to(AltAz(obstime=self.times, location=self.location)).alt.deg
            elongation = sun.separation(moon, origin_mismatch="ignore").rad
            far, near = sun.distance.km, moon.distance.km
            phase = np.arctan2(far * np.sin(elongation), near - far * np.cos(elongation))
            plain = moon.icrs
        return plain.ra.deg, plain.dec.deg, altitude, (1 + np.cos(phase)) / 2

    def transit(self, ra_deg: float, dec_deg: float) -> float | None:
        """Return when an object crosses the meridian on its upper half, in Unix seconds; None where it does not."""
        from astropy.coordinates import HADec, SkyCoord

        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            target = SkyCoord(ra_deg, dec_deg, unit="deg")
            angle = target.transform_to(HADec(obstime=self.times, location=self.location)).ha.deg
        turn = (angle + TURN_DEG / 2) % TURN_DEG - TURN_DEG / 2
        crossed = np.flatnonzero((turn[:-1] <= 0) & (turn[1:] > 0) & (turn[1:] - turn[:-1] < TURN_DEG / 2))
        if not len(crossed):
            return None
        at = int(crossed[0])
        share = -turn[at] / (turn[at + 1] - turn[at])
        return float(self.seconds[at] + share * (self.seconds[at + 1] - self.seconds[at]))

"""Deep-sky objects with their size and angle: OpenNGC (CC BY-SA 4.0), shipped with the package pyongc, read offline."""

from __future__ import annotations

import contextlib
import math
import re
import sqlite3
from dataclasses import dataclass
from functools import lru_cache
from typing import TYPE_CHECKING

import numpy as np

from wyntaxis.core.sky.gnomonic import unit_vectors

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Floats

CREDIT = "OpenNGC, CC BY-SA 4.0, by pyongc"
_QUERY = (
    "SELECT name, typedesc, ra, dec, majax, minax, pa, vmag, bmag, ngc, ic, messier, commonnames "
    "FROM objects JOIN objTypes USING (type) "
    "WHERE ra IS NOT NULL AND dec IS NOT NULL AND type NOT IN ('NonEx', 'Dup')"
)
_ALIASES = "SELECT identifier, name FROM objIdentifiers"
_PADDED = re.compile(r"^(NGC|IC)0+(?=[0-9])")


@dataclass(frozen=True)
class SkyObject:
    """One object. Position in degrees (J2000), axes in arcmin, angle of the major axis in degrees, north through
    east.
    """

    name: str
    kind: str
    ra_deg: float
    dec_deg: float
    major_arcmin: float | None
    minor_arcmin: float | None
    angle_deg: float | None
    magnitude: float | None
    common_name: str = ""

    @property
    def label(self) -> str:
        """The name with a space before its number: ``NGC 7243``."""
        return re.sub(r"^([A-Z]+?)([0-9])", r"\1 \2", self.name)

    @property
    def angle_known(self) -> bool:
        """Whether the outline is sure: the angle is catalogued, or the object is round or a point."""
        major, minor = self.major_arcmin, self.minor_arcmin
        return self.angle_deg is not None or not major or not minor or major == minor

    def outline(self, points: int = 72) -> Floats:
        """Return the ellipse of the catalogued axes on the plane that touches the sky at the object, (points, 2) rad.

        East and north in radians. Without a minor axis it is a circle; without any size there is none, and it is empty.
        """
        if not self.major_arcmin:
            return np.empty((0, 2))
        along = math.radians(self.major_arcmin / 120)
        across = math.radians((self.minor_arcmin or self.major_arcmin) / 120)
        turn, angle = np.linspace(0, 2 * np.pi, points, endpoint=False), math.radians(self.angle_deg or 0.0)
        north, east = np.tan(along) * np.cos(turn), np.tan(across) * np.sin(turn)
        return np.stack(
            [north * math.sin(angle) + east * math.cos(angle), north * math.cos(angle) - east * math.sin(angle)],
            axis=-1,
        )


@dataclass(frozen=True)
class _Catalogue:
    objects: tuple[SkyObject, ...]
    vectors: Floats
    half_major_deg: Floats
    by_name: dict[str, int]


def _key(name: str) -> str:
    return re.sub(r"(?<![0-9])0+(?=[0-9])", "", re.sub(r"[\s_-]+", "", name.upper()))


@lru_cache(maxsize=1)
def _catalogue() -> _Catalogue:
    """Return the whole catalogue, read once (about 0.3 s)."""
    import pyongc

    with contextlib.closing(sqlite3.connect(f"file:{pyongc.DBPATH}?mode=ro", uri=True)) as database:
        rows, aliases = database.execute(_QUERY).fetchall(), database.execute(_ALIASES).fetchall()
    objects: list[SkyObject] = []
    by_name: dict[str, int] = {}
    for name, kind, ra, dec, major, minor, angle, visual, blue, *_, messier, common in rows:
        index = len(objects)
        plain = _PADDED.sub(r"\1", name)
        first = (common or "").split(",")[0].strip()
        magnitude = visual if visual is not None else blue
        objects.append(
            SkyObject(plain, kind, math.degrees(ra), math.degrees(dec), major, minor, angle, magnitude, first)
        )
        for text in (name, *(f"M{m}" for m in [messier] if m), *(common or "").split(",")):
            if text.strip():
                by_name.setdefault(_key(text), index)
    for alias, name in aliases:
        if _key(name) in by_name:
            by_name.setdefault(_key(alias), by_name[_key(name)])
    vectors = unit_vectors([o.ra_deg for o in objects], [o.dec_deg for o in objects])
    sizes = np.array([(o.major_arcmin or 0.0) / 120 for o in objects])
    return _Catalogue(tuple(objects), vectors, sizes, by_name)


def load() -> int:
    """Read the catalogue ahead of its use, as in a thread, and return how many objects it holds."""
    return len(_catalogue().objects)


def find_object(name: str) -> SkyObject | None:
    """Return the object of a name such as ``NGC 7243`` or ``ngc07243``, None for one that is not in the catalogue."""
    found = _catalogue()
    index = found.by_name.get(_key(name)) if name.strip() else None
    return found.objects[index] if index is not None else None


def objects_near(center: tuple[float, float], radius_deg: float) -> list[SkyObject]:
    """Return the objects that reach within a radius of a position, the largest first."""
    found = _catalogue()
    near = np.degrees(np.arccos(np.clip(found.vectors @ unit_vectors(*center), -1, 1)))
    chosen = [found.objects[index] for index in np.flatnonzero(near - found.half_major_deg <= radius_deg)]
    return sorted(chosen, key=lambda o: (-(o.major_arcmin or 0.0), o.name))

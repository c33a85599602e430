"""Mistakes that a wrong number is recognised by: each by its own arithmetic, against the rig's other numbers."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass

from wyntaxis.core.records.quantities import Comparable
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.train.lightpath import left_out, magnifications
from wyntaxis.core.wording import short

SAME = 2e-3
"""Numbers that differ by less than this share are taken for the same, typed with fewer digits."""
SIDEREAL_ARCSEC_S = 15.041
FULL_TURN_DEG = 360.0
EXCHANGED = {
    "site.latitude_deg": ("site.longitude_deg", "latitude and longitude are exchanged"),
    "site.longitude_deg": ("site.latitude_deg", "latitude and longitude are exchanged"),
    "width_px": ("height_px", "width and height are exchanged"),
    "height_px": ("width_px", "width and height are exchanged"),
    "guide_pixel_um": ("pixel_um", "that is the main camera’s pixel"),
    "pixel_um": ("guide_pixel_um", "that is the guide camera’s pixel"),
}
"""By quantity another one whose value may stand in its place, and what is said then."""
DIAMETERS = ("aperture_mm", "diameter", "circle")
POSITIONS = (".position", ".lowest_position", ".highest_position")


@dataclass(frozen=True)
class WrongNumber:
    """A number that differs from the rig's: what it is of, what a program has, what the rig says, and the rest."""

    rig: Rig
    item: Comparable
    has: float
    wanted: float
    known: Mapping[str, Comparable]

    def is_near(self, value: float | None) -> bool:
        """Return whether the program's number is this one, but for digits that were not typed."""
        return value is not None and value != 0 and math.isclose(self.has, value, rel_tol=SAME)

    def number(self, key: str) -> float | None:
        """Return what the rig says of another quantity; None where it does not."""
        item = self.known.get(key)
        value = item.value if item is not None else None
        return float(value) if isinstance(value, int | float) and not isinstance(value, bool) else None

    @property
    def beside(self) -> str:
        """What the ids of the same device's settings begin with."""
        return self.item.id.rpartition(".")[0]


def _exchanged(wrong: WrongNumber) -> str:
    other, words = EXCHANGED.get(wrong.item.id, ("", ""))
    value = wrong.number(other) if other else None
    if wrong.is_near(value):
        return words
    if value is not None and other.startswith("site.") and wrong.is_near(-value):
        return f"{words}, and the sign is the other way round"
    return ""


def _gain_and_offset(wrong: WrongNumber) -> str:
    name = wrong.item.id.rpartition(".")[2]
    other = {"gain": "offset", "offset": "gain"}.get(name)
    if other is not None and wrong.has == wrong.number(f"{wrong.beside}.{other}"):
        return "gain and offset are exchanged"
    return ""


def _longitude(wrong: WrongNumber) -> str:
    if wrong.item.id != "site.longitude_deg":
        return ""
    apart = wrong.has - wrong.wanted
    if math.isclose(abs(apart), FULL_TURN_DEG, abs_tol=wrong.item.tolerance):
        return f"the same place, counted {'from 0° to 360°' if apart > 0 else 'from −180° to 180°'}"
    flipped = (wrong.has + wrong.wanted) % FULL_TURN_DEG
    if min(flipped, FULL_TURN_DEG - flipped) <= wrong.item.tolerance:
        return "the sign is the other way round: east counts above 0 here"
    return ""


def _fahrenheit(wrong: WrongNumber) -> str:
    if wrong.item.unit != "°C":
        return ""
    slack = max(wrong.item.tolerance, 0.1)
    if abs(wrong.has - (1.8 * wrong.wanted + 32)) <= slack:
        return "unit: °F for °C"
    return "unit: °C for °F" if abs(wrong.has - (wrong.wanted - 32) / 1.8) <= slack else ""


def _radius(wrong: WrongNumber) -> str:
    if not any(name in wrong.item.id for name in DIAMETERS):
        return ""
    if wrong.is_near(wrong.wanted / 2):
        return "half: the radius for the diameter"
    return "twice: the diameter for the radius" if wrong.is_near(2 * wrong.wanted) else ""


def _focal_ratio(wrong: WrongNumber) -> str:
    aperture = wrong.rig.telescope.aperture_mm
    if wrong.item.id != "effective_focal_length_mm" or not aperture:
        return ""
    bare = wrong.wanted / math.prod(magnifications(wrong.rig.train))
    for focal, what in ((wrong.wanted, "the focal ratio"), (bare, "the bare telescope’s focal ratio")):
        if abs(wrong.has - focal / aperture) <= 0.06:
            return f"f/{short(wrong.has, 1)}: {what} for the focal length"
    return ""


def _guide_focal_length(wrong: WrongNumber) -> str:
    if wrong.item.id != "guide_focal_length_mm" or wrong.rig.guiding.taps is None:
        return ""
    found = left_out(wrong.rig, wrong.has / wrong.wanted)
    if found is None:
        return ""
    glass = f"the {found.kind} {found.part.title}"
    return f"{glass} is counted twice" if found.is_doubled else f"{glass} is missing: the prism sits behind it"


def _guide_rate(wrong: WrongNumber) -> str:
    if not wrong.item.id.endswith("rate_sidereal"):
        return ""
    if wrong.is_near(100 * wrong.wanted):
        return "unit: % of the sidereal rate"
    return "unit: ″/s for × sidereal" if wrong.is_near(SIDEREAL_ARCSEC_S * wrong.wanted) else ""


def _obstruction(wrong: WrongNumber) -> str:
    if not wrong.item.id.endswith("obstruction_ratio"):
        return ""
    ratio, aperture = wrong.wanted, wrong.rig.telescope.aperture_mm
    if aperture and wrong.is_near(ratio * aperture):
        return "the obstruction’s diameter in mm, for its share of the aperture"
    if wrong.is_near(ratio**2):
        return "the obstruction’s share of the area, for that of the diameter"
    if wrong.is_near(100 * ratio):
        return "unit: % for a share"
    return "the obstruction’s share of the area in %" if wrong.is_near(100 * ratio**2) else ""


def _position(wrong: WrongNumber) -> str:
    step = wrong.number(f"{wrong.beside}.step_um")
    if not wrong.item.id.endswith(POSITIONS) or step is None:
        return ""
    if wrong.is_near(wrong.wanted * step / 1000):
        return f"in mm: {short(wrong.wanted, 0)} steps of {short(step, 3)} µm"
    return f"in µm: {short(wrong.wanted, 0)} steps of {short(step, 3)} µm" if wrong.is_near(wrong.wanted * step) else ""


MISTAKES: tuple[Callable[[WrongNumber], str], ...] = (
    _exchanged,
    _gain_and_offset,
    _longitude,
    _fahrenheit,
    _radius,
    _focal_ratio,
    _guide_focal_length,
    _guide_rate,
    _obstruction,
    _position,
)


def mistakes_in(wrong: WrongNumber) -> Iterator[str]:
    """Yield in words the mistakes that explain a number, the likeliest first.

    Parameters
    ----------
    wrong
        A number that differs from the rig's.

    Yields
    ------
    str
        What the mistake is, with its arithmetic.
    """
    for look in MISTAKES:
        words = look(wrong)
        if words:
            yield words

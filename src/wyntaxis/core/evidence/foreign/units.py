"""Units that programs write numbers in, and their conversion to ours."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

_FACTORS: dict[str, dict[str, float]] = {
    "mm": {"mm": 1.0, "m": 1000.0, "cm": 10.0, "µm": 1e-3, "in": 25.4, "ft": 304.8},
    "µm": {"µm": 1.0, "mm": 1000.0, "m": 1e6, "nm": 1e-3},
    "m": {"m": 1.0, "km": 1000.0, "cm": 0.01, "mm": 1e-3, "ft": 0.3048},
    "°": {"°": 1.0, "rad": math.degrees(1.0), "h": 15.0, "′": 1 / 60, "″": 1 / 3600},
    "″": {"″": 1.0, "′": 60.0, "°": 3600.0},
    "″/px": {"″/px": 1.0, "°/px": 3600.0, "rad/px": 3600 * math.degrees(1.0)},
    "s": {"s": 1.0, "ms": 1e-3, "min": 60.0, "h": 3600.0, "d": 86_400.0},
    "ms": {"ms": 1.0, "s": 1000.0},
    "min": {"min": 1.0, "s": 1 / 60, "h": 60.0},
    "%": {"%": 1.0, "share": 100.0},
    "°C": {"°C": 1.0, "K": 1.0, "°F": 5 / 9},
    "°C/min": {"°C/min": 1.0, "°C/s": 60.0},
    "MB": {"MB": 1.0, "kB": 1e-3, "B": 1e-6, "GB": 1000.0},
    "MB/s": {"MB/s": 1.0, "Mbit/s": 0.125},
}
_ZERO_POINTS = {"K": 273.15, "°F": 32.0}
_SEXAGESIMAL = re.compile(r"([+-]?)([0-9]+)[\s:°hd]+([0-9]+)(?:[\s:′'m]+([0-9]+(?:\.[0-9]+)?))?[\s″\"s]*")
_COMPASS = {"N": 1, "E": 1, "S": -1, "W": -1}
_GROUP = "[,.'\u2019\u00a0\u202f\u2009 ]"
"""What sets thousands apart in one place or another."""
_NUMBER = re.compile(
    rf"([+-]?)([0-9]{{1,3}}(?:{_GROUP}[0-9]{{3}})+(?:[.,][0-9]+)?|[0-9]+(?:[.,][0-9]+)?)((?:[eE][+-]?[0-9]+)?)\s*([^0-9.,][^0-9]*)?",
    re.ASCII | re.DOTALL,
)
_SYNONYMS = {
    "µm": ("um", "μm", "micron", "microns", "micrometer", "micrometre"),
    "in": ("inch", "inches"),
    "ft": ("feet", "foot"),
    "m": ("metre", "meter", "metres", "meters"),
    "mm": ("millimetre", "millimeter", "millimetres", "millimeters"),
    "°": ("deg", "degree", "degrees", "º"),
    "rad": ("radian", "radians"),
    "′": ("arcmin", "'"),
    "″": ("arcsec", "arcseconds", "asec", '"', "''"),
    "″/px": ("arcsec/px", "arcsec/pix", "arcsec/pixel", "as/px", '"/px', "″/pix", "″/pixel"),
    "s": ("sec", "second", "seconds", "secs"),
    "min": ("minute", "minutes"),
    "ms": ("millisecond", "milliseconds", "msec"),
    "h": ("hour", "hours", "hr", "hrs"),
    "%": ("percent", "pct"),
    "°C": ("c", "degc", "deg c", "celsius", "℃", "°c"),
    "K": ("kelvin",),
    "°F": ("f", "degf", "deg f", "fahrenheit", "°f"),
    "MB/s": ("mb/s", "mbyte/s"),
}
_UNIT_OF = {word: unit for unit, words in _SYNONYMS.items() for word in words}
PLAIN_WORDS = frozenset({"px", "pix", "pixel", "pixels", "adu", "steps", "step", "frames", "frame", "x", "×"})
"""What may stand behind a number of a unit that we do not convert, and says nothing against it."""
TRUE_WORDS = frozenset({"true", "yes", "on", "1", "t", "y"})
FALSE_WORDS = frozenset({"false", "no", "off", "0", "f", "n"})


def units_for(unit: str) -> tuple[str, ...]:
    """Return the units in which a quantity of ours may be written, our own first.

    Parameters
    ----------
    unit
        A unit of ours.

    Returns
    -------
    tuple[str, ...]
        Units.
    """
    return tuple(_FACTORS.get(unit, {unit: 1.0}))


def known_units() -> set[str]:
    """Return every unit that a program's value may be said to be in.

    Returns
    -------
    set[str]
        Units.
    """
    return {unit for table in _FACTORS.values() for unit in table}


def unit_named(text: str) -> str | None:
    """Return the unit that a word means, such as ″ for arcsec, px for pixels; None for none that is known.

    Parameters
    ----------
    text
        A unit, or a word for one.

    Returns
    -------
    str or None
        As :func:`convert` takes it; px is told by none of ours, but some tables' columns are in it.
    """
    unit = _UNIT_OF.get(text, _UNIT_OF.get(text.lower(), text))
    if unit in ("px", "pix", "pixel", "pixels"):
        return "px"
    return unit if unit in known_units() else None


def convert(value: float, written_in: str, unit: str) -> float:
    """Return a number written in one unit in another; ValueError where there is no way from one to the other.

    Parameters
    ----------
    value, written_in, unit
        A number, the unit it is written in, and the unit wanted.

    Returns
    -------
    float
        The number in ``unit``.
    """
    known = _FACTORS.get(unit, {unit: 1.0})
    if written_in not in known:
        raise ValueError(f"{written_in or 'a plain number'} cannot be given in {unit or 'a plain number'}")
    return (value - _ZERO_POINTS.get(written_in, 0.0)) * known[written_in]


@dataclass(frozen=True)
class ForeignNumber:
    """A number as a program wrote it, and the unit that stood behind it, empty without one.

    ``other`` is how it reads where its one comma or point sets thousands apart, None where there is no doubt.
    """

    value: float
    unit: str = ""
    other: float | None = None

    def nearest(self, wanted: float | None) -> float:
        """Return the reading that is nearer, by ratio, to what is expected; where nothing is, the first."""
        if self.other is None or not wanted or not self.other or not self.value or self.value * wanted < 0:
            return self.value
        first, second = (abs(math.log(abs(v / wanted))) for v in (self.value, self.other))
        return self.value if first <= second else self.other


def read_foreign_number(value: object) -> ForeignNumber:
    """Return a number as programs write it, with the unit behind it.

    It may have a decimal point or comma, thousands set apart, degrees with minutes and seconds, and N, S, E or W
    before or behind it: south and west count below 0.

    Parameters
    ----------
    value
        What the program wrote: text or a number.

    Returns
    -------
    ForeignNumber
        The value, its other reading where a comma leaves two, and the unit behind it.

    Raises
    ------
    ValueError
        For what is no number.
    """
    if isinstance(value, bool):
        raise ValueError("is true or false, no number")
    if isinstance(value, (int, float)):
        return ForeignNumber(_finite(value))
    text = str(value).replace("\N{MINUS SIGN}", "-").strip()
    text, sign, compass = _without_compass(text)
    angle = _SEXAGESIMAL.fullmatch(text)
    if angle and not _NUMBER_GROUPS.fullmatch(text):
        minus, degrees, minutes, seconds = angle.groups()
        size = float(degrees) + float(minutes) / 60 + float(seconds or 0) / 3600
        return ForeignNumber(_finite((-size if minus == "-" else size) * sign), "°" if compass else "")
    plain = _NUMBER.fullmatch(text)
    if not plain:
        raise ValueError("is no number")
    minus, digits, power, rest = plain.groups()
    signed = sign * (-1 if minus == "-" else 1)
    first, other = _readings(digits, power)
    unit = (rest or "").strip()
    unit = _UNIT_OF.get(unit, _UNIT_OF.get(unit.lower(), unit))
    if compass and unit in ("", "°"):
        unit = "°"
    return ForeignNumber(_finite(signed * first), unit, None if other is None else _finite(signed * other))


def parse_foreign_number(value: object) -> float:
    """Return the value of :func:`read_foreign_number`, whatever unit stands behind it.

    Parameters
    ----------
    value
        What a program holds.

    Returns
    -------
    float
        In the unit that stands behind it, or none.
    """
    return read_foreign_number(value).value


def foreign_number_in(value: object, written_in: str, unit: str, expected: float | None = None) -> float:
    """Return a program's number in our unit.

    A unit behind the number counts before ``written_in``. Of two ways to read a comma the one nearer to what is
    expected counts: ``1,240`` is 1240 m of elevation, and 1.240 where that is wanted.

    Parameters
    ----------
    value
        What the program wrote.
    written_in, unit
        The unit it writes in, and the unit wanted.
    expected
        What the rig holds, in ``unit``.

    Returns
    -------
    float
        The number in ``unit``.

    Raises
    ------
    ValueError
        For what is no number, or carries a unit that is none of ours.
    """
    found = read_foreign_number(value)
    entries = found.unit
    if unit not in _FACTORS and entries.lower() in PLAIN_WORDS:
        entries = ""
    if not entries:
        entries = written_in
    elif entries not in _FACTORS.get(unit, {unit: 1.0}):
        raise ValueError(f"carries “{found.unit[:20]}”, which cannot be given in {unit or 'a plain number'}")
    number = convert(found.value, entries, unit)
    other = None if found.other is None else convert(found.other, entries, unit)
    return ForeignNumber(number, "", other).nearest(expected)


def _finite(value: float) -> float:
    try:
        number = float(value)
    except OverflowError:
        raise ValueError("is too large a number") from None
    if not math.isfinite(number):
        raise ValueError("is no finite number")
    return number


def _without_compass(text: str) -> tuple[str, int, bool]:
    """Take N, S, E or W off a value, and return its sign."""
    for letter, sign in _COMPASS.items():
        for found in (
            re.fullmatch(rf"{letter}\s*(?=[0-9+-])(.+)", text),
            re.fullmatch(rf"(.*[0-9°′″'\"\s]){letter}", text),
        ):
            if found:
                return found[1].strip(), sign, True
    return text, 1, False


_NUMBER_GROUPS = re.compile(r"[+-]?[0-9]{1,3}(?:[ \u00a0\u202f\u2009][0-9]{3})+(?:[.,][0-9]+)?")


def _readings(digits: str, power: str) -> tuple[float, float | None]:
    """Return how digits with commas, points or spaces read, and how else they may be read."""
    marks = [char for char in digits if char not in "0123456789"]
    if not marks:
        return float(digits + power), None
    last = marks[-1]
    plain = re.sub(r"\D", "", digits)
    whole, _, tail = digits.rpartition(last)
    decimal = float(re.sub(r"\D", "", whole) + "." + tail + power)
    if last not in ",.":
        return float(plain + power), None
    if len(marks) > 1 and marks.count(last) > 1:
        return float(plain + power), None
    if len(marks) > 1:
        return decimal, None
    if last == "." or len(tail) != 3 or digits.startswith("0") or power:
        return decimal, None
    return float(plain), decimal


def parse_foreign_truth(value: object) -> bool:
    """Return yes or no as programs write it; ValueError for what is neither.

    Parameters
    ----------
    value
        What a program holds.

    Returns
    -------
    bool
        Yes or no.
    """
    if isinstance(value, bool):
        return value
    word = f"{value:g}" if isinstance(value, float) else str(value).strip().lower()
    if word in TRUE_WORDS:
        return True
    if word in FALSE_WORDS:
        return False
    raise ValueError("is neither yes nor no")

"""Units that programs write numbers in, and their conversion to ours."""

from __future__ import annotations

import math
import re

_FACTORS: dict[str, dict[str, float]] = {
    "mm": {"mm": 1.0, "m": 1000.0, "cm": 10.0, "µm": 1e-3, "in": 25.4},
    "µm": {"µm": 1.0, "mm": 1000.0, "m": 1e6, "nm": 1e-3},
    "m": {"m": 1.0, "km": 1000.0, "mm": 1e-3, "ft": 0.3048},
    "°": {"°": 1.0, "rad": math.degrees(1.0), "h": 15.0, "′": 1 / 60, "″": 1 / 3600},
    "″": {"″": 1.0, "′": 60.0, "°": 3600.0},
    "″/px": {"″/px": 1.0, "°/px": 3600.0, "rad/px": 3600 * math.degrees(1.0)},
    "s": {"s": 1.0, "ms": 1e-3, "min": 60.0, "h": 3600.0},
    "ms": {"ms": 1.0, "s": 1000.0},
    "min": {"min": 1.0, "s": 1 / 60, "h": 60.0},
    "%": {"%": 1.0, "share": 100.0},
    "°C": {"°C": 1.0, "K": 1.0, "°F": 5 / 9},
    "°C/min": {"°C/min": 1.0, "°C/s": 60.0},
    "MB": {"MB": 1.0, "kB": 1e-3, "B": 1e-6, "GB": 1000.0},
    "MB/s": {"MB/s": 1.0, "Mbit/s": 0.125},
}
_ZERO_POINTS = {"K": 273.15, "°F": 32.0}
_SEXAGESIMAL = re.compile(r"\s*([+-]?)(\d+)[\s:°hd]+(\d+)(?:[\s:′'m]+(\d+(?:\.\d+)?))?[\s″\"s]*\s*")
_NUMBER = re.compile(r"\s*([+-]?\d+(?:[.,]\d+)?(?:[eE][+-]?\d+)?)\s*([^\d\s.,]\D*)?")
TRUE_WORDS = frozenset({"true", "yes", "on", "1", "t", "y"})
FALSE_WORDS = frozenset({"false", "no", "off", "0", "f", "n"})


def units_for(unit: str) -> tuple[str, ...]:
    """Return the units in which a quantity of ours may be written, our own first."""
    return tuple(_FACTORS.get(unit, {unit: 1.0}))


def convert(value: float, written_in: str, unit: str) -> float:
    """Return a number written in one unit in another; ValueError where there is no way from one to the other."""
    known = _FACTORS.get(unit, {unit: 1.0})
    if written_in not in known:
        raise ValueError(f"{written_in or 'a plain number'} cannot be told in {unit or 'a plain number'}")
    return (value - _ZERO_POINTS.get(written_in, 0.0)) * known[written_in]


def parse_foreign_number(value: object) -> float:
    """Return a number as programs write it: a decimal point or comma, degrees and minutes, a unit behind it is passed
    over.

    Raises
    ------
    ValueError
        For what is no number.
    """
    if isinstance(value, bool):
        raise ValueError("is true or false, no number")
    if isinstance(value, (int, float)):
        return float(value)
    text = str(value).replace("\N{MINUS SIGN}", "-")
    angle = _SEXAGESIMAL.fullmatch(text)
    if angle:
        sign, degrees, minutes, seconds = angle.groups()
        size = float(degrees) + float(minutes) / 60 + float(seconds or 0) / 3600
        return -size if sign == "-" else size
    plain = _NUMBER.fullmatch(text)
    if not plain:
        raise ValueError("is no number")
    return float(plain[1].replace(",", "."))


def parse_foreign_truth(value: object) -> bool:
    """Return yes or no as programs write it; ValueError for what is neither."""
    if isinstance(value, bool):
        return value
    word = f"{value:g}" if isinstance(value, float) else str(value).strip().lower()
    if word in TRUE_WORDS:
        return True
    if word in FALSE_WORDS:
        return False
    raise ValueError("is neither yes nor no")

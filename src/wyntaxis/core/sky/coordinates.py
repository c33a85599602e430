"""Coordinates as people type them and as they are copied: right ascension and declination, ICRS, J2000."""

from __future__ import annotations

import math
import re

from wyntaxis.core.wording import MINUS

HINT = 'write them as "22 15 09 +49 54 00", "22h15m09s +49d54m00s", or in degrees "333.785 49.900"'
_MARKS = re.compile(r"[hmsd°:′″'\"]", re.IGNORECASE)
_NUMBER = r"[0-9]+(?:\.[0-9]+)?"
_SIGN = f"[+{MINUS}-]"
_STRANGE = re.compile(r"(?<=[0-9.])\s*[hmsd]", re.IGNORECASE)
"""A mark counts as one only behind a number."""
_LINE = re.compile(
    rf"\s*({_NUMBER}(?:\s+{_NUMBER}){{0,2}})\s*(,|\s)\s*({_SIGN}?)\s*({_NUMBER}(?:\s+{_NUMBER}){{0,2}})\s*"
)


def parse_coordinates(text: str) -> tuple[float, float]:
    """Return right ascension and declination in degrees.

    Three or two numbers for the right ascension, or a mark "h", make it hours; a single number is degrees.

    Raises
    ------
    ValueError
        With one line that says what is wrong and how to write it.
    """
    shown = " ".join(text.split())[:60]
    strange = _STRANGE.sub("", text)
    if any(char.isalpha() for char in strange):
        raise ValueError(f"“{shown}” is no pair of coordinates and not in the catalogue; {HINT}")
    if _hours_come_late(text):
        raise ValueError(f"“{shown}”: the mark h belongs to the right ascension, which comes first; {HINT}")
    in_hours = bool(re.match(rf"\s*{_NUMBER}\s*h", text, re.IGNORECASE))
    plain = " ".join(_MARKS.sub(" ", text).replace(",", " , ").split())
    sign_at = re.search(_SIGN, plain)
    if "," in plain:
        first, _, second = plain.partition(",")
    elif sign_at is not None:
        first, second = plain[: sign_at.start()], plain[sign_at.start() :]
    else:
        numbers = plain.split()
        half = len(numbers) // 2
        first, second = " ".join(numbers[:half]), " ".join(numbers[half:])
        if len(numbers) % 2:
            raise ValueError(f"“{shown}” is no pair of coordinates; {HINT}")
    match = _LINE.fullmatch(f"{first.strip()} , {second.strip()}")
    if match is None or len(text) > 200:
        raise ValueError(f"“{shown}” is no pair of coordinates; {HINT}")
    hours, sign, degrees = match.group(1).split(), match.group(3), match.group(4).split()
    ra, dec = _sexagesimal(hours, shown), _sexagesimal(degrees, shown)
    ra *= 15 if in_hours or len(hours) > 1 else 1
    dec = -dec if sign in ("-", MINUS) else dec
    if not 0 <= ra < 360 + 1e-9:
        raise ValueError(f"“{shown}”: the right ascension must lie from 0 to 24 h or 360°")
    if not -90 <= dec <= 90:
        raise ValueError(f"“{shown}”: the declination must lie from {MINUS}90° to +90°")
    return ra % 360, dec


def _hours_come_late(text: str) -> bool:
    """Return whether the mark h stands behind a number of the declination."""
    last = text.lower().rfind("h")
    between = re.search(rf",|(?<=[0-9]|\s|[hmsd]){_SIGN}", text[1:], re.IGNORECASE)
    if between is not None:
        return last > between.start() + 1
    numbers = len(re.findall(_NUMBER, text))
    return last >= 0 and len(re.findall(_NUMBER, text[:last])) > (numbers + 1) // 2


def _sexagesimal(parts: list[str], shown: str) -> float:
    values = [float(part) for part in parts]
    if any(value >= 60 for value in values[1:]):
        raise ValueError(f"“{shown}”: minutes and seconds must be under 60")
    if any(value != int(value) for value in values[:-1]):
        raise ValueError(f"“{shown}”: only the last of hours, minutes and seconds may have decimals")
    return math.fsum(value / 60.0**place for place, value in enumerate(values))


def right_ascension_text(ra_deg: float, decimals: int = 2) -> str:
    """Return a right ascension as ``22h15m09.00s``."""
    return "{}h{:02d}m{}s".format(*_split(ra_deg % 360 / 15, decimals, 24))


def declination_text(dec_deg: float, decimals: int = 1) -> str:
    """Return a declination as ``+49°54′00.0″``, with a real minus sign."""
    sign = MINUS if dec_deg < 0 else "+"
    degrees, minutes, seconds = _split(abs(dec_deg), decimals, None)
    return f"{sign}{degrees}°{minutes:02d}′{seconds}″"


def _split(value: float, decimals: int, turn: int | None) -> tuple[str, int, str]:
    """Return whole units, minutes and seconds, rounded so that no 60 is left; ``turn`` wraps the units."""
    unit = 10**decimals
    ticks = round(value * 3600 * unit)
    whole, rest = divmod(ticks, 3600 * unit)
    minutes, seconds = divmod(rest, 60 * unit)
    whole = whole % turn if turn else whole
    width = 2 + (1 + decimals if decimals else 0)
    return f"{whole:02d}", minutes, f"{seconds / unit:0{width}.{decimals}f}"


def coordinates_text(ra_deg: float, dec_deg: float) -> str:
    """Return a position as one line to copy: ``22h15m09.00s +49°54′00.0″``."""
    return f"{right_ascension_text(ra_deg)} {declination_text(dec_deg)}"


def separation_deg(one: tuple[float, float], other: tuple[float, float]) -> float:
    """Return the angle between two positions in degrees (the formula of Vincenty, exact at every distance)."""
    (ra1, dec1), (ra2, dec2) = (tuple(math.radians(v) for v in place) for place in (one, other))
    turn = ra2 - ra1
    across = math.cos(dec2) * math.sin(turn)
    along = math.cos(dec1) * math.sin(dec2) - math.sin(dec1) * math.cos(dec2) * math.cos(turn)
    near = math.sin(dec1) * math.sin(dec2) + math.cos(dec1) * math.cos(dec2) * math.cos(turn)
    return math.degrees(math.atan2(math.hypot(across, along), near))

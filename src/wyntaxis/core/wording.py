"""How numbers are written in arithmetic, remedies and rows: fixed decimals, a real minus sign, units beside them."""

from __future__ import annotations

import datetime
import math
from collections.abc import Sequence
from functools import lru_cache

MINUS = "\N{MINUS SIGN}"


@lru_cache(maxsize=8192)
def number(value: float, decimals: int) -> str:
    """Return a value with fixed decimals and a real minus sign; a rounded zero has no sign."""
    if not math.isfinite(value):
        return "∞" if value > 0 else f"{MINUS}∞"
    text = f"{value:.{decimals}f}"
    if float(text) == 0:
        text = text.removeprefix("-")
    return text.replace("-", MINUS)


def signed(value: float, decimals: int) -> str:
    """Return a value with its sign, plus or minus; a rounded zero has none."""
    text = number(value, decimals)
    return text if text.startswith(MINUS) or float(text) == 0 else f"+{text}"


def plus_minus(value: float, standard: float, decimals: int) -> str:
    """Return ``value ± standard``, both to the uncertainty's second digit (JCGM 100:2008, 7.2.6).

    ``decimals`` is what the value has where it has no uncertainty, or none that is a number.
    """
    if not math.isfinite(standard) or standard <= 0:
        return f"{number(value, decimals)} ± {number(standard, decimals)}"
    places = 1 - math.floor(math.log10(float(f"{standard:.1e}")))
    shown = max(places, 0)
    return f"{number(round(value, places), shown)} ± {number(round(standard, places), shown)}"


def short(value: float, decimals: int = 3) -> str:
    """Return a value as people type it: up to ``decimals`` decimals, no zeros at the end."""
    text = number(value, decimals)
    return text.rstrip("0").rstrip(".") if "." in text else text


def terms(values: list[float], decimals: int) -> str:
    """Return a sum written out: ``12.00 + 3.50 − 0.25``."""
    if not values:
        return number(0, decimals)
    text = number(values[0], decimals)
    for value in values[1:]:
        text += f" {MINUS} {number(-value, decimals)}" if value < 0 else f" + {number(value, decimals)}"
    return text


def counted(count: int, noun: str) -> str:
    """Return ``1 list`` or ``3 lists``: a number with its noun, whose plural ends in s."""
    return f"{count} {noun}" if count == 1 else f"{count} {noun}s"


def listed(entries: Sequence[str]) -> str:
    """Return entries as they are listed in a sentence: ``L, R and G``."""
    *first, last = entries
    return f"{', '.join(first)} and {last}" if first else last


def sentence(text: str) -> str:
    """Return a text as a sentence, with a capital and a full stop; an empty one as it is."""
    return f"{text[:1].upper()}{text[1:]}." if text else ""


def utc_stamp() -> str:
    """Return the present moment as evidence and records hold it: UTC, to the second, such as 2026-03-01T21:04:05Z."""
    return datetime.datetime.now(datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def moment(stamp: str) -> str:
    """Return a time of the file as it is read under a heading that says UTC: ``2026-11-24 21:30:00``."""
    return stamp.replace("T", " ").rstrip("Z")

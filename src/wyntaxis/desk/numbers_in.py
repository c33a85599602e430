"""Numbers as people type them: a comma or a point, a real minus sign, the field's own unit or none.

A text that can be read as two numbers is refused: ``1,000`` is one to some and a thousand to others.
"""

from __future__ import annotations

import math
import re

from wyntaxis.core.wording import short
from wyntaxis.desk.arithmetic import worked_out

_SAME_UNIT = {"µm": {"um", "μm"}, "″": {'"', "arcsec"}, "°": {"deg"}}

_AMBIGUOUS = re.compile(r"([-+]?)([1-9]\d{0,2}),(\d{3})")
"""A comma that may stand before decimals or between thousands."""
_RATIO = re.compile(r"[fF]\s*/\s*([\d.,]+)")
"""A focal ratio as it is written on a telescope."""


def parse_number(text: str, unit: str = "") -> float | None:
    """Return the number in a text, or None for an empty one; a sum is worked out, and another unit converted.

    Raises
    ------
    ValueError
        With a sentence for the user, when the text is no finite number, carries another unit, or can be read in two
        ways.
    """
    try:
        return _plain_number(text, unit)
    except UnreadableError as error:
        if unit == "" and (ratio := _RATIO.fullmatch(text.strip())) is not None:
            return _plain_number(ratio[1], "")
        plain = text.replace("\N{MINUS SIGN}", "-").replace("\N{NO-BREAK SPACE}", "")
        found = worked_out(plain, unit, lambda own: float(_plain_number(own) or 0.0))
        if found is None:
            raise ValueError(str(error)) from None
        # As many digits as a person would write: 23.4 mm / 6000 is 3.9 µm, not 3.9000000000000004.
        return float(f"{found:.12g}")


class UnreadableError(ValueError):
    """A text that is no plain number in the field's unit; it may still be a sum, or be in another unit."""


def understood(text: str, unit: str = "") -> str:
    """Return what was understood of a sum or of another unit, such as ``= 3.9 µm``; empty for a plain number."""
    try:
        _plain_number(text, unit)
    except UnreadableError:
        try:
            value = parse_number(text, unit)
        except ValueError:
            return ""
        return f"= {short(value, 6)} {unit}".rstrip() if value is not None else ""
    except ValueError:
        return ""
    return ""


def _plain_number(text: str, unit: str = "") -> float | None:
    plain = text.strip()
    for name in {unit} | _SAME_UNIT.get(unit, set()):
        if name:
            plain = plain.removesuffix(name).strip()
    if not plain:
        return None
    plain = plain.replace("\N{MINUS SIGN}", "-").replace("\N{NO-BREAK SPACE}", "")
    two_ways = _AMBIGUOUS.fullmatch(plain)
    if two_ways is not None:
        sign, head, tail = two_ways.groups()
        decimal, whole = f"{sign}{head}.{tail}".rstrip("0").rstrip("."), f"{sign}{head}{tail}"
        raise ValueError(f"“{text.strip()[:40]}” can be read as {decimal} or as {whole}: write {decimal} or {whole}")
    if plain.count(",") == 1 and "." not in plain:
        plain = plain.replace(",", ".")
    wanted = f"a number in {unit}" if unit else "a number"
    try:
        value = float(plain)
    except ValueError:
        raise UnreadableError(f"“{text.strip()[:40]}” is not {wanted}") from None
    if not math.isfinite(value) or "_" in plain:
        raise UnreadableError(f"“{text.strip()[:40]}” is not {wanted}")
    return value

"""Numbers as people type them: a comma or a point, a real minus sign, the field's own unit or none.

A text that can be read as two numbers is refused: ``1,000`` is one to some and a thousand to others.
"""

from __future__ import annotations

import math
import re

_SAME_UNIT = {"µm": {"um", "μm"}, "″": {'"', "arcsec"}, "°": {"deg"}}

_AMBIGUOUS = re.compile(r"([-+]?)([1-9]\d{0,2}),(\d{3})")
"""A comma that may stand before decimals or between thousands."""


def parse_number(text: str, unit: str = "") -> float | None:
    """Return the number in a text, or None for an empty one.

    Raises
    ------
    ValueError
        With a sentence for the user, when the text is no finite number, carries another unit, or can be read in two
        ways.
    """
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
        raise ValueError(f"“{text.strip()[:40]}” is not {wanted}") from None
    if not math.isfinite(value) or "_" in plain:
        raise ValueError(f"“{text.strip()[:40]}” is not {wanted}")
    return value

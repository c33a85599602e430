"""Numbers as people type them: a comma or a point, a real minus sign, the field's own unit or none."""

from __future__ import annotations

import math

_SAME_UNIT = {"µm": {"um", "μm"}, "″": {'"', "arcsec"}, "°": {"deg"}}


def parse_number(text: str, unit: str = "") -> float | None:
    """Return the number in a text, or None for an empty one.

    Raises
    ------
    ValueError
        With a sentence for the user, when the text is no finite number or carries another unit.
    """
    plain = text.strip()
    for name in {unit} | _SAME_UNIT.get(unit, set()):
        if name:
            plain = plain.removesuffix(name).strip()
    if not plain:
        return None
    plain = plain.replace("\N{MINUS SIGN}", "-").replace("\N{NO-BREAK SPACE}", "")
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

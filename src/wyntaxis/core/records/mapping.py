"""Through a key map to our quantities: what the rules find in a file, and what the names of its paths suggest."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from wyntaxis.core.evidence.foreign.keymap import LIST_SEPARATORS, LONGEST_PATH, KeyRule, matches, stable_path
from wyntaxis.core.evidence.foreign.readers import Flat
from wyntaxis.core.evidence.foreign.units import foreign_number_in, parse_foreign_truth
from wyntaxis.core.records.quantities import Comparable, Value


@dataclass(frozen=True)
class MappedFile:
    """What a map found in a file: our quantities with their values, and a line for each rule that did not work."""

    values: dict[str, Value]
    faults: tuple[str, ...]


def apply_map(rules: Sequence[KeyRule], values: Flat, known: dict[str, Comparable]) -> MappedFile:
    """Return the quantities that rules find in flattened values, in our units."""
    found: dict[str, Value] = {}
    faults: list[str] = []
    for rule in rules:
        kind = known.get(rule.quantity)
        if kind is None:
            faults.append(f"{rule.path}: {rule.quantity} is nothing that this rig knows; point the path at another")
            continue
        paths = matches(rule.path, values)
        if not paths:
            faults.append(f"{rule.path}: is not in the file")
            continue
        try:
            found[rule.quantity] = _value(rule, kind, [values[path] for path in paths])
        except ValueError as error:
            faults.append(f"{rule.path}: {error}")
    return MappedFile(found, tuple(faults))


def _value(rule: KeyRule, kind: Comparable, raw: list[Any]) -> Value:
    if kind.type == "list":
        if rule.separator is not None and len(raw) == 1:
            mark = LIST_SEPARATORS[rule.separator]
            return tuple(part.strip() for part in _as_text(raw[0]).split(mark))
        return tuple(_as_text(value) for value in raw)
    if len(raw) > 1:
        raise ValueError(f"{len(raw)} values match, but one is wanted: name a single path")
    value = raw[0]
    if value is None or value == "":
        raise ValueError("holds no value")
    shown_value = f"“{str(value)[:40]}” "
    try:
        if kind.type == "truth":
            return parse_foreign_truth(value)
        if kind.type == "number":
            expected = kind.value if isinstance(kind.value, (int, float)) else None
            return foreign_number_in(value, rule.unit or kind.unit, kind.unit, expected)
    except ValueError as error:
        raise ValueError(f"{shown_value}{error}") from None
    return _as_text(value)


def _as_text(value: str) -> str:
    if value is None:
        return ""
    return f"{value:.10g}" if isinstance(value, float) else str(value).strip()


_WORDS = {
    "focallength": "effective_focal_length_mm",
    "focallen": "effective_focal_length_mm",
    "aperture": "aperture_mm",
    "aptdia": "aperture_mm",
    "pixelsize": "pixel_um",
    "xpixsz": "pixel_um",
    "latitude": "site.latitude_deg",
    "sitelat": "site.latitude_deg",
    "longitude": "site.longitude_deg",
    "sitelong": "site.longitude_deg",
    "elevation": "site.elevation_m",
    "siteelev": "site.elevation_m",
}


_LAST_WORD = re.compile(r"[.\[\]\"]")


def _plain(word: str) -> str:
    return re.sub(r"[^a-z]", "", word.lower())


class Suggestions:
    """What the last words of paths suggest, for the quantities of one rig."""

    def __init__(self, known: dict[str, Comparable]) -> None:
        ends: dict[str, list[str]] = {}
        for key in known:
            ends.setdefault(_plain(key.rpartition(".")[2]), []).append(key)
        # A word that several quantities end in, such as the gain of two cameras, suggests none of them.
        self._by_word = {word: keys[0] for word, keys in ends.items() if len(keys) == 1}
        self._by_word |= {word: key for word, key in _WORDS.items() if key in known}

    def of(self, path: str) -> str | None:
        """Return the quantity that a path's last word suggests, None where nothing does."""
        word = _plain(_LAST_WORD.split(path.rstrip('"]0123456789['))[-1])
        return self._by_word.get(word) if word else None

    def rules(self, values: Flat) -> list[KeyRule]:
        """Return a rule for each quantity that a path of a file suggests, the first path of each."""
        found: dict[str, KeyRule] = {}
        for path, value in values.items():
            quantity = self.of(path) if value not in (None, "") and len(path) <= LONGEST_PATH else None
            if quantity is not None and quantity not in found:
                found[quantity] = KeyRule(path=stable_path(path, values), quantity=quantity)
        return list(found.values())

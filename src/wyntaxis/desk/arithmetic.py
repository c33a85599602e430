"""Sums and other units as people type them into a field: ``23.4 mm / 6000``, ``2 in``, ``(12.9 + 0.5) mm``."""

from __future__ import annotations

import math
import re
from collections.abc import Callable

from wyntaxis.core.evidence.foreign.units import convert, unit_named, units_for

MAX_LENGTH, MAX_DEPTH = 200, 20
_NUMBER, _SIGN = r"\d[\d.,]*(?:[eE][+-]?\d+)?", r"[-+*/()×·÷]"
_UNIT = r"[^\W\d][^\W\d]*(?:/[^\W\d]+)?|[°′″µ%'\"]+[^\W\d]*"
_TOKEN = re.compile(rf"\s*(?:({_NUMBER})|({_SIGN})|({_UNIT}))")
_SIGNS = {"×": "*", "·": "*", "÷": "/"}
_AFTER_ZERO = frozenset({"K", "°F"})


class _Sum:
    """Reads one line of arithmetic; each value is a number, and whether it is in the field's unit."""

    def __init__(self, text: str, unit: str, plain: Callable[[str], float]) -> None:
        self._unit, self._plain, self._depth = unit, plain, 0
        self._tokens: list[tuple[str, str]] = []
        at = 0
        while at < len(text.rstrip()):
            found = _TOKEN.match(text, at)
            if found is None:
                raise ValueError
            kind = "number" if found[1] else "sign" if found[2] else "unit"
            self._tokens.append((kind, found[found.lastindex or 0]))
            at = found.end()
        self._at = 0

    def value(self) -> float:
        """Return what the line comes to, in the field's unit."""
        value, _ = self._terms()
        if self._at < len(self._tokens) or not math.isfinite(value):
            raise ValueError
        return value

    def _next(self) -> tuple[str, str]:
        return self._tokens[self._at] if self._at < len(self._tokens) else ("end", "")

    def _take(self, *signs: str) -> str:
        kind, text = self._next()
        text = _SIGNS.get(text, text)
        if kind == "sign" and text in signs:
            self._at += 1
            return text
        return ""

    def _terms(self) -> tuple[float, bool]:
        value, in_unit = self._factors()
        while sign := self._take("+", "-"):
            other, other_in_unit = self._factors()
            # A plain number beside a length is one: "12.9 mm + 0.5".
            value, in_unit = value + (other if sign == "+" else -other), in_unit or other_in_unit
        return value, in_unit

    def _factors(self) -> tuple[float, bool]:
        value, in_unit = self._one()
        while sign := self._take("*", "/"):
            other, other_in_unit = self._one()
            if sign == "*":
                if in_unit and other_in_unit:
                    raise ValueError  # an area, or worse
                value, in_unit = value * other, in_unit or other_in_unit
            elif not other or (other_in_unit and not in_unit):
                raise ValueError
            else:
                value, in_unit = value / other, in_unit and not other_in_unit
        return value, in_unit

    def _one(self) -> tuple[float, bool]:
        self._depth += 1
        if self._depth > MAX_DEPTH:
            raise ValueError
        sign = -1.0 if self._take("-", "+") == "-" else 1.0
        kind, text = self._next()
        if self._take("("):
            value, in_unit = self._terms()
            if not self._take(")"):
                raise ValueError
        elif kind == "number":
            self._at += 1
            value, in_unit = self._plain(text), False
        else:
            raise ValueError
        self._depth -= 1
        if self._next()[0] == "unit":
            if in_unit:
                raise ValueError
            value, in_unit = self._in_unit(value, self._next()[1]), True
            self._at += 1
        return sign * value, in_unit

    def _in_unit(self, value: float, word: str) -> float:
        written_in = unit_named(word) or word
        if written_in in _AFTER_ZERO and len(self._tokens) > 2:
            raise ValueError  # a sum of temperatures of another zero means nothing
        if not self._unit and written_in not in units_for(self._unit):
            raise ValueError
        return convert(value, written_in, self._unit)


def worked_out(text: str, unit: str, plain: Callable[[str], float]) -> float | None:
    """Return what a line of arithmetic comes to, or a number in another unit; None for what is neither.

    Parameters
    ----------
    text
        What was typed; nothing of it is run, only + − × ÷, parentheses, numbers and units are read.
    unit
        The field's unit, in which the value is wanted. A plain result counts as in it.
    plain
        What reads one number, and refuses one that can be read in two ways.
    """
    if len(text) > MAX_LENGTH or not any(char.isdigit() for char in text):
        return None
    try:
        reader = _Sum(text, unit, _guarded(plain))
        return reader.value()
    except _UnclearError as error:
        raise ValueError(str(error)) from None
    except (ValueError, OverflowError, RecursionError):
        return None


class _UnclearError(Exception):
    """A number that can be read in two ways: the field says so."""


def _guarded(plain: Callable[[str], float]) -> Callable[[str], float]:
    def read(text: str) -> float:
        try:
            return plain(text)
        except ValueError as error:
            if "can be read as" in str(error):
                raise _UnclearError(str(error)) from None
            raise

    return read

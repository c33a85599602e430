"""Sentences of findings: templates with named values, filled in at this one place.

A field of a template is ``{name}`` or ``{name:form}``. The forms:

======  ==================================================  ===============
form    value                                               reads
======  ==================================================  ===============
(none)  text as it is; a number without needless zeros      ``12.5``
``2``   a number with so many decimals                      ``12.50``
``+2``  the same with its sign                              ``+12.50``
``±2``  a value with its standard uncertainty               ``12.50 ± 0.03``
======  ==================================================  ===============
"""

from __future__ import annotations

import string
from collections.abc import Mapping
from functools import lru_cache
from typing import Protocol

from wyntaxis.core.wording import number, plus_minus, short, signed


class Uncertain(Protocol):
    """A value with its standard uncertainty, in one unit."""

    @property
    def value(self) -> float: ...

    @property
    def uncertainty(self) -> float: ...


Named = str | float | Uncertain
"""What a template can name: text, a number, or a value with its standard uncertainty."""


@lru_cache(maxsize=1024)
def _pieces(template: str) -> tuple[tuple[str, str | None, str], ...]:
    return tuple((text, name, form or "") for text, name, form, _ in string.Formatter().parse(template))


def names_in(template: str) -> frozenset[str]:
    """Return the names of the values that a template asks for."""
    return frozenset(name for _, name, _ in _pieces(template) if name is not None)


def render(template: str, values: Mapping[str, Named]) -> str:
    """Return a template with its values filled in.

    Parameters
    ----------
    template : str
        Text with fields, see the module.
    values : mapping of str to str, float or Uncertain
        By name; more than the template asks for do no harm.

    Returns
    -------
    str
        The sentence.

    Raises
    ------
    KeyError
        When a value is missing.
    TypeError
        When a value does not suit its form.
    """
    found = []
    for text, name, form in _pieces(template):
        found.append(text)
        if name is not None:
            found.append(_text(values[name], form))
    return "".join(found)


def _text(value: Named, form: str) -> str:
    if isinstance(value, str):
        return value
    if form.startswith("±"):
        if isinstance(value, (int, float)):
            raise TypeError("a number without uncertainty cannot be written with ±")
        return plus_minus(value.value, value.uncertainty, int(form[1:]))
    plain = value if isinstance(value, (int, float)) else value.value
    if not form:
        return short(plain)
    return signed(plain, int(form[1:])) if form.startswith("+") else number(plain, int(form))

"""Names as programs write them: when two are one, of cameras, telescopes and filters, with the imager's own aliases.

One rule for all comparisons: capitals, spaces and marks do not count; programs put a maker or a number before or
behind a device's name; a filter has aliases in one table, which the file ``filter-names.json`` extends.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field, ValidationError

from wyntaxis.core.files.errors import InputError, describe
from wyntaxis.core.files.opening import is_there, parse_json, read_bytes
from wyntaxis.core.files.places import own_filter_names_path
from wyntaxis.core.rig.base import StrictModel, Text

FORMAT = "wyntaxis-filter-names"
FILTER_ALIASES: Mapping[str, tuple[str, ...]] = {
    "L": ("lum", "luminance", "luminosity"),
    "R": ("red",),
    "G": ("green",),
    "B": ("blue",),
    "Ha": ("h-alpha", "hydrogen alpha", "hα"),
    "Hb": ("h-beta", "hydrogen beta", "hβ"),
    "OIII": ("o3", "oxygen iii", "oxygen 3"),
    "SII": ("s2", "sulfur ii", "sulphur ii"),
    "NII": ("n2", "nitrogen ii"),
    "Clear": ("c", "clr"),
}
"""What else a filter is called; spaces, hyphens and brackets do not count."""


class OwnFilterNames(StrictModel):
    """The file of the imager's own aliases: by the filter's name, what else it is called."""

    format: Literal["wyntaxis-filter-names"]
    version: Literal[1] = 1
    names: Annotated[
        dict[Text, Annotated[tuple[Text, ...], Field(strict=False, max_length=50)]], Field(max_length=200)
    ] = Field(default_factory=dict)


def _plain(name: str) -> str:
    return re.sub(r"[\s_\-\[\]().]+", "", name.casefold())


@dataclass(frozen=True)
class FilterNames:
    """Filters by any of their names."""

    keys: Mapping[str, str]

    @classmethod
    def of(cls, own: Mapping[str, tuple[str, ...]]) -> FilterNames:
        """Return the usual aliases, with the imager's own before them."""
        keys: dict[str, str] = {}
        for table in (FILTER_ALIASES, own):
            for name, aliases in table.items():
                key = keys.get(_plain(name), _plain(name))
                keys |= {_plain(word): key for word in (name, *aliases)}
        return cls(keys)

    def key(self, name: str) -> str:
        """Return what stands for a filter whatever it is called."""
        plain = _plain(name)
        return self.keys.get(plain, plain)

    def same(self, one: str, other: str) -> bool:
        return self.key(one) == self.key(other)


DEFAULT_FILTER_NAMES = FilterNames.of({})


def own_filter_names() -> FilterNames:
    """Return the filters' names with the imager's own, from where the file of them stands.

    Returns
    -------
    FilterNames
        Names and aliases.

    Raises
    ------
    InputError
        With one line, when the file cannot be read.
    """
    return load_filter_names(own_filter_names_path())


def load_filter_names(path: Path) -> FilterNames:
    """Return the filters' names with the imager's own of a file, where there is one.

    Returns
    -------
    FilterNames
        Names and aliases.

    Raises
    ------
    InputError
        With one line, when the file cannot be read.
    """
    if not is_there(path):
        return DEFAULT_FILTER_NAMES
    try:
        document = parse_json(read_bytes(path))
        if not isinstance(document, dict) or document.get("format") != FORMAT:
            raise InputError(f'format: must be "{FORMAT}"; is it a file of filter names?')
        return FilterNames.of(OwnFilterNames.model_validate(document).names)
    except ValidationError as error:
        raise InputError(describe(error, OwnFilterNames), path) from None
    except InputError as error:
        raise error.about(path) from None


def same_device_name(one: str, other: str) -> bool:
    """Return whether two names are one device's: programs put maker or number before or behind.

    Parameters
    ----------
    one
        A name.
    other
        Another name.

    Returns
    -------
    bool
        Whether they are.
    """
    first, second = (" ".join(name.casefold().split()) for name in (one, other))
    return bool(first and second) and (first in second or second in first)

"""Settings of the imager's own: what once helped, on which device, program or part, why, and what it may be."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Annotated

from pydantic import BeforeValidator, Field

from wyntaxis.core.rig.base import Finite, Note, StrictModel, Text
from wyntaxis.core.rig.display import Display

YES, NO = ("yes", "on", "true"), ("no", "off", "false")
MAX_OWN = 100


def as_typed(value: object) -> object:
    """Return what was typed as what it is: a number, yes or no; a text as it is.

    A number that would be written otherwise, as a version 2.10 or a code 007, stays a text.
    """
    if not isinstance(value, str):
        return value
    plain = value.strip()
    if plain.casefold() in (*YES, *NO):
        return plain.casefold() in YES
    if re.fullmatch(r"[-+−]?[0-9]+([.,][0-9]+)?", plain):
        number = float(plain.replace("−", "-").replace(",", "."))
        if f"{number:.12g}" == plain.replace("−", "-").replace(",", ".").lstrip("+"):
            return number
    return value


def all_as_typed(value: object) -> object:
    """Return a list of what was typed."""
    return [as_typed(entry) for entry in value] if isinstance(value, (list, tuple)) else value


OwnValue = Annotated[str, Field(min_length=1, max_length=400)] | bool | Finite


class OwnSetting(StrictModel):
    """One setting: its name, value and unit, why it is so, and what it may be.

    ``allowed`` holds the least and the greatest number, or the choices; ``date`` since when it is so.
    """

    name: Annotated[Text, Display("Setting")]
    value: Annotated[OwnValue, BeforeValidator(as_typed), Display("Value")]
    unit: Annotated[Text | None, Display("Unit")] = None
    why: Annotated[Note | None, Display("Why")] = None
    allowed: Annotated[
        Annotated[tuple[OwnValue, ...], BeforeValidator(all_as_typed), Field(strict=False, max_length=50)],
        Display("Allowed", listed=True),
    ] = ()
    date: Text | None = None

    @property
    def key(self) -> str:
        """What it is known by among the settings of its device, program or part."""
        return re.sub(r"[^a-z0-9]+", "_", self.name.casefold()).strip("_") or "setting"

    @property
    def bounds(self) -> tuple[float, float] | None:
        """The least and the greatest value of a number; None where choices are allowed, or anything."""
        numbers = [value for value in self.allowed if isinstance(value, float | int) and not isinstance(value, bool)]
        is_number = isinstance(self.value, float | int) and not isinstance(self.value, bool)
        return (numbers[0], numbers[1]) if is_number and len(numbers) == len(self.allowed) == 2 else None

    @property
    def is_allowed(self) -> bool:
        """Whether the value is one that it may be; also where nothing is said of that."""
        if self.bounds is not None:
            return self.bounds[0] <= float(self.value) <= self.bounds[1]
        return not self.allowed or self.value in self.allowed


OwnSettings = Annotated[tuple[OwnSetting, ...], Field(strict=False, max_length=MAX_OWN)]


def check_names(settings: Sequence[OwnSetting]) -> None:
    """Check that each setting has a name of its own.

    Raises
    ------
    ValueError
        For two that are known by the same.
    """
    for place, setting in enumerate(settings):
        if any(setting.key == other.key for other in settings[:place]):
            raise ValueError(f'own_settings: "{setting.name}" is there twice; name each differently')

"""What all models of our files share: the strict base, and the kinds of text and number they take."""

from __future__ import annotations

import os
import re
from typing import Annotated

os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")  # nothing of others runs while a file is read

from pydantic import AfterValidator, BaseModel, ConfigDict, Field

_THREAD = re.compile(r"M[0-9]+(\.[0-9]+)?x[0-9]+(\.[0-9]+)?")
_UNSHOWABLE = re.compile(r"[\x00-\x1f\x7f\ud800-\udfff]")
_LOOKS_METRIC = re.compile(r"[Mm]\s*[0-9]")


def _plain_text(text: str) -> str:
    """Refuse control characters and lone surrogates, which no display or UTF-8 file can hold."""
    if _UNSHOWABLE.search(text):
        raise ValueError("must not hold control characters or broken Unicode")
    return text


def _thread(text: str) -> str:
    if _LOOKS_METRIC.match(text) and not _THREAD.fullmatch(text):
        raise ValueError("must be M<diameter>x<pitch> such as M48x0.75, or a name such as 2in")
    return text


DocumentPath = tuple[str | int, ...]
"""Where a value stands in the document: keys, and places in lists."""

SMALLEST = 1e-6
"""Nothing in a rig is smaller and not zero; below this the arithmetic would divide by what rounding left."""


def not_vanishing(value: float) -> float:
    """Return a value that is not below :data:`SMALLEST`; ValueError for one that is."""
    if value < SMALLEST:
        raise ValueError(f"must be at least {SMALLEST:g}, got {value:g}")
    return value


Text = Annotated[str, Field(min_length=1, max_length=200), AfterValidator(_plain_text)]
Note = Annotated[str, Field(max_length=4000), AfterValidator(_plain_text)]
Id = Annotated[str, Field(min_length=1, max_length=64), AfterValidator(_plain_text)]
Thread = Annotated[str, Field(min_length=1, max_length=40), AfterValidator(_plain_text), AfterValidator(_thread)]
# Upper bounds keep a slip of the unit (µm for mm, m for mm) and hostile numbers out of the arithmetic.
Length = Annotated[float, Field(ge=0, le=100_000)]
PositiveLength = Annotated[float, Field(gt=0, le=100_000), AfterValidator(not_vanishing)]
Mass = Annotated[float, Field(ge=0, le=1e6)]
Seconds = Annotated[float, Field(gt=0, le=1e7), AfterValidator(not_vanishing)]
SkyAngle = Annotated[float, Field(gt=0, le=648_000), AfterValidator(not_vanishing)]
Finite = Annotated[float, Field(ge=-1e12, le=1e12)]


class StrictModel(BaseModel):
    """The base of everything in our files: frozen, no unknown keys, no text for a number, no NaN."""

    model_config = ConfigDict(
        strict=True, extra="forbid", frozen=True, allow_inf_nan=False, validate_default=False, defer_build=True
    )

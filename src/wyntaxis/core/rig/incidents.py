"""Incidents: what went wrong on a night, what was tried, and what cured it."""

from typing import Annotated, Literal, Self, get_args

from pydantic import Field, model_validator

from wyntaxis.core.rig.base import Id, Note, StrictModel, Text
from wyntaxis.core.rig.display import Display

Symptom = Literal[
    "no focus at all",
    "defocused stars",
    "the field is not solved",
    "the device is not there",
    "the run waits for ever",
    "embossed flats",
    "warm frames",
    "trailed stars",
    "guiding lost",
    "the program crashed",
    "frames not saved",
    "power gone",
]
"""The shipped symptoms; words of one's own do as well."""
SYMPTOMS: tuple[str, ...] = get_args(Symptom)


class Incident(StrictModel):
    """One incident: of a device, a program or a step; ``date`` as ISO 8601, a day or a moment in UTC."""

    date: Annotated[Text, Display("Date")]
    device: Annotated[Id | None, Display("Device")] = None
    program: Annotated[Id | None, Display("Program")] = None
    step: Annotated[Id | None, Display("Step")] = None
    symptom: Annotated[Annotated[str, Field(min_length=1, max_length=400)], Display("Symptom")]
    tried: Annotated[Note | None, Display("Tried")] = None
    cure: Annotated[Note | None, Display("Cure")] = None
    frames_lost: Annotated[Annotated[int, Field(ge=0, le=1_000_000)] | None, Display("Frames lost")] = None

    @model_validator(mode="after")
    def _is_about_one_thing(self) -> Self:
        if sum(about is not None for about in (self.device, self.program, self.step)) > 1:
            raise ValueError("an incident is of a device, a program or a step: name one of them")
        return self

    @property
    def about(self) -> str | None:
        """The id of the device, program or step that it is of; None where it is of none."""
        return self.device or self.program or self.step

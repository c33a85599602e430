"""The programs that drive a rig: what each is for, where it runs, which devices it drives, and what it needs."""

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from wyntaxis.core.rig.base import Id, Note, StrictModel, Text
from wyntaxis.core.rig.display import Display
from wyntaxis.core.rig.own_settings import OwnSettings, check_names

ProgramRole = Literal[
    "capture",
    "guiding",
    "plate_solving",
    "focusing",
    "device_server",
    "automation",
    "planetarium",
    "polar_alignment",
    "weather",
]


class Program(StrictModel):
    """One program: its roles, the computer that it runs on, and how others reach it.

    ``drives`` are the devices that it speaks to itself, by ``layer`` of drivers where it states one; ``needs`` the
    programs that must run before it starts.
    """

    id: Id
    name: Annotated[Text, Display("Program")]
    roles: Annotated[tuple[ProgramRole, ...], Field(strict=False, max_length=9)] = ()
    version: Annotated[Text | None, Display("Version")] = None
    computer: Annotated[Text | None, Display("Computer")] = None
    host: Annotated[Text | None, Display("Host")] = None
    port: Annotated[Annotated[int, Field(ge=1, le=65535)] | None, Display("TCP port", decimals=0)] = None
    layer: Annotated[Text | None, Display("Driver layer")] = None
    drives: Annotated[tuple[Id, ...], Field(strict=False, max_length=100)] = ()
    needs: Annotated[tuple[Id, ...], Field(strict=False, max_length=20)] = ()
    own_settings: OwnSettings = ()
    note: Annotated[Note | None, Display("Note")] = None

    @model_validator(mode="after")
    def _names_differ(self) -> Self:
        check_names(self.own_settings)
        return self

    @property
    def title(self) -> str:
        """What it is called."""
        return self.name

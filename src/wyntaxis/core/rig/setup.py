"""How a rig stands: permanently, or set up each time; and the conditions of the imager's own."""

from typing import Annotated, Literal

from pydantic import Field

from wyntaxis.core.rig.base import Id, StrictModel, Text
from wyntaxis.core.rig.display import Display

When = Literal["setup", "night", "swap", "monthly"]


class DoneCondition(StrictModel):
    """What became of a condition or a step of the run-up: when (ISO 8601, UTC), and how many minutes it took.

    Without an ``outcome`` it was done.
    """

    condition: Id
    date: Text
    minutes: Annotated[float, Field(ge=0, le=100_000)] | None = None
    outcome: Literal["done", "not_now", "failed"] | None = None


class Setup(StrictModel):
    """How the rig stands; of a carried one when the present set-up was begun.

    One that is left outside under a cover (``covered``) stands as it was measured, as a permanent one does.
    """

    kind: Annotated[Literal["permanent", "carried", "covered"], Display("The rig is")]
    date: Annotated[Text | None, Display("Set up since (UTC)")] = None
    done: Annotated[tuple[DoneCondition, ...], Field(strict=False, max_length=5000)] = ()


class OwnCondition(StrictModel):
    """A condition in the imager's own words, and when it applies."""

    id: Id
    text: Annotated[Text, Display("Condition")]
    when: Annotated[When, Display("Each")] = "setup"
    before_dark: Annotated[bool, Display("Before dark")] = True
    required: Annotated[bool, Display("Required")] = True


USUAL_CONDITIONS: tuple[OwnCondition, ...] = (
    OwnCondition(id="levelled", text="The mount is levelled"),
    OwnCondition(id="balanced", text="Balanced, with the camera mounted and the cables on"),
    OwnCondition(id="collimated", text="Collimated", when="swap", required=False),
    OwnCondition(id="cap_off", text="The dust cap is off", when="night"),
    OwnCondition(id="mask_off", text="The focus mask is off", when="night", before_dark=False),
    OwnCondition(id="auto_off", text="The camera body's auto-off is disabled", required=False),
    OwnCondition(id="card_empty", text="The memory card is emptied", when="night", required=False),
    OwnCondition(id="charged", text="The battery is charged", when="night"),
    OwnCondition(id="dew_heaters", text="The dew heaters are on", when="night", before_dark=False),
    OwnCondition(id="red_lamp", text="The red lamp is at hand", when="night", required=False),
)
"""What a new list begins with; all of it to be edited."""
COVER_OFF = OwnCondition(id="rain_cover_off", text="The rain cover is off, and all beneath is dry", when="night")
STANDS_AS_LEFT = ("levelled",)
"""What need not be done again where the rig stays outside."""


def usual_conditions(setup: Setup | None) -> tuple[OwnCondition, ...]:
    """Return what a new list begins with, for how a rig stands."""
    if setup is None or setup.kind != "covered":
        return USUAL_CONDITIONS
    return (COVER_OFF, *(own for own in USUAL_CONDITIONS if own.id not in STANDS_AS_LEFT))

"""The plan of the night in the document: steps in order, each with its limit and attempts, and who watches over it."""

from typing import Annotated, Literal

from pydantic import Field

from wyntaxis.core.rig.base import Id, Seconds, StrictModel, Text
from wyntaxis.core.rig.display import Display

Action = Literal[
    "outlets_on",
    "connect",
    "cool",
    "open_roof",
    "open_cover",
    "unpark",
    "wait_dark",
    "slew",
    "solve",
    "rotate",
    "rough_focus",
    "focus",
    "calibrate_guiding",
    "guide",
    "sequence",
    "flats",
    "darks",
    "stop_guiding",
    "park",
    "close_cover",
    "close_roof",
    "warm_up",
    "disconnect",
    "outlets_off",
]
"""What a step does."""
RunOut = Literal["go_on", "skip", "skip_target", "repeat_block", "wait", "end_safely", "end_now"]
"""What comes when the attempts have run out: the next step; the next target (``skip`` is its older name); the block, or
without one what leads to the object, once more from its beginning; wait for it and try on; the closing steps; nothing.
"""
SKIPS: tuple[RunOut, ...] = ("skip", "skip_target")
MOMENT = r"^(twilight|altitude|flip|([01]?[0-9]|2[0-3]):[0-5][0-9])$"
Moment = Annotated[str, Field(pattern=MOMENT)]
"""A moment of the night: a clock time in UTC as 21:30; ``twilight``, where the dark begins or ends; ``altitude``, where
the target rises over the least altitude or sinks below it; ``flip``, where the mount has to flip."""

CLOSING: tuple[str, ...] = ("stop_guiding", "park", "close_cover", "close_roof", "warm_up", "disconnect", "outlets_off")
"""Steps that end the night, in the order in which a safe end takes them."""


class NightStep(StrictModel):
    """One step: what is done, by which device where there are several, and for how long it is waited.

    ``limit_s`` is how long one attempt may take, each frame's by itself in a sequence; without it, one waits for ever.
    ``reconnect`` connects the device again before another attempt. Neighbouring steps with the same ``block``
    are repeated together, as often as one of them says; one without a block by itself. ``until`` is how long a wait
    lasts, or a sequence takes frames.
    """

    do: Annotated[Action, Display("Action")]
    device: Annotated[Id | None, Display("Device")] = None
    filter: Annotated[Text | None, Display("Filter")] = None
    frames: Annotated[Annotated[int, Field(ge=1, le=1_000_000)] | None, Display("Frames")] = None
    exposure_s: Annotated[Seconds | None, Display("Exposure", "s")] = None
    limit_s: Annotated[Seconds | None, Display("Time limit", "s")] = None
    attempts: Annotated[Annotated[int, Field(ge=1, le=100)], Display("Attempts")] = 1
    pause_s: Annotated[Annotated[float, Field(ge=0, le=86_400)], Display("Pause between", "s")] = 0.0
    reconnect: Annotated[bool, Display("Reconnects between")] = False
    then: Annotated[RunOut, Display("Then")] = "go_on"
    block: Annotated[Text | None, Display("Block")] = None
    repeat: Annotated[Annotated[int, Field(ge=1, le=1000)] | None, Display("Times")] = None
    until: Annotated[Moment | None, Display("Until (UTC)")] = None


class NightTarget(StrictModel):
    """One object of the night, with its coordinates (ICRS, J2000) and when it may be taken.

    Of the targets that can be taken now, the one of the lowest ``priority`` is; those that state none come last, in
    order. Without ``steps`` of its own it takes the plan's, from the first slew to the last sequence.
    """

    name: Annotated[Text, Display("Target")]
    ra_deg: Annotated[Annotated[float, Field(ge=0, lt=360)], Display("Right ascension", "°")]
    dec_deg: Annotated[Annotated[float, Field(ge=-90, le=90)], Display("Declination", "°")]
    angle_deg: Annotated[Annotated[float, Field(ge=-360, le=360)] | None, Display("Position angle", "°")] = None
    priority: Annotated[Annotated[int, Field(ge=1, le=1000)] | None, Display("Priority")] = None
    min_altitude_deg: Annotated[Annotated[float, Field(ge=-5, le=89)] | None, Display("Least altitude", "°")] = None
    start: Annotated[Moment | None, Display("Not before (UTC)")] = None
    stop: Annotated[Moment | None, Display("Not after (UTC)")] = None
    steps: Annotated[tuple[NightStep, ...], Field(strict=False, max_length=100)] = ()


class NightWatch(StrictModel):
    """Who stops the night: what is polled, how often, what silence means, and what is done.

    ``on_error`` is what follows when the program itself dies or the computer restarts.
    """

    every_s: Annotated[Seconds, Display("Checks the weather every", "s")] = 60.0
    silence_is_unsafe: Annotated[bool, Display("Silence counts as bad weather")] = False
    then: Annotated[Literal["end_safely", "wait"] | None, Display("Bad weather: then")] = None
    on_error: Annotated[Literal["end_safely"] | None, Display("When the program crashes")] = None
    recovers_guiding_s: Annotated[Seconds | None, Display("Star lost: find it again within", "s")] = None
    checks_frames: Annotated[bool, Display("Checks each frame's stars")] = False

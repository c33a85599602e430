"""The events that a guide log's words tell: a star lost, a dither, settled, a stop, a saturated star."""

from __future__ import annotations

import re

LOST, DITHER, SETTLED, STOPPED, SATURATED = "lost", "dither", "settled", "stopped", "saturated"
_EVENTS = tuple(
    (event, re.compile(rf"(?<![a-z])(?<!not )(?<!not yet )(?<!never )(?<!no )(?:{'|'.join(words)})"))
    for event, words in (
        (DITHER, ("dither",)),
        (SETTLED, ("settled", "settling done", "settle done", "settling complete", "settling end", "settle end")),
        (LOST, ("lost", "no star", "star missing", "too faint", "low snr", "star fail")),
        (STOPPED, ("paused", "guiding stop", "guiding end", "stopped", "resumed", "guiding start", "guiding begin")),
        (SATURATED, ("saturated", "saturation")),
    )
)
"""Words that tell an event: whole ones, and not where they are denied; who is unsettled has not settled."""


def event_of(text: str) -> str | None:
    """Return which event some words tell: a dither, the star lost, settled, a stop; None for none."""
    plain = text.lower()
    return next((event for event, words in _EVENTS if words.search(plain)), None)

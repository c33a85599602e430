"""How strong the guide star was: a signal-to-noise ratio or counts, and whether it was saturated."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

import numpy as np

from wyntaxis.core.evidence.guide_log.events import SATURATED
from wyntaxis.core.evidence.guide_log.headings import words_of
from wyntaxis.core.evidence.guide_log.table import Section
from wyntaxis.core.wording import counted

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Flags, Floats

LEAST_CEILING, CEILING_SHARE = 200.0, 0.05
"""A strength of so much or more that stands at its highest in such a share of the frames is cut off there."""


def is_ratio(section: Section) -> bool:
    """Return whether the star's strength is a signal-to-noise ratio, by its heading."""
    place = section.places.get("guide.strength")
    return place is not None and bool({"snr", "s/n"} & {*words_of(section.headings[place.index])})


def saturation_notes(section: Section, strength: Floats | None, lost: Flags) -> Iterator[str]:
    """Yield what says that the guide star is saturated: the log's own words, or a strength that stands at its top.

    Parameters
    ----------
    section
        Rows of a run, with the events among them.
    strength
        Of the star in each frame, (n,), None where the log holds none.
    lost
        Which frames lack the star, (n,).
    """
    said = len({row for row, event in section.events if event == SATURATED})
    if said:
        yield f"the log says in {counted(said, 'place')} that the star is saturated: choose a fainter one"
        return
    if strength is None or is_ratio(section):
        return
    seen = strength[: len(lost)][~lost]
    seen = seen[np.isfinite(seen)]
    top = float(seen.max(initial=0.0))
    share = float(np.mean(seen == top)) if len(seen) else 0.0
    if top >= LEAST_CEILING and CEILING_SHARE <= share < 1:
        yield (
            f"the star's strength is {top:g}, its highest value, in {100 * share:.0f} % of the frames: it may be "
            "saturated"
        )

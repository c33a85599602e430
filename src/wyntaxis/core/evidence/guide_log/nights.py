"""The night of a guided run."""

from __future__ import annotations

import datetime
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from wyntaxis.core.evidence.guide_log.result import MeasuredRun


def night_of_run(own: MeasuredRun) -> str:
    """Return the night of a run, by the day on which its evening lies; a dash where the log tells no date."""
    start = own.run.start_s
    if start is None:
        return own.run.facts.date or "–"
    try:
        moment = datetime.datetime.fromtimestamp(start, datetime.UTC) - datetime.timedelta(hours=12)
    except (ValueError, OverflowError, OSError):
        return "–"
    return moment.date().isoformat()

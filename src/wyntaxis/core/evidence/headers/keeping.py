"""The times of the night's work, as measured by frames' times, kept in the plan."""

from __future__ import annotations

from wyntaxis.core.evidence.headers.overheads import Overheads
from wyntaxis.core.evidence.measured import Origin, measured_value
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.model import Rig

METHOD = "frame_times"
KEPT = ("download", "dither", "wheel", "focus")
"""What is kept: a gap around a flip, or on the way to another object, holds solving and the start of guiding, too."""


def times_change(rig: Rig, found: Overheads, folder: str) -> Change:
    """Return the edit that keeps measured times in the plan.

    Parameters
    ----------
    rig
        Whose plan.
    found
        What the frames' times tell.
    folder
        The frames' folder, by its name.

    Raises
    ------
    ValueError
        In one line, where there is nothing to keep, or no plan to keep it in.
    """
    if rig.plan is None:
        raise ValueError("the rig has no plan to keep times in: state the planned exposure first (Sensor, Plan)")
    known = {action: seconds for action, seconds in found.known.items() if action in KEPT}
    if not known:
        raise ValueError(found.why or "no kind of work was seen often enough, so nothing is kept")
    counts = {own.action: own.count for own in found.times}
    values = tuple(
        (
            ("plan", "times", action, "measured"),
            measured_value(seconds, METHOD, Origin(f"{counts[action]} gaps between frames", folder)),
        )
        for action, seconds in known.items()
    )
    return Change("Keep the times of the night", values)

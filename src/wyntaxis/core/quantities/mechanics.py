"""Whether each telescope's focuser reaches focus, and carries what hangs on it; the gaps that joints leave."""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.ledger import Quantity, QuantityValue, Target, Verdict
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantities.rows import DeviceQuantity, memoized, rows
from wyntaxis.core.rig.parts import Telescope
from wyntaxis.core.steps import LIGHT_PATH
from wyntaxis.core.train.joints import Meeting, meetings
from wyntaxis.core.train.mechanics import FocusReach, Load, load, reach_cases

TRAVEL_RESERVE = 0.1
"""Nearer to either end of the travel than a tenth of it leaves no room for temperature and filters."""

LOAD_PERCENT, LOAD_INNER_PERCENT = 100.0, 80.0
"""A load over four fifths of the rating is tight: ratings are given for a still focuser, level."""

POSITION = DeviceQuantity("focus_position_mm", "Focuser at focus", "mm", 1, LIGHT_PATH)
MASS = DeviceQuantity("load_mass_percent", "Load by mass, share of rating", "%", 0, LIGHT_PATH)
MOMENT = DeviceQuantity("load_moment_percent", "Load by moment, share of rating", "%", 0, LIGHT_PATH)
GAP = DeviceQuantity("joint_gap_mm", "Gap left open before it", "mm", 2, LIGHT_PATH)


@memoized
def reach_of(numbers: Numbers) -> list[tuple[Telescope, FocusReach | None]]:
    """Return each telescope's reach of focus, in mm; see :func:`~wyntaxis.core.train.mechanics.reach_cases`.

    Returns
    -------
    list of tuple
        Telescope and reach; None where it is not known.
    """
    return reach_cases(numbers.rig)


@memoized
def load_of(numbers: Numbers) -> Load:
    """Return what hangs beyond the focuser; see :func:`~wyntaxis.core.train.mechanics.load`.

    Returns
    -------
    Load
        Mass in g, moment in N·m.
    """
    return load(numbers.rig)


@memoized
def joints_of(numbers: Numbers) -> list[Meeting]:
    """Return every joint of the train and the guide path; see :func:`~wyntaxis.core.train.joints.meetings`.

    Returns
    -------
    list of Meeting
        Gaps in mm.
    """
    return meetings(numbers.rig)


@rows
def reach_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield where each focuser stands at focus, within its travel; a thin-lens estimate with its play."""
    for telescope, case in reach_of(numbers):
        if case is None:
            continue
        play, travel = case.uncertain_mm, case.travel_mm
        reserve = max(TRAVEL_RESERVE * travel, play)
        wish = Target(-play, travel + play, reserve, travel - reserve)
        at = QuantityValue(case.position_mm, source=f"thin-lens estimate, good to {play:.1f} mm" if play else "")
        yield POSITION.row(telescope.id, telescope.title, computed=at, target=wish)


@rows
def load_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield mass and moment beyond the focuser as shares of its ratings; open where a part states no mass."""
    telescope, focuser = numbers.rig.telescope, numbers.rig.telescope.focuser
    if focuser is None:
        return
    hangs = load_of(numbers)
    wish = Target(high=LOAD_PERCENT, inner_high=LOAD_INNER_PERCENT)
    ratings = ((MASS, hangs.mass_g, focuser.load_rating_g), (MOMENT, hangs.moment_n_m, focuser.moment_rating_n_m))
    for number_of, value, rating in ratings:
        if rating:
            share = QuantityValue(100 * value / rating)
            unknown = bool(hangs.missing) and wish.judge(share) is not Verdict.FAILS
            verdict = Verdict.UNPROVEN if unknown else None
            yield number_of.row(telescope.id, telescope.title, computed=share, target=wish, verdict=verdict)


@rows
def gap_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield the gap that a thread which bottoms out leaves open at a joint."""
    for meeting in joints_of(numbers):
        if meeting.open_gap_mm != 0 and meeting.rear is not None and meeting.front is not None:
            gap = QuantityValue(meeting.open_gap_mm)
            yield GAP.row(meeting.part_id, meeting.after, computed=gap, target=Target(high=0.0))

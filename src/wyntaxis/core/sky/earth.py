"""Earth's rotation, told for planning: steady, from no table; nothing is ever fetched."""

from __future__ import annotations

import threading
from functools import cache
from typing import Any

FIRST_MJD, LAST_MJD = 0.0, 200_000.0
"""From 1858 to 2406."""
_lock = threading.Lock()


def steady_rotation() -> Any:
    """Return astropy's module of Earth's rotation, set to a steady one and switched off the network for good.

    UT1 is taken for UTC (less than 0.9 s apart, or 14 arcsec of the sky), and the pole for standing still (less than
    1 arcsec): a night's hours are told to the minute, and the tables would take seconds to read. The switches are
    global to the process: they are set once and never back, since two calculations at a time would restore each
    other's.
    """
    from astropy.utils import data, iers

    with _lock:
        data.conf.allow_internet = False
        iers.conf.auto_download = False
        iers.earth_orientation_table.set(_steady())
    return iers


@cache
def _steady() -> Any:
    """Return a table of two lines in which nothing moves."""
    from astropy import units
    from astropy.utils import iers

    nought = [0.0, 0.0]
    columns = {"MJD": [FIRST_MJD, LAST_MJD] * units.d, "UT1_UTC": nought * units.s}
    columns |= dict.fromkeys(("PM_x", "PM_y", "dX_2000A", "dY_2000A"), nought * units.arcsec)
    return iers.IERS(columns)

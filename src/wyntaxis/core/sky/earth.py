"""Earth's rotation from the tables that the package astropy-iers-data shipped with; nothing is ever fetched."""

from __future__ import annotations

import threading
from typing import Any

_lock = threading.Lock()


def offline_tables() -> Any:
    """Return astropy's module of Earth's rotation, switched off the network for good.

    The switches are global to the process: they are set once and never back, since two calculations at a time would
    restore each other's.
    """
    from astropy.utils import data, iers

    with _lock:
        data.conf.allow_internet = False
        iers.conf.auto_download = False
        iers.conf.auto_max_age = None
        iers.conf.iers_degraded_accuracy = "ignore"
    return iers

"""Where the imager's own files live, after the XDG base directory specification."""

from __future__ import annotations

import os
from pathlib import Path


def own_shelf_path() -> Path:
    """Return the shelf file that all rigs share."""
    return _own_folder() / "shelf.json"


def own_maps_path() -> Path:
    """Return the file of key maps that all rigs share."""
    return _own_folder() / "key-maps.json"


def own_filter_names_path() -> Path:
    """Return the file of the imager's own names for filters."""
    return _own_folder() / "filter-names.json"


def state_folder() -> Path:
    """Return the folder for journals and window state, after the XDG base directory specification."""
    base = os.environ.get("XDG_STATE_HOME", "")
    root = Path(base) if base and Path(base).is_absolute() else Path.home() / ".local" / "state"
    return root / "wyntaxis"


def _own_folder() -> Path:
    base = os.environ.get("XDG_DATA_HOME", "")
    root = Path(base) if base and Path(base).is_absolute() else Path.home() / ".local" / "share"
    return root / "wyntaxis"

"""Where the imager's own files live, and the application's state, as the desktop's rules have it."""

from __future__ import annotations

from pathlib import Path

import platformdirs

NAME = "wyntaxis"


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
    """Return the folder for journals, the log of failures and the window's state."""
    return platformdirs.user_state_path(NAME)


def _own_folder() -> Path:
    return platformdirs.user_data_path(NAME)

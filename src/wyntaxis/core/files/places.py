"""Where the imager's own files live, and the application's state, after the XDG base directory specification.

Not by platformdirs: its import alone takes a twentieth of the time until the window's first paint.
"""

from __future__ import annotations

import os
from pathlib import Path

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
    return _base("XDG_STATE_HOME", ".local/state") / NAME


def _own_folder() -> Path:
    return _base("XDG_DATA_HOME", ".local/share") / NAME


def _base(variable: str, default: str) -> Path:
    """Return a base directory: what the variable says, where that is an absolute path, as the specification wants."""
    base = os.environ.get(variable, "")
    return Path(base) if base and Path(base).is_absolute() else home() / default


def home() -> Path:
    """Return the user's home; where the system knows none, a folder of the user's own among the temporary ones."""
    try:
        found = Path.home()
    except RuntimeError:  # neither HOME nor an entry among the users
        found = Path()
    if found.is_absolute():
        return found
    import tempfile

    own = Path(tempfile.gettempdir()) / f"{NAME}-{os.getuid()}"
    if os.path.lexists(own) and (own.is_symlink() or own.stat().st_uid != os.getuid()):
        return Path(tempfile.mkdtemp(prefix=f"{NAME}-"))  # somebody else has taken the name
    return own

"""Where the imager's own files live, after the XDG base directory specification."""

from __future__ import annotations

import os
from pathlib import Path


def own_shelf_path() -> Path:
    """Return the shelf file that all rigs share."""
    base = os.environ.get("XDG_DATA_HOME", "")
    root = Path(base) if base and Path(base).is_absolute() else Path.home() / ".local" / "share"
    return root / "wyntaxis" / "shelf.json"

"""The rig that everybody begins with: nothing in it is given, and what has to stand in a rig is marked as assumed."""

from __future__ import annotations

from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.store import validated

NEW_PART_LENGTH_MM = 10.0
"""The length of a part until somebody gives one."""

_BLANK: JsonObject = {
    "format": "wyntaxis-rig",
    "version": 1,
    "name": "New rig",
    "telescope": {"id": "telescope", "name": "Telescope", "focal_length_mm": 500, "aperture_mm": 100},
    "train": [],
    "guiding": {"kind": "none"},
    "assumed": ["telescope.focal_length_mm", "telescope.aperture_mm"],
}


def blank_rig() -> Rig:
    """Return a rig with no parts, whose telescope nobody has described yet."""
    return validated(_BLANK)


def is_blank(rig: Rig) -> bool:
    """Return whether a rig has nothing in it that anybody gave."""
    return rig == blank_rig()

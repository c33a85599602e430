"""What must be true before an action: the table by which a plan's order is checked as it is played.

A need that is not met fails the action, with what was missing. Two movements are done all the same and are not safe: a
roof that shuts over a telescope that is not parked, and a telescope that moves under a shut roof, unless the rig has an
interlock against it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from wyntaxis.core.rehearsal.setting import SHELTERS

if TYPE_CHECKING:
    from wyntaxis.core.rehearsal.setting import NightSetting
    from wyntaxis.core.rehearsal.state import NightState

TWILIGHT_STARS_S = 2700.0
"""So long before the dark stars are bright enough in the sky to solve and to focus by: the sun is 12° down."""


TWILIGHT_FLATS_S = (2400.0, 4800.0)
"""The sky is even and bright enough for flats so long before and after the dark: the sun is 3° to 10° down."""


@dataclass(frozen=True)
class Need:
    """Something that must be true: what is said where it is not, and how it is known at a time in s."""

    missing: str
    is_met: Callable[[NightSetting, NightState, float], bool]


def _plans(setting: NightSetting, do: str) -> bool:
    return setting.does(do)


POWERED = Need("the outlets are off", lambda own, state, _at: state.powered or not _plans(own, "outlets_on"))
CONNECTED = Need("nothing is connected", lambda _own, state, _at: state.connected)
UNPARKED = Need("the mount is parked", lambda own, state, _at: not own.has("mount") or not state.parked)
ROOF_OPEN = Need("the roof is shut", lambda own, state, _at: not own.has(*SHELTERS) or state.roof_open)
COVER_OPEN = Need("the cover is shut", lambda own, state, _at: not own.has("cover") or state.cover_open)
STARS_OUT = Need(
    "the sky is not dark enough",
    lambda own, _state, at: own.sky.dark_from_s - TWILIGHT_STARS_S <= at < own.sky.dark_until_s + TWILIGHT_STARS_S,
)
LIGHT_SHUT_OUT = Need(
    "light falls on the sensor: cover and roof are open",
    lambda own, state, _at: (
        bool(own.attended)
        or not own.has("cover", *SHELTERS)
        or (own.has("cover") and not state.cover_open)
        or (own.has(*SHELTERS) and not state.roof_open)
    ),
)

FLAT_LIGHT = Need(
    "nothing lights the flats: no panel and no twilight, and the telescope is alone",
    lambda own, _state, at: (
        own.has("flat_panel")
        or bool(own.attended)
        or TWILIGHT_FLATS_S[0] <= own.sky.dark_from_s - at <= TWILIGHT_FLATS_S[1]
        or TWILIGHT_FLATS_S[0] <= at - own.sky.dark_until_s <= TWILIGHT_FLATS_S[1]
    ),
)
SKY_SEEN = Need(
    "the sky lights the flats, and cover or roof are shut",
    lambda own, state, _at: (
        own.has("flat_panel")
        or bool(own.attended)
        or ((not own.has("cover") or state.cover_open) and (not own.has(*SHELTERS) or state.roof_open))
    ),
)
NEARLY_FOCUSED = Need(
    "stars are far out of focus: rough focus comes first",
    lambda own, state, _at: state.nearly_focused or not _plans(own, "rough_focus"),
)
CALIBRATED = Need(
    "guiding is not calibrated yet", lambda own, state, _at: state.calibrated or not _plans(own, "calibrate_guiding")
)

_AT_STARS = (CONNECTED, UNPARKED, ROOF_OPEN, COVER_OPEN, STARS_OUT)
NEEDS: dict[str, tuple[Need, ...]] = {
    "outlets_on": (),
    "outlets_off": (),
    "disconnect": (),
    "connect": (POWERED,),
    "slew": (CONNECTED, UNPARKED),
    "flip": (CONNECTED, UNPARKED),
    "solve": _AT_STARS,
    "rough_focus": _AT_STARS,
    "focus": (*_AT_STARS, NEARLY_FOCUSED),
    "calibrate_guiding": _AT_STARS,
    "guide": (*_AT_STARS, CALIBRATED),
    "darks": (CONNECTED, LIGHT_SHUT_OUT),
    "flats": (CONNECTED, FLAT_LIGHT, SKY_SEEN),
}
"""By action what it needs; an action that is not listed needs its device to be connected."""


def unmet(do: str, setting: NightSetting, state: NightState, at_s: float) -> str:
    """Return what is missing for an action at a time in s from the plan's beginning; empty where nothing is."""
    return next((need.missing for need in NEEDS.get(do, (CONNECTED,)) if not need.is_met(setting, state, at_s)), "")


def hazard(do: str, setting: NightSetting, state: NightState) -> tuple[str, str]:
    """Return why an action is not safe as things stand, and what of the rig prevents it; empty where neither is.

    Returns
    -------
    tuple of str
        What happens, and the interlock in words, empty where the rig has none.
    """
    if do == "close_roof" and setting.has("mount") and setting.has(*SHELTERS) and not state.parked:
        locked = any(setting.setting(kind, "shuts_only_parked") is True for kind in SHELTERS)
        return "the roof shuts over the unparked telescope", "it shuts only over a parked telescope" if locked else ""
    moves = do in ("slew", "flip", "park") and setting.has("mount") and not state.parked
    if moves and setting.has(*SHELTERS) and not state.roof_open and not setting.has("dome"):
        return "the telescope moves under the shut roof", ""
    return "", ""

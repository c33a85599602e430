"""What a kind of device declares of itself, once: settings, figure, actions, faults, and what it is recognised by."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

Purpose = Literal["Imaging", "Mount and guiding", "Power and dew", "Computer and lines", "Weather and shelter"]
PURPOSES: tuple[Purpose, ...] = Purpose.__args__  # type: ignore[attr-defined]
"""What devices are for, in the order in which they are listed."""
Points = tuple[tuple[float, float], ...]
"""A line through some points of a unit square, (x, y), y downward."""
Moment = Literal["begin", "dark", "middle", "flip", "end"]
"""When in the night a fault strikes."""
FrameKind = Literal["darks", "flats", "focus", "guide_calibration"]
"""What was taken or measured with the rig as it was, and may no longer serve."""


@dataclass(frozen=True)
class SettingKind:
    """One setting: its key, label, unit and type, its bounds, and the kinds of device that have it.

    ``tolerance`` is what two values may differ by and still be the same setting, where the rig states none.
    """

    key: str
    label: str
    unit: str
    type: Literal["number", "truth", "text"] = "number"
    low: float = 0.0
    high: float = 1e9
    tolerance: float = 0.0
    choices: tuple[str, ...] = ()
    decimals: int = 2
    sheet: Literal["devices", "sensor", "cooling", "travel", "filters"] = "devices"
    """Where it is edited."""
    topic: str = "setting"
    """What kind of matter it is, for the findings on records."""
    is_limit: bool = False
    """Whether what is stated is the most that is allowed of it, and not what it is."""
    invalidated_by: tuple[str, ...] = ()
    """What ends the validity of its measured value, besides a change of what that rests on."""
    kinds: frozenset[str] = frozenset()
    """The kinds of device that have it; filled in from their declarations."""


@dataclass(frozen=True)
class Figure:
    """A small drawing in a unit square: lines, and a circle about the middle where ``ring`` is its radius."""

    lines: tuple[Points, ...] = ()
    ring: float | None = None


@dataclass(frozen=True)
class DeviceAction:
    """One action of a night's plan that a kind of device does: what its time counts as, and how long it usually takes.

    ``is_hard`` where the device draws the most that it may meanwhile. Without ``usual_s`` the rig tells the time.
    """

    do: str
    counts_as: Literal["moving", "exposing", "download", "cooling", "focusing"] = "moving"
    is_hard: bool = False
    usual_s: float | None = None


@dataclass(frozen=True)
class Fault:
    """One thing that goes wrong at night.

    ``devices`` are the kinds of device that have it, any where empty. ``does`` names the actions that it touches:
    they never answer (hang), answer with an error, come ``by_s`` late. A fault may ``spoil`` frames, for so long in s,
    until ``cure`` is done again; one of the ``world`` (weather, power, network, computer) is played by its ``id``.
    ``ramps_s`` is how long it takes to come in fully: from half of that on it does harm and is seen. ``lasts_s``
    ends it by itself, ``clears`` says what else does; ``returns_s`` after that it is there again, as often as the
    night lasts. ``rate`` is how many nights of a hundred see it. ``prevented_by`` names a kind of device, a setting
    of it and the value with which the fault does no harm; None for any value that is stated.
    """

    id: str
    devices: tuple[str, ...]
    title: str
    shows: str
    way: Literal["hang", "error", "late", "spoil", "world"]
    when: Moment
    rate: float
    does: tuple[str, ...] = ()
    clears: Literal["attempt", "reconnect", "never"] = "never"
    by_s: float = 0.0
    frame_problem: str = ""
    cure: str = ""
    lasts_s: float | None = None
    returns_s: float | None = None
    ramps_s: float = 0.0
    prevented_by: tuple[str, str, bool | str | None] | None = None
    prevention: str = ""
    """What the device does where that is so."""
    beyond_plan: bool = False
    """Whether no plan can avert it: somebody has to be there."""


@dataclass(frozen=True)
class DeviceKindDeclaration:
    """A kind of device, as all layers know it."""

    id: str
    place: int
    """Where it stands in lists, the least first."""
    purpose: Purpose
    figure: Figure = field(default_factory=Figure)
    settings: tuple[SettingKind, ...] = ()
    is_part: bool = False
    """Whether parts of the train are of this kind, too."""
    housing_mm: float = 0.0
    """How far a part of this kind stands out over its neighbours in the section, for an opening of 42 mm."""
    plate_tilt_deg: float = 0.0
    """How far its plate is drawn tilted in the section."""
    actions: tuple[DeviceAction, ...] = ()
    adds_time: tuple[tuple[str, str, float], ...] = ()
    """What it adds to another device's action: the action, the setting that tells the time, the usual time in s."""
    faults: tuple[Fault, ...] = ()
    port_words: tuple[str, ...] = ()
    """Words in what a device on a port calls itself that tell this kind, the surest first."""
    header_position: tuple[str, str, str] | None = None
    """Where frames tell its position: the FITS keyword, the header's field that reads it, the setting that it is."""
    is_camera: bool = False
    watches_weather: bool = False
    """Whether it may stop the night when the weather turns."""
    opens_to_sky: bool = False
    """Whether it opens to the sky, and must shut."""
    invalidates: tuple[tuple[FrameKind, tuple[str, ...]], ...] = ()
    """What no longer serves once another copy of it is on the rig, or one of these settings is changed."""

    @property
    def label(self) -> str:
        """What it is called."""
        return self.id.replace("_", " ")

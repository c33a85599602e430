"""How things stand in a night, and the faults that strike it."""

from __future__ import annotations

from dataclasses import dataclass

from wyntaxis.core.rig.device_kinds.declaration import Fault


@dataclass
class ActiveFault:
    """A fault in a night: when it strikes in s, whether it has, and whether it is over."""

    fault: Fault
    at_s: float
    reported: bool = False
    over: bool = False


@dataclass
class NightState:
    """How things stand."""

    connected: bool = False
    cold: bool = False
    warm: bool = True
    roof_open: bool = False
    cover_open: bool = False
    parked: bool = True
    on_target: bool = False
    solved: bool = False
    """Whether it is known where the telescope points since it moved to the object."""
    nearly_focused: bool = False
    calibrated: bool = False
    powered: bool = False
    guiding: bool = False
    program: bool = True
    electricity: bool = True
    mains: bool = True
    clock_slow_s: float = 0.0
    """By how much the program's clock is behind."""
    flipped: bool = False
    focused_s: float = -1e18
    focused_c: float | None = None
    focus_off: float = 0.0
    """By how many steps changes of filter have moved focus since it was found."""
    filter: str | None = None
    wet_s: float = 0.0
    clear_since: float = -1e18
    frames: int = 0
    disk_gb: float = 0.0

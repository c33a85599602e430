"""What can go wrong at night: of each kind of device, and of the world around it."""

from __future__ import annotations

from wyntaxis.core.rig.device_kinds import DEVICE_KINDS
from wyntaxis.core.rig.device_kinds.declaration import Fault

_OF_THE_WORLD = (
    Fault("solver.off_scale", (), "Solver off-scale", "no frame is solved: its scale is wrong", "error", "dark", 2.0, ("solve",)),
    Fault("weather.wind", (), "Wind over the limit", "it rises for half an hour and blows for an hour", "world", "middle", 8.0, frame_problem="shaken by wind", lasts_s=3600.0, ramps_s=1800.0),
    Fault("weather.cloud", (), "Cloud comes and goes", "it thickens for twenty minutes, then an hour and a half without stars", "world", "middle", 25.0, frame_problem="behind cloud", lasts_s=5400.0, ramps_s=1200.0),
    Fault("weather.rain", (), "Rain", "rain sets in and stays", "world", "middle", 5.0),
    Fault("weather.showers", (), "Showers", "rain for twenty minutes, and an hour later again", "world", "middle", 5.0, lasts_s=1200.0, returns_s=3600.0),
    Fault("network.gone", (), "Network gone", "the network is away for an hour", "world", "middle", 5.0, lasts_s=3600.0),
    Fault("mains.fails", (), "Mains failure", "the mains are away for two hours", "world", "middle", 2.0, lasts_s=7200.0),
    Fault("clock.slow", ("computer",), "Clock an hour slow", "twilight, waits and the flip come an hour late", "world", "begin", 1.0, prevented_by=("clock", "accuracy_ms", None), prevention="keeps the computer's clock right"),
    Fault("power.dip", (), "Power dip", "everything without a battery restarts", "world", "middle", 2.0),
    Fault("battery.empty", (), "Battery empty", "the power is gone for good", "world", "middle", 1.5),
    Fault("computer.restarts", ("computer",), "Computer restarts", "the program is gone", "world", "middle", 2.0),
)  # fmt: skip

FAULTS: dict[str, Fault] = {
    fault.id: fault for fault in (*(own for kind in DEVICE_KINDS.values() for own in kind.faults), *_OF_THE_WORLD)
}
"""Every fault by id."""

"""What can go wrong at night: which device, what it looks like, when it may strike, and how often it does."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Moment = Literal["begin", "dark", "middle", "flip", "end"]
Way = Literal["hang", "error", "late", "spoil", "world"]
Clears = Literal["attempt", "reconnect", "never"]
CAMERA, WHEEL, FOCUSER, ROTATOR, MOUNT = ("camera",), ("filter_wheel",), ("focuser",), ("rotator",), ("mount",)
ROOF, COVER, GUIDER, COMPUTER = ("roof", "dome"), ("cover",), ("guide_camera",), ("computer",)
WATCHERS = ("weather", "safety_monitor")


@dataclass(frozen=True)
class Fault:
    """One fault.

    ``devices`` are the kinds of device that have it, any where empty. ``does`` names the actions that it touches:
    they never answer (hang), answer with an error, come ``by_s`` late. A fault may ``spoil`` frames, for so long in s,
    until ``cure`` is done anew; one of the ``world`` (weather, power, network, computer) is played by its ``id``.
    ``clears`` says what ends it. ``rate`` is how many nights of a hundred see it.
    """

    id: str
    devices: tuple[str, ...]
    title: str
    shows: str
    way: Way
    when: Moment
    rate: float
    does: tuple[str, ...] = ()
    clears: Clears = "never"
    by_s: float = 0.0
    frame_problem: str = ""
    cure: str = ""
    lasts_s: float | None = None


_FAULTS = (
    Fault("camera.asleep", CAMERA, "Asleep after idle", "the first exposure after a long wait never ends", "hang", "dark", 3.0, ("expose",), "reconnect"),
    Fault("camera.gone", CAMERA, "Gone in mid-exposure", "drops off the bus while it exposes", "hang", "middle", 2.0, ("expose",), "reconnect"),
    Fault("camera.late", CAMERA, "Late download", "each image comes half a minute late", "late", "middle", 2.0, ("download",), by_s=30.0),
    Fault("camera.pending", CAMERA, "Pending after an abort", "an exposure fails, and the camera stays pending", "hang", "middle", 2.0, ("expose",), "reconnect"),
    Fault("camera.wrong", CAMERA, "Wrong device in the role", "the guide camera takes the frames", "spoil", "begin", 0.5, frame_problem="taken by the wrong camera"),
    Fault("cooler.unpowered", CAMERA, "Cooler unpowered", "the temperature stays where it is", "hang", "begin", 1.5, ("cool",), "reconnect", frame_problem="not at its temperature"),
    Fault("cooler.out_of_reach", CAMERA, "Target out of reach", "the cooler never reaches its target on a warm night", "hang", "begin", 3.0, ("cool",)),
    Fault("cooler.overshoot", CAMERA, "Overshoot", "the temperature swings before it rests", "late", "begin", 5.0, ("cool",), by_s=240.0),
    Fault("wheel.missing_slot", WHEEL, "Missing slot", "a filter is asked for that no slot holds", "hang", "dark", 1.0, ("wheel",)),
    Fault("wheel.between", WHEEL, "Between slots", "the wheel stops between two slots and reports that it moves", "hang", "dark", 1.5, ("wheel",), "attempt"),
    Fault("solver.off_scale", (), "Solver off-scale", "no frame is solved: its scale is wrong", "error", "dark", 2.0, ("solve",)),
    Fault("guider.star_lost", GUIDER, "Guide star lost", "the star is lost and not found again", "spoil", "middle", 8.0, frame_problem="unguided", cure="guide"),
    Fault("guider.pier_side", GUIDER, "Calibration of the other pier side", "the guider pushes the wrong way", "spoil", "middle", 2.0, frame_problem="guided the wrong way", cure="calibrate_guiding"),
    Fault("guider.declination", GUIDER, "Calibration of another declination", "corrections are far too large", "spoil", "dark", 2.0, frame_problem="guided too hard", cure="calibrate_guiding"),
    Fault("weather.wind", (), "Wind over the limit", "gusts for an hour", "world", "middle", 8.0, frame_problem="shaken by wind", lasts_s=3600.0),
    Fault("rotator.reversed", ROTATOR, "Rotator reversed", "each turn leads farther from the angle", "hang", "dark", 0.5, ("rotate",)),
    Fault("rotator.hunting", ROTATOR, "Rotator hunting", "it turns to and fro about its angle", "late", "dark", 2.0, ("rotate",), by_s=90.0),
    Fault("focuser.reversed", FOCUSER, "Focuser reversed", "the run finds no minimum", "error", "dark", 0.5, ("rough_focus", "focus"), frame_problem="out of focus"),
    Fault("focuser.at_end", FOCUSER, "Focuser at its end", "it goes no farther", "error", "dark", 1.0, ("rough_focus", "focus"), frame_problem="out of focus"),
    Fault("focuser.reset", FOCUSER, "Counter reset", "the counter starts at nought, and focus is far off", "error", "dark", 2.0, ("focus",), "attempt", frame_problem="out of focus", cure="rough_focus"),
    Fault("mount.flip_late", MOUNT, "Flip too late", "the mount stops at its limit before it flips", "spoil", "flip", 2.0, frame_problem="trailed at the mount's limit", cure="slew"),
    Fault("mount.gone", MOUNT, "Mount does not answer", "it tracks on, but hears nothing", "hang", "middle", 1.0, ("slew", "solve", "park", "flip"), "reconnect"),
    Fault("mount.slow_slew", MOUNT, "Slow slew", "a slew takes three minutes", "late", "dark", 2.0, ("slew",), by_s=150.0),
    Fault("weather.cloud", (), "Cloud comes and goes", "an hour and a half without stars", "world", "middle", 25.0, frame_problem="behind cloud", lasts_s=5400.0),
    Fault("weather.rain", (), "Rain", "rain sets in and stays", "world", "middle", 5.0),
    Fault("optics.dew", (), "Dew", "the optics fog over", "spoil", "middle", 6.0, frame_problem="dewed"),
    Fault("network.gone", (), "Network gone", "the network is away for an hour", "world", "middle", 5.0, lasts_s=3600.0),
    Fault("weather.silent", WATCHERS, "Weather service silent", "the weather station gives no answer for an hour", "world", "middle", 4.0, lasts_s=3600.0),
    Fault("roof.stuck_shut", ROOF, "Roof does not open", "its motor stalls at the first try", "error", "begin", 1.0, ("open_roof",), "attempt"),
    Fault("roof.stuck_open", ROOF, "Roof does not shut", "its motor stalls at the first try", "error", "end", 1.0, ("close_roof",), "attempt"),
    Fault("cover.shut", COVER, "Cover stays shut", "it says that it is open", "spoil", "begin", 1.0, frame_problem="taken under the cover", cure="open_cover"),
    Fault("disk.full", COMPUTER, "Disk full", "no frame is saved any more", "spoil", "middle", 2.0, frame_problem="not saved"),
    Fault("card.corrupt", COMPUTER, "Card corrupt", "what was saved cannot be read", "world", "middle", 0.5),
    Fault("clock.off", COMPUTER, "Clock off by an hour", "pointing is off by 15°, until a frame is solved", "spoil", "dark", 1.0, frame_problem="off the object", cure="solve"),
    Fault("power.dip", (), "Power dip", "everything without a battery restarts", "world", "middle", 2.0),
    Fault("battery.empty", (), "Battery empty", "the power is gone for good", "world", "middle", 1.5),
    Fault("computer.restarts", COMPUTER, "Computer restarts", "the program is gone", "world", "middle", 2.0),
    Fault("mount.park_fails", MOUNT, "Park fails", "the first try to park is refused", "error", "end", 1.0, ("park",), "attempt"),
)  # fmt: skip

FAULTS: dict[str, Fault] = {fault.id: fault for fault in _FAULTS}
"""Every fault by id."""

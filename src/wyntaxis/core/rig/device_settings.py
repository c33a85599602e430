"""Which settings a device of each kind has: labels, units, what values they take, how close counts as the same."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

SettingValue = float | bool | str

CAMERAS = frozenset({"camera", "guide_camera"})
WATCHERS = frozenset({"weather", "safety_monitor"})
"""Kinds of device that may stop the night when the weather turns."""
SHUTTERS = frozenset({"cover", "roof", "dome"})
"""Kinds of device that open to the sky, and must shut."""


@dataclass(frozen=True)
class SettingKind:
    """One setting: its key, label, unit and type, the kinds of device that have it, its bounds.

    ``tolerance`` is what two values may differ by and still be the same setting, where the rig states none.
    """

    key: str
    label: str
    unit: str
    type: Literal["number", "truth", "text"]
    kinds: frozenset[str]
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


def _one(kind: str) -> frozenset[str]:
    return frozenset({kind})


def _bench(key: str, label: str, unit: str, decimals: int = 2, low: float = 0.0, **more: float | bool) -> SettingKind:
    """A number of a camera that the bench measures; the maker's sheet may state it."""
    return SettingKind(key, label, unit, "number", CAMERAS, low, decimals=decimals, sheet="sensor", **more)  # type: ignore[arg-type]


def _cooler(key: str, label: str, unit: str, decimals: int = 2, low: float = 0.0, **more: float) -> SettingKind:
    """A number of a camera's cooler."""
    return SettingKind(key, label, unit, "number", CAMERAS, low, decimals=decimals, sheet="cooling", **more)  # type: ignore[arg-type]


def _travel(key: str, label: str, unit: str, decimals: int = 2, low: float = 0.0, **more: float) -> SettingKind:
    """A number of a focuser that focus runs give, or that they are set by."""
    return SettingKind(key, label, unit, "number", _one("focuser"), low, decimals=decimals, sheet="travel", **more)  # type: ignore[arg-type]


_KINDS = (
    SettingKind("gain", "Gain", "", "number", CAMERAS, topic="gain"),
    SettingKind("offset", "Offset", "", "number", CAMERAS, topic="offset"),
    SettingKind("readout_mode", "Readout mode", "", "text", CAMERAS),
    SettingKind(
        "set_temperature_c", "Set temperature", "°C", "number", CAMERAS, -100, 60, 0.5, decimals=1, topic="temperature"
    ),
    SettingKind("sensor_temperature_c", "Sensor temperature", "°C", "number", CAMERAS, -100, 90, 1.0, decimals=1),
    SettingKind("cooler_on", "Cooler on", "", "truth", CAMERAS),
    SettingKind("ramp_c_min", "Cooling ramp", "°C/min", "number", CAMERAS, 0, 60, 0.1),
    SettingKind(
        "traffic_percent", "USB traffic limit", "%", "number", CAMERAS, 1, 100, 0.5, decimals=0, topic="traffic"
    ),
    SettingKind("data_rate_mb_s", "Data rate, full", "MB/s", "number", CAMERAS, 0, 1e5, 1.0, decimals=0),
    SettingKind("one_way", "Turns one way", "", "truth", _one("filter_wheel")),
    SettingKind(
        "stop_error_um",
        "Stops off by",
        "µm",
        "number",
        _one("filter_wheel"),
        0,
        1e5,
        decimals=1,
        sheet="filters",
        is_limit=True,
    ),
    SettingKind("settle_s", "Settling", "s", "number", frozenset({"filter_wheel", "focuser"}), 0, 3600, 0.1),
    SettingKind("step_um", "Step", "µm", "number", _one("focuser"), 1e-6, 1e4, 0.01, decimals=3),
    SettingKind("lowest_position", "Lowest position", "steps", "number", _one("focuser"), -1e9, decimals=0),
    SettingKind("highest_position", "Highest position", "steps", "number", _one("focuser"), -1e9, decimals=0),
    SettingKind("position", "Working position", "steps", "number", _one("focuser"), -1e9, tolerance=500, decimals=0),
    SettingKind("reversed", "Reversed", "", "truth", frozenset({"focuser", "rotator"}), topic="direction"),
    SettingKind("backlash_steps", "Backlash", "steps", "number", _one("focuser"), tolerance=1, decimals=0),
    SettingKind("compensation_steps", "Backlash compensation", "steps", "number", _one("focuser"), decimals=0),
    SettingKind("travel_mm", "Whole travel of the drawtube", "mm", "number", _one("focuser"), 1e-3, 1e4, 0.1),
    _travel("temperature_slope_steps_c", "Focus moves", "steps/°C", 2, low=-1e6),
    _travel("run_scatter_steps", "Scatter between runs", "steps", 1),
    _travel("run_step", "Step of a focus run", "steps", 0),
    _travel("run_points", "Points of a focus run", "", 0, high=1000.0),
    SettingKind("focus_filter", "Focuses through", "", "text", _one("focuser"), sheet="travel"),
    _travel("focus_exposure_s", "Exposes for focus", "s", 2, high=3600.0),
    SettingKind("refocus_temperature_c", "Refocus after", "°C", "number", _one("focuser"), 0, 60, 0.1, decimals=1),
    SettingKind("refocus_after_min", "Refocus after", "min", "number", _one("focuser"), 0, 1e4, 1, decimals=0),
    SettingKind("refocus_on_filter", "Refocus on filter change", "", "truth", _one("focuser")),
    SettingKind("refocus_after_flip", "Refocus after the flip", "", "truth", _one("focuser")),
    _travel("refocus_growth_percent", "Refocus after HFD grows by", "%", 0, high=1000.0),
    SettingKind("lowest_deg", "Lowest angle", "°", "number", _one("rotator"), -720, 720, 0.1, decimals=1),
    SettingKind("highest_deg", "Highest angle", "°", "number", _one("rotator"), -720, 720, 0.1, decimals=1),
    SettingKind("position_deg", "Position", "°", "number", _one("rotator"), -720, 720, 0.5, decimals=1),
    SettingKind("guide_rate_sidereal", "Guide rate", "× sidereal", "number", _one("mount"), 0, 10, 0.01),
    SettingKind("flip_margin_min", "Flip after meridian", "min", "number", _one("mount"), -240, 240, 0.5, decimals=0),
    SettingKind("park_set", "Park position stored", "", "truth", _one("mount")),
    SettingKind("power_percent", "Power", "%", "number", _one("dew_heater"), 0, 100, 0.5, decimals=0),
    SettingKind("follows", "Follows", "", "text", _one("dew_heater"), choices=("fixed", "dew_point")),
    SettingKind("warms_c", "Keeps optics above the air by", "°C", "number", _one("dew_heater"), 0, 60, 0.5, decimals=1),
    SettingKind("stops_the_run", "Stops the run", "", "truth", WATCHERS),
    SettingKind("stop_was_tried", "Stop has been tried", "", "truth", WATCHERS),
    SettingKind("air_c", "Air", "°C", "number", _one("weather"), -60, 60, 0.5, decimals=1),
    SettingKind("humidity_percent", "Humidity", "%", "number", _one("weather"), 0, 100, 3, decimals=0),
    SettingKind("dew_point_c", "Dew point", "°C", "number", _one("weather"), -100, 60, 1.0, decimals=1),
    SettingKind("brightness_percent", "Brightness", "%", "number", _one("flat_panel"), 0, 100, 0.5, decimals=0),
    SettingKind("moves_s", "Opens or closes in", "s", "number", SHUTTERS, 0, 3600, 1, decimals=0),
    SettingKind("shuts_on_power_loss", "Closes when power fails", "", "truth", SHUTTERS),
    SettingKind("follows_mount", "Follows the mount", "", "truth", _one("dome")),
    SettingKind("accuracy_ms", "Clock accuracy", "ms", "number", _one("clock"), 0, 1e7, 1, decimals=0),
    _bench("conversion_gain_e_adu", "Conversion gain", "e⁻/ADU", 4, low=1e-6),
    _bench("read_noise_e", "Read noise", "e⁻", low=1e-6),
    _bench("full_well_e", "Full well", "e⁻", 0, low=1e-6),
    _bench("dynamic_range_stops", "Dynamic range", "stops"),
    _bench("linearity_percent", "Linearity error", "%", is_limit=True),
    _bench("unity_gain", "Unity gain at", "", 1, low=-1e6),
    _bench("bias_mean_adu", "Bias level", "ADU", 1),
    _bench("bias_noise_adu", "Bias noise", "ADU"),
    _bench("pile_up_share", "Bias at the lowest code", "", 6, high=1.0),
    _bench("least_offset", "Smallest offset that suffices", "", 0),
    _bench("dark_current_e_s", "Dark current", "e⁻/s/px", 5),
    _bench("dark_at_c", "Temperature of the dark current", "°C", 1, low=-100.0, high=60.0),
    _bench("dark_doubling_c", "Dark current doubles in", "°C"),
    _bench("glow_e_s", "Glow, brightest place", "e⁻/s/px", 5),
    _bench("hot_share_percent", "Hot pixels", "%", 3, high=100.0),
    _bench("flat_level_percent", "Flats' level", "%", 1, high=1000.0),
    _cooler("cooler_tau_min", "Cooler's time constant", "min", low=1e-6),
    _cooler("cooler_pull_c_min", "Cooler's pull at full power", "°C/min", low=1e-6),
    _cooler("cooler_power_w", "Cooler's power, full", "W", 1),
    _cooler("cooling_reach_c", "Coldest below ambient", "°C", 1),
    _cooler("rest_power_percent", "Power at rest", "%", 1, high=1000.0),
    _cooler("steepest_c_min", "Steepest rate", "°C/min"),
    _cooler("scatter_c", "Scatter at rest", "°C", 3),
    _cooler("rest_ambient_c", "Ambient at rest", "°C", 1, low=-60.0),
    SettingKind("usbfs_memory_mb", "USB memory", "MB", "number", _one("computer"), 0, 1e6, 0.5, decimals=0),
)

SETTINGS: dict[str, SettingKind] = {kind.key: kind for kind in _KINDS}
"""Every setting by key, in the order in which a device's card lists them."""


def settings_of(device_kind: str, sheet: str | None = None) -> tuple[SettingKind, ...]:
    """Return the settings that a kind of device has, all of them or those edited on one sheet."""
    return tuple(kind for kind in _KINDS if device_kind in kind.kinds and sheet in (None, kind.sheet))


def check_setting(device_kind: str, key: str, value: SettingValue | None) -> None:
    """Raise ValueError, of one line, for a setting that the kind of device has not, or a value that it cannot take."""
    kind = SETTINGS.get(key)
    if kind is None or device_kind not in kind.kinds:
        known = [known.key for known in settings_of(device_kind)]
        import difflib

        near = difflib.get_close_matches(key, known, n=1)
        hint = f"did you mean {near[0]}?" if near else f"it has: {', '.join(known) or 'none'}"
        raise ValueError(f"settings.{key[:60]}: is no setting of kind {device_kind}; {hint}")
    if value is None:
        return
    if kind.type == "truth" and not isinstance(value, bool):
        raise ValueError(f"settings.{key}.value: must be true or false")
    if kind.type == "text" and not isinstance(value, str):
        raise ValueError(f"settings.{key}.value: must be text")
    if kind.choices and value not in kind.choices:
        raise ValueError(f"settings.{key}.value: must be one of {', '.join(kind.choices)}")
    if kind.type == "number":
        if isinstance(value, (bool, str)):
            raise ValueError(
                f"settings.{key}.value: must be a plain number" + (f" in {kind.unit}" if kind.unit else "")
            )
        if not kind.low <= value <= kind.high:
            unit = f" {kind.unit}" if kind.unit else ""
            raise ValueError(f"settings.{key}.value: must lie from {kind.low:g} to {kind.high:g}{unit}, got {value:g}")

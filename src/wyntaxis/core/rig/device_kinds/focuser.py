"""The focuser."""

from wyntaxis.core.quantity_kinds import SET_UP
from wyntaxis.core.rig.device_kinds.declaration import DeviceAction, DeviceKindDeclaration, Fault, Figure, SettingKind

SETTLING = SettingKind("settle_s", "Settling", "s", "number", 0, 3600, 0.1)
"""How long it must rest after a move; a filter wheel has it, too."""
REVERSED = SettingKind("reversed", "Reversed", "", "truth", topic="direction")
"""Whether it counts the other way round; a rotator has it, too."""


def _travel(key: str, label: str, unit: str, decimals: int = 2, low: float = 0.0, **more: float) -> SettingKind:
    """A number that focus runs give, or that they are set by."""
    return SettingKind(key, label, unit, "number", low, decimals=decimals, sheet="travel", **more)  # type: ignore[arg-type]


FOCUSER = DeviceKindDeclaration(
    "focuser",
    30,
    "Imaging",
    Figure(
        (
            ((0.1, 0.3), (0.1, 0.7)),
            ((0.9, 0.3), (0.9, 0.7)),
            ((0.2, 0.5), (0.8, 0.5)),
            ((0.35, 0.38), (0.2, 0.5), (0.35, 0.62)),
            ((0.65, 0.38), (0.8, 0.5), (0.65, 0.62)),
        )
    ),
    (
        SETTLING,
        SettingKind("step_um", "Step", "µm", "number", 1e-6, 1e4, 0.01, decimals=3),
        SettingKind("steps_per_turn", "Steps of a motor turn", "steps", "number", 1, 1e7, decimals=0),
        SettingKind("gear_ratio", "Gear and belt, motor turns a knob turn", "", "number", 1e-4, 1e6, 0.001, decimals=4),
        SettingKind("mm_per_turn", "Travel of a knob turn", "mm", "number", 1e-4, 1e3, 0.001, decimals=4),
        SettingKind("lowest_position", "Lowest position", "steps", "number", -1e9, decimals=0),
        SettingKind("highest_position", "Highest position", "steps", "number", -1e9, decimals=0),
        SettingKind(
            "position", "Working position", "steps", "number", -1e9, tolerance=500, decimals=0, invalidated_by=(SET_UP,)
        ),
        REVERSED,
        SettingKind("backlash_steps", "Backlash", "steps", "number", tolerance=1, decimals=0),
        SettingKind("compensation_steps", "Backlash compensation", "steps", "number", decimals=0),
        SettingKind("travel_mm", "Whole travel of the drawtube", "mm", "number", 1e-3, 1e4, 0.1),
        _travel("temperature_slope_steps_c", "Focus moves", "steps/°C", 2, low=-1e6),
        _travel("run_scatter_steps", "Scatter between runs", "steps", 1),
        _travel("run_step", "Step of a focus run", "steps", 0),
        _travel("run_points", "Points of a focus run", "", 0, high=1000.0),
        SettingKind("focus_filter", "Focuses through", "", "text", sheet="travel"),
        _travel("focus_exposure_s", "Exposes for focus", "s", 2, high=3600.0),
        _travel("run_exposure_s", "Exposure of a focus run", "s", 2, high=3600.0),
        SettingKind("refocus_temperature_c", "Refocus after", "°C", "number", 0, 60, 0.1, decimals=1),
        SettingKind("refocus_after_min", "Refocus after", "min", "number", 0, 1e4, 1, decimals=0),
        SettingKind("refocus_every_frames", "Refocus after", "frames", "number", 0, 1e4, 0.5, decimals=0),
        SettingKind("refocus_on_filter", "Refocus on filter change", "", "truth"),
        SettingKind("refocus_after_flip", "Refocus after the flip", "", "truth"),
        _travel("refocus_growth_percent", "Refocus after HFD grows by", "%", 0, high=1000.0),
    ),
    is_part=True,
    housing_mm=4.0,
    actions=(
        DeviceAction("rough_focus", "focusing", is_hard=True, usual_s=90.0),
        DeviceAction("focus", "focusing", is_hard=True),
    ),
    faults=(
        Fault(
            "focuser.reversed",
            ("focuser",),
            "Focuser reversed",
            "the run finds no minimum",
            "error",
            "dark",
            0.5,
            ("rough_focus", "focus"),
            frame_problem="out of focus",
        ),
        Fault(
            "focuser.slips",
            ("focuser",),
            "Focuser slips",
            "the drawtube slips under its load, and again three quarters of an hour after each focus run",
            "spoil",
            "middle",
            2.0,
            frame_problem="out of focus",
            cure="focus",
            returns_s=2700.0,
        ),
        Fault(
            "focuser.at_end",
            ("focuser",),
            "Focuser at its end",
            "it goes no farther",
            "error",
            "dark",
            1.0,
            ("rough_focus", "focus"),
            frame_problem="out of focus",
        ),
        Fault(
            "focuser.reset",
            ("focuser",),
            "Counter reset",
            "the counter starts at nought, and focus is far off",
            "error",
            "dark",
            2.0,
            ("focus",),
            "attempt",
            frame_problem="out of focus",
            cure="rough_focus",
        ),
    ),
    port_words=("focus",),
    header_position=("FOCUSPOS", "focus_position", "position"),
    invalidates=(("focus", ("reversed", "step_um")),),
)

"""The mount."""

from wyntaxis.core.rig.device_kinds.declaration import DeviceAction, DeviceKindDeclaration, Fault, Figure, SettingKind

MOUNT = DeviceKindDeclaration(
    "mount",
    50,
    "Mount and guiding",
    Figure((((0.2, 0.9), (0.5, 0.5), (0.8, 0.9)), ((0.5, 0.5), (0.75, 0.15)), ((0.3, 0.35), (0.7, 0.65)))),
    (
        SettingKind("guide_rate_sidereal", "Guide rate", "× sidereal", "number", 0, 10, 0.01),
        SettingKind("flip_margin_min", "Flip after meridian", "min", "number", -240, 240, 0.5, decimals=0),
        SettingKind("park_set", "Park position stored", "", "truth"),
    ),
    actions=(
        DeviceAction("unpark", is_hard=True, usual_s=5.0),
        DeviceAction("park", is_hard=True, usual_s=60.0),
        DeviceAction("slew", is_hard=True, usual_s=45.0),
        DeviceAction("flip", is_hard=True, usual_s=90.0),
    ),
    faults=(
        Fault(
            "mount.flip_late",
            ("mount",),
            "Flip too late",
            "the mount stops at its limit before it flips",
            "spoil",
            "flip",
            2.0,
            frame_problem="trailed at the mount's limit",
            cure="slew",
        ),
        Fault(
            "mount.gone",
            ("mount",),
            "Mount does not answer",
            "it tracks on, but hears nothing",
            "hang",
            "middle",
            1.0,
            ("slew", "solve", "park", "flip"),
            "reconnect",
        ),
        Fault(
            "mount.slow_slew",
            ("mount",),
            "Slow slew",
            "a slew takes three minutes",
            "late",
            "dark",
            2.0,
            ("slew",),
            by_s=150.0,
        ),
        Fault(
            "mount.park_fails",
            ("mount",),
            "Park fails",
            "the first try to park is refused",
            "error",
            "end",
            1.0,
            ("park",),
            "attempt",
        ),
    ),
    port_words=("mount",),
    invalidates=(("guide_calibration", ("guide_rate_sidereal",)),),
)

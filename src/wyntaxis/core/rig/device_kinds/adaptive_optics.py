"""The adaptive-optics unit: a tilting plate that follows the motion of the image faster than the mount can.

Only what is behind the plate sees the image still: the guide star, too, must be picked off there.
"""

from wyntaxis.core.rig.device_kinds.declaration import DeviceKindDeclaration, Fault, Figure, SettingKind

ADAPTIVE_OPTICS = DeviceKindDeclaration(
    "adaptive_optics",
    45,
    "Imaging",
    Figure((((0.35, 0.15), (0.65, 0.85)), ((0.05, 0.42), (0.45, 0.42)), ((0.55, 0.58), (0.95, 0.58)))),
    (
        SettingKind("tilt_range_um", "Moves the image by, each way", "µm", "number", 0.1, 1e5, 1, decimals=1),
        SettingKind("tilt_limit_deg", "Plate tilts by, each way", "°", "number", 0.001, 60, 0.01, decimals=2),
        SettingKind("correction_rate_hz", "Corrections a second", "1/s", "number", 0.01, 1000, 0.1, decimals=1),
        SettingKind("mount_moves_percent", "Mount helps from", "% of the range", "number", 1, 95, 1, decimals=0),
        SettingKind("centre_s", "Centres itself in", "s", "number", 0, 600, 0.5, decimals=1),
    ),
    is_part=True,
    housing_mm=9.0,
    plate_tilt_deg=6.0,
    adds_time=(("guide", "centre_s", 5.0),),
    faults=(
        Fault(
            "adaptive_optics.at_end",
            ("adaptive_optics",),
            "Tip-tilt plate at its end",
            "the plate reaches the end of its range and no longer corrects",
            "spoil",
            "middle",
            6.0,
            frame_problem="guided with the tip-tilt plate at its end",
            cure="guide",
            prevented_by=("adaptive_optics", "mount_moves_percent", None),
            prevention="has the mount move before the plate reaches its end",
        ),
        Fault(
            "adaptive_optics.silent",
            ("adaptive_optics",),
            "Tip-tilt unit does not answer",
            "guiding does not begin: the plate is not centred",
            "hang",
            "dark",
            1.0,
            ("guide",),
            "reconnect",
        ),
    ),
    port_words=("adaptive", "tip-tilt"),
    invalidates=(("flats", ()), ("guide_calibration", ("tilt_range_um", "correction_rate_hz"))),
)

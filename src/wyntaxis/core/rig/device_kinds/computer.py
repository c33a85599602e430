"""The computer and what hangs on it: hubs, clocks, and devices of no kind that is known."""

from wyntaxis.core.rig.device_kinds.declaration import DeviceAction, DeviceKindDeclaration, Fault, Figure, SettingKind

COMPUTER = DeviceKindDeclaration(
    "computer",
    95,
    "Computer and lines",
    Figure((((0.1, 0.15), (0.9, 0.15), (0.9, 0.7), (0.1, 0.7), (0.1, 0.15)), ((0.3, 0.9), (0.7, 0.9)))),
    (SettingKind("usbfs_memory_mb", "USB memory", "MB", "number", 0, 1e6, 0.5, decimals=0),),
    actions=(
        DeviceAction("connect"),
        DeviceAction("disconnect", usual_s=5.0),
        DeviceAction("solve", usual_s=20.0),
        DeviceAction("wait_dark"),
    ),
    faults=(
        Fault(
            "disk.full",
            ("computer",),
            "Disk full",
            "no frame is saved any more",
            "spoil",
            "middle",
            2.0,
            frame_problem="not saved",
        ),
        Fault("card.corrupt", ("computer",), "Card corrupt", "what was saved cannot be read", "world", "middle", 0.5),
        Fault(
            "clock.off",
            ("computer",),
            "Clock off by an hour",
            "pointing is off by 15°, until a frame is solved",
            "spoil",
            "dark",
            1.0,
            frame_problem="off the object",
            cure="solve",
        ),
    ),
)

HUB = DeviceKindDeclaration(
    "hub",
    100,
    "Computer and lines",
    Figure(
        (
            ((0.5, 0.1), (0.5, 0.45)),
            ((0.15, 0.9), (0.15, 0.45), (0.85, 0.45), (0.85, 0.9)),
            ((0.5, 0.45), (0.5, 0.9)),
        )
    ),
)

CLOCK = DeviceKindDeclaration(
    "clock",
    170,
    "Computer and lines",
    Figure((((0.5, 0.25), (0.5, 0.5), (0.7, 0.6)),), ring=0.4),
    (SettingKind("accuracy_ms", "Clock accuracy", "ms", "number", 0, 1e7, 1, decimals=0),),
    port_words=("gps", "clock"),
)

OTHER = DeviceKindDeclaration("other", 1000, "Computer and lines")
"""A device of which nothing tells what it is."""

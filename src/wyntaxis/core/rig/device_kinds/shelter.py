"""What shuts out the sky or lights it up: roof, dome, cover, flat panel."""

from wyntaxis.core.rig.device_kinds.declaration import DeviceAction, DeviceKindDeclaration, Fault, Figure, SettingKind

_MOVES = (
    SettingKind("moves_s", "Opens or closes in", "s", "number", 0, 3600, 1, decimals=0),
    SettingKind("shuts_on_power_loss", "Closes when power fails", "", "truth"),
)
_ONLY_PARKED = SettingKind("shuts_only_parked", "Closes only over a parked mount", "", "truth")

FLAT_PANEL = DeviceKindDeclaration(
    "flat_panel",
    110,
    "Imaging",
    Figure((((0.3, 0.5), (0.7, 0.5)), ((0.5, 0.3), (0.5, 0.7))), ring=0.4),
    (SettingKind("brightness_percent", "Brightness", "%", "number", 0, 100, 0.5, decimals=0),),
    port_words=("flat",),
)

COVER = DeviceKindDeclaration(
    "cover",
    120,
    "Imaging",
    Figure((((0.2, 0.9), (0.2, 0.4), (0.8, 0.4), (0.8, 0.9)), ((0.2, 0.4), (0.85, 0.1)))),
    _MOVES,
    actions=(DeviceAction("open_cover"), DeviceAction("close_cover")),
    faults=(
        Fault(
            "cover.shut",
            ("cover",),
            "Cover stays shut",
            "it says that it is open",
            "spoil",
            "begin",
            1.0,
            frame_problem="taken under the cover",
            cure="open_cover",
        ),
    ),
    port_words=("cover",),
    opens_to_sky=True,
)

ROOF = DeviceKindDeclaration(
    "roof",
    130,
    "Weather and shelter",
    Figure((((0.05, 0.6), (0.5, 0.2), (0.95, 0.6)), ((0.2, 0.5), (0.2, 0.9), (0.8, 0.9), (0.8, 0.5)))),
    (*_MOVES, _ONLY_PARKED),
    actions=(DeviceAction("open_roof"), DeviceAction("close_roof")),
    faults=(
        Fault(
            "roof.stuck_shut",
            ("roof", "dome"),
            "Roof does not open",
            "its motor stalls at the first try",
            "error",
            "begin",
            1.0,
            ("open_roof",),
            "attempt",
        ),
        Fault(
            "roof.stuck_open",
            ("roof", "dome"),
            "Roof does not shut",
            "its motor stalls at the first try",
            "error",
            "end",
            1.0,
            ("close_roof",),
            "attempt",
        ),
        Fault(
            "roof.motor_dead",
            ("roof", "dome"),
            "Roof motor dead",
            "its motor does not move any more",
            "error",
            "middle",
            0.5,
            ("open_roof", "close_roof"),
            beyond_plan=True,
        ),
    ),
    port_words=("roof",),
    opens_to_sky=True,
)

DOME = DeviceKindDeclaration(
    "dome",
    140,
    "Weather and shelter",
    Figure((((0.1, 0.85), (0.1, 0.6), (0.25, 0.3), (0.5, 0.2), (0.75, 0.3), (0.9, 0.6), (0.9, 0.85), (0.1, 0.85)),)),
    (*_MOVES, _ONLY_PARKED, SettingKind("follows_mount", "Follows the mount", "", "truth")),
    port_words=("dome",),
    opens_to_sky=True,
)

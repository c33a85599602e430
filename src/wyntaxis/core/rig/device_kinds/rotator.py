"""The rotator."""

from wyntaxis.core.quantity_kinds import SET_UP
from wyntaxis.core.rig.device_kinds.declaration import DeviceAction, DeviceKindDeclaration, Fault, Figure, SettingKind
from wyntaxis.core.rig.device_kinds.focuser import REVERSED

ROTATOR = DeviceKindDeclaration(
    "rotator",
    40,
    "Imaging",
    Figure((((0.5, 0.12), (0.66, 0.04)), ((0.5, 0.12), (0.66, 0.22))), ring=0.38),
    (
        REVERSED,
        SettingKind("lowest_deg", "Lowest angle", "°", "number", -720, 720, 0.1, decimals=1),
        SettingKind("highest_deg", "Highest angle", "°", "number", -720, 720, 0.1, decimals=1),
        SettingKind("position_deg", "Position", "°", "number", -720, 720, 0.5, decimals=1, invalidated_by=(SET_UP,)),
    ),
    is_part=True,
    housing_mm=7.0,
    actions=(DeviceAction("rotate", is_hard=True, usual_s=30.0),),
    faults=(
        Fault(
            "rotator.reversed",
            ("rotator",),
            "Rotator reversed",
            "each turn leads farther from the angle",
            "hang",
            "dark",
            0.5,
            ("rotate",),
        ),
        Fault(
            "rotator.hunting",
            ("rotator",),
            "Rotator hunting",
            "it turns to and fro about its angle",
            "late",
            "dark",
            2.0,
            ("rotate",),
            by_s=90.0,
        ),
    ),
    port_words=("rotat",),
    header_position=("ROTATANG", "rotation_deg", "position_deg"),
)

"""The filter wheel."""

from wyntaxis.core.rig.device_kinds.declaration import DeviceAction, DeviceKindDeclaration, Fault, Figure, SettingKind
from wyntaxis.core.rig.device_kinds.focuser import SETTLING

FILTER_WHEEL = DeviceKindDeclaration(
    "filter_wheel",
    20,
    "Imaging",
    Figure((((0.5, 0.1), (0.5, 0.9)), ((0.15, 0.3), (0.85, 0.7)), ((0.15, 0.7), (0.85, 0.3))), ring=0.4),
    (
        SettingKind("one_way", "Turns one way", "", "truth"),
        SettingKind(
            "stop_error_um", "Stops off by", "µm", "number", 0, 1e5, decimals=1, sheet="filters", is_limit=True
        ),
        SETTLING,
    ),
    is_part=True,
    housing_mm=12.0,
    actions=(DeviceAction("wheel", is_hard=True),),
    faults=(
        Fault(
            "wheel.missing_slot",
            ("filter_wheel",),
            "Missing slot",
            "a filter is asked for that no slot holds",
            "hang",
            "dark",
            1.0,
            ("wheel",),
        ),
        Fault(
            "wheel.between",
            ("filter_wheel",),
            "Between slots",
            "the wheel stops between two slots and reports that it moves",
            "hang",
            "dark",
            1.5,
            ("wheel",),
            "attempt",
        ),
        Fault(
            "wheel.stuck",
            ("filter_wheel",),
            "Wheel stuck",
            "the wheel does not turn any more, and says so",
            "error",
            "dark",
            1.0,
            ("wheel",),
        ),
    ),
    port_words=("wheel", "filter"),
    invalidates=(("flats", ()),),
)

"""What feeds and warms: the power box, the relay switch, the dew heater."""

from wyntaxis.core.rig.device_kinds.declaration import DeviceAction, DeviceKindDeclaration, Fault, Figure, SettingKind

POWER_BOX = DeviceKindDeclaration(
    "power_box",
    70,
    "Power and dew",
    Figure(
        (
            ((0.1, 0.2), (0.9, 0.2), (0.9, 0.8), (0.1, 0.8), (0.1, 0.2)),
            ((0.3, 0.4), (0.3, 0.6)),
            ((0.5, 0.4), (0.5, 0.6)),
            ((0.7, 0.4), (0.7, 0.6)),
        )
    ),
    actions=(DeviceAction("outlets_on", usual_s=2.0), DeviceAction("outlets_off", usual_s=2.0)),
    port_words=("power",),
)

DEW_HEATER = DeviceKindDeclaration(
    "dew_heater",
    80,
    "Power and dew",
    Figure((((0.1, 0.5), (0.2, 0.3), (0.35, 0.7), (0.5, 0.3), (0.65, 0.7), (0.8, 0.3), (0.9, 0.5)),)),
    (
        SettingKind("power_percent", "Power", "%", "number", 0, 100, 0.5, decimals=0),
        SettingKind("follows", "Follows", "", "text", choices=("fixed", "dew_point")),
        SettingKind("warms_c", "Keeps optics above the air by", "°C", "number", 0, 60, 0.5, decimals=1),
    ),
    faults=(
        Fault(
            "optics.dew",
            (),
            "Dew",
            "the optics fog over",
            "spoil",
            "middle",
            6.0,
            frame_problem="dewed",
            prevented_by=("dew_heater", "follows", "dew_point"),
            prevention="follows the dew point and keeps the optics dry",
        ),
    ),
    port_words=("dew",),
)

RELAY_SWITCH = DeviceKindDeclaration(
    "relay_switch",
    150,
    "Power and dew",
    Figure((((0.05, 0.7), (0.35, 0.7), (0.75, 0.35)), ((0.7, 0.7), (0.95, 0.7)))),
    port_words=("relay",),
)

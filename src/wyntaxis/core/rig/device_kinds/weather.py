"""What watches the sky: the weather station and the safety monitor."""

from wyntaxis.core.rig.device_kinds.declaration import DeviceKindDeclaration, Fault, Figure, SettingKind

_STOPS = (
    SettingKind("stops_the_run", "Stops the run", "", "truth"),
    SettingKind("stop_was_tried", "Stop has been tried", "", "truth"),
)

WEATHER = DeviceKindDeclaration(
    "weather",
    90,
    "Weather and shelter",
    Figure(
        (
            ((0.5, 0.9), (0.5, 0.4)),
            ((0.2, 0.4), (0.8, 0.4)),
            ((0.2, 0.25), (0.2, 0.55)),
            ((0.8, 0.25), (0.8, 0.55)),
        )
    ),
    (
        *_STOPS,
        SettingKind("air_c", "Air", "°C", "number", -60, 60, 0.5, decimals=1),
        SettingKind("humidity_percent", "Humidity", "%", "number", 0, 100, 3, decimals=0),
        SettingKind("dew_point_c", "Dew point", "°C", "number", -100, 60, 1.0, decimals=1),
    ),
    faults=(
        Fault(
            "weather.silent",
            ("weather", "safety_monitor"),
            "Weather service silent",
            "the weather station gives no answer for an hour",
            "world",
            "middle",
            4.0,
            lasts_s=3600.0,
        ),
    ),
    port_words=("weather",),
    watches_weather=True,
)

SAFETY_MONITOR = DeviceKindDeclaration(
    "safety_monitor",
    160,
    "Weather and shelter",
    Figure(
        (((0.5, 0.1), (0.95, 0.88), (0.05, 0.88), (0.5, 0.1)), ((0.5, 0.4), (0.5, 0.65)), ((0.5, 0.74), (0.5, 0.8)))
    ),
    _STOPS,
    port_words=("safety",),
    watches_weather=True,
)

"""Which settings a device of each kind has, as its kind declares them, and which values they take."""

from __future__ import annotations

from wyntaxis.core.rig.device_kinds import DEVICE_KINDS, settings_by_key
from wyntaxis.core.rig.device_kinds.declaration import SettingKind

SettingValue = float | bool | str

CAMERAS = frozenset(kind.id for kind in DEVICE_KINDS.values() if kind.is_camera)
WATCHERS = frozenset(kind.id for kind in DEVICE_KINDS.values() if kind.watches_weather)
"""Kinds of device that may stop the night when the weather turns."""
SHUTTERS = frozenset(kind.id for kind in DEVICE_KINDS.values() if kind.opens_to_sky)
"""Kinds of device that open to the sky, and must shut."""
SETTINGS: dict[str, SettingKind] = settings_by_key(DEVICE_KINDS)
"""Every setting by key, in the order in which a device's card lists them."""


def settings_of(device_kind: str, sheet: str | None = None) -> tuple[SettingKind, ...]:
    """Return the settings that a kind of device has, all of them or those edited on one sheet."""
    return tuple(kind for kind in SETTINGS.values() if device_kind in kind.kinds and sheet in (None, kind.sheet))


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

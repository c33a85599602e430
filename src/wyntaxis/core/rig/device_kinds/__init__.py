"""The kinds of device, each declared once in a module of this package; whatever module is there is found."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Iterable
from dataclasses import replace

from wyntaxis.core.rig.device_kinds.declaration import DeviceKindDeclaration, SettingKind


def declarations_of(modules: Iterable[object]) -> dict[str, DeviceKindDeclaration]:
    """Return the kinds that some modules declare, by id, in the order of their places.

    Raises
    ------
    ValueError
        When two kinds have one id, or two settings one key and not the same declaration.
    """
    found = [own for module in modules for own in vars(module).values() if isinstance(own, DeviceKindDeclaration)]
    kinds: dict[str, DeviceKindDeclaration] = {}
    settings: dict[str, SettingKind] = {}
    for kind in sorted(found, key=lambda own: own.place):
        if kinds.setdefault(kind.id, kind) is not kind:
            raise ValueError(f"the kind of device {kind.id} is declared twice")
        for setting in kind.settings:
            if settings.setdefault(setting.key, setting) != setting:
                raise ValueError(f"the setting {setting.key} of {kind.id} is declared otherwise elsewhere")
    return kinds


def settings_by_key(kinds: dict[str, DeviceKindDeclaration]) -> dict[str, SettingKind]:
    """Return every setting by key, each with the kinds of device that have it, in the order of a device's card."""
    found: dict[str, SettingKind] = {}
    for kind in kinds.values():
        for setting in kind.settings:
            known = found.get(setting.key, setting)
            found[setting.key] = replace(known, kinds=known.kinds | {kind.id})
    return found


DEVICE_KINDS = declarations_of(
    importlib.import_module(f"{__name__}.{module.name}") for module in pkgutil.iter_modules(__path__)
)
"""Every kind of device by id."""

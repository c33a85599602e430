"""The numbers that devices are set to, as rows of the ledger: stated by the rig, measured where something was."""

from __future__ import annotations

from collections.abc import Iterable

from wyntaxis.core.ledger import Leg, Quantity, rectangular
from wyntaxis.core.quantity_kinds import QuantityKind
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.rig.settings import SETTINGS

SHEET_SHARE = 0.1
"""What a maker's sheet may be off where it states no tolerance: it tells a typical camera of the kind, not this one."""


def device_quantity(device: Device, key: str) -> Quantity | None:
    """Return a numeric setting as a row named ``device.setting``; None where the rig has no such number.

    Parameters
    ----------
    device, key
        A device, and which of its settings.

    Returns
    -------
    Quantity or None
        In the setting's own unit.
    """
    setting, kind = device.settings.get(key), SETTINGS[key]
    if setting is None or kind.type != "number":
        return None
    value = device.number(key)
    width = setting.tolerance
    if width is None:
        width = SHEET_SHARE * abs(value or 0.0) if kind.sheet == "sensor" else kind.tolerance
    stated = None if value is None else Leg(value, rectangular(setting.tolerance), width, setting.source or "")
    found = setting.measured
    measured = Leg(found.value, found.standard_uncertainty, source=found.source or "") if found else None
    label = f"{device.title}: {kind.label.lower()}"
    row = QuantityKind(f"{device.id}.{key}", label, kind.unit, kind.decimals, may_be_zero=True)
    return Quantity(row, stated=stated, measured=measured)


def device_quantities(devices: Iterable[Device]) -> dict[str, Quantity]:
    """Return a row for every numeric setting of every device, in the order of the devices and of their settings.

    Parameters
    ----------
    devices
        The rig's devices.

    Returns
    -------
    dict
        Rows by ``device.setting``.
    """
    rows = [device_quantity(device, key) for device in devices for key in SETTINGS if key in device.settings]
    return {row.id: row for row in rows if row is not None}

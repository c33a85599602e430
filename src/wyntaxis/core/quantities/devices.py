"""The numbers that devices are set to, as rows of the ledger: stated by the rig, measured where something was."""

from __future__ import annotations

from wyntaxis.core.evidence.sensor.dark_scaling import at_temperature
from wyntaxis.core.ledger import Quantity, QuantityValue, rectangular
from wyntaxis.core.quantity_kinds import QuantityKind
from wyntaxis.core.rig.device_settings import SETTINGS
from wyntaxis.core.rig.devices import Device
from wyntaxis.core.steps import COOLING, DEVICES, FILTERS, SENSOR, TRAVEL

REACHED_WITHIN_C = 1.0
"""A sensor within this of its set temperature has reached it, where the rig states no tolerance."""

_STEPS = {"devices": DEVICES, "sensor": SENSOR, "cooling": COOLING, "travel": TRAVEL, "filters": FILTERS}

GEAR_SHARE = 0.02
"""What a step by motor and gear may be off: a drawtube's travel is read from a ruler."""
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
    computed = device.geared_step_um if key == "step_um" else None
    if kind.type != "number" or (setting is None and computed is None):
        return None
    value = device.number(key)
    width = setting.tolerance if setting is not None else None
    if width is None:
        width = SHEET_SHARE * abs(value or 0.0) if kind.sheet == "sensor" else kind.tolerance
        width = REACHED_WITHIN_C if key == "set_temperature_c" else width
    stated = (
        None
        if value is None or setting is None
        else QuantityValue(value, rectangular(setting.tolerance), width, setting.source or "")
    )
    found = setting.measured if setting is not None else None
    measured = QuantityValue(found.value, found.standard_uncertainty, source=found.source or "") if found else None
    if stated is not None and key == "dark_current_e_s":
        stated = _at_the_measured_temperature(device, stated)
    label = f"{device.title}: {kind.label.lower()}"
    row = QuantityKind(f"{device.id}.{key}", label, kind.unit, kind.decimals, True, _STEPS[kind.sheet])
    by_gear = None if computed is None else QuantityValue(computed, tolerance=GEAR_SHARE * computed)
    return Quantity(row, stated=stated, computed=by_gear, measured=measured, stated_is_limit=kind.is_limit)


def _at_the_measured_temperature(device: Device, stated: QuantityValue) -> QuantityValue:
    """Return a stated dark current at the temperature at which it was measured."""
    sheet_c, found = device.number("dark_at_c"), device.measured("dark_at_c")
    if sheet_c is None or found is None:
        return stated
    factor = at_temperature(1.0, sheet_c, found.value, device.best("dark_doubling_c"))
    return QuantityValue(stated.value * factor, stated.uncertainty * factor, stated.tolerance * factor, stated.source)

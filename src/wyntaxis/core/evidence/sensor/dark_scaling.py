"""What a rig has on record of a camera's dark current, told at another temperature."""

from __future__ import annotations

from wyntaxis.core.rig.devices import Device


def at_temperature(current_e_s: float, stated_at_c: float, wanted_c: float, doubling_c: float | None) -> float:
    """Return a dark current in e⁻/s/px at another temperature, by the rise that doubles it; unchanged without one.

    Parameters
    ----------
    current_e_s
        A dark current in e⁻/s/px.
    stated_at_c, wanted_c, doubling_c
        Where it was told, where it is wanted, and the rise that doubles it, in °C.

    Returns
    -------
    float
        In e⁻/s/px: ``D · 2^((T − T₀)/ΔT₂)``.
    """
    return current_e_s * 2 ** ((wanted_c - stated_at_c) / doubling_c) if doubling_c else current_e_s


def has_dark_temperature(device: Device, temperature_c: float) -> bool:
    """Return whether a camera's dark current on record can be told at a temperature, or is more than there.

    Parameters
    ----------
    device
        A device of the rig.
    temperature_c
        Where it is wanted, in °C.

    Returns
    -------
    bool
        False where it is wanted warmer than it was measured, and not known by how much it grows. A current without a
        temperature of its own is that of the set temperature; see :func:`wyntaxis.core.rig.edit.apply`.
    """
    found = device.measured("dark_current_e_s")
    at = device.measured("dark_at_c") if found is not None else None
    reported_at = at.value if at is not None else device.number("dark_at_c")
    return reported_at is None or bool(device.best("dark_doubling_c")) or temperature_c <= reported_at


def dark_current_at(device: Device, temperature_c: float | None = None) -> float | None:
    """Return a camera's dark current in e⁻/s/px at a temperature, or at its set one: as measured, else as stated.

    A current without a temperature of its own is that of the set temperature.

    Parameters
    ----------
    device
        A device of the rig.
    temperature_c
        Where it is wanted, in °C; the set temperature by default.

    Returns
    -------
    float or None
        In e⁻/s/px; None where none is on record.
    """
    current = device.best("dark_current_e_s")
    wanted = device.number("set_temperature_c") if temperature_c is None else temperature_c
    if current is None or wanted is None:
        return current
    measured = device.measured("dark_current_e_s") is not None
    at = device.measured("dark_at_c") if measured else None
    reported_at = at.value if at is not None else device.number("dark_at_c")
    return at_temperature(
        current, wanted if reported_at is None else reported_at, wanted, device.best("dark_doubling_c")
    )

"""What cables lose, and where dew falls. Volts, amperes, ohms, metres, mm², °C."""

from __future__ import annotations

import math

COPPER_OHM_MM2_M = 0.0172
"""Resistivity of copper at 20 °C, in Ω·mm²/m (IEC 60028)."""
COPPER_PER_K = 0.0039
"""By how much it grows with each kelvin (IEC 60028)."""
MAGNUS_A, MAGNUS_B_C = 17.62, 243.12
"""Magnus' constants over water. Source: WMO-No. 8, annex 4.B."""


def cable_resistance(length_m: float, cross_section_mm2: float, temperature_c: float = 20.0) -> float:
    """Return the resistance of a cable, there and back.

    Parameters
    ----------
    length_m, cross_section_mm2
        Length of the cable in m, at least 0, and the cross-section of one wire in mm², above 0.
    temperature_c
        Of the copper.

    Returns
    -------
    float
        In Ω: ``2 ρ L / A``, with ρ of copper at that temperature.

    Raises
    ------
    ValueError
        For a negative length, or a cross-section that is not above 0.
    """
    if length_m < 0 or not cross_section_mm2 > 0:
        raise ValueError(f"a cable needs length >= 0 and cross-section > 0, got {length_m} m, {cross_section_mm2} mm²")
    resistivity = COPPER_OHM_MM2_M * (1 + COPPER_PER_K * (temperature_c - 20.0))
    return 2 * resistivity * length_m / cross_section_mm2


def dew_point(temperature_c: float, humidity_percent: float) -> float:
    """Return the temperature at which the air's water condenses.

    Parameters
    ----------
    temperature_c, humidity_percent
        Of the air; the humidity relative to water, above 0 and up to 100 %.

    Returns
    -------
    float
        In °C, by Magnus' formula. Source: WMO-No. 8, annex 4.B.

    Raises
    ------
    ValueError
        For a humidity that is no share, or a temperature at or below −243.12 °C.
    """
    if not 0 < humidity_percent <= 100 or temperature_c <= -MAGNUS_B_C:
        raise ValueError(f"no dew point for {temperature_c} °C and {humidity_percent} %")
    exponent = math.log(humidity_percent / 100) + MAGNUS_A * temperature_c / (MAGNUS_B_C + temperature_c)
    return MAGNUS_B_C * exponent / (MAGNUS_A - exponent)

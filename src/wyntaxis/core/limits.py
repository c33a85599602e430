"""What is wanted of the measured, in one place: evidence advises by it, and quantities and findings judge by it.

Settings of the rig go before these where it states its own.
"""

FWHM_PER_SIGMA = 2.3548200450309493
"""FWHM of a normal distribution in standard deviations, 2 √(2 ln 2)."""

SETPOINT_SHARE = 0.1
"""Dark signal may be this share of the read noise's square in the longest exposure."""
WANTED_SIGMA = 6.0
"""The mean of the bias must lie this many standard deviations above no ADU."""
MAX_PILED = 1e-5
"""Share of a bias frame's pixels that may lie at its lowest code."""

FLAT_RANGE_PERCENT = (30.0, 60.0)
"""Where flats belong, in % of saturation."""
FLAT_WIDE_PERCENT = (20.0, 70.0)
"""Outside the wanted range and inside this, flats can still be used with care."""

TOLERANCE_C = 0.5
"""Within this of the target a cooling run has arrived, where the rig states no tolerance."""
MAX_REST_POWER = 0.85
"""A cooler at rest should have this much of its power to spare."""

REACH = 2.75
"""How large the outermost stars of a focus run are to be, in sharpest ones."""
COMPENSATION_FACTOR = 1.25
"""Backlash compensation goes this much over the play that was measured."""
COMPENSATION_STEPS = 10
"""Backlash compensation is rounded up to this many steps."""

USABLE_SHARE = 0.8
"""Of a battery's capacity, drawn without harm where the rig does not say."""

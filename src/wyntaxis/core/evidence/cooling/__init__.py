"""Cooling runs, the cooler's model, ramps."""

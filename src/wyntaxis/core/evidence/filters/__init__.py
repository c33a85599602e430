"""Filters: what flats tell of the wheel, of dust, of the light, and whether old flats still serve."""

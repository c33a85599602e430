"""Wyntaxis: document, compute and measure a deep-sky imaging rig, and say what disagrees."""

__version__ = "0.1.0"

"""Simulated devices and services, for the demo, the tests and trying things out."""

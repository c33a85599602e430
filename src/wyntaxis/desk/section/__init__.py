"""The section band: the light path drawn to scale."""

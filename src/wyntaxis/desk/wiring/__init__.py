"""The wiring drawing of the band."""

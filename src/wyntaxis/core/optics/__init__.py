"""Formulas of the light path: plain values in, plain values out."""

"""Measuring from files, a module for each kind: what it is told of the rig, how it is read, which findings follow."""

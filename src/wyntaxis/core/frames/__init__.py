"""Frames on disk: their headers, safely read, never more of a file than is needed."""

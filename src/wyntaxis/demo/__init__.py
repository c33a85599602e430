"""The demo rigs: an invented site, invented makers, and mistakes that real people make, planted on purpose."""

from pathlib import Path

FOLDER = Path(__file__).parent
RIGS = ("tarnfell-triplet-reduced", "tarnfell-triplet-native", "meadow-newtonian")
NOTES = FOLDER / "NOTES.md"
CHOOSING_SHELF = FOLDER / "choosing.shelf.json"
"""A shelf of invented telescopes, correctors, cameras, guides and rings to choose from."""
FOCUS_RUNS = FOLDER / "focus"
"""Frames of focus runs: crops of the simulated telescope, with mistakes planted."""


def rig_path(name: str) -> Path:
    """Return the file of a demo rig by its name in :data:`RIGS`."""
    return FOLDER / f"{name}.rig.json"

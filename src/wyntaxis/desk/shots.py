"""Takes the pictures of every main view for the documentation, from the demo data."""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

from PyQt6.QtWidgets import QApplication

from wyntaxis.desk.settings import Settings
from wyntaxis.desk.window import MainWindow

VIEWS = (
    ("light-path", "tarnfell-triplet-reduced", "light_path", "day"),
    ("light-path-night", "tarnfell-triplet-reduced", "light_path", "night"),
    ("guide-branch", "tarnfell-triplet-reduced", "guide_branch", "day"),
    ("guide-out-of-reach", "tarnfell-triplet-native", "guide_branch", "day"),
    ("scales", "tarnfell-triplet-reduced", "scales", "day"),
    ("separate-guide-telescope", "meadow-newtonian", "light_path", "day"),
)


def take_all(folder: Path) -> int:
    """Write one PNG for each view into a folder; return the exit code."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        print(f"wyntaxis: {folder}: cannot be made: {error.strerror}; name another folder", file=sys.stderr)
        return 2
    with tempfile.TemporaryDirectory() as state:
        window = MainWindow(Settings(Path(state)), Path(state), Path(state) / "shelf.json")
        window.build()
        window.show()
        for name, rig, step, palette in VIEWS:
            window.set_palette_by_name(palette)
            window.open_demo(rig)
            window.show_step(step)
            settle()
            place = folder / f"{name}.png"
            if not window.grab().save(str(place)):
                print(f"wyntaxis: {place}: cannot be written; name another folder", file=sys.stderr)
                return 2
            print(place)
        window.guard(window._close_now)
    return 0


def settle() -> None:
    """Let layouts and repaints come to rest."""
    for _ in range(5):
        QApplication.processEvents()

"""The window that benchmarks measure: on a rig, with its state in a folder that goes with it."""

import contextlib
import os
import tempfile
from collections.abc import Iterator
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtWidgets import QApplication

from wyntaxis import demo
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.store import load
from wyntaxis.desk.app import dress
from wyntaxis.desk.collector import Collector
from wyntaxis.desk.session import Session
from wyntaxis.desk.window import MainWindow
from wyntaxis.desk.window_state import WindowState


@contextlib.contextmanager
def shown_window(rig: Rig | None = None) -> Iterator[tuple[QApplication, MainWindow]]:
    """Show a window on a rig, the demo's reduced triplet by default; nothing asks when it goes."""
    app = QApplication([])
    dress(app)
    with tempfile.TemporaryDirectory() as state:
        window = MainWindow(WindowState(Path(state)), Path(state))
        window.build()
        window.show()
        window.attach(Session(rig or load(demo.rig_path("tarnfell-triplet-reduced")).rig))
        app.processEvents()
        collector = Collector(window)
        collector.start(window.windowHandle())
        yield app, window
        collector.stop()
        window.session.history.mark_saved()
        window.close()
        window.journal.wait()

"""A real window with the demo open, its state in a temporary folder."""

import gc

import pytest
from PyQt6.QtWidgets import QApplication

from wyntaxis.desk.app import dress
from wyntaxis.desk.window import MainWindow
from wyntaxis.desk.window_state import WindowState

PATIENCE_MS = 180_000


@pytest.fixture(scope="session")
def qapp_cls():
    return QApplication


@pytest.fixture(autouse=True)
def no_garbage_is_looked_for_meanwhile():
    """As in the application: a job's thread would end widgets beside the one that draws them.

    A job that a test leaves behind may run on, so it is looked for between tests alone from here on.
    """
    gc.disable()


@pytest.fixture
def qtbot(qtbot):
    """One that waits as long as a busy machine needs: how soon something is there, benchmarks measure."""
    wait = qtbot.waitUntil
    qtbot.waitUntil = lambda callback: wait(callback, timeout=PATIENCE_MS)
    return qtbot


@pytest.fixture
def make_window(qtbot, qapp, tmp_path):
    dress(qapp)

    def make():
        window = MainWindow(WindowState(tmp_path / "state"), tmp_path / "state", tmp_path / "shelf.json")
        qtbot.addWidget(window, before_close_func=lambda w: w.session and w.session.history.mark_saved())
        window.build()
        window.files.saving.at_once_s = 30.0  # a busy disk decides no test
        window.show()
        qtbot.waitExposed(window)
        return window

    return make


@pytest.fixture
def window(make_window):
    window = make_window()
    window.files.open_demo("tarnfell-triplet-reduced")
    return window

"""A real window with the demo open, its state in a temporary folder."""

import gc
from itertools import count

import pytest
from PyQt6.QtWidgets import QApplication

from wyntaxis.desk.app import dress
from wyntaxis.desk.window import MainWindow
from wyntaxis.desk.window_state import WindowState


@pytest.fixture(scope="session")
def qapp_cls():
    return QApplication


TESTS_PER_LOOK = 25
_ended = count(1)


@pytest.fixture(autouse=True)
def collected_between_tests():
    """Garbage is looked for here alone, as the application does it between events: nowhere else does it end widgets."""
    gc.disable()
    yield
    gc.collect(2 if next(_ended) % TESTS_PER_LOOK == 0 else 1)
    gc.disable()  # a job that a test left behind may still run


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

"""A real window with the demo open, its state in a temporary folder."""

import pytest
from PyQt6.QtWidgets import QApplication

from wyntaxis.desk.app import dress
from wyntaxis.desk.window import MainWindow
from wyntaxis.desk.window_state import WindowState


@pytest.fixture(scope="session")
def qapp_cls():
    return QApplication


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

"""The rig is drawn before the rest of the window is there: at its place, from one reading, and nothing else changes."""

import json

import pytest
from PyQt6.QtCore import QRect

from wyntaxis import demo
from wyntaxis.core.rig import store
from wyntaxis.desk.beginning import Beginning
from wyntaxis.desk.section.picture import SectionPicture
from wyntaxis.desk.window import MainWindow
from wyntaxis.desk.window_state import WindowState

FILE = demo.rig_path("meadow-newtonian")


@pytest.fixture
def begin(qtbot, qapp, tmp_path, monkeypatch):
    """Return what begins a window on a file with some remembered state: the beginning, its window, what was read."""
    read = []
    monkeypatch.setattr(store, "load", lambda path, own=store.load: read.append(path) or own(path))

    def make(file=FILE, size=(1280, 800), shows_demo=False, **state):
        remembered = WindowState(tmp_path)
        for key, value in state.items():
            remembered.put(key, value)
        window = MainWindow(remembered, tmp_path, tmp_path / "shelf.json")
        qtbot.addWidget(window)
        window.resize(*size)
        beginning = Beginning(window, file, shows_demo=shows_demo)
        seen = []

        def before():
            beginning.draw()
            seen.extend((picture.geometry(), picture.drawn, picture.view()) for picture in pictures_of(window))

        opened = []
        window.start(lambda: opened.append(beginning.open()), before)
        qtbot.waitUntil(lambda: bool(opened) and pictures_of(window) == [window.band])
        return window, seen, read

    return make


def pictures_of(window):
    return window.findChildren(SectionPicture)


@pytest.mark.parametrize("state", [{}, {"text_scale": 1.15, "palette": "night"}, {"step": "scales"}])
@pytest.mark.parametrize("size", [(1280, 800), (1024, 700), (1920, 1080)])
def test_the_first_drawing_stands_where_the_band_is_going_to(begin, qapp, size, state):
    window, [(place, drawn, view)], read = begin(size=size, **state)
    qapp.processEvents()
    band = window.band
    assert place == QRect(band.mapTo(window, band.rect().topLeft()), band.size())
    assert view == band.view()
    assert [s.start_mm for s in drawn.parts] == [s.start_mm for s in band.drawn.parts]
    assert read == [FILE]
    assert window.session.path == FILE


def test_the_demo_and_the_rig_opened_last_are_drawn_at_once_too(begin, tmp_path):
    window, seen, read = begin(None, shows_demo=True)
    assert (len(seen), len(read), window.session.path) == (1, 1, None)
    window, seen, read = begin(None, recent=[str(FILE)])
    assert (len(seen), read[1:], window.session.path) == (1, [FILE], FILE)


@pytest.mark.parametrize("state", [{"step": "field"}, {"step": "devices"}, {"band_Build": "folded"}])
def test_where_the_band_shows_no_section_nothing_is_drawn_before(begin, state):
    window, seen, read = begin(**state)
    assert seen == []
    assert read == [FILE]
    assert window.session.rig.name == json.loads(FILE.read_text("utf-8"))["name"]


@pytest.mark.parametrize("holds", [b"{", b'{"format": "something"}', None])
def test_a_file_that_cannot_be_read_is_told_and_not_drawn(begin, tmp_path, holds):
    path = tmp_path / "broken.rig.json"
    if holds is not None:
        path.write_bytes(holds)
    window, seen, _read = begin(path)
    assert seen == []
    assert window.session is None
    assert path.name in window.notice.text.text()


def test_whoever_begins_sees_the_start_page(begin):
    window, seen, read = begin(None)
    assert (seen, read) == ([], [])
    assert window.stack.currentWidget() is window.stack.start_page

"""The rig is drawn before the rest of the window is there: at its place, from one reading, and nothing else changes."""

import json

import pytest
from PyQt6.QtCore import QRect

from wyntaxis import demo
from wyntaxis.core.rig import store
from wyntaxis.core.steps import step_named
from wyntaxis.desk.drawing_shape import DrawingShape
from wyntaxis.desk.section.picture import SectionPicture
from wyntaxis.desk.startup import Startup
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
        beginning = Startup(window, file, shows_demo=shows_demo)
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


SHAPES = [
    # step, window, text, remembered, empty: height in px
    ("light_path", 800, 1.0, {}, False, 320),  # 0.4 of the window
    ("light_path", 999, 1.0, {}, False, 400),
    ("light_path", 1000, 1.0, {}, False, 450),  # where the worklist has room left, 0.45
    ("light_path", 800, 1.5, {}, False, 360),  # and where it scrolls in any case
    ("light_path", 1080, 0.8, {}, False, 486),
    ("scales", 1080, 1.5, {}, False, 324),  # 0.3 of the window, less than 360
    ("light_path", 800, 1.0, {}, True, 130),
    ("scales", 800, 1.0, {}, False, 240),  # just 0.3 of the window
    ("scales", 700, 1.0, {}, False, 210),
    ("devices", 800, 1.0, {}, True, 240),  # the wiring has its blocks without a train
    ("field", 1080, 1.0, {}, False, 486),
    ("records", 800, 1.0, {}, False, 56),
    ("records", 800, 1.5, {"band_Connect": "open"}, False, 240),
    ("light_path", 800, 1.5, {"band_Build": "folded"}, False, 84),
    ("ready", 800, 1.0, {"band_Vouch": "open"}, False, 56),
    ("light_path", 800, 1.0, {"band_height_Build": 500.0}, False, 500),
    ("light_path", 800, 1.0, {"band_height_Build": 900.0}, False, 560),  # 0.7 of the window
    ("light_path", 800, 1.0, {"band_height_Build": 5.0}, False, 56),
]


@pytest.mark.parametrize("key, window_px, scale, remembered, is_empty, height_px", SHAPES)
def test_the_bands_height(tmp_path, key, window_px, scale, remembered, is_empty, height_px):
    settings = WindowState(tmp_path)
    for name, value in remembered.items():
        settings.put(name, value)
    assert DrawingShape(settings).height(step_named(key), window_px, scale, is_empty=is_empty) == height_px


def test_a_band_folds_and_keeps_its_height_by_group(tmp_path):
    settings = WindowState(tmp_path)
    shape, shelf, scales, ready = DrawingShape(settings), *(step_named(key) for key in ("shelf", "scales", "ready"))
    shape.keep_height(shelf, 300)
    assert [shape.height(step, 1080, 1.0) for step in (shelf, scales)] == [300, 240]
    assert shape.turn(shelf)
    shape.keep_height(shelf, 56)  # the strip's own height is none to be kept
    assert [shape.is_collapsed(step) for step in (shelf, scales)] == [True, False]
    assert shape.turn(shelf)
    assert shape.height(shelf, 1080, 1.0) == 300
    assert not shape.turn(ready)

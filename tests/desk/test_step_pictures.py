"""The pictures of the steps that measure: in the drawing area, one at a time, drawn when they are looked at."""

import pytest
from PyQt6 import sip
from PyQt6.QtCore import QEvent, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from tests.desk.test_sky_sheets import loaded
from wyntaxis.core.steps import steps
from wyntaxis.desk.drawing_shape import STRIP_PX
from wyntaxis.desk.step_pictures import PicturePanel, StepPicture, StepPictures

Key = Qt.Key
MEASURED = [step.key for step in steps() if step.group == "Measure"]


class Panel(PicturePanel):
    """A picture that counts how often it was drawn."""

    def __init__(self):
        super().__init__()
        self.drawn = 0


def counting(panel):
    panel.drawn += 1


@pytest.fixture
def pictures(qtbot):
    shown = StepPictures("Any")
    qtbot.addWidget(shown)
    refusals = Panel()
    qtbot.addWidget(refusals)
    for title in "abc":
        shown.add(StepPicture(title, Panel, counting, refusals.refused))
    shown.refusals = refusals
    shown.show()
    return shown


def test_a_picture_is_made_and_drawn_when_it_is_looked_at(pictures):
    a, b, c = pictures.all
    pictures.show_available([a, b], "none")
    assert a.plot.drawn == 1
    pictures.refresh()
    assert (a.plot.drawn, b.plot.drawn) == (2, 0), "what is out of sight waits"
    pictures.refresh()
    b.open()
    assert (a.plot.drawn, b.plot.drawn) == (3, 1), "once, however often it was to be drawn"
    a.open()
    assert a.plot.drawn == 3, "nothing has changed meanwhile"
    c.open()
    assert pictures.current is a, "what shows nothing is not offered"
    messages = []
    pictures.refusals.refused.connect(messages.append)
    a.plot.refused.emit("the disk is full")
    assert messages == ["the disk is full"]


def test_keys_go_round_what_is_offered(pictures):
    a, _b, c = pictures.all
    pictures.show_available([a, c], "none")
    seen = []
    for by in (1, 1, -1, -1):
        pictures.go(by)
        seen.append(pictures.current.title)
    assert seen == ["c", "a", "c", "a"]
    pictures.show_available([c], "none")
    assert pictures.current is c, "one that goes makes room for the first that stays"
    pictures.show_available([], "Drop flats here.")
    assert pictures.current is None
    assert pictures.nothing.isVisible()
    pictures.go(1)
    pictures.show_available([a, c], "none")
    assert pictures.current is a, "new pictures begin with the first"
    assert not pictures.nothing.isVisible()


def test_without_evidence_the_area_says_what_to_drop(window):
    for key in MEASURED:
        window.show_step(key)
        QApplication.processEvents()
        pictures = window.sheets[key].pictures
        assert window.drawing.currentWidget() is window.drawing.evidence, key
        assert pictures.isVisible(), key
        if pictures.current is None:
            assert pictures.nothing.text().endswith("Drop them here."), key
            assert len(pictures.nothing.text()) < 160, key
        assert window.drawing.height() <= 0.45 * window.height(), key


def test_the_area_folds_with_esc_and_turns_with_f9(window, qtbot):
    window.show_step("cooling")
    sheet = window.sheets["cooling"]
    loaded(sheet, qtbot, sheet.add_simulated)
    assert sheet.pictures.current is sheet.run_picture
    QTest.keyClick(window, Key.Key_F9)
    assert sheet.pictures.current is sheet.ramp_picture
    window.menus.by_name["Picture before"].trigger()
    assert sheet.pictures.current is sheet.run_picture
    sheet.pictures.tabs.setFocus()
    QTest.keyClick(sheet.pictures.tabs, Key.Key_Escape)
    assert window.drawing.currentWidget() is window.drawing.strip
    assert window.drawing.height() <= STRIP_PX + 4
    window.drawing.show_next_picture()
    assert sheet.pictures.current is sheet.run_picture, "folded, nothing turns"
    QTest.keyClick(window, Key.Key_F7)
    assert sheet.run_picture.isVisible()


def test_another_rig_takes_the_pictures_of_the_one_before_away(window, qtbot):
    window.show_step("filters")
    old = window.sheets["filters"].pictures
    window.files.open_demo("meadow-newtonian")
    assert window.sheets["filters"].pictures is not old
    assert not old.isVisible()
    assert window.sheets["filters"].pictures.isVisible()
    QApplication.sendPostedEvents(old, QEvent.Type.DeferredDelete)
    assert sip.isdeleted(old)


@pytest.mark.parametrize(
    ("key", "name", "marked"),
    [
        ("sensor", "tarnfell-triplet-reduced", {"camera"}),
        ("filters", "tarnfell-triplet-reduced", {"wheel"}),
        ("guide_log", "tarnfell-triplet-reduced", {"oag", "stalk", "guide_focuser", "guide_camera"}),
        ("light_path", "tarnfell-triplet-reduced", set()),
    ],
)
def test_what_a_step_measures_is_marked(window, key, name, marked):
    window.files.open_demo(name)
    window.show_step(key)
    window.drawing.evidence.strip.grab()
    assert window.drawing.evidence.strip.under_test == marked

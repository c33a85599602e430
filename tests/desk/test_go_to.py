"""Going anywhere by typing, from finding to finding by keys, and files dropped on the window."""

import itertools

import pytest
from PyQt6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QApplication, QPushButton

from wyntaxis import demo
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.steps import steps
from wyntaxis.core.worklist import step_applies, step_of
from wyntaxis.desk.go_to import Destination, matching


def destination(title, kind="step", words=""):
    return Destination(kind, title, lambda: None, words=words)


PLACES = [
    destination("Guide branch", words="Does the guide camera reach focus?"),
    destination("Focuser", words="How far does focus move?"),
    destination("Glide motor", "device", "focuser"),
    destination("Change the filter", "command"),
    destination("Filters", words="Does the wheel stop where it did?"),
]


@pytest.mark.parametrize(
    ("text", "titles"),
    [
        ("", ["Guide branch", "Focuser", "Glide motor", "Change the filter", "Filters"]),
        ("foc", ["Focuser", "Guide branch", "Glide motor"]),  # a title first, then what is found by its words
        ("FIL", ["Filters", "Change the filter"]),  # a title that begins so, then one that holds it
        ("dev foc", ["Glide motor"]),
        ("ocus", []),  # words are found by their beginnings
        ("(.*", []),
    ],
)
def test_what_words_lead_to(text, titles):
    assert [one.title for one in matching(text, PLACES)] == titles


def opened(window, qtbot):
    qtbot.keyClick(window, Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
    assert window.places.isVisible()
    return window.places


def test_each_step_is_found_by_its_title(window, qtbot):
    for step in steps():
        places = opened(window, qtbot)
        qtbot.keyClicks(places.words, step.title)
        qtbot.keyClick(places.words, Qt.Key.Key_Return)
        assert window.step.key == step.key


def test_parts_devices_findings_commands_and_the_guide_by_keys(window, qtbot):
    session = window.session
    places = opened(window, qtbot)
    qtbot.keyClicks(places.words, "Aldous")
    assert places.shown[0].kind == "part"
    qtbot.keyClick(places.words, Qt.Key.Key_Return)
    assert "Aldous" in next(part.title for part in session.rig.train if part.id == session.chosen_part)
    places = opened(window, qtbot)
    qtbot.keyClicks(places.words, "device mount")
    qtbot.keyClick(places.words, Qt.Key.Key_Return)
    assert window.step.key == "devices"
    failing = next(f for f in session.evaluation.findings if f.verdict is Verdict.FAILS)
    places = opened(window, qtbot)
    qtbot.keyClicks(places.words, failing.id)
    qtbot.keyClick(places.words, Qt.Key.Key_Return)
    assert session.chosen_finding.id == failing.id
    places = opened(window, qtbot)
    qtbot.keyClicks(places.words, "night palette")
    assert (places.shown[0].kind, places.shown[0].keys) == ("View", "Ctrl+Shift+N")
    qtbot.keyClick(places.words, Qt.Key.Key_Return)
    assert window.palette_in_use.name == "night"
    places = opened(window, qtbot)
    qtbot.keyClicks(places.words, "backlash")
    pages = [place for place, one in enumerate(places.shown) if one.kind.startswith("guide, ")]
    assert pages
    for _ in range(pages[0]):
        qtbot.keyClick(places.words, Qt.Key.Key_Down)
    qtbot.keyClick(places.words, Qt.Key.Key_Return)
    assert window.stack.shows_guide


def test_escape_stays_and_nothing_found_is_said(window, qtbot):
    before = window.step
    places = opened(window, qtbot)
    qtbot.keyClicks(places.words, "zzz<b>")
    assert "Nothing here is called" in places.state.text()
    qtbot.keyClick(places.words, Qt.Key.Key_Return)
    assert places.isVisible(), "there is nowhere to go"
    qtbot.keyClick(places.words, Qt.Key.Key_Escape)
    assert window.step is before


def test_all_findings_that_do_not_hold_are_gone_through_by_f8(window, qtbot):
    session = window.session
    wanted = {
        (f.id, f.subject)
        for f in session.evaluation.findings
        if f.verdict is not Verdict.HOLDS and not f.accepted and step_applies(session.rig, step_of(f))
    }
    seen, order = [], []
    for _ in wanted:
        qtbot.keyClick(window, Qt.Key.Key_F8)
        seen.append((session.chosen_finding.id, session.chosen_finding.subject))
        order.append(steps().index(step_of(session.chosen_finding)))
    assert set(seen) == wanted
    assert len(seen) == len(wanted), "none comes twice before all were there"
    turns = sum(later < earlier for earlier, later in itertools.pairwise(order))
    assert turns <= 1, "in the order of the steps, around the end once"
    qtbot.keyClick(window, Qt.Key.Key_F8, Qt.KeyboardModifier.ShiftModifier)
    assert (session.chosen_finding.id, session.chosen_finding.subject) == seen[-2]
    qtbot.keyClick(window, Qt.Key.Key_F8)  # without Shift, which would stay down for the next test
    assert (session.chosen_finding.id, session.chosen_finding.subject) == seen[-1]


def drop(window, paths):
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    held = (Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
    enter = QDragEnterEvent(QPoint(50, 5), *held)
    QApplication.sendEvent(window, enter)
    assert enter.isAccepted()
    QApplication.sendEvent(window, QDropEvent(QPointF(50, 5), *held))


def test_a_rig_that_is_dropped_opens_and_two_are_refused(window, tmp_path):
    one = tmp_path / "one.rig.json"
    one.write_bytes(demo.rig_path("meadow-newtonian").read_bytes())
    drop(window, [one, one.with_name("two.rig.json")])
    assert "2 rigs were dropped" in window.notice.text.text()
    drop(window, [one])
    assert window.session.path == one


def test_files_go_to_the_step_that_reads_them_else_it_is_asked(window, qtbot, tmp_path, monkeypatch):
    read = []
    window.show_step("stars")
    monkeypatch.setattr(type(window.sheets["stars"]), "read", lambda _self, paths: read.append(("stars", paths)))
    frame = tmp_path / "a.fits"
    drop(window, [frame])
    assert read == [("stars", [frame])]
    window.show_step("shelf")
    drop(window, [frame])
    assert "Which step is to read a.fits?" in window.notice.text.text()
    buttons = {button.text(): button for button in window.notice.findChildren(QPushButton) if button.isVisible()}
    assert {"Sensor", "Filters", "Stars"} <= set(buttons)
    buttons["Stars"].click()
    assert window.step.key == "stars"
    assert read[-1] == ("stars", [frame])
    window.show_step("shelf")
    drop(window, [tmp_path / "guide.csv"])
    assert {"Cooling", "Guide log"} <= {
        button.text() for button in window.notice.findChildren(QPushButton) if button.isVisible()
    }

"""Tonight's run-up in the real window: by keys alone, with the whole window to itself."""

import json

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from tests.core.records.test_setting_up import BEFORE, document
from wyntaxis.core.rig.store import load, validated
from wyntaxis.desk.session import Session

Key = Qt.Key


def opened(window, found):
    window.attach(Session(validated(json.loads(json.dumps(found)))))
    window.menus.by_name["Tonight"].trigger()
    return window.stack.run_up


def press(page, *keys):
    for key in keys:
        QTest.keyClick(page, key)


def verdicts(session):
    return {own.condition.key: own.verdict for own in session.evaluation.conditions}


def test_a_carried_rig_is_as_ready_as_a_permanent_one_after_the_run_up_by_keys(window):
    window.attach(Session(validated(document(kind="permanent"))))
    stands = verdicts(window.session)
    found = document(date=BEFORE)
    found["conditions"] = [{"id": "cap", "text": "The cap is off"}]
    page = opened(window, found)
    session = window.session
    before = verdicts(session)
    assert before["own.cap"] != "holds"
    assert any(before[key] != stands[key] for key in stands), "a set-up leaves something to be verified"
    for _ in range(60):
        if page.step is None:
            break
        press(page, *([Key.Key_C] if page.step.earlier else []), Key.Key_Space)
    assert page.step is None
    after = verdicts(session)
    assert after.pop("own.cap") == "holds"
    assert after == stands
    assert all(own.minutes is not None for own in session.rig.setup.done)
    session.undo()
    assert len(session.rig.setup.done) == len(page.steps) - 1


def test_the_page_has_the_window_to_itself_and_gives_it_back(window):
    page = opened(window, document())
    assert page.isVisible()
    assert page.hasFocus()
    beside = (window.drawing, window.worklist, window.margin)
    assert not any(widget.isVisible() for widget in beside)
    press(page, Key.Key_Down, Key.Key_Down, Key.Key_Up)
    assert page.place == 1
    press(page, Key.Key_Escape)
    assert all(widget.isVisible() for widget in beside)
    assert window.step.key == "ready"
    window.menus.by_name["Tonight"].trigger()
    assert page.place == 0, "it begins at the first open step"


def test_a_failure_stays_in_sight_is_noted_and_not_now_goes_on(window):
    page = opened(window, document())
    press(page, Key.Key_F)
    assert page.place == 0
    assert "Failed" in page.state.text()
    assert "power gone" in page.cures.text() or "the device is not there" in page.cures.text()
    assert len(window.session.rig.incidents) == 1
    press(page, Key.Key_N)
    assert (page.place, page.steps[0].outcome) == (1, "not_now")
    press(page, Key.Key_C)
    assert "no value of an earlier set-up" in window.notice.text.text()
    while page.step is not None:
        press(page, Key.Key_Down)
    assert not page.buttons["done"].isEnabled()
    assert "1 not now" in page.right.text()
    press(page, Key.Key_Space)
    assert len(window.session.rig.setup.done) == 2, "at the end there is nothing to be done"


@pytest.mark.parametrize(("palette", "scale"), [("night", 8), ("day", 0)])
def test_the_buttons_stay_in_sight_on_a_small_screen(window, palette, scale):
    page = opened(window, document())
    window.resize(1024, 700)
    window.set_palette_by_name(palette)
    window.change_text(scale)
    QTest.qWait(10)
    for button in page.buttons.values():
        corner = button.mapTo(window, button.rect().bottomRight())
        assert window.rect().contains(corner), button.text()


def test_what_was_done_is_saved_with_the_rig(window, tmp_path):
    page = opened(window, document())
    press(page, Key.Key_Space)
    window.session.save(tmp_path / "a.rig.json")
    assert load(tmp_path / "a.rig.json").rig.setup.done[0].condition == page.steps[0].id

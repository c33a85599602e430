"""Where the keyboard goes, what Esc takes away, and the palette's clock."""

import datetime
from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeySequence
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLineEdit

from tests.desk.test_sky_sheets import loaded
from wyntaxis.core.steps import steps
from wyntaxis.desk.palette_clock import PaletteClock

Key = Qt.Key


def test_one_key_leads_to_the_sheets_first_field(window):
    for key in (step.key for step in steps()):
        window.show_step(key)
        window.menus.by_name["Go to the drawing"].trigger()
        assert window.drawing.isAncestorOf(QApplication.focusWidget()), key
        window.menus.by_name["Go to the sheet"].trigger()
        focus = QApplication.focusWidget()
        assert focus is window.sheets[key] or window.sheets[key].isAncestorOf(focus), key
        assert focus.isEnabled(), key


def test_the_drawing_of_evidence_has_its_tabs_under_the_key(window, qtbot):
    window.show_step("cooling")
    loaded(window.sheets["cooling"], qtbot, window.sheets["cooling"].add_simulated)
    window.menus.by_name["Go to the drawing"].trigger()
    tabs = window.sheets["cooling"].pictures.tabs
    assert tabs.hasFocus()
    QTest.keyClick(tabs, Key.Key_Right)
    assert window.sheets["cooling"].pictures.current.title == "Ramp"


def test_esc_takes_a_notice_away_wherever_the_keyboard_is(window):
    for key in ("light_path", "devices"):
        window.show_step(key)
        window.menus.by_name["Go to the sheet"].trigger()
        window.notice.tell("Saved.")
        QTest.keyClick(QApplication.focusWidget(), Key.Key_Escape)
        assert not window.notice.isVisible()


def test_after_a_question_the_keyboard_is_where_it_was(window):
    field = next(own for own in window.sheets["light_path"].card.findChildren(QLineEdit) if own.isVisible())
    for answer in ("Yes", "No"):
        field.setFocus()
        done = []
        window.notice.ask("Shall it be?", [("Yes", partial(done.append, 1)), ("No", lambda: None)])
        assert not field.hasFocus()
        window.notice.button(answer).click()
        assert field.hasFocus()
        assert done == ([1] if answer == "Yes" else [])
    field.setFocus()
    window.notice.ask("Shall it be?", [("Yes", lambda: None)])
    QTest.keyClick(QApplication.focusWidget(), Key.Key_Escape)
    assert field.hasFocus()
    other = window.worklist
    window.notice.ask("Shall it be?", [("Yes", other.setFocus)])
    window.notice.button("Yes").click()
    assert not field.hasFocus(), "an answer may take the keyboard elsewhere"


def test_a_good_value_takes_the_refusal_of_the_last_away(window):
    card = window.sheets["light_path"].card
    field = card.field("length_mm")
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, "minus one")
    QTest.keyClick(field, Key.Key_Return)
    assert window.notice.isVisible()
    field.selectAll()
    QTest.keyClicks(field, "12.5")
    QTest.keyClick(field, Key.Key_Return)
    assert not window.notice.isVisible()
    window.refuse("the disk is full")
    field.selectAll()
    QTest.keyClicks(field, "12.6")
    window.worklist.setFocus()
    window.notice.tell("the disk is full", error=True)
    window.session.set_value(("train", 3, "mass_g"), 25.0, "Mass")
    assert window.notice.isVisible(), "what is not about a value stays"


def test_larger_text_has_the_keys_of_every_keyboard(window):
    keys = [key.toString() for key in window.menus.by_name["Larger text"].shortcuts()]
    assert "Ctrl+=" in keys
    assert QKeySequence(QKeySequence.StandardKey.ZoomIn).toString() in keys


def test_the_palette_follows_the_sun_until_it_is_chosen_by_hand(window):
    clock = {"now": datetime.datetime(2026, 12, 2, 12, tzinfo=datetime.UTC).timestamp()}
    palette = PaletteClock(window, now=lambda: clock["now"])
    palette.turn()
    assert palette.is_on
    assert window.palette_in_use.name == "day"
    clock["now"] += 6 * 3600
    palette.look()
    assert window.palette_in_use.name == "night"
    window.set_palette_by_name("day")
    palette.look()
    assert window.palette_in_use.name == "day", "chosen by hand, it stays until dawn"
    clock["now"] += 14 * 3600
    palette.look()
    clock["now"] += 10 * 3600
    palette.look()
    assert window.palette_in_use.name == "night"
    palette.turn()
    assert not palette.is_on
    clock["now"] += 12 * 3600
    palette.look()
    assert window.palette_in_use.name == "night", "switched off, it changes nothing"


def test_without_a_site_the_palettes_clock_says_what_it_needs(window):
    window.files.open_new()
    palette = PaletteClock(window, now=lambda: 0.0)
    palette.turn()
    assert "once the site is entered" in window.notice.text.text()

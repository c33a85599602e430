"""The guide in the window: F1 at the step, a finding's place, the way back, the search, and nothing from outside."""

import pytest
from PyQt6.QtCore import Qt, QUrl
from PyQt6.QtGui import QColor, QImage, QTextDocument
from PyQt6.QtWidgets import QApplication, QPushButton

from tests.test_guide import built_guide  # noqa: F401
from wyntaxis.core import guide
from wyntaxis.core.guide import Place
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.incidents import SYMPTOMS
from wyntaxis.desk.guide_page import by_night
from wyntaxis.desk.palette import NIGHT


def shown(window):
    return window.stack.currentWidget()


def test_f1_shows_the_step_in_sight_and_puts_the_guide_away(window, qtbot):
    window.show_step("travel")
    sheet = shown(window)
    qtbot.keyClick(window, Qt.Key.Key_F1)
    assert shown(window) is window.stack.guide
    assert window.stack.guide.place == Place("steps/travel")
    assert window.stack.guide.pages.toPlainText().startswith("Focuser")
    qtbot.keyClick(window.stack.guide.pages, Qt.Key.Key_F1)
    assert shown(window) is sheet
    qtbot.keyClick(window, Qt.Key.Key_F1)
    qtbot.keyClick(window.stack.guide, Qt.Key.Key_Escape)
    assert shown(window) is sheet


def test_a_step_of_the_worklist_leaves_the_guide(window):
    window.guide.toggle()
    window.show_step("scales")
    assert shown(window) is window.sheets["scales"]
    window.guide.toggle()
    assert window.stack.guide.place == Place("steps/scales")


def test_a_finding_is_shown_at_its_place(window, qtbot):
    window.show_step("light_path")
    window.margin.guide_button.click()
    assert window.stack.guide.place == Place("reference/findings", "finding.spacing.main")
    assert window.stack.guide.pages.verticalScrollBar().value() > 0


def test_links_are_followed_within_the_guide_with_a_way_back(window):
    window.guide.show(Place("steps/scales"))
    page = window.stack.guide
    page.follow(QUrl("../reference/numbers.html#number.focal_ratio"))
    assert page.place == Place("reference/numbers", "number.focal_ratio")
    page.follow(QUrl("#number.star_elongation"))
    assert page.place == Place("reference/numbers", "number.star_elongation")
    page.go_back()
    page.go_back()
    assert page.place == Place("steps/scales")
    assert not page.back.isEnabled()
    page.go_forward()
    assert page.place.section == "number.focal_ratio"
    assert page.forward.isEnabled()


def test_ones_own_cures_stand_above_the_general_words(window):
    rig = window.session.rig
    noted = (
        {"date": "2026-03-01", "symptom": "guiding lost", "tried": "a longer exposure"},
        {"date": "2026-02-01", "symptom": "guiding lost", "cure": "cable <b>tied</b> to the mount", "frames_lost": 3},
        {"date": "2026-02-02", "symptom": "my own words", "cure": "x"},
    )
    entries = [(("incidents", len(rig.incidents) + k), entry) for k, entry in enumerate(noted)]
    window.session.apply(edit.Change("Note", tuple(entries)))
    window.guide.show(Place("symptoms", "guiding-lost"))
    text = window.stack.guide.pages.toPlainText()
    below = text[text.index("Guiding lost") :]
    lines = [line for line in below.splitlines() if line.strip()]
    assert lines[1].startswith("Noted in this rig")
    assert lines[2] == "2026-02-01: guiding lost; cured by: cable <b>tied</b> to the mount; 3 frames lost"
    assert lines[3].startswith("2026-03-01: guiding lost; tried without a cure")
    assert "too faint" in lines[4]
    assert "my own words" not in text
    window.session.undo()
    window.guide.show(Place("symptoms"))
    assert "Noted in this rig" not in window.stack.guide.pages.toPlainText()


def test_every_shipped_symptom_has_a_section_of_the_guide():
    page = guide.page_html("symptoms")
    for symptom in SYMPTOMS:
        assert f'<section id="{symptom.replace(" ", "-")}">' in page, symptom


@pytest.mark.parametrize(
    "link", ["https://example.org/", "file:///etc/passwd", "//host/x.html", "/../../etc/passwd", "none.html"]
)
def test_nothing_outside_the_guide_is_opened(window, link):
    window.guide.show(Place("index"))
    before = window.stack.guide.place
    window.stack.guide.follow(QUrl(link))
    assert window.stack.guide.place == before


def test_pictures_are_the_guides_own_and_as_wide_as_the_page(window, tmp_path):
    window.guide.show(Place("steps/scales"))
    pages = window.stack.guide.pages
    kind = QTextDocument.ResourceType.ImageResource.value
    own = pages.loadResource(kind, QUrl("../_images/scales.png"))
    assert 0 < own.width() <= pages.viewport().width()
    for other in ("file:///etc/passwd", "../_images/../search.json", "https://example.org/scales2.png", str(tmp_path)):
        assert pages.loadResource(kind, QUrl(other)).isNull()


def test_typing_searches_and_a_hit_is_opened(window, qtbot):
    window.guide.search()
    page = window.stack.guide
    qtbot.keyClicks(page.words, "embossed")
    qtbot.waitUntil(lambda: "Embossed flats" in page.pages.toPlainText())
    page.follow(QUrl("/symptoms.html#embossed-flats"))
    assert page.place == Place("symptoms", "embossed-flats")
    page.words.setText("zzz<b>")
    qtbot.keyClick(page.words, Qt.Key.Key_Return)
    assert "Nothing in the guide" in page.pages.toPlainText()
    assert "zzz<b>" in page.pages.toPlainText()
    page.words.clear()
    qtbot.keyClick(page.words, Qt.Key.Key_Return)
    assert page.pages.toPlainText().startswith("By symptom")


def test_a_guide_that_was_not_built_is_told_in_the_strip(window, monkeypatch, tmp_path):
    monkeypatch.setattr(guide, "FOLDER", tmp_path)
    window.show_step("scales")
    window.guide.toggle()
    assert shown(window) is window.sheets["scales"]
    assert "make docs" in window.notice.text.text()


def test_the_guide_follows_palette_and_text_size(window):
    window.guide.show(Place("steps/scales"))
    window.set_palette_by_name("night")
    assert window.palette_in_use.ink in window.stack.guide.pages.document().defaultStyleSheet()
    window.change_text(1)
    assert shown(window) is window.stack.guide


@pytest.mark.parametrize("taken", ["#f6f0e2", "#120404"])
def test_by_night_no_picture_is_bright_and_none_is_of_another_colour(taken):
    picture = QImage(40, 20, QImage.Format.Format_RGB32)
    picture.fill(QColor(taken))
    dark = by_night(picture, NIGHT)
    found, ink = dark.pixelColor(20, 10), NIGHT.color("ink")
    assert found.lightness() < 30
    assert found.blue() <= found.red()
    assert found.red() <= ink.red()


def test_buttons_of_the_guide_stand_whole_in_a_narrow_window(window):
    window.resize(1024, 700)
    window.change_text(9)
    window.guide.toggle()
    QApplication.processEvents()
    for button in window.stack.guide.findChildren(QPushButton):
        assert button.width() >= button.sizeHint().width()

"""The chooser in the real window: compared in the background, sorted, narrowed, opened as a rig, left."""

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from wyntaxis.core.rig.shelf import load_shelf
from wyntaxis.demo import CHOOSING_SHELF


@pytest.fixture
def page(window, qtbot):
    window.menus.by_name["Choose a train"].trigger()
    found = window.stack.chooser
    assert "no telescope" in found.state.text()
    assert found.table.rowCount() == 0
    found.example_button.click()
    qtbot.waitUntil(lambda: len(found.found) == 72)
    return found


def column(page, name):
    titles = [page.table.horizontalHeaderItem(k).text() for k in range(page.table.columnCount())]
    return next(place for place, title in enumerate(titles) if title.startswith(name))


def test_what_mates_is_shown_sorted_and_narrowed(window, page):
    assert not window.drawing.isVisible()
    mating = sum(own.mates is True for own in page.found)
    assert page.table.rowCount() == mating
    assert f"{mating} of 72 combinations" in page.state.text()
    page.mating.setChecked(False)
    assert page.table.rowCount() == 72
    window.set_palette_by_name("night")
    assert page.table.rowCount() == 72, "the example stays in sight"
    assert page.table.isColumnHidden(column(page, "Object"))
    page.words.setText("meadow coma")
    assert {(own.telescope, own.corrector) for own in page.shown} == {("meadow_200", "coma")}
    page.words.clear()
    for turned in (False, True):
        page.sort_by(column(page, "Cost"))
        costs = [own.numbers["cost"] for own in page.shown]
        assert costs == sorted(costs, reverse=turned)
    page.sort_by(column(page, "Telescope"))
    assert [own.telescope for own in page.shown] == sorted(own.telescope for own in page.shown)


def test_an_object_is_compared_with_the_field(window, page, qtbot):
    page.object_name.setText("NGC 7243")
    page.start()
    qtbot.waitUntil(lambda: bool(page.found) and "object_share_percent" in page.found[0].numbers)
    page.object_name.setText("Nowhere 5")
    page.start()
    assert "is not in the catalogue" in window.notice.text.text()
    qtbot.waitUntil(lambda: "object_share_percent" not in page.found[0].numbers)


def test_a_combination_is_opened_as_a_rig(window, page):
    page.open_chosen()
    assert "choose a combination" in window.notice.text.text()
    page.table.selectRow(0)
    wanted = page.shown[0]
    page.open_chosen()
    assert window.drawing.isVisible()
    assert window.session.rig.telescope.id == wanted.telescope
    assert [part.id for part in window.session.rig.train] == [part.id for part in wanted.rig.train]
    row = window.session.evaluation.rows["back_focus_error_mm"]
    assert row.best is None or row.best.value == pytest.approx(wanted.numbers["back_focus_error_mm"])


def test_it_is_left_by_esc_and_shows_a_shelf_that_came_meanwhile(window, page, qtbot):
    QTest.keyClick(page, Qt.Key.Key_Escape)
    assert window.drawing.isVisible()
    assert window.step.key == "shelf"
    own = load_shelf(CHOOSING_SHELF)
    assert window.session.stock.take(own.with_parts(own.parts, own.telescopes[1:]))
    window.menus.by_name["Choose a train"].trigger()
    qtbot.waitUntil(lambda: len(page.found) == 48)
    assert {own.telescope for own in page.found} == {"aldous_72", "meadow_200"}

"""All numbers in one table, and the trains side by side with what differs first."""

import csv

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from wyntaxis.core.numbers_table import number_rows


@pytest.fixture
def page(window):
    window.menus.by_name["All numbers"].trigger()
    return window.stack.numbers


def column(page, place):
    return [page.table.item(row, place).text() for row in range(page.table.rowCount())]


def choose(box, text):
    box.setCurrentText(text)
    box.activated.emit(box.currentIndex())


def test_every_number_with_a_value_stands_once(window, page):
    assert window.stack.currentWidget() is page
    assert page.words.hasFocus()
    rows = window.session.evaluation.rows
    with_value = [row for row in rows.values() if row.values]
    together = sum(row.kind.label.startswith("Through ") for row in with_value)
    names = column(page, 1)
    assert len(set(names)) == len(names)
    # twelve rows of six filters, alike in both numbers, stand as two
    assert len(names) == len(with_value) - together + 2
    assert page.state.text() == f"{len(names)} of {len(names)} numbers."


def test_words_step_and_verdict_narrow_it(page):
    page.words.setText("voltage stout")
    assert set(column(page, 0)) == {"Devices"}
    assert all("Stout" in name and "voltage" in name for name in column(page, 1))
    choose(page.verdict_box, "fails")
    assert column(page, 1) == ["Cairn Stout: voltage at the device, full load"]
    page.words.setText("")
    assert set(column(page, 7)) == {"fails"}
    choose(page.step_box, "Guide branch")
    assert set(column(page, 0)) == {"Guide branch"}
    choose(page.verdict_box, "no verdict")
    assert set(column(page, 7)) == {"–"}
    page.words.setText("nothing of the kind")
    assert page.table.rowCount() == 0
    assert page.state.text().startswith("0 of ")


def test_a_heading_sorts_and_turns(page):
    header = page.table.horizontalHeader()
    header.sectionClicked.emit(7)
    verdicts = [row.quantity.verdict for row in page.shown if row.verdict != "–"]
    severities = [verdict.severity for verdict in verdicts]
    assert severities == sorted(severities, reverse=True)
    assert page.shown[-1].verdict == "–"
    header.sectionClicked.emit(7)
    assert page.shown[0].verdict == "–"
    choose(page.step_box, "Scales")
    header.sectionClicked.emit(3)
    values = [row.quantity.computed.value for row in page.shown if row.quantity.computed]
    assert values == sorted(values), "by the number, not by its text"
    header.sectionClicked.emit(1)
    assert column(page, 1) == sorted(column(page, 1), key=str.casefold)


def test_a_row_leads_to_its_step_and_finding(window, page):
    page.words.setText("effective focal length")
    page.table.setFocus()
    page.table.selectRow(0)
    QTest.keyClick(page.table, Qt.Key.Key_Return)
    assert window.step.key == "scales"
    assert window.stack.currentWidget() is window.sheets["scales"]
    assert "effective_focal_length_mm" in window.session.chosen_finding.quantities


def test_it_follows_edits_and_is_copied_and_saved(window, page, tmp_path):
    page.words.setText("back focus built")
    before = column(page, 3)
    place = next(k for k, part in enumerate(window.session.rig.train) if part.id == "ring")
    window.session.set_value(("train", place, "length_mm"), 12.2, "A shorter ring")
    assert float(column(page, 3)[0]) == pytest.approx(float(before[0]) - 0.7)
    page.copy()
    assert QApplication.clipboard().text().splitlines()[1].startswith("Light path\tBack focus built\t–\t62.200")
    page.words.setText("")
    page.save(tmp_path / "numbers.csv")
    with (tmp_path / "numbers.csv").open(newline="", encoding="utf-8") as file:
        saved = {row["id"]: row for row in csv.DictReader(file)}
    assert len(saved) == len(number_rows(window.session.evaluation.rows))
    row = window.session.evaluation.rows["back_focus_built_mm"]
    assert float(saved[row.id]["computed"]) == row.computed.value
    page.save(tmp_path / "gone" / "numbers.csv")
    assert "gone" in window.notice.text.text()


def test_side_by_side_shows_what_differs_and_folds_the_rest(window):
    window.menus.by_name["Trains side by side"].trigger()
    compared = window.stack.comparison
    shown = [
        compared.table.verticalHeaderItem(row).text()
        for row in range(compared.table.rowCount())
        if not compared.table.isRowHidden(row)
    ]
    assert {"Effective focal length", "Focal ratio"} <= set(shown)
    assert "Sensor diagonal" not in shown
    compared.equal.setChecked(True)
    rows = compared.table.rowCount()
    assert not any(compared.table.isRowHidden(row) for row in range(rows))
    hidden = rows - len(shown)
    assert compared.equal.text() == f"Show the {hidden} numbers that are equal"
    labels = [compared.table.verticalHeaderItem(row).text() for row in range(rows)]
    assert labels[: len(shown)] == shown, "what differs stands first"
    compared.table.setFocus()
    QTest.keyClick(compared.table, Qt.Key.Key_Tab)
    assert not compared.table.hasFocus(), "Tab leaves the table"

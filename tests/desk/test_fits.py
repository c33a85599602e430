"""Nothing is cut off: every label, field and button of every sheet has the room that its text needs."""

import pytest
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QPushButton,
    QTableWidget,
    QToolButton,
    QWidget,
)

from tests.desk.test_sky_sheets import loaded
from wyntaxis.core.steps import steps
from wyntaxis.desk.screenshots import settle

FAST = ("sensor", "cooling", "travel", "guide_log")
"""The steps whose simulated evidence takes little time."""
COMBO_EDGE_PX = 26


def widest_word(label):
    metrics = label.fontMetrics()
    return max((metrics.horizontalAdvance(word) for word in label.text().split()), default=0)


def missing_px(widget):
    """How many px a widget's text needs more than it has; 0 where it has none."""
    metrics = widget.fontMetrics()
    if isinstance(widget, QLabel):
        if not widget.text():
            return 0
        if widget.wordWrap():
            across = widest_word(widget) - widget.width()
            return max(across, widget.heightForWidth(widget.width()) - widget.height())
        return metrics.horizontalAdvance(widget.text()) - widget.width()
    if isinstance(widget, QLineEdit):
        text = widget.text() or widget.placeholderText()
        return metrics.horizontalAdvance(text) + 8 - widget.width() if text else 0
    if isinstance(widget, QComboBox):
        return metrics.horizontalAdvance(widget.currentText()) + COMBO_EDGE_PX - widget.width()
    if isinstance(widget, (QPushButton, QCheckBox)) or (isinstance(widget, QToolButton) and widget.text()):
        return widget.sizeHint().width() - widget.width()
    return 0


def cut_headings(table):
    """The headings of a table that are wider than their columns."""
    header = table.horizontalHeader()
    for column in range(table.columnCount()):
        item = table.horizontalHeaderItem(column)
        lines = item.text().split("\n") if item is not None else [""]
        if max(map(header.fontMetrics().horizontalAdvance, lines)) > header.sectionSize(column):
            yield item.text()


def cut_in(window, key):
    """What is cut off at a step, in words."""
    sheet = window.sheets[key]
    if sheet.horizontalScrollBar().maximum() > 0:
        yield f"{key}: the sheet scrolls sideways by {sheet.horizontalScrollBar().maximum()} px"
    for area in (sheet, window.drawing, window.margin):
        for widget in area.findChildren(QWidget):
            if widget.isVisible() and missing_px(widget) > 1:
                text = widget.currentText() if isinstance(widget, QComboBox) else widget.text()
                yield f"{key}: {type(widget).__name__} {text!r} lacks {missing_px(widget)} px"
    for table in sheet.findChildren(QTableWidget):
        if table.isVisible():
            yield from (f"{key}: heading {text!r} of {table.accessibleName()}" for text in cut_headings(table))
            if table.verticalScrollBar().maximum() > 0:
                assert table.rowCount() > table.most_rows, f"{table.accessibleName()} scrolls within its sheet"


@pytest.fixture
def window_with_evidence(window, qtbot):
    for key in FAST:
        window.show_step(key)
        loaded(window.sheets[key], qtbot, window.sheets[key].add_simulated)
    return window


def cut_at_rest(window, key):
    """What is cut off once layouts have come to rest: what wraps asks for its height after it has its width."""
    for _ in range(5):
        settle()
        found = list(cut_in(window, key))
        if not found:
            break
    return [f"{window.width()} px, {window.text_scale}: {words}" for words in found]


def walk(window):
    found = []
    for step in steps():
        window.show_step(step.key)
        found += cut_at_rest(window, step.key)
    return found


def test_every_sheet_shows_its_texts_whole(window_with_evidence):
    window = window_with_evidence
    window.resize(1024, 700)
    assert walk(window) == []
    window.show_step("devices")
    for device in window.session.rig.devices:
        window.session.choose_device(device.id)
        assert cut_at_rest(window, "devices") == [], device.id
    window.resize(1280, 800)
    window.change_text(8)
    assert window.text_scale == 2.0
    assert walk(window) == []


def test_an_empty_rig_does_too(window):
    window.files.open_new()
    window.resize(1024, 700)
    assert walk(window) == []

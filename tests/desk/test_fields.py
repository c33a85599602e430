"""Fields, cards and tables by themselves: what is typed, what is shown, what is kept."""

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from wyntaxis.core.rig.display import DisplayedField
from wyntaxis.desk.card import Card, value_at
from wyntaxis.desk.parts_table import ADJUSTABLE_COLUMNS
from wyntaxis.desk.plots import PlotData
from wyntaxis.desk.value_field import ChoiceField, TickField, ValueField

Key = Qt.Key


@pytest.fixture
def field(qtbot):
    field = ValueField(("train", 0, "length_mm"), "length", "mm")
    qtbot.addWidget(field)
    field.taken, field.said = [], []
    field.entered.connect(lambda path, value: field.taken.append((path, value)))
    field.refused.connect(field.said.append)
    field.show_value(12.9)
    field.show()
    return field


def replace(field, text):
    field.selectAll()
    QTest.keyClick(field, Key.Key_Delete)
    QTest.keyClicks(field, text)


@pytest.mark.parametrize("typed, value", [("12,5", 12.5), ("12.5 mm", 12.5), ("", None), ("-3", -3.0)])
def test_what_is_typed_is_entered_once(field, typed, value):
    replace(field, typed)
    QTest.keyClick(field, Key.Key_Return)
    assert field.taken[0] == (("train", 0, "length_mm"), value)
    assert field.said == []


def test_the_same_value_again_is_no_edit(field):
    replace(field, "12.9")
    QTest.keyClick(field, Key.Key_Return)
    assert field.taken == []


def test_what_cannot_be_read_is_kept_marked_and_taken_back_by_escape(field):
    replace(field, "twelve")
    QTest.keyClick(field, Key.Key_Return)
    assert field.said == ["“twelve” is not a number in mm"]
    assert field.property("invalid") is True
    field.show_value(12.9)  # a redraw in between does not wipe it
    assert field.text() == "twelve"
    replace(field, "thirteen")
    QTest.keyClick(field, Key.Key_Escape)
    assert field.text() == "12.9"
    assert field.property("invalid") is False
    assert field.taken == []


def test_whole_numbers_and_texts(qtbot):
    whole = ValueField(("x",), "pixels", "px", kind="whole")
    text = ValueField(("x",), "name", kind="text")
    for field in (whole, text):
        qtbot.addWidget(field)
        field.got = []
        field.entered.connect(lambda _path, value, field=field: field.got.append(value))
        field.refused.connect(field.got.append)
        for typed in ("6000.5", "6000"):
            replace(field, typed)
            QTest.keyClick(field, Key.Key_Return)
            field.show_value(None)
    assert whole.got[0] == "“6000.5” is not a whole number"
    assert whole.got[-1] == 6000
    assert isinstance(whole.got[-1], int)
    assert text.got[0] == "6000.5"


def test_choices_and_ticks(qtbot):
    choice = ChoiceField(("kind",), "Kind", ("spacer", "filter_wheel"), optional=True)
    tick = TickField(("counted",), "Counted")
    got = []
    for field in (choice, tick):
        qtbot.addWidget(field)
        field.entered.connect(lambda path, value: got.append((path, value)))
    choice.show_value("filter_wheel")
    assert choice.currentText() == "filter wheel"
    choice.show_value(None)
    assert choice.currentText() == "–"
    choice.setCurrentIndex(1)
    choice.activated.emit(1)
    tick.show_value(True)
    tick.click()
    assert got == [(("kind",), "spacer"), (("counted",), False)]


def test_a_card_takes_as_many_columns_as_it_has_room_for(qtbot):
    card = Card(3)
    qtbot.addWidget(card)
    specs = tuple(DisplayedField(name, (name,)) for name in "abcdef")
    card.show_object("Six", (), specs, {name: index for index, name in enumerate("abcdef")})
    places = {}
    for width in (2000, 600, 100):
        card.fit_to_width(width)
        grid = card.grid
        places[width] = [grid.getItemPosition(grid.indexOf(card.field(name)))[:2] for name in "abcdef"]
    assert [column for _, column in places[2000]] == [1, 1, 3, 3, 5, 5]
    assert [column for _, column in places[100]] == [1] * 6
    assert len(set(places[600])) == 6
    assert card.field("d").text() == "3"


def test_values_are_found_anywhere_in_a_document(window):
    rig = window.session.rig
    assert value_at(rig, ("train", 2, "glass", 0, "index")) == 1.52
    assert value_at(rig, ("train", 2, "glass", 4, "index")) is None
    assert value_at(rig, ("stated", "effective_focal_length_mm", "value")) == 676
    assert value_at(rig, ("measured", "focal_ratio", "value")) is None


def test_a_table_shows_the_columns_its_parts_need(window):
    table = window.sheets["light_path"].table
    assert all(table.isColumnHidden(column) for column in ADJUSTABLE_COLUMNS)
    window.session.choose_part("ring")
    window.menus.by_name["Make adjustable"].trigger()
    assert not any(table.isColumnHidden(column) for column in ADJUSTABLE_COLUMNS)
    flags = [table.parts.flags(table.parts.index(3, column)) for column in (3, 5)]
    assert [bool(flag & Qt.ItemFlag.ItemIsEditable) for flag in flags] == [False, True]


def test_a_plots_numbers_as_csv():
    data = PlotData(["height_mm", "light_percent"], [[0, 100], [1.5, 99.25]])
    assert data.as_csv() == "height_mm,light_percent\n0,100\n1.5,99.25\n"

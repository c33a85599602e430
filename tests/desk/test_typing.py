"""What is typed reaches the thing that it was typed for, and no key acts on a part while a text is edited."""

import json
import threading

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.store import load, save
from wyntaxis.desk import saving_thread
from wyntaxis.desk.numbers_in import parse_number
from wyntaxis.desk.plain_widgets import PushButton
from wyntaxis.desk.value_field import ValueField

Key, Ctrl = Qt.Key, Qt.KeyboardModifier.ControlModifier


def length_field(window, part_id="ring"):
    """The field of a part's length on the Light path sheet, with the keyboard."""
    window.show_step("light_path")
    window.session.choose_part(part_id)
    place = window.session.rig.find(part_id)[0]
    field = next(
        f for f in window.findChildren(ValueField) if f.path == (*place, "length_mm") and f.isVisibleTo(window)
    )
    window.activateWindow()
    field.setFocus()
    QApplication.processEvents()
    return field


def typed(field, text):
    field.selectAll()
    QTest.keyClicks(field, text)


def ids(window):
    return [part.id for part in window.session.rig.train]


@pytest.mark.parametrize(
    ("key", "modifier"), [(Key.Key_Delete, Ctrl), (Key.Key_Left, Ctrl), (Key.Key_Right, Ctrl), (Key.Key_D, Ctrl)]
)
def test_keys_that_change_a_text_do_nothing_to_a_part_while_one_is_edited(window, key, modifier):
    field, before = length_field(window), ids(window)
    QTest.keyClicks(field, "12 34")
    QTest.keyClick(field, key, Ctrl)
    assert ids(window) == before
    assert (field.text() == "") <= (key == Key.Key_Delete)


def test_outside_of_a_field_they_act(window):
    length_field(window)
    window.session.choose_part("ring")
    window.band.setFocus()
    QTest.keyClick(window.band, Key.Key_D, Ctrl)
    assert "ring_2" in ids(window)


@pytest.mark.parametrize("how", ["menu", "session", "undo", "other part"])
def test_what_was_typed_goes_to_the_part_that_it_was_typed_for(window, how):
    """The train changes while a length is being typed: the text lands on its own part, never on the next one."""
    window.session.set_length("wheel", 20.5)
    lengths = {part.id: part.length_mm for part in window.session.rig.train}
    field = length_field(window)
    typed(field, "13.7")
    if how == "menu":
        window.menus.by_name["Duplicate"].trigger()
    elif how == "session":
        window.session.take_out("wheel") or window.notice.button("Take it out there too").click()
    elif how == "undo":
        window.menus.by_name["Undo"].trigger()
    else:
        window.session.choose_part("wheel")
    QApplication.processEvents()
    after = {part.id: part.length_mm for part in window.session.rig.train}
    assert after["ring"] == (lengths["ring"] if how == "undo" else 13.7)
    for part_id in set(lengths) & set(after) - {"ring"}:
        assert after[part_id] == lengths[part_id], part_id


def test_saving_takes_what_is_being_typed(window, tmp_path, qtbot):
    path = tmp_path / "a.rig.json"
    window.session.save(path)
    field = length_field(window)
    typed(field, "13.7")
    window.files.save()
    qtbot.waitUntil(lambda: not window.files.saving.running)  # a busy machine saves in its own time
    assert next(part for part in load(path).rig.train if part.id == "ring").length_mm == 13.7
    typed(field, "1,000")
    assert not window.files.save(), "what is typed is refused, so nothing is said to be saved"
    assert field.text() == "1,000"
    assert field.property("invalid")
    assert "can be read as 1 or as 1000" in window.notice.text.text()
    assert next(part for part in load(path).rig.train if part.id == "ring").length_mm == 13.7
    assert not window.close(), "nor does the window close over it"


def test_a_value_that_the_rig_refuses_stays_in_its_field_marked(window):
    field = length_field(window)
    typed(field, "-4")
    QTest.keyClick(field, Key.Key_Return)
    assert field.text() == "-4"
    assert field.property("invalid")
    assert "length_mm" in window.notice.text.text()
    typed(field, "12.5")
    QTest.keyClick(field, Key.Key_Return)
    assert not field.property("invalid")
    assert window.session.rig.find("ring")[1].length_mm == 12.5


def test_undo_after_enter_in_a_field_takes_the_edit_back(window):
    field = length_field(window)
    before = window.session.rig.find("ring")[1].length_mm
    typed(field, "12.5")
    QTest.keyClick(field, Key.Key_Z, Ctrl)
    assert window.session.rig.find("ring")[1].length_mm == before, "while one types, undo is the text's"
    typed(field, "12.5")
    QTest.keyClick(field, Key.Key_Return)
    assert window.session.rig.find("ring")[1].length_mm == 12.5
    QTest.keyClick(field, Key.Key_Z, Ctrl)
    assert window.session.rig.find("ring")[1].length_mm == before
    assert field.text() == str(before)


def test_enter_presses_the_button_that_has_the_keyboard_and_no_other(window, qtbot):
    window.notice.ask("Sure?", [("Yes", lambda: window.notice.tell("pressed")), ("No", lambda: None)])
    button = window.notice.button("Yes")
    button.setFocus()
    QTest.keyClick(button, Key.Key_Return)
    assert window.notice.text.text() == "pressed"
    assert all(type(own) is PushButton for own in window.notice.findChildren(PushButton))


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("1,5", 1.5), ("0,500", 0.5), ("12,50", 12.5), ("1234,567", 1234.567), ("1.000", 1.0), ("1000", 1000.0),
        ("12.9 mm", 12.9), ("\u22124,25", -4.25), ("1,0000", 1.0), ("", None),
    ],
)  # fmt: skip
def test_numbers_that_can_be_read_in_one_way(text, value):
    assert parse_number(text, "mm") == value


@pytest.mark.parametrize(
    ("text", "words"), [("1,000", "1 or 1000"), ("12,500 mm", "12.5 or 12500"), ("-999,001", "-999.001 or -999001")]
)
def test_numbers_that_can_be_read_in_two_ways_are_refused(text, words):
    with pytest.raises(ValueError, match=f"write {words}"):
        parse_number(text, "mm")


# Variants


def test_a_part_that_variants_use_is_taken_out_of_them_too_if_one_wants(window):
    assert not window.session.take_out("wheel")
    assert "is also in “Tarnfell triplet, native”" in window.notice.text.text()
    window.notice.button("Leave it in").click()
    assert "wheel" in ids(window)
    window.session.take_out("wheel")
    window.notice.button("Take it out there too").click()
    assert "wheel" not in ids(window)
    assert all("wheel" not in variant.train for variant in window.session.document.variants)
    window.session.undo()
    assert "wheel" in ids(window)
    assert "wheel" in window.session.document.variants[0].train


def test_describing_screws_in_a_variant_leaves_the_marks_of_the_others(window):
    plate = {"id": "plate", "kind": "tilt_plate", "length_mm": 5}
    window.session.apply(Change("x", ((("train", 3, "length_mm"), 12.9),), (("train", 3, "length_mm"),)))
    assert "train[3].length_mm" in window.session.document.assumed
    window.session.show_variant(window.session.document.variants[0].name)
    where, index = ("train",), len(window.session.rig.train) - 1
    window.session.insert(where, index, plate, "Put a plate in")
    window.show_step("field")
    window.stack.sheets["field"].describe_screws(3)
    assumed = window.session.document.assumed
    assert "train[3].length_mm" in assumed
    assert sum(".screws." in path for path in assumed) == 5


# Two programs, and slow disks


def test_save_as_under_its_own_name_asks_about_another_programs_change(window, tmp_path, monkeypatch):
    path = tmp_path / "a.rig.json"
    window.session.save(path)
    other = load(path).rig
    save(other.model_copy(update={"observer": "somebody else"}), path)
    window.session.set_length("ring", 12.2)
    monkeypatch.setattr("wyntaxis.desk.rig_files.QFileDialog.getSaveFileName", lambda *_a: (str(path), ""))
    assert not window.files.save_as()
    assert "was changed by another program" in window.notice.text.text()
    assert load(path).rig.observer == "somebody else"
    window.notice.button("Bring both together").click()
    rig = load(path).rig
    assert (rig.observer, rig.find("ring")[1].length_mm) == ("somebody else", 12.2)
    assert "1 change came from the file: observer" in window.notice.text.text()
    assert not window.session.dirty
    window.session.undo()
    assert window.session.rig.observer is None
    assert window.session.rig.find("ring")[1].length_mm == 12.2


def test_a_slow_disk_keeps_nobody_waiting_and_nothing_is_lost(window, tmp_path, monkeypatch, qtbot):
    path = tmp_path / "a.rig.json"
    window.session.save(path)
    may_go_on = threading.Event()
    work = window.session.save_work

    def slowly(*arguments, **more):
        own = work(*arguments, **more)
        return type(own)(own.version, lambda: (may_go_on.wait(300), own.do())[1])

    monkeypatch.setattr(window.session, "save_work", slowly)
    window.files.saving.at_once_s = saving_thread.AT_ONCE_S
    window.session.set_length("ring", 12.2)
    assert not window.files.save(), "it waits a moment, and goes on"
    assert window.files.saving.running
    assert "Saving" in window.statusBar().currentMessage()
    window.session.set_length("ring", 12.1)  # meanwhile one works on
    done = []
    window.files.guard(lambda: done.append("left"))
    may_go_on.set()
    qtbot.waitUntil(lambda: not window.files.saving.running)
    assert load(path).rig.find("ring")[1].length_mm == 12.2
    assert window.session.dirty, "what was edited meanwhile is not saved yet"
    qtbot.waitUntil(lambda: window.notice.asking)
    assert done == []
    window.notice.button("Save").click()
    qtbot.waitUntil(lambda: done == ["left"])
    assert load(path).rig.find("ring")[1].length_mm == 12.1


def test_a_save_that_fails_in_its_thread_is_told(window, tmp_path, qtbot):
    entries = []

    def broken():
        raise RuntimeError("seven is odd")

    assert window.files.saving.start(broken, entries.append)
    assert "could not be saved (RuntimeError: seven is odd" in str(entries[0])
    assert saving_thread.AT_ONCE_S < 0.1


def test_undo_of_a_shelf_edit_keeps_what_another_window_did(make_window):
    one, two = make_window(), make_window()
    one.files.open_demo("tarnfell-triplet-reduced")
    two.files.open_demo("tarnfell-triplet-reduced")
    here, there = one.stock(), two.stock()
    here.set_value(0, ("name",), "mine")
    part = there.shelf.parts[0].part
    there.set_value(0, ("mass_g",), 77)
    there.add(part.model_copy(update={"id": "from_there"}))
    here.set_value(1, ("name",), "second")
    found = here.shelf.find(part.id)
    assert (found.part.name, found.part.mass_g) == ("mine", 77), "one's name and the other's mass"
    for _ in range(2):
        here.undo()
    stored = json.loads((here.path).read_text("utf-8"))["parts"]
    assert "from_there" in [entry["part"]["id"] for entry in stored]
    assert here.shelf.find(part.id).part.mass_g == 77
    assert here.shelf.find(part.id).part.name != "mine"


# Rows that go


@pytest.mark.parametrize("step", ["devices", "sensor", "guide_branch", "travel"])
def test_a_row_with_the_keyboard_goes_while_its_sheet_is_out_of_sight(window, step):
    window.activateWindow()
    window.show_step(step)
    ledger = window.stack.sheets[step].ledger
    assert ledger.rows
    for key in (next(iter(ledger.rows)), list(ledger.rows)[-1]):
        if key not in ledger.rows:
            continue
        window.show_step(step)
        row = ledger.rows[key]
        row.setFocus()
        row.chosen.emit(key)
        window.show_step("light_path")
        document = window.session.document.model_dump(mode="json", exclude_unset=True)
        gone = ((("devices",), None), (("records",), None), (("guiding",), {"kind": "none"}))
        window.session.apply(Change("Take all devices out", gone))
        row.chosen.emit(key)
        window.show_step(step)
        row.setFocus()
        QApplication.processEvents()
        window.session.undo()
        assert window.session.document.model_dump(mode="json", exclude_unset=True) == document


# What was left behind


def test_each_of_two_crashes_is_offered_and_another_rig_does_not_take_it_away(make_window, tmp_path, monkeypatch):
    from wyntaxis.core.rig import recovery

    window = make_window()
    window.files.open_demo("meadow-newtonian")
    rig = window.session.document
    for process in (999991, 999992):
        left = rig.model_copy(update={"name": f"of {process}"})
        recovery.write_journal(window.folder / f"{process}-1.journal.json", left, None, None)
    monkeypatch.setattr(recovery, "_is_alive", lambda _pid: False, raising=False)
    window.files.offer_left_behind()
    assert "ended without saving" in window.notice.text.text()
    window.refuse("something else failed")
    assert window.notice.asking
    window.files.open_demo("tarnfell-triplet-native")
    assert "ended without saving" in window.notice.text.text(), "another rig is open, the offer stays"
    window.notice.button("Restore").click()
    assert window.session.rig.name.startswith("of ")
    first = window.session.rig.name
    assert "ended without saving" in window.notice.text.text()
    assert first not in window.notice.text.text()
    window.notice.button("Discard").click()
    assert not window.notice.asking

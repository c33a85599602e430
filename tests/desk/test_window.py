"""The real window, driven as its user would."""

import json

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QFont, QKeySequence
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QFileDialog, QLineEdit, QWidget

from tests.cases import further
from tests.conftest import EXAMPLE
from wyntaxis.core.ledger import Quantity, QuantityValue, worst
from wyntaxis.core.quantity_kinds import BACK_FOCUS_ERROR, QUANTITY_KINDS
from wyntaxis.core.rig.store import load, save, validated
from wyntaxis.core.steps import steps
from wyntaxis.core.worklist import tallies
from wyntaxis.demo import RIGS
from wyntaxis.desk.actions import step_key
from wyntaxis.desk.ledger_row import bands_of
from wyntaxis.desk.session import Session

Key = Qt.Key


def error_text(window):
    return window.sheets["light_path"].ledger.rows["back_focus_error_mm"].accessibleDescription()


def finding_titles(window):
    return [window.margin.list.item(row).text() for row in range(window.margin.list.count())]


def dimension_of(window, part_id):
    window.band.grab()
    box = next(d.box for d in window.band.dimensions if d.part_id == part_id)
    return box.center().toPoint()


def type_into(widget, text):
    QTest.keyClick(widget, Key.Key_A, Qt.KeyboardModifier.ControlModifier)
    QTest.keyClick(widget, Key.Key_Delete)
    QTest.keyClicks(widget, text)
    QTest.keyClick(widget, Key.Key_Return)
    QApplication.processEvents()


def test_the_main_job(window, qtbot, tmp_path, monkeypatch):
    """Open the demo, choose the ring, change its length, see all change, undo, save, reopen."""
    assert "+0.716" in error_text(window)
    QTest.mouseClick(window.band, Qt.MouseButton.LeftButton, pos=dimension_of(window, "ring"))
    assert window.session.chosen_part == "ring"
    QTest.mouseDClick(window.band, Qt.MouseButton.LeftButton, pos=dimension_of(window, "ring"))
    type_into(window.band.editor, "12.5")
    assert window.session.rig.train[3].length_mm == 12.5
    assert "+0.316" in error_text(window)
    assert window.margin.title.text().startswith("Tight: The sensor is within the tolerance behind Aldous 0.76x")
    assert "12.5 → 12.18" in window.margin.remedy.text()
    assert window.isWindowModified()
    window.menus.by_name["Undo"].trigger()
    assert "+0.716" in error_text(window)
    assert "12.9 → 12.18" in window.margin.remedy.text()
    assert not window.isWindowModified()
    window.menus.by_name["Redo"].trigger()
    path = tmp_path / "mine.rig.json"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(path), ""))
    window.menus.by_name["Save"].trigger()
    assert load(path).rig.train[3].length_mm == 12.5
    assert not window.isWindowModified()
    assert window.files.open_path(path)
    assert "+0.316" in error_text(window)
    assert window.settings.recent == [path]


def test_by_keyboard_alone(window):
    window.band.setFocus()
    window.session.choose_part("reducer")
    for expected in ("oag", "wheel", "ring"):
        QTest.keyClick(window.band, Key.Key_Right)
        assert window.session.chosen_part == expected
    QTest.keyClicks(window.band, "1")
    QTest.keyClicks(window.band.editor, "2,18")
    QTest.keyClick(window.band.editor, Key.Key_Return)
    assert window.session.rig.train[3].length_mm == 12.18
    assert window.session.evaluation.finding("spacing.main").verdict == "holds"
    QTest.keyClick(window.band, Key.Key_Up)
    assert window.session.chosen_part == "stalk"
    QTest.keyClick(window.band, Key.Key_Down)
    assert window.session.chosen_part == "oag"
    assert "Sideglance" in window.band.accessibleDescription()


def test_remedies_are_applied_by_their_button_and_undone(window):
    QTest.mouseClick(window.margin.apply_button, Qt.MouseButton.LeftButton)
    assert window.session.rig.train[3].length_mm == 12.18
    assert window.margin.title.text().startswith("Holds")
    QTest.mouseClick(window.margin.all_box, Qt.MouseButton.LeftButton)
    severities = [finding.verdict.severity for finding in window.listed.entries]
    assert severities == sorted(severities, reverse=True), "the gravest first"
    row = next(row for row, finding in enumerate(window.listed.entries) if finding.id == "spacing.guide")
    assert window.margin.list.item(row).text() == window.listed.entries[row].title, "titles are whole"
    window.margin.list.setCurrentRow(row)
    assert window.step.key == "guide_branch"
    QTest.mouseClick(window.margin.apply_button, Qt.MouseButton.LeftButton)
    assert window.session.rig.guiding.path[1].adjustable.set_mm == 28.5
    assert window.menus.by_name["Undo"].text() == "Undo: Set guide focuser"
    window.session.undo()
    window.session.undo()
    assert not window.session.dirty


@pytest.mark.parametrize(
    "typed, words", [("abc", "“abc” is not a number in mm"), ("-4", "must be at least 0"), ("", "")]
)
def test_a_length_that_cannot_be_stays_where_it_was_typed(window, typed, words):
    window.session.choose_part("ring")
    window.band.grab()
    window.band.edit_length()
    editor = window.band.editor
    type_into(editor, typed)
    assert window.band.editor is editor
    assert editor.text() == typed
    assert words in window.notice.text.text()
    assert window.notice.isVisible()
    assert window.session.rig.train[3].length_mm == 12.9
    QTest.keyClick(editor, Key.Key_Escape)
    assert window.band.editor is None


def cell(window, row, column):
    table = window.sheets[window.step.key].table
    table.setCurrentIndex(table.parts.index(row, column))
    table.edit(table.parts.index(row, column))
    return table.findChild(QLineEdit)


@pytest.mark.parametrize(
    "step, row, column, typed, path, value",
    [
        ("light_path", 3, 3, "12.18", ("train", 3, "length_mm"), 12.18),
        ("light_path", 3, 4, "0,05 mm", ("train", 3, "length_tolerance_mm"), 0.05),
        ("light_path", 2, 7, "3", ("train", 2, "glass", 0, "thickness_mm"), 3.0),
        ("light_path", 3, 7, "1", ("train", 3, "glass", 0, "thickness_mm"), 1.0),
        ("light_path", 2, 1, "Wheel B", ("train", 2, "name"), "Wheel B"),
        ("guide_branch", 1, 5, "29.22", ("guiding", "path", 1, "adjustable", "set_mm"), 29.22),
    ],
)
def test_numbers_are_edited_where_they_stand(window, step, row, column, typed, path, value):
    window.show_step(step)
    editor = cell(window, row, column)
    type_into(editor, typed)
    node = window.session.rig.model_dump(exclude_unset=True)
    for key in path:
        node = node[key]
    assert node == value
    window.session.undo()
    assert not window.session.dirty


def test_a_cell_keeps_what_cannot_be_read(window):
    editor = cell(window, 3, 3)
    type_into(editor, "12 apples")
    assert editor.isVisible()
    assert "12 apples" in window.notice.text.text()


def test_the_card_and_the_ledger_take_edits(window):
    window.session.choose_part("reducer")
    card = window.sheets["light_path"].card
    type_into(card.field("back_focus_tolerance_mm"), "1")
    assert window.session.evaluation.finding("spacing.main").verdict == "holds"
    type_into(card.field("required_back_focus_mm"), "six")
    assert card.field("required_back_focus_mm").text() == "six"
    assert "“six” is not a number in mm" in window.notice.text.text()
    window.show_step("scales")
    row = window.sheets["scales"].ledger.rows["effective_focal_length_mm"]
    row.setFocus()
    row.chosen.emit(row.quantity.id)
    stated = next(f for f in row.fields() if f.path == ("stated", "effective_focal_length_mm", "value"))
    type_into(stated, "514")
    assert window.session.evaluation.finding("legs.agree").verdict == "holds"
    type_into(stated, "")
    assert "effective_focal_length_mm" not in window.session.rig.stated


def test_parts_are_added_moved_duplicated_and_taken_out(window):
    window.session.choose_part("wheel")
    window.menus.by_name["Spacer"].trigger()
    assert [p.id for p in window.session.rig.train][2:5] == ["wheel", "spacer", "ring"]
    assert window.session.chosen_part == "spacer"
    for name in ("Move toward the telescope", "Duplicate"):
        window.menus.by_name[name].trigger()
    assert [p.id for p in window.session.rig.train][1:5] == ["oag", "spacer", "spacer_2", "wheel"]
    window.menus.by_name["Take out"].trigger()
    window.session.choose_part("oag")
    window.menus.by_name["Take out"].trigger()
    assert "guiding.taps" in window.notice.text.text()
    for _ in range(4):
        window.session.undo()
    assert not window.session.dirty


def test_a_rig_built_from_nothing(window):
    window.files.open_new()
    assert window.stack.currentWidget() is window.stack.start_page
    assert "No parts yet" in window.sheets["light_path"].empty.text()
    for name in ("Corrector", "Off axis guider", "Camera"):
        window.menus.by_name[name].trigger()
    window.menus.by_name["Add sensor"].trigger()
    window.session.choose_part("corrector")
    type_into(window.sheets["light_path"].card.field("required_back_focus_mm"), "55")
    assert window.session.evaluation.value(BACK_FOCUS_ERROR) == pytest.approx(20 - 55)
    sheet = window.sheets["guide_branch"]
    window.show_step("guide_branch")
    sheet.set_kind("off_axis")
    assert "no off-axis guider with a prism" in window.notice.text.text()
    window.session.choose_part("off_axis_guider")
    window.menus.by_name["Add prism"].trigger()
    sheet.set_kind("off_axis")
    assert window.session.rig.guiding.taps == "off_axis_guider"
    sheet.set_kind("separate")
    assert window.session.rig.guiding.telescope.focal_length_mm == 200


def test_closing_with_edits_asks_in_the_window(window, qtbot, tmp_path, monkeypatch):
    window.session.set_length("ring", 12.2)
    assert not window.close()
    assert "not saved" in window.notice.text.text()
    window.notice.button("Keep editing").click()
    assert window.isVisible()
    window.close()
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "kept"), ""))
    window.notice.button("Save").click()
    assert not window.isVisible()
    assert load(tmp_path / "kept.rig.json").rig.train[3].length_mm == 12.2


def test_opening_another_rig_does_not_lose_edits(window):
    window.session.set_length("ring", 12.2)
    window.menus.by_name["New rig"].trigger()
    assert window.session.rig.name != "New rig"
    window.notice.button("Do not save").click()
    assert window.session.rig.name == "New rig"


def test_a_file_changed_by_another_program_is_not_overwritten_unasked(window, tmp_path):
    path = tmp_path / "a.rig.json"
    window.session.save(path)
    window.session.set_length("ring", 12.2)
    other = validated(EXAMPLE | {"name": "theirs"})
    save(other, path)
    assert not window.files.save()
    assert load(path).rig == other
    window.notice.button("Overwrite").click()
    assert load(path).rig.train[3].length_mm == 12.2


def test_a_place_that_cannot_be_written_keeps_the_edits(window, tmp_path, monkeypatch):
    window.session.set_length("ring", 12.2)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "none" / "a.rig.json"), ""))
    assert not window.files.save_as()
    assert "cannot be saved: no such file" in window.notice.text.text()
    assert window.session.dirty


def test_a_broken_file_is_told_and_the_open_rig_stays(window, tmp_path):
    (tmp_path / "bad.rig.json").write_text('{"format": "wyntaxis-rig", "version": 1}', "utf-8")
    assert not window.files.open_path(tmp_path / "bad.rig.json")
    assert "bad.rig.json: name: is missing" in window.notice.text.text()
    assert window.session.rig.name == "Tarnfell triplet, reduced"


def test_unsaved_work_of_a_crash_is_offered_again(window, make_window, tmp_path):
    window.session.set_length("ring", 12.3)
    window.journal.write_now()
    window.journal.wait()
    (journal,) = (tmp_path / "state").glob("*.journal.json")
    journal.rename(journal.with_name("999999999-1.journal.json"))
    after = make_window()
    after.files.open_demo("meadow-newtonian")
    after.files.offer_left_behind()
    assert "without saving “Tarnfell triplet, reduced”" in after.notice.text.text()
    after.notice.button("Restore").click()
    assert after.session.rig.train[3].length_mm == 12.3
    assert after.session.dirty
    after.session.save(tmp_path / "saved.rig.json")
    assert not list((tmp_path / "state").glob("*.journal.json"))


def test_the_window_remembers_its_state(window, make_window):
    window.set_palette_by_name("night")
    window.change_text(1)
    window.show_step("scales")
    window.resize(800, 640)
    window.close()
    again = make_window()
    assert (again.palette_in_use.name, again.text_scale, again.step.key) == ("night", 1.15, "scales")
    assert (again.width(), again.height()) == (800, 640)


def test_start_builds_only_after_the_first_paint(qtbot, qapp, tmp_path):
    from wyntaxis.desk.app import set_typeface
    from wyntaxis.desk.window import MainWindow
    from wyntaxis.desk.window_state import WindowState

    window = MainWindow(WindowState(tmp_path), tmp_path)
    qtbot.addWidget(window)
    loaded = []
    qapp.setFont(QFont("DejaVu Sans"))

    def before():
        set_typeface(qapp)
        loaded.append(window.built)

    window.start(lambda: loaded.append(window.built), before=before)
    assert not window.built
    qtbot.waitUntil(lambda: len(loaded) == 2)
    assert loaded == [False, True]
    # The typeface reaches widgets of a window that was there before it was loaded.
    for widget in (window.band, window.margin.title, window.worklist):
        widget.ensurePolished()
        assert widget.fontInfo().family() == "B612"


@pytest.mark.parametrize("size, scale", [((1024, 700), 1.0), *further(((1280, 800), 1.0), ((1280, 800), 2.0))])
@pytest.mark.parametrize("demo", [RIGS[0], "new", "many", *further(*RIGS[1:])])
def test_every_view_paints_and_every_control_has_a_name(window, size, scale, demo):
    window.resize(*size)
    window.text_scale = scale
    window.apply_look()
    if demo == "new":
        window.files.open_new()
    elif demo == "many":
        rings = [{"id": f"r{i}", "kind": "spacer", "name": "long " * 12, "length_mm": i / 4} for i in range(20)]
        document = EXAMPLE | {"train": [*EXAMPLE["train"][:3], *rings, *EXAMPLE["train"][3:]]}
        window.attach(Session(validated(json.loads(json.dumps(document)))))
    else:
        window.files.open_demo(demo)
    for step, sheet in window.sheets.items():
        window.show_step(step)
        QApplication.processEvents()
        assert window.grab().toImage().pixelColor(QPoint(5, window.height() - 5)).isValid()
        unnamed = [
            child
            for child in sheet.findChildren(QWidget)
            if child.focusPolicy() & Qt.FocusPolicy.TabFocus
            and child.isVisible()
            and not child.accessibleName()
            and not child.objectName().startswith("qt_")
            and type(child).__module__.startswith("wyntaxis")
        ]
        assert unnamed == []
    assert window.width() == size[0]


def test_zoom_keeps_the_point_under_the_cursor_and_fit_brings_all_back(window):
    before = window.band.view()
    at = dimension_of(window, "wheel").toPointF()
    mm = (at.x() - before.origin_x) / before.scale
    window.band.zoom(2.0, at)
    after = window.band.view()
    assert after.scale == pytest.approx(2 * before.scale)
    assert after.x(mm) == pytest.approx(at.x())
    window.band.fit()
    assert window.band.view() == before


def test_a_new_rig_shows_no_mark_of_the_last_one(window):
    headings = window.worklist.headings
    assert headings["Build"].verdict == "fails"
    window.attach(Session.new(window.stock()))
    stands = {tally.step.group: [] for tally in tallies(window.session.evaluation)}
    for tally in tallies(window.session.evaluation):
        if tally.verdict is not None:
            stands[tally.step.group].append(tally.verdict)
    for group, verdicts in stands.items():
        assert headings[group].verdict == (worst(verdicts) if verdicts else None), group
    assert headings["Measure"].verdict is None


def test_every_step_has_a_key_of_its_own(window):
    keys = [step_key(number) for number in range(1, 20)]
    assert len(set(keys)) == 19
    assert (keys[0], keys[8], keys[9], keys[18]) == ("Alt+1", "Alt+9", "Ctrl+Alt+0", "Ctrl+Alt+9")
    for key in keys:
        assert QKeySequence(key).count() == 1
        assert QKeySequence(key).toString() == key  # "Alt+10" would be no key at all
    window.show_step("light_path")
    window.menus.by_name["Next step"].trigger()
    assert window.step.key == "shelf"
    window.menus.by_name["Step before"].trigger()
    window.menus.by_name["Step before"].trigger()
    assert window.step.key == steps()[-1].key


@pytest.mark.parametrize(
    "values, width",
    [
        ({"stated": (10.0, 0.1, 0.3), "computed": (10.5, 0.0, 0.6)}, 0.6),  # the computed value's own tolerance
        ({"stated": (10.0, 0.0, 0.3), "computed": (10.5, 0.0, 0.0)}, 0.3),
        ({"stated": (10.0, 0.3, 0.1), "computed": (10.5, 0.4, 0.0)}, 1.0),
        ({"computed": (10.5, 0.4, 0.2), "measured": (10.0, 0.3, 0.0)}, 1.0),
        ({"computed": (10.5, 0.4, 0.2)}, None),
    ],
)
def test_the_band_drawn_is_the_one_that_is_judged_by(values, width):
    made = {name: QuantityValue(value, u, tolerance) for name, (value, u, tolerance) in values.items()}
    row = Quantity(QUANTITY_KINDS["back_focus_built_mm"], **made)
    bands = bands_of(row)
    assert bands == ([] if width is None else [(pytest.approx(10.5 - width), pytest.approx(10.5 + width), 60)])
    if width is not None:
        inside = abs(made["computed"].value - (made.get("stated") or made["measured"]).value) <= width
        assert (row.agreement != "fails") is inside

"""The shelf, dragging, the spacer search, plots and variants in the real window."""

import pytest
from PyQt6.QtCore import QMimeData, QPointF, Qt
from PyQt6.QtGui import QDropEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog, QLineEdit

from wyntaxis.core.rig.shelf import load_shelf
from wyntaxis.core.rig.store import load
from wyntaxis.desk.section.section_view import PART_MIME, SHELF_MIME
from wyntaxis.desk.session import Session


@pytest.fixture
def shelf(window):
    window.show_step("shelf")
    return window.sheets["shelf"]


def ids(window):
    return [part.id for part in window.session.rig.train]


def drop(window, mime, part_id, point):
    data = QMimeData()
    data.setData(mime, part_id.encode())
    event = QDropEvent(point, Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
    window.band.dropEvent(event)


def at(window, mm, height_mm=5.0):
    view = window.band.view()
    return QPointF(view.x(mm), view.y(height_mm))


def test_a_shelf_part_is_dropped_into_the_band_and_undone(window):
    drop(window, SHELF_MIME, "m42_10", at(window, 66))  # between wheel (to 65.5) and ring
    assert ids(window) == ["reducer", "oag", "wheel", "m42_10", "ring", "camera"]
    assert window.session.chosen_part == "m42_10"
    drop(window, SHELF_MIME, "m42_10", at(window, 500))  # never behind the camera
    assert ids(window)[-2:] == ["m42_10_2", "camera"]
    window.session.undo()
    window.session.undo()
    assert not window.session.dirty


def test_a_shelf_part_is_dropped_into_the_guide_branch(window):
    branch = window.band.drawn.branch
    assert branch.length_mm < window.session.section.branch.length_mm, "drawn broken off"
    drop(window, SHELF_MIME, "m42_5", at(window, branch.at_mm, branch.height_mm + branch.parts[0].end_mm + 1))
    assert [p.id for p in window.session.rig.guiding.path][:2] == ["stalk", "m42_5"]


def test_parts_are_reordered_by_dragging_along_the_band(window):
    drop(window, PART_MIME, "ring", at(window, 46))
    assert ids(window) == ["reducer", "oag", "ring", "wheel", "camera"]
    drop(window, PART_MIME, "ring", at(window, 500))
    assert "must be the last part" in window.notice.text.text()
    drop(window, PART_MIME, "stalk", at(window, 46))
    assert "stays on its own path" in window.notice.text.text()
    window.session.undo()
    assert not window.session.dirty


def test_the_shelf_by_keyboard(window, shelf):
    QTest.keyClicks(shelf.filter, "m42 12.2 ring")
    assert shelf.model.rowCount() == 2
    window.session.choose_part("wheel")
    shelf.table.setFocus()
    shelf.table.setCurrentIndex(shelf.model.index(1, 0))
    QTest.keyClick(shelf.table, Qt.Key.Key_Return)
    assert ids(window)[3] == "m42mm_12_2"


def test_shelf_edits_are_saved_at_once_and_undone(window, shelf, tmp_path):
    first = shelf.model.entry(0).part.id
    assert shelf.model.setData(shelf.model.index(0, 7), "3")
    assert load_shelf(tmp_path / "shelf.json").find(first).owned == 3
    assert not shelf.model.setData(shelf.model.index(0, 1), "-2")
    assert "at least 0" in window.notice.text.text()
    assert not shelf.model.setData(shelf.model.index(0, 1), "two")
    assert "“two” is not a number in mm" in window.notice.text.text()
    window.session.choose_part("ring")
    shelf.keep_chosen()
    assert load_shelf(tmp_path / "shelf.json").find("ring").part.length_mm == 12.9
    shelf.table.setCurrentIndex(shelf.model.index(0, 0))
    shelf.take_off()
    assert load_shelf(tmp_path / "shelf.json").find(first) is None
    for _ in range(3):
        shelf.undo_button.click()
    assert load_shelf(tmp_path / "shelf.json").find(first).owned == 1


def test_a_shelf_part_is_described_on_its_card(window, shelf):
    window.session.stock.add(window.session.rig.find("guide_camera")[1].model_copy(update={"front": None}))
    shelf.table.setCurrentIndex(shelf.model.index(shelf.model.rowCount() - 1, 0))

    def enter(text, *path):
        field = shelf.card.field(*path)
        field.setText(text)
        QTest.keyClick(field, Qt.Key.Key_Return)

    def part():
        return window.session.stock.shelf.find("guide_camera").part

    enter("M48x0.75", "front", "thread")
    enter("4.5", "front", "depth_mm")
    assert (part().front.thread, part().front.gender, part().front.depth_mm) == ("M48x0.75", "male", 4.5)
    basis = shelf.card.field("length_basis")
    basis.setCurrentIndex(basis.findData("measured"))
    basis.activated.emit(basis.currentIndex())
    assert part().length_basis == "measured"
    enter("M48", "rear", "thread")
    assert "must be M<diameter>x<pitch>" in window.notice.text.text()
    assert part().rear is None
    enter("", "front", "thread")
    assert part().front is None
    assert part().sensor is not None


def test_a_result_is_dropped_when_the_rig_changes(window, shelf, qtbot):
    shelf.search()
    qtbot.waitUntil(lambda: not shelf.searching)
    window.session.set_length("wheel", 21)
    assert shelf.found.sets == ()
    assert "search again" in shelf.answer.text()
    assert not shelf.apply_button.isVisible()


def test_shelf_exchange(window, shelf, tmp_path, monkeypatch):
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "out.csv"), ""))
    shelf.ask_export()
    count = len(load_shelf(tmp_path / "out.csv").parts)
    (tmp_path / "in.csv").write_text("id,kind,length_mm\nmine,spacer,3.3\n", "utf-8")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(tmp_path / "in.csv"), ""))
    shelf.ask_import()
    assert shelf.model.rowCount() == count + 1
    (tmp_path / "in.csv").write_text("id,kind,length_mm\nmine,spacer,long\n", "utf-8")
    shelf.ask_import()
    assert "line 2: length_mm: must be a number" in window.notice.text.text()


def test_a_broken_shelf_is_told_and_never_overwritten(make_window, tmp_path):
    (tmp_path / "shelf.json").write_text("{broken", "utf-8")
    window = make_window()
    window.files.open_new()
    assert "broken JSON" in window.session.stock.broken
    window.session.add_part(("train",), 0, "spacer")
    window.sheets["shelf"].keep_chosen()
    assert "the shelf is not changed while its file cannot be read" in window.notice.text.text()
    assert (tmp_path / "shelf.json").read_text("utf-8") == "{broken"


def test_search_and_put_in(window, shelf, qtbot):
    shelf.search_button.click()
    assert not shelf.search_button.isEnabled()
    qtbot.waitUntil(lambda: not shelf.searching)
    assert "10 best sets; to fill: 12.184 mm" in shelf.answer.text()
    assert shelf.found.data(shelf.found.index(0, 0)) == "+0.016"
    shelf.apply_button.click()
    assert ids(window) == ["reducer", "oag", "wheel", "m42mm_12_2", "camera"]
    assert window.session.evaluation.finding("spacing.main").verdict == "holds"
    assert window.menus.by_name["Undo"].text() == "Undo: Put spacers in"
    window.session.undo()
    assert ids(window)[3] == "ring"


def test_a_search_that_finds_nothing_or_is_cancelled_says_so(window, shelf, qtbot, tmp_path):
    (tmp_path / "one.csv").write_text("id,kind,length_mm\n", "utf-8")
    for _ in range(shelf.model.rowCount()):
        window.session.stock.remove(0)
    shelf.search()
    qtbot.waitUntil(lambda: not shelf.searching)
    assert "Nothing fits, to fill" in shelf.answer.text()
    assert "one ring of 12.18 mm between Rondel 7 and Pellucid Grand" in shelf.answer.text()
    shelf.search()
    shelf.cancel()
    qtbot.waitUntil(lambda: not shelf.searching)
    window.files.open_demo("tarnfell-triplet-native")
    native = window.sheets["shelf"]
    native.search()
    qtbot.waitUntil(lambda: not native.searching)
    assert "No corrector states a required distance" in native.answer.text()


@pytest.mark.parametrize("error", [MemoryError(), RuntimeError("a fault of ours")])
def test_a_search_that_breaks_ends_and_is_told(shelf, qtbot, monkeypatch, error):
    def broken(*_args, **_more):
        raise error

    monkeypatch.setattr("wyntaxis.desk.sheets.shelf.find_spacers", broken)
    shelf.search()
    qtbot.waitUntil(lambda: not shelf.searching)
    assert shelf.search_button.isEnabled()
    assert shelf.answer.text().startswith(("There is not enough memory", "Could not be done (RuntimeError"))


def test_variants_are_switched_edited_and_compared(window, tmp_path):
    session = window.session
    window.menus.by_name["Next train"].trigger()
    assert (session.variant, ids(window)) == (
        "Tarnfell triplet, native",
        ["tube", "oag", "wheel", "ring_native", "camera"],
    )
    session.set_length("ring_native", 7)
    session.set_length("wheel", 21)  # shared: the rig's own train has it too
    session.move_part("ring_native", -1)
    assert ids(window)[2] == "ring_native"
    session.add_part(("train",), 1, "spacer")
    session.set_value(("stated", "focal_ratio", "value"), 6.5, "State")
    assert session.document.train[2].length_mm == 21
    assert session.document.variants[0].stated["focal_ratio"].value == 6.5
    session.save(tmp_path / "v.rig.json")
    again = Session.opened(tmp_path / "v.rig.json")
    again.show_variant("Tarnfell triplet, native")
    assert again.rig == session.rig
    window.menus.by_name["Trains side by side"].trigger()
    table = window.stack.comparison.table
    assert window.stack.currentWidget() is window.stack.comparison
    assert table.item(0, 1).text() == "Aldous 0.76x, ring 12.9"
    assert table.item(3, 1).text() == "676.0 mm   (+162.2)"
    session.show_variant(None)
    assert ids(window) == ["reducer", "oag", "wheel", "ring", "camera"]
    assert load(tmp_path / "v.rig.json").rig.train[2].length_mm == 21


def test_variants_come_are_renamed_and_go(window):
    session = window.session
    window.menus.by_name["New variant of this train"].trigger()
    assert session.variant == "Tarnfell triplet, reduced, variant"
    session.take_out("ring")
    assert "ring" in [part.id for part in session.document.train]
    window.menus.by_name["Rename …"].trigger()
    field = window.notice.findChild(QLineEdit)
    field.setText("short")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert session.variant == session.rig.name == "short"
    window.menus.by_name["Remove this variant"].trigger()
    assert session.variant is None
    for _ in range(4):
        session.undo()
    assert not session.dirty
    session.take_out("oag")
    assert "guiding.taps" in window.notice.text.text()


def test_spacers_go_into_the_variant_shown(window, qtbot):
    session = window.session
    session.add_variant()
    shelf = window.sheets["shelf"]
    shelf.search()
    qtbot.waitUntil(lambda: not shelf.searching)
    shelf.apply_found()
    assert ids(window)[3] == "m42mm_12_2"
    assert session.document.train[3].id == "ring"
    assert session.document.variants[1].train[:3] == ("reducer", "oag", "wheel")


def test_plots_open_follow_edits_and_are_saved(window, tmp_path, qtbot):
    section_box = window.sheets["light_path"].plots
    section_box.heading.setChecked(True)
    assert section_box.stack.answer.text().startswith("+0.716 mm, worst case ±0.120 mm")
    window.session.set_length("ring", 12.18)
    assert "inside ±0.4 mm: 100.0 %" in section_box.stack.answer.text()
    assert "fully lit to the corners" in section_box.falloff.answer.text()
    for suffix, head in ((".png", b"\x89PNG"), (".csv", b"error_mm,share_percent"), (".svg", b"<?xml")):
        path = tmp_path / f"plot{suffix}"
        section_box.stack.save(path)
        assert path.read_bytes().startswith(head)
    section_box.stack.save(tmp_path / "plot.txt")
    assert "use .png, .svg or .csv" in window.notice.text.text()
    section_box.falloff.save(tmp_path / "nowhere" / "a.csv")
    assert "cannot be saved" in window.notice.text.text()
    window.set_palette_by_name("night")
    window.files.open_new()
    window.sheets["light_path"].plots.heading.setChecked(True)
    assert "State clear apertures" in window.sheets["light_path"].plots.falloff.answer.text()


def test_a_variant_takes_settings_of_its_own(window):
    session = window.session
    session.add_variant()
    place = next(k for k, device in enumerate(session.rig.devices) if device.kind == "camera")
    window.menus.by_name["Own settings for this variant"].trigger()
    assert not window.menus.by_name["Own settings for this variant"].isEnabled()
    assert session.set_value(("devices", place, "settings", "gain", "value"), 7.0, "Gain")
    assert session.rig.devices[place].number("gain") == 7
    session.show_variant(None)
    assert session.rig.devices[place].number("gain") == 125, "the rig's own train keeps its gain"
    session.undo()
    session.undo()
    assert not session.document.variants[-1].sets_otherwise

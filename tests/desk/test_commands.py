"""The window's other commands: menus, notices, margin, worklist, sizes of text, and what a hostile place does."""

import os
import subprocess
import sys
from pathlib import Path

import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QAction, QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QFileDialog, QMenu

from wyntaxis.core.quantity_kinds import FOCAL_LENGTH
from wyntaxis.desk.app import has_screen
from wyntaxis.desk.journal import Journal
from wyntaxis.desk.session import Session
from wyntaxis.system_libraries import no_window

Key = Qt.Key


def do(window, *names):
    for name in names:
        window.menus.by_name[name].trigger()


def test_every_command_has_a_name_of_its_own_and_no_two_share_keys(window):
    shortcuts = [action.shortcut().toString() for action in window.menus.by_name.values() if action.shortcut()]
    keys = [keys for keys in shortcuts if keys]
    assert len(keys) == len(set(keys))
    assert len(keys) >= 20


@pytest.mark.parametrize(
    "part_id, command, key, value",
    [
        ("ring", "Add glass", ("glass", 0, "thickness_mm"), 2),
        ("ring", "Make adjustable", ("adjustable", "max_mm"), 22.9),
        ("oag", "Describe front joint", ("front", "thread"), "M42x0.75"),
        ("oag", "Describe rear joint", ("rear", "gender"), "male"),
    ],
)
def test_parts_are_given_what_they_lack(window, part_id, command, key, value):
    session = window.session
    place, _part = session.rig.find("oag")
    for end in ("front", "rear"):
        session.set_value((*place, end), None, "bare")
    session.choose_part(part_id)
    do(window, command)
    node = session.rig.find(part_id)[1].model_dump()
    for step in key:
        node = node[step]
    assert node == value
    if command == "Make adjustable":
        assert not window.menus.by_name[command].isEnabled()
        assert "12.9 (12.9…22.9)" in window.band.accessibleDescription()


def test_site_and_telescope_joint_are_described_from_the_menu(window):
    window.files.open_new()
    do(window, "Add a site", "Describe the telescope's rear joint")
    assert window.session.rig.site.seeing_fwhm_arcsec == 3
    assert window.session.rig.telescope.rear.gender == "female"
    assert window.step.key == "scales"
    assert not window.menus.by_name["Add a site"].isEnabled()


def test_a_variant_gets_a_telescope_of_its_own(window):
    assert not window.menus.by_name["Own telescope for this variant"].isEnabled()
    do(window, "Next train", "Own telescope for this variant")
    window.session.set_value(("telescope", "focal_length_mm"), 500, "Change")
    assert window.session.evaluation.value(FOCAL_LENGTH) == 500
    assert window.session.document.telescope.focal_length_mm == 676
    do(window, "Next train")
    assert window.session.variant is None


def test_help_is_told_in_the_strip(window):
    do(window, "Keys")
    assert "Ctrl+Z undo" in window.notice.text.text()
    do(window, "About Wyntaxis")
    assert "GNU General Public License" in window.notice.text.text()
    do(window, "About the demo rigs")
    assert "ring after the filter wheel is 0.7 mm too long" in window.notice.text.text()
    QTest.keyClick(window.notice, Key.Key_Escape)
    assert not window.notice.isVisible()


def test_a_question_is_not_pushed_away_by_a_mere_message(window):
    window.notice.ask("Sure?", [("Yes", lambda: None)])
    window.notice.tell("By the way")
    assert window.notice.text.text() == "Sure?"
    window.notice.tell("It broke", error=True)
    assert window.notice.text.text() == "It broke"
    assert window.notice.asking, "an error stands above the question"
    window.notice.button("Close").click()
    assert window.notice.text.text() == "Sure?"
    answered = []
    window.notice.ask("And that?", [("No", lambda: answered.append("no"))])
    window.notice.button("No").click()
    assert (answered, window.notice.text.text()) == (["no"], "Sure?"), "the one before waits its turn"
    window.notice.button("Yes").click()
    assert not window.notice.isVisible()


def test_recent_rigs_are_listed_and_opened(window, tmp_path):
    for name in ("one", "two"):
        window.session.save(tmp_path / f"{name}.rig.json")
        window.files.open_path(tmp_path / f"{name}.rig.json")
    menu: QMenu = window.menus.lists["recent"]
    assert [action.text().split()[0] for action in menu.actions()] == ["two.rig.json", "one.rig.json"]
    (tmp_path / "one.rig.json").unlink()
    menu.actions()[1].trigger()
    assert "no such file" in window.notice.text.text()
    assert window.session.path == tmp_path / "two.rig.json"


def test_save_as_adds_the_suffix_and_open_asks(window, tmp_path, monkeypatch):
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "plain"), ""))
    do(window, "Save as …")
    assert (tmp_path / "plain.rig.json").exists()
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(tmp_path / "plain.rig.json"), ""))
    window.files.open_new()
    do(window, "Open …")
    assert window.session.path == tmp_path / "plain.rig.json"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: ("", ""))
    assert not window.files.save_as()


def test_the_margin_follows_the_part_chosen_and_copies(window):
    window.session.choose_part("guide_focuser")
    assert window.margin.title.text().startswith("Fails: The guide camera is 0.78 mm too far")
    window.margin.copy_button.click()
    copied = QApplication.clipboard().text()
    assert "required: X − G_main + G_guide" in copied
    assert "Set guide focuser to 29.22 mm" in copied


def test_names_from_a_file_are_never_read_as_markup(window):
    window.session.set_value(("train", 2, "glass", 0, "name"), "<b>bold</b><img src=x>", "Name")
    window.session.choose_part("ring")
    assert "<b>bold" in window.margin.arithmetic.toPlainText()
    window.session.set_value(("train", 3, "name"), "<h1>ring", "Name")
    assert "<h1>ring" in window.margin.remedy.text()
    assert "<h1>ring" in window.margin.remedy.toPlainText()


def test_the_worklist_folds_and_is_walked_by_keys(window):
    worklist = window.worklist
    heading, line = worklist.headings["Build"], worklist.lines["guide_branch"]
    QTest.keyClick(heading, Key.Key_Return)
    assert not line.isVisible()
    assert heading.verdict == "fails"
    QTest.mouseClick(heading, Qt.MouseButton.LeftButton)
    assert line.isVisible()
    line.setFocus()
    QTest.keyClick(line, Key.Key_Space)
    assert window.step.key == "guide_branch"
    assert "fails" in line.accessibleName()
    QTest.keyClick(line, Key.Key_Down)
    assert worklist.headings["Compute"].hasFocus()


def test_text_grows_and_shrinks_within_its_range(window):
    for _ in range(12):
        do(window, "Larger text")
    assert window.text_scale == 2.0
    for _ in range(20):
        do(window, "Smaller text")
    assert window.text_scale == 0.8
    do(window, "Base text size", "Night palette")
    assert (window.text_scale, window.palette_in_use.name) == (1.0, "night")
    assert window.menus.by_name["Night palette"].isChecked()


def test_the_wheel_zooms_and_a_drag_pans(window):
    band, before = window.band, window.band.view()
    point = QPointF(band.width() * 0.6, 60)
    wheel = QWheelEvent(
        point, band.mapToGlobal(point), QPointF(0, 0).toPoint(), QPointF(0, 120).toPoint(),
        Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    band.wheelEvent(wheel)
    assert band.view().scale == pytest.approx(1.25 * before.scale)
    band.fit()
    empty = QPointF(16, band.height() - 12).toPoint()
    QTest.mousePress(band, Qt.MouseButton.LeftButton, pos=empty)
    QTest.mouseMove(band, empty + QPointF(40, -10).toPoint())
    QTest.mouseRelease(band, Qt.MouseButton.LeftButton, pos=empty)
    assert band.view().origin_x == pytest.approx(before.origin_x + 40)
    assert window.session.rig.train == window.session.document.train


def test_every_part_is_chosen_by_a_click_on_its_dimension(window):
    window.band.grab()
    for dimension in list(window.band.dimensions):
        window.session.choose_part(None)
        QTest.mouseClick(window.band, Qt.MouseButton.LeftButton, pos=dimension.box.center().toPoint())
        assert window.session.chosen_part == dimension.part_id
    ids = {d.part_id for d in window.band.dimensions}
    assert ids == {part.id for _, part in window.session.rig.parts()}


def test_a_journal_that_cannot_be_written_stops_nothing(qtbot, window):
    journal = Journal(Path("/dev/null/nowhere"))
    session = Session(window.session.document)
    journal.follow(session)
    session.set_length("ring", 12.0)
    journal.write_now()
    journal.wait()
    journal.finish()
    assert session.dirty


def test_refusals_of_the_session_change_nothing(window):
    session, said = window.session, []
    session.refused.connect(said.append)
    before = session.document
    assert not session.set_length("nobody", 3)
    assert not session.duplicate_part("nobody")
    assert not session.take_out("nobody")
    assert not session.move_part("nobody", 1)
    assert not session.move_to("nobody", "train", 0)
    assert not session.drop_from_shelf("nobody", "train", 0)
    assert not session.remove_variant()
    assert not session.set_value(("train", 3, "length_mm"), -1, "x")
    assert not session.set_value(("telescope", "aperture_mm"), 0, "x")
    assert len(said) == 2
    assert session.document is before


def test_a_machine_without_a_screen_is_told_apart(monkeypatch):
    for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"):
        monkeypatch.delenv(name, raising=False)
    assert not has_screen()
    monkeypatch.setenv("WAYLAND_DISPLAY", "wayland-0")
    assert has_screen()


def test_the_system_check_names_the_package_that_is_missing(monkeypatch):
    sys.path.insert(0, str(Path(__file__).parents[2] / "tools"))
    try:
        import check_system
    finally:
        sys.path.pop(0)
    assert check_system.missing({"libnosuchthing.so.9": "libnosuchthing9"}) == {
        "libnosuchthing.so.9": "libnosuchthing9"
    }
    script = Path(check_system.__file__)
    done = subprocess.run([sys.executable, str(script), "--packages"], capture_output=True, text=True, check=True)
    assert done.stderr == ""


def test_a_screen_that_qt_cannot_draw_on_is_told_in_a_line():
    done = subprocess.run(
        [sys.executable, "-m", "wyntaxis", "--demo"],
        capture_output=True,
        text=True,
        check=False,
        env={**os.environ, "QT_QPA_PLATFORM": "nonsense"},
        timeout=300,
    )
    assert done.returncode == 2
    assert done.stdout == ""
    assert done.stderr.startswith(
        "wyntaxis: the window cannot be made: Qt cannot draw on this screen by QT_QPA_PLATFORM=nonsense"
    )
    assert done.stderr.count("\n") == 1


def test_what_is_missing_for_a_window_is_named_with_its_package():
    assert no_window("no plug-in", {}) == "the window cannot be made: no plug-in"
    assert no_window("no plug-in", {"libA.so.1": "liba1", "libB.so.2": "libb2"}).endswith(
        "; missing: libA.so.1, libB.so.2; install with: sudo apt-get install liba1 libb2"
    )


def test_menus_let_their_old_entries_go(window):
    def entries():
        return len(window.findChildren(QAction))

    window.session.set_length("ring", 12.1)
    window.menus.fill_recent()
    before = entries()
    for tenth in range(20):
        window.session.set_length("ring", 12 + tenth / 10)
        window.menus.fill_recent()
    assert entries() == before


def test_the_variant_shown_stays_ticked_however_often_it_is_chosen(window):
    window.menus.by_name["New variant of this train"].trigger()
    window.session.show_variant(None)
    first = window.menus.lists["variants"].actions()[0]
    assert first.isChecked()
    first.trigger()
    window.menus.refresh()
    assert [action.isChecked() for action in window.menus.lists["variants"].actions()].count(True) == 1
    assert window.menus.lists["variants"].actions()[0].isChecked()

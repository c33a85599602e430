"""The start page: a rig drafted, and one built by the keyboard alone; the band, the wiring, accepting a finding."""

import json

import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from tests.desk.test_window import type_into
from wyntaxis.core.evidence.foreign.keymap import KeyMap, KeyMaps, KeyRule, save_maps
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.rig.blank import blank_rig
from wyntaxis.simulators.camera import SimulatedCamera

Key = Qt.Key
CAMERA = SimulatedCamera(width=60, height=40)


@pytest.fixture
def frames(tmp_path):
    """Frames of the demo's camera on its telescope, which tell everything but the aperture and the parts' lengths."""
    from astropy.io import fits

    folder = tmp_path / "frames"
    for number, name in enumerate(("L", "R", "G"), start=1):
        path = folder / f"{name}.fits"
        CAMERA.write(path, number, "light", exposure_s=240.0, gain=125.0, offset=36.0, temperature_c=-8.0, filter=name)
        entries = {"TELESCOP": "Aldous 104", "FOCALLEN": 513.8, "XPIXSZ": 3.9, "SITELAT": 47.3, "SITELONG": 11.1}
        with fits.open(path, mode="update") as opened:
            opened[0].header.update(entries)
    return folder


@pytest.fixture
def program(tmp_path):
    """A program's file with the focal length without the reducer, and the key map that suits it."""
    path = tmp_path / "profile.json"
    path.write_text(json.dumps({"optics": {"focal": 676}, "cam": {"gain": 125}}), "utf-8")
    rules = (
        KeyRule(path="optics.focal", quantity="effective_focal_length_mm"),
        KeyRule(path="cam.gain", quantity="main_camera.gain"),
    )
    maps = KeyMaps(format="wyntaxis-key-maps", version=1, maps=(KeyMap(name="capture", form="json", rules=rules),))
    save_maps(maps, tmp_path / "key-maps.json")
    return path


@pytest.fixture
def start(make_window, tmp_path):
    window = make_window()
    window.files.open_new()
    window.stack.start_page.maps_path = tmp_path / "key-maps.json"
    return window


def drafted(window, qtbot, work):
    before = window.session.document
    work()
    qtbot.waitUntil(lambda: not window.stack.start_page.job.running and window.session.document is not before)


def fails(window):
    return {finding.id for finding in window.session.evaluation.findings if finding.verdict is Verdict.FAILS}


def test_a_rig_is_drafted_and_its_three_missing_numbers_given(start, qtbot, frames, program):
    page, session = start.stack.start_page, start.session
    assert start.stack.currentWidget() is page
    assert session.document == blank_rig()
    drafted(start, qtbot, lambda: page.draft_paths([frames]))
    drafted(start, qtbot, page.draft_simulated_ports)
    drafted(start, qtbot, lambda: page.draft_paths([program]))
    assert session.rig.devices[0].identity.serial_number == "PG-00417"
    assert "GAIN of G.fits" in {page.table.item(r, 2).text() for r in range(page.table.rowCount())} | set(
        session.rig.origin.values()
    )
    asked = page.open_words.text()
    assert page.open_panel.isVisible() == bool(asked)
    missing = ["telescope.aperture_mm", "train[0].length_mm", "train[1].length_mm"]
    kinds = [path for path in session.rig.assumed if path.endswith(".kind")]
    assert sorted(set(session.rig.assumed) - set(kinds)) == missing
    assert session.evaluation.rows["focal_ratio"].verdict is Verdict.UNPROVEN
    for path, value in zip(missing, ("104", "20", "12.5"), strict=True):
        type_into(page.not_entered.fields[path], value)
    # What the ports do not tell is which device each is; the guide camera is guessed, and kept open.
    entries = dict(zip(kinds, ("guide_camera", "other", "focuser"), strict=True))
    for path, kind in entries.items():
        field = page.not_entered.fields[path]
        field.setCurrentIndex(field.findData(kind))
        field.activated.emit(field.currentIndex())
    assert session.rig.assumed == ()
    assert "Every value of this rig is entered" in page.not_entered.words.text()
    # What fails is what is wrong: the program's focal length, and one camera for two in its ports.
    assert fails(start) == {"records.focal_length"}
    for _ in range(6):
        session.undo()
    assert sorted(set(session.rig.assumed) - set(kinds)) == missing
    for _ in range(3):
        session.undo()
    assert session.document == blank_rig(), "undo takes whole drafts back"


def test_a_broken_folder_and_an_edit_meanwhile_are_told(start, qtbot, tmp_path, frames):
    page = start.stack.start_page
    page.draft_paths([tmp_path / "nowhere"])
    qtbot.waitUntil(lambda: "is not there" in start.notice.text.text())
    page.draft_paths([frames])
    start.session.set_value(("telescope", "name"), "Mine", "Name")
    qtbot.waitUntil(lambda: "was edited while" in start.notice.text.text())
    assert start.session.rig.telescope.name == "Mine"
    assert start.session.rig.train == ()


def test_a_rig_is_built_from_the_empty_page_by_keyboard_alone(start, qtbot):
    page, session = start.stack.start_page, start.session
    focus = QApplication.focusWidget
    assert focus() is page.frames_button
    for _ in range(8):
        if focus() is not page.parts_button:
            QTest.keyClick(focus(), Key.Key_Tab)
    assert focus() is page.parts_button
    QTest.keyClick(focus(), Key.Key_Space)
    band = start.band
    for kind in ("Corrector", "Spacer", "Camera"):
        if not band.next_menu.isVisible():
            QTest.keyClick(start, Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
        menu = band.next_menu
        while menu.activeAction() is None or menu.activeAction().text().replace("&", "") != kind:
            QTest.keyClick(menu, Key.Key_Down)
        QTest.keyClick(menu, Key.Key_Return)
    assert [part.kind for part in session.rig.train] == ["corrector", "spacer", "camera"]
    assert start.stack.currentWidget() is start.sheets["light_path"]
    assert {"train[0].length_mm", "train[1].length_mm", "train[2].length_mm"} <= set(session.rig.assumed)
    assert band.ghost_box() is None, "a camera ends the train"
    band.setFocus()
    for length in ("12,5", "17", "28"):  # from the camera, which was added last, toward the telescope
        QTest.keyClicks(band, length[0])
        QTest.keyClicks(band.editor, length[1:])
        QTest.keyClick(band.editor, Key.Key_Return)
        QTest.keyClick(band, Key.Key_Left)
    assert [part.length_mm for part in session.rig.train] == [28, 17, 12.5]
    assert not [path for path in session.rig.assumed if path.startswith("train")]
    QTest.keyClick(start, Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    QTest.keyClick(band.next_menu, Key.Key_Return)  # guide by a telescope of its own
    assert session.rig.guiding.kind == "separate"
    assert {"guiding.telescope.focal_length_mm", "guiding.telescope.aperture_mm"} <= set(session.rig.assumed)
    session.undo()
    # The same value, typed, is given too.
    start.show_start()
    type_into(start.stack.start_page.not_entered.fields["telescope.aperture_mm"], "100")
    assert session.rig.assumed == ("telescope.focal_length_mm",)


def test_the_band_folds_and_remembers_it_for_its_group(window):
    assert window.drawing.currentWidget() is window.drawing.section
    window.menus.by_name["Fold the drawing"].trigger()
    assert window.drawing.currentWidget() is window.drawing.strip
    assert window.drawing.height() <= 60
    window.show_step("guide_branch")
    assert window.drawing.is_collapsed
    window.show_step("scales")
    assert not window.drawing.is_collapsed
    window.show_step("footprint")
    assert window.drawing.is_collapsed, "where the sheet needs the room it folds by itself"
    window.show_step("ready")
    assert window.drawing.currentWidget() is window.drawing.strip
    window.show_step("light_path")
    window.drawing.strip.grab()
    box, part_id = window.drawing.strip.boxes[2]
    QTest.mouseClick(window.drawing.strip, Qt.MouseButton.LeftButton, pos=box.center().toPoint())
    assert window.session.chosen_part == part_id == "wheel"
    QTest.keyClick(window.drawing.strip, Key.Key_Return)
    assert not window.drawing.is_collapsed
    window.split.splitterMoved.emit(300, 1)
    window.show_step("sensor")
    window.show_step("shelf")
    assert window.drawing.wanted_height(window.height(), 1.0) == 300
    window.show_step("cooling")
    assert window.drawing.evidence.strip.under_test == {"camera"}


def test_the_worklist_shows_nineteen_steps_without_scrolling(window):
    from wyntaxis.core.steps import GROUPS

    line = window.worklist.lines["light_path"]
    lines = 19 + len(GROUPS)
    assert lines * line.least_height() <= window.worklist.viewport().height() + 8
    assert not window.worklist.verticalScrollBar().isVisible()
    assert line.marks == ((Verdict.FAILS, 2),)


def test_a_line_of_the_wiring_is_dragged_and_undone(window):
    window.show_step("devices")
    wiring, session = window.drawing.wiring, window.session
    wiring.grab()
    centre = {key: QPointF(*box.middle).toPoint() for key, box in wiring.layout_shown.boxes.items()}
    QTest.mousePress(wiring, Qt.MouseButton.LeftButton, pos=centre["guide_camera_device"])
    assert window.sheets["devices"].chosen[1].id == "guide_camera_device"
    QTest.mouseRelease(wiring, Qt.MouseButton.LeftButton, pos=centre["hut_computer"])
    assert session.rig.devices[1].connection.hub is None
    assert window.menus.by_name["Undo"].text() == "Undo: Plug Pellucid Petit into Hut computer"
    QTest.mousePress(wiring, Qt.MouseButton.LeftButton, pos=centre["dew"])
    QTest.mouseRelease(wiring, Qt.MouseButton.LeftButton, pos=centre["bank"])
    assert (session.rig.devices[5].power.supply, session.rig.devices[5].power.outlet) == ("bank", None)
    session.undo()
    session.undo()
    assert not session.dirty
    QTest.mousePress(wiring, Qt.MouseButton.LeftButton, pos=centre["dew"])
    QTest.mouseRelease(wiring, Qt.MouseButton.LeftButton, pos=centre["roof"])
    assert "a line goes from a device to a hub" in window.notice.text.text()
    wire = wiring.wire_at(QPointF(*wiring.layout_shown.ways[-2][1][0]))
    assert wire is not None
    QTest.keyClick(wiring, Key.Key_Right)
    assert wiring.accessibleDescription().startswith("Chosen: ")


def test_a_finding_is_accepted_with_a_reason_and_taken_back(window):
    session, margin = window.session, window.margin
    finding = session.evaluation.finding("spacing.main")
    session.choose_finding(finding)
    QTest.mouseClick(margin.accept_button, Qt.MouseButton.LeftButton)
    QTest.keyClicks(margin.reason, "corners are cropped")
    QTest.keyClick(margin.reason, Key.Key_Return)
    assert session.chosen_finding.accepted == "corners are cropped"
    assert "corners are cropped" in margin.accepted.text()
    assert "1 accepted" in window.worklist.lines["light_path"].counts
    session.set_length("ring", 12.5)
    assert session.evaluation.finding("spacing.main").accepted == "", "another number, another matter"
    session.undo()
    QTest.mouseClick(margin.accept_button, Qt.MouseButton.LeftButton)
    assert session.rig.accepted == ()
    said: list[str] = []
    session.refused.connect(said.append)
    for reason in ("a\x00b", "x" * 5000):
        assert not session.accept(reason), "a reason that the rig cannot hold is refused, and told"
    assert len(said) == 2
    assert session.rig.accepted == ()
    session.undo()
    session.undo()
    assert not session.dirty

"""The Devices, Records, Ports and Ready sheets, driven in the real window."""

import json
import socket

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from tests.core.evidence.test_headers import write
from tests.desk.test_compute_sheets import type_into
from wyntaxis.core.evidence.headers.kind import HEADERS
from wyntaxis.core.evidence.ports.kind import PORTS
from wyntaxis.core.ledger import Verdict


@pytest.fixture
def sheet_of(window):
    def show(step):
        window.show_step(step)
        return window.sheets[step]

    return show


def texts(table, column=0):
    return [table.item(row, column).text() for row in range(table.rowCount())]


def test_a_device_is_chosen_edited_added_and_removed(window, sheet_of):
    sheet, session = sheet_of("devices"), window.session
    imaging = sheet.groups["Imaging"].tiles
    assert [tile.tile.title for tile in imaging] == ["Pellucid Grand", "Rondel 7", "Glide motor"]
    QTest.mouseClick(imaging[2], Qt.MouseButton.LeftButton)
    assert sheet.chosen[1].id == "focuser_device"
    assert window.margin.title.text().startswith("Tight: Glide motor works at 92 % of its travel")
    type_into(sheet.settings.fields["devices", 3, "settings", "position", "value"], "7000")
    assert session.rig.devices[3].number("position") == 7000
    assert session.evaluation.finding("focuser.travel").verdict == "holds"
    type_into(sheet.settings.fields["devices", 3, "settings", "step_um", "value"], "-1")
    assert "must lie from" in window.notice.text.text()
    type_into(sheet.settings.fields["devices", 3, "settings", "step_um", "value"], "")
    assert "step_um" not in session.rig.devices[3].settings
    session.undo()
    assert session.rig.devices[3].number("step_um") == 4.2
    sheet.kinds.setCurrentIndex(sheet.kinds.findData("rotator"))
    sheet.add_button.click()
    assert (session.rig.devices[-1].id, sheet.chosen[1].kind) == ("rotator", "rotator")
    sheet.remove_button.click()
    assert "rotator" not in {device.id for device in session.rig.devices}


def test_slots_disks_and_the_run_are_edited_where_they_stand(window, sheet_of):
    sheet, session = sheet_of("devices"), window.session
    sheet.choose("wheel_device")
    type_into(sheet.slots.fields[6][0], "SII")
    assert session.rig.devices[2].slot_names[-1] == "SII"
    type_into(sheet.slots.fields[6][0], "")
    assert session.rig.devices[2].slot_names[-1] == "OIII"
    sheet.slots.act(0, 1)
    assert session.rig.devices[2].slot_names[:2] == ("R", "L")
    assert session.evaluation.finding("wheel.order").verdict == "fails"
    sheet.choose("hut_computer")
    sheet.storage.add_button.click()
    assert session.rig.devices[7].storage[-1].name == "disk"
    assert session.set_value((*("devices", 7, "storage"), 1, "holds"), "copy", "second copy")
    assert session.evaluation.finding("storage.copy").verdict == "holds"
    sheet.actions_panel.boxes["park"].click()
    assert "park" not in session.rig.plan.actions
    type_into(sheet.plan_card.field("filters"), "L, R")
    assert session.rig.plan.filters == ("L", "R")
    assert session.evaluation.finding("plan.filters").verdict == "holds"


def test_a_record_is_edited_in_the_matrix_and_typed_by_hand(window, sheet_of):
    sheet, session = sheet_of("records"), window.session
    assert "1.316 times, 1/0.76: the reducer" in sheet.matrix.item(0, 2).text()
    sheet.matrix.item(0, 2).setText("513.8 mm")
    assert session.rig.records[0].values["effective_focal_length_mm"] == 513.8
    assert sheet.matrix.item(0, 2).text() == "513.8"
    sheet.matrix.item(0, 2).setText("wide")
    assert "is no number" in window.notice.text.text()
    assert sheet.matrix.item(0, 2).text() == "513.8"
    row = texts(sheet.matrix).index("Glide motor: reversed")
    sheet.matrix.setCurrentCell(row, 3)
    assert sheet.which.currentText() == "device server"
    assert "reversed" in window.margin.title.text()
    sheet.matrix.item(row, 3).setText("")
    assert "focuser_device.reversed" not in session.rig.records[1].values
    key = "main_camera.ramp_c_min"
    sheet.by_hand.quantity.setCurrentIndex(sheet.by_hand.quantity.findData(key))
    sheet.by_hand.value.setText("5")
    sheet.by_hand.enter()
    assert session.rig.records[1].values[key] == 5
    before = len(session.rig.records)
    sheet.add_record()
    assert session.rig.records[-1].name == "program"
    sheet.remove_record()
    assert len(session.rig.records) == before


def test_a_file_is_brought_in_by_a_map_that_is_known_again(window, sheet_of, qtbot, tmp_path):
    sheet, session = sheet_of("records"), window.session
    panel = sheet.bring_in
    profile = tmp_path / "planner.json"
    profile.write_text(json.dumps({"optics": {"FocalLength": 0.676}, "wheel": ["L", "R"], "note": None}), "utf-8")
    panel.open(profile)
    qtbot.waitUntil(panel.isVisible)
    assert texts(panel.paths) == ["optics.FocalLength", "wheel[0]", "wheel[1]", "note"]
    assert [rule.quantity for rule in panel.rules] == ["effective_focal_length_mm"]
    panel.paths.setCurrentCell(0, 0)
    panel.unit.setCurrentIndex(panel.unit.findData("m"))
    panel.point()
    panel.path_field.setText("wheel[*]")
    panel.quantity.setCurrentIndex(panel.quantity.findData("wheel_device.slots"))
    panel.point()
    assert texts(panel.found, 2) == ["676 mm", "L, R"]
    panel.keep()
    kept = session.rig.records[-1]
    assert (kept.name, kept.values) == (
        "planner",
        {"effective_focal_length_mm": 676.0, "wheel_device.slots": ("L", "R")},
    )
    assert not panel.isVisible()
    session.undo()
    panel.open(profile)
    qtbot.waitUntil(panel.isVisible)
    assert "The map “planner” knows such files" in panel.state.text()
    broken = tmp_path / "broken.json"
    broken.write_text("{", "utf-8")
    panel.open(broken)
    qtbot.waitUntil(lambda: "broken.json: is no readable JSON" in window.notice.text.text())


def test_frame_headers_are_read_audited_saved_and_forgotten(window, sheet_of, qtbot, tmp_path):
    sheet, session = sheet_of("records"), window.session
    write(tmp_path / "frames" / "a.fits", FOCALLEN=676.0)
    (tmp_path / "frames" / "noise.fits").write_bytes(b"noise")
    sheet.frames.read(tmp_path / "frames")
    qtbot.waitUntil(lambda: session.evidence.of(HEADERS) is not None)
    assert "1 frame below" in sheet.frames.state.text()
    row = texts(sheet.frames.checks, 1).index("FOCALLEN")
    assert "the reducer Aldous 0.76x is missing" in sheet.frames.checks.item(row, 5).text()
    assert texts(sheet.frames.missing, 2) == ["dark", "flat", "bias"]
    assert texts(sheet.frames.broken) == ["noise.fits"]
    assert session.evaluation.finding("frames.header").verdict == "fails"
    sheet.frames.save(tmp_path / "audit.csv")
    assert (tmp_path / "audit.csv").read_text("utf-8").count("\n") == 3
    sheet.frames.forget()
    assert session.evaluation.finding("frames.header") is None
    sheet.frames.read(tmp_path / "none")
    qtbot.waitUntil(lambda: "is not there" in window.notice.text.text())


def test_ports_are_read_and_what_they_say_reaches_ready(window, sheet_of, qtbot, tmp_path):
    ready, session = sheet_of("ready"), window.session
    assert "the ports have not been read" in ready.seen.text()
    ports = sheet_of("ports")
    ports.read_simulated()
    qtbot.waitUntil(lambda: session.evidence.of(PORTS) is not None)
    assert "Pellucid Petit" in texts(ports.tree, 7)
    row = texts(ports.findings).index("Pellucid Petit may be put to sleep, and drop off USB")
    ports.findings.setCurrentCell(row, 0)
    assert 'ATTR{power/control}="on"' in window.margin.remedy.text()
    ports.copy()
    assert "usbcore.usbfs_memory_mb=256" in QApplication.clipboard().text()
    ready = sheet_of("ready")
    row = texts(ready.table).index("No device can fall asleep")
    assert ready.table.item(row, 1).text() == "fails"
    ready.table.setCurrentCell(row, 0)
    assert "may be put to sleep" in window.margin.title.text()
    ready.copy()
    assert QApplication.clipboard().text().startswith("Not ready: 15 of 24 conditions fail.")
    ports = sheet_of("ports")
    ports.read(tmp_path)
    qtbot.waitUntil(lambda: "no USB bus" in window.notice.text.text())
    assert session.evidence.of(PORTS) is not None
    ports.forget_button.click()
    assert session.evidence.of(PORTS) is None


def test_empty_sheets_say_what_to_do(make_window):
    window = make_window()
    window.files.open_new()
    words = {"devices": "No devices yet", "records": "No records yet", "ports": "have not been read"}
    for step, text in words.items():
        window.show_step(step)
        sheet = window.sheets[step]
        label = sheet.empty if step == "devices" else sheet.state
        assert text in label.text()
        assert label.isVisible()
    window.show_step("ready")
    ready = window.sheets["ready"]
    assert ready.table.rowCount() == 0
    assert "No condition of the night applies to this rig yet" in ready.sentence.text()
    assert ready.left_out.text().startswith("24 conditions left out: the rig has no corrector and no guide branch; ")


def test_the_margin_lists_the_step_or_all(window, qtbot):
    window.show_step("devices")
    own = window.margin.list.count()
    qtbot.mouseClick(window.margin.all_box, Qt.MouseButton.LeftButton)
    findings = window.session.evaluation.findings
    open_ones = [finding for finding in findings if finding.verdict != "holds"]
    assert window.margin.list.count() == len(open_ones) + 1 > own
    section_box = window.margin.list.item(len(open_ones))
    assert section_box.text() == f"{len(findings) - len(open_ones)} hold  ▸"
    window.margin.list.itemActivated.emit(section_box)
    assert window.margin.list.count() == len(findings) + 1
    window.margin.list.itemActivated.emit(window.margin.list.item(len(open_ones)))
    assert window.margin.list.count() == len(open_ones) + 1


def test_a_program_is_described_and_its_page_typed(window, sheet_of, qtbot):
    sheet = sheet_of("records")
    pages, session = sheet.programs, sheet.session
    assert "No programs yet" in pages.state.text()
    pages.add_program()
    pages.add_program()
    assert [program.roles for program in session.rig.programs] == [("capture",), ("capture",)]
    pages.roles.box("capture").setChecked(False)
    pages.roles.box("device_server").setChecked(True)
    assert session.rig.programs[1].roles == ("device_server",)
    pages.choose("program-1")
    pages.needs.box("program-2").setChecked(True)
    pages.drives.box(session.rig.devices[0].id).setChecked(True)
    first = session.rig.programs[0]
    assert (first.needs, first.drives) == (("program-2",), (session.rig.devices[0].id,))
    assert "started in this order: Program 2, Program 1" in pages.state.text()
    assert texts(pages.table, 4)[0] == "to type"
    pages.table.setCurrentCell(0, 0)
    qtbot.keyClick(pages.table, Qt.Key.Key_Space)
    assert texts(pages.table, 4)[0].startswith("typed 20")
    assert pages.table.currentRow() == 1, "the next line is at hand"
    pages.all_typed()
    assert {page.mark for page in pages.page.lines} == {"agrees"}
    session.undo()
    assert {page.mark for page in pages.page.lines} == {"agrees", "missing"}
    assert not pages.reach_button.isEnabled(), "no host is stated"
    with socket.create_server(("127.0.0.1", 0)) as server:
        session.set_value(("programs", 0, "host"), "127.0.0.1", "host")
        session.set_value(("programs", 0, "port"), server.getsockname()[1], "port")
        pages.reach_button.click()
        qtbot.waitUntil(lambda: not pages.job.running)
    assert "answers after" in pages.reached.text()
    pages.choose("program-2")
    pages.remove_program()
    assert [(program.id, program.needs) for program in session.rig.programs] == [("program-1", ())]
    session.choose_device("program-1")  # as a click on its block in the wiring does


def test_own_settings_are_added_typed_judged_and_undone(window, sheet_of):
    sheet = sheet_of("devices")
    session, (place, device) = sheet.session, sheet.chosen
    sheet.own.add()
    sheet.own.add()
    own = session.rig.devices[place].own_settings
    assert [entry.name for entry in own] == ["setting 1", "setting 2"]
    type_into(sheet.own.fields[0][1], "8")
    type_into(sheet.own.fields[0][2], "MB")
    type_into(sheet.own.fields[0][4], "4, 6")
    first = session.rig.devices[place].own_settings[0]
    assert (first.value, first.unit, first.allowed) == (8.0, "MB", (4.0, 6.0))
    assert first.date is not None, "since when it is so"
    found = session.evaluation.finding("own_settings.allowed")
    assert (found.subject, found.verdict) == (device.id, Verdict.FAILS)
    sheet.own.act(1, 0)
    assert len(session.rig.devices[place].own_settings) == 1
    session.undo()
    assert len(session.rig.devices[place].own_settings) == 2


def test_an_incident_is_noted_found_and_shown_beside_its_devices_findings(window, sheet_of, qtbot):
    sheet_of("devices")
    session = window.session
    window.stack.show_incidents()
    page = window.stack.incidents
    assert "None noted yet" in page.state.text()
    page.symptom_box.setCurrentText("the device is not there")
    page.add()
    page.add()
    assert [incident.symptom for incident in session.rig.incidents] == ["the device is not there"] * 2
    page.table.setCurrentCell(0, 0)
    place = page.chosen
    device = next(f.subject for f in session.evaluation.findings if f.id.startswith("driver."))
    session.set_value(("incidents", place, "device"), device, "x")
    type_into(page.card.field("cure"), "a shorter cable")
    type_into(page.card.field("frames_lost"), "12")
    page.words.setText("shorter")
    assert len(page.shown) == 1
    assert texts(page.table, 4) == ["a shorter cable"]
    window.show_step("devices")
    session.choose_finding(next(f for f in session.evaluation.findings if f.subject == device))
    assert "the device is not there; cured by: a shorter cable; 12 frames lost" in window.margin.before.text()
    assert window.margin.before.isVisible()
    other = next(f for f in session.evaluation.findings if f.subject != device)
    session.choose_finding(other)
    assert not window.margin.before.text()
    window.stack.show_incidents()
    page.words.clear()
    page.table.setCurrentCell(0, 0)
    page.take_out()
    assert len(session.rig.incidents) == 1
    session.undo()
    assert len(session.rig.incidents) == 2


def test_a_summary_is_copied_from_the_file_menu(window, sheet_of):
    sheet_of("ready")
    action = next(own for own in window.findChildren(QAction) if own.text().startswith("Copy a summary"))
    action.trigger()
    text = QApplication.clipboard().text()
    assert "Train, from the telescope to the sensor:" in text
    assert "Tarnfell" not in text, "the site's name is left out, wherever it stands"

"""The Stars and Travel sheets, driven in the real window with frames of the simulated telescope."""

import pytest

from tests.desk.pictures import looked_at
from tests.desk.test_compute_sheets import type_into
from tests.desk.test_connect_sheets import sheet_of, texts  # noqa: F401 (a fixture)
from wyntaxis.simulators.telescope import Run, SimulatedTelescope

SCOPE = SimulatedTelescope(best_position=7000, width=200, height=150, stars=8, seed=5)


@pytest.fixture
def folder(tmp_path):
    """A run of nine frames with one taken through cloud, so that its few stars are no use."""
    SCOPE.write_run(tmp_path / "run", [6956 + 11 * k for k in range(9)], run=Run(filter_name="L"))
    return tmp_path / "run"


def loaded(sheet, qtbot, work):
    before = sheet.result
    work()
    qtbot.waitUntil(lambda: sheet.result is not before and not sheet.job.running)


def test_a_folder_is_read_a_point_left_out_restored_and_the_result_kept(window, sheet_of, qtbot, folder):  # noqa: F811
    sheet, session = sheet_of("travel"), window.session
    assert "No focus runs yet" in sheet.state.text()
    assert not sheet.keep_button.isEnabled()
    assert "counter rises outward" in looked_at(sheet.travel_picture).drawing.accessibleName()
    loaded(sheet, qtbot, lambda: sheet.read([folder]))
    assert len(texts(sheet.table)) == 1
    best = sheet.result.curves[0].best_position
    assert best.value == pytest.approx(7000, abs=2 * best.standard + 0.3)
    assert sheet.pictures.current is sheet.curve_picture
    assert len(looked_at(sheet.curve_picture).data.rows) == 9
    looked_at(sheet.curve_picture).point_chosen.emit(sheet.result.curves[0].points[0].file)
    assert sheet.points.currentRow() == 0
    qtbot.waitUntil(lambda: "focus_000.fits" in sheet.frame_picture.plot.answer.text())
    assert sheet.point_button.text() == "Leave out"
    loaded(sheet, qtbot, sheet.point_button.click)
    assert sheet.points.item(0, 6).text() == "left out by hand"
    sheet.points.selectRow(0)
    assert sheet.point_button.text() == "Restore"
    loaded(sheet, qtbot, sheet.point_button.click)
    assert sheet.points.item(0, 5).text() == "yes"
    assert "focuser_device.step_um" in session.evaluation.rows
    assert session.evaluation.rows["focuser_device.step_um"].measured is None
    sheet.keep_button.click()
    row = session.evaluation.rows["focuser_device.step_um"]
    assert row.measured.value == pytest.approx(4.2, abs=3 * row.measured.uncertainty)
    assert session.evaluation.finding("focuser.step_size") is not None
    session.undo()
    assert session.evaluation.rows["focuser_device.step_um"].measured is None
    sheet.take_out()
    assert sheet.result is None


def test_the_demos_runs_show_its_planted_mistakes_and_advice_is_applied(window, sheet_of, qtbot):  # noqa: F811
    sheet, session = sheet_of("travel"), window.session
    loaded(sheet, qtbot, sheet.add_simulated)
    sheet.keep()
    failing = {f.id for f in session.evaluation.findings if f.verdict == "fails" and f.id.startswith("focuser.")}
    assert failing == {"focuser.step_size", "focuser.backlash", "focuser.offsets", "focuser.sampling"}
    button = sheet.advice.buttons["compensation_steps"]
    assert button.isEnabled()
    button.click()
    assert session.evaluation.finding("focuser.backlash").verdict == "holds"
    assert sheet.advice.buttons["compensation_steps"].text() == "Is set"
    session.undo()
    assert session.evaluation.finding("focuser.backlash").verdict == "fails"
    assert "steps/°C" in looked_at(sheet.model_picture).answer.text()
    sheet.aligned.setChecked(True)
    assert looked_at(sheet.curve_picture).axis_labels["bottom"] == "position from best, steps"
    window.set_palette_by_name("night")
    assert "step: " in sheet.sentences.text()


def test_a_table_without_telling_headings_is_pointed_at(window, sheet_of, qtbot, tmp_path):  # noqa: F811
    sheet = sheet_of("travel")
    lines = ["a,b"] + [f"{100 * k},{2 + abs(k - 4) * 1.5 + 0.02 * (k % 2)}" for k in range(9)]
    (tmp_path / "t.csv").write_text("\n".join(lines), "utf-8")
    sheet.read([tmp_path / "t.csv"])
    qtbot.waitUntil(sheet.columns.isVisible)
    assert "point one at it" in window.notice.text.text()
    sheet.columns.apply()
    assert "choose a column for: position" in window.notice.text.text()
    for key, at in (("focus.position", 1), ("focus.hfd", 2)):
        sheet.columns.boxes[key][0].setCurrentIndex(at)
    loaded(sheet, qtbot, sheet.columns.apply)
    assert not sheet.columns.isVisible()
    loaded(sheet, qtbot, lambda: sheet.read([tmp_path / "t.csv"]))  # the columns are remembered
    (tmp_path / "none").mkdir()
    sheet.read([tmp_path / "none"])
    qtbot.waitUntil(lambda: "holds no FITS files" in window.notice.text.text())


def test_frames_are_measured_limited_looked_at_and_kept(window, sheet_of, qtbot, folder, tmp_path):  # noqa: F811
    sheet, session = sheet_of("stars"), window.session
    assert "No frames yet" in sheet.state.text()
    loaded(sheet, qtbot, lambda: sheet.read([folder]))
    assert sheet.table.rowCount() == 9
    assert sheet.pictures.current is sheet.time_picture
    assert len(looked_at(sheet.time_picture).data.rows) == 9
    looked_at(sheet.frame_picture)
    sheet.table.selectRow(4)
    qtbot.waitUntil(lambda: sheet.picture is not None and sheet.picture[0].endswith("focus_004.fits"))
    assert "focus_004.fits" in sheet.frame_plot.answer.text()
    assert len(sheet.frame_plot.data.rows) == sheet.grades[4].frame.count
    assert "zones" in sheet.place_plot.answer.text()
    looked_at(sheet.time_picture).frame_chosen.emit(2)
    assert sheet.table.currentRow() == 2
    kept = sum(entry.keep for entry in sheet.grades)
    type_into(sheet.limit, "3.5")
    assert sheet.result.limit_px == 3.5
    assert sum(entry.keep for entry in sheet.grades) < kept
    looked_at(sheet.time_picture).limit_moved.emit(99.0)
    assert all(entry.keep for entry in sheet.grades)
    type_into(sheet.limit, "")
    assert sheet.result.limit_px is None
    type_into(sheet.factor, "0.2")
    assert "1 to 10 times" in window.notice.text.text()
    for index in range(sheet.figure.count()):
        sheet.figure.setCurrentIndex(index)
        assert looked_at(sheet.time_picture).data.rows
    sheet.keep_button.click()
    assert session.rig.measured["star_fwhm_arcsec"].value > 0
    assert session.evaluation.finding("stars.round").verdict == "holds"
    session.undo()
    assert "star_fwhm_arcsec" not in session.rig.measured
    sheet.save(tmp_path / "frames.csv")
    assert (tmp_path / "frames.csv").read_text("utf-8").count("\n") == 10
    sheet.save(tmp_path / "gone" / "frames.csv")
    assert "gone" in window.notice.text.text()
    sheet.every.setText("two")
    sheet.read([folder])
    assert "whole number" in window.notice.text.text()
    sheet.every.setText("4")
    loaded(sheet, qtbot, lambda: sheet.read([folder]))
    assert sheet.table.rowCount() == 3
    sheet.take_out()
    assert sheet.result is None


def test_a_drawn_night_is_cancelled_and_an_unreadable_frame_told(window, sheet_of, qtbot, tmp_path):  # noqa: F811
    sheet = sheet_of("stars")
    sheet.add_simulated()
    assert sheet.job.running
    sheet.job.cancel()
    assert not sheet.job.running
    assert sheet.result is None
    (tmp_path / "bad").mkdir()
    (tmp_path / "bad" / "a.fits").write_bytes(b"SIMPLE  = nothing")
    sheet.read([tmp_path / "bad"])
    qtbot.waitUntil(lambda: "no frame could be used" in window.notice.text.text())

"""The Sensor and Cooling sheets, driven in the real window with the simulated camera."""

import pytest

from tests.desk.pictures import looked_at
from tests.desk.test_compute_sheets import type_into
from tests.desk.test_connect_sheets import sheet_of, texts  # noqa: F401 (a fixture)
from wyntaxis.core.evidence.cooling.kind import COOLING as RUNS
from wyntaxis.simulators.camera import BenchSession, SimulatedCamera, cooling_csv, cooling_run

SMALL = SimulatedCamera(width=128, height=96, seed=4)


def plot_of(sheet, title):
    """The plot below a heading of the sheet, which has been opened."""
    return looked_at(next(picture for picture in sheet.pictures.all if picture.title == title))


@pytest.fixture
def folder(tmp_path):
    """A few frames at the rig's gain and offset."""
    session = BenchSession(SMALL, tmp_path / "bench")
    session.add("bias", 2, gain=125.0, offset=36.0)
    for share in (0.1, 0.25, 0.4, 0.55, 1.2):
        session.add("flat", 2, gain=125.0, offset=36.0, exposure_s=10 * share, light_e_s=5000.0, filter="L")
    return tmp_path / "bench"


def test_bench_frames_are_measured_kept_and_plotted(window, sheet_of, qtbot, folder):  # noqa: F811
    sheet, session = sheet_of("sensor"), window.session
    assert "Cap on" in sheet.state.text()
    assert not sheet.keep_button.isEnabled()
    sheet.read([folder])
    assert not sheet.reading_buttons["folder"].isEnabled()
    qtbot.waitUntil(lambda: sheet.result is not None and not sheet.job.running)
    assert texts(sheet.gains) == ["125"]
    gain = float(sheet.gains.item(0, 2).text().split(" ± ")[0])
    assert gain == pytest.approx(SMALL.gain_at(125), rel=0.03)
    sheet.keep_button.click()
    device = session.rig.devices[0]
    assert device.measured("read_noise_e").value == pytest.approx(3, rel=0.1)
    assert session.evaluation.finding("camera.read_noise").verdict == "fails"  # the sheet states 1.6
    assert session.evaluation.finding("camera.gain").verdict == "holds"
    assert "e⁻/ADU" in plot_of(sheet, "Photon transfer").answer.text()
    assert len(plot_of(sheet, "Photon transfer").data.rows) > 20
    assert "σ above no ADU" in plot_of(sheet, "Bias").answer.text()
    assert "No darks yet" in plot_of(sheet, "Dark current").answer.text()
    assert "Read noise adds 5 %" in plot_of(sheet, "Exposure").answer.text()
    session.undo()
    assert session.rig.devices[0].measured("read_noise_e") is None


def test_headers_are_corrected_in_the_table_and_measured_anew(window, sheet_of, qtbot, folder):  # noqa: F811
    sheet, session = sheet_of("sensor"), window.session
    sheet.read([folder])
    qtbot.waitUntil(lambda: sheet.result is not None and not sheet.job.running)
    row = texts(sheet.frames).index("flat_003.fits")
    sheet.frames.item(row, 1).setText("dark")
    assert session.rig.corrections["flat_003.fits"].kind == "dark"
    assert sheet.frames.item(row, 1).text() == "dark"
    sheet.frames.item(row, 1).setText("sunset")
    assert "is none of light, dark, flat, bias, other" in window.notice.text.text()
    assert sheet.frames.item(row, 1).text() == "dark"
    sheet.frames.item(row, 4).setText("two")
    assert "flat_003.fits" in window.notice.text.text()
    sheet.frames.setCurrentCell(texts(sheet.frames).index("flat_004.fits"), 0)
    sheet.leave_out()
    assert session.rig.corrections["flat_004.fits"].left_out
    first = sheet.result
    sheet.again_button.click()
    qtbot.waitUntil(lambda: sheet.result is not first and not sheet.job.running)
    assert "left out by hand" in sheet.frames.item(texts(sheet.frames).index("flat_004.fits"), 7).text()
    session.undo()
    assert "flat_004.fits" not in session.rig.corrections


def test_the_sheet_stays_where_it_is_while_work_runs(window, sheet_of, qtbot):  # noqa: F811
    sheet = sheet_of("sensor")
    window.activateWindow()
    sheet.reading_buttons["simulate"].setFocus()
    qtbot.waitUntil(sheet.reading_buttons["simulate"].hasFocus)
    sheet.reading_buttons["simulate"].click()
    qtbot.waitUntil(lambda: sheet.result is not None and not sheet.job.running)
    qtbot.waitUntil(sheet.reading_buttons["simulate"].hasFocus)
    assert sheet.verticalScrollBar().value() == 0


def test_a_measurement_is_cancelled_and_a_bad_folder_told(window, sheet_of, qtbot, folder, tmp_path):  # noqa: F811
    sheet = sheet_of("sensor")
    sheet.read([folder])
    sheet.job.cancel()
    qtbot.waitUntil(lambda: not sheet.job.running)
    assert sheet.result is None
    sheet.read([tmp_path / "none"])
    qtbot.waitUntil(lambda: "is not there" in window.notice.text.text())


def test_the_sky_is_typed_and_gives_the_exposure(window, sheet_of):  # noqa: F811
    sheet, session = sheet_of("sensor"), window.session
    type_into(sheet.sky.name, "B")
    sheet.sky.value.setText("0.8")
    sheet.sky.enter()
    assert session.rig.plan.sky_e_s["B"] == 0.8
    # 1.6² / ((1.05² − 1)(0.8 + 0.003)) = 31 s, by the stated read noise and dark current
    assert sheet.sky.table.item(texts(sheet.sky.table).index("B"), 2).text() == "31"
    sheet.sky.name.setText("")
    sheet.sky.enter()
    assert "name the filter" in window.notice.text.text()


def test_cooling_runs_give_a_model_and_a_ramp(window, sheet_of, qtbot):  # noqa: F811
    sheet, session = sheet_of("cooling"), window.session
    assert "No runs yet" in sheet.state.text()
    assert "gives the model" in sheet.ramp.words.text()
    sheet.add_simulated()
    qtbot.waitUntil(lambda: bool(sheet.logs))
    assert texts(sheet.table) == ["full power", "in one go", "ramp 2.5 a minute"]
    assert sheet.model.tau_min == pytest.approx(9, rel=0.01)
    assert "Dashed: the model" in looked_at(sheet.run_picture).answer.text()
    sheet.keep_button.click()
    assert session.evaluation.finding("cooling.reach").verdict == "holds"
    assert session.chosen_finding.id.startswith("cooling."), "the step's first findings take over the margin"
    assert session.rig.devices[0].measured("cooler_pull_c_min").value == pytest.approx(5.5, rel=0.01)
    type_into(sheet.ramp.fields["minutes_down"], "30")
    assert "14 steps of 2.00 °C, each held 2.14 min" in sheet.ramp.words.text()
    type_into(sheet.ramp.fields["step_c"], "")
    assert "“Step” is empty" in sheet.ramp.words.text()
    type_into(sheet.ramp.fields["step_c"], "5")
    assert len(looked_at(sheet.ramp_picture).data.rows) > 100
    sheet.table.setCurrentCell(1, 0)
    sheet.take_out()
    qtbot.waitUntil(lambda: len(sheet.logs) == 2)
    assert texts(sheet.table) == ["full power", "ramp 2.5 a minute"]


def test_unknown_columns_are_pointed_at_and_remembered(window, sheet_of, qtbot, tmp_path):  # noqa: F811
    sheet = sheet_of("cooling")
    rows = cooling_csv(cooling_run(SMALL, ambient_c=18, target_c=-10, full_power=True)).splitlines()
    path = tmp_path / "odd.csv"
    path.write_text("\n".join(["c1,c2,c3,c4", *rows[1:]]), "utf-8")
    sheet.read([path])
    qtbot.waitUntil(sheet.columns.isVisible)
    sheet.columns.apply()
    assert "choose a column for: time, sensor temperature" in window.notice.text.text()
    for key, heading in zip(sheet.columns.boxes, ("c1", "c2", "c3", "c4"), strict=True):
        box = sheet.columns.boxes[key][0]
        box.setCurrentIndex(box.findData(heading))
    sheet.columns.apply()
    qtbot.waitUntil(lambda: bool(sheet.logs))
    assert sheet.model is not None
    sheet.session.look_at(RUNS, None)
    assert "No runs yet" in sheet.state.text()
    sheet.read([path])
    qtbot.waitUntil(lambda: bool(sheet.logs))
    assert not sheet.columns.isVisible()

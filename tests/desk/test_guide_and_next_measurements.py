"""The Guide log and Proofs sheets, driven in the real window."""

import pytest
from PyQt6.QtWidgets import QApplication

from tests.core.evidence.guided import mount
from tests.desk.pictures import looked_at
from tests.desk.test_connect_sheets import sheet_of  # noqa: F401 (a fixture)
from tests.desk.test_light_sheets import texts
from wyntaxis.core.ledger import Verdict
from wyntaxis.simulators.guided_mount import SimulatedMount, write_guide_log


def done(sheet, qtbot):
    """Wait until a sheet's work is done."""
    qtbot.waitUntil(lambda: not sheet.job.running)


@pytest.fixture(scope="module")
def logs(tmp_path_factory):
    """Two nights of twenty minutes, and a table whose headings tell nothing."""
    place = tmp_path_factory.mktemp("logs")
    mount = SimulatedMount(seconds=1200, dither_every_s=200)
    write_guide_log(place / "first.csv", mount)
    write_guide_log(place / "second.csv", SimulatedMount(seconds=900, dither_every_s=0, seed=4), calibrated=False)
    rows = "\n".join(f"{2 * k};{k % 3};{k % 2}" for k in range(60))
    (place / "strange.csv").write_text(f"a;b;c\n{rows}\n", "utf-8")
    return place


def test_logs_are_read_compared_kept_and_taken_back(sheet_of, logs, qtbot):  # noqa: F811
    sheet = sheet_of("guide_log")
    session = sheet.session
    assert "No guide log yet" in sheet.state.text()
    sheet.read([logs / "first.csv", logs / "second.csv"])
    assert "“RA error [px]” is error in right ascension in px" in sheet.understood.text()
    done(sheet, qtbot)
    rows = texts(sheet.table)
    assert [row[0] for row in rows] == ["first", "second"]
    assert rows[0][1] == "2026-11-14"
    assert "guide focal length" in sheet.sentences.text()
    assert len(looked_at(sheet.error_picture).data.rows) == 480
    sheet.table.selectRow(1)
    assert len(looked_at(sheet.error_picture).data.rows) == 360
    assert looked_at(sheet.error_picture).answer.text().startswith("second: RMS")
    assert {row[0] for row in looked_at(sheet.scatter_picture).data.rows} == {0.0, 1.0}
    assert "no dither" in looked_at(sheet.settling_picture).answer.text()
    sheet.table.selectRow(0)
    assert "5 dithers" in looked_at(sheet.settling_picture).answer.text()
    sheet.keep()
    assert session.rig.measured["guide_rms_arcsec"].evidence.method == "guide_log"
    assert session.rig.guiding.calibration.pier_side == "west"
    assert session.evaluation.finding("guiding.rms") is not None
    session.undo()
    assert "guide_rms_arcsec" not in session.rig.measured
    sheet.take_out()
    assert [row[0] for row in texts(sheet.table)] == ["second"]


def test_gusts_are_left_out_and_counted_again(sheet_of, tmp_path, qtbot):  # noqa: F811
    rows, _ = mount(4, gusts=((200, 4, 9.0),))
    lines = [",".join(f"{value:.3f}" for value in row) for row in rows]
    head = "time (s),ra (arcsec),dec (arcsec),ra pulse (arcsec),dec pulse (arcsec)"
    (tmp_path / "windy.csv").write_text("\n".join([head, *lines]) + "\n", "utf-8")
    sheet = sheet_of("guide_log")
    assert not sheet.gusts_button.isEnabled()
    sheet.read([tmp_path / "windy.csv"])
    done(sheet, qtbot)
    before = sheet.answer.text()
    assert "1 jolt as by gusts of wind" in sheet.sentences.text()
    assert "replayed with other settings" in sheet.sentences.text()
    sheet.gusts_button.click()
    done(sheet, qtbot)
    assert "in gusts" in sheet.sentences.text()
    assert sheet.answer.text() != before
    assert sheet.gusts_button.text() == "Count gusts again"
    sheet.gusts_button.click()
    done(sheet, qtbot)
    assert sheet.answer.text() == before
    sheet.take_out()


def test_columns_are_pointed_at_and_remembered(sheet_of, logs, qtbot):  # noqa: F811
    sheet = sheet_of("guide_log")
    session = sheet.session
    entries = []
    session.refused.connect(entries.append)
    sheet.read([logs / "strange.csv"])
    assert "point columns at them" in entries[-1]
    assert sheet.columns.isVisible()
    for key, column, unit in (("guide.time", "a", "s"), ("guide.ra", "b", "px"), ("guide.dec", "c", "″")):
        box, units = sheet.columns.boxes[key]
        box.setCurrentIndex(box.findData(column))
        units.setCurrentIndex(units.findData(unit))
    sheet.columns.apply()
    done(sheet, qtbot)
    assert not sheet.columns.isVisible()
    assert sheet.run.run.ra[:3] == pytest.approx([0, 1.605923, 2 * 1.605923], rel=1e-4)
    sheet.take_out()
    sheet.read([logs / "strange.csv"])
    done(sheet, qtbot)
    assert len(sheet.result.runs) == 1
    sheet.point_columns()
    assert sheet.columns.boxes["guide.ra"][0].currentData() == "b"


def test_a_worm_is_stated_on_the_sheet(sheet_of, logs, qtbot):  # noqa: F811
    sheet = sheet_of("guide_log")
    session = sheet.session
    session.set_value(("mount", "worm_period_s"), None, "Forget the worm")
    sheet.add_simulated()
    done(sheet, qtbot)
    sheet.keep()
    assert session.evaluation.finding("guiding.period").verdict is Verdict.UNPROVEN
    session.set_value(("mount", "worm_period_s"), 479.0, "State the worm")
    assert session.evaluation.finding("guiding.period").verdict is Verdict.HOLDS
    assert "479" in looked_at(sheet.period_picture).answer.text()


def test_proofs_are_ranked_and_lead_to_their_step(sheet_of, qtbot):  # noqa: F811
    sheet = sheet_of("proofs")
    sheet.try_out()
    done(sheet, qtbot)
    assert texts(sheet.table)[0][:4] == ["One solved frame", "clear sky", "5", "8"]
    assert "Pixel scale" in sheet.number_lines.text()
    assert "One clear hour" in sheet.plan_lines.text()
    sheet.table.selectRow(2)
    assert "Focus runs" in sheet.numbers.heading.text()
    sheet.copy()
    assert "One hour at the bench" in QApplication.clipboard().text()
    with qtbot.waitSignal(sheet.step_asked) as asked:
        sheet.go()
    assert asked.args == ["travel"]
    assert sheet.window().step.key == "travel"


def test_a_stale_measurement_is_shown_and_confirmed(sheet_of, qtbot):  # noqa: F811
    sheet = sheet_of("proofs")
    session = sheet.session
    assert sheet.out_of_date_table.isHidden()
    quantity_value = {
        "value": 12.0,
        "standard_uncertainty": 1.0,
        "evidence": {"method": "field_sweep", "date": "2026-11-12"},
    }
    session.set_value(("measured", "field_tilt_um"), quantity_value, "Keep the field")
    ring = next(place for place, part in enumerate(session.rig.train) if part.id == "ring")
    session.set_value(("train", ring, "length_mm"), 12.2, "Change the ring")
    (row,) = texts(sheet.out_of_date_table)
    assert row[:2] == ["Tilt, centre to corner", "2026-11-12"]
    assert row[3] == "spacing: ring 12.9 → 12.2"
    assert session.evaluation.rows["field_tilt_um"].verdict is Verdict.UNPROVEN
    entries = []
    session.refused.connect(entries.append)
    sheet.ask_reason()
    assert "choose a measurement" in entries[-1]
    sheet.confirm(sheet.out_of_date[0], " ")
    assert "say why" in entries[-1]
    sheet.confirm(sheet.out_of_date[0], "ground flat")
    assert sheet.out_of_date == ()
    assert session.evaluation.rows["field_tilt_um"].verdict is not Verdict.UNPROVEN
    session.undo()
    assert len(sheet.out_of_date) == 1


def test_columns_of_a_log_that_is_gone_are_refused_in_a_line(sheet_of, tmp_path):  # noqa: F811
    sheet, entries = sheet_of("guide_log"), []
    sheet.session.refused.connect(entries.append)
    sheet.read([tmp_path / "gone.csv"])
    sheet.point_columns()
    assert len(entries) == 2
    assert all("gone.csv: cannot be read" in line for line in entries)

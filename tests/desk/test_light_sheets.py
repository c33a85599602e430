"""The Filters and Field sheets, driven in the real window with flats and sweeps of the simulated telescope."""

import math
from dataclasses import replace

import pytest

from tests.desk.pictures import looked_at
from tests.desk.test_compute_sheets import type_into
from tests.desk.test_connect_sheets import sheet_of  # noqa: F401 (a fixture)
from tests.desk.test_sky_sheets import loaded
from wyntaxis.core.rig.parts import Part
from wyntaxis.simulators.flat_field import FLAT_START, Mote, SimulatedFlats
from wyntaxis.simulators.telescope import START, Run, SimulatedFocalSurface, SimulatedTelescope

SIZE = (380, 280)
HALF_MM = math.hypot(*SIZE) / 2 * 3.9 / 1000
SCOPE = SimulatedTelescope(
    width=SIZE[0], height=SIZE[1], stars=36, faintest_adu=9e3, brightest_adu=1.5e5, seeing_scatter=0.02, seed=4
)
POSITIONS = [7000 + 11 * k for k in range(-4, 5)]
CARDS = {"XPIXSZ": 3.9}


def texts(table):
    """The texts of a table, row by row."""
    cells = range(table.columnCount())
    return [[table.item(row, column).text() for column in cells] for row in range(table.rowCount())]


@pytest.fixture(scope="module")
def sweeps(tmp_path_factory):
    """A sweep at 61.6 mm, and one at 62.9 mm: tilted by 60 µm toward 40°, its bowl flat at 62.1 mm."""
    place, turn = tmp_path_factory.mktemp("sweeps"), math.radians(40)
    slope = (60 / HALF_MM * math.cos(turn), 60 / HALF_MM * math.sin(turn))
    for index, spacing in enumerate((61.6, 62.9)):
        scope = replace(SCOPE, over_field=SimulatedFocalSurface(slope, (spacing - 62.1) * 60 / HALF_MM**2))
        start = START.replace(hour=20 + index)
        scope.write_run(place / f"{spacing} mm", POSITIONS, run=Run(number=20 * index, start=start, cards=CARDS))
    return place


@pytest.fixture(scope="module")
def flats(tmp_path_factory):
    """Flats of October, and of November with a wheel that stops off and a new grain."""
    place = tmp_path_factory.mktemp("flats")
    motes = (Mote(120, 110, 2.6, 0.10, "L"), Mote(300, 80, 1.0, 0.06))
    made = SimulatedFlats(width=400, height=300, gain_e_adu=4.0, motes=motes)
    made.write(place / "October", ["L"], each=2, start=FLAT_START.replace(month=10), number=50)
    now = replace(made, motes=(*motes, Mote(330, 230, 1.0, 0.08)), stops_px=((0, 0), (1.2, 0.8)))
    now.write(place / "November", ["L", "Ha", "L"], each=2)
    return place


def test_sweeps_tell_tilt_spacing_and_which_screws_to_turn(window, sheet_of, qtbot, sweeps):  # noqa: F811
    sheet, session = sheet_of("field"), window.session
    assert "No sweep yet" in sheet.state.text()
    assert not sheet.keep_button.isEnabled()
    loaded(sheet, qtbot, lambda: sheet.read([sweeps]))
    assert [row[0] for row in texts(sheet.table)] == ["61.6 mm", "62.9 mm"]
    assert sheet.chosen.tilt_um.value == pytest.approx(60, rel=0.12)
    assert "at another spacing" in sheet.sentences.text()
    assert "A tilt; this sweep cannot show whether" in sheet.causes.text.text()
    assert len(sheet.surface_plot.data.rows) == len(sheet.chosen.zoned.zones)
    assert "It rises toward" in sheet.surface_plot.answer.text()
    sheet.residuals.setChecked(True)
    assert "surface leaves" in sheet.surface_plot.answer.text()
    qtbot.waitUntil(lambda: "stars near corners" in sheet.corners_plot.answer.text())
    assert "Flat at 62." in looked_at(sheet.spacing_picture).answer.text()
    sheet.keep_button.click()
    assert session.evaluation.finding("field.tilt").verdict == "fails"
    flat = session.evaluation.quantities["back_focus_required_mm"].measured
    assert flat.value == pytest.approx(62.1, abs=3 * flat.uncertainty + 0.02)
    assert "too far" in session.evaluation.finding("spacing.flat").title
    session.undo()
    assert session.evaluation.quantities["back_focus_required_mm"].measured is None
    assert "has no tilt plate" in sheet.screws.text.text()
    session.put_in(Part.model_validate({"id": "plate", "kind": "tilt_plate", "length_mm": 8}), ("train",), 3)
    sheet.screws.three.click()
    assert "train[3].screws.pitch_mm" in session.rig.assumed, "what nobody gave is assumed"
    assert sheet.screws.text.text().count("o’clock") == 3
    looked_at(sheet.sensor_picture)
    assert sheet.surface_plot.answer.text().count("o’clock") == 3
    assert sheet.surface_plot.plot.getViewBox().viewRect().width() > 1.1 * sheet.chosen.sweep.size_px[0]
    assert "the middle stays where it is" in sheet.screws.text.text()
    type_into(sheet.plate.field("screws", "pitch_mm"), "0.35")
    assert session.rig.train[3].screws.pitch_mm == 0.35
    assert "train[3].screws.pitch_mm" not in session.rig.assumed


def test_the_shelf_is_searched_and_spacings_are_typed(window, sheet_of, qtbot, sweeps):  # noqa: F811
    sheet, session = sheet_of("field"), window.session
    loaded(sheet, qtbot, lambda: sheet.read([sweeps]))
    length = session.rig.find("ring")[1].length_mm
    sheet.flat.search_button.click()
    qtbot.waitUntil(lambda: not sheet.flat.job.running)
    assert "after " in sheet.flat.sets.text()
    before = session.rig
    sheet.flat.put_button.click()
    assert session.rig.train != before.train
    session.undo()
    assert session.rig.find("ring")[1].length_mm == length
    sheet.table.selectRow(0)
    type_into(sheet.spacing, "")
    assert "it takes two spacings" in sheet.flat.text.text()
    type_into(sheet.spacing, "-3")
    assert sheet.spacing.text() == "", "what no spacing can be is refused"
    sheet.relation.setCurrentIndex(1)
    sheet.relation.activated.emit(1)
    assert "camera turned" in sheet.sentences.text()
    assert "camera’s side is tilted" in sheet.causes.text.text()
    sheet.take_out()
    assert [row[0] for row in texts(sheet.table)] == ["62.9 mm"]
    sheet.table.clearSelection()
    window.set_palette_by_name("night")
    sheet.take_out()
    assert sheet.result is None
    assert "No sweep yet" in sheet.state.text()


def test_one_frame_is_a_hint(window, sheet_of, qtbot, sweeps):  # noqa: F811
    sheet = sheet_of("field")
    loaded(sheet, qtbot, lambda: sheet.read([next((sweeps / "62.9 mm").iterdir())]))
    assert "a hint" in sheet.state.text()
    assert not sheet.keep_button.isEnabled()
    assert sheet.table.isHidden()
    qtbot.waitUntil(lambda: "One frame is a hint" in sheet.corners_plot.answer.text())


def test_flats_tell_wheel_dust_and_what_serves(window, sheet_of, qtbot, flats):  # noqa: F811
    sheet, session = sheet_of("filters"), window.session
    assert "No flats yet" in sheet.state.text()
    loaded(sheet, qtbot, lambda: sheet.read([flats]))
    assert [row[:2] for row in texts(sheet.levels)] == [["L", "October"], ["L", "November"], ["Ha", "November"]]
    assert len(texts(sheet.dust)) == 3
    assert all(row[6] for row in texts(sheet.dust))
    (serve,) = texts(sheet.serves)
    assert serve[3] == "fails"
    assert "upper right" in serve[6]
    sheet.levels.selectRow(0)
    assert "L, October: 2 shadows" in sheet.dust_plot.answer.text()
    assert "November over October, fails" in sheet.ratio_plot.answer.text()
    sheet.levels.selectRow(1)
    sheet.one_way_button.click()
    assert sheet.one_way_button.text() == "Not taken one way"
    entries = {row[1]: row[9] for row in texts(sheet.repeats)}
    assert (entries["L, October"], entries["L, November"]) == ("no", "yes")
    sheet.keep_button.click()
    row = session.evaluation.rows["wheel_device.stop_error_um"]
    assert row.measured.value == pytest.approx(3.9 * math.hypot(1.2, 0.8), abs=4 * row.measured.uncertainty)
    found = session.evaluation.finding("wheel.repeat")
    assert "px from where it stopped" in found.title
    session.undo()
    assert "wheel_device.stop_error_um" not in session.evaluation.rows
    window.set_palette_by_name("night")
    sheet.take_out()
    assert sheet.result is None
    assert sheet.levels.isHidden()


def test_what_is_no_flat_is_told_in_one_line(window, sheet_of, qtbot, tmp_path):  # noqa: F811
    sheet, entries = sheet_of("filters"), []
    window.session.refused.connect(entries.append)
    (tmp_path / "a.fits").write_bytes(b"SIMPLE  = nonsense")
    sheet.read([tmp_path])
    qtbot.waitUntil(lambda: bool(entries) and not sheet.job.running)
    assert entries[0].startswith("no flat could be used: a.fits: ")
    field = sheet_of("field")
    field.read([tmp_path])
    qtbot.waitUntil(lambda: len(entries) > 1 and not field.job.running)
    assert entries[1].startswith("there is no sweep in what was given: a.fits: ")

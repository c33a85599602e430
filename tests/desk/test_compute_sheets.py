"""The Scales, Guide branch and Footprint sheets, driven in the real window."""

import numpy as np
import pytest
from astropy.io import fits
from PyQt6.QtCore import QPoint, QPointF, QRectF, Qt
from PyQt6.QtWidgets import QApplication

from tests.core.evidence.test_image_scale import header
from wyntaxis.desk.sky_picture import _crosses


@pytest.fixture
def footprint(window, qtbot):
    window.show_step("footprint")
    sheet = window.sheets["footprint"]
    qtbot.waitUntil(lambda: sheet.catalogue_read)
    return sheet


def type_into(field, text):
    field.setFocus()
    field.setText(text)
    field.setModified(True)
    field.editingFinished.emit()


def test_a_name_lays_the_frame_on_an_object_and_undo_takes_it_back(window, footprint):
    before = window.session.rig.framing
    type_into(footprint.framing.center, "ngc 7640")
    framing = window.session.rig.framing
    assert (framing.name, framing.position_angle_deg) == ("NGC 7640", before.position_angle_deg)
    assert "NGC 7640" in footprint.words.text()
    assert "100 % on the sensor" in footprint.words.text()
    assert footprint.objects.item(0, 0).text() == "NGC 7640"
    window.session.undo()
    assert window.session.rig.framing == before
    type_into(footprint.framing.center, "somewhere nice")
    assert "is no pair of coordinates" in window.notice.text.text()
    type_into(footprint.framing.center, "10 41 -5")
    assert "no pair" in window.notice.text.text()
    type_into(footprint.framing.center, "12 30 0 -5 30 0")
    assert (window.session.rig.framing.ra_deg, window.session.rig.framing.dec_deg) == (187.5, -5.5)


def test_a_large_object_asks_for_panels(window, footprint):
    type_into(footprint.framing.center, "IC 5068")
    type_into(footprint.framing.overlap, "20")
    assert window.session.rig.framing.overlap == 0.2
    assert "fits on one frame" in footprint.words.text()
    window.session.set_value(("train", 4, "sensor", "width_px"), 600, "Crop")
    window.session.set_value(("train", 4, "sensor", "height_px"), 400, "Crop")
    assert "panels with 20 % overlap" in footprint.words.text()
    assert len(footprint.patch.view.panels) > 4
    assert len(footprint.export.frames()) == 2 + len(footprint.patch.view.panels)


def test_keys_and_mouse_move_and_turn_the_frame(window, footprint, qtbot):
    patch, start = footprint.patch, window.session.rig.framing
    patch.setFocus()
    qtbot.keyClick(patch, Qt.Key.Key_Up)
    qtbot.keyClick(patch, Qt.Key.Key_BracketRight)
    assert window.session.rig.framing == start  # not entered while the keys are in motion
    qtbot.waitUntil(lambda: not patch.pending)
    moved = window.session.rig.framing
    assert moved.position_angle_deg == start.position_angle_deg + 1
    assert moved.dec_deg > start.dec_deg
    center = patch.pixel_of(patch.view.frame.center).toPoint()
    qtbot.mousePress(patch, Qt.MouseButton.LeftButton, pos=center)
    qtbot.mouseMove(patch, center + QPoint(30, 0))
    qtbot.mouseRelease(patch, Qt.MouseButton.LeftButton, pos=center + QPoint(30, 0))
    assert window.session.rig.framing.ra_deg < moved.ra_deg  # west is right
    handle = patch.handle().toPoint()
    qtbot.mousePress(patch, Qt.MouseButton.LeftButton, pos=handle)
    qtbot.mouseMove(patch, patch.pixel_of(patch.view.frame.center).toPoint() - QPoint(80, 0))
    qtbot.mouseRelease(patch, Qt.MouseButton.LeftButton)
    assert window.session.rig.framing.position_angle_deg == pytest.approx(90, abs=2)
    radius, middle = patch.view.radius_deg, patch.view.center
    qtbot.keyClick(patch, Qt.Key.Key_Plus)
    assert patch.view.radius_deg < radius
    edge = QPoint(5, 5)
    qtbot.mousePress(patch, Qt.MouseButton.LeftButton, pos=edge)
    qtbot.mouseMove(patch, edge + QPoint(40, 0))
    qtbot.mouseRelease(patch, Qt.MouseButton.LeftButton, pos=edge + QPoint(40, 0))
    assert patch.view.center != middle
    qtbot.keyClick(patch, Qt.Key.Key_Home)
    assert patch.view.center == patch.view.frame.center


def test_each_variant_keeps_its_own_angle(window, footprint):
    session = window.session
    own = session.rig.framing.position_angle_deg
    session.show_variant("Tarnfell triplet, native")
    type_into(footprint.framing.angle, "75")
    assert session.rig.framing.position_angle_deg == 75
    session.show_variant(None)
    assert session.rig.framing.position_angle_deg == own
    laid = footprint.patch.view.others
    assert [(frame.optics.name, frame.position_angle_deg) for frame in laid] == [("Tarnfell triplet, native", 75)]
    footprint.trains.item(0).setCheckState(Qt.CheckState.Unchecked)
    assert not footprint.patch.view.others


def test_coordinates_are_copied_and_saved(window, footprint, tmp_path, example_file):
    footprint.export.copy_center()
    assert QApplication.clipboard().text().endswith("PA 20.00°")
    footprint.export.copy_corners()
    assert len(QApplication.clipboard().text().splitlines()) == 4
    for name, start in (("f.csv", "rig,point"), ("f.txt", "Polygon ICRS ")):
        footprint.export.save(tmp_path / name)
        assert (tmp_path / name).read_text("utf-8").startswith(start)
    footprint.export.save(tmp_path / "f.png")
    assert (tmp_path / "f.png").stat().st_size > 1000
    footprint.export.save(tmp_path / "f.doc")
    assert "use .txt (STC-S), .csv or .png" in window.notice.text.text()
    footprint.add_rig(tmp_path / "none.rig.json")
    assert "cannot be read" in window.notice.text.text()
    window.files.open_demo("meadow-newtonian")
    window.show_step("footprint")
    sheet = window.sheets["footprint"]
    sheet.add_rig(example_file)
    assert [item.text() for item in sheet.items()] == ["Tarnfell triplet, reduced"]


def test_a_horizon_comes_in_and_the_night_is_told(window, footprint, qtbot, tmp_path):
    path = tmp_path / "horizon.csv"
    path.write_text("0,80\n180,80\n", "utf-8")
    footprint.night_section.open()
    qtbot.waitUntil(lambda: footprint.night.night is not None)
    hours = footprint.night.night.hours_up
    footprint.night.bring_in(path)
    qtbot.waitUntil(lambda: footprint.night.night.hours_up < hours)
    assert window.session.rig.site.horizon_from.file == "horizon.csv"
    assert "above the horizon file" in footprint.night.plot.answer.text()
    footprint.night.bring_in(tmp_path / "none.csv")
    assert "cannot be read" in window.notice.text.text()
    type_into(footprint.night.date, "tomorrow")
    assert "is no date" in footprint.night.plot.answer.text()
    footprint.night.forget()
    assert window.session.rig.site.horizon == ()


def test_an_empty_rig_says_what_to_do(make_window):
    window = make_window()
    window.files.open_new()
    for step, words in (("footprint", "End the train with a camera"), ("scales", "End the train with a camera")):
        window.show_step(step)
        sheet = window.sheets[step]
        assert words in (sheet.words if step == "footprint" else sheet.search.text).text()
    window.sheets["scales"].plot_section.open()
    assert "State the site" in window.sheets["scales"].plot.answer.text()


def test_the_measured_scale_comes_in_three_ways(window, qtbot, tmp_path):
    window.show_step("scales")
    panel, session = window.sheets["scales"].measured, window.session
    path = tmp_path / "solved.fits"
    fits.PrimaryHDU(np.zeros((400, 600), np.uint8), header(scale=1.571)).writeto(path)
    panel.read_frame(path)
    qtbot.waitUntil(lambda: "pixel_scale_arcsec_px" in session.rig.measured)
    assert "solved.fits" in panel.state.text()
    assert "spacing error" in panel.state.text()
    assert session.evaluation.finding("scale.measured").verdict != "unproven"
    panel.fields["first"].setText("100, 100")
    panel.fields["second"].setText("100, 2100")
    panel.fields["separation"].setText("3131,5")
    panel.keep_stars()
    assert session.rig.measured["pixel_scale_arcsec_px"].value == pytest.approx(3131.5 / 2000, rel=1e-3)
    panel.fields["first"].setText("100")
    panel.keep_stars()
    assert "write two numbers" in window.notice.text.text()
    panel.fields["scale"].setText("1.57")
    panel.keep_typed()
    assert session.rig.measured["pixel_scale_arcsec_px"].evidence.method == "typed"
    panel.forget()
    assert not session.rig.measured
    panel.read_frame(tmp_path / "none.fits")
    qtbot.waitUntil(lambda: "cannot be read" in window.notice.text.text())
    window.sheets["scales"].search.copy()
    assert "scale 1.4875 to 1.6441 arcsec/px" in QApplication.clipboard().text()


def test_binnings_guiding_and_their_plots(window):
    window.show_step("scales")
    sheet = window.sheets["scales"]
    assert sheet.binnings.rowCount() == 8
    assert sheet.binnings.item(0, 7).text() == "extender 1.20× to 1.81×"
    sheet.plot_section.open()
    assert len(sheet.plot.data.columns) == 5
    window.show_step("guide_branch")
    guide = window.sheets["guide_branch"]
    guide.pulse_section.open()
    assert "445 ms at 0.0°" in guide.pulse_plot.answer.text()
    guide.rotation_section.open()
    assert "In 1 % of it the planned 240 s" in guide.rotation_map.answer.text()
    type_into(guide.settings_card.field("calibration_pulse_ms"), "450")
    assert window.session.evaluation.finding("guiding.calibration").verdict == "holds"
    assert guide.ways.rowCount() == 3
    window.set_palette_by_name("night")
    window.session.set_value(("guiding",), {"kind": "none"}, "No guiding")
    assert not guide.pulse_section.isVisible()


@pytest.mark.parametrize(
    ("start", "end", "crosses"),
    [
        ((0, 0), (20, 20), True),
        ((-1e12, 15), (1e12, 15), True),
        ((15, -1e300), (15, 1e300), True),
        ((12, 12), (13, 13), True),
        ((0, 9), (30, 9), False),
        ((0, 10), (30, 10), True),
        ((0, 25), (25, 0), True),
        ((0, 19), (19, 0), False),
        ((-1e12, -1e12), (5, 5), False),
        ((9, 15), (9, 15), False),
    ],
)
def test_whether_a_line_however_long_passes_through_a_box(start, end, crosses):
    box = QRectF(10, 10, 10, 10)
    assert _crosses(box, QPointF(*start), QPointF(*end)) is crosses
    assert _crosses(box, QPointF(*end), QPointF(*start)) is crosses

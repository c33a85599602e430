"""The live view in the real window: frames come, are shown large, broken ones are named, and it can be left."""

from dataclasses import replace

import numpy as np
import pytest
from astropy.io import fits
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from tests.core.evidence.test_defocus import SCOPE, written

OWN = replace(SCOPE, pixel_um=3.8, focal_ratio=4.94)


@pytest.fixture
def page(window):
    window.menus.by_name["Live view of a folder"].trigger()
    return window.stack.live


def test_frames_are_shown_as_they_come(window, page, qtbot, tmp_path):
    assert "Choose the folder" in page.state.text()
    assert not window.drawing.isVisible()
    written(tmp_path / "old.fits", 40, 12000, OWN)
    page.watch(tmp_path)
    assert "Waiting" in page.state.text()
    written(tmp_path / "a.fits", 60, 12000, OWN)
    qtbot.waitUntil(lambda: len(page.readings) == 1)
    assert page.headline.text() == f"{page.readings[0].distance_mm.value:.2f} mm from focus"
    assert "Which way is open" in page.way.text()
    written(tmp_path / "b.fits", 40, 12080, OWN, seed=2)
    qtbot.waitUntil(lambda: len(page.readings) == 2)
    assert page.way.text().startswith("Go out to ")
    assert page.table.rowCount() == 2
    assert not page.picture.pixmap().isNull()
    (tmp_path / "broken.fits.gz").write_bytes(b"nothing")
    qtbot.waitUntil(lambda: "broken.fits.gz" in page.broken.text())
    window.set_palette_by_name("night")
    assert page.table.rowCount() == 2, "the palette changes no reading"
    QTest.keyClick(page, Qt.Key.Key_Escape)
    assert window.drawing.isVisible()
    assert window.step.key == "stars"
    written(tmp_path / "c.fits", 30, 12100, OWN, seed=3)
    qtbot.waitUntil(lambda: len(page.readings) == 3)  # it is watched on
    page.stop()
    assert not page.timer.isActive()


def test_sharp_frames_show_their_trend_and_a_wrong_folder_a_line(window, page, qtbot, tmp_path):
    page.watch(tmp_path / "nowhere")
    assert "is no folder" in window.notice.text.text()
    page.watch(tmp_path)
    written(tmp_path / "a.fits", 0, 1, OWN)
    qtbot.waitUntil(lambda: len(page.readings) == 1)
    written(tmp_path / "b.fits", 0, 2, replace(OWN, seeing_um=14.0), seed=2)
    qtbot.waitUntil(lambda: len(page.readings) == 2)
    assert page.headline.text().startswith("HFD ")
    assert "larger than in the frame before" in page.way.text()
    window.files.open_demo("meadow-newtonian")
    window.menus.by_name["Live view of a folder"].trigger()
    assert page.readings == []


def test_frames_of_fractions_are_measured_and_shown(page, qtbot, tmp_path):
    path = written(tmp_path / "whole.fits", 40, 12000, OWN)
    fractions = (fits.getdata(path) / 65535).astype(np.float32)
    page.watch(tmp_path)
    fits.PrimaryHDU(fractions, fits.getheader(path)).writeto(tmp_path / "stacked.fits")
    qtbot.waitUntil(lambda: len(page.readings) == 1)
    assert page.readings[0].frame.defocus.diameter.value == pytest.approx(40, abs=1)
    assert not page.picture.pixmap().isNull()

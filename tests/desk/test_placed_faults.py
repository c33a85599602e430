"""Faults placed on the timeline: at the mouse, at the moment that it stands for, several at once."""

import pytest
from PyQt6.QtCore import QPoint
from PyQt6.QtGui import QContextMenuEvent

from tests.desk.test_connect_sheets import sheet_of  # noqa: F401 (a fixture)
from tests.desk.test_light_sheets import texts
from tests.desk.test_rehearsal import done, few_faults, night  # noqa: F401 (fixtures)
from wyntaxis.core.rehearsal.play import named_faults, played


def ask_at(sheet, device, seconds):
    """Press the right button on a device's lane at a time; return the menu that comes."""
    line = sheet.timeline
    lane = line.lane_box(line.lanes.index(device))
    at = QPoint(round(line.x_of(seconds)), round(lane.center().y()))
    event = QContextMenuEvent(QContextMenuEvent.Reason.Mouse, at, line.mapToGlobal(at))
    line.contextMenuEvent(event)
    return sheet.placed.menu


def entry(menu, beginning):
    return next(action for action in menu.actions() if action.text().startswith(beginning))


def settled(sheet, qtbot):
    qtbot.waitUntil(lambda: sheet.placed.outcome is not None and not sheet.placed.job.running)
    sheet.placed.menu.close()


@pytest.mark.parametrize("seconds", [0.0, 3600.0, 20_000.0])
def test_a_place_on_the_axis_and_its_time_belong_together(night, seconds):  # noqa: F811
    line = night.timeline
    assert line.seconds_at(line.x_of(seconds)) == pytest.approx(seconds, abs=1)
    assert line.seconds_at(-50) == 0.0
    assert line.seconds_at(line.width() + 50) == pytest.approx(line.seconds_at(line.x_of(1e9)))


def test_a_fault_is_placed_at_the_mouse_and_the_night_shown_with_it(night, qtbot):  # noqa: F811
    camera = night.result.setting.devices["camera"].title
    menu = ask_at(night, camera, 9000.0)
    assert f"a fault of {camera}" in menu.actions()[0].text()
    assert not menu.actions()[0].isEnabled()
    gone = next(own for own in night.result.rows if own.fault.id == "camera.gone").fault
    entry(menu, gone.title).trigger()
    settled(night, qtbot)
    (placed,) = night.placed.faults
    assert placed.at_s == pytest.approx(9000.0, abs=120)
    row = texts(night.table)[1]
    assert row[0] == f"placed: {gone.title.lower()}"
    expected = played(night.result.setting, named_faults(night.result.setting, [f"camera.gone@{placed.at_s}"]))
    assert night.placed.outcome.frames_kept == expected.frames_kept
    assert night.outcome_panel.heading.text().startswith(f"With {gone.title.lower()}")
    assert night.timeline.outcome is night.placed.outcome
    assert night.chosen is None


def test_several_are_placed_beside_each_other_and_taken_back(night, qtbot):  # noqa: F811
    camera = night.result.setting.devices["camera"].title
    rows = {own.fault.id: own.fault for own in night.result.rows}
    before = len(texts(night.table))
    entry(ask_at(night, camera, 9000.0), rows["camera.gone"].title).trigger()
    settled(night, qtbot)
    entry(ask_at(night, camera, 15_000.0), rows["weather.rain"].title).trigger()
    qtbot.waitUntil(lambda: len(night.placed.faults) == 2 and not night.placed.job.running)
    both = " and ".join(rows[name].title.lower() for name in ("camera.gone", "weather.rain"))
    assert texts(night.table)[1][0] == f"placed: {both}"
    assert texts(night.table)[1][1] == "unsafe", "rain on the open roof, whatever the camera does"
    night.table.selectRow(2)
    assert night.chosen.fault.title == texts(night.table)[2][0], "the faults by themselves stand below"
    night.table.selectRow(1)
    entry(ask_at(night, camera, 9000.0), "Take the placed faults back").trigger()
    night.placed.menu.close()
    assert night.placed.faults == ()
    assert len(texts(night.table)) == before
    assert night.outcome_panel.heading.text().startswith("Nothing wrong")


def test_what_was_placed_is_simulated_again_with_another_plan(night, qtbot):  # noqa: F811
    camera = night.result.setting.devices["camera"].title
    gone = next(own for own in night.result.rows if own.fault.id == "camera.gone").fault
    entry(ask_at(night, camera, 9000.0), gone.title).trigger()
    settled(night, qtbot)
    first = night.placed.outcome
    night.session.set_value(("plan", "times", "download", "value"), 30.0, "A slow download")
    done(night, qtbot)
    qtbot.waitUntil(lambda: night.placed.outcome is not first)
    assert night.placed.outcome.frames_planned == first.frames_planned

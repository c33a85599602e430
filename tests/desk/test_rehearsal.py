"""The Rehearsal sheet, driven in the real window."""

import datetime

import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtWidgets import QLabel

from tests.desk.test_connect_sheets import sheet_of  # noqa: F401 (a fixture)
from tests.desk.test_light_sheets import texts
from tests.desk.test_window import type_into
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.rehearsal.faults import FAULTS
from wyntaxis.desk.night_timeline import LEAST_TEXT_PX, NightTimeline


@pytest.fixture
def night(few_faults, sheet_of, qtbot):  # noqa: F811
    """The sheet with the night of a fixed date played."""
    sheet = sheet_of("rehearsal")
    sheet.date.setText("2026-11-26")
    done(sheet, qtbot)
    return sheet


@pytest.fixture
def few_faults(monkeypatch):
    """Play a handful of the faults: enough where it is not the table that is tried."""
    few = ("camera.asleep", "camera.gone", "weather.rain", "weather.silent")
    monkeypatch.setattr("wyntaxis.core.rehearsal.play.FAULTS", {name: FAULTS[name] for name in few})


def done(sheet, qtbot):
    """Let what is to be played be played."""
    sheet.play()
    qtbot.waitUntil(lambda: sheet.result is not None and not sheet.job.running)
    qtbot.waitUntil(lambda: not sheet.remedy_job.running)


def choose(sheet, qtbot, title):
    """Choose a fault by its title, and wait for its remedy."""
    row = [cells[0] for cells in texts(sheet.table)].index(title)
    sheet.table.selectRow(row)
    qtbot.waitUntil(lambda: not sheet.remedy_job.running)


def test_a_weakness_is_found_cured_with_one_click_and_played_again(night, qtbot):
    sheet, session = night, night.session
    rows = texts(sheet.table)
    assert rows[0][:2] == ["nothing wrong", "degraded"]
    assert rows[1][:3] == ["Asleep after idle", "unsafe", "0"]
    assert session.evaluation.finding("night.endless").verdict is Verdict.FAILS
    choose(sheet, qtbot, "Asleep after idle")
    assert "Nothing ends this wait: Pellucid Grand: expose" in sheet.lines.text()
    assert "Give the step a time limit: then the night is degraded, 96 of 120 frames kept" in sheet.cure_text.text()
    sheet.cure_button.click()
    assert sheet.result is None, "the plan is another: what was played no longer counts"
    done(sheet, qtbot)
    assert {cells[0]: cells[1] for cells in texts(sheet.table)}["Asleep after idle"] == "degraded"
    assert session.evaluation.finding("night.endless").verdict is Verdict.HOLDS
    session.undo()
    assert session.rig.plan.steps[12].limit_s is None
    done(sheet, qtbot)
    assert session.evaluation.finding("night.endless").verdict is Verdict.FAILS


def test_the_timeline_tells_devices_and_what_stands_under_the_mouse(night, qtbot):
    sheet = night
    timeline = sheet.timeline
    assert {"Pellucid Grand", "Hut roof", "Cairn Stout"} <= set(timeline.lanes)
    lane = timeline.lane_box(timeline.lanes.index("Pellucid Grand"))
    entries = timeline.reported_at(QPointF(timeline.x_of(3 * 3600), lane.center().y()))
    assert entries.startswith("Pellucid Grand\nexposing, from ")
    assert timeline.reported_at(QPointF(5, 2)) == ""
    assert "96 of 120 frames kept" in timeline.accessibleDescription()
    choose(sheet, qtbot, "Rain")
    assert "first unhandled" in timeline.accessibleDescription()
    band = sheet.window().drawing
    assert band.currentWidget() is band.night


def test_the_plan_is_drafted_edited_and_undone(night, qtbot):
    sheet, session = night, night.session
    before = session.rig
    sheet.plan.section.open()
    sheet.plan.table.selectRow(2)
    assert sheet.timeline.step == 2
    steps = session.rig.plan.steps
    sheet.plan.move_step(1)
    assert session.rig.plan.steps[3].do == steps[2].do
    session.undo()
    sheet.plan.choose_step(2)
    sheet.plan.add_step()
    assert session.rig.plan.steps[3].do == "focus"
    sheet.plan.move_step(0)
    assert session.rig.plan.steps == steps
    sheet.plan.table.selectRow(12)
    session.set_value(("plan", "steps", 12, "limit_s"), 400.0, "Limit")
    assert texts(sheet.plan.table)[12][3] == "400"
    sheet.draft()
    assert all(step.limit_s for step in session.rig.plan.steps if step.do != "wait_dark")
    while session.history.undo_label is not None:
        session.undo()
    assert session.rig == before


def test_a_step_is_edited_where_it_stands_in_the_timeline(night, qtbot):
    sheet, session, timeline = night, night.session, night.timeline
    block = dict(timeline.stage_blocks())[12]
    qtbot.mouseClick(timeline, Qt.MouseButton.LeftButton, pos=block.center().toPoint())
    assert sheet.plan.isVisibleTo(sheet)
    assert "Step 13 of 23: sequence" in {label.text() for label in sheet.plan.findChildren(QLabel)}
    assert "no time limit" in timeline.reported_at(block.center())
    session.set_value(("plan", "steps", 12, "limit_s"), 400.0, "Limit")
    assert session.rig.plan.steps[12].limit_s == 400.0
    done(sheet, qtbot)
    assert "limit 400 s" in timeline.reported_at(dict(timeline.stage_blocks())[12].center())
    qtbot.keyClick(timeline, Qt.Key.Key_Right)
    assert timeline.step == 13
    before = session.rig.plan.steps
    qtbot.keyClick(timeline, Qt.Key.Key_Left, Qt.KeyboardModifier.AltModifier)
    assert session.rig.plan.steps[12] == before[13]
    assert timeline.lanes, "the last night stays in sight until the plan is played anew"
    done(sheet, qtbot)
    assert "step 13, sequence" in timeline.accessibleDescription()
    qtbot.keyClick(timeline, Qt.Key.Key_Insert)
    assert session.rig.plan.steps[13].do == "focus"
    qtbot.keyClick(timeline, Qt.Key.Key_Delete)
    session.undo()
    session.undo()
    session.undo()
    assert session.rig.plan.steps == before
    sheet.plan.choose_step(-1)
    assert not sheet.plan.isVisibleTo(sheet)


def test_the_band_draws_the_night_of_the_chosen_fault(night, qtbot):
    band = night.window().drawing
    choose(night, qtbot, "Rain")
    assert band.night.outcome is night.chosen.outcome
    night.table.selectRow(0)
    assert band.night.outcome is night.result.good


def test_the_night_is_drawn_once_by_the_clock_with_every_lane_named(night, qtbot):
    """The sheet has no timeline of its own in the window: what is clicked in the drawing is edited in the sheet."""
    window = night.window()
    assert [one for one in window.findChildren(NightTimeline) if one.isVisibleTo(window)] == [window.drawing.night]
    timeline = window.drawing.night
    assert night.timeline is timeline
    assert 0.95 * timeline.lane_box(0).height() >= LEAST_TEXT_PX
    # The demo's site and date are known: whole hours of UTC, each where it is.
    begins = night.result.setting.sky.begins
    for at_s, label in timeline.hour_marks():
        moment = begins + datetime.timedelta(seconds=at_s)
        assert (moment.minute, moment.second) == (0, 0)
        assert label == f"{moment:%H:%M}"
    block = dict(timeline.stage_blocks())[12]
    qtbot.mouseClick(timeline, Qt.MouseButton.LeftButton, pos=block.center().toPoint())
    assert night.timeline.step == 12
    night.table.selectRow(0)
    assert night.lines.text().startswith("With nothing wrong: degraded, 96 of 120 frames kept")


def test_a_date_that_is_none_is_refused(night):
    entries = []
    night.session.refused.connect(entries.append)
    night.date.setText("tomorrow")
    night.date.editingFinished.emit()
    assert "is no date" in entries[-1]


def test_many_nights_stand_beside_a_drafted_plan(night, qtbot, monkeypatch):
    monkeypatch.setattr("wyntaxis.desk.sheets.many_nights.NIGHTS", 30)
    night.many.play()
    qtbot.waitUntil(lambda: bool(night.many.found))
    assert [name for name, _ in night.many.found] == ["this plan", "a drafted one"]
    assert night.many.found[0][1].unsafe_share.value >= night.many.found[1][1].unsafe_share.value
    assert night.many.section.isVisibleTo(night)
    assert "of 30 nights" in night.many.plot.answer.text()


def test_targets_are_put_in_edited_and_taken_out(night, qtbot):
    sheet, session = night, night.session
    section = sheet.targets.section
    assert section.isVisible()
    section.open()
    assert "takes the framed object" in sheet.targets.hint.text()
    sheet.targets.framed_button.click()
    sheet.targets.add()
    (framed, second) = session.rig.plan.targets
    assert (framed.ra_deg, framed.dec_deg) == (session.rig.framing.ra_deg, session.rig.framing.dec_deg)
    assert not sheet.targets.framed_button.isEnabled(), "it is one of them now"
    type_into(sheet.targets.card.field("dec_deg"), "-80")
    type_into(sheet.targets.card.field("priority"), "1")
    type_into(sheet.targets.card.field("stop"), "25:00")
    assert session.rig.plan.targets[1].stop is None, "no clock shows 25:00"
    type_into(sheet.targets.card.field("stop"), "23:30")
    assert session.rig.plan.targets[1].model_dump(include={"dec_deg", "priority", "stop"}) == {
        "dec_deg": -80, "priority": 1, "stop": "23:30",
    }  # fmt: skip
    done(sheet, qtbot)
    rows = {row[0]: row for row in texts(sheet.targets.table)}
    assert rows[second.name][6].startswith("0 of")
    assert "too low" in rows[second.name][7]
    assert not rows[framed.name][6].startswith("0 of")
    assert any(line.startswith(f"{second.name}: none of") for line in sheet.lines.text().splitlines())
    sheet.targets.table.setCurrentCell(1, 0)
    sheet.targets.take_out()
    assert [target.name for target in session.rig.plan.targets] == [framed.name]
    session.undo()
    assert len(session.rig.plan.targets) == 2

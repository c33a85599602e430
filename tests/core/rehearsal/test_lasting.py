"""Faults that last or return, an object that sets, times by the clock, remedies that harm nothing, the ten lines."""

import datetime
import itertools
import json
from dataclasses import replace

import pytest

from tests.cases import further
from tests.core.rehearsal.test_night import findings, whole_document
from tests.core.rehearsal.test_order import bare, without
from wyntaxis.cli import main
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.rehearsal.faults import FAULTS
from wyntaxis.core.rehearsal.night_sky import NightSky, plain_sky
from wyntaxis.core.rehearsal.outcome import grade_of
from wyntaxis.core.rehearsal.play import active_faults, applies, fault_table, played
from wyntaxis.core.rehearsal.preconditions import unmet
from wyntaxis.core.rehearsal.remedy import ORDER, remedies
from wyntaxis.core.rehearsal.setting import HOUR_S, setting_of
from wyntaxis.core.rehearsal.state import NightState
from wyntaxis.core.rehearsal.summary import MAX_LINES, in_short
from wyntaxis.core.rig.edit import apply
from wyntaxis.core.rig.store import validated

DARK_S = 5400.0


def night(frames=20, watch=True, sky=None, **plan):
    document = whole_document(frames=frames, watch=watch)
    document["plan"] |= plan
    return setting_of(validated(document), sky or plain_sky(6))


def whats(outcome, kind=None):
    return [event.what for event in outcome.events if kind in (None, event.kind)]


# An object that sets


@pytest.mark.parametrize(
    ("at", "needs", "wanted"),
    [
        (0, 0, 100), (0, 50, 100), (0, 51, 300), (120, 30, 120), (120, 31, 300), (149, 1, 149), (150, 0, 300),
        (0, 100, 300), (301, 99, 301), (301, 100, None), (400, 0, None), (900, 0, None),
    ],
)  # fmt: skip
def test_the_next_stretch_that_is_long_enough(at, needs, wanted):
    """Dark from 100 to 400 s; the object is up until 150 s, and again from 300 s on."""
    sky = NightSky(100.0, 400.0, ((0.0, 150.0), (300.0, 900.0)), None)
    assert sky.next_good(at, needs) == wanted


def test_no_exposure_begins_that_the_setting_object_would_end():
    """The object sets a minute before the fifth frame would end; the night stays dark for hours."""
    whole = without(night(), "darks")
    first = next(span for span in played(whole).spans if span.kind == "exposing")
    each = first.to_s - first.from_s
    sets = first.from_s + 5 * each
    low = replace(whole, sky=NightSky(DARK_S, DARK_S + 6 * HOUR_S, ((0.0, sets - 60.0),), None))
    outcome = played(low)
    assert outcome.frames_kept <= 4
    assert all(span.to_s <= sets - 60.0 for span in outcome.spans if span.kind == "exposing" and span.from_s < sets)
    assert "the object is not up in the dark any more" in whats(outcome)
    assert grade_of(outcome) == "degraded"


# Times by the clock


def test_times_by_the_clock():
    begins = datetime.datetime(2026, 12, 1, 23, 50, 30, tzinfo=datetime.UTC)
    sky = NightSky(0.0, 1.0, (), None, "2026-12-01", begins)
    assert sky.clock(0.0) == "2026-12-01T23:50:30Z"
    assert sky.clock(600.0) == "2026-12-02T00:00:30Z"
    assert sky.time_words(569.0) == "00:00 UTC"
    assert sky.time_words(-31.0) == "23:50 UTC"
    assert (plain_sky().clock(60.0), plain_sky().time_words(5400.0)) == ("", "1:30 h")


# Faults that last or return


def test_a_camera_that_drops_off_again_and_again_is_connected_again_and_again():
    """Half an hour after each reconnection; each costs the frame's limit, and frames go on until the plan is done."""
    whole = night(frames=40)
    fault = FAULTS["camera.drops"]
    outcome = played(whole, [active_faults(whole, fault, DARK_S + 1800)])
    drops = [event.t_s for event in outcome.events if event.kind == "fault" and fault.title in event.what]
    assert len(drops) >= 3
    assert all(later - earlier >= fault.returns_s for earlier, later in itertools.pairwise(drops))
    assert outcome.safe_end
    alone = played(whole, [active_faults(whole, FAULTS["camera.gone"], DARK_S + 1800)])
    assert outcome.kept_s <= alone.kept_s


def test_guiding_that_does_not_settle_ends_by_itself():
    whole = night()
    fault = FAULTS["guider.unsettled"]
    strikes = active_faults(whole, fault)
    outcome = played(whole, [strikes])
    done = [event.t_s for event in outcome.events if event.kind == "done" and event.step == "guide"]
    refused = [event.t_s for event in outcome.events if event.step == "guide" and fault.title.lower() in event.what]
    assert refused
    assert max(refused) < strikes.at_s + fault.lasts_s + 60
    assert grade_of(outcome) in ("survived", "degraded")
    assert dict(outcome.lost_why).get("unguided", 0) > 0 or done


def test_showers_come_back_each_hour_and_wet_what_nobody_closes():
    """Twenty minutes each, an hour apart: from the middle of 6 dark hours on at least twice."""
    open_roof = bare()
    fault = FAULTS["weather.showers"]
    outcome = played(open_roof, [active_faults(open_roof, fault, DARK_S + HOUR_S)])
    over = [event.t_s for event in outcome.events if event.what == f"{fault.title}: over"]
    assert over[:2] == [DARK_S + HOUR_S + 1200, DARK_S + HOUR_S + 1200 + 3600 + 1200]
    assert grade_of(outcome) == "unsafe"
    assert dict(outcome.lost_why)["taken in rain"] > 0


def test_a_slipping_focuser_is_focused_again_each_time_that_it_is_seen():
    whole = night(frames=40)
    fault = FAULTS["focuser.slips"]
    outcome = played(whole, [active_faults(whole, fault, DARK_S + 1800)])
    assert sum(fault.shows in what for what in whats(outcome, "fault")) >= 2
    unwatched = played(replace(whole, watch=night(watch=False).watch), [active_faults(whole, fault, DARK_S + 1800)])
    assert unwatched.frames_kept < outcome.frames_kept


def test_a_dead_roof_motor_is_beyond_every_plan_but_not_beyond_a_person():
    dead = FAULTS["roof.motor_dead"]
    alone, beside = night(), night(attended="I sit beside it")
    outcome = played(alone, [active_faults(alone, dead)])
    assert (grade_of(outcome), outcome.unsafe) == ("unsafe", ("the roof is open",))
    outcome = played(beside, [active_faults(beside, dead)])
    assert grade_of(outcome) == "survived"
    assert "done by hand: I sit beside it" in whats(outcome)
    assert findings(whole_document()).finding("night.unsafe").verdict is Verdict.TIGHT
    document = whole_document()
    document["plan"]["attended"] = "I sit beside it"
    assert findings(document).finding("night.unsafe").verdict is Verdict.HOLDS


def test_the_time_of_a_night_adds_up_whatever_strikes():
    """No device is busy with two things at once, and no span ends before it begins, in any fault."""
    whole = night()
    for row in fault_table(whole):
        for device in {span.device for span in row.outcome.spans}:
            spans = sorted((s for s in row.outcome.spans if s.device == device), key=lambda span: span.from_s)
            assert all(span.to_s > span.from_s for span in spans)
            for one, next_one in itertools.pairwise(spans):
                assert next_one.from_s >= one.to_s - 1e-6 or next_one.kind == "endless", (row.fault.id, one, next_one)


# Remedies


@pytest.mark.parametrize("broken", ["swapped", *further("no limits", "no watch")])
def test_no_remedy_makes_any_night_worse(broken):
    """Each remedy that is offered, against every fault, by playing all of them with and without it."""
    document = whole_document(frames=6, watch=broken != "no watch")
    steps = document["plan"]["steps"]
    if broken == "no limits":
        for step in steps:
            step.pop("limit_s", None)
    if broken == "swapped":
        does = [step["do"] for step in steps]
        park, close = does.index("park"), does.index("close_roof")
        steps[park], steps[close] = steps[close], steps[park]
    setting = setting_of(validated(document), plain_sky(4))
    rows = fault_table(setting)
    before = {row.fault.id: row for row in rows if row.applies}
    offered = {}
    for row in rows:
        remedy = remedies(setting, row, rows)
        if remedy is not None:
            assert ORDER.index(remedy.grade) <= ORDER.index(row.grade)
            offered.setdefault(str(remedy.change), (row, remedy))
    assert offered, "something helps"
    for row, remedy in offered.values():
        changed = setting_of(apply(setting.rig, remedy.change), setting.sky)
        for after in fault_table(changed):
            if after.applies and applies(setting, after.fault):
                worse = ORDER.index(after.grade) > ORDER.index(before[after.fault.id].grade)
                assert not worse, (row.fault.id, remedy.words, after.fault.id)


def test_a_roof_shut_too_early_is_put_in_order():
    document = whole_document(frames=4)
    steps = document["plan"]["steps"]
    does = [step["do"] for step in steps]
    park, close = does.index("park"), does.index("close_roof")
    steps[park], steps[close] = steps[close], steps[park]
    setting = setting_of(validated(document), plain_sky(4))
    rows = fault_table(setting)
    late = next(row for row in rows if row.fault.id == "camera.late")
    assert late.grade == "unsafe"
    remedy = remedies(setting, late, rows)
    assert remedy.words == "put the steps in the order that they need"
    assert remedy.grade == "survived"


# In words


def test_ten_lines_tell_what_happens_what_stops_it_and_what_to_change_first():
    whole = night(watch=False, frames=6)
    rows = fault_table(whole)
    lines = in_short(whole, played(whole), rows)
    assert len(lines) <= MAX_LINES
    assert lines[0] == "With nothing wrong: survived, 6 of 6 frames kept, 0.5 h."
    assert "Dark from 1:30 h to 7:30 h" in lines[1]
    assert any("may end unsafe" in line and "rain" in line for line in lines)
    assert lines[-1].startswith("Change first: ")


def test_the_lines_of_a_night_with_a_fault_say_so(tmp_path, capsys):
    path = tmp_path / "a.rig.json"
    path.write_text(json.dumps(whole_document(frames=4)), "utf-8")
    assert main(["rehearse", str(path), "--fault", "camera.late", "--fault", "optics.dew", "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["summary"][0].startswith("With late download, dew: ")
    assert main(["rehearse", str(path), "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["summary"][0].startswith("With nothing wrong: ")


def test_a_plan_that_keeps_nothing_is_a_finding_that_says_why():
    sky = NightSky(DARK_S, DARK_S + 6 * HOUR_S, (), None)
    found = findings(whole_document(frames=4), sky).finding("night.budget")
    assert found.verdict is Verdict.FAILS
    assert found.title == ("The plan keeps no frame even with nothing wrong: the object is not up in the dark any more")
    parked = whole_document(frames=4)
    parked["plan"]["steps"] = [step for step in parked["plan"]["steps"] if step["do"] != "unpark"]
    assert findings(parked).finding("night.budget").title.endswith(": slew failed (the mount is parked): ending safely")
    setting = setting_of(validated(parked), plain_sky(6))
    assert any(line.startswith("No frame is kept: ") for line in in_short(setting, played(setting)))


def test_a_remedy_lets_a_weather_station_stop_the_run():
    document = whole_document(frames=6)
    mast = next(device for device in document["devices"] if device["kind"] == "weather")
    mast["settings"]["stops_the_run"] = {"value": False}
    setting = setting_of(validated(document), plain_sky(6))
    rows = fault_table(setting)
    rain = next(row for row in rows if row.fault.id == "weather.rain")
    assert rain.grade == "unsafe"
    remedy = remedies(setting, rain, rows)
    assert remedy.words.startswith("let ")
    assert "stop the run" in remedy.words
    changed = setting_of(apply(setting.rig, remedy.change), setting.sky)
    assert next(d for d in changed.rig.devices if d.kind == "weather").truth("stops_the_run") is True
    assert remedy.grade == "degraded"


TOO_BRIGHT, NO_LIGHT = 0.0, "nothing lights the flats: no panel and no twilight, and the telescope is alone"


@pytest.mark.parametrize(
    ("panel", "attended", "at_s", "missing"),
    [
        (True, "", TOO_BRIGHT, ""),
        (False, "I sit beside it", TOO_BRIGHT, ""),
        (False, "", TOO_BRIGHT, NO_LIGHT),  # 5400 s before the dark
        (False, "", 5400.0 - 4801, NO_LIGHT), (False, "", 5400.0 - 4799, ""),
        (False, "", 5400.0 - 2401, ""), (False, "", 5400.0 - 2399, NO_LIGHT),
        (False, "", 5400.0 + 6 * HOUR_S + 2399, NO_LIGHT), (False, "", 5400.0 + 6 * HOUR_S + 2401, ""),
    ],
)  # fmt: skip
def test_flats_need_a_light(panel, attended, at_s, missing):
    document = whole_document(frames=2)
    document["devices"] = [d for d in document["devices"] if d["kind"] != "flat_panel"]
    if panel:
        document["devices"].append({"id": "panel", "kind": "flat_panel", "name": "Panel"})
    setting = replace(setting_of(validated(document), plain_sky(6)), attended=attended)
    state = NightState(connected=True, powered=True, roof_open=True, cover_open=True)
    assert unmet("flats", setting, state, at_s) == missing
    shut = unmet("flats", setting, replace(state, cover_open=False), at_s)
    assert bool(shut) == (not panel and not attended), "the sky lights nothing through a shut cover"

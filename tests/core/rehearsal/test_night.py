"""The night played by day: its times by hand, laws that hold for every fault, and what cures what."""

import datetime
import json
from dataclasses import replace
from itertools import pairwise

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.rigs import clean_document
from wyntaxis import demo
from wyntaxis.cli import main
from wyntaxis.core.evaluation import Evidence, evaluate
from wyntaxis.core.files.errors import CancelledError, InputError
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.rehearsal.drafted import drafted_steps, drafted_watch
from wyntaxis.core.rehearsal.faults import FAULTS
from wyntaxis.core.rehearsal.focus_drift import FocusDrift
from wyntaxis.core.rehearsal.kind import REHEARSAL, rehearse
from wyntaxis.core.rehearsal.night import NightRun
from wyntaxis.core.rehearsal.night_sky import TWILIGHT_S, NightSky, plain_sky, sky_of
from wyntaxis.core.rehearsal.outcome import grade_of
from wyntaxis.core.rehearsal.parallel import many_nights_in_parallel
from wyntaxis.core.rehearsal.play import (
    active_faults,
    applies,
    fault_table,
    many_nights,
    moment_s,
    named_faults,
    played,
    window_of,
)
from wyntaxis.core.rehearsal.power import SupplyLoad, loads_of
from wyntaxis.core.rehearsal.remedy import remedies, words_of
from wyntaxis.core.rehearsal.setting import HOUR_S, cooling_s, setting_of
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.devices import Supply
from wyntaxis.core.rig.night_plan import NightStep, NightWatch
from wyntaxis.core.rig.store import load, validated

DATE = datetime.date(2026, 11, 26)
DEVICES = (
    {"id": "roof", "kind": "roof", "name": "Roof", "settings": {"moves_s": {"value": 40}}},
    {"id": "cover", "kind": "cover", "name": "Cover", "settings": {"moves_s": {"value": 10}}},
    {"id": "rotator", "kind": "rotator", "name": "Rotator"},
    {"id": "box", "kind": "power_box", "name": "Box"},
    {"id": "mast", "kind": "weather", "name": "Mast", "settings": {"stops_the_run": {"value": True}}},
)


def whole_document(frames=20, watch=True):
    """The rig in order with everything that the night needs, mains and no battery, and a sensible plan."""
    document = clean_document()
    kinds = {device["kind"] for device in document["devices"]}
    document["devices"] += [device for device in DEVICES if device["kind"] not in kinds]
    for device in document["devices"]:
        if device["kind"] == "weather":
            device.setdefault("settings", {})["stops_the_run"] = {"value": True}
    document["supplies"] = [{**supply, "kind": "mains"} for supply in document["supplies"]]
    document["supplies"] = [
        {k: v for k, v in s.items() if k not in ("capacity_ah", "usable_share")} for s in document["supplies"]
    ]
    document["plan"] |= {"frames": frames, "hours": 6}
    bare = validated(document)
    document["plan"]["steps"] = [step.model_dump(mode="json", exclude_unset=True) for step in drafted_steps(bare)]
    if watch:
        document["plan"]["watch"] = drafted_watch(bare).model_dump(mode="json", exclude_none=True)
    return document


@pytest.fixture(scope="module")
def whole():
    return setting_of(validated(whole_document()), plain_sky(6))


def steps_of(setting, *steps, **watch):
    """A setting whose plan is other steps, with another watch."""
    return replace(setting, steps=tuple(steps), watch=NightWatch(**watch))


# Times


def test_the_time_budget_of_a_plain_night_by_hand():
    document = clean_document()
    keep = {"main", "mount"}
    document["devices"] = [
        {"id": "main", "kind": "camera", "name": "Grand", "settings": {
            "data_rate_mb_s": {"value": 48}, "set_temperature_c": {"value": -10}, "ramp_c_min": {"value": 2}}},
        {"id": "mount", "kind": "mount", "name": "Mount"},
    ]  # fmt: skip
    assert {device["id"] for device in document["devices"]} == keep
    document |= {"supplies": [], "guiding": {"kind": "none"}}
    document["plan"] = {"exposure_s": 120, "frames": 3, "ambient_c": 10, "hours": 6}
    setting = setting_of(validated(document), plain_sky(6))
    assert [step.do for step in setting.steps] == [
        "connect", "cool", "unpark", "wait_dark", "slew", "solve", "sequence", "park", "warm_up", "disconnect",
    ]  # fmt: skip
    good = played(setting)
    # 6000 × 4000 px of 2 bytes at 48 MB/s: 1 s. Connect 2 × 5 s, cool 20 °C at 2 °C/min: 600 s, unpark 5 s: 615 s; dark
    # at 5400 s; slew 45 s, solve 20 s; three frames of 121 s; park 60 s, warm up 600 s, disconnect 5 s.
    entries = good.budget
    assert entries["exposing"] == 360
    assert entries["download"] == pytest.approx(3)
    assert entries["waiting"] == 5400 - 615
    assert entries["moving"] == 10 + 5 + 45 + 20 + 60 + 5
    assert entries["cooling"] == 1200
    assert good.ends_s == pytest.approx(5400 + 65 + 363 + 665)
    assert (good.frames_kept, good.frames_lost, good.safe_end) == (3, 0, True)


def test_a_cooler_goes_by_its_model_and_may_not_reach(whole):
    assert cooling_s(whole.rig, 20.0, 2.0, whole) == 600.0
    place = next(i for i, device in enumerate(whole.rig.devices) if device.kind == "camera")
    entries = {"cooler_tau_min": 8.0, "cooler_pull_c_min": 5.0, "cooling_reach_c": 40.0}
    rig = whole.rig
    for key, value in entries.items():
        rig = edit.apply(
            rig, edit.Change.of("Measure", ("devices", place, "settings", key, "measured"), {"value": value})
        )
    # Half of the reach takes τ ln 2 = 5.545 min, less than the ramp's ten; at 6 °C/min the model is slower.
    assert cooling_s(rig, 20.0, 2.0, whole) == 600.0
    assert cooling_s(rig, 20.0, 6.0, whole) == pytest.approx(60 * 8 * 0.693147, rel=1e-4)
    assert cooling_s(rig, 40.0, 6.0, whole) is None
    hanging = played(replace(whole, cool_s=None))
    assert hanging.safe_end, "its time limit ends the wait"
    assert any("does not reach" in event.what for event in hanging.events)


def test_dithers_refocus_and_the_wheel_take_their_time(whole):
    sequence = NightStep(do="sequence", frames=9, exposure_s=100.0, filter="L", limit_s=300.0)
    ahead = [NightStep(do=do) for do in ("connect", "open_roof", "open_cover", "unpark", "wait_dark", "guide")]
    setting = steps_of(whole, *ahead, sequence)
    setting = replace(setting, dither_every=3, settle_s=11.0, refocus_s=None)
    outcome = played(setting)
    assert outcome.frames_kept == 9
    assert outcome.budget["settling"] == 22.0  # before the fourth and the seventh
    wheel = [span for span in outcome.spans if span.device == "Rondel 7" or "heel" in span.device]
    assert sum(span.to_s - span.from_s for span in wheel) == pytest.approx(setting.wheel_s)
    focus = NightStep(do="focus")
    again = played(replace(steps_of(setting, *ahead, focus, sequence), refocus_s=350.0, dither_every=0))
    assert again.budget["focusing"] == pytest.approx(3 * setting.focus_s)


def test_the_flip_comes_between_two_exposures(whole):
    sky = NightSky(0.0, 6 * HOUR_S, ((0.0, 6 * HOUR_S),), 3000.0)
    setting = replace(whole, sky=sky, flip_margin_s=600.0)
    flipping = played(setting)
    flip = next(event for event in flipping.events if event.what == "solve" or event.step == "solve")
    assert flip is not None
    assert flipping.frames_kept == flipping.frames_planned
    assert not any(s.kind == "exposing" and s.from_s < 3600 < s.to_s for s in flipping.spans)
    plan = setting.rig.plan.model_copy(update={"actions": ("cool", "guide")})
    without = played(replace(setting, rig=setting.rig.model_copy(update={"plan": plan})))
    assert any(event.unhandled and "no flip" in event.what for event in without.events)
    assert without.frames_kept < flipping.frames_kept


def test_the_sky_of_the_demo(whole):
    rig = load(demo.rig_path("tarnfell-triplet-reduced")).rig
    sky = sky_of(rig, DATE)
    assert sky.dark_from_s == TWILIGHT_S
    assert 11 < (sky.dark_until_s - sky.dark_from_s) / HOUR_S < 12
    assert sky.next_good(0.0) == pytest.approx(TWILIGHT_S)
    assert sky.next_good(sky.dark_until_s) is None
    assert not sky.is_good(0.0)


# Power, temperature and focus


def powered(setting, capacity_ah, camera=(1.5, 3.0), **supply):
    """A setting whose camera hangs on a battery of its own."""
    own = Supply.model_validate({"id": "bank", "kind": "battery", "capacity_ah": capacity_ah, **supply})
    return replace(setting, loads=(SupplyLoad(own, {setting.devices["camera"].id: camera}),))


def test_what_is_drawn_by_hand(whole):
    setting = powered(whole, 100.0, rated_a=2.0)
    outcome = played(setting)
    (use,) = outcome.power
    # 1.5 A from the outlets' being on (2 s) until they are off, 3 A while it cools.
    ends = next(event.t_s for event in outcome.events if event.what == "outlets off")
    cooling = next(s.to_s - s.from_s for s in outcome.spans if s.kind == "cooling")
    assert use.drawn_ah == pytest.approx((1.5 * (ends - 2.0) + 1.5 * cooling) / 3600, rel=1e-6)
    assert use.peak_a == 3.0
    assert [e.what for e in outcome.events if e.device == "bank"] == ["gives 3.0 A of the 2 A that it is rated for"]
    assert outcome.safe_end


@pytest.mark.parametrize(("capacity", "ends"), [(30.0, "well"), (8.5, "low"), (5.0, "empty")])
def test_a_battery_runs_empty_by_itself(whole, capacity, ends):
    outcome = played(powered(whole, capacity))
    (use,) = outcome.power
    entries = [event.what for event in outcome.events if event.device == "bank"]
    assert bool(entries) == (ends != "well")
    if ends == "low":
        assert "Ah are drawn" in entries[0]
        assert outcome.safe_end
    if ends == "empty":
        assert entries[-1] == "is empty"
        assert use.drawn_ah == pytest.approx(capacity, abs=0.1)
        assert "the roof is open" in outcome.unsafe
        assert "nothing has power" in outcome.first_unhandled.what


def test_a_wait_that_only_the_empty_battery_ends_is_still_named(whole):
    bare = tuple(step.model_copy(update={"limit_s": None, "attempts": 1}) for step in whole.steps)
    setting = powered(replace(whole, steps=bare), 15.0)
    outcome = played(setting, [active_faults(setting, FAULTS["camera.gone"])])
    assert outcome.endless
    assert outcome.endless[0].endswith(": expose")
    limited = tuple(step.model_copy(update={"limit_s": 40_000.0, "attempts": 1}) for step in whole.steps)
    setting = replace(setting, steps=limited)
    assert played(setting, [active_faults(setting, FAULTS["camera.gone"])]).endless == (), "a limit would have ended it"


def test_loads_go_up_the_supplies_by_power():
    document = clean_document()
    document["supplies"] = [
        {"id": "box", "kind": "power_box", "voltage_v": 12.0, "fed_by": "bank"},
        {"id": "bank", "kind": "battery", "voltage_v": 24.0, "capacity_ah": 20},
    ]
    for device in document["devices"]:
        device.pop("power", None)
        device.pop("outlets", None)
    camera, mount = (next(d for d in document["devices"] if d["kind"] == kind) for kind in ("camera", "mount"))
    camera["power"] = {"supply": "box", "current_a": 2.0, "peak_a": 4.0}
    mount["power"] = {"supply": "bank", "peak_a": 1.0}
    box, bank = loads_of(validated(document))
    assert box.draws == {camera["id"]: (2.0, 4.0)}
    assert bank.draws == {camera["id"]: (1.0, 2.0), mount["id"]: (1.0, 1.0)}
    assert bank.amperes(frozenset({camera["id"]}), powered=True) == 3.0
    assert bank.amperes(frozenset(), powered=False) == 1.0, "outlets of the box do not switch what hangs on the bank"


DRIFTING = FocusDrift(slope=-10.0, lash_steps=6.0, half_zone_steps=10.0, offsets={"l": (0.0, 0.0), "r": (20.0, 12.0)})


def test_focus_moves_by_temperature_filters_and_play():
    # √(1 + 0.2 · 1) = 1.0954; √(1 + 0.2 · 9) = 1.6733
    assert DRIFTING.growth(10.0) == pytest.approx(0.0954, abs=1e-4)
    assert DRIFTING.growth(-30.0) == pytest.approx(0.6733, abs=1e-4)
    assert FocusDrift(slope=-10.0).growth(1e6) == 0.0, "where the zone is unknown nothing is claimed"
    assert DRIFTING.change("L", "R") == 8.0  # moved by 20 where 12 is right
    assert DRIFTING.change("R", "L") == -8.0 + 6.0  # and falls short on the way down
    assert DRIFTING.change("L", "Ha") == 0.0


@pytest.mark.parametrize(
    ("entries", "runs", "kept"),
    [
        ({}, 1, 7),  # 3 °C an hour: 10 steps/°C × 3 °C = 30 steps are soft after some fifty minutes
        ({"refocus_c": 1.0}, 3, 20),
        ({"refocus_growth": 0.2}, 3, 20),
        ({"refocus_s": 1800.0}, 3, 20),
    ],
)
def test_what_asks_for_a_focus_run_keeps_frames_sharp(whole, entries, runs, kept):
    blind = NightWatch()
    setting = replace(whole, focus=DRIFTING, air_falls_c_h=3.0, watch=blind, refocus_s=None, refocus_c=None)
    outcome = played(
        replace(setting, refocus_growth=None, dither_every=0) if not entries else replace(setting, **entries)
    )
    done = [event for event in outcome.events if event.what.startswith("focuses again")]
    assert len(done) + 1 >= runs
    assert bool(done) == bool(entries)
    assert (outcome.frames_kept == 20) == (kept == 20)
    if kept < 20:
        assert dict(outcome.lost_why) == {"out of focus": 20 - outcome.frames_kept}


def test_a_wrong_offset_softens_a_filter_unless_it_is_focused_anew(whole):
    far = FocusDrift(half_zone_steps=10.0, offsets={"l": (0.0, 0.0), "r": (60.0, 12.0)})
    ahead = [NightStep(do=do) for do in ("connect", "open_roof", "open_cover", "unpark", "wait_dark", "focus", "guide")]
    sequences = [NightStep(do="sequence", frames=3, exposure_s=60.0, filter=name) for name in ("L", "R")]
    setting = steps_of(replace(whole, focus=far, slots=("L", "R"), refocus_on_filter=False), *ahead, *sequences)
    soft = played(setting)
    assert (soft.frames_kept, dict(soft.lost_why)) == (3, {"out of focus": 3})
    assert played(replace(setting, refocus_on_filter=True)).frames_kept == 6
    looked = played(replace(setting, watch=NightWatch(checks_frames=True)))
    assert looked.frames_kept == 6, "who looks at the frames focuses anew"


def test_flats_and_darks_are_drafted_where_a_panel_or_a_cover_is():
    document = whole_document()
    document["devices"].append({"id": "panel", "kind": "flat_panel", "name": "Panel"})
    document["plan"] |= {"filters": ["L", "R"], "steps": []}
    steps = drafted_steps(validated(document))
    does = [(step.do, step.filter) for step in steps if step.do in ("flats", "darks", "close_cover", "warm_up")]
    assert does == [("close_cover", None), ("flats", "L"), ("flats", "R"), ("darks", None), ("warm_up", None)]
    assert played(setting_of(validated(document), plain_sky(6))).safe_end


def test_darks_after_the_night_move_no_faults_moment(whole):
    steps = [step for step in whole.steps if step.do != "darks"]
    without = replace(whole, steps=tuple(steps))
    assert any(step.do == "darks" for step in whole.steps)
    assert window_of(whole) == window_of(without)


def test_a_camera_of_the_train_strikes_faults_without_a_device_of_its_own():
    document = whole_document()
    document["devices"] = [device for device in document["devices"] if device["kind"] not in ("camera", "guide_camera")]
    setting = setting_of(validated(document), plain_sky(6))
    assert applies(setting, FAULTS["camera.gone"])
    assert setting.devices["camera"].title == validated(document).camera.title


# Laws


CURABLE = sorted(name for name, fault in FAULTS.items() if not fault.beyond_plan)
PAIRS = st.lists(st.sampled_from(CURABLE), min_size=1, max_size=2, unique=True)
TIMES = st.floats(0, TWILIGHT_S + 6 * HOUR_S)


@settings(max_examples=60, deadline=None)
@given(PAIRS, TIMES)
def test_a_safe_plan_ends_safe_whatever_strikes_and_the_clock_goes_on(whole, names, at):
    faults = [active_faults(whole, FAULTS[name], at) for name in names if applies(whole, FAULTS[name])]
    run = NightRun(whole, [replace(entry) for entry in faults])
    outcome = run.played()
    assert outcome.unsafe == ()
    assert outcome.endless == ()
    times = [event.t_s for event in run.events]
    assert all(earlier <= later for earlier, later in pairwise(times)), "the clock never runs back"
    assert all(span.from_s <= span.to_s for span in outcome.spans)
    assert outcome.frames_kept <= outcome.frames_planned
    again = played(whole, faults)
    assert again == outcome, "the same faults give the same night"


@settings(max_examples=40, deadline=None)
@given(st.sampled_from(sorted(FAULTS)), TIMES)
def test_a_wait_that_nothing_ends_is_named(whole, name, at):
    bare = tuple(step.model_copy(update={"limit_s": None, "attempts": 1, "reconnect": False}) for step in whole.steps)
    setting = replace(whole, steps=bare, watch=NightWatch())
    if not applies(setting, FAULTS[name]):
        return
    outcome = played(setting, [active_faults(setting, FAULTS[name], at)])
    if FAULTS[name].way == "hang" and outcome.endless:
        assert ": " in outcome.endless[0]
        assert outcome.first_unhandled is not None
        assert not outcome.safe_end
    if not outcome.endless:
        assert outcome.ends_s <= setting.sky.ends_s + 5 * HOUR_S


@settings(max_examples=30, deadline=None)
@given(st.sampled_from(sorted(FAULTS)), st.integers(1, 3))
def test_more_attempts_never_lose_frames(whole, name, attempts):
    if not applies(whole, FAULTS[name]):
        return
    fewer, more = (
        replace(whole, steps=tuple(step.model_copy(update={"attempts": n}) for step in whole.steps))
        for n in (attempts, attempts + 1)
    )
    kept = [played(own, [active_faults(own, FAULTS[name])]).frames_kept for own in (fewer, more)]
    assert kept[1] >= kept[0]


def test_many_nights_are_the_same_for_one_seed_and_can_be_cancelled(whole):
    few = many_nights(whole, 60, seed=4)
    assert few == many_nights(whole, 60, seed=4)
    assert few == many_nights_in_parallel(whole, 60, seed=4)
    assert few.hours != many_nights(whole, 60, seed=5).hours
    assert few.unsafe_share.value == 0
    assert few.unsafe_share.standard > 0, "none of sixty is not never"

    def stop(done, _of):
        if done:
            raise CancelledError

    with pytest.raises(CancelledError):
        many_nights(whole, 200, progress=stop)
    for wrong in (0, 100_001):
        with pytest.raises(InputError, match="must be 1 to 100000"):
            many_nights(whole, wrong)


# Faults and remedies


def test_there_are_thirty_faults_or_more_and_each_says_what_it_is():
    assert len(FAULTS) >= 30
    for fault in FAULTS.values():
        assert fault.title
        assert fault.shows
        assert 0 < fault.rate < 100
        if fault.way != "world":
            assert any((fault.does, fault.frame_problem)), fault.id


CURES = [
    # fault, what the plan lacks, how the night stands then, how with the remedy
    ("camera.asleep", {"limit_s": None, "attempts": 1}, "unsafe", "survived"),
    ("camera.gone", {"attempts": 1, "reconnect": False, "then": "go_on"}, "degraded", "survived"),
    ("wheel.between", {"limit_s": None}, "unsafe", "survived"),
]


@pytest.mark.parametrize(("name", "lacks", "before", "after"), CURES)
def test_a_remedy_cures_what_the_plan_lacks(whole, name, lacks, before, after):
    steps = [
        step.model_dump(mode="json", exclude_unset=True) | (lacks if step.do == "sequence" else {})
        for step in whole.steps
    ]
    steps = [{key: value for key, value in step.items() if value is not None} for step in steps]
    rig = edit.apply(whole.rig, edit.Change.of("Plan", ("plan", "steps"), steps))
    setting = setting_of(rig, whole.sky)
    row = next(own for own in fault_table(setting) if own.fault.id == name)
    assert row.grade == before
    remedy = remedies(setting, row)
    assert remedy.grade == after
    again = setting_of(edit.apply(rig, remedy.change), whole.sky)
    assert grade_of(played(again, [active_faults(again, FAULTS[name])])) == after


@pytest.mark.parametrize(
    ("name", "expected"), [("weather.rain", "watch the weather"), ("computer.restarts", "restart")]
)
def test_who_watches_cures_rain_and_a_dead_program(name, expected):
    setting = setting_of(validated(whole_document(watch=False)), plain_sky(6))
    row = next(own for own in fault_table(setting) if own.fault.id == name)
    assert row.grade == "unsafe"
    remedy = remedies(setting, row)
    assert expected in remedy.words
    assert remedy.outcome.safe_end
    assert "safe" not in words_of(FAULTS["power.dip"])


def test_waiting_for_better_weather_goes_on_after_it(whole):
    waiting = replace(whole, watch=whole.watch.model_copy(update={"then": "wait"}))
    at = TWILIGHT_S + 0.5 * HOUR_S
    cloud = active_faults(whole, FAULTS["weather.cloud"], at)
    ended, waited = played(whole, [cloud]), played(waiting, [cloud])
    assert waited.frames_kept == waited.frames_planned > ended.frames_kept
    assert waited.safe_end
    assert len(waited.messages) == 2


def test_what_spoils_frames_is_seen_only_by_who_looks(whole):
    blind = replace(whole, watch=NightWatch())
    fault = active_faults(whole, FAULTS["guider.pier_side"], TWILIGHT_S + HOUR_S)
    seen, unseen = played(whole, [fault]), played(blind, [fault])
    assert seen.frames_kept == seen.frames_planned
    assert unseen.frames_kept < unseen.frames_planned
    assert "not checked" in unseen.first_unhandled.what
    assert dict(unseen.lost_why)["guided the wrong way"] == unseen.frames_lost


def test_what_the_plan_does_not_close_is_named_and_a_full_disk_loses_frames(whole):
    for do, words in (
        ("park", ("the roof shuts over the unparked telescope", "the mount is not parked")),
        ("close_roof", ("the roof is open",)),
        ("close_cover", ("the cover is open",)),
        ("warm_up", ("the sensor is cold",)),
    ):
        without = tuple(step for step in whole.steps if step.do != do)
        assert played(replace(whole, steps=without)).unsafe == words
    blind = replace(whole, watch=NightWatch(), free_gb=5.5 * whole.frame_gb)
    full = played(blind)
    assert (full.frames_kept, dict(full.lost_why)) == (5, {"not saved": 15})


def test_a_filter_in_no_slot_hangs_or_is_skipped(whole):
    ahead = [step for step in whole.steps if step.do not in ("sequence",)]
    place = next(index for index, step in enumerate(whole.steps) if step.do == "sequence")
    entries = {"do": "sequence", "frames": 2, "exposure_s": 60.0, "filter": "no such filter"}
    for more, endless in (({}, True), ({"limit_s": 100.0, "then": "skip"}, False)):
        steps = [*ahead[:place], NightStep.model_validate(entries | more), *ahead[place:]]
        outcome = played(replace(whole, steps=tuple(steps)))
        assert bool(outcome.endless) == endless
        assert any("no slot holds" in event.what for event in outcome.events)


def tried_three_times(whole):
    """The plan without its darks, a filter asked for, each step tried three times and reconnected between."""
    entries = {"attempts": 3, "limit_s": 1000.0, "pause_s": 1.0, "reconnect": True}
    steps = [step.model_copy(update=entries) for step in whole.steps if step.do not in ("darks", "flats")]
    return tuple(step.model_copy(update={"filter": "R"}) if step.do == "sequence" else step for step in steps)


@pytest.mark.parametrize("name", ["wheel.between", "camera.asleep", "mount.gone"])
def test_what_does_not_answer_is_connected_anew_and_nothing_else(whole, name):
    """Each device's fault, tried three times: the device named is the one that hung, in the step that hung."""
    steps = tried_three_times(whole)
    title = {
        kind: next(d.title for d in whole.rig.devices if d.kind == kind) for kind in ("filter_wheel", "camera", "mount")
    }[FAULTS[name].devices[0]]
    outcome = played(replace(whole, steps=steps), [active_faults(whole, FAULTS[name])])
    anew = {event.device for event in outcome.events if event.what == "reconnected"}
    assert anew == {title}


def test_a_wheel_connected_anew_wakes_no_camera(whole):
    """Wheel and camera both fail: the wheel's attempts leave the camera asleep, its own wake it."""
    steps = tried_three_times(whole)
    both = played(
        replace(whole, steps=steps), [active_faults(whole, FAULTS[own]) for own in ("wheel.between", "camera.asleep")]
    )
    titles = {kind: next(d.title for d in whole.rig.devices if d.kind == kind) for kind in ("filter_wheel", "camera")}
    anew = [event.device for event in both.events if event.what == "reconnected"]
    assert anew == [titles["filter_wheel"], titles["camera"]]


# Of 120 planned frames 24 ask for a filter in no slot; half of the 96 are taken when something strikes in the middle.
# The plan asks for 120 frames, of which the night has room for 96: degraded is the best that any row can be.
DEMO_FAULTS: dict[str, tuple[str, int] | None] = {
    "camera.asleep": ("unsafe", 0),
    "camera.drops": ("degraded", 96),
    "focuser.slips": ("degraded", 96),
    "guider.unsettled": ("degraded", 96),
    "roof.motor_dead": ("unsafe", 96),
    "weather.showers": ("unsafe", 96),
    "wheel.stuck": ("lost", 0),
    "camera.gone": ("degraded", 96),
    "camera.late": ("degraded", 96),
    "camera.pending": ("degraded", 96),
    "camera.wrong": ("degraded", 96),
    "cooler.unpowered": ("degraded", 96),
    "cooler.out_of_reach": ("lost", 0),
    "cooler.overshoot": ("degraded", 96),
    "wheel.missing_slot": ("degraded", 72),
    "wheel.between": ("unsafe", 0),
    "solver.off_scale": ("lost", 0),
    "guider.star_lost": ("degraded", 96),
    "guider.pier_side": ("degraded", 96),
    "guider.declination": ("degraded", 96),
    "weather.wind": ("degraded", 96),
    "rotator.reversed": None,
    "rotator.hunting": None,
    "adaptive_optics.at_end": None,
    "adaptive_optics.silent": None,
    "focuser.reversed": ("lost", 0),
    "focuser.at_end": ("lost", 0),
    "focuser.reset": ("degraded", 96),
    "mount.flip_late": ("degraded", 96),
    "mount.gone": ("degraded", 96),
    "mount.slow_slew": ("degraded", 96),
    "weather.cloud": ("degraded", 96),
    "weather.rain": ("unsafe", 48),
    "optics.dew": ("degraded", 96),
    "network.gone": ("degraded", 96),
    "weather.silent": ("degraded", 96),
    "roof.stuck_shut": ("degraded", 96),
    "roof.stuck_open": ("degraded", 96),
    "cover.shut": None,
    "disk.full": ("degraded", 48),
    "card.corrupt": ("degraded", 48),
    "clock.off": ("degraded", 96),
    "power.dip": ("degraded", 48),
    "mains.fails": None,
    "clock.slow": ("degraded", 96),
    "battery.empty": ("unsafe", 48),
    "computer.restarts": ("degraded", 48),
    "mount.park_fails": ("degraded", 96),
}


def test_the_demos_two_weaknesses_are_found_and_cured():
    rig = load(demo.rig_path("tarnfell-triplet-reduced")).rig
    found = rehearse(rig, sky_of(rig, DATE))
    entries = {row.fault.id: (row.grade, row.outcome.frames_kept) if row.applies else None for row in found.rows}
    assert entries == DEMO_FAULTS, "each fault moves just the outcome that it should"
    unsafe = {row.fault.id for row in found.rows if row.applies and row.grade == "unsafe"}
    beyond = {"battery.empty", "roof.motor_dead"}
    assert unsafe == {"camera.asleep", "wheel.between", "weather.rain", "weather.showers"} | beyond
    for name in ("camera.asleep", "weather.rain"):
        row = next(own for own in found.rows if own.fault.id == name)
        rig = edit.apply(rig, remedies(setting_of(rig, found.setting.sky), row).change)
    cured = rehearse(rig, found.setting.sky)
    assert {row.fault.id for row in cured.rows if row.applies and row.grade == "unsafe"} == beyond


# Findings


def findings(document, sky=None):
    rig = validated(document)
    return evaluate(rig, Evidence().having(REHEARSAL, rehearse(rig, sky or plain_sky(6))))


def test_a_night_in_order_holds_and_proves_its_conditions():
    document = whole_document()
    document["plan"]["attended"] = "I sit beside it"  # no plan shuts a roof whose motor is dead
    found = findings(document)
    for name in ("night.endless", "night.unsafe", "night.budget", "night.weather"):
        assert found.finding(name).verdict is Verdict.HOLDS, name
    by_key = {entry.condition.key: entry for entry in found.conditions}
    for key in ("endless", "safe_end", "fits", "weather_stops"):
        assert by_key[key].verdict is Verdict.HOLDS
    assert found.rows["night.frames_kept"].verdict is Verdict.HOLDS


def test_without_a_rehearsal_nothing_is_proven_and_a_changed_plan_is_another():
    rig = validated(whole_document())
    bare = {entry.condition.key: entry for entry in evaluate(rig).conditions}
    assert bare["safe_end"].verdict is Verdict.UNPROVEN
    played_before = Evidence().having(REHEARSAL, rehearse(rig, plain_sky(6)))
    other = edit.apply(rig, edit.Change.of("More", ("plan", "frames"), 30))
    assert evaluate(other, played_before).finding("night.unsafe") is None
    document = whole_document()
    del document["plan"]["steps"]
    without = {entry.condition.key: entry for entry in evaluate(validated(document)).conditions}
    assert not without["safe_end"].applies


def test_a_plan_without_limits_or_time_fails():
    document = whole_document(watch=False)
    for step in document["plan"]["steps"]:
        step.pop("limit_s", None)
    found = findings(document)
    for name in ("night.endless", "night.unsafe", "night.weather"):
        assert found.finding(name).verdict is Verdict.FAILS, name
    assert found.finding("night.unhandled").verdict is Verdict.TIGHT
    crowded = findings(whole_document(frames=200))
    assert crowded.finding("night.budget").verdict is Verdict.FAILS
    assert "find no time" in crowded.finding("night.budget").title


@pytest.mark.parametrize(
    ("pattern", "verdict"),
    [
        ("{target}_{filter}_g{gain}_{temperature}C_{camera}_{number}", Verdict.HOLDS),
        ("$FILTER$_$GAIN$_$TEMP$_$CAMERA$_$DATETIME$", Verdict.HOLDS),
        ("{target}_{filter}_{number}", Verdict.TIGHT),
        ("{target}_{filter}_{gain}_{temperature}_{camera}", Verdict.FAILS),
    ],
)
def test_file_names(pattern, verdict):
    document = clean_document()
    document["plan"]["file_names"] = pattern
    assert evaluate(validated(document)).finding("night.names").verdict is verdict


@pytest.mark.parametrize(("free", "verdict"), [(0.9, Verdict.FAILS), (1.0, Verdict.TIGHT), (1.2, Verdict.HOLDS)])
def test_room_for_the_night(free, verdict):
    document = whole_document()
    disks = [disk for device in document["devices"] for disk in device.get("storage", ())]
    for disk in disks:
        disk["free_gb"] = 0.0
    images = next(disk for disk in disks if disk.get("holds") != "copy")
    images["free_gb"] = free * 20 * 0.048  # twenty frames of 48 MB
    assert findings(document).finding("night.storage").verdict is verdict


# The command


def test_the_command(tmp_path, capsys):
    path = tmp_path / "a.rig.json"
    path.write_text(json.dumps(whole_document()), "utf-8")
    assert main(["rehearse", str(path), "--json"]) == 0
    entries = json.loads(capsys.readouterr().out)
    assert (entries["outcome"], entries["frames_kept"], entries["safe_end"]) == ("survived", 20, True)
    assert {"t_s", "device", "step", "what"} <= set(entries["events"][0])
    assert main(["rehearse", str(path), "--fault", "camera.gone@2:00", "--fault", "weather.rain@2:10", "--json"]) == 0
    struck_at = [e["t_s"] for e in json.loads(capsys.readouterr().out)["events"] if e["kind"] == "fault"]
    assert min(struck_at) >= 7200
    assert main(["rehearse", str(path), "--every-fault", "--json"]) == 0
    rows = json.loads(capsys.readouterr().out)
    assert {row["fault"] for row in rows} == set(FAULTS)
    assert {row["outcome"] for row in rows} <= {"survived", "degraded", "lost", "unsafe"}
    assert main(["rehearse", str(path), "--nights", "20", "--seed", "3", "--json"]) == 0
    many = json.loads(capsys.readouterr().out)
    assert many["nights"] == 20
    assert many["hours_kept"]["u"] > 0
    for wrong in (
        ["--fault", "nothing"],
        ["--fault", "camera.gone@x"],
        ["--nights", "0"],
        ["--date", "x"],
        ["--seed", "-1", "--nights", "100"],
    ):
        assert main(["rehearse", str(path), *wrong]) == 2
        assert capsys.readouterr().err.count("\n") == 1
    assert main(["rehearse", str(path)]) == 0
    assert "night.unsafe" in capsys.readouterr().out
    main(["ready", str(path), "--json"])
    conditions = {entry["id"]: entry["verdict"] for entry in json.loads(capsys.readouterr().out)}
    assert {conditions[key] for key in ("endless", "fits", "weather_stops")} == {"holds"}
    assert conditions["safe_end"] == "tight", "a roof whose motor is dead wants somebody beside it"
    main(["check", str(path), "--json"])
    assert {"night.unsafe", "night.weather"} <= {entry["id"] for entry in json.loads(capsys.readouterr().out)}


def test_named_faults_and_moments(whole):
    (entry,) = named_faults(whole, ["weather.rain@1:30"])
    assert entry.at_s == 5400
    (usual,) = named_faults(whole, ["weather.rain"])
    first, last = window_of(whole)
    assert usual.at_s == moment_s(whole, "middle", (first, last)) == (first + last) / 2
    assert TWILIGHT_S < first < last < TWILIGHT_S + 6 * HOUR_S

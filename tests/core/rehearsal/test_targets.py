"""Several targets, blocks and moments of the night: frames and times by hand, and laws that hold for any of them."""

import datetime
import json
from dataclasses import replace
from itertools import pairwise

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.rehearsal.test_night import whole_document
from tests.rigs import clean_document
from wyntaxis.cli import main
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.rehearsal.faults import FAULTS
from wyntaxis.core.rehearsal.night_sky import NightSky, plain_sky, sky_of, target_skies
from wyntaxis.core.rehearsal.outcome import NO_FLIP, grade_of
from wyntaxis.core.rehearsal.play import active_faults, applies, fault_table, played
from wyntaxis.core.rehearsal.script import repeated
from wyntaxis.core.rehearsal.setting import HOUR_S, setting_of
from wyntaxis.core.rehearsal.summary import in_short
from wyntaxis.core.rig.night_plan import NightStep, NightTarget
from wyntaxis.core.rig.store import validated

BEGINS = datetime.datetime(2026, 11, 26, 16, 0, tzinfo=datetime.UTC)
DARK, DAWN = 5400.0, 5400.0 + 6 * HOUR_S


def step(do, **more):
    return NightStep(do=do, **more)


def target(name, **more):
    return NightTarget(name=name, ra_deg=10.0, dec_deg=40.0, **more)


def bare_setting(*steps, mount=True):
    """A camera that takes no time to read out, and a mount; 8 steps and no more: times by hand."""
    document = clean_document()
    devices = [{"id": "main", "kind": "camera", "name": "Grand", "settings": {"data_rate_mb_s": {"value": 48}}}]
    devices += [{"id": "mount", "kind": "mount", "name": "Mount"}] if mount else []
    document |= {"devices": devices, "supplies": [], "guiding": {"kind": "none"}}
    document["plan"] = {
        "exposure_s": 100,
        "steps": [entry.model_dump(mode="json", exclude_unset=True) for entry in steps],
    }
    return setting_of(validated(document), NightSky(DARK, DAWN, ((0.0, DAWN),), None, begins=BEGINS))


LIGHTS = step("sequence", frames=10, exposure_s=99.0)  # and 1 s of download: 100 s a frame
PLAN = (step("connect"), step("unpark"), step("wait_dark"), step("slew"), step("solve"), LIGHTS, step("park"))
LEAD_S = 45 + 20  # slew and solve


def with_targets(setting, *entries, skies=None):
    """A setting with targets, each up between two times in s, or all the night."""
    found = [NightSky(DARK, DAWN, tuple(up), None, begins=BEGINS) for up in (skies or [((0.0, DAWN),)] * len(entries))]
    own = tuple(sky.within(entry.start, entry.stop) for entry, sky in zip(entries, found, strict=True))
    return replace(setting, targets=tuple(entries), skies=own)


def kept(outcome):
    return {own.name: own.kept for own in outcome.targets}


def begun(outcome, name):
    return next(at for at, own in outcome.begun if own == name)


def test_targets_follow_one_another_in_order_of_priority():
    setting = with_targets(bare_setting(*PLAN), target("A"), target("B", priority=1), target("C"))
    night = played(setting)
    assert kept(night) == {"A": 10, "B": 10, "C": 10}
    assert night.frames_planned == 30
    # B at dark, then those without a priority in order; each takes 65 s to be reached, and 1000 s.
    assert [begun(night, name) for name in "BAC"] == [DARK + k * (LEAD_S + 1000) for k in range(3)]
    assert night.ends_s == pytest.approx(DARK + 3 * (LEAD_S + 1000) + 60)
    assert (grade_of(night), night.safe_end) == ("survived", True)
    assert sum(night.budget.values()) == pytest.approx(night.ends_s)


def test_a_target_waits_for_its_time_and_another_fills_it():
    # A is first, and rises 30 min after dark; B is taken until then, and again when A is done.
    setting = with_targets(
        bare_setting(*PLAN[:-2], step("sequence", frames=20, exposure_s=99.0), step("park")),
        target("A", priority=1), target("B", priority=2), skies=[((DARK + 1800, DAWN),), ((0.0, DAWN),)],
    )  # fmt: skip
    night = played(setting)
    # B: (1800 − 65) s are 17 frames, the 18th begins before A rises: (18 frames end at 1865 s).
    at = DARK + LEAD_S + 18 * 100
    assert begun(night, "A") == pytest.approx(at)
    assert kept(night) == {"A": 20, "B": 20}
    # A: 65 + 2000; B again 65 + 200; park 60.
    assert night.ends_s == pytest.approx(at + LEAD_S + 2000 + LEAD_S + 200 + 60)
    assert any("left for A" in event.what for event in night.events)


@pytest.mark.parametrize(
    ("more", "up", "frames", "from_s"),
    [
        ({}, (DARK, DAWN), 10, DARK),
        ({"start": "18:30"}, (0.0, DAWN), 10, 2.5 * HOUR_S),  # the plan begins at 16:00
        ({"start": "1:00"}, (0.0, DAWN), None, 9 * HOUR_S),  # after dawn at 7:30 h
        ({"start": "twilight"}, (0.0, DAWN), 10, DARK),
        ({"start": "altitude"}, (DARK + 500, DAWN), 10, DARK + 500),
        # From 17:30 (dark) to 17:50 there are 1200 s: 65 to reach it, and 11 frames of which 10 are asked for.
        ({"stop": "17:50"}, (0.0, DAWN), 10, DARK),
        ({"stop": "17:40"}, (0.0, DAWN), 5, DARK),  # 600 − 65 = 535 s
        ({"stop": "altitude"}, (0.0, DARK + 400), 3, DARK),  # 335 s
        ({"stop": "twilight"}, (DAWN - 300, DAWN), 2, DAWN - 300),
        ({"stop": "15:00"}, (0.0, DAWN), None, None),  # before the plan begins
    ],
)
def test_a_target_is_taken_between_its_moments(more, up, frames, from_s):
    night = played(with_targets(bare_setting(*PLAN), target("A", **more), skies=[(up,)]))
    (own,) = night.targets
    assert own.kept == (frames or 0)
    assert night.safe_end, "the mount is parked whatever came of it"
    if frames is None:
        assert (grade_of(night), night.lost_why) == ("lost", ())
        assert "not to be taken this night" in own.why or from_s is not None
    else:
        assert begun(night, "A") == pytest.approx(from_s)


def test_flip_is_a_moment_too():
    sky = NightSky(DARK, DAWN, ((0.0, DAWN),), DARK + 1000, begins=BEGINS)
    assert sky.within("flip", None).up == ((DARK + 1000, DAWN),)
    assert sky.within(None, "flip").up == ((0.0, DARK + 1000),)
    assert replace(sky, meridian_s=None).within("flip", None).up == sky.up, "what never comes is no limit"
    assert sky.moment_s("03:59") == 12 * HOUR_S - 60
    assert sky.moment_s("04:01") == 12 * HOUR_S + 60, "in the morning, not the last one"
    assert (sky.moment_s("10:01"), sky.moment_s("09:59")) == (-6 * HOUR_S + 60, 18 * HOUR_S - 60)
    assert plain_sky(6).moment_s("21:00") is None


BLOCK = [step("sequence", frames=1, exposure_s=99.0, filter=name, block="rounds", repeat=5) for name in "LRGB"]


def test_blocks_are_repeated_together_and_steps_by_themselves():
    entries = repeated([step("slew"), *BLOCK, step("sequence", frames=2, repeat=3), step("park")], 0, 0)
    assert [entry.step.filter or entry.step.do for entry in entries] == [
        "slew", *"LRGB" * 5, *["sequence"] * 3, "park",
    ]  # fmt: skip
    assert [entry.place for entry in entries[:10]] == [0, 1, 2, 3, 4, 1, 2, 3, 4, 1]
    assert len({entry.key for entry in entries}) == len(entries)
    assert [entry.begins for entry in entries[:6]] == [0, 1, 1, 1, 1, 5]
    # Of no block: itself before what leads to the target, and that from there on.
    bare = repeated([step("connect"), step("unpark"), step("slew"), step("sequence"), step("park")], 0, 0)
    assert [entry.begins for entry in bare] == [0, 1, 2, 2, 2]
    # Only one of them says how often: twice a pair.
    pair = [step("focus", block="b"), step("sequence", block="b", repeat=2), step("focus", block="c")]
    assert [entry.step.do for entry in repeated(pair, 0, 0)] == ["focus", "sequence"] * 2 + ["focus"]
    night = played(bare_setting(*PLAN[:-2], *BLOCK, step("park")))
    assert (night.frames_kept, night.frames_planned) == (20, 20)
    assert {stage.place for stage in night.stages} == set(range(10)), "all passes of a step stand at its place"


def test_a_sequence_takes_frames_until_a_moment():
    open_end = step("sequence", exposure_s=99.0, until="18:00")
    night = played(bare_setting(*PLAN[:-2], open_end, step("park")))
    # From dark (17:30) to 18:00 there are 1800 s, 65 of them to reach it: 17 frames.
    assert night.frames_kept == 17
    some = played(bare_setting(*PLAN[:-2], step("sequence", frames=4, exposure_s=99.0, until="18:00"), step("park")))
    assert some.frames_kept == 4
    waited = played(bare_setting(*PLAN[:3], step("wait_dark", until="19:00"), *PLAN[3:]))
    assert waited.ends_s == pytest.approx(3 * HOUR_S + LEAD_S + 1000 + 60)
    unknown = replace(bare_setting(*PLAN[:3], step("wait_dark", until="19:00"), *PLAN[3:]), sky=plain_sky(6))
    assert any("does not wait" in event.what and event.unhandled for event in played(unknown).events)


def test_a_target_that_fails_is_skipped_and_the_next_is_taken():
    steps = [*PLAN[:4], step("solve", attempts=2, limit_s=60.0, then="skip_target"), *PLAN[5:]]
    setting = with_targets(bare_setting(*steps), target("A", priority=1), target("B"))
    off = FAULTS["solver.off_scale"]
    assert applies(setting, off)
    broken = played(setting, [active_faults(setting, off, at_s=0.0)])
    assert broken.frames_kept == 0
    assert {own.why for own in broken.targets} == {"given up, as the plan says"}
    assert broken.safe_end
    # Without an answer to it the sequences run all the same, and all of their frames are off the object.
    careless = with_targets(bare_setting(*PLAN), target("A"), target("B"))
    lost = played(careless, [active_faults(careless, off, at_s=0.0)])
    assert (lost.frames_kept, dict(lost.lost_why)) == (0, {"off the object": 20})


def test_a_block_begins_again_when_a_step_of_it_fails():
    gone = FAULTS["camera.gone"]
    steps = (
        *PLAN[:3], step("slew", block="b"), step("solve", block="b"),
        LIGHTS.model_copy(update={"block": "b", "limit_s": 150.0, "then": "repeat_block", "reconnect": True}),
        step("park"),
    )  # fmt: skip
    for setting in (bare_setting(*steps), with_targets(bare_setting(*steps), target("A"))):
        night = played(setting, [active_faults(setting, gone, at_s=DARK + 300.0)])
        slews = sum(event.what == "slew" for event in night.events)
        again = sum("begins the block again" in event.what for event in night.events)
        assert slews == again + 1 > 1
        assert night.safe_end, "it ends with the night, not never"


def test_without_a_block_it_begins_again_with_the_way_to_the_object():
    lights = LIGHTS.model_copy(update={"limit_s": 150.0, "then": "repeat_block", "reconnect": True})
    setting = bare_setting(*PLAN[:-2], lights, step("park"))
    night = played(setting, [active_faults(setting, FAULTS["camera.gone"], at_s=DARK + 300.0)])
    counts = [sum(event.what == what for event in night.events) for what in ("connect", "unpark", "slew")]
    assert counts[:2] == [1, 1]
    assert counts[2] > 1


def test_a_block_that_begins_again_does_all_of_its_steps_again():
    gone, block = FAULTS["camera.gone"], {"block": "b", "limit_s": 400.0}
    one = step("sequence", frames=1, exposure_s=99.0, **block)
    two = step("sequence", frames=9, exposure_s=99.0, then="repeat_block", reconnect=True, **block)
    plan = (*PLAN[:3], step("slew"), step("solve"), one, step("focus", **block), two, step("park"))
    setting = with_targets(bare_setting(*plan), target("A"))
    night = played(setting, [active_faults(setting, gone, at_s=DARK + 500.0)])
    again = sum("begins the block again" in event.what for event in night.events)
    assert again > 0
    assert sum(event.what == "focus" for event in night.events) >= again


@pytest.mark.parametrize(("meridian", "stops"), [(DARK - 100, False), (DARK + 200, True), (None, False)])
def test_a_slew_goes_to_the_side_of_the_pier_that_the_object_is_on(meridian, stops):
    sky = NightSky(DARK, DAWN, ((0.0, DAWN),), meridian, begins=BEGINS)
    night = played(replace(bare_setting(*PLAN), sky=sky, flip_margin_s=300.0))
    assert any(event.cause == NO_FLIP for event in night.events) is stops
    assert (night.frames_kept == 10) is not stops


def test_own_steps_of_a_target_and_what_is_done_once_a_night():
    own = (step("slew"), step("solve"), step("sequence", frames=3, exposure_s=199.0))
    steps = [*PLAN[:5], step("calibrate_guiding"), *PLAN[5:]]
    setting = with_targets(bare_setting(*steps), target("A"), target("B"), target("C", steps=own))
    assert len(setting.every) == len(steps) + 3
    night = played(setting)
    assert kept(night) == {"A": 10, "B": 10, "C": 3}
    assert sum(event.what == "calibrate guiding" for event in night.events) == 1
    # A night whose plan has no step for a target takes their own before it closes.
    only = with_targets(bare_setting(*PLAN[:3], step("park")), target("C", steps=own))
    assert kept(played(only)) == {"C": 3}
    # Steps that do not lead to the object keep nothing: the plan slews to others.
    lost = played(with_targets(bare_setting(*PLAN), target("A"), target("D", steps=own[2:])))
    assert kept(lost) == {"A": 10, "D": 0}
    assert dict(lost.lost_why) == {"off the object": 3}


@pytest.mark.parametrize(
    ("plan", "words"),
    [
        ({"targets": [{"name": "A", "ra_deg": 1, "dec_deg": 2, "start": "25:00"}]}, "plan.targets[0].start"),
        ({"targets": [{"name": "A", "ra_deg": 360, "dec_deg": 2}]}, "ra_deg"),
        ({"targets": [{"name": n, "ra_deg": 1, "dec_deg": 2} for n in "aA"]}, "a name of its own"),
        ({"steps": [{"do": "sequence", "repeat": 1000}] * 4}, "3000"),
        ({"steps": [{"do": "sequence", "until": "noon"}]}, "until"),
    ],
)
def test_plans_that_cannot_be_played_are_refused_in_one_line(plan, words):
    document = clean_document()
    document["plan"] |= plan
    with pytest.raises(InputError, match=words.replace("[", r"\[").replace("]", r"\]")) as refused:
        validated(document)
    assert "\n" not in str(refused.value)


@settings(max_examples=25, deadline=None)
@given(
    st.lists(
        st.tuples(
            st.integers(1, 12), st.one_of(st.none(), st.integers(1, 4)), st.integers(0, 6), st.integers(0, 6),
            st.sampled_from([None, "18:00", "20:10", "twilight", "altitude", "flip"]),
        ),
        min_size=1, max_size=5,
    )
)  # fmt: skip
def test_whatever_the_targets_the_night_ends_its_budget_adds_up_and_no_frame_is_out_of_its_time(entries):
    own = [
        target(
            f"T{k}", priority=first, start=moment, steps=(step("slew"), step("sequence", frames=n, exposure_s=299.0))
        )
        for k, (n, first, _, _, moment) in enumerate(entries)
    ]
    skies = [((DARK + low * HOUR_S, DARK + max(low, high) * HOUR_S),) for _, _, low, high, _ in entries]
    setting = with_targets(bare_setting(*PLAN[:3], step("park")), *own, skies=skies)
    night = played(setting)
    assert night.safe_end
    assert sum(night.budget.values()) == pytest.approx(night.ends_s)
    assert night.frames_kept == sum(own.kept for own in night.targets)
    up = {entry.name: sky.up for entry, sky in zip(own, setting.skies, strict=True)}
    for span in night.spans:
        if span.kind == "exposing":
            name = [name for at, name in night.begun if at <= span.from_s][-1]
            assert any(a <= span.from_s and span.to_s <= b for a, b in up[name])


def test_the_sites_sky_gives_each_target_its_time(tmp_path, capsys):
    document = whole_document(frames=6)
    document["plan"]["targets"] = [
        {"name": "High", "ra_deg": 40.0, "dec_deg": 45.0, "min_altitude_deg": 40},
        {"name": "Never", "ra_deg": 40.0, "dec_deg": -80.0, "priority": 1},
    ]
    rig = validated(document)
    on = datetime.date(2026, 11, 26)
    sky = sky_of(rig, on)
    high, never = target_skies(rig, sky)
    assert never.up == ()
    without = sky_of(rig.model_copy(update={"plan": rig.plan.model_copy(update={"targets": ()})}), on)
    assert sky.dark_from_s == without.dark_from_s
    wide = sky_of(
        validated(
            document | {"plan": document["plan"] | {"targets": [{"name": "High", "ra_deg": 40.0, "dec_deg": 45.0}]}}
        ),
        on,
    )
    assert sum(b - a for a, b in high.up) < sum(b - a for a, b in wide.targets[0].sky.up), (
        "40° is higher than the horizon"
    )
    night = played(setting_of(rig, sky))
    assert [(own.name, own.kept, own.planned) for own in night.targets] == [("High", 6, 6), ("Never", 0, 6)]
    assert grade_of(night) == "degraded"
    assert any("Never: none of 6 frames" in line for line in in_short(setting_of(rig, sky), night))
    path = tmp_path / "a.rig.json"
    path.write_text(json.dumps(document), "utf-8")
    main(["rehearse", str(path), "--date", "2026-11-26", "--json"])
    reported = json.loads(capsys.readouterr().out)
    assert [(own["name"], own["kept"]) for own in reported["targets"]] == [("High", 6), ("Never", 0)]
    assert "too low" in reported["targets"][1]["why"]


def test_in_every_fault_the_budget_adds_up_to_the_second():
    whole = setting_of(validated(whole_document(frames=6)), plain_sky(6))
    careless = setting_of(validated(whole_document(frames=6, watch=False)), plain_sky(6))
    limits = tuple(entry.model_copy(update={"limit_s": None, "attempts": 1}) for entry in whole.steps)
    several = replace(whole, targets=(target("A"), target("B")), skies=(whole.sky, whole.sky))
    waits = replace(whole, watch=whole.watch.model_copy(update={"then": "wait"}))
    for setting in (whole, careless, replace(whole, steps=limits), several, waits):
        for row in fault_table(setting):
            spans, outcome = row.outcome.spans, row.outcome
            until = max(setting.sky.ends_s, spans[-1].to_s) if outcome.endless else outcome.ends_s
            assert sum(outcome.budget.values()) == pytest.approx(until), row.fault.id
            assert all(one.to_s == other.from_s for one, other in pairwise(spans)), row.fault.id

"""The order of a plan: what each action needs, what is not safe, which frames count; outcomes by hand."""

from dataclasses import replace
from pathlib import Path

import pytest

from tests.core.rehearsal.test_night import whole_document
from wyntaxis.core.rehearsal.faults import FAULTS
from wyntaxis.core.rehearsal.night_sky import NightSky, plain_sky
from wyntaxis.core.rehearsal.outcome import grade_of
from wyntaxis.core.rehearsal.play import active_faults, applies, played
from wyntaxis.core.rehearsal.preconditions import NEEDS
from wyntaxis.core.rehearsal.setting import HOUR_S, setting_of
from wyntaxis.core.rig.night_plan import NightStep, NightWatch
from wyntaxis.core.rig.store import validated

FRAMES = 8
RAIN = FAULTS["weather.rain"]


@pytest.fixture(scope="module")
def whole():
    """Eight frames by a sensible plan, in a rig with roof, cover, mount, outlets, and a mast that watches."""
    return setting_of(validated(whole_document(frames=FRAMES)), plain_sky(6))


def place(setting, do):
    return [step.do for step in setting.steps].index(do)


def moved(setting, do, before):
    """The plan with one step moved before another."""
    steps = list(setting.steps)
    step = steps.pop(place(setting, do))
    steps.insert([own.do for own in steps].index(before), step)
    return replace(setting, steps=tuple(steps))


def without(setting, *does):
    return replace(setting, steps=tuple(step for step in setting.steps if step.do not in does))


def words_of(outcome):
    return "; ".join(event.what for event in outcome.events)


# Swapped with the step behind it: None for what does no harm, else what is told of it.
HARM = {
    ("outlets_on", "connect"): "the outlets are off",
    ("connect", "cool"): "nothing is connected",
    ("cool", "open_roof"): None,
    ("open_roof", "open_cover"): None,
    ("open_cover", "unpark"): None,
    ("unpark", "wait_dark"): None,
    ("wait_dark", "slew"): None,
    ("slew", "solve"): "off the object",
    ("solve", "rotate"): None,
    ("rotate", "rough_focus"): None,
    ("rough_focus", "focus"): "rough focus comes first",
    ("focus", "calibrate_guiding"): None,
    ("calibrate_guiding", "guide"): "guiding is not calibrated yet",
    ("guide", "sequence"): "unguided",
    ("sequence", "sequence"): None,
    ("sequence", "stop_guiding"): "unguided",
    ("stop_guiding", "park"): None,
    ("park", "close_cover"): None,
    ("close_cover", "close_roof"): None,
    ("close_roof", "darks"): None,  # the cover is shut already
    ("darks", "warm_up"): None,
    ("warm_up", "disconnect"): "nothing is connected",
    ("disconnect", "outlets_off"): None,
}


def test_every_pair_of_neighbours_swapped_is_found_or_does_no_harm(whole):
    plain = played(whole)
    assert (grade_of(plain), plain.frames_kept) == ("survived", FRAMES)
    pairs = list(zip(whole.steps, whole.steps[1:], strict=False))
    assert {(one.do, other.do) for one, other in pairs} == set(HARM)
    for at, (one, other) in enumerate(pairs):
        steps = list(whole.steps)
        steps[at : at + 2] = other, one
        outcome = played(replace(whole, steps=tuple(steps)))
        harm = HARM[one.do, other.do]
        if harm is None:
            assert (grade_of(outcome), outcome.frames_kept, outcome.frames_lost) == ("survived", FRAMES, 0), (
                one,
                other,
            )
            assert not any(event.kind == "retry" for event in outcome.events)
        else:
            assert harm in words_of(outcome), (one.do, other.do)


def test_a_roof_that_shuts_over_an_unparked_telescope(whole):
    early = moved(whole, "close_roof", "park")
    outcome = played(early)
    assert grade_of(outcome) == "unsafe"
    assert "the roof shuts over the unparked telescope" in outcome.unsafe
    assert "the telescope moves under the shut roof" in outcome.unsafe, "it parks afterwards"
    document = whole_document(frames=FRAMES)
    roof = next(device for device in document["devices"] if device["kind"] == "roof")
    roof["settings"]["shuts_only_parked"] = {"value": True}
    locked = moved(setting_of(validated(document), plain_sky(6)), "close_roof", "park")
    outcome = played(locked)
    assert outcome.unsafe == ("the roof is open",), "the interlock keeps it open, and nobody shuts it later"
    assert "shuts only over a parked telescope" in words_of(outcome)


@pytest.mark.parametrize(
    ("left_out", "grade", "kept", "words"),
    [
        (("open_roof",), "unsafe", 0, "the telescope moves under the shut roof"),
        (("open_cover",), "lost", 0, "the cover is shut"),
        (("unpark",), "lost", 0, "the mount is parked"),
        (("slew",), "survived", FRAMES, ""),  # somebody points it by hand, and a frame is solved
        (("solve",), "survived", FRAMES, ""),  # the mount is trusted
        (("outlets_on",), "survived", FRAMES, ""),  # then they are on all the time
        (("wait_dark", "slew", "solve", "guide", "calibrate_guiding"), "survived", FRAMES, "not dark enough"),
    ],
)
def test_plans_that_leave_something_out(whole, left_out, grade, kept, words):
    outcome = played(without(whole, *left_out))
    assert (grade_of(outcome), outcome.frames_kept) == (grade, kept)
    assert words in words_of(outcome)


def test_a_sensor_that_never_gets_cold_keeps_nothing(whole):
    outcome = played(replace(whole, cool_s=None))
    assert (grade_of(outcome), outcome.frames_kept) == ("lost", 0)
    assert dict(outcome.lost_why)["taken with a warm sensor"] > 0


def test_a_target_that_never_rises_keeps_nothing_of_what_the_plan_asks_for(whole):
    below = NightSky(5400.0, 5400.0 + 6 * HOUR_S, (), None)
    outcome = played(replace(whole, sky=below))
    assert (grade_of(outcome), outcome.frames_kept, outcome.frames_planned) == ("lost", 0, FRAMES)


def test_darks_need_the_light_shut_out(whole):
    early = moved(whole, "darks", "stop_guiding")
    assert "light falls on the sensor" in words_of(played(early))
    assert "light falls on the sensor" not in words_of(played(whole))


def in_rain(setting):
    assert applies(setting, RAIN)
    return played(setting, [active_faults(setting, RAIN)])


def bare(attended=None, roof=True):
    """The rig with nothing that watches; with or without its shelter."""
    document = whole_document(frames=60, watch=False)
    gone = {"weather", "safety_monitor"} | (set() if roof else {"roof", "dome"})
    document["devices"] = [device for device in document["devices"] if device["kind"] not in gone]
    document["plan"]["steps"] = [
        step for step in document["plan"]["steps"] if roof or step["do"] not in ("open_roof", "close_roof")
    ]
    if attended is not None:
        document["plan"]["attended"] = attended
    return setting_of(validated(document), plain_sky(6))


def test_rain_is_not_safe_where_nobody_watches_roof_or_no_roof():
    for roof in (True, False):
        outcome = in_rain(bare(roof=roof))
        assert grade_of(outcome) == "unsafe"
        assert any("it rained on" in why for why in outcome.unsafe)
        assert dict(outcome.lost_why)["taken in rain"] > 0
        assert "nothing watches the weather" in outcome.first_unhandled.what
    attended = in_rain(bare(attended="I sit beside it", roof=False))
    assert attended.safe_end
    assert grade_of(attended) == "degraded"
    assert "somebody is there: I sit beside it" in words_of(attended)


def test_a_watched_roof_shuts_in_rain_and_what_was_taken_before_counts(whole):
    watched = replace(whole, watch=NightWatch(then="end_safely", every_s=60.0))
    outcome = in_rain(watched)
    assert outcome.safe_end
    assert 0 < outcome.frames_kept < FRAMES
    assert grade_of(outcome) == "degraded"


def test_an_imager_by_hand_without_a_mount_is_not_asked_to_unpark():
    """A camera on a tripod: no mount, no roof, two frames."""
    document = whole_document(frames=2)
    document["devices"] = [{"id": "main", "kind": "camera", "name": "Grand"}]
    document |= {"supplies": [], "guiding": {"kind": "none"}}
    document["plan"] |= {"steps": [], "frames": 2}
    setting = setting_of(validated(document), plain_sky(6))
    assert NightStep(do="wait_dark") in setting.steps
    assert (grade_of(played(setting)), played(setting).frames_kept) == ("survived", 2)


def test_the_guide_tells_what_each_action_needs():
    """Its table names every action that needs more than to be connected, beside what is missing without it."""
    guide = Path("docs/guide/steps/rehearsal.md").read_text("utf-8")
    rows = [line for line in guide.splitlines() if line.startswith("| ")][2:]
    named = {name.strip() for row in rows for name in row.split("|")[1].split(",")}
    free = {"outlets_on", "outlets_off", "disconnect"}
    assert named - {"all others"} == {do.replace("_", " ") for do in NEEDS if do not in free}

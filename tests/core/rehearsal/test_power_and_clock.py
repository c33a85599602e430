"""Mains that fail with and without a battery, a clock that is slow, weather that comes slowly, devices of steps."""

import copy
import dataclasses

import pytest

from tests.core.rehearsal.test_lasting import DARK_S, night, whats
from tests.core.rehearsal.test_night import whole_document
from wyntaxis.core.rehearsal.faults import FAULTS
from wyntaxis.core.rehearsal.night_sky import NightSky, plain_sky
from wyntaxis.core.rehearsal.outcome import grade_of
from wyntaxis.core.rehearsal.play import active_faults, applies, played
from wyntaxis.core.rehearsal.power import SupplyUse, loads_of, without_mains
from wyntaxis.core.rehearsal.setting import setting_of
from wyntaxis.core.rig.store import validated

HOUR_S = 3600.0


def with_supplies(supplies, feed, **plan):
    """A night whose devices all hang on one supply."""
    document = copy.deepcopy(whole_document())
    document["supplies"] = supplies
    for device in document["devices"]:
        device["power"] = {"supply": feed, "current_a": 0.5}
    document["plan"] |= plan
    return setting_of(validated(document), plain_sky(6))


MAINS = {"id": "wall", "kind": "mains", "voltage_v": 13.8}
BANK = {"id": "bank", "kind": "battery", "voltage_v": 13.8, "capacity_ah": 100, "fed_by": "wall"}


def test_a_battery_behind_the_mains_carries_the_night_on():
    own = with_supplies([MAINS, BANK], "bank")
    assert without_mains(own.rig) == ()
    at = DARK_S + HOUR_S
    outcome = played(own, [active_faults(own, FAULTS["mains.fails"], at)])
    assert "batteries carry everything on" in whats(outcome)
    assert outcome.frames_kept == played(own).frames_kept


def test_the_battery_gives_only_while_the_mains_are_away():
    own = with_supplies([MAINS, {**BANK, "capacity_ah": 8}], "bank")
    count = len(own.rig.devices)
    # Two hours of 0.5 A each: with ten devices or more, 8 Ah are not enough; a night on the mains takes none of them.
    assert count * 0.5 * 2 > 8
    assert not any("is empty" in what for what in whats(played(own)))
    outcome = played(own, [active_faults(own, FAULTS["mains.fails"], DARK_S + HOUR_S)])
    empty = next(event for event in outcome.events if "is empty" in event.what)
    assert empty.t_s - (DARK_S + HOUR_S) == pytest.approx(8 / (count * 0.5) * HOUR_S, abs=90)


@pytest.mark.parametrize("on_error", [None, "end_safely"])
def test_without_a_battery_the_night_ends_when_the_mains_are_back(on_error):
    own = with_supplies([MAINS], "wall")
    own = dataclasses.replace(own, watch=own.watch.model_copy(update={"on_error": on_error}))
    at = DARK_S + HOUR_S
    outcome = played(own, [active_faults(own, FAULTS["mains.fails"], at)])
    assert any(what.startswith("without power: ") for what in whats(outcome))
    assert outcome.frames_kept < played(own).frames_kept
    if on_error is None:
        assert any("nothing takes over" in what for what in whats(outcome))
    else:
        assert outcome.ends_s > at + 7200
        assert outcome.safe_end
        assert grade_of(outcome) == "degraded"


def test_mains_are_asked_for_where_the_rig_has_some():
    assert applies(with_supplies([MAINS], "wall"), FAULTS["mains.fails"])
    assert not applies(with_supplies([{**BANK, "fed_by": None}], "bank"), FAULTS["mains.fails"])


@pytest.mark.parametrize(
    ("supplies", "feed", "dark"),
    [
        ([MAINS], "wall", True),
        ([MAINS, BANK], "bank", False),
        ([MAINS, BANK, {"id": "box", "kind": "power_box", "fed_by": "bank"}], "box", False),
        ([MAINS, {"id": "box", "kind": "power_box", "fed_by": "wall"}], "box", True),
        ([MAINS, BANK, {"id": "box", "kind": "power_box", "fed_by": "wall"}], "box", True),
        ([{"id": "box", "kind": "power_box"}], "box", True),
    ],
)
def test_what_stands_still_without_the_mains(supplies, feed, dark):
    rig = with_supplies(supplies, feed).rig
    assert bool(without_mains(rig)) is dark
    assert all(SupplyUse(load).buffers == (load.supply.id == "bank") for load in loads_of(rig))


# A slow clock


def crossing(meridian_h=3.0):
    return NightSky(DARK_S, DARK_S + 6 * HOUR_S, ((0.0, DARK_S + 8 * HOUR_S),), DARK_S + meridian_h * HOUR_S)


def test_a_clock_an_hour_slow_begins_late_ends_late_and_flips_late():
    own = night(frames=1000, sky=crossing())
    good, outcome = played(own), played(own, [active_faults(own, FAULTS["clock.slow"], 0.0)])
    first = [next(span.from_s for span in run.spans if span.kind == "exposing") for run in (good, outcome)]
    assert first[1] - first[0] == pytest.approx(HOUR_S, abs=600)
    reasons = dict(outcome.lost_why)
    assert reasons["taken in twilight, or with the object down"] > 0
    assert outcome.frames_kept < good.frames_kept


def test_a_clock_of_its_own_keeps_the_hour():
    document = whole_document()
    document["devices"].append({"id": "gps", "kind": "clock", "settings": {"accuracy_ms": {"value": 5}}})
    own = setting_of(validated(document), plain_sky(6))
    outcome = played(own, [active_faults(own, FAULTS["clock.slow"], 0.0)])
    assert "keeps the computer's clock right" in whats(outcome)
    assert outcome.frames_kept == played(own).frames_kept


def test_a_sky_by_a_slow_clock_comes_later():
    sky = crossing().by_a_clock(HOUR_S)
    assert (sky.dark_from_s, sky.dark_until_s, sky.meridian_s) == (
        DARK_S + HOUR_S,
        DARK_S + 7 * HOUR_S,
        DARK_S + 4 * HOUR_S,
    )


# Weather that comes slowly


@pytest.mark.parametrize(("fault", "half_s"), [("weather.wind", 900), ("weather.cloud", 600)])
def test_weather_does_harm_from_half_of_its_coming_on(fault, half_s):
    own = night(watch=False)
    at = DARK_S + HOUR_S
    outcome = played(own, [active_faults(own, FAULTS[fault], at)])
    told = [event.t_s for event in outcome.events if event.what.startswith(FAULTS[fault].title)]
    assert told[:3] == [at, at + half_s, at + half_s + FAULTS[fault].lasts_s]
    lost = [event.t_s for event in outcome.events if event.kind == "lost"]
    assert at + half_s <= lost[0] <= at + half_s + 1200


# The device of a step


def two_roofs(device):
    document = whole_document()
    document["devices"].append({"id": "slow-roof", "kind": "roof", "settings": {"moves_s": {"value": 70}}})
    for step in document["plan"]["steps"]:
        if step["do"] == "open_roof":
            step["device"] = device
    return setting_of(validated(document), plain_sky(6))


def opening(outcome):
    stage = next(event for event in outcome.events if event.what == "open roof")
    return stage.t_s


def test_a_step_goes_by_the_device_that_it_names():
    usual, named = (played(two_roofs(device)) for device in (None, "slow-roof"))
    assert opening(named) - opening(usual) == pytest.approx(30, abs=1)
    assert opening(played(two_roofs("roof"))) == opening(usual)


def test_a_step_that_names_a_device_of_another_kind_is_not_done():
    outcome = played(two_roofs("cover"))
    assert any("which does not open roof" in what for what in whats(outcome))
    assert grade_of(outcome) in ("lost", "degraded", "unsafe")
    assert outcome.frames_kept == 0

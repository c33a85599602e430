"""The night that was against the plan, by hand."""

import pytest

from tests.core.evidence.test_overheads import CHANGES, acted_out, night
from wyntaxis import demo
from wyntaxis.core.evidence.headers.overheads import Overheads, overheads
from wyntaxis.core.rehearsal.night_sky import plain_sky
from wyntaxis.core.rehearsal.past_night import against_plan, against_plan_json, off_times, used_s
from wyntaxis.core.rehearsal.setting import setting_of
from wyntaxis.core.rig.store import load


@pytest.fixture(scope="module")
def rig():
    return load(demo.rig_path("tarnfell-triplet-reduced")).rig


def setting_with(rig, **seconds):
    times = {work: {"value": value} for work, value in seconds.items()}
    plan = type(rig.plan).model_validate(rig.plan.model_dump(exclude_unset=True) | {"times": times})
    return setting_of(rig.model_copy(update={"plan": plan}), plain_sky())


def test_a_gap_counts_all_that_it_holds(rig):
    setting = setting_with(rig, slew=40, solve=18, guide=12, flip=80, focus=70)
    assert used_s(setting, "slew") == 70
    assert used_s(setting, "flip") == 110
    assert used_s(setting, "focus") == 70


@pytest.mark.parametrize(
    ("measured", "supposed", "differs"),
    [
        # by more than a fifth, and 2 s, and 2u
        (100.0, 121.0, False),
        (100.0, 126.0, True),
        (100.0, 82.0, True),
        (100.0, 84.0, False),
        (5.0, 3.1, False),
        (5.1, 3.0, True),
    ],
)
def test_what_is_clearly_another_time(rig, measured, supposed, differs):
    found = overheads(night(*[1.0, 1.0, (1.0 + measured + 20, CHANGES["focus"])]))
    assert found.known == {}, "one focus run has no measured time"
    plain = [0.5] * 8
    runs = [(0.5 + measured, {"filter": "LR"[k % 2]}) for k in range(60)]
    found = overheads(night(*plain, *runs[1:], *plain))
    assert found.known["wheel"].value == pytest.approx(measured, abs=0.02)
    named = [action for action, _, _ in off_times(found, setting_with(rig, wheel=supposed))]
    assert ("wheel" in named) is differs


def test_the_last_night_is_told_against_the_plan(rig):
    found = overheads(acted_out(5, False))
    lines = against_plan(found, setting_with(rig, focus=60, download=3.2))
    assert lines[0] == "The plan asks for 120 frames, 90 were taken: 30 fewer."
    assert lines[1].startswith("86 % of the night was exposed; of the rest, most went into focus runs: 10 min.")
    assert any(line.startswith("Focus run took 14") and "longer than the 60.0 s" in line for line in lines)
    assert not any(line.startswith("Download") for line in lines), "that is as used"
    entries = against_plan_json(found, setting_with(rig, focus=60, download=3.2))
    assert (entries["planned_frames"], entries["taken_frames"]) == (120, 90)
    assert entries["used_s"]["focus"] == 60
    assert "focus" in entries["differ"]
    assert "download" not in entries["differ"]


def test_without_a_night_nothing_is_told(rig):
    assert against_plan(Overheads(), setting_with(rig)) == []
    assert against_plan_json(Overheads(), setting_with(rig)) == {}

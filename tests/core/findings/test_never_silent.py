"""What is stated is judged, or said not to be verified: nothing that somebody typed stands without a word."""

import math

import pytest

from tests.conftest import EXAMPLE
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.rig.store import validated


def with_devices(*devices, **more):
    return evaluate(validated(EXAMPLE | {"devices": list(devices)} | more))


def settings(**values):
    return {key: {"value": value} for key, value in values.items()}


def focuser(**values):
    return {"id": "motor", "kind": "focuser", "settings": settings(**values)}


# f = 513.76 mm, f/4.94, 3.9 µm: a step of 4 µm grows a star by 4 / 4.94 / 3.9 × √½ = 0.1468 px. Seeing of 2.6″ at
# 1.5658″/px leaves 1.6605 px. Nine points: √(1 + (0.1468 · 4 n / 1.6605)²) for steps of n.
SLOPE, SHARPEST = 4 / (513.76 / 104) / 3.9 * math.sqrt(0.5), 2.6 / 1.565775


@pytest.mark.parametrize(
    ("step", "verdict"),
    [(1, Verdict.FAILS), (2.7, Verdict.FAILS), (2.8, Verdict.TIGHT), (5, Verdict.HOLDS), (7, Verdict.HOLDS),
     (12, Verdict.TIGHT), (23, Verdict.FAILS)],
)  # fmt: skip
def test_a_focus_run_is_judged_before_there_is_one(step, verdict):
    found = with_devices(focuser(run_step=step, step_um=4.0)).finding("focuser.run")
    assert found.verdict is verdict
    row = with_devices(focuser(run_step=step, step_um=4.0)).rows["motor.stated_run_reach"]
    assert row.computed.value == pytest.approx(math.hypot(1, SLOPE * 4 * step / SHARPEST), rel=1e-4)


def test_a_focus_run_that_cannot_be_judged_is_not_verified():
    assert with_devices(focuser(run_step=1)).finding("focuser.run").verdict is Verdict.UNPROVEN
    assert with_devices(focuser(step_um=4.0)).finding("focuser.run") is None
    own = with_devices(focuser(run_step=1, step_um=4.0)).finding("focuser.run")
    value = own.remedy.change.values[0][1]
    assert with_devices(focuser(run_step=value, step_um=4.0)).finding("focuser.run").verdict is Verdict.HOLDS


@pytest.mark.parametrize(
    ("more", "verdict"),
    [
        ({}, Verdict.UNPROVEN),
        ({"cooler_pull_c_min": 9.0}, Verdict.FAILS),
        ({"cooler_pull_c_min": 14.0}, Verdict.UNPROVEN),
        ({"cooler_pull_c_min": 13.99}, Verdict.FAILS),
    ],
)
def test_a_stated_ramp_without_a_log(more, verdict):
    camera = {"id": "main", "kind": "camera", "settings": settings(ramp_c_min=14.0, **more)}
    found = with_devices(camera).finding("cooling.rate")
    assert found.verdict is verdict
    assert "14 °C/min" in found.title


@pytest.mark.parametrize("way", [True, False])
def test_a_wheel_that_says_which_way_it_turns_is_not_verified_without_flats(way):
    wheel = {"id": "wheel_device", "kind": "filter_wheel", "settings": settings(one_way=way)}
    assert with_devices(wheel).finding("wheel.repeat").verdict is Verdict.UNPROVEN
    assert with_devices({"id": "wheel_device", "kind": "filter_wheel"}).finding("wheel.repeat") is None


def record(**more):
    return {"id": "one", "name": "Capture"} | more


def test_a_records_obstruction_is_compared():
    for value, verdict in ((0.0, Verdict.HOLDS), (0.01, Verdict.HOLDS), (0.33, Verdict.FAILS)):
        found = with_devices(records=[record(values={"obstruction_ratio": value})]).finding("records.setting")
        assert found.verdict is verdict


def test_what_the_rig_does_not_state_is_said():
    found = with_devices(records=[record(values={"focal_plane": 3, "observer": "Jo"})]).finding("records.unknown")
    assert (found.verdict, found.subject) == (Verdict.UNPROVEN, "one")
    assert "Observer" in found.title


@pytest.mark.parametrize(
    ("versions", "verdict"),
    [
        (("2.1", None), Verdict.UNPROVEN),
        (("2.1", "2.1"), Verdict.HOLDS),
        (("2.1", "2.0"), Verdict.TIGHT),
        ((None, None), None),
    ],
)
def test_a_programs_version(versions, verdict):
    for order in (versions, versions[::-1]):
        records = [
            record(id=f"end{at}", pair="both", side=side) | ({"version": own} if own else {})
            for at, (side, own) in enumerate(zip(("server", "client"), order, strict=True))
        ]
        found = [f.verdict for f in with_devices(records=records).findings if f.id == "records.version"]
        assert found == ([verdict] if verdict else [])


def test_a_focuser_of_which_nobody_knows_the_direction_leaves_its_condition_open():
    plan = {"exposure_s": 240, "actions": ["refocus"]}
    whole = focuser(step_um=4.0, lowest_position=0, highest_position=40000, position=20000) | {"connected": True}
    found = with_devices(whole, plan=plan)
    assert found.finding("focuser.direction").verdict is Verdict.UNPROVEN
    condition = next(one for one in found.conditions if one.condition.key == "focuser")
    assert condition.verdict is Verdict.UNPROVEN
    whole["settings"] |= settings(reversed=False)
    held = with_devices(whole, plan=plan, records=[record(values={"motor.reversed": False})])
    assert held.finding("focuser.direction") is None
    assert next(one for one in held.conditions if one.condition.key == "focuser").verdict is Verdict.HOLDS

"""A focuser's step by its motor, gear and knob: by hand, beside what is stated, and used where nothing else is."""

import pytest

from tests.rigs import clean_document
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.rehearsal.night_sky import plain_sky
from wyntaxis.core.rehearsal.setting import FOCUS_MOVE_S, setting_of
from wyntaxis.core.rig.store import validated


def rig_with(without=(), **settings):
    document = clean_document()
    glide = next(device for device in document["devices"] if device["id"] == "glide")
    glide["settings"] = {key: own for key, own in glide["settings"].items() if key not in without}
    glide["settings"] |= {key: {"value": value} for key, value in settings.items()}
    return validated(document)


@pytest.mark.parametrize(
    ("steps", "gear", "travel", "step_um", "verdict"),
    [
        (3200, 2.5, 24, 3.0, Verdict.FAILS),  # 24 mm over 8000 steps; 4 µm are stated
        (200, 30, 24, 4.0, Verdict.HOLDS),
        (6000, None, 24, 4.0, Verdict.HOLDS),  # on the shaft
        (200, 30, 24.4, 4.0667, Verdict.HOLDS),  # 1.7 % off: within what a ruler tells
        (200, 30, 24.6, 4.1, Verdict.FAILS),
    ],
)
def test_a_step_follows_from_motor_gear_and_knob(steps, gear, travel, step_um, verdict):
    more = {} if gear is None else {"gear_ratio": gear}
    row = evaluate(rig_with(steps_per_turn=steps, mm_per_turn=travel, **more)).rows["glide.step_um"]
    assert row.computed.value == pytest.approx(step_um, rel=1e-4)
    assert (row.stated.value, row.verdict) == (4.0, verdict)


def test_it_counts_where_no_step_is_stated_and_claims_nothing_where_something_lacks():
    geared = rig_with(without=("step_um",), steps_per_turn=3200, gear_ratio=2.5, mm_per_turn=24)
    found = evaluate(geared)
    assert found.rows["glide.step_um"].stated is None
    steps = found.rows["glide.steps_in_focus"].computed.value
    assert steps == pytest.approx(found.rows["depth_of_focus_seeing_um"].computed.value / 3.0)
    for lacking in ({"steps_per_turn": 3200}, {"mm_per_turn": 24}, {"gear_ratio": 3}):
        assert "glide.step_um" not in evaluate(rig_with(without=("step_um",), **lacking)).rows


def test_a_focus_run_has_an_exposure_of_its_own_in_the_rehearsal():
    plain = setting_of(rig_with(focus_exposure_s=4, run_points=9), plain_sky(6))
    own = setting_of(rig_with(focus_exposure_s=4, run_exposure_s=10, run_points=9), plain_sky(6))
    settle = plain.focus_s / 9 - 4 - FOCUS_MOVE_S
    assert own.focus_s == pytest.approx(9 * (10 + FOCUS_MOVE_S + settle))


@pytest.mark.parametrize(("position", "left", "verdict"), [(5000, 4972, Verdict.HOLDS), (20, -8, Verdict.FAILS)])
def test_a_first_run_follows_from_the_optics(position, left, verdict):
    """4 µm a step at f/4.94 and 3.9 µm: 4/4.94/3.9/√2 = 0.1468 px a step; 2.6″ are 1.6605 px.

    1.6605 · √(2.75² − 1) / 0.1468 = 28.98 steps to the outermost of nine points, 7.2 between two.
    """
    rows = evaluate(rig_with(step_um=4, lowest_position=0, highest_position=10000, position=position)).rows
    assert rows["glide.proposed_run_step"].best.value == 7
    assert rows["glide.proposed_run_left_steps"].best.value == left
    assert rows["glide.proposed_run_left_steps"].verdict is verdict
    assert "glide.proposed_run_step" not in evaluate(rig_with(without=("step_um",))).rows

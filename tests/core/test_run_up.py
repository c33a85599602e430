"""Tonight's run-up: the order of the work, what counts as done, what is confirmed, and what a failure leaves."""

import datetime
import json

import pytest

from tests.core.records.test_setting_up import AFTER, BEFORE, NOW, document, measured
from tests.rigs import clean_document
from wyntaxis.cli import main
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.records import setting_up
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.out_of_date import from_earlier_setup
from wyntaxis.core.rig.store import load, validated
from wyntaxis.core.run_up import confirmed, longest, run_up, ticked

ORDER = [
    "power",
    "connect",
    "cool",
    "level",
    "balance",
    "polar",
    "rough_focus",
    "focus",
    "calibrate",
    "test_frame",
    "run",
]


def steps_of(rig, now=NOW):
    return run_up(evaluate(rig), now)


def ids(rig):
    return [step.id for step in steps_of(rig)]


def with_done(found, *entries):
    found["setup"]["done"] = [
        dict(zip(("condition", "date", "outcome", "minutes"), own, strict=False)) for own in entries
    ]
    return validated(json.loads(json.dumps(found)))


def test_the_steps_come_in_the_order_of_the_work_with_their_numbers():
    rig = validated(document())
    have = [own for own in ids(rig) if own.removeprefix("run-up.") in ORDER]
    assert have == [f"run-up.{key}" for key in ORDER if f"run-up.{key}" in have]
    assert {"run-up.cool", "run-up.polar", "run-up.focus", "run-up.run"} <= set(have)
    numbers = {step.id: step.numbers for step in steps_of(rig)}
    assert "Set point: −10 °C" in numbers["run-up.cool"]
    assert "Calibration pulse: 443 ms" in numbers["run-up.calibrate"]
    assert numbers["run-up.test_frame"] == ("Exposure: 300 s", "Gain: 100", "Offset: 50")
    assert numbers["run-up.run"][0] == "Planned: 100 frames within 10 h"


def test_a_permanent_rig_is_neither_levelled_nor_aligned_and_own_conditions_take_a_steps_place():
    assert not {"run-up.level", "run-up.balance", "run-up.polar"} & set(ids(validated(document(kind="permanent"))))
    found = document()
    found["conditions"] = [
        {"id": "levelled", "text": "Levelled"}, {"id": "mask", "text": "The mask is off", "before_dark": False},
    ]  # fmt: skip
    own = ids(validated(found))
    assert "run-up.level" not in own
    assert own.index("run-up.balance") < own.index("levelled") < own.index("run-up.polar")
    assert own[-2:] == ["mask", "run-up.run"]


@pytest.mark.parametrize(
    ("entries", "outcome"),
    [
        ((), None),
        ((("run-up.cool", AFTER),), "done"),
        ((("run-up.cool", BEFORE),), None),  # of another night
        ((("run-up.cool", "2026-11-20T17:59:00Z"),), None),  # before the set-up was begun
        ((("run-up.cool", "2026-11-21T19:00:00Z"),), None),  # a clock that was ahead proves nothing
        ((("run-up.cool", AFTER), ("run-up.cool", AFTER, "failed")), "failed"),
        ((("run-up.cool", AFTER, "not_now"), ("run-up.focus", AFTER)), "not_now"),
        ((("run-up.cool", "at dusk"),), None),
    ],
)
def test_a_step_is_done_since_the_set_up_and_tonight(entries, outcome):
    rig = with_done(document(), *entries)
    assert next(step for step in steps_of(rig) if step.id == "run-up.cool").outcome == outcome


def test_what_took_long_is_remembered():
    rig = with_done(
        document(), ("run-up.cool", BEFORE, "done", 12.0), ("run-up.polar", BEFORE, "done", 31.0),
        ("run-up.focus", BEFORE, "done", 6.0), ("run-up.connect", BEFORE, "done", 9.0),
        ("run-up.cool", BEFORE, "failed", 99.0),
    )  # fmt: skip
    assert [(own.id, own.last_minutes) for own in longest(steps_of(rig))] == [
        ("run-up.polar", 31.0), ("run-up.cool", 12.0), ("run-up.connect", 9.0),
    ]  # fmt: skip


def test_each_value_of_an_earlier_set_up_is_confirmed_at_one_step():
    rig = validated(document())
    of = {entry.row_id: step.id for step in steps_of(rig) for entry in step.earlier}
    assert of == {
        "polar_error_arcmin": "run-up.polar", "glide.position": "run-up.focus", "star_fwhm_arcsec": "run-up.focus",
        "guide_rms_arcsec": "run-up.calibrate",
    }  # fmt: skip
    done = edit.apply(rig, ticked(rig, "run-up.polar", "done"))
    assert "polar_error_arcmin" in {entry.row_id for entry in from_earlier_setup(done)}, "done is not measured"
    for step in steps_of(rig):
        if step.earlier:
            rig = edit.apply(rig, confirmed(rig, step))
    assert from_earlier_setup(rig) == ()
    with pytest.raises(ValueError, match="no value"):
        confirmed(rig, steps_of(rig)[0])


def test_a_rotators_angle_is_the_framings_and_what_no_step_measures_is_confirmed_at_the_run():
    found = document()
    angle = {"value": 12.0, "measured": measured(12.1, BEFORE)}
    found["devices"].append({"id": "turner", "kind": "rotator", "settings": {"position_deg": angle}})
    found["framing"] = {"name": "Knot", "ra_deg": 10.0, "dec_deg": 40.0, "position_angle_deg": 20.0}
    found["mount"] = {"kind": "alt_azimuth"}
    rig = validated(found)
    of = {entry.row_id: step.id for step in steps_of(rig) for entry in step.earlier}
    assert of["turner.position_deg"] == "run-up.framing"
    assert of["glide.position"] == "run-up.focus"
    assert of["polar_error_arcmin"] == "run-up.run", "an alt-azimuth mount has no polar axis to align"
    assert {entry.row_id for entry in from_earlier_setup(rig)} == set(of)


def test_a_failure_is_an_incident_and_its_cure_is_shown_the_next_time():
    rig = validated(document())
    failed = edit.apply(rig, ticked(rig, "run-up.focus", "failed", 3.0))
    (incident,) = failed.incidents
    assert (incident.step, incident.symptom) == ("travel", "defocused stars")
    assert failed.setup.done[-1].minutes is None
    cured = edit.apply(failed, edit.Change.of("x", ("incidents", 0, "cure"), "the clutch was open"))
    step = next(own for own in steps_of(cured) if own.id == "run-up.focus")
    assert "cured by: the clutch was open" in step.cures[0]


def test_a_rig_without_a_set_up_keeps_what_was_done(monkeypatch):
    rig = validated(clean_document())
    rig = edit.apply(rig, ticked(rig, "run-up.cool", "done", 4.26))
    assert (rig.setup.kind, rig.setup.done[0].minutes) == ("permanent", 4.3)
    monkeypatch.setattr(setting_up, "MOST_DONE", 4)
    for _ in range(6):
        rig = edit.apply(rig, ticked(rig, "run-up.cool", "done"))
    assert len(rig.setup.done) <= 4
    with pytest.raises(ValueError, match="there is no step nonsense"):
        ticked(rig, "nonsense", "done")


def test_the_command(tmp_path, capsys):
    path = tmp_path / "a.rig.json"
    path.write_text(json.dumps(document(begun="2020-01-01T00:00:00Z")), "utf-8")
    assert main(["tonight", str(path), "--done", "run-up.cool", "--json"]) == 1
    found = {own["id"]: own for own in json.loads(capsys.readouterr().out)}
    assert found["run-up.cool"]["outcome"] == "done"
    assert main(["tonight", str(path), "--failed", "run-up.focus"]) == 1
    assert "[!] Run the focuser" in capsys.readouterr().out
    assert main(["setup", str(path), "--start", "--json"]) == 1
    assert "polar_error_arcmin" in json.loads(capsys.readouterr().out)["not_verified"]
    assert main(["tonight", str(path), "--confirm", "run-up.polar", "--json"]) == 1
    found = {own["id"]: own for own in json.loads(capsys.readouterr().out)}
    assert found["run-up.polar"]["from_earlier_setup"] == []
    assert load(path).rig.measured["polar_error_arcmin"].confirmed is not None
    for wrong in (["--done", "nonsense"], ["--confirm", "nonsense"], ["--confirm", "run-up.cool"]):
        assert main(["tonight", str(path), *wrong]) == 2
        assert capsys.readouterr().err.count("\n") == 1
    assert datetime.datetime.fromisoformat(load(path).rig.setup.date).tzinfo is not None

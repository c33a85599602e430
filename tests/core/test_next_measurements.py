"""What measurements rest on, which grow out of date by a change, and which measurement would settle most."""

import json
from functools import partial

import pytest

from tests.rigs import clean_document
from wyntaxis import demo
from wyntaxis.cli import main
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.measurement_kinds import KINDS, SOLVED, MeasurementKind
from wyntaxis.core.next_measurements import Measurement, hour_plans, is_settled, measurement_plan, next_measurements
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.dependencies import SPACING_ERROR
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.out_of_date import confirmation, out_of_date_measurements
from wyntaxis.core.rig.store import load, validated
from wyntaxis.core.steps import SCALES

DATE = "2026-11-01T20:00:00Z"
MEASURED = {
    "pixel_scale_arcsec_px": 1.5658,
    "field_tilt_um": 12.0,
    "star_elongation": 1.1,
    "guide_scale_arcsec_px": 1.606,
    "guide_rms_arcsec": 0.5,
    "back_focus_required_mm": 62.1,
}
SETTINGS = {
    "main": ("read_noise_e", "bias_mean_adu", "dark_current_e_s", "cooling_reach_c"),
    "focuser": ("position", "backlash_steps"),
}


def quantity_value(value):
    return {
        "value": value,
        "standard_uncertainty": abs(value) / 500 + 0.001,
        "evidence": {"method": "test", "date": DATE},
    }


@pytest.fixture
def rig():
    """The rig in order, with something of every kind measured on one day."""
    document = clean_document()
    devices = {device["id"]: device for device in document["devices"]}
    focuser = next(d for d in document["devices"] if d["kind"] == "focuser")
    names = {"main": devices["main"], "focuser": focuser}
    document["framing"] = {"ra_deg": 10.0, "dec_deg": 40.0}
    bare = validated(document)
    values = [(("measured", key), quantity_value(value)) for key, value in MEASURED.items()]
    for name, keys in SETTINGS.items():
        place = document["devices"].index(names[name])
        for key in keys:
            value = 6000.0 if key == "position" else 2.0
            values.append((("devices", place, "settings", key, "measured"), quantity_value(value)))
    wheel = next(i for i, d in enumerate(document["devices"]) if d["kind"] == "filter_wheel")
    values += [(("devices", wheel, "slots", slot, "focus_offset_measured"), quantity_value(20.0)) for slot in (0, 1)]
    return edit.apply(bare, Change("Measure", tuple(values)))


def place_of(rig, kind):
    return next(i for i, device in enumerate(rig.devices) if device.kind == kind)


def out_of_date_ids(rig):
    return {
        entry.row_id.rpartition(".")[2] if ".slot" not in entry.row_id else entry.row_id[-26:]
        for entry in out_of_date_measurements(rig)
    }


SPACED = {"field_tilt_um", "star_elongation", "position", SPACING_ERROR}
CHANGES = {
    "nothing": (lambda rig: (("name",), "another name"), set()),
    "the ring": (lambda rig: (("train", 3, "length_mm"), 12.0), SPACED),
    "a part of the guide path": (lambda rig: (("guiding", "path", 0, "length_mm"), 15.0), set()),
    "the focal length": (
        lambda rig: (("telescope", "focal_length_mm"), 700.0),
        {*MEASURED} | {"position"},
    ),
    "the gain": (
        lambda rig: (("devices", place_of(rig, "camera"), "settings", "gain", "value"), 120.0),
        {"read_noise_e", "bias_mean_adu", "dark_current_e_s"},
    ),
    "the offset": (
        lambda rig: (("devices", place_of(rig, "camera"), "settings", "offset", "value"), 60.0),
        {"bias_mean_adu"},
    ),
    "the set temperature": (
        lambda rig: (("devices", place_of(rig, "camera"), "settings", "set_temperature_c", "value"), -15.0),
        {"dark_current_e_s"},
    ),
    "the camera's pixel": (
        lambda rig: (("train", 4, "sensor", "pixel_um"), 4.1),
        {"pixel_scale_arcsec_px", "field_tilt_um", "star_elongation", "position"}
        | {"read_noise_e", "bias_mean_adu", "dark_current_e_s", "cooling_reach_c"},
    ),
    "the guide camera's binning": (
        lambda rig: (("guiding", "path", 2, "sensor", "binning"), 2),
        {"guide_scale_arcsec_px", "guide_rms_arcsec"},
    ),
    "the mount": (lambda rig: (("mount", "name"), "Cairn"), {"guide_rms_arcsec"}),
}


@pytest.mark.parametrize("name", CHANGES)
def test_a_change_makes_the_right_legs_stale_and_no_others(rig, name):
    assert out_of_date_measurements(rig) == ()
    change, expected = CHANGES[name]
    path, value = change(rig)
    after = edit.apply(rig, Change.of("Change", path, value))
    slots = {key for key in out_of_date_ids(after) if key.endswith("focus_offset_steps")}
    assert out_of_date_ids(after) - slots == expected
    assert len(slots) == (2 if name == "the ring" else 0)
    for entry in out_of_date_measurements(after):
        assert entry.measured_on == DATE
        assert entry.what
        if entry.row_id != SPACING_ERROR:
            assert entry.changed_on
    # Whoever changes it back has what was measured.
    older = rig
    for step in path:
        older = older[step] if isinstance(step, int) or isinstance(older, dict) else getattr(older, step)
    assert out_of_date_measurements(edit.apply(after, Change.of("Change back", path, older))) == ()


def test_a_filter_kills_its_own_offset_alone(rig):
    wheel = place_of(rig, "filter_wheel")
    after = edit.apply(rig, Change.of("Swap", ("devices", wheel, "slots", 1, "thickness_mm"), 3.0))
    (entry,) = out_of_date_measurements(after)
    assert entry.row_id.endswith("slot1.focus_offset_steps")
    assert "glass" in entry.what[0]


def test_a_part_put_in_or_taken_out_counts(rig):
    document = {"id": "extra", "kind": "spacer", "length_mm": 1.0}
    more = edit.insert_part(rig, ("train",), 3, document)
    assert out_of_date_ids(more) >= SPACED
    assert out_of_date_measurements(edit.remove_part(more, ("train",), 3)) == ()


def test_a_stale_number_is_unproven_until_measured_anew_or_confirmed(rig):
    before = evaluate(rig).rows["field_tilt_um"]
    assert before.verdict is not Verdict.UNPROVEN
    after = edit.apply(rig, Change.of("Change", ("train", 3, "length_mm"), 12.0))
    evaluation = evaluate(after)
    row = evaluation.rows["field_tilt_um"]
    assert row.verdict is Verdict.UNPROVEN
    assert row.as_json()["stale"]["measured_on"] == DATE
    finding = evaluation.finding("field.tilt")
    assert finding.verdict is Verdict.UNPROVEN
    assert "measured on 2026-11-01T20:00:00Z; changed on 20" in finding.arithmetic[-1]
    assert "spacing: ring 12.184 → 12" in finding.arithmetic[-1]
    path = ("measured", "field_tilt_um")
    for values in (confirmation(after, path, "the ring is ground, not tilted"), ((path, quantity_value(14.0)),)):
        again = edit.apply(after, Change("Again", values))
        assert evaluate(again).rows["field_tilt_um"].verdict is before.verdict
        # The next change counts anew.
        assert "field_tilt_um" in out_of_date_ids(edit.apply(again, Change.of("More", ("train", 3, "length_mm"), 11.0)))
    with pytest.raises(ValueError, match="say why"):
        confirmation(after, path, "  ")
    with pytest.raises(ValueError, match="no such measurement"):
        confirmation(after, ("measured", "nothing"), "because")


def test_an_older_leg_without_a_note_is_noted_as_it_changes():
    document = clean_document()
    document["measured"] = {"field_tilt_um": quantity_value(12.0)}
    bare = validated(document)
    assert bare.measured["field_tilt_um"].rests_on is None
    after = edit.apply(bare, Change.of("Change", ("train", 3, "length_mm"), 12.0))
    (entry,) = out_of_date_measurements(after)
    assert entry.changed_on
    assert validated(json.loads(after.model_dump_json(exclude_unset=True))) == after


def test_a_scale_of_another_focal_length_takes_all_that_follows_from_it(rig):
    after = evaluate(edit.apply(rig, Change.of("Change", ("telescope", "focal_length_mm"), 700.0)))
    for key in ("pixel_scale_arcsec_px", "effective_focal_length_mm", "field_width_deg"):
        assert after.rows[key].out_of_date is not None, key
        assert after.rows[key].verdict is Verdict.UNPROVEN, key


# What to measure next


@pytest.fixture(scope="module")
def demo_rig():
    return load(demo.rig_path("tarnfell-triplet-reduced")).rig


def test_the_demo_rigs_ranking_by_hand(demo_rig):
    found = next_measurements(demo_rig)
    first, second = found[:2]
    # A solved frame: 8 numbers in 5 minutes; ports: the links of four devices in 4.
    assert (first.kind.key, first.worth) == ("solved_frame", 8 / 5)
    assert (second.kind.key, second.worth) == ("ports", 1.0)
    assert [measurement.worth for measurement in found] == sorted(
        (measurement.worth for measurement in found), reverse=True
    )
    assert {"focus_run", "sweep", "star_frames", "guide_log", "bench_frames"} <= {
        measurement.kind.key for measurement in found
    }
    bench, sky = hour_plans(found)
    assert bench.minutes <= 60
    assert {measurement.kind.needs for measurement, _ in bench.measurements} <= {"bench", "daylight"}
    assert {measurement.kind.needs for measurement, _ in sky.measurements} == {"stars"}
    assert sky.measurements[0][0] is first


def test_doing_the_first_turns_just_what_it_promised(demo_rig, tmp_path, capsys):
    path = tmp_path / "a.rig.json"
    path.write_text(demo.rig_path("tarnfell-triplet-reduced").read_text("utf-8"), "utf-8")
    assert main(["proofs", str(path), "--json"]) == 0
    first = json.loads(capsys.readouterr().out)[0]
    before = evaluate(demo_rig).rows
    # The frame tells what was expected, or less than it: the numbers are proven either way.
    for scale in ("1.5658", "1.60"):
        own = tmp_path / f"{scale}.rig.json"
        own.write_text(path.read_text("utf-8"), "utf-8")
        main(["scale", str(own), "--typed", scale, "--u", "0.0008", "--keep"])
        after = evaluate(load(own).rig).rows
        turned = {key for key, row in after.items() if is_settled(row) and not is_settled(before.get(key))}
        assert turned == set(first["settles"])
    again = [measurement.kind.key for measurement in next_measurements(load(own).rig)]
    assert "solved_frame" not in again


def test_a_stale_number_is_promised_again(rig):
    key = "field_tilt_um"
    assert all(key not in measurement.settles for measurement in next_measurements(rig))
    after = edit.apply(rig, Change.of("Change", ("train", 3, "length_mm"), 12.0))
    sweep = next(measurement for measurement in next_measurements(after) if measurement.kind.key == "sweep")
    assert key in sweep.settles
    assert key in sweep.as_json()["stale"]


def test_whatever_a_ring_makes_stale_some_measurement_gives_anew(rig):
    after = edit.apply(rig, Change.of("Change", ("train", 3, "length_mm"), 12.0))
    out_of_date = {entry.row_id for entry in out_of_date_measurements(after)}
    by_kind = {measurement.kind.key: set(measurement.as_json()["stale"]) for measurement in next_measurements(after)}
    assert set().union(*by_kind.values()) == out_of_date
    assert by_kind["solved_frame"] == {SPACING_ERROR}
    assert by_kind["sweep"] == {"field_tilt_um"}
    assert {key.rpartition(".")[2] for key in by_kind["focus_run"]} == {"position"}
    assert len(by_kind["focus_night"]) == 2
    other = edit.apply(rig, Change.of("Gain", ("devices", place_of(rig, "camera"), "settings", "gain", "value"), 120.0))
    by_kind = {measurement.kind.key: measurement.as_json()["stale"] for measurement in next_measurements(other)}
    assert {key.rpartition(".")[2] for key in by_kind["bench_frames"]} == {"read_noise_e", "bias_mean_adu"}
    assert {key.rpartition(".")[2] for key in by_kind["darks"]} == {"dark_current_e_s"}


def test_callipers_settle_what_a_tolerance_leaves_open():
    document = clean_document()
    document["train"][3] |= {"length_basis": "stated", "length_tolerance_mm": 0.6, "length_mm": 12.3}
    found = next_measurements(validated(document))
    ring = next(measurement for measurement in found if measurement.part == "ring")
    assert {"back_focus_error_mm"} <= set(ring.settles)
    assert ring.title == "Callipers on ring 12.9"


def made(key, minutes, settles, needs="stars"):
    kind = MeasurementKind(key, key, needs, minutes, SCALES, "1 %", SOLVED.trial)
    return Measurement(kind, key, tuple(settles), ())


def test_a_plan_by_hand():
    measurements = [made("a", 30, "abcdef"), made("b", 10, "abc"), made("c", 40, "xyzuvw"), made("d", 5, "m", "bench")]
    plan = measurement_plan(measurements, "An hour", ("stars",), 60)
    # b: 0.3 a minute; then c (6/40) before a (3 left of 30): a no longer fits.
    assert [(measurement.kind.key, gain) for measurement, gain in plan.measurements] == [("b", 3), ("c", 6)]
    assert (plan.minutes, plan.settles) == (50, 9)
    assert measurement_plan(measurements, "None", ("twilight",), 60).measurements == ()


def test_every_kind_names_its_step_and_what_it_usually_reaches():
    for kind in KINDS:
        assert kind.minutes > 0
        assert kind.usual
        assert kind.needs in ("bench", "daylight", "twilight", "stars")
    assert len({kind.key for kind in KINDS}) == len(KINDS)


def test_the_command_confirms(tmp_path, rig, capsys):
    path = tmp_path / "a.rig.json"
    after = edit.apply(rig, Change.of("Change", ("mount", "name"), "Cairn"))
    path.write_text(after.model_dump_json(exclude_unset=True), "utf-8")
    run = partial(main, ["proofs", str(path)])
    assert run() == 0
    assert "out of date: guide_rms_arcsec: measured on" in capsys.readouterr().out
    assert main(["proofs", str(path), "--confirm", "guide_rms_arcsec"]) == 2
    assert main(["proofs", str(path), "--confirm", "nothing", "--reason", "x"]) == 2
    assert main(["proofs", str(path), "--confirm", "guide_rms_arcsec", "--reason", "only its name was given"]) == 0
    assert "stale" not in capsys.readouterr().out
    assert load(path).rig.measured["guide_rms_arcsec"].confirmed.reason == "only its name was given"

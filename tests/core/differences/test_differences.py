"""What differs and what died: each swap kills just what it must, values tell their reasons, findings turn."""

import copy
import itertools
import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.rigs import clean_document
from wyntaxis.cli import main
from wyntaxis.core.differences.differences import differences_between, swap, with_reasons
from wyntaxis.core.differences.invalidation import RULES, invalidations
from wyntaxis.core.differences.paths import changes_between, value_named
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.history import recording
from wyntaxis.core.history.states import read_history
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.parts import Part
from wyntaxis.core.rig.store import document_of, validated


def document():
    entries = clean_document()
    entries["devices"].append(
        {"id": "turner", "kind": "rotator", "name": "Turner", "settings": {"position_deg": {"value": 10}}}
    )
    entries["records"][0]["version"] = "2.1"
    return entries


def changed(*edits):
    """The rig before and after edits of its document: paths of keys, places and ids, with what is set there."""
    entries = document()
    for path, value in edits:
        node = entries
        for step in path[:-1]:
            named = isinstance(node, list) and isinstance(step, str)
            node = next(entry for entry in node if entry["id"] == step) if named else node[step]
        if value is None:
            del node[path[-1]]
        else:
            node[path[-1]] = value
    return validated(document()), validated(entries)


ALL = {rule.what for rule in RULES} | {"plug_ins"}
FOCUSING = {"filter_offsets", "best_focus"}
SETTING = ("devices", "main", "settings")
INVALIDATIONS = [
    # what is swapped or changed, and just what dies with it
    ([((*SETTING, "gain", "value"), 200)], {"darks", "bias"}),
    ([((*SETTING, "offset", "value"), 60)], {"darks", "bias"}),
    ([((*SETTING, "set_temperature_c", "value"), -5)], {"darks", "bias"}),
    ([((*SETTING, "readout_mode"), {"value": "fast"})], {"darks", "bias"}),
    ([(("plan", "exposure_s"), 120)], {"darks"}),
    ([(("plan", "steps"), [{"do": "sequence", "exposure_s": 60, "frames": 5}])], {"darks"}),
    ([(("plan", "steps"), [{"do": "sequence", "exposure_s": 300, "frames": 5}])], set()),
    ([(("guiding", "settings", "rate_sidereal"), 0.9)], {"guide_calibration"}),
    ([(("guiding", "settings", "pulse_route"), "guide_port")], {"guide_calibration"}),
    ([(("train", "oag", "prism", "beside"), "short_side")], {"guide_calibration"}),
    # 0.3 px at the corner, 3606 px away, is 8.3e-5 of the scale; f_r = 61.5 / 0.24 = 256.25 mm, m = 0.76: 0.0162 mm.
    ([(("train", "ring", "length_mm"), 12.199)], {"flats", *FOCUSING}),
    ([(("train", "ring", "length_mm"), 12.202)], {"flats", *FOCUSING, "solved_scale"}),
    ([(("records", 0, "version"), "2.2")], {"plug_ins"}),
    ([(("devices", "main", "identity", "serial_number"), "PG-2")], {"darks", "bias", "flats", "best_focus"}),
    ([(("train", "camera", "sensor", "binning"), 2)], {"darks", "bias", "flats", "solved_scale"}),
    (
        [(("train", "camera", "sensor", "pixel_um"), 3.0)],
        {"darks", "bias", "flats", "best_focus", "solved_scale"},
    ),
    ([(("train", "camera", "name"), "Another")], {"darks", "bias", "flats", "best_focus"}),
    ([(("train", "ring", "length_mm"), 12.3)], {"flats", *FOCUSING, "solved_scale"}),
    ([(("devices", "rondel", "slots", 1, "name"), "Red")], {"flats", *FOCUSING}),
    ([(("devices", "rondel", "slots", 1, "thickness_mm"), 3.0)], {"flats", *FOCUSING}),
    ([(("devices", "turner", "settings", "position_deg", "value"), 95)], {"flats"}),
    ([(("framing",), {"ra_deg": 10, "dec_deg": 20, "position_angle_deg": 90})], {"flats"}),
    ([(("telescope", "focal_length_mm"), 700)], {"flats", *FOCUSING, "guide_calibration", "solved_scale"}),
    ([(("train", "reducer", "magnification"), 0.8)], {"flats", *FOCUSING, "guide_calibration", "solved_scale"}),
    ([(("guiding", "path", "guide_camera", "name"), "Other Petit")], {"guide_calibration"}),
    ([(("guiding", "path", "guide_camera", "sensor", "binning"), 2)], {"guide_calibration"}),
    ([(("train", "oag", "prism", "angle_deg"), 90)], {"guide_calibration"}),
    ([(("mount",), {"kind": "equatorial", "name": "Cairn"})], {"guide_calibration"}),
    ([(("devices", "glide", "settings", "step_um"), {"value": 2.0})], FOCUSING),
    ([(("site", "seeing_fwhm_arcsec"), 3.1)], set()),
    ([(("devices", "main", "settings", "traffic_percent", "value"), 70)], set()),
    ([(("name",), "Another name")], set()),
    ([(("plan", "frames"), 30)], set()),
]


@pytest.mark.parametrize(("edits", "dies"), INVALIDATIONS)
def test_each_change_kills_just_what_it_must(edits, dies):
    before, after = changed(*edits)
    found = invalidations(before, after)
    assert {own.what for own in found} == dies
    for own in found:
        assert all(" → " in line for line in own.because)
        assert own.rule
    assert invalidations(after, after) == ()


def test_every_rule_is_in_the_table():
    assert set().union(*(dies for _, dies in INVALIDATIONS)) == ALL


def test_a_rotator_ahead_of_the_prism_turns_the_guide_camera_too():
    entries = document()
    entries["train"].insert(1, {"id": "turn", "kind": "rotator", "length_mm": 0})
    other = copy.deepcopy(entries)
    other["devices"][-1]["settings"]["position_deg"]["value"] = 100
    assert {own.what for own in invalidations(validated(entries), validated(other))} == {"flats", "guide_calibration"}


@pytest.mark.parametrize(("part", "dies"), [("oag", {"flats", "guide_calibration"}), ("camera", {"flats"})])
def test_a_rotator_turns_the_guide_camera_where_it_turns_the_prism(part, dies):
    """A rotator built into the guider turns its prism; one behind it turns the main camera alone."""
    entries = document()
    entries["devices"][-1]["part"] = part
    other = copy.deepcopy(entries)
    other["devices"][-1]["settings"]["position_deg"]["value"] = 100
    assert {own.what for own in invalidations(validated(entries), validated(other))} == dies


def test_what_is_not_there_cannot_die():
    entries = clean_document()
    entries["guiding"] = {"kind": "none"}
    entries["devices"] = [
        device for device in entries["devices"] if device["kind"] not in ("guide_camera", "filter_wheel")
    ]
    other = copy.deepcopy(entries)
    other["telescope"]["focal_length_mm"] = 700
    assert {own.what for own in invalidations(validated(entries), validated(other))} == {
        "flats",
        "best_focus",
        "solved_scale",
    }


def test_records_are_to_be_retyped_and_measurements_grow_stale():
    entries = document()
    entries["records"] = [
        {"id": "plan", "name": "Planner", "values": {"effective_focal_length_mm": 513.8}},
        {"id": "other", "name": "Other", "values": {"effective_focal_length_mm": 676}},
    ]
    rig = edit.apply(
        validated(entries),
        edit.Change.of("Measure", ("measured", "effective_focal_length_mm"), {"value": 513.7}),
    )
    without = edit.apply(rig, edit.Change.of("Reducer off", ("train", 0, "magnification"), 1.0))
    found = differences_between(rig, without)
    invalidated = {(own.what, own.title): own for own in found.invalidated}
    record = invalidated["record", "Record of Planner"]
    assert any("513.8" in line and "676" in line for line in record.because)
    assert ("record", "Record of Other") not in invalidated, "what was wrong before did not die now"
    assert ("measured", "effective_focal_length_mm") in invalidated


def test_numbers_and_findings_that_turned():
    before, after = changed((("train", "ring", "length_mm"), 12.9))
    found = differences_between(before, after)
    (value,) = found.values
    assert (value.change.text, value.change.before, value.change.after) == ("train[3].length_mm", 12.184, 12.9)
    numbers = {change.row.kind.id: (change.before, change.after) for change in found.numbers}
    assert numbers["back_focus_error_mm"] == pytest.approx((0.0, 0.7158), abs=1e-3)
    assert "pixel_scale_arcsec_px" not in numbers
    flips = {flip.finding.id: (flip.before, flip.after) for flip in found.flips}
    assert flips["spacing.main"][1] is Verdict.FAILS
    assert differences_between(before, before).nothing


def test_a_swap_keeps_the_parts_place_and_its_id():
    rig = validated(document())
    piece = Part.model_validate({"id": "thin", "kind": "spacer", "name": "ring 5", "length_mm": 5.0})
    after = edit.apply(rig, swap(rig, "ring", piece))
    assert [part.id for part in after.train] == [part.id for part in rig.train]
    assert after.train[3].length_mm == 5.0
    with pytest.raises(InputError, match="there is no part"):
        swap(rig, "nothing", piece)
    with pytest.raises(InputError, match="one is a camera"):
        swap(rig, "camera", piece)


# Paths


def test_parts_are_told_apart_by_their_ids():
    before, after = document(), document()
    ring = after["train"].pop(3)
    assert [(c.text, c.after) for c in changes_between(before, after)] == [("train[3]", None)]
    after["train"].insert(1, ring)
    (order,) = changes_between(before, after)
    assert order.before == ["reducer", "oag", "wheel", "ring", "camera"]
    assert order.after == ["reducer", "ring", "oag", "wheel", "camera"]
    ring["length_mm"] = 3
    texts = [change.text for change in changes_between(before, after)]
    assert texts == ["train[1].length_mm", "train"]


LEAF = st.none() | st.booleans() | st.integers(-3, 3) | st.text("ab", max_size=2)
ENTRIES = st.lists(
    st.fixed_dictionaries({"id": st.sampled_from("pqrs")}, optional={"x": LEAF, "y": LEAF}),
    max_size=4,
    unique_by=lambda entry: entry["id"],
)
TREE = st.fixed_dictionaries({"train": ENTRIES, "note": LEAF, "plan": st.dictionaries(st.sampled_from("kl"), LEAF)})


@given(TREE, TREE)
def test_every_difference_is_found_and_nothing_else(before, after):
    found = changes_between(before, after)
    assert changes_between(before, copy.deepcopy(before)) == ()
    for change in found:
        assert (type(change.before), change.before) != (type(change.after), change.after)
        if change.named[-1] != "order":
            assert value_named(after, change.named) == change.after
            assert value_named(before, change.named) == change.before
    if not found:
        plain = [{k: v for k, v in own["plan"].items() if v is not None} for own in (before, after)]
        assert plain[0] == plain[1]
        assert before["note"] == after["note"]


# Reasons, by the history


@pytest.fixture
def entries(tmp_path, monkeypatch):
    """A rig saved on four days: a ring, a gain with a reason, a name, the gain again."""
    days = itertools.count(1)
    monkeypatch.setattr(recording, "utc_stamp", lambda: f"2026-03-{next(days):02d}T12:00:00Z")
    path = tmp_path / "a.rig.json"
    rig = validated(document())
    recording.save(rig, path, ("Begun",))
    for label, place, value, reason in (
        ("Ring", ("train", 3, "length_mm"), 12.5, "corners bent"),
        ("Gain", ("devices", 0, "settings", "gain", "value"), 120, None),
        ("Gain again", ("devices", 0, "settings", "gain", "value"), 200, "less noise"),
    ):
        rig = edit.apply(rig, edit.Change.of(label, place, value))
        recording.save(rig, path, (label,), reason)
    return path, rig


def test_each_value_tells_the_save_that_changed_it_last(entries):
    path, rig = entries
    history = read_history(path)
    found = with_reasons(differences_between(history.rig_at(0), rig), history, 0)
    by = {value.change.text: (value.by.date[:10], value.by.words, value.by.reason) for value in found.values}
    assert by == {
        "train[3].length_mm": ("2026-03-02", "Ring", "corners bent"),
        "devices[0].settings.gain.value": ("2026-03-04", "Gain again", "less noise"),
    }


def test_the_commands(entries, tmp_path, capsys):
    path, rig = entries
    assert main(["history", str(path), "--json"]) == 0
    saves = json.loads(capsys.readouterr().out)
    assert [(save["label"], save["labels"], save["reason"]) for save in saves][1] == ("Ring", ["Ring"], "corners bent")
    assert main(["history", str(path)]) == 0
    assert "corners bent" in capsys.readouterr().out
    old = tmp_path / "old.rig.json"
    assert main(["history", str(path), "--at", "2026-03-02", "--out", str(old)]) == 0
    assert json.loads(old.read_text("utf-8"))["train"][3]["length_mm"] == 12.5
    capsys.readouterr()
    main(["differ", str(path), "--since", "2026-03-02", "--json"])
    one = json.loads(capsys.readouterr().out)
    assert all({"path", "before", "after", "reason", "date", "of"} <= set(entry) for entry in one)
    (change,) = [entry for entry in one if entry["of"] == "value"]
    assert (change["path"], change["before"], change["after"]) == ("devices[0].settings.gain.value", 100, 200)
    assert (change["reason"], change["date"]) == ("less noise", "2026-03-04T12:00:00Z")
    assert {own["what"] for own in one if own["of"] == "died"} == {"darks", "bias", "record"}
    main(["differ", str(old), str(path), "--json"])
    assert json.loads(capsys.readouterr().out) == one, "the other rig's history tells it too"
    main(["differ", str(path), "--set", "train[3].length_mm=12.9"])
    out = capsys.readouterr().out
    assert "train[3].length_mm: 12.5 → 12.9" in out
    assert "no longer valid: Flats" in out
    assert main(["differ", str(path), str(path)]) == 0
    assert capsys.readouterr().out == "nothing differs\n"
    assert document_of(rig)["train"][3]["length_mm"] == 12.5, "nothing is written"
    place = path.with_name("a.history.jsonl")
    whole = place.read_bytes()
    place.write_bytes(whole + b"junk\n{}\n")
    assert main(["history", str(path), "--json"]) == 0
    shown = capsys.readouterr()
    assert len(json.loads(shown.out)) == 4
    assert shown.err.startswith("wyntaxis: 2 lines of the history cannot be used, the first (line 5): broken JSON")
    assert shown.err.count("\n") == 1
    place.write_bytes(whole)
    assert main(["history", str(path), "--compact", "0"]) == 0
    assert "4 saves taken together into 4" in capsys.readouterr().out
    assert main(["history", str(path), "--join", str(path.with_name("a.history.jsonl"))]) == 0
    assert capsys.readouterr().out == "0 saves came in\n"


@pytest.mark.parametrize(
    "arguments",
    [
        ["differ", "FILE"],
        ["differ", "FILE", "FILE", "--since", "2026-03-01"],
        ["differ", "FILE", "--since", "soon"],
        ["differ", "FILE", "--since", "2025-01-01"],
        ["differ", "FILE", "--against", "nobody"],
        ["differ", "FILE", "--swap", "ring=nothing"],
        ["differ", "FILE", "--set", "train[3].length_mm"],
        ["differ", "FILE", "--set", "..=3"],
        ["differ", "FILE", "--set", "train[3].length_mm=-4"],
        ["history", "FILE", "--out", "x"],
        ["history", "FILE", "--at", "2026-03-01", "--out", "FILE"],
        ["history", "FILE", "--join", "FILE"],
    ],
)
def test_what_cannot_be_told_is_one_line(entries, capsys, arguments):
    path, _ = entries
    assert main([str(path) if own == "FILE" else own for own in arguments]) == 2
    assert capsys.readouterr().err.count("\n") == 1

"""What a variant sets otherwise: settings, plan, records; where its edits go; what is typed on a switch."""

import json

import pytest

from tests.rigs import clean_document
from wyntaxis.cli import main
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.model import variant_rig
from wyntaxis.core.rig.store import to_bytes, validated
from wyntaxis.core.rig.variants import document_path, own_settings_of

RECORDS = [
    {"id": "capture", "name": "Capture", "values": {"main.gain": 100, "effective_focal_length_mm": 513.76}},
    {"id": "other", "name": "Other", "values": {}},
]


def document(**own):
    found = clean_document()
    found["records"] = [dict(record) for record in RECORDS]
    train = [part["id"] for part in found["train"] if part["kind"] != "corrector"]
    found["variants"] = [{"name": "native", "train": train, **own}]
    return found


def shown(found):
    return variant_rig(validated(json.loads(json.dumps(found))), "native")


def test_a_variant_has_its_own_settings_plan_and_records_and_shares_the_rest():
    found = document(
        devices={"main": {"gain": {"value": 0}}, "glide": {"position": {"value": 7200}}},
        plan={"exposure_s": 60},
        records=[
            {"id": "capture", "name": "Capture", "values": {"gain": 0}},
            {"id": "new", "name": "New", "values": {}},
        ],
    )
    rig, own = validated(found), shown(found)
    main_camera = next(device for device in own.devices if device.id == "main")
    assert (main_camera.number("gain"), main_camera.number("offset")) == (0, 50)
    assert next(d for d in own.devices if d.id == "glide").number("position") == 7200
    assert (own.plan.exposure_s, own.plan.frames) == (60, 100)
    assert [record.id for record in own.records] == ["capture", "other", "new"]
    assert own.records[0].values == {"gain": 0}
    assert next(d for d in rig.devices if d.id == "main").number("gain") == 100, "the rig's own train keeps its own"
    assert json.loads(to_bytes(rig))["variants"][0]["devices"]["main"]["gain"]["value"] == 0
    assert evaluate(own).rows["main.gain"].stated.value == 0


@pytest.mark.parametrize(
    ("path", "wanted"),
    [
        (("devices", 0, "settings", "gain", "value"), ("variants", 0, "devices", "main", "gain", "value")),
        (("devices", 0, "settings", "offset", "value"), ("devices", 0, "settings", "offset", "value")),
        (("devices", 0, "name"), ("devices", 0, "name")),
        (("plan", "exposure_s"), ("variants", 0, "plan", "exposure_s")),
        (("plan", "frames"), ("plan", "frames")),
        (("records", 0, "values", "gain"), ("records", 0, "values", "gain")),
        (("records", 1, "values", "gain"), ("variants", 0, "records", 1, "values", "gain")),
        (("records", 2, "name"), ("variants", 0, "records", 0, "name")),
        (("records", 3, "name"), ("records", 3, "name")),
    ],
)
def test_an_edit_goes_where_its_value_stands(path, wanted):
    new = {"id": "new", "name": "New", "values": {}}
    found = document(devices={"main": {"gain": {"value": 0}}}, plan={"exposure_s": 60}, records=[new, RECORDS[1]])
    rig = validated(found)
    assert document_path(rig, "native", path) == wanted
    assert document_path(rig, None, path) == path


def test_marks_of_what_is_set_otherwise_do_not_hold_for_it():
    found = document(devices={"main": {"gain": {"value": 0}}}, plan={"exposure_s": 60})
    found["assumed"] = ["devices[0].settings.gain.value", "devices[0].settings.offset.value", "plan.exposure_s"]
    assert shown(found).assumed == ("devices[0].settings.offset.value",)
    assert validated(found).assumed == tuple(found["assumed"])


@pytest.mark.parametrize(
    ("own", "words"),
    [
        ({"devices": {"nobody": {"gain": {"value": 1}}}}, "which is no device of the rig"),
        ({"devices": {"main": {"gain": {"value": "much"}}}}, "must be a plain number"),
        ({"plan": {"nonsense": 1}}, "Extra inputs"),
        ({"plan": {"exposure_s": -1}}, "greater than 0"),
        ({"records": [{"id": "x"}]}, "name"),
    ],
)
def test_what_no_rig_could_have_is_refused_in_a_line(own, words):
    with pytest.raises(InputError, match=words) as caught:
        validated(document(**own))
    assert "variants" in str(caught.value)
    assert "\n" not in str(caught.value)


def test_copies_of_what_is_shared_change_nothing():
    rig = validated(document())
    apart = edit.apply(rig, edit.Change("x", own_settings_of(rig, 0)))
    assert apart.variants[0].sets_otherwise
    before, after = (variant_rig(own, "native") for own in (rig, apart))
    assert (after.devices, after.plan) == (before.devices, before.plan)
    place = document_path(apart, "native", ("devices", 0, "settings", "gain", "value"))
    changed = edit.apply(apart, edit.Change.of("x", place, 7))
    assert next(d for d in variant_rig(changed, "native").devices if d.id == "main").number("gain") == 7
    assert next(d for d in changed.devices if d.id == "main").number("gain") == 100


def test_a_switch_lists_what_is_typed_where(tmp_path, capsys):
    path = tmp_path / "a.rig.json"
    path.write_text(json.dumps(document(devices={"main": {"gain": {"value": 0}}})), "utf-8")
    name = clean_document()["name"]
    main(["typing", str(path), "--variant", "native", "--from", name, "--json"])
    rows = {row["quantity"]: row["type_this"] for page in json.loads(capsys.readouterr().out) for row in page["rows"]}
    assert rows["main.gain"] == "0"
    assert rows["effective_focal_length_mm"].startswith("676")
    assert main(["typing", str(path), "--from", name, "--json"]) == 0
    assert json.loads(capsys.readouterr().out) == []
    assert main(["typing", str(path), "--from", "nowhere"]) == 2
    assert capsys.readouterr().err.count("\n") == 1

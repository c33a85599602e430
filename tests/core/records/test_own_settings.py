"""Settings of the imager's own behave as built-in ones: matrix, pages, key maps, findings, differences, dossier."""

import json

import pytest

from tests.rigs import clean_document
from wyntaxis.cli import main
from wyntaxis.core.dossier.typing_pages import typing_pages
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.evidence.foreign.keymap import KeyRule
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.records.mapping import apply_map
from wyntaxis.core.records.quantities import comparables
from wyntaxis.core.rig import store
from wyntaxis.core.rig.own_settings import as_typed
from wyntaxis.core.rig.store import document_of, validated

BUFFER = {"name": "Frame buffer", "value": 8, "unit": "MB", "why": "drops off the bus with 16", "allowed": [4, 8]}
MODE = {"name": "Mode", "value": "slow", "allowed": ["slow", "fast"]}
QUIET = {"name": "Quiet", "value": True}


def document_with(*on_camera, on_program=(), on_part=()):
    document = clean_document()
    next(d for d in document["devices"] if d["id"] == "main")["own_settings"] = list(on_camera)
    program = {"id": "cap", "name": "Frametaker", "roles": ["capture"], "own_settings": list(on_program)}
    document["programs"] = [program]
    document["train"][0]["own_settings"] = list(on_part)
    return document


@pytest.mark.parametrize(
    ("typed", "value"),
    [
        ("8", 8.0), ("-2.5", -2.5), ("−2.5", -2.5), ("2,5", 2.5), ("yes", True), ("Off", False),
        ("2.10", "2.10"), ("007", "007"), ("slow", "slow"), (8, 8), (True, True), ("1e5", "1e5"),
    ],
)  # fmt: skip
def test_what_is_typed_becomes_what_it_is(typed, value):
    found = as_typed(typed)
    assert found == value
    assert type(found) is type(value)


@pytest.mark.parametrize(
    ("setting", "verdict", "words"),
    [
        (BUFFER, Verdict.HOLDS, "within"),
        (BUFFER | {"value": 4}, Verdict.HOLDS, "within"),
        (BUFFER | {"value": 8.01}, Verdict.FAILS, "Frame buffer is 8.01 MB, allowed 4 to 8 MB"),
        (BUFFER | {"value": 3.99}, Verdict.FAILS, "allowed 4 to 8 MB"),
        (MODE, Verdict.HOLDS, "within"),
        (MODE | {"value": "middling"}, Verdict.FAILS, "Mode is middling, allowed slow, fast"),
        (QUIET, None, ""),
    ],
)
def test_what_it_may_be_is_judged(setting, verdict, words):
    found = [f for f in evaluate(validated(document_with(setting))).findings if f.id == "own_settings.allowed"]
    assert [f.verdict for f in found] == ([] if verdict is None else [verdict])
    assert all(words in f.title for f in found)
    if verdict is Verdict.FAILS and setting["name"] == "Frame buffer":
        assert found[0].subject == "main"
        assert "drops off the bus" in found[0].as_json()["remedy"]


def test_they_stand_in_matrix_pages_and_key_maps():
    document = document_with(BUFFER, MODE, QUIET, on_program=[QUIET | {"name": "Beep"}], on_part=[MODE])
    keys = ("main.own.frame_buffer", "main.own.mode", "main.own.quiet", "program.cap.own.beep")
    rig = validated(document)
    known = comparables(evaluate(rig))
    part = f"part.{rig.train[0].id}.own.mode"
    assert {key: known[key].value for key in (*keys, part)} == {
        keys[0]: 8, keys[1]: "slow", keys[2]: True, keys[3]: True, part: "slow",
    }  # fmt: skip
    assert known[keys[0]].unit == "MB"
    page = next(page for page in typing_pages(evaluate(rig)) if page.id == "cap")
    assert set(keys) <= {line.quantity for line in page.lines}, "the camera's, and its own"
    rules = [KeyRule(path="buf", quantity=keys[0], unit="kB"), KeyRule(path="mode", quantity=keys[1])]
    found = apply_map(rules, {"buf": "16000", "mode": "slow"}, known)
    assert found.values == {keys[0]: 16.0, keys[1]: "slow"}
    document["records"] = [{"id": "r", "name": "R", "program": "cap", "values": found.values}]
    rows = {row.item.id: row.cells[0] for row in evaluate(validated(document)).matrix.rows}
    assert (rows[keys[0]].state, rows[keys[1]].state) == ("differs", "agrees")


def test_they_survive_the_file_its_history_and_the_dossier(tmp_path, capsys):
    path = tmp_path / "a.rig.json"
    path.write_text(json.dumps(document_with(BUFFER)), "utf-8")
    stored = store.load(path).rig
    assert document_of(stored)["devices"] == document_of(validated(document_with(BUFFER)))["devices"]
    other = tmp_path / "b.rig.json"
    other.write_text(json.dumps(document_with(BUFFER | {"value": 6})), "utf-8")
    main(["differ", str(path), str(other), "--json"])
    assert "own_settings" in capsys.readouterr().out
    main(["dossier", str(path), "--out", str(tmp_path / "d.html")])
    page = (tmp_path / "d.html").read_text("utf-8")
    assert "Frame buffer" in page
    assert "drops off the bus with 16" in page


def test_two_of_one_name_are_refused():
    with pytest.raises(InputError, match="is there twice"):
        validated(document_with(MODE, MODE | {"name": "mode "}))

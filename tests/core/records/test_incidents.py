"""Incidents: found by words, symptom and device, told beside findings, printed, and left out of what is private."""

import json

import pytest

from tests.rigs import clean_document
from wyntaxis.cli import main
from wyntaxis.core.dossier.private import without_private
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.records.incidents import in_a_line, incidents_about, matching, title_of
from wyntaxis.core.rig.store import document_of, validated

OLD = {
    "date": "2026-03-01T22:10:00Z", "device": "main", "symptom": "the device is not there",
    "tried": "another port", "cure": "a shorter cable", "frames_lost": 12,
}  # fmt: skip
NEW = {"date": "2026-11-02", "device": "glide", "symptom": "defocused stars", "tried": "rough focus"}
STEP = {"date": "2026-10-02", "step": "rehearsal", "symptom": "it rained in", "cure": "Waxed the hinge"}


def rig_with(*incidents):
    return validated(clean_document() | {"incidents": list(incidents)})


@pytest.mark.parametrize(
    ("words", "found"),
    [
        ((), ["2026-11-02", "2026-10-02", "2026-03-01T22:10:00Z"]),
        (("CABLE",), ["2026-03-01T22:10:00Z"]),
        (("pellucid grand",), ["2026-03-01T22:10:00Z"]),  # the device as people call it
        (("not there", "shorter"), ["2026-03-01T22:10:00Z"]),
        (("defocused",), ["2026-11-02"]),
        (("wax", "rain"), ["2026-10-02"]),
        (("2026-1",), ["2026-11-02", "2026-10-02"]),
        (("cable", "rain"), []),
    ],
)
def test_incidents_are_found_by_any_of_their_words(words, found):
    rig = rig_with(OLD, NEW, STEP)
    assert [incident.date for incident in matching(rig, words)] == found


def test_an_incident_is_told_in_a_line_and_of_what_it_is():
    rig = rig_with(OLD, NEW, STEP)
    (old,) = incidents_about(rig, "main")
    assert in_a_line(old) == "2026-03-01: the device is not there; cured by: a shorter cable; 12 frames lost"
    (new,) = incidents_about(rig, "glide")
    assert in_a_line(new) == "2026-11-02: defocused stars; tried without a cure: rough focus"
    assert [title_of(rig, own) for own in rig.incidents] == ["Pellucid Grand", "Glide motor", "rehearsal"]
    gone = rig_with(OLD | {"device": "sold_camera"})
    assert title_of(gone, gone.incidents[0]) == "sold camera", "what was sold keeps its incidents"


def test_an_incident_is_of_one_thing():
    with pytest.raises(InputError, match="name one of them"):
        rig_with(OLD | {"step": "ready"})


def test_the_command_prints_what_matches(tmp_path, capsys):
    path = tmp_path / "a.rig.json"
    path.write_text(json.dumps(clean_document() | {"incidents": [OLD, NEW, STEP]}), "utf-8")
    assert main(["incidents", str(path), "--json"]) == 0
    assert len(json.loads(capsys.readouterr().out)) == 3
    assert main(["incidents", str(path), "shorter", "cable", "--json"]) == 0
    assert json.loads(capsys.readouterr().out) == [OLD]
    assert main(["incidents", str(path), "rain"]) == 0
    assert "Waxed the hinge" in capsys.readouterr().out
    assert main(["incidents", str(path), "nothing like it"]) == 0
    assert "No incident matches" in capsys.readouterr().out


def test_the_dossier_has_their_chapter_and_a_private_one_no_hosts(tmp_path):
    path = tmp_path / "a.rig.json"
    told = OLD | {"tried": "moved hut-nuc.local/home/mara to PG-1"}
    document = clean_document() | {"incidents": [told], "observer": "Mara Lindqvist"}
    path.write_text(json.dumps(document), "utf-8")
    assert main(["dossier", str(path), "--out", str(tmp_path / "d.html")]) == 0
    page = (tmp_path / "d.html").read_text("utf-8")
    assert "a shorter cable" in page
    private, secrets = without_private(validated(document))
    text = secrets.scrub(json.dumps(document_of(private)), is_note=True)
    assert "PG-1" not in text
    assert "a shorter cable" in text

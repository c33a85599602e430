"""A rig file to give to others holds no secret, wherever it stood, and every other number."""

import copy
import io
import json
import re
import zipfile

import pytest

from tests.core.dossier.test_dossier import SECRETS, private_document
from wyntaxis.cli import main
from wyntaxis.core.dossier.private_rig import private_rig
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.rig.store import document_of, load, to_bytes, validated
from wyntaxis.demo import rig_path

GONE = ("site", "framing", "photos", "corrections")


def numbers(node):
    """All numbers of a document with their places, but of what is left out."""
    if isinstance(node, dict):
        for key, value in node.items():
            if key not in GONE and not str(key).startswith("site."):
                yield from ((key, *place) for place in numbers(value))
    elif isinstance(node, list):
        for index, value in enumerate(node):
            yield from ((index, *place) for place in numbers(value))
    elif isinstance(node, int | float) and not isinstance(node, bool):
        yield (float(node),)


def text_places(node, place=()):
    if isinstance(node, dict | list):
        for key, value in node.items() if isinstance(node, dict) else enumerate(node):
            yield from text_places(value, (*place, key))
    elif isinstance(node, str):
        yield place


def put(document, place, word):
    """The document with a word behind the text of a place."""
    changed = copy.deepcopy(document)
    node = changed
    for key in place[:-1]:
        node = node[key]
    node[place[-1]] = f"{node[place[-1]]} {word}"
    return changed


def held_in(data):
    """The secrets that a file holds, as words of their own."""
    text = data.decode().casefold()
    return [secret for secret in SECRETS if re.search(rf"(?<![a-z0-9]){re.escape(secret)}(?![a-z0-9])", text)]


def is_rig(document):
    try:
        return bool(validated(document))
    except InputError:
        return False


@pytest.mark.parametrize("source", ["private", "meadow-newtonian"])
def test_a_secret_in_any_text_is_left_out_and_no_number_is_changed(source):
    document = private_document() if source == "private" else document_of(load(rig_path(source)).rig)
    document["observer"], document["site"]["name"] = "Jo Eldridge", "Tarnfell"
    for place in list(text_places(document)):
        changed = put(document, place, "Tarnfell")
        if is_rig(changed):
            document = changed
    text = to_bytes(private_rig(validated(document))).decode()
    assert "tarnfell" not in text.casefold()
    assert "eldridge" not in text.casefold()
    kept = [place for place in numbers(document) if place[:2] != ("plan", "targets")]
    assert sorted(map(str, numbers(json.loads(text)))) == sorted(map(str, kept))


def test_a_private_rig_is_whole_and_names_none():
    document = private_document()
    aim = {"ra_deg": 63.51, "dec_deg": 40.02}
    document["plan"]["targets"] = [{"name": "Lantern knot", **aim}]
    train = [part["id"] for part in document["train"] if part["kind"] != "corrector"]
    framing = {"name": "Lantern knot", "position_angle_deg": 20.0, **aim}
    own = {"plan": {"targets": [{"name": "Lantern knot", **aim}]}, "framing": framing}
    document["variants"] = [{"name": "native", "train": train, **own}]
    document["photos"] = [{"file": "front.jpg", "caption": "the pier"}]
    bare = private_rig(validated(document))
    assert bare.photos == (), "where a photograph was taken is in it"
    written = to_bytes(bare)
    assert held_in(written) == []
    assert b"63.51" not in written, "what one looks at says when and where from"
    assert b"Lantern" not in written
    assert validated(json.loads(written)) == bare
    assert {"site.latitude_deg", "site.longitude_deg"} <= set(bare.assumed), "a place of no meaning verifies nothing"


def test_ids_that_name_a_secret_are_replaced_everywhere_and_kinds_stay():
    document = private_document()
    document["site"]["name"] = "camera"
    document["devices"][0]["id"] = "hut-box-camera"
    document["train"][4]["id"] = "camera"
    document["devices"][0]["part"] = "camera"
    document["assumed"] = ["devices.hut-box-camera.settings.gain.value"]
    if not is_rig(document):
        document["assumed"] = ["devices[0].settings.gain.value"]
    bare = private_rig(validated(document))
    assert bare.devices[0].kind == "camera"
    assert bare.devices[0].part == bare.train[4].id != "camera"
    assert "hut-box" not in bare.devices[0].id


def test_ids_that_are_nothing_but_a_secret_stay_apart():
    document = private_document()
    document["train"][2]["id"], document["train"][3]["id"] = "Tarnfell", "tarnfell"
    document["devices"][2]["part"] = "Tarnfell"
    bare = private_rig(validated(document))
    assert len({part.id for part in bare.train}) == len(bare.train)
    assert bare.devices[2].part == bare.train[2].id


def test_the_command_writes_a_rig_and_a_zip_without_secrets(tmp_path):
    path = tmp_path / "a.rig.json"
    path.write_text(json.dumps(private_document()), "utf-8")
    assert main(["dossier", str(path), "--private", "--out", str(tmp_path / "b.rig.json")]) == 0
    assert load(tmp_path / "b.rig.json").rig.observer is None
    assert main(["dossier", str(path), "--private", "--out", str(tmp_path / "b.zip")]) == 0
    with zipfile.ZipFile(io.BytesIO((tmp_path / "b.zip").read_bytes())) as packed:
        assert not any("history" in name or "photographs" in name for name in packed.namelist())
        for name in packed.namelist():
            assert held_in(packed.read(name)) == [], name
    assert main(["unpack", str(tmp_path / "b.zip"), "--out", str(tmp_path / "out")]) == 0

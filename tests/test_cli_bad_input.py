"""Whatever a command is given, it answers with one clear line and exit code 2, and touches nothing."""

import json
import os

import pytest

from tests.core.evidence.test_headers import write
from tests.rigs import clean_document, clean_tree
from wyntaxis.cli import main
from wyntaxis.simulators.camera import SimulatedCamera, cooling_csv, cooling_run
from wyntaxis.simulators.usb import make_tree


@pytest.fixture
def place(tmp_path, monkeypatch):
    """A folder with a good rig, a good frame, a good log, a good tree, and things that are none of them."""
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "own"))
    (tmp_path / "good.rig.json").write_text(json.dumps(clean_document()), "utf-8")
    (tmp_path / "broken.rig.json").write_text("{", "utf-8")
    (tmp_path / "noise.rig.json").write_bytes(os.urandom(500))
    (tmp_path / "other.rig.json").write_text('{"format": "other"}', "utf-8")
    document = clean_document()
    document["devices"][0]["settings"]["gian"] = {"value": 1}
    (tmp_path / "misspelt.rig.json").write_text(json.dumps(document), "utf-8")
    write(tmp_path / "frames" / "a.fits")
    (tmp_path / "empty").mkdir()
    (tmp_path / "torn").mkdir()
    (tmp_path / "torn" / "a.fits").write_bytes(b"SIMPLE  =")
    (tmp_path / "log.csv").write_text(cooling_csv(cooling_run(SimulatedCamera(), ambient_c=18, target_c=-10)), "utf-8")
    (tmp_path / "words.csv").write_text("a,b\nc,d\n", "utf-8")
    (tmp_path / "zero.csv").write_bytes(b"\x00" * 100)
    (tmp_path / "profile.json").write_text('{"gain": 1}', "utf-8")
    make_tree(tmp_path / "root", clean_tree())
    return tmp_path


BAD = [
    ("numbers", ["none.rig.json"], "none.rig.json: cannot be read"),
    ("numbers", ["."], "is a folder"),
    ("check", ["noise.rig.json"], "noise.rig.json"),
    ("check", ["other.rig.json"], 'format: must be "wyntaxis-rig"'),
    ("check", ["good.rig.json", "--variant", "none"], 'no variant "none"'),
    ("records", ["broken.rig.json"], "broken JSON at line 1"),
    ("records", ["misspelt.rig.json"], "devices[0]: settings.gian: is no setting of kind camera; did you mean gain?"),
    ("records", ["good.rig.json", "--with", "none.json"], "none.json: cannot be read"),
    ("records", ["good.rig.json", "--with", "noise.rig.json"], "noise.rig.json"),
    ("records", ["good.rig.json", "--with", "profile.json"], "no saved key map suits it"),
    ("records", ["good.rig.json", "--with", "profile.json", "--map", "x"], 'no key map "x"'),
    ("headers", ["good.rig.json", "none"], "is not there"),
    ("headers", ["good.rig.json", "log.csv"], "is no folder"),
    ("headers", ["good.rig.json", "empty"], "holds no FITS files"),
    ("headers", ["broken.rig.json", "frames"], "broken JSON"),
    ("ports", ["--sysfs", "empty"], "no USB bus"),
    ("ports", ["--sysfs", "log.csv"], "no USB bus"),
    ("ports", ["--sysfs", "root", "broken.rig.json"], "broken JSON"),
    ("ready", ["none.rig.json"], "cannot be read"),
    ("ready", ["good.rig.json", "--frames", "empty"], "holds no FITS files"),
    ("ready", ["good.rig.json", "--sysfs", "empty"], "no USB bus"),
    ("sensor", ["good.rig.json", "none"], "is not there"),
    ("sensor", ["good.rig.json", "empty"], "holds no FITS files"),
    ("sensor", ["good.rig.json", "torn"], "holds no frame of a known kind"),
    ("sensor", ["noise.rig.json", "frames"], "noise.rig.json"),
    ("cooling", ["good.rig.json", "none.csv"], "none.csv: cannot be read"),
    ("cooling", ["good.rig.json", "empty"], "is a folder"),
    ("cooling", ["good.rig.json", "words.csv"], "words.csv: holds 1 rows"),
    ("cooling", ["good.rig.json", "zero.csv"], "zero.csv: holds NUL bytes"),
    ("cooling", ["good.rig.json", "log.csv", "--map", "x"], 'no key map "x"'),
    ("footprint", ["good.rig.json", "--at", "nowhere"], "no pair of coordinates"),
    ("footprint", ["good.rig.json", "--at", "Sh2-155"], "not in the catalogue"),
    ("scale", ["good.rig.json"], "one of the three"),
    ("scale", ["good.rig.json", "none.fits"], "none.fits: cannot be read"),
    ("scale", ["good.rig.json", "frames/a.fits"], "holds no solved field"),
    ("scale", ["good.rig.json", "--typed", "0"], "--typed: the scale must be above 0"),
    ("scale", ["good.rig.json", "--typed", "nan"], "--typed: the scale must be above 0"),
    ("scale", ["good.rig.json", "--typed", "1.5", "--binning", "0"], "--binning: must lie"),
    ("scale", ["good.rig.json", "--stars", "1,2,3", "4,5,6,7"], "“1,2,3” is no star"),
    ("scale", ["good.rig.json", "--stars", "1,2,3,95", "4,5,6,7"], "the declination must lie"),
    ("scale", ["good.rig.json", "--stars", "1,2,3,4", "1,2,3,4"], "at least one pixel apart"),
    ("night", ["good.rig.json", "--at", "nowhere"], "no pair of coordinates"),
    ("night", ["good.rig.json", "--at", "10 20", "--date", "soon"], "“soon” is no date"),
    ("night", ["good.rig.json", "--at", "10 20", "--date", "1900-01-01"], "choose a date from 1973"),
    ("night", ["good.rig.json"], "--at: say where"),
    ("paths", ["none.json"], "none.json: cannot be read"),
    ("paths", ["profile.json", "--rig", "broken.rig.json"], "broken JSON"),
    ("map", ["own", "gain"], "“gain” is no rule"),
    ("map", ["own", "gain=main.gain:parsec"], "“parsec” is no unit"),
    ("map", ["own", "gain=main.gian", "--rig", "good.rig.json"], "nothing that this rig knows"),
    ("map", [" ", "gain=main.gain"], "NAME: must be"),
    ("footprint", ["good.rig.json", "--at", "1 2", "--angle", "inf"], "must be a number"),
    ("footprint", ["good.rig.json", "--at", "1 2", "--object", "NGC 99999"], "is not in the catalogue"),
]


@pytest.mark.parametrize("command, arguments, words", BAD, ids=[f"{c} {' '.join(a)}" for c, a, _ in BAD])
@pytest.mark.parametrize("form", [[], ["--json"]], ids=["text", "json"])
def test_one_line_and_exit_2(place, monkeypatch, capsys, command, arguments, words, form):
    monkeypatch.chdir(place)
    before = sorted(path.name for path in place.iterdir())
    assert main([command, *arguments, *form]) == 2
    out, err = capsys.readouterr()
    assert out == ""
    assert err.startswith("wyntaxis: ")
    assert err.count("\n") == 1, err
    assert words in err
    assert "Traceback" not in err
    assert sorted(path.name for path in place.iterdir()) == before


GOOD = [
    ("numbers", ["good.rig.json"], 0),
    ("check", ["good.rig.json"], 0),
    ("records", ["good.rig.json"], 0),
    ("headers", ["good.rig.json", "frames"], 1),  # its light lacks partners
    ("ports", ["--sysfs", "root"], 0),
    ("ports", ["--sysfs", "root", "good.rig.json"], 1),  # 16 MB of USB memory
    ("ready", ["good.rig.json"], 0),
    ("cooling", ["good.rig.json", "log.csv", "--target", "-10"], 0),
    ("footprint", ["good.rig.json", "--at", "333.8 49.9", "--angle", "20"], 0),
    ("scale", ["good.rig.json", "--typed", "1.566", "--u", "0.002"], 0),
    ("scale", ["good.rig.json", "--typed", "1.19", "--u", "0.002"], 1),
    ("night", ["good.rig.json", "--at", "333.8 49.9", "--date", "2026-11-26"], 0),
    ("paths", ["profile.json"], 0),
]


@pytest.mark.parametrize("command, arguments, code", GOOD, ids=[f"{c} {' '.join(a)}" for c, a, _ in GOOD])
def test_both_forms_say_the_same_with_the_same_code(place, monkeypatch, capsys, command, arguments, code):
    monkeypatch.chdir(place)
    assert main([command, *arguments]) == code
    text, err = capsys.readouterr()
    assert text
    assert err == ""
    assert main([command, *arguments, "--json"]) == code
    found = json.loads(capsys.readouterr().out)
    assert found
    json.dumps(found, allow_nan=False)


def test_device_numbers_stand_in_the_ledger(place, capsys):
    assert main(["numbers", str(place / "good.rig.json"), "--json"]) == 0
    rows = {row["id"]: row for row in json.loads(capsys.readouterr().out)}
    assert rows["main.gain"] == {
        "id": "main.gain",
        "label": "Pellucid Grand: gain",
        "unit": "",
        "stated": 100.0,
        "computed": None,
        "measured": None,
        "uncertainty": None,
        "verdict": "unproven",
    }
    assert rows["main.set_temperature_c"]["measured"] == -9.9
    assert rows["main.set_temperature_c"]["verdict"] == "holds"

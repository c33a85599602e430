"""The command line as scripts see it."""

import json
import subprocess
import sys

import pytest

from wyntaxis import demo
from wyntaxis.cli import main
from wyntaxis.core.quantity_kinds import QUANTITY_KINDS
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.shelf import STARTER


def test_numbers_json(example_file, capsys):
    assert main(["numbers", str(example_file), "--json"]) == 0
    rows = {row["id"]: row for row in json.loads(capsys.readouterr().out)}
    assert list(rows)[: len(QUANTITY_KINDS)] == list(QUANTITY_KINDS)
    assert rows["wheel.corner_light_percent"]["verdict"] == "holds"
    keys = {"id", "label", "unit", "stated", "computed", "measured", "uncertainty", "verdict"}
    assert all(set(row) == keys for row in rows.values())
    row = rows["back_focus_error_mm"]
    assert (row["computed"], row["verdict"], row["stated"]) == (pytest.approx(0.7157895), "fails", None)


def test_numbers_and_check_in_words(example_file, capsys):
    assert main(["numbers", str(example_file)]) == 0
    out = capsys.readouterr().out
    assert "Effective focal length" in out
    assert "513.76" in out
    assert main(["check", str(example_file)]) == 1
    out = capsys.readouterr().out
    assert "FAILS     spacing.main: The sensor is 0.72 mm too far from Aldous 0.76x" in out
    assert "→ Shorten ring 12.9" in out


def test_check_json_and_exit_codes(example, tmp_path, capsys):
    path = tmp_path / "a.rig.json"
    path.write_text(json.dumps(example), "utf-8")
    assert main(["check", str(path), "--json"]) == 1
    found = json.loads(capsys.readouterr().out)
    keys = {"id", "verdict", "subject", "title", "arithmetic", "remedy", "source"}
    assert all(set(finding) == keys for finding in found)
    example["train"][3]["length_mm"] = 12.18
    example["guiding"]["path"][1]["adjustable"]["set_mm"] = 28.5
    path.write_text(json.dumps(example), "utf-8")
    assert main(["check", str(path)]) == 0


def test_schema_describes_the_contract(example, capsys):
    assert main(["schema"]) == 0
    schema = json.loads(capsys.readouterr().out)
    assert schema["$schema"].startswith("https://json-schema.org/")
    assert set(example) <= set(schema["properties"])
    assert schema["additionalProperties"] is False
    Rig.model_validate(example)


def test_as_a_program(example_file, tmp_path):
    def run(*arguments, **environment):
        return subprocess.run(
            [sys.executable, "-m", "wyntaxis", *arguments],
            capture_output=True,
            text=True,
            env={"PATH": "/usr/bin:/bin", "HOME": str(tmp_path), **environment},
            check=False,
        )

    assert run("--version").stdout.startswith("wyntaxis ")
    assert run("numbers").returncode == 2
    no_screen = run("--demo")
    assert no_screen.returncode == 2
    assert "there is no screen" in no_screen.stderr
    shown = run("--demo", "--screenshot", str(tmp_path / "shots"), "--view", "shelf-search")
    assert shown.returncode == 0, shown.stderr
    assert shown.stderr == ""
    assert [path.name for path in (tmp_path / "shots").iterdir()] == ["shelf-search.png"]
    assert (tmp_path / "shots" / "shelf-search.png").stat().st_size > 20_000
    unknown = run("--demo", "--screenshot", str(tmp_path / "shots"), "--view", "moon")
    assert (unknown.returncode, unknown.stderr.count("\n")) == (2, 1)
    assert run("--demo", "--screenshot", str(example_file)).returncode == 2


def test_spacers_and_variants(capsys, tmp_path, monkeypatch):
    demo_rig = str(demo.rig_path("tarnfell-triplet-reduced"))
    assert main(["spacers", demo_rig, "--shelf", str(STARTER), "--json"]) == 0
    found = json.loads(capsys.readouterr().out)
    assert found["fits"]
    assert found["sets"][0]["pieces"] == [
        {"after": "wheel", "id": "m42mm_12_2", "name": "M42 ring 12.2, male both ends", "length_mm": 12.2}
    ]
    (tmp_path / "few.csv").write_text("id,kind,length_mm\n", "utf-8")
    pins = ["--after", "wheel"]
    assert main(["spacers", demo_rig, "--shelf", str(tmp_path / "few.csv"), *pins]) == 1
    out = capsys.readouterr().out
    assert "nothing fits" in out
    assert "→ one ring of 12.18 mm between Rondel 7 and Pellucid Grand" in out
    assert main(["numbers", demo_rig, "--variant", "Tarnfell triplet, native", "--json"]) == 0
    rows = {row["id"]: row["computed"] for row in json.loads(capsys.readouterr().out)}
    assert rows["effective_focal_length_mm"] == 676
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    (tmp_path / "wyntaxis").mkdir()
    (tmp_path / "wyntaxis" / "shelf.json").write_text("{", "utf-8")
    assert main(["check", demo_rig, "--json"]) == 1
    entries = capsys.readouterr()
    assert "checked without your shelf" in entries.err
    assert json.loads(entries.out)
    for bad in (["--variant", "x"], ["--shelf", str(tmp_path / "none.json")]):
        assert main(["check", demo_rig, *bad]) == 2
        err = capsys.readouterr().err
        assert err.count("\n") == 1


def test_footprint(example_file, capsys):
    assert main(["footprint", str(example_file), "--at", "22 15 09 +49 54 00", "--angle", "20", "--json"]) == 0
    found = json.loads(capsys.readouterr().out)
    assert found["center"] == {"ra_deg": 333.7875, "dec_deg": 49.9}
    assert (len(found["corners"]), found["position_angle_deg"]) == (4, 20)
    command = ["footprint", str(example_file), "--at", "NGC 7243", "--object", "IC 5068"]
    assert main(command) == 0
    assert "1 × 1 for IC 5068" in capsys.readouterr().out
    assert main([*command, "--csv"]) == 0
    assert capsys.readouterr().out.startswith("rig,point,ra_deg")
    for arguments, words in (
        ([], "--at: say where"),
        (["--at", "here"], "--at: “here” is no pair"),
        (["--at", "1 1", "--object", "none such"], "--object"),
        (["--at", "1 1", "--angle", "nan"], "--angle"),
        (["--at", "1 1", "--object", "IC 5068", "--overlap", "1"], "--overlap"),
    ):
        assert main(["footprint", str(example_file), *arguments]) == 2
        assert words in capsys.readouterr().err

"""The commands on records, frame headers, ports, readiness and the bench, as scripts see them."""

import json
from pathlib import Path

import pytest

from tests.core.evidence.test_headers import write
from tests.rigs import clean_document, clean_tree
from wyntaxis.cli import main
from wyntaxis.core.evidence.foreign.keymap import KeyMap, KeyMaps, KeyRule, save_maps
from wyntaxis.simulators.camera import BenchSession, SimulatedCamera, cooling_csv, cooling_run
from wyntaxis.simulators.usb import make_tree


@pytest.fixture
def rig_file(tmp_path):
    path = tmp_path / "clean.rig.json"
    path.write_text(json.dumps(clean_document()), "utf-8")
    return str(path)


def out_json(capsys):
    return json.loads(capsys.readouterr().out)


def test_records(rig_file, capsys, tmp_path, monkeypatch):
    assert main(["records", rig_file, "--json"]) == 0
    found = out_json(capsys)
    assert [record["id"] for record in found["records"]] == ["client", "server"]
    row = next(row for row in found["quantities"] if row["id"] == "main.gain")
    assert (row["rig"], row["records"]["client"]["state"], row["records"]["server"]["value"]) == (100, "agrees", 100)
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    (tmp_path / "guider.ini").write_text("[scope]\nfocal = 676\n", "utf-8")
    asked = ["records", rig_file, "--with", str(tmp_path / "guider.ini")]
    assert main(asked) == 2
    assert "no saved key map suits it" in capsys.readouterr().err
    rule = KeyRule(path="scope.focal", quantity="effective_focal_length_mm")
    maps = KeyMaps(maps=(KeyMap(name="guide program", form="ini", rules=(rule,)),))
    save_maps(maps, tmp_path / "wyntaxis" / "key-maps.json")
    assert main(asked) == 1
    assert "676 (1.316 times, 1/0.76: the reducer Aldous 0.76x is missing)" in capsys.readouterr().out


def test_headers(rig_file, capsys, tmp_path):
    frames = tmp_path / "frames"
    write(frames / "a.fits", FOCALLEN=676.0)
    assert main(["headers", rig_file, str(frames), "--json"]) == 1
    found = out_json(capsys)
    assert {check["keyword"]: check["verdict"] for check in found["checks"]}["FOCALLEN"] == "fails"
    assert [lack["lacks"] for lack in found["lacking"]] == ["dark", "flat", "bias"]
    assert main(["headers", rig_file, str(frames)]) == 1
    assert "the reducer Aldous 0.76x is missing" in capsys.readouterr().out
    assert main(["headers", rig_file, str(frames), "--csv"]) == 1
    assert capsys.readouterr().out.startswith("path,kind,camera,")
    assert main(["headers", rig_file, str(tmp_path / "none")]) == 2
    assert capsys.readouterr().err.count("\n") == 1


def test_ports_and_ready(rig_file, capsys, tmp_path):
    root = str(make_tree(tmp_path / "root", clean_tree(), usbfs_memory_mb=256))
    assert main(["ports", "--sysfs", root]) == 0
    assert "  1-1" in capsys.readouterr().out
    assert main(["ports", "--sysfs", root, rig_file, "--json"]) == 0
    found = out_json(capsys)
    assert next(one["device"] for one in found["devices"] if one["port"] == "2-1") == "main"
    assert {one["id"] for one in found["findings"]} >= {"ports.present", "ports.suspend", "ports.speed"}
    assert main(["ready", rig_file, "--sysfs", root, "--json"]) == 0
    stands = {row["id"]: row["verdict"] for row in out_json(capsys)}
    assert (stands["awake"], stands["calibration"]) == ("holds", "unproven")
    assert main(["ready", rig_file]) == 0
    assert "UNPROVEN  No device can fall asleep" in capsys.readouterr().out
    write(tmp_path / "frames" / "a.fits", GAIN=0)
    assert main(["ready", rig_file, "--frames", str(tmp_path / "frames")]) == 1
    assert "Not ready" in capsys.readouterr().out
    assert main(["ports", "--sysfs", str(tmp_path / "none")]) == 2
    assert "no USB bus" in capsys.readouterr().err


def test_sensor(rig_file, capsys, tmp_path):
    session = BenchSession(SimulatedCamera(width=128, height=96), tmp_path / "bench")
    session.add("bias", 2, gain=100.0)
    for share in (0.1, 0.25, 0.4, 0.55, 1.2):
        session.add("flat", 2, gain=100.0, exposure_s=10 * share, light_e_s=5000.0)
    assert main(["sensor", rig_file, str(tmp_path / "bench"), "--json"]) == 0
    found = out_json(capsys)
    assert found["gains"][0]["conversion_gain_e_adu"]["value"] == pytest.approx(1.012, rel=0.05)
    assert {one["id"]: one["verdict"] for one in found["findings"]}["camera.offset"] == "holds"
    assert main(["sensor", rig_file, str(tmp_path / "bench")]) == 0
    assert "e⁻/ADU" in capsys.readouterr().out
    (tmp_path / "empty").mkdir()
    assert main(["sensor", rig_file, str(tmp_path / "empty")]) == 2
    assert "holds no FITS files" in capsys.readouterr().err


def test_cooling(rig_file, capsys, tmp_path):
    paths = []
    for index, run in enumerate(({"full_power": True}, {"ramp_c_min": 2.0})):
        path = tmp_path / f"run{index}.csv"
        path.write_text(cooling_csv(cooling_run(SimulatedCamera(), ambient_c=18, target_c=-10, **run)), "utf-8")
        paths.append(str(path))
    assert main(["cooling", rig_file, *paths, "--json"]) == 0
    found = out_json(capsys)
    assert found["model"]["tau_min"]["value"] == pytest.approx(9, rel=0.01)
    assert {one["id"]: one["verdict"] for one in found["findings"]}["cooling.reserve"] == "holds"
    assert main(["cooling", rig_file, paths[1]]) == 0
    assert "a·τ" in capsys.readouterr().out
    assert main(["cooling", rig_file, str(tmp_path / "none.csv")]) == 2
    assert main(["cooling", rig_file, paths[0], "--map", "none"]) == 2
    assert 'there is no key map "none"' in capsys.readouterr().err


def test_a_key_map_is_made_and_used_without_the_window(rig_file, capsys, tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    program = tmp_path / "program.json"
    program.write_text('{"focal": "0.51376 m", "list": [{"name": "GAIN", "value": 7}]}', "utf-8")
    assert main(["paths", str(program), "--rig", rig_file, "--json"]) == 0
    paths = {row["path"]: row["value"] for row in out_json(capsys)["paths"]}
    assert paths == {"focal": "0.51376 m", "list[0].name": "GAIN", "list[name=GAIN].value": 7}
    rules = ["focal=effective_focal_length_mm:mm", "list[name=GAIN].value=main.gain"]
    assert main(["map", "program", *rules, "--rig", rig_file, "--json"]) == 0
    assert len(out_json(capsys)["rules"]) == 2
    assert main(["records", rig_file, "--with", str(program), "--map", "program", "--json"]) == 1
    rows = {row["id"]: row["records"]["program"] for row in out_json(capsys)["quantities"]}
    assert rows["effective_focal_length_mm"]["state"] == "agrees"
    assert (rows["main.gain"]["state"], rows["main.gain"]["value"]) == ("differs", 7)
    assert main(["map", "program", "list[name=GAIN].value=main.offset", "--add", "--json"]) == 0
    assert [rule["quantity"] for rule in out_json(capsys)["rules"]][-1] == "main.offset"


def test_the_scale_is_measured_and_kept(rig_file, capsys):
    """Two stars 0.4351° apart over 1000 px are 1.5663 ″/px: f = 206264.806 × 0.0039 / 1.5663 = 513.6 mm."""
    stars = ["2500,2000,100.0,0.0", "3500,2000,100.4351,0.0"]
    assert main(["scale", rig_file, "--stars", *stars, "--json"]) == 0
    found = out_json(capsys)
    assert found["scale_arcsec_px"]["value"] == pytest.approx(1.56636, abs=2e-5)
    assert found["focal_length_mm"]["value"] == pytest.approx(513.57, abs=0.02)
    assert found["focal_length_mm"]["u"] == pytest.approx(513.57 * 0.3 * 2**0.5 / 1000, rel=0.01)
    assert main(["scale", rig_file, "--typed", "1.566", "--u", "0.002", "--keep"]) == 0
    kept = json.loads(Path(rig_file).read_text("utf-8"))["measured"]["pixel_scale_arcsec_px"]
    assert (kept["value"], kept["standard_uncertainty"]) == (1.566, 0.002)


def test_a_night_by_object(rig_file, capsys):
    """A star on the equator is up 12 h; it crosses the meridian when the sidereal time is its right ascension."""
    asked = ["night", rig_file, "--date", "2026-11-26", "--at", "60.0 0.0", "--at", "60.0 85.0", "--at", "60.0 -60.0"]
    assert main([*asked, "--json"]) == 0
    found = out_json(capsys)
    equator, north, south = found["objects"]
    assert equator["hours_up"] == pytest.approx(12.0, abs=0.15)
    assert (north["hours_up"], south["hours_up"]) == (24.0, 0.0)
    # Sidereal time at 11.1° E on 26 November, 0 h UT: 5 h 4.2 min; the star (4 h 1.4 min of date) culminates
    # 22 h 57.2 min of sidereal time later, 22 h 53.4 min of ours.
    assert equator["transit"] == "2026-11-26T22:53Z"
    assert equator["flip"] == "2026-11-26T23:04Z"
    assert north["highest_deg"] == pytest.approx(47.3 + 5, abs=0.3)
    assert 11.0 < found["dark_hours"] < 12.0
    assert found["moon"]["illuminated"] == pytest.approx(0.93, abs=0.04)  # two days after full
    assert main([*asked, "--csv"]) == 0
    rows = capsys.readouterr().out.splitlines()
    assert len(rows) == 4
    assert rows[0].startswith("name,ra_deg,dec_deg,hours_up,hours_up_dark")

"""Reading refuses everything that is no rig with one line; writing never loses a version."""

import json
import os
import re
import signal
import stat
import subprocess
import sys
import time
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wyntaxis.cli import main
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.rig.recovery import find_left_behind, journal_path, remove_journal, write_journal
from wyntaxis.core.rig.store import load, parse, save, to_bytes, validated

TEXT = (Path(__file__).parents[2] / "example.rig.json").read_text("utf-8")


def swap(old, new):
    assert old in TEXT
    return TEXT.replace(old, new).encode()


BAD_FILES = {
    "empty": (b"", "is empty"),
    "blank": (b" \n\t ", "is empty"),
    "binary": (bytes(range(256)) * 20, "not UTF-8"),
    "utf16": (TEXT.encode("utf-16"), "not UTF-8"),
    "cut short": (TEXT.encode()[:900], "broken JSON at line"),
    "trailing comma": (swap("]\n    }\n}", "],\n    }\n}") if "]\n    }\n}" in TEXT else b'{"a": 1,}', "broken JSON"),
    "a list": (b"[]", "must be a JSON object"),
    "a number": (b"12", "must be a JSON object"),
    "another format": (swap("wyntaxis-rig", "other"), "format: must be"),
    "no format": (b"{}", "format: must be"),
    "newer version": (swap('"version": 1', '"version": 2'), "version: the file is of version 2"),
    "version as text": (swap('"version": 1', '"version": "1"'), "version: must be"),
    "nested deeply": (b'{"a":' * 200_000 + b"1" + b"}" * 200_000, "nested too deeply"),
    "NaN": (swap('"length_mm": 12.9', '"length_mm": NaN'), "NaN is not a number"),
    "infinity": (swap('"length_mm": 12.9', '"length_mm": -Infinity'), "-Infinity is not"),
    "overflow": (swap('"length_mm": 12.9', '"length_mm": 1e999'), "train[3].length_mm: must be a"),
    "too many digits": (swap('"length_mm": 12.9', '"length_mm": 1' + "0" * 5000), "too many digits"),
    "key twice": (swap('"kind": "spacer",', '"kind": "spacer", "kind": "adapter",'), 'the key "kind" is there twice'),
    "unit in the value": (swap('"length_mm": 12.9', '"length_mm": "12.9 mm"'), "train[3].length_mm: must be a plain"),
    "unit in the key": (
        swap('"length_mm": 12.9', '"length_cm": 1.29'),
        "train[3].length_cm: unknown key; did you mean length_mm?",
    ),
    "unknown key": (swap('"kind": "spacer"', '"kind": "spacer", "colour": 1'), "train[3].colour: unknown key"),
    "truth for number": (swap('"length_mm": 12.9', '"length_mm": true'), "train[3].length_mm"),
    "negative length": (swap('"length_mm": 12.9', '"length_mm": -12.9'), "train[3].length_mm: must be at least 0"),
    "length in µm": (swap('"length_mm": 12.9', '"length_mm": 12900000'), "train[3].length_mm: must be at most"),
    "missing length": (swap('"length_mm": 12.9, "length_basis"', '"length_basis"'), "train[3].length_mm: is missing"),
    "zero focal length": (swap('"focal_length_mm": 676', '"focal_length_mm": 0'), "telescope.focal_length_mm: must be"),
    "zero aperture": (swap('"aperture_mm": 104', '"aperture_mm": 0'), "telescope.aperture_mm: must be above 0"),
    "unknown kind": (swap('"kind": "spacer"', '"kind": "spacr"'), "train[3].kind: must be one of"),
    "id twice": (swap('"id": "ring"', '"id": "wheel"'), 'train[3].id: "wheel" is already the id of train[2]'),
    "id twice across paths": (swap('"id": "stalk"', '"id": "ota"'), 'guiding.path[0].id: "ota" is already'),
    "taps nothing": (swap('"taps": "oag"', '"taps": "oga"'), 'guiding.taps names "oga", which is no part'),
    "taps no prism": (swap('"taps": "oag"', '"taps": "ring"'), 'guiding.taps names "ring", which has no prism'),
    "no taps": (swap('"taps": "oag",', ""), 'needs "taps"'),
    "set out of range": (swap('"set_mm": 30', '"set_mm": 40'), "set_mm 40 is outside the range 28 to 34"),
    "range upside down": (swap('"min_mm": 28', '"min_mm": 38'), "min_mm 38 is above max_mm 34"),
    "thin index": (swap('"index": 1.52', '"index": 0.9'), "train[2].glass[0].index: must be at least 1"),
    "half a pixel": (swap('"width_px": 6000', '"width_px": 6000.5'), "train[4].sensor.width_px: must be a whole"),
    "latitude": (swap('"latitude_deg": 47.3', '"latitude_deg": 473'), "site.latitude_deg: must be at most 90"),
    "bad thread": (swap("M42x0.75", "M42") if "M42x0.75" in TEXT else swap("M63x1", "M63"), "must be M<diameter>"),
    "magnifying ring": (swap('"kind": "spacer"', '"kind": "spacer", "magnification": 2'), "belongs to a corrector"),
    "camera in the middle": (swap('"kind": "filter_wheel"', '"kind": "camera"'), "must be the last part"),
    "prism behind its part": (swap('"from_front_mm": 8.5', '"from_front_mm": 85'), "lies behind the part"),
    "train no list": (b'{"format":"wyntaxis-rig","version":1,"name":"x","train":{},"telescope":[]}', "must be a"),
    "empty name": (swap('"name": "Tarnfell triplet, reduced"', '"name": ""'), "name: must not be empty"),
    "control character": (swap('"ring 12.9"', '"ring\\u0007"'), "control characters"),
    "lone surrogate": (swap('"ring 12.9"', '"ring\\ud800"'), "broken Unicode"),
    "unknown quantity stated": (swap('"guiding":', '"stated": {"speed": {"value": 1}}, "guiding":'), '"speed" is no'),
    "newline in a key": (swap('"kind": "spacer"', '"kind": "spacer", "a\\nb": 1'), "unknown key"),
}


@pytest.mark.parametrize("name", BAD_FILES)
def test_a_bad_file_gives_one_clear_line_and_exit_2(name, tmp_path, capsys):
    data, words = BAD_FILES[name]
    path = tmp_path / "bad.rig.json"
    path.write_bytes(data)
    for command in (["numbers", str(path), "--json"], ["check", str(path)]):
        assert main(command) == 2
        out, err = capsys.readouterr()
        assert out == ""
        assert err.count("\n") == 1
        assert words in err
        assert str(path) in err
        assert len(err) < 400 + len(str(path))
    assert path.read_bytes() == data


def no_file(tmp_path):
    return tmp_path / "none.rig.json"


def huge(tmp_path):
    path = tmp_path / "huge.rig.json"
    with path.open("wb") as file:
        file.truncate(300_000_000)
    return path


def pipe(tmp_path):
    os.mkfifo(tmp_path / "pipe")
    return tmp_path / "pipe"


@pytest.mark.parametrize(
    "make, words",
    [
        (no_file, "no such file"),
        (lambda folder: folder, "is a folder"),
        (huge, "has 300 MB"),
        (pipe, "not a regular file"),
        (lambda _: Path("/dev/zero"), "not a regular file"),
        (lambda folder: folder / "line\nbreak", "cannot be read"),
    ],
)
def test_what_is_no_file_is_refused_at_once(make, words, tmp_path, capsys):
    assert main(["check", str(make(tmp_path))]) == 2
    err = capsys.readouterr().err
    assert words in err
    assert err.count("\n") == 1


json_values = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=8), inner, max_size=3),
    max_leaves=8,
)


@given(st.sampled_from(["site", "telescope", "train", "guiding", "name", "stated", "note"]), json_values)
def test_any_json_in_any_place_is_a_rig_or_one_line(key, value):
    document = json.loads(TEXT) | {key: value}
    try:
        rig = validated(document)
    except InputError as error:
        line = str(error)
    else:
        line = ""
        assert parse(to_bytes(rig)) == rig
    assert "\n" not in line


def test_round_trip_keeps_the_files_keys(tmp_path, example_file):
    rig = load(example_file).rig
    save(rig, tmp_path / "copy.rig.json")
    kept = json.loads((tmp_path / "copy.rig.json").read_text("utf-8"))
    assert kept == json.loads(TEXT)
    assert '"focal_length_mm": 676,' in (tmp_path / "copy.rig.json").read_text("utf-8")


def test_saving_keeps_the_previous_version_the_mode_and_the_link(tmp_path):
    real, link = tmp_path / "real.rig.json", tmp_path / "link.rig.json"
    first = parse(TEXT.encode())
    save(first, real)
    real.chmod(0o640)
    link.symlink_to(real)
    second = validated(json.loads(TEXT) | {"name": "second"})
    third = validated(json.loads(TEXT) | {"name": "third"})
    save(second, link)
    save(third, link)
    assert link.is_symlink()
    assert load(real).rig == third
    assert load(tmp_path / "real.rig.json~").rig == second
    assert stat.S_IMODE(real.stat().st_mode) == 0o640
    assert sorted(p.name for p in tmp_path.iterdir()) == ["link.rig.json", "real.rig.json", "real.rig.json~"]


def test_a_disk_that_cannot_be_written_loses_nothing(tmp_path, monkeypatch):
    path = tmp_path / "a.rig.json"
    save(parse(TEXT.encode()), path)
    before = path.read_bytes()

    def full(_descriptor):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("wyntaxis.core.files.saving.os.fsync", full)
    with pytest.raises(InputError, match=r"a\.rig\.json: cannot be saved: no space left on device"):
        save(validated(json.loads(TEXT) | {"name": "new"}), path)
    assert path.read_bytes() == before
    assert [p.name for p in tmp_path.iterdir()] == ["a.rig.json"]


SAVER = """
import json, sys
from pathlib import Path
from wyntaxis.core.rig.store import save, validated
document, path = json.loads(Path(sys.argv[1]).read_text()), Path(sys.argv[2])
print("ready", flush=True)
for number in range(10**9):
    save(validated(document | {"name": f"version {number}"}), path)
"""


@pytest.mark.slow
def test_kill_9_during_saves_loses_no_version(tmp_path, example_file):
    path = tmp_path / "rig.rig.json"
    save(validated(json.loads(TEXT) | {"name": "version 0"}), path)
    for round_number in range(12):
        saver = subprocess.Popen(
            [sys.executable, "-c", SAVER, str(example_file), str(path)], stdout=subprocess.PIPE, text=True
        )
        assert saver.stdout.readline() == "ready\n"
        time.sleep(0.01 + 0.013 * round_number)
        saver.send_signal(signal.SIGKILL)
        saver.wait()
        saver.stdout.close()
        now = load(path).rig.name
        assert re.fullmatch(r"version \d+", now)
        previous = tmp_path / "rig.rig.json~"
        if previous.exists():
            assert load(previous).rig.name.startswith("version")
    save(validated(json.loads(TEXT)), path)
    assert not [p for p in tmp_path.iterdir() if ".saving-" in p.name]


def test_the_journal_of_a_session_that_is_gone_is_found(tmp_path):
    rig = parse(TEXT.encode())
    mine = journal_path(tmp_path)
    write_journal(mine, rig, Path("/somewhere/a.rig.json"))
    assert find_left_behind(tmp_path) == []  # this process still runs
    gone = mine.with_name("999999999-1.journal.json")
    mine.rename(gone)
    mine.with_name("999999998-1.journal.json").write_text("{broken", "utf-8")
    (found,) = find_left_behind(tmp_path)
    assert (found.rig, found.rig_path) == (rig, Path("/somewhere/a.rig.json"))
    remove_journal(gone)
    assert find_left_behind(tmp_path) == []
    assert find_left_behind(tmp_path / "nowhere") == []

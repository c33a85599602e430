"""What commands print: to a full disk, a closed pipe, a terminal that knows no UTF-8; and never over the network."""

import contextlib
import json
import os
import socket
import subprocess
import sys
import warnings

import pytest

from tests.core.evidence.test_headers import write
from tests.rigs import clean_document, clean_tree
from wyntaxis import cli, demo
from wyntaxis.cli import main
from wyntaxis.commands.parsers import commands_by_name
from wyntaxis.commands.shared import Command
from wyntaxis.core.sky.earth import steady_rotation
from wyntaxis.core.steps import steps
from wyntaxis.simulators.bench import make_demo_runs
from wyntaxis.simulators.guided_mount import SimulatedMount, write_guide_log
from wyntaxis.simulators.usb import make_tree

RIG = str(demo.rig_path("tarnfell-triplet-reduced"))


def run(*arguments, **given):
    environment = {"PATH": "/usr/bin:/bin", "PYTHONUTF8": "0", "PYTHONCOERCECLOCALE": "0", "LC_ALL": "C"}
    command = [sys.executable, "-m", "wyntaxis", *arguments]
    return subprocess.run(command, stderr=subprocess.PIPE, env=environment, check=False, **given)


def test_a_full_disk_a_closed_output_and_a_gone_reader_end_in_a_line_and_2(tmp_path):
    with open("/dev/full", "wb") as full:  # noqa: PTH123
        ended = run("numbers", RIG, stdout=full)
    assert (ended.returncode, ended.stderr.count(b"\n")) == (2, 1)
    assert b"the output cannot be written: No space left on device" in ended.stderr
    ended = run("numbers", RIG, preexec_fn=lambda: os.close(1))
    assert (ended.returncode, ended.stderr) == (
        2,
        b"wyntaxis: the output cannot be written: the standard output is closed\n",
    )
    read, write_end = os.pipe()
    os.close(read)
    ended = run("numbers", RIG, "--json", stdout=write_end)
    os.close(write_end)
    assert (ended.returncode, ended.stderr.count(b"\n")) == (2, 1)
    assert b"its reader has gone" in ended.stderr


def test_a_terminal_without_utf_8_shows_everything_escaped(tmp_path):
    ended = run("numbers", RIG, stdout=subprocess.PIPE)
    assert ended.returncode == 0
    assert ended.stderr == b""
    assert b"\\u2033/px" in ended.stdout
    ended.stdout.decode("ascii")


def test_names_that_are_no_utf_8_are_escaped_in_every_output(tmp_path, capsys):
    name = os.fsdecode(b"f\xff\x1b[31m.fits")
    write(tmp_path / "frames" / name)
    (tmp_path / "good.rig.json").write_text(json.dumps(clean_document()), "utf-8")
    for form in ((), ("--json",), ("--csv",)):
        main(["headers", str(tmp_path / "good.rig.json"), str(tmp_path / "frames"), *form])
        out = capsys.readouterr().out
        assert "\x1b" not in out
        out.encode("utf-8")
        if form == ("--json",):
            json.loads(out, parse_constant=pytest.fail)
        if form != ():
            assert "f\\xff" in out.replace("\\\\", "\\")
    assert main(["check", str(tmp_path / name)]) == 2
    assert "f\\xff\\x1b[31m.fits" in capsys.readouterr().err


@pytest.mark.parametrize("arguments", [("--frob",), ("--variant", "k" * 5000), ("--shelf", "k" * 5000)])
def test_a_report_is_one_bounded_line(capsys, arguments):
    with pytest.raises(SystemExit) if arguments == ("--frob",) else contextlib.nullcontext():
        assert main(["check", RIG, *arguments]) == 2
    entries = capsys.readouterr().err
    assert entries.count("\n") == 1
    assert len(entries) <= 401


def test_warnings_and_failures_inside_stay_off_the_terminal(monkeypatch, capsys, tmp_path):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))

    def warn(_options):
        warnings.warn("raw and long", stacklevel=1)
        print(json.dumps("done"))
        return 0

    def exhausted(_options):
        raise MemoryError

    for function, code, entries in ((warn, 0, ""), (exhausted, 2, "there is not enough memory")):
        monkeypatch.setattr(
            cli, "commands_by_name", lambda function=function: {"trial": Command(function, "a trial", rig=False)}
        )
        assert main(["trial"]) == code
        err = capsys.readouterr().err
        assert "raw and long" not in err
        assert entries in err


SOLVED = {"CTYPE1": "RA---TAN", "CTYPE2": "DEC--TAN", "CDELT1": -4e-4, "CDELT2": 4e-4, "CRVAL1": 10.0, "CRVAL2": 40.0}


@pytest.fixture
def offline(monkeypatch):
    """No socket can be made; whoever tries is noted."""
    tried = []

    def refuse(*arguments, **_given):
        tried.append(arguments)
        raise OSError(101, "the network is out of reach")

    for name in ("socket", "create_connection", "getaddrinfo", "gethostbyname"):
        monkeypatch.setattr(socket, name, refuse)
    yield tried
    assert tried == []


def test_no_command_reaches_for_the_network(offline, tmp_path, capsys, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    rig = tmp_path / "good.rig.json"
    rig.write_text(json.dumps(clean_document()), "utf-8")
    write(tmp_path / "frames" / "a.fits")
    write(tmp_path / "solved.fits", **SOLVED)
    (tmp_path / "p.json").write_text('{"gain": 1}', "utf-8")
    runs = [str(path) for path in make_demo_runs(tmp_path)]
    tree = str(make_tree(tmp_path / "root", clean_tree()))
    main(["dossier", str(rig), "--out", str(tmp_path / "all.zip")])
    arguments = {
        "numbers": [str(rig), "--sysfs", tree, "--frames", str(tmp_path / "frames")],
        "check": [str(rig)],
        "spacers": [str(rig)],
        "schema": [],
        "footprint": [str(rig), "--at", "NGC 7243"],
        "scale": [str(rig), "--typed", "1.5"],
        "night": [RIG, "--date", "2031-01-01", "--at", "NGC 7243", "--json"],
        "paths": [str(tmp_path / "p.json")],
        "map": ["mine", "gain=main.gain"],
        "draft": [str(tmp_path / "frames"), str(tmp_path / "p.json"), "--out", str(tmp_path / "new.rig.json")],
        "records": [str(rig)],
        "headers": [str(rig), str(tmp_path / "frames")],
        "ports": [str(rig), "--sysfs", tree],
        "ready": [str(rig)],
        "sensor": [str(rig), str(tmp_path / "frames")],
        "focus": [str(rig), str(tmp_path / "frames")],
        "stars": [str(rig), str(tmp_path / "frames")],
        "field": [str(rig), str(tmp_path / "frames")],
        "filters": [str(rig), str(tmp_path / "frames")],
        "cooling": [str(rig), *runs],
        "guide": [str(rig), str(write_guide_log(tmp_path / "guide.csv", SimulatedMount(seconds=120)))],
        "proofs": [str(rig)],
        "history": [str(rig)],
        "differ": [str(rig), str(rig)],
        "dossier": [str(rig), "--out", str(tmp_path / "d.html")],
        "completion": ["bash"],
        "manual": [],
        "unpack": [str(tmp_path / "all.zip"), "--out", str(tmp_path / "unpacked")],
        "rehearse": [str(rig), "--date", "2031-01-01"],
        "typing": [str(rig)],
        "incidents": [str(rig)],
        "setup": [str(rig)],
        "tonight": [str(rig)],
        "choose": ["--shelf", str(demo.CHOOSING_SHELF)],
        "watch": [str(rig), str(tmp_path), "--seconds", "0"],
        "direction": [str(rig), str(tmp_path / "solved.fits")],
        "reach": [str(rig)],  # a rig without programs: there is nothing to try
    }
    assert set(arguments) == set(commands_by_name()), "every command is tried"
    no_use_of_them = {"sensor", "focus", "stars", "field", "filters"}  # frames of 6 × 4 px
    for command, given in arguments.items():
        assert main([command, *given]) in ((2,) if command in no_use_of_them else (0, 1)), command
        entries = capsys.readouterr()
        assert "failed inside" not in entries.err, command


def test_the_window_does_not_reach_for_the_network(offline, qtbot, qapp, tmp_path):
    from wyntaxis.desk.window import MainWindow
    from wyntaxis.desk.window_state import WindowState

    window = MainWindow(WindowState(tmp_path), tmp_path, tmp_path / "shelf.json")
    qtbot.addWidget(window, before_close_func=lambda w: w.session.history.mark_saved())
    window.build()
    window.show()
    window.files.open_demo("tarnfell-triplet-reduced")
    for step in steps():
        window.show_step(step.key)
        qtbot.wait(20)


def test_astropy_is_off_the_network_for_good():
    iers = steady_rotation()
    from astropy.utils import data

    for _ in range(2):
        assert iers.conf.auto_download is False
        assert data.conf.allow_internet is False
        steady_rotation()

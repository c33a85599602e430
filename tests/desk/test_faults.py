"""Failures that nobody foresaw: the window stays up and keeps the rig, one line tells, the log has the trace."""

import sys
import threading

import pytest
from PyQt6 import sip
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication, QPushButton, QVBoxLayout, QWidget

from wyntaxis import cli, demo
from wyntaxis.core.files import faults as logged
from wyntaxis.desk.background import Job
from wyntaxis.desk.faults import Faults
from wyntaxis.desk.panel import JobBar


@pytest.fixture
def state(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state-home"))
    monkeypatch.setattr(logged, "_met", {})
    return tmp_path / "state-home" / "wyntaxis"


def fail(words="seven is odd"):
    raise RuntimeError(words)


@pytest.fixture
def watch(window, state, monkeypatch):
    """Take over from the test runner's hooks, which are set when the test itself begins."""
    for module, name in ((sys, "excepthook"), (threading, "excepthook")):
        monkeypatch.setattr(module, name, getattr(module, name))
    faults = Faults(parent=window)
    faults.met.connect(window.tell_fault)
    return faults.watch


def test_a_failing_slot_is_told_logged_and_survived(window, watch, state, qtbot, capsys):
    watch()
    length = window.session.rig.train[2].length_mm
    QTimer.singleShot(0, fail)
    qtbot.waitUntil(lambda: "RuntimeError: seven is odd" in window.notice.text.text())
    assert "faults.log" in window.notice.text.text()
    window.notice.button("Copy details").click()
    assert "in fail" in QApplication.clipboard().text()
    assert "in fail" in (state / "faults.log").read_text("utf-8")
    assert window.session.rig.train[2].length_mm == length
    assert capsys.readouterr().err == ""


def _raised():
    try:
        fail()
    except RuntimeError:
        return sys.exc_info()


def test_a_failing_thread_is_told_in_the_window(window, watch, state, qtbot):
    watch()
    QTimer.singleShot(0, lambda: threading.Thread(target=fail, args=("in a thread",)).start())
    qtbot.waitUntil(lambda: "in a thread" in window.notice.text.text())
    assert "in a thread" in (state / "faults.log").read_text("utf-8")


def test_a_failing_job_names_the_log(qtbot, state):
    job = Job()
    with qtbot.waitSignal(job.failed) as entries:
        job.start(lambda _progress: fail("a fit of ours"))
    assert "RuntimeError: a fit of ours" in entries.args[0]
    assert "Traceback" in (state / "faults.log").read_text("utf-8")


def test_one_failure_again_and_again_is_written_a_few_times_and_told_once(state):
    kind, error, trace = _raised()
    faults, entries = Faults(), []
    faults.met.connect(lambda line, _trace: entries.append(line))
    for _ in range(50):
        faults.caught(kind, error, trace)
    assert len(entries) == 1
    assert (state / "faults.log").read_text("utf-8").count("Traceback") == logged.MAX_AUTOCORRELATION


def test_the_log_rotates_and_may_be_read_only(state, monkeypatch, capsys):
    monkeypatch.setattr(logged, "LOG_BYTES", 600)
    for number in range(40):
        logged.note_fault(ValueError(f"number {number} {'x' * 100}"))
    assert sorted(path.name for path in state.iterdir()) == [
        "faults.log",
        *(f"faults.log.{n + 1}" for n in range(logged.LOGS_KEPT)),
    ]
    assert all(path.stat().st_size <= 600 for path in state.iterdir())
    monkeypatch.setattr(logged, "state_folder", lambda: state / "faults.log" / "no folder")
    assert "ValueError: told all the same" in logged.note_fault(ValueError("told all the same"), debug=True)
    assert "cannot be written" in capsys.readouterr().err


@pytest.mark.parametrize("debug", [False, True])
def test_a_command_that_fails_inside_says_so_in_a_line(state, monkeypatch, capsys, debug):
    monkeypatch.setattr(cli, "_run_command", lambda _given, _command: fail("inside"))
    assert cli.main(["check", str(demo.rig_path("meadow-newtonian")), *(["--debug"] if debug else [])]) == 2
    entries = capsys.readouterr().err
    assert ("Traceback" in entries) == debug
    assert "wyntaxis: failed inside (RuntimeError: inside)" in entries
    assert "in fail" in (state / "faults.log").read_text("utf-8")


def test_a_job_ends_after_the_button_that_began_it_is_gone(qtbot):
    page = QWidget()
    qtbot.addWidget(page)
    column, job = QVBoxLayout(page), Job(page)
    bar, button = JobBar(job, "Reading"), QPushButton("Read")
    column.addWidget(bar)
    column.addWidget(button)
    page.show()
    page.activateWindow()
    button.setFocus()
    qtbot.waitUntil(lambda: QApplication.focusWidget() is button)
    job.running_changed.emit(True)
    assert QApplication.focusWidget() is bar.cancel_button
    sip.delete(button)
    job.running_changed.emit(False)
    assert not bar.isVisible()

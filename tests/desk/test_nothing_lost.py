"""What is typed survives: other windows, other programs, crashes, full disks, broken state."""

import json
import os
import subprocess
import sys
import time

import pytest
from PyQt6.QtWidgets import QFileDialog

from tests.cases import further
from tests.rigs import clean_document
from wyntaxis.core.files import places
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.rig import recovery
from wyntaxis.core.rig.recovery import journal_path, write_journal
from wyntaxis.core.rig.store import load, save, validated
from wyntaxis.desk.background import Job, end_all_jobs
from wyntaxis.desk.stock import ShelfStock
from wyntaxis.desk.window_state import WindowState


@pytest.fixture
def rig_path(tmp_path):
    path = tmp_path / "a.rig.json"
    save(validated(clean_document()), path)
    return path


def answers(window):
    return {button.text(): button for button in window.notice.buttons}


def test_two_windows_share_one_shelf(qapp, tmp_path):
    one, other = ShelfStock(tmp_path / "shelf.json"), ShelfStock(tmp_path / "shelf.json")
    first, second = (one.shelf.parts[index].part for index in (0, 1))
    assert one.set_value(0, ("owned",), 5)
    assert other.set_value(1, ("owned",), 6)
    for stock in (other, ShelfStock(tmp_path / "shelf.json")):
        assert stock.shelf.find(first.id).owned == 5
        assert stock.shelf.find(second.id).owned == 6
    one.undo()
    again = ShelfStock(tmp_path / "shelf.json").shelf
    assert again.find(second.id).owned == 6
    assert again.find(first.id).owned != 5


@pytest.mark.parametrize("edits", [40, *further(70)])
def test_steady_typing_is_in_the_journal_within_a_second(window, qtbot, edits):
    journal, pause_ms, behind = journal_path(window.folder), 30, []
    for edit in range(edits):
        window.session.set_value(("note",), str(edit), "Note")
        qtbot.wait(pause_ms)
        if journal.exists():
            behind.append(edit - int(json.loads(journal.read_text("utf-8"))["rig"]["note"]))
    assert behind, "the journal was never written while somebody typed"
    assert max(behind) * pause_ms < 1000


def test_another_programs_change_is_not_overwritten_after_a_restore(make_window, rig_path, tmp_path):
    stored = load(rig_path)
    edited = stored.rig.model_copy(update={"name": "edited"})
    window = make_window()
    write_journal(window.folder / "1-2.journal.json", edited, rig_path, stored.sha256)
    save(stored.rig.model_copy(update={"name": "another program's"}), rig_path)
    window.files.offer_left_behind()
    answers(window)["Restore"].click()
    assert window.session.rig.name == "edited"
    assert not window.files.save()
    assert "was changed by another program" in window.notice.text.text()
    assert load(rig_path).rig.name == "another program's"


def test_a_restore_that_cannot_be_journalled_keeps_the_old_journal_and_says_so(make_window, monkeypatch):
    window = make_window()
    old = window.folder / "1-2.journal.json"
    write_journal(old, validated(clean_document()), None)

    def full(*_arguments):
        raise InputError("cannot be saved: no space left on device")

    monkeypatch.setattr(recovery, "write_journal", full)
    window.files.offer_left_behind()
    answers(window)["Restore"].click()
    assert old.exists()
    assert "edits are not kept against a crash" in window.notice.text.text()


@pytest.mark.parametrize(
    "data",
    [b"", b"{", b"\xff\xfe", b"[]", b'"x"', b"1e999", b"[" * 100_000, b'{"rig": 1}', b'{"rig_path": 5, "rig": {}}'],
)
def test_journals_and_state_that_are_foreign_never_stop_the_start(make_window, tmp_path, data):
    state = tmp_path / "state"
    state.mkdir()
    for name in ("1-2", "²-①", f"{10**40}-1", "-", "x"):
        (state / f"{name}.journal.json").write_bytes(data)
    (state / "loop.journal.json").symlink_to("loop.journal.json")
    (state / "window.json").write_bytes(data)
    window = make_window()
    window.files.offer_left_behind()
    window.files.open_demo("meadow-newtonian")
    assert window.session is not None


def test_state_out_of_its_range_is_brought_into_it(tmp_path):
    (tmp_path / "window.json").write_text(
        json.dumps({"text": 10**400, "band": -1e308, "step": ["x"], "recent": [1, "", "a\0b", "/c"], "geometry": "²"}),
        "utf-8",
    )
    state = WindowState(tmp_path)
    assert state.number("text", 1.0, 0.8, 2.0) == 2.0
    assert state.number("band", 1.0, 0.8, 2.0) == 0.8
    assert state.word("step", "none") == "none"
    assert state.state("geometry") is None
    assert [str(path) for path in state.recent] == ["/c"]


def test_without_a_home_there_is_still_a_place(monkeypatch, tmp_path):
    for name in ("HOME", "XDG_STATE_HOME", "XDG_DATA_HOME"):
        monkeypatch.delenv(name, raising=False)

    def nowhere():
        raise RuntimeError("Could not determine home directory.")

    monkeypatch.setattr(places.Path, "home", staticmethod(nowhere))
    assert places.state_folder().is_absolute()
    assert str(os.getuid()) in str(places.own_shelf_path())


def test_save_as_asks_before_it_replaces(window, tmp_path, monkeypatch):
    there = tmp_path / "there.rig.json"
    there.write_text("another's", "utf-8")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "there"), ""))
    assert not window.files.save_as()
    assert "there.rig.json is there already" in window.notice.text.text()
    assert there.read_text("utf-8") == "another's"
    answers(window)["Replace it"].click()
    assert load(there).rig.name == window.session.rig.name


def test_a_protected_rig_is_asked_for(window, rig_path):
    window.files.open_path(rig_path)
    window.session.set_value(("note",), "typed", "Note")
    rig_path.chmod(0o444)
    before = rig_path.read_bytes()
    assert not window.files.save()
    assert "is write-protected" in window.notice.text.text()
    assert rig_path.read_bytes() == before
    answers(window)["Overwrite"].click()
    assert load(rig_path).rig.note == "typed"


def test_a_job_ends_when_it_is_cancelled(qtbot):
    job, ended = Job(), []
    job.cancelled.connect(lambda: ended.append("cancelled"))
    job.done.connect(ended.append)

    def work(progress):
        while True:
            progress(0, 1)
            time.sleep(0.005)

    job.start(work)
    assert job.running
    job.cancel()
    assert (job.running, ended) == (False, ["cancelled"])
    job.start(work)
    qtbot.waitUntil(end_all_jobs)
    assert not job.running


@pytest.mark.parametrize("error", [MemoryError(), RecursionError("deep"), SystemExit(3), KeyboardInterrupt()])
def test_an_error_of_any_kind_is_told_and_the_window_stays(qtbot, error, tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    job, entries = Job(), []
    job.failed.connect(entries.append)

    def work(_progress):
        raise error

    job.start(work)
    qtbot.waitUntil(lambda: bool(entries))
    assert entries[0]
    assert not job.running


CLOSING = """
import os, sys, time
os.environ["QT_QPA_PLATFORM"] = "offscreen"
from PyQt6.QtCore import QTimer
from wyntaxis.desk import app, window
from wyntaxis.desk.background import Job

start = window.MainWindow.start

def started(self, load, before):
    start(self, load, before)

    def go_on():
        self.job = Job(self)
        self.job.start(lambda progress: time.sleep(600))
        print(f"{time.monotonic():.3f}", flush=True)
        QTimer.singleShot(100, self.close)

    QTimer.singleShot(1500, go_on)

window.MainWindow.start = started
sys.exit(app.run(None, demo=True, screenshots=None))
"""


def test_closing_the_window_waits_for_no_job(tmp_path):
    environment = os.environ | {f"XDG_{kind}_HOME": str(tmp_path) for kind in ("DATA", "STATE", "CONFIG")}
    command = [sys.executable, "-c", CLOSING]
    ended = subprocess.run(command, env=environment, capture_output=True, text=True, timeout=300, check=False)
    assert (ended.returncode, ended.stderr) == (0, "")
    assert ended.stdout, "the job, which would take ten minutes, was under way"


def test_undoing_the_shelf_takes_the_chosen_part_away(window):
    window.show_step("shelf")
    sheet, stock = window.sheets["shelf"], window.session.stock
    part = stock.shelf.parts[0].part.model_copy(update={"id": "one-more"})
    assert stock.add(part)
    sheet.table.setCurrentIndex(sheet.model.index(sheet.model.rowCount() - 1, 0))
    stock.undo()
    window.refresh()
    assert stock.shelf.find("one-more") is None
    assert sheet.model.rowCount() == len(stock.shelf.parts)

"""When Python looks for garbage: never in a job's thread, never all of it while somebody works."""

import gc
import subprocess
import sys
import threading
import weakref

import pytest
from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QWindow
from PyQt6.QtTest import QTest

from wyntaxis.desk import collector as collecting
from wyntaxis.desk.collector import Collector


class Cycle(QObject):
    """An object of Qt's that only a collection destroys."""

    def __init__(self, ended):
        super().__init__()
        self.itself = self
        weakref.finalize(self, lambda: ended.append(threading.current_thread()))


@pytest.fixture
def collector(qapp):
    gc.enable()  # as Python starts
    made = Collector()
    made.start()
    yield made
    made.stop()


def make_garbage(count=300_000):
    kept = [[] for _ in range(count)]
    for one in kept:
        one.append(one)


def test_a_jobs_thread_destroys_no_object_of_qts(collector, qtbot):
    ended = []
    for _ in range(20):
        Cycle(ended)
    work = threading.Thread(target=make_garbage)
    work.start()
    work.join()
    assert ended == []
    qtbot.waitUntil(lambda: len(ended) == 20)
    assert {thread is threading.main_thread() for thread in ended} == {True}


@pytest.mark.parametrize(
    ("idle_s", "looks"), [(0.0, [0, 1, 0, 0]), (3.1, [0, 1, 1, 0]), (60.1, [0, 1, 1, 1])], ids=["works", "idle", "long"]
)
def test_long_looks_wait_until_nobody_works(collector, monkeypatch, idle_s, looks):
    collector.timer.stop()
    collector.looks[:] = [0, 0, 0, 0]
    monkeypatch.setattr(collecting.gc, "get_count", lambda: (0, 10 if sum(collector.looks) == 0 else 0, 0))
    collector.last_input = collecting.time.monotonic()
    collector.turn()
    collector.last_input -= idle_s
    for _ in range(5):
        collector.turn()
    assert collector.looks == looks


@pytest.mark.parametrize(("made", "looked"), [(699, 0), (700, 1)])
def test_the_youngest_are_looked_through_from_a_number_on(collector, monkeypatch, made, looked):
    collector.timer.stop()
    collector.looks[:] = [0, 0, 0, 0]
    monkeypatch.setattr(collecting.gc, "get_count", lambda: (made, 9, 0))
    collector.turn()
    assert collector.looks == [looked, 0, 0, 0]


def test_a_key_counts_as_work_and_a_drawing_does_not(collector, qapp):
    window = QWindow()
    collector.start(window)
    collector.last_input = 0.0
    qapp.sendEvent(window, QEvent(QEvent.Type.UpdateRequest))
    assert collector.last_input == 0.0
    QTest.keyClick(window, Qt.Key.Key_A)
    assert collector.last_input > 0.0


def test_it_hands_back_to_python(qapp):
    gc.enable()
    made = Collector()
    made.start()
    assert not gc.isenabled()
    made.stop()
    assert gc.isenabled()
    assert gc.get_freeze_count() == 0


STARTED = """
import gc, sys
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication
from wyntaxis.desk import app, collector
def look():
    print(gc.isenabled(), gc.get_freeze_count() > 100_000)
    QApplication.topLevelWidgets()[0].close()
    QApplication.quit()
taken = collector.Collector.start
def start(self, window):
    taken(self, window)
    QTimer.singleShot(0, look)
collector.Collector.start = start
app.run(None, demo=True, screenshots=None)
"""


def test_the_application_starts_with_it(tmp_path):
    place = {"QT_QPA_PLATFORM": "offscreen", "HOME": str(tmp_path), "PATH": "/usr/bin:/bin"}
    done = subprocess.run(
        [sys.executable, "-c", STARTED], capture_output=True, text=True, timeout=300, check=True, env=place
    )
    assert done.stdout.split() == ["False", "True"]

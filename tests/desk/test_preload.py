"""What is loaded in the background after the start."""

import subprocess
import sys
import threading

import pytest

from wyntaxis.desk import preload

# Objects of Qt's belong to the thread that makes them; one made by a loading thread would be lost with it.
LOADS = """
import gc, sys
from PyQt6.QtCore import QObject
from PyQt6.QtWidgets import QApplication
from wyntaxis.desk.preload import Preload
app = QApplication([])
loading = Preload()
loading.start()
while not loading.done:
    app.processEvents()
objects = [o for o in gc.get_objects() if isinstance(o, QObject)]
print(all(o.thread() == app.thread() for o in objects), *sorted(sys.modules))
"""


def test_all_that_the_desk_shows_is_loaded_and_nothing_of_qt_is_made():
    done = subprocess.run([sys.executable, "-c", LOADS], capture_output=True, text=True, timeout=300, check=True)
    kept, *loaded = done.stdout.split()
    assert kept == "True"
    assert {
        "numpy",
        "pyqtgraph",
        "scipy.optimize",
        "astropy.coordinates",
        "wyntaxis.desk.plots_night",
        "wyntaxis.desk.sheets.travel",
    } <= set(loaded)


def test_what_fails_to_load_is_left_to_whoever_needs_it(monkeypatch):
    monkeypatch.setattr(preload, "FIRST", ("no_such_module", "wyntaxis.desk.palette"))
    monkeypatch.setattr(preload, "FOLDERS", ())
    work = preload.Preload()
    work.start()
    work.thread.join(20)
    assert work.done


@pytest.mark.parametrize("begun", [False, True])
def test_it_stops_before_the_next_module(monkeypatch, begun):
    reached, go_on, asked = threading.Event(), threading.Event(), []

    def modules():
        yield "wyntaxis.desk.palette"
        reached.set()
        go_on.wait(20)
        asked.append("second")
        yield "no_such_module"
        asked.append("third")

    monkeypatch.setattr(preload, "wanted_modules", modules)
    work = preload.Preload()
    if begun:
        work.start()
        assert reached.wait(20)
        work.stopped.set()
        go_on.set()
    work.stop()
    assert work.done
    assert asked == (["second"] if begun else [])

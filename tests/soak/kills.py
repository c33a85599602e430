"""Kills in mid-save and while somebody types: a file is always whole, and at most a second of edits is lost."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass, field
from pathlib import Path
from random import Random

from tests.rigs import clean_document
from wyntaxis.core.rig.recovery import find_left_behind
from wyntaxis.core.rig.store import load, save, validated

LOST_SECONDS = 1.0
SAVER = """
import json, sys
from pathlib import Path
from wyntaxis.core.rig.store import load, save, validated
path = Path(sys.argv[1])
document = json.loads(path.read_text("utf-8"))
number = 0
print("ready", flush=True)
while True:
    number += 1
    document["note"] = str(number) * 3000
    save(validated(document), path)
"""
TYPIST = """
import os, sys, time
from pathlib import Path
os.environ["QT_QPA_PLATFORM"] = "offscreen"
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication
from wyntaxis.desk.session import Session
from wyntaxis.desk.window import MainWindow
from wyntaxis.desk.window_state import WindowState
state, rig = Path(sys.argv[1]), Path(sys.argv[2])
app = QApplication([])
window = MainWindow(WindowState(state), state, state / "shelf.json")
window.build()
window.attach(Session.opened(rig, window.stock()))
number = 0

def edit():
    global number
    number += 1
    window.session.set_value(("note",), f"{time.time():.3f}", "Note")
    print(f"{time.time():.3f}", flush=True)

timer = QTimer()
timer.timeout.connect(edit)
timer.start(40)
print("ready", flush=True)
app.exec()
"""


@dataclass
class Killed:
    """How many rounds there were, and what was not as promised."""

    saves: int = 0
    windows: int = 0
    failures: list[str] = field(default_factory=list)


def kill_rounds(seconds: float, seed: int, saves: int = 10**6, windows: int = 10**6) -> Killed:
    """Kill savers and windows at random moments, for a time or up to a number of each."""
    random, done, until = Random(seed), Killed(), time.monotonic() + seconds
    with tempfile.TemporaryDirectory(prefix="wyntaxis-kills-") as place:
        folder = Path(place)
        while time.monotonic() < until and (done.saves < saves or done.windows < windows):
            if done.saves < saves:
                _kill_a_save(folder, random, done)
            if done.windows < windows and done.saves % 5 == 0:
                _kill_a_window(folder, random, done)
    return done


def _started(script: str, *arguments: str) -> subprocess.Popen[str]:
    process = subprocess.Popen(
        [sys.executable, "-c", script, *arguments], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
    )
    assert process.stdout is not None
    process.stdout.readline()
    return process


def _kill_a_save(folder: Path, random: Random, done: Killed) -> None:
    path = folder / random.choice(("a.rig.json", f"{'n' * 236}.rig.json"))
    if not path.exists():
        save(validated(clean_document()), path)
    process = _started(SAVER, str(path))
    time.sleep(random.random() * 0.05)
    process.kill()
    process.communicate()
    done.saves += 1
    _see_whole(path, done)
    save(load(path).rig, path)
    left = [path.name for path in folder.iterdir() if "saving-" in path.name]
    if left:
        done.failures.append(f"a save left behind {left}")


def _see_whole(path: Path, done: Killed) -> None:
    try:
        note = load(path).rig.note or ""
    except Exception as error:  # whatever it is, the file is not whole
        done.failures.append(f"after a kill in mid-save: {error}")
        return
    third = len(note) // 3000 if note else 0
    if note and note != note[:third] * 3000:
        done.failures.append("after a kill in mid-save the file holds parts of two versions")


def _kill_a_window(folder: Path, random: Random, done: Killed) -> None:
    state, rig = Path(tempfile.mkdtemp(dir=folder)), folder / "typed.rig.json"
    rig.write_text(json.dumps(clean_document()), "utf-8")
    process = _started(TYPIST, str(state), str(rig))
    time.sleep(1.2 + random.random())
    process.kill()
    entries = [line for line in process.communicate()[0].split() if line]
    killed_at = float(entries[-1]) if entries else 0.0
    found = find_left_behind(state)
    done.windows += 1
    kept = float(found[0].rig.note or 0) if found else 0.0
    if not found:
        done.failures.append(f"nothing to restore after {len(entries)} edits")
    elif killed_at - kept > LOST_SECONDS:
        done.failures.append(f"{killed_at - kept:.2f} s of edits were lost")

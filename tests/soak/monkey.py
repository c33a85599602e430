"""A monkey at the window: it clicks, types and chooses at random, and sees that nothing is lost and nothing breaks."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import threading
import time
import traceback
from dataclasses import dataclass, field
from pathlib import Path
from queue import Empty, Queue
from random import Random
from typing import IO, Any

from tests.soak.mutate import NUMBERS, WORDS, hostile_value, places_in

ROUND = 50
"""So many actions, then all is undone, redone, saved and opened again."""
SILENT_SECONDS = 60.0
"""A window that does nothing for so long hangs."""
NOT_PRESSED = ("Quit", "Read the ports")
ENDS_WITHIN_S = 60.0
"""No measure of speed: a job that was cancelled ends at its next progress call."""
UNDONE = 10
"""So many edits are taken back, each of which draws the window anew."""


@dataclass
class Played:
    """How many actions there were, and what was not as promised."""

    actions: int = 0
    failures: list[str] = field(default_factory=list)


def play(seconds: float, seed: int, most: int = 10**9) -> Played:
    """Let monkeys play, one process after another, for a time or up to a number of actions."""
    done, until = Played(), time.monotonic() + seconds
    while time.monotonic() < until and done.actions < most:
        wanted = min(2000, most - done.actions)
        _play_one(done, seed, wanted, until)
        seed += 1
    return done


def _play_one(done: Played, seed: int, wanted: int, until: float) -> None:
    with tempfile.TemporaryDirectory(prefix="wyntaxis-monkey-") as folder:
        command = [
            sys.executable,
            "-m",
            "tests.soak.monkey",
            str(seed),
            str(wanted),
            folder,
            str(until - time.monotonic()),
        ]
        errors = Path(folder, "errors.txt")
        with errors.open("w") as sink:
            process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=sink, text=True)
            assert process.stdout is not None
            reader = threading.Thread(target=_hear, args=(process.stdout, lines := Queue[str]()), daemon=True)
            reader.start()
            heard, before = time.monotonic(), done.actions
            while reader.is_alive() or not lines.empty():
                try:
                    _take(done, lines.get(timeout=0.2), seed)
                    heard = time.monotonic()
                except Empty:
                    if time.monotonic() - heard > SILENT_SECONDS:
                        done.failures.append(f"seed {seed}: the window hangs after {done.actions - before} actions")
                        process.kill()
                        break
            process.wait()
            reader.join()
        if process.returncode != 0:
            tail = errors.read_text("utf-8", "replace")[-1500:]
            done.failures.append(f"seed {seed}: the window ended with {process.returncode}: {tail}")


def _hear(stream: IO[str], lines: Queue[str]) -> None:
    with stream:
        for line in stream:
            lines.put(line)


def _take(done: Played, line: str, seed: int) -> None:
    if line.startswith("did "):
        done.actions += int(line.split()[1])
    elif line.startswith("fault "):
        done.failures.append(f"seed {seed}: {line[6:].strip()}")


class Monkey:
    """Plays at one window. Its moves follow from the seed."""

    def __init__(self, seed: int, folder: Path) -> None:
        from PyQt6.QtWidgets import QApplication, QFileDialog

        from wyntaxis.desk.app import dress
        from wyntaxis.desk.window import MainWindow
        from wyntaxis.desk.window_state import WindowState

        self.random, self.folder, self.faults = Random(seed), folder, list[str]()
        self.app = QApplication([])
        dress(self.app)
        sys.excepthook = self._caught
        for name in ("getOpenFileName", "getSaveFileName"):
            setattr(QFileDialog, name, staticmethod(lambda *_args, **_kw: (self._some_file(), "")))
        QFileDialog.getOpenFileNames = staticmethod(lambda *_args, **_kw: ([self._some_file()], ""))  # type: ignore[assignment]
        QFileDialog.getExistingDirectory = staticmethod(lambda *_args, **_kw: str(folder))  # type: ignore[assignment]
        self.window = MainWindow(WindowState(folder / "state"), folder / "state", folder / "shelf.json")
        self.window.build()
        self.window.show()
        self.window.files.open_demo(self.random.choice(("tarnfell-triplet-reduced", "meadow-newtonian")))

    def _caught(self, kind: type[BaseException], error: BaseException, trace: Any) -> None:
        self.faults.append(" / ".join(traceback.format_exception(kind, error, trace)[-3:]).replace("\n", " ")[-900:])

    def _some_file(self) -> str:
        """Return a place for a dialog to answer: new, known, impossible, or none at all."""
        name = self.random.choice(("a.rig.json", "b.csv", "c.png", "d.txt", "no/such/folder/e.csv", "k" * 300, ""))
        return str(self.folder / name) if name else ""

    def settle(self, seconds: float = 0.0) -> None:
        """Let the window work, and let go of what it has put away: outside the application's own loop Qt keeps that."""
        from PyQt6.QtCore import QCoreApplication, QEvent

        until = time.monotonic() + seconds
        while True:
            self.app.processEvents()
            QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
            if time.monotonic() >= until:
                return

    def act(self) -> str:
        """Do something at random; return what."""
        moves = (self.press, self.press, self.type, self.type, self.choose, self.menu, self.edit, self.key, self.go)
        move = self.random.choice(moves)
        move()
        self.settle()
        self._answer_popup()
        return move.__name__

    def _answer_popup(self) -> None:
        """Choose something of a list that has opened, or put it away: it would keep the keyboard."""
        from PyQt6.QtWidgets import QMenu

        popup = self.app.activePopupWidget()
        if isinstance(popup, QMenu) and popup.actions() and self.random.random() < 0.7:
            self.random.choice(popup.actions()).trigger()
        if popup is not None:
            popup.close()
            self.settle()

    def _some(self, kind: type[Any]) -> Any:
        found = [one for one in self.window.findChildren(kind) if one.isVisible() and one.isEnabled()]
        return self.random.choice(found) if found else None

    def press(self) -> None:
        """Press a button."""
        from PyQt6.QtWidgets import QAbstractButton

        button = self._some(QAbstractButton)
        if button is not None and button.text() not in NOT_PRESSED:
            button.click()

    def type(self) -> None:
        """Type something into a field, and take it."""
        from PyQt6.QtCore import Qt
        from PyQt6.QtTest import QTest
        from PyQt6.QtWidgets import QLineEdit

        field_ = self._some(QLineEdit)
        if field_ is not None and not field_.isReadOnly():
            field_.setFocus()
            field_.setText(str(self.random.choice((*WORDS[:12], *NUMBERS, 12.5, "12,7 mm", "f/5")))[:3000])
            field_.setModified(True)
            QTest.keyClick(field_, self.random.choice((Qt.Key.Key_Return, Qt.Key.Key_Tab, Qt.Key.Key_Escape)))

    def choose(self) -> None:
        """Choose something of a list, a table or a box."""
        from PyQt6.QtWidgets import QAbstractItemView, QComboBox

        box, view = self._some(QComboBox), self._some(QAbstractItemView)
        if box is not None and box.count() and self.random.random() < 0.5:
            box.setCurrentIndex(self.random.randrange(box.count()))
            box.activated.emit(box.currentIndex())
        elif view is not None and view.model() is not None and view.model().rowCount():
            index = view.model().index(self.random.randrange(view.model().rowCount()), 0)
            view.setCurrentIndex(index)
            if self.random.random() < 0.2:
                view.model().setData(index, str(hostile_value(self.random))[:200])

    def menu(self) -> None:
        """Choose a command of the menus."""
        action = self.random.choice(list(self.window.menus.by_name.values()))
        if action.isEnabled() and action.text().replace("&", "") not in NOT_PRESSED:
            action.trigger()

    def edit(self) -> None:
        """Change a value of the document, as a sheet does; most such changes are refused."""
        session = self.window.session
        if session is not None:
            places = list(places_in(session.document.model_dump(mode="json", exclude_unset=True)))
            session.set_value(self.random.choice(places), hostile_value(self.random), "Monkey")

    def key(self) -> None:
        """Strike a key."""
        from PyQt6.QtCore import Qt
        from PyQt6.QtTest import QTest

        keys = (Qt.Key.Key_Tab, Qt.Key.Key_Delete, Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Escape, Qt.Key.Key_F2)
        QTest.keyClick(self.app.focusWidget() or self.window, self.random.choice(keys))

    def go(self) -> None:
        """Go to a step, or make the window another size."""
        from wyntaxis.core.steps import steps

        if self.random.random() < 0.8:
            self.window.show_step(self.random.choice(steps()).key)
        else:
            self.window.resize(self.random.randrange(800, 1920), self.random.randrange(560, 1080))

    def see_that_nothing_is_lost(self) -> None:
        """Undo all and redo all, save and open again: each time the document is the same to the letter."""
        from wyntaxis.core.rig.store import load, to_bytes
        from wyntaxis.desk.background import end_all_jobs

        until = time.monotonic() + ENDS_WITHIN_S
        while not end_all_jobs():
            if time.monotonic() > until:
                self.faults.append("a job did not end after it was cancelled")
                break
        self.window.notice.put_away()
        session = self.window.session
        if session is None:
            self.window.files.open_demo("meadow-newtonian")
            return
        now, moves = to_bytes(session.document), 0
        while session.history.undo_label is not None and moves < UNDONE:
            session.undo()
            moves += 1
        for _ in range(moves):
            session.redo()
        if to_bytes(session.document) != now:
            self.faults.append("undo and redo did not lead back to the same document")
        path = self.folder / "kept.rig.json"
        session.save(path)
        if to_bytes(load(path).rig) != now:
            self.faults.append("what was saved is not what was shown")

    def tell_faults(self, after: str) -> None:
        """Print what went wrong since it was last told."""
        for fault in self.faults:
            print(f"fault after {after}: {fault}", flush=True)
        self.faults.clear()


def main(seed: int, actions: int, folder: Path, seconds: float) -> None:
    """Play so many actions, or for so long."""
    monkey, until = Monkey(seed, folder), time.monotonic() + seconds
    for number in range(1, actions + 1):
        last = monkey.act()
        monkey.tell_faults(last)
        if number % ROUND == 0:
            monkey.see_that_nothing_is_lost()
            monkey.tell_faults("a round")
            print(f"did {ROUND}", flush=True)
        if time.monotonic() > until:
            break
    if monkey.window.session is not None:
        monkey.window.session.history.mark_saved()
    monkey.window.close()
    os._exit(0)


if __name__ == "__main__":
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    for kind in ("DATA", "STATE", "CONFIG"):
        os.environ[f"XDG_{kind}_HOME"] = sys.argv[3]
    try:
        main(int(sys.argv[1]), int(sys.argv[2]), Path(sys.argv[3]), float(sys.argv[4]))
    except BaseException:  # its own excepthook only takes notes
        traceback.print_exc()
        os._exit(1)

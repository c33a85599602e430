"""The rig file in the window: opening, saving, and what a session that ended badly left unsaved."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QFileDialog

from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.files.places import home
from wyntaxis.core.wording import counted
from wyntaxis.desk.saving_thread import SavingThread
from wyntaxis.desk.workplace import Workplace

if TYPE_CHECKING:
    from wyntaxis.core.files.errors import InputError
    from wyntaxis.core.rig.model import Rig
    from wyntaxis.core.rig.recovery import Recovered
    from wyntaxis.core.rig.store import Saved, StoredRig

RIG_FILTER = "Rigs (*.rig.json);;Everything in one file (*.zip);;All files (*)"
SUFFIX = ".rig.json"


class RigFiles(QObject):
    """Opens rigs into a window and saves them from it; nothing unsaved is left without asking."""

    kept = pyqtSignal()
    """A rig file was opened or saved, and is the first of the recent ones."""

    def __init__(self, window: Workplace) -> None:
        super().__init__(window)
        self.window = window
        self.saving = SavingThread(self)

    def open_path(self, path: Path, read: StoredRig | None = None) -> bool:
        """Open a rig file, which may have been read already; a notice says why it cannot be, and what is open stays."""
        from wyntaxis.core.files.errors import InputError
        from wyntaxis.desk.session import Session

        if path.suffix.lower() == ".zip":
            return self._ask_unpack(path)
        try:
            session = Session.opened(path, self.window.stock(), read)
        except InputError as error:
            self.window.refuse(str(error))
            self._wait_without_rig()
            return False
        self.window.attach(session)
        self._remember(path)
        return True

    def _ask_unpack(self, path: Path) -> bool:
        """Ask for the folder that a file of everything is unpacked into."""
        chosen = QFileDialog.getExistingDirectory(
            self.window, f"Choose an empty folder for what {path.name} holds", str(path.parent)
        )
        return bool(chosen) and self.unpack(path, Path(chosen))

    def unpack(self, path: Path, folder: Path) -> bool:
        """Unpack a file of everything into a folder and open its rig; its shelf and key maps are offered."""
        from wyntaxis.core.dossier.bundle import take_maps, unpack, with_lacking
        from wyntaxis.core.files.errors import InputError
        from wyntaxis.core.files.places import own_maps_path

        try:
            found = unpack(path, folder)
        except InputError as error:
            self.window.refuse(str(error))
            return False
        if not self.open_path(found.rig):
            return False

        def take() -> None:
            stock = self.window.stock()
            before = len(stock.shelf.parts)
            try:
                more, maps = with_lacking(found, stock.shelf), take_maps(found, own_maps_path())
            except InputError as error:
                self.window.refuse(str(error))
                return
            if stock.take(more):
                parts = len(more.parts) - before
                self.window.notice.tell(f"{parts} parts came onto your shelf, {maps} key maps to yours.")

        self.window.notice.ask(
            f"Unpacked into {folder}. It brought a shelf and key maps along.",
            [("Add what yours lack", take), ("Leave them", lambda: None)],
        )
        return True

    def _remember(self, path: Path) -> None:
        self.window.settings.add_recent(path)
        self.kept.emit()

    def open_demo(self, name: str, read: StoredRig | None = None) -> None:
        """Open a copy of a demo rig, which may have been read already, to be saved elsewhere."""
        from wyntaxis import demo
        from wyntaxis.core.rig.store import load
        from wyntaxis.desk.session import Session

        self.window.attach(Session((read or load(demo.rig_path(name))).rig, stock=self.window.stock()))

    def open_made(self, rig: Rig) -> None:
        """Open a rig that was made here, to be saved."""
        from wyntaxis.desk.session import Session

        self.window.attach(Session(rig, stock=self.window.stock()))

    def open_new(self) -> None:
        """Begin a new rig."""
        from wyntaxis.desk.session import Session

        self.window.attach(Session.new(self.window.stock()))

    def _wait_without_rig(self) -> None:
        if self.window.session is None:
            self.window.band.waiting_text = "No rig is open. File → Open, File → New, or File → Demo rigs."
            self.window.band.update()

    def offer_left_behind(self) -> None:
        """Offer what a session that ended badly left unsaved."""
        from wyntaxis.core.rig.recovery import find_left_behind

        found = find_left_behind(self.window.folder)
        if found:
            self._offer(found[0])

    def _offer(self, left: Recovered, *, said: str = "") -> None:
        from wyntaxis.core.rig.recovery import remove_journal

        def discard() -> None:
            remove_journal(left.journal)
            self.offer_left_behind()

        place = f" ({left.rig_path})" if left.rig_path else ", never saved"
        self.window.notice.ask(
            f"{said}Wyntaxis ended without saving “{left.rig.name}”{place}.",
            [("Restore", lambda: self._restore_after_asking(left)), ("Discard", discard)],
            outlives_rig=True,
        )

    def _restore_after_asking(self, left: Recovered) -> None:
        """Restore, after asking where the open rig has unsaved edits; the offer waits until that is answered."""
        session = self.window.session
        if session is not None and session.dirty:
            self._offer(left)
        self.guard(lambda: self._restore(left))

    def _restore(self, left: Recovered) -> None:
        from wyntaxis.core.rig.recovery import find_left_behind, remove_journal
        from wyntaxis.desk.session import Session

        session = Session(left.rig, left.rig_path, left.sha256, self.window.stock())
        session.history.saved_at = None
        self.window.notice.take_back(f"ended without saving “{left.rig.name}”")
        self.window.attach(session)
        if not self.window.journal.write_and_wait():
            return
        remove_journal(left.journal)
        others = [own for own in find_left_behind(self.window.folder) if own.journal != left.journal]
        if others:
            self._offer(others[0], said="Restored; save to keep it. ")
        else:
            self.window.notice.tell("Restored. Save to keep it.")

    # Saving

    def save(self, then: Callable[[], object] = lambda: None) -> bool:
        """Save in place, or ask where; False when nothing is saved yet. ``then`` is done once it is."""
        session = self.window.session
        if session is None or not self.window.finish_typing():
            return False
        if session.path is None:
            return self.save_as(then)
        return self._save_or_ask(session.path, then, only_as_opened=True)

    def _ask_about_other_change(self, path: Path, then: Callable[[], object]) -> None:
        self.window.notice.ask(
            f"{path.name} was changed by another program since it was opened here.",
            [
                ("Save as", lambda: self.save_as(then)),
                ("Bring both together", lambda: self._bring_together(path, then)),
                ("Overwrite", lambda: self._save_or_ask(path, then)),
            ],
        )

    def _bring_together(self, path: Path, then: Callable[[], object]) -> None:
        """Take the other program's change in, value by value, save, and say what came and what stayed."""
        from wyntaxis.core.files.errors import InputError

        session = self.window.session
        if session is None:
            return
        try:
            found = session.bring_together()
        except InputError as error:
            self.window.refuse(str(error))
            return
        if found is None:
            return

        def tell() -> None:
            taken = f"{counted(len(found.taken), 'change')} came from the file: {', '.join(found.taken[:4])}"
            stays = f". Yours stay at {', '.join(found.conflicting[:4])}" if found.conflicting else ""
            self.window.notice.tell(f"Saved {path.name} with both changes. {taken}{stays}.")
            then()

        self._save_or_ask(path, tell, only_as_opened=True)

    def _save_or_ask(self, path: Path, then: Callable[[], object], *, only_as_opened: bool = False) -> bool:
        """Save to a file; ask before one is overwritten that is write-protected."""
        from wyntaxis.core.files.saving import is_protected

        if not is_protected(path):
            return self._save_to(path, then, only_as_opened=only_as_opened)
        self.window.notice.ask(
            f"{path.name} is write-protected.",
            [
                ("Save as", lambda: self.save_as(then)),
                ("Overwrite", lambda: self._save_to(path, then, protected=True)),
            ],
        )
        return False

    def save_as(self, then: Callable[[], object] = lambda: None) -> bool:
        """Ask where to save, and save there."""
        session = self.window.session
        if session is None or not self.window.finish_typing():
            return False
        start = session.path or home() / f"{_file_stem(session.rig.name)}{SUFFIX}"
        # The strip asks before a file is replaced, also one whose name gets its ending only here.
        chosen, _ = QFileDialog.getSaveFileName(
            self.window,
            "Save the rig as",
            str(start),
            RIG_FILTER,
            RIG_FILTER.partition(";;")[0],
            QFileDialog.Option.DontConfirmOverwrite,
        )
        if not chosen:
            return False
        path = Path(chosen)
        if not path.name.endswith(".json"):
            path = path.with_name(path.name + SUFFIX)
        from wyntaxis.core.files.opening import is_there

        own = session.path
        if own is not None and is_there(path) and is_there(own) and path.samefile(own):
            return self._save_or_ask(path, then, only_as_opened=True)
        if not is_there(path):
            return self._save_or_ask(path, then)
        self.window.notice.ask(
            f"{path.name} is there already, in {path.parent}.",
            [
                ("Choose another", lambda: self.save_as(then)),
                ("Replace it", lambda: self._save_or_ask(path, then)),
            ],
        )
        return False

    def save_private(self) -> None:
        """Ask for a file, and write the rig into it without site, serial numbers, hosts, people and photographs."""
        from wyntaxis.core.dossier.private_rig import private_rig
        from wyntaxis.core.files.errors import InputError
        from wyntaxis.core.files.opening import is_there
        from wyntaxis.core.files.saving import write_atomically
        from wyntaxis.core.rig.store import to_bytes

        session = self.window.session
        if session is None or not self.window.finish_typing():
            return
        start = (session.path.parent if session.path else home()) / f"private{SUFFIX}"
        chosen, _ = QFileDialog.getSaveFileName(self.window, "Save a private copy", str(start), RIG_FILTER)
        if not chosen:
            return
        path = Path(chosen)
        if not path.name.endswith(".json"):
            path = path.with_name(path.name + SUFFIX)
        if session.path is not None and is_there(path) and is_there(session.path) and path.samefile(session.path):
            self.window.refuse(f"{path.name} is the open rig; choose another name for the private copy")
            return
        try:
            write_atomically(to_bytes(private_rig(session.document)), path, keep_previous=False)
        except InputError as error:
            self.window.refuse(str(error))
            return
        self._say(f"Saved {path} without site, targets, serial numbers, hosts, people and photographs", 8000)

    def _save_to(
        self, path: Path, then: Callable[[], object], *, protected: bool = False, only_as_opened: bool = False
    ) -> bool:
        """Save to a file in another thread; return whether it is done already."""
        from wyntaxis.core.files.errors import InputError
        from wyntaxis.core.history.recording import ChangedOnDiskError

        session = self.window.session
        assert session is not None
        work = session.save_work(path, protected=protected, only_as_opened=only_as_opened)
        taken: list[bool] = []

        def finish(outcome: Saved | InputError) -> None:
            if isinstance(outcome, ChangedOnDiskError):
                self._ask_about_other_change(path, then)
            elif isinstance(outcome, InputError):
                self.window.refuse(str(outcome))
            else:
                notes = session.take_saved(path, work.version, outcome)
                taken.append(True)
                self._remember(path)
                self._say(f"Saved {path}", 6000)
                if notes:
                    self.window.notice.tell(f"Saved {path.name}; {'; '.join(notes)}.")
                then()

        is_done = self.saving.start(work.do, finish)
        if not is_done:
            self._say(f"Saving {path} …", 0)
        return bool(taken)

    def _say(self, text: str, milliseconds: int) -> None:
        status = self.window.statusBar()
        if status is not None:
            status.showMessage(plain(text), milliseconds)

    def ask_open(self) -> None:
        """Ask for a rig file and open it."""
        start = self.window.session.path.parent if self.window.session and self.window.session.path else home()
        chosen, _ = QFileDialog.getOpenFileName(self.window, "Open a rig", str(start), RIG_FILTER)
        if chosen:
            self.open_path(Path(chosen))

    def guard(self, action: Callable[[], object]) -> None:
        """Do something that leaves the open rig: at once when all is saved, else after asking in the strip."""
        if not self.window.finish_typing():
            return
        if self.saving.running:
            self.saving.after(lambda: self.guard(action))
            return
        if self.window.session is None or not self.window.session.dirty:
            action()
            return
        self.window.notice.ask(
            f"“{self.window.session.rig.name}” has edits that are not saved.",
            [("Save", lambda: self.save(action)), ("Do not save", action), ("Keep editing", lambda: None)],
        )


def _file_stem(name: str) -> str:
    """Return a rig's name as a file name."""
    plain = "".join(char if char.isalnum() else "-" for char in name.lower())
    return "-".join(part for part in plain.split("-") if part)[:60] or "rig"

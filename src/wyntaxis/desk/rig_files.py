"""The rig file in the window: opening, saving, and what a session that ended badly left unsaved."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QFileDialog

from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.files.places import home
from wyntaxis.desk.workplace import Workplace

if TYPE_CHECKING:
    from wyntaxis.core.rig.recovery import Recovered
    from wyntaxis.core.rig.store import StoredRig

RIG_FILTER = "Rigs (*.rig.json);;Everything in one file (*.zip);;All files (*)"
SUFFIX = ".rig.json"


class RigFiles(QObject):
    """Opens rigs into a window and saves them from it; nothing unsaved is left without asking."""

    kept = pyqtSignal()
    """A rig file was opened or saved, and is the first of the recent ones."""

    def __init__(self, window: Workplace) -> None:
        super().__init__(window)
        self.window = window

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

    def _offer(self, left: Recovered) -> None:
        from wyntaxis.core.rig.recovery import remove_journal

        def discard() -> None:
            remove_journal(left.journal)
            self.offer_left_behind()

        place = f" ({left.rig_path})" if left.rig_path else ", never saved"
        self.window.notice.ask(
            f"Wyntaxis ended without saving “{left.rig.name}”{place}.",
            [("Restore", lambda: self.guard(lambda: self._restore(left))), ("Discard", discard)],
        )

    def _restore(self, left: Recovered) -> None:
        from wyntaxis.core.rig.recovery import remove_journal
        from wyntaxis.desk.session import Session

        session = Session(left.rig, left.rig_path, left.sha256, self.window.stock())
        session.history.saved_at = None
        self.window.attach(session)
        if self.window.journal.write_and_wait():
            remove_journal(left.journal)
            self.window.notice.tell("Restored. Save to keep it.")

    def save(self) -> bool:
        """Save in place, or ask where; False when nothing was saved."""
        if self.window.session is None:
            return False
        if self.window.session.path is None:
            return self.save_as()
        if self.window.session.changed_on_disk():
            name = self.window.session.path.name
            self.window.notice.ask(
                f"{name} was changed by another program since it was opened here.",
                [("Save as", lambda: self._unit(self.save_as())), ("Overwrite", self._overwrite)],
            )
            return False
        return self._save_or_ask(self.window.session.path)

    @staticmethod
    def _unit(_value: object) -> None:
        return None

    def _overwrite(self) -> None:
        if self.window.session is not None and self.window.session.path is not None:
            self._save_or_ask(self.window.session.path)

    def _save_or_ask(self, path: Path) -> bool:
        """Save to a file; ask before one is overwritten that is write-protected."""
        from wyntaxis.core.files.saving import is_protected

        if not is_protected(path):
            return self._save_to(path)
        self.window.notice.ask(
            f"{path.name} is write-protected.",
            [
                ("Save as", lambda: self._unit(self.save_as())),
                ("Overwrite", lambda: self._unit(self._save_to(path, protected=True))),
            ],
        )
        return False

    def save_as(self) -> bool:
        """Ask where to save, and save there."""
        if self.window.session is None:
            return False
        start = self.window.session.path or home() / f"{_file_stem(self.window.session.rig.name)}{SUFFIX}"
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

        own = self.window.session.path
        if not is_there(path) or (own is not None and is_there(own) and path.samefile(own)):
            return self._save_or_ask(path)
        self.window.notice.ask(
            f"{path.name} is there already, in {path.parent}.",
            [
                ("Choose another", lambda: self._unit(self.save_as())),
                ("Replace it", lambda: self._unit(self._save_or_ask(path))),
            ],
        )
        return False

    def _save_to(self, path: Path, *, protected: bool = False) -> bool:
        from wyntaxis.core.files.errors import InputError

        assert self.window.session is not None
        try:
            notes = self.window.session.save(path, protected=protected)
        except InputError as error:
            self.window.refuse(str(error))
            return False
        self._remember(path)
        status = self.window.statusBar()
        if status is not None:
            status.showMessage(plain(f"Saved {path}"), 6000)
        if notes:
            self.window.notice.tell(f"Saved {path.name}; {'; '.join(notes)}.")
        return True

    def ask_open(self) -> None:
        """Ask for a rig file and open it."""
        start = self.window.session.path.parent if self.window.session and self.window.session.path else home()
        chosen, _ = QFileDialog.getOpenFileName(self.window, "Open a rig", str(start), RIG_FILTER)
        if chosen:
            self.open_path(Path(chosen))

    def guard(self, action: Callable[[], object]) -> None:
        """Do something that leaves the open rig: at once when all is saved, else after asking in the strip."""
        self.window.finish_typing()
        if self.window.session is None or not self.window.session.dirty:
            action()
            return

        def save_first() -> None:
            if self.save():
                action()

        self.window.notice.ask(
            f"“{self.window.session.rig.name}” has edits that are not saved.",
            [("Save", save_first), ("Do not save", lambda: self._unit(action())), ("Keep editing", lambda: None)],
        )


def _file_stem(name: str) -> str:
    """Return a rig's name as a file name."""
    plain = "".join(char if char.isalnum() else "-" for char in name.lower())
    return "-".join(part for part in plain.split("-") if part)[:60] or "rig"

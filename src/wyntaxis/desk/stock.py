"""The shelf as the window holds it: one for all rigs, its own undo, saved as soon as it changes."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.opening import is_there, sha256_of
from wyntaxis.core.files.saving import alone_in
from wyntaxis.core.json_values import JsonValue
from wyntaxis.core.rig.parts import Part
from wyntaxis.core.rig.shelf import (
    FORMAT,
    Shelf,
    ShelfPart,
    load_own_shelf,
    load_shelf,
    merged,
    save_shelf,
    validated_shelf,
)

UNDO_LIMIT = 100
JOINT_KEYS = ("front", "rear")
NEW_JOINT = {"thread": "M42x0.75", "gender": "male"}


class ShelfStock(QObject):
    """The imager's parts. ``changed`` tells of every edit; ``refused`` says why one was not taken or not saved."""

    changed = pyqtSignal()
    refused = pyqtSignal(str)

    def __init__(self, path: Path | None) -> None:
        super().__init__()
        self.path = path
        self._edits: list[tuple[Shelf, Shelf]] = []
        """The shelf before and after each of one's own edits, without what another window changed meanwhile."""
        self.shelf = Shelf()
        self.broken = ""
        self._sha256: str | None = None
        if path is not None:
            try:
                self.shelf = load_own_shelf(path)
                self._sha256 = sha256_of(path)
            except InputError as error:
                self.broken = str(error)

    @property
    def folder(self) -> Path | None:
        """Where the imager's own files lie; None where nothing is kept."""
        return self.path.parent if self.path is not None else None

    @property
    def can_undo(self) -> bool:
        return bool(self._edits)

    def take(self, shelf: Shelf) -> bool:
        """Make this the shelf and save it; False, with ``refused``, when it cannot be saved."""
        if shelf == self.shelf:
            return True
        if self.broken:
            self.refused.emit(f"the shelf is not changed while its file cannot be read: {self.broken}")
            return False
        taken = self._saved_with(shelf) if self.path is not None else shelf
        if taken is None:
            return False
        self._edits = [*self._edits, (self.shelf, shelf)][-UNDO_LIMIT:]
        self.shelf = taken
        self.changed.emit()
        return True

    def undo(self) -> None:
        """Go back one edit of the shelf; what another window has changed since stays."""
        if not self._edits:
            return
        before, after = self._edits[-1]
        try:
            shelf: Shelf | None = merged(after, before, self.shelf)
        except InputError as error:  # together they would be no shelf
            self.refused.emit(str(error))
            return
        assert shelf is not None
        shelf = self._saved_with(shelf) if self.path is not None else shelf
        if shelf is not None:
            self._edits.pop()
            self.shelf = shelf
            self.changed.emit()

    def set_value(self, index: int, path: tuple[str, ...], value: JsonValue) -> bool:
        """Change one value of a shelf part; None takes it out."""
        document = self.shelf.model_dump(mode="json", exclude_unset=True)
        node = document["parts"][index] if path == ("owned",) else document["parts"][index]["part"]
        for key in path[:-1]:
            if node.get(key) is None:  # one field typed describes an end; the others follow
                node[key] = dict(NEW_JOINT) if key in JOINT_KEYS else {}
            node = node[key]
        if path[-1] == "thread" and value is None:  # an end without a thread is not described
            document["parts"][index]["part"].pop(path[0], None)
        elif value is None:
            node.pop(path[-1], None)
        else:
            node[path[-1]] = value
        return self._take_document(document)

    def add(self, part: Part) -> bool:
        """Put a copy of a part on the shelf; one that is there already is owned once more."""
        known = self.shelf.find(part.id)
        entries = list(self.shelf.parts)
        if known is not None:
            number = entries.index(known)
            entries[number] = known.model_copy(update={"owned": known.owned + 1})
        else:
            entries.append(ShelfPart(owned=1, part=part))
        return self.take(self.shelf.with_parts(entries))

    def remove(self, index: int) -> bool:
        """Take a part off the shelf."""
        entries = [entry for number, entry in enumerate(self.shelf.parts) if number != index]
        return self.take(self.shelf.with_parts(entries))

    def import_file(self, path: Path) -> int | None:
        """Add the parts of a CSV or shelf file; parts of the same id are replaced. Return how many, None if refused."""
        try:
            read = load_shelf(path)
        except InputError as error:
            self.refused.emit(str(error))
            return None
        merged = {entry.part.id: entry for entry in (*self.shelf.parts, *read.parts)}
        telescopes = {own.telescope.id: own for own in (*self.shelf.telescopes, *read.telescopes)}
        whole = self.shelf.with_parts(merged.values(), telescopes.values())
        return len(read.parts) + len(read.telescopes) if self.take(whole) else None

    def export_file(self, path: Path) -> bool:
        """Write the shelf to a CSV or shelf file."""
        return self._write(self.shelf, path)

    def _take_document(self, document: JsonValue) -> bool:
        try:
            return self.take(validated_shelf({"format": FORMAT, "version": 1} | document))
        except InputError as error:
            self.refused.emit(str(error))
            return False

    def _saved_with(self, shelf: Shelf) -> Shelf | None:
        """Save a change of the shelf together with what another window has changed meanwhile; None when it cannot."""
        assert self.path is not None
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            with alone_in(self.path.parent):
                if is_there(self.path) and sha256_of(self.path) != self._sha256:
                    shelf = merged(self.shelf, shelf, load_own_shelf(self.path))
                save_shelf(shelf, self.path)
                self._sha256 = sha256_of(self.path)
        except OSError as error:
            self.refused.emit(f"{self.path.parent}: cannot be made: {error.strerror}")
        except InputError as error:
            self.refused.emit(str(error))
        else:
            return shelf
        return None

    def _write(self, shelf: Shelf, path: Path) -> bool:
        try:
            save_shelf(shelf, path)
        except InputError as error:
            self.refused.emit(str(error))
            return False
        return True

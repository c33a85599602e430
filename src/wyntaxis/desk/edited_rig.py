"""The rig that is open, as it is edited: its history, what comes out of it, and which variant is shown."""

from __future__ import annotations

from typing import TYPE_CHECKING, TypeVar

from PyQt6.QtCore import QObject, pyqtSignal

from wyntaxis.core.evaluation import Evaluation, evaluate
from wyntaxis.core.evidence.kinds import Evidence, EvidenceKind
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.json_values import JsonValue
from wyntaxis.core.ledger import Quantity
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.edit import Change, History
from wyntaxis.core.rig.marks import numbers_below
from wyntaxis.core.rig.model import Rig, variant_rig
from wyntaxis.core.rig.parts import Part
from wyntaxis.core.rig.variants import document_path, free_name, new_variant, own_settings_of, variant_index
from wyntaxis.core.section import section
from wyntaxis.core.train.section import Section
from wyntaxis.desk.stock import ShelfStock

if TYPE_CHECKING:
    from wyntaxis.core.drafting.rig_draft import Draft

R = TypeVar("R")


class EditedRig(QObject):
    """Edits go in as changes: ``changed`` tells that all is to be drawn anew, ``refused`` why one was not made.

    ``about_to_edit`` comes before the document changes, so that what is typed in a field is taken first: afterwards its
    place in the document may be another's. ``asked`` carries a question and its answers.
    """

    about_to_edit = pyqtSignal()
    asked = pyqtSignal(str, list)
    changed = pyqtSignal()
    chosen_changed = pyqtSignal()
    refused = pyqtSignal(str)

    def __init__(self, rig: Rig, stock: ShelfStock | None = None) -> None:
        super().__init__()
        self.stock = stock or ShelfStock(None)
        self.stock.changed.connect(self._stock_changed)
        self.variant: str | None = None
        self.history = History([rig])
        self.chosen_part: str | None = None
        self.evidence = Evidence()
        self._beginning = False
        self._compute()

    @property
    def document(self) -> Rig:
        """The whole rig file, all variants in it."""
        return self.history.rig

    @property
    def rig(self) -> Rig:
        """The rig shown: the document's own train, or one variant's."""
        return self._shown

    @property
    def quantities(self) -> dict[str, Quantity]:
        """The rig's own numbers by id."""
        return self.evaluation.quantities

    @property
    def dirty(self) -> bool:
        return self.history.dirty

    @property
    def chosen(self) -> tuple[DocumentPath, Part] | None:
        """The chosen part and its path within the file."""
        return self.rig.find(self.chosen_part) if self.chosen_part else None

    # Editing

    def apply(self, change: Change) -> bool:
        """Make a change; False, with ``refused`` saying why, when the result would not be a rig."""
        self._begin_edit()
        values = tuple((document_path(self.document, self.variant, path), value) for path, value in change.values)
        try:
            assumes = tuple(document_path(self.document, self.variant, path) for path in change.assumes)
            rig = edit.apply(self.document, Change(change.label, values, assumes))
        except InputError as error:
            self.refused.emit(str(error))
            return False
        renamed = next((str(value) for path, value in change.values if path == ("name",) and self.variant), None)
        self.variant = renamed or self.variant
        self._push(rig, change.label)
        return True

    def set_value(self, path: DocumentPath, value: JsonValue, label: str) -> bool:
        """Set one value of the document; None takes the key out."""
        return self.apply(Change.of(label, path, value))

    def fill_in(self, path: DocumentPath, value: JsonValue, label: str) -> bool:
        """Put something in that has to stand, with numbers that nobody gave: they are marked as assumed."""
        return self.apply(Change(label, ((path, value),), numbers_below(path, value)))

    def take_draft(self, drafted: Draft, label: str) -> None:
        """Go on from a drafted rig; undo takes the whole of it back."""
        self._begin_edit()
        self.variant = None
        self._push(drafted.rig, label)

    def take_back(self, rig: Rig, label: str) -> bool:
        """Make the document what it was at another time, as one edit that can be undone."""
        self._begin_edit()
        if rig == self.document:
            return False
        self._push(rig, label)
        return True

    def undo(self) -> None:
        """Go back one edit."""
        self._begin_edit()
        if self.history.undo():
            self._compute()
            self.changed.emit()

    def redo(self) -> None:
        """Go forward one edit."""
        self._begin_edit()
        if self.history.redo():
            self._compute()
            self.changed.emit()

    def _begin_edit(self) -> None:
        """Let what is being typed be taken first, once."""
        if not self._beginning:
            self._beginning = True
            try:
                self.about_to_edit.emit()
            finally:
                self._beginning = False

    def _push(self, rig: Rig, label: str) -> None:
        if self.history.push(rig, label):
            self._compute()
            self.changed.emit()

    def _compute(self) -> None:
        if variant_index(self.document, self.variant) is None:
            self.variant = None
        self._shown = variant_rig(self.document, self.variant)
        self.evaluation: Evaluation = evaluate(self._shown, self.evidence, self.stock.shelf.parts)
        self.section: Section = section(self.evaluation)
        if self.chosen_part is not None and self.rig.find(self.chosen_part) is None:
            self.chosen_part = None

    def _stock_changed(self) -> None:
        self._compute()
        self.changed.emit()

    def look_at(self, kind: EvidenceKind[R], result: R | None) -> None:
        """Take what was read or measured into account, or leave it out again."""
        self.evidence = self.evidence.having(kind, result)
        self._compute()
        self.changed.emit()

    # Variants

    def show_variant(self, name: str | None) -> None:
        """Show a variant, or the rig's own train."""
        self._begin_edit()
        if name != self.variant:
            self.variant = name
            self._compute()
            self.changed.emit()

    def add_variant(self) -> bool:
        """Add a variant that begins as a copy of the train shown, and show it."""
        self._begin_edit()
        name = free_name(self.document, f"{self.rig.name}, variant")
        variant = new_variant(self.document, self.rig, name)
        path = ("variants", len(self.document.variants))
        try:
            rig = edit.apply(self.document, Change.of("Add a variant", path, variant))
        except InputError as error:
            self.refused.emit(str(error))
            return False
        self.variant = name
        self._push(rig, "Add a variant")
        return True

    def set_apart(self) -> bool:
        """Give the variant shown settings of devices and a plan of its own, to begin with copies of the shared ones."""
        self._begin_edit()
        index = variant_index(self.document, self.variant)
        if index is None:
            return False
        label = "Give the variant its own settings"
        rig = edit.apply(self.document, Change(label, own_settings_of(self.document, index)))
        self._push(rig, label)
        return True

    def remove_variant(self) -> bool:
        """Take the variant shown out of the document, and show the rig's own train."""
        self._begin_edit()
        index = variant_index(self.document, self.variant)
        if index is None:
            return False
        rig = edit.apply(self.document, Change.of("Remove a variant", ("variants", index), None))
        self.variant = None
        self._push(rig, "Remove a variant")
        return True

    def _place(self, list_path: DocumentPath) -> DocumentPath:
        return document_path(self.document, self.variant, list_path)

    def _everything(self) -> Rig:
        """Return a rig that holds the parts of all variants, for finding ids that none of them uses."""
        parts = {part.id: part for part in self.document.train}
        for variant in self.document.variants:
            parts |= {entry.id: entry for entry in variant.train if not isinstance(entry, str)}
        return self.document.model_copy(update={"train": tuple(parts.values())})

"""The open rig: its history, where it is saved, what is chosen. No widgets: a test drives it without a window."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from PyQt6.QtCore import QObject, pyqtSignal

from wyntaxis.core.evaluation import Evaluation, evaluate
from wyntaxis.core.evidence.kinds import Evidence, EvidenceKind
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.opening import is_there, sha256_of
from wyntaxis.core.findings.caveats import acceptance, withdrawal
from wyntaxis.core.findings.finding import Finding, subject_title
from wyntaxis.core.history import recording
from wyntaxis.core.ledger import Quantity
from wyntaxis.core.rig import edit, store
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.blank import NEW_PART_LENGTH_MM, blank_rig
from wyntaxis.core.rig.edit import Change, History
from wyntaxis.core.rig.marks import numbers_below
from wyntaxis.core.rig.model import Rig, variant_rig
from wyntaxis.core.rig.parts import Part
from wyntaxis.core.rig.variants import document_path, free_name, new_variant, train_entries, variant_index
from wyntaxis.core.section import section
from wyntaxis.core.train.next_part import open_end
from wyntaxis.core.train.section import Section
from wyntaxis.core.wiring import plugging
from wyntaxis.core.wording import utc_stamp
from wyntaxis.desk.stock import ShelfStock

if TYPE_CHECKING:  # the night's machinery is loaded when a night is played
    from wyntaxis.core.drafting.book import Draft
    from wyntaxis.core.rehearsal.outcome import NightOutcome
    from wyntaxis.core.train.spacers import SpacerResult, SpacerSet

R = TypeVar("R")


NEW_GUIDE_TELESCOPE = {"name": "Guide telescope", "focal_length_mm": 200, "aperture_mm": 50}


class Session(QObject):
    """One open rig. Edits go in as changes; ``changed`` tells that everything is to be drawn anew."""

    changed = pyqtSignal()
    chosen_changed = pyqtSignal()
    device_changed = pyqtSignal(str)
    saved_changed = pyqtSignal()
    night_changed = pyqtSignal()
    refused = pyqtSignal(str)

    def __init__(
        self, rig: Rig, path: Path | None = None, sha256: str | None = None, stock: ShelfStock | None = None
    ) -> None:
        super().__init__()
        self.stock = stock or ShelfStock(None)
        self.stock.changed.connect(self._stock_changed)
        self.variant: str | None = None
        self.path = path
        self.sha256 = sha256
        self.history = History([rig])
        self.chosen_part: str | None = None
        self._chosen_finding: tuple[str, str] | None = None
        self._was_dirty = False
        self.evidence = Evidence()
        self.night: NightOutcome | None = None
        self.next_reason = ""
        """Why the edits since the last save were made, for the history's next line."""
        self._compute()

    @classmethod
    def opened(cls, path: Path, stock: ShelfStock | None = None, read: store.StoredRig | None = None) -> Session:
        """Return a session on a rig file, as it was ``read`` already; :class:`InputError` when it is none."""
        stored = read or store.load(path)
        return cls(stored.rig, path, stored.sha256, stock)

    @classmethod
    def new(cls, stock: ShelfStock | None = None) -> Session:
        """Return a session on a rig with no parts yet."""
        return cls(blank_rig(), stock=stock)

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

    # Editing

    def apply(self, change: Change) -> bool:
        """Make a change; False, with ``refused`` saying why, when the result would not be a rig."""
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

    def set_value(self, path: DocumentPath, value: Any, label: str) -> bool:
        """Set one value of the document; None takes the key out."""
        return self.apply(Change.of(label, path, value))

    def set_length(self, part_id: str, length_mm: float) -> bool:
        """Set the length of a part: where it is set, for an adjustable one."""
        found = self.rig.find(part_id)
        if found is None:
            return False
        place, part = found
        key = ("adjustable", "set_mm") if part.adjustable else ("length_mm",)
        return self.set_value((*place, *key), length_mm, f"Change the length of {part.title}")

    def add_part(self, list_path: DocumentPath, index: int, kind: str) -> bool:
        """Put a new part of a kind in before ``index`` and choose it."""
        part_id = edit.free_id(self._everything(), kind)
        part: dict[str, Any] = {"id": part_id, "kind": kind, "length_mm": NEW_PART_LENGTH_MM}
        return self._insert(list_path, index, part, f"Add {kind.replace('_', ' ')}", [("length_mm",)])

    def fill_in(self, path: DocumentPath, value: Any, label: str) -> bool:
        """Put something in that has to stand, with numbers that nobody gave: they are marked as assumed."""
        return self.apply(Change(label, ((path, value),), numbers_below(path, value)))

    def set_guiding(self, kind: str) -> bool:
        """Change the kind of guiding; the guide path is kept wherever the new kind can hold one."""
        guiding: dict[str, Any] = {"kind": kind}
        path = [part.model_dump(mode="json", exclude_unset=True) for part in self.rig.guiding.path]
        filled: list[DocumentPath] = []
        if kind == "off_axis":
            tapped = next((part for part in self.rig.train if part.prism is not None), None)
            if tapped is None:
                self.refused.emit(
                    "the train has no off-axis guider with a prism: add one (Part → Add), then choose off axis"
                )
                return False
            guiding |= {"taps": tapped.id, "path": path}
        elif kind == "separate":
            guiding |= {"telescope": {"id": "guide_telescope", **NEW_GUIDE_TELESCOPE}, "path": path}
            filled = [("guiding", "telescope", key) for key in ("focal_length_mm", "aperture_mm")]
        return self.apply(Change("Change the kind of guiding", ((("guiding",), guiding),), tuple(filled)))

    def take_draft(self, drafted: Draft, label: str) -> None:
        """Go on from a drafted rig; undo takes the whole of it back."""
        self.variant = None
        self._push(drafted.rig, label)

    def add_next(self, kind: str, shelf_id: str, *, guide: bool) -> bool:
        """Put the next part in at the open end of the train or the guide path: of a kind, or from the shelf."""
        end = open_end(self.rig, guide=guide)
        if end is None:
            return False
        where: DocumentPath = ("guiding", "path") if guide else ("train",)
        entry = self.stock.shelf.find(shelf_id) if shelf_id else None
        if entry is not None:
            return self.put_in(entry.part, where, end.index)
        return self.add_part(where, end.index, kind)

    def put_in(self, part: Part, list_path: DocumentPath, index: int) -> bool:
        """Put a copy of a shelf part in before ``index`` and choose it."""
        document = part.model_dump(mode="json", exclude_unset=True)
        document["id"] = edit.free_id(self._everything(), part.id)
        return self._insert(list_path, index, document, f"Put {part.title} in")

    def place_after_chosen(self, *, guide: bool = False) -> tuple[DocumentPath, int]:
        """Return the path and index behind the chosen part, but before the camera that ends its path."""
        chosen = self.chosen
        on_guide = chosen[0][0] == "guiding" if chosen else guide and self.rig.guiding.kind != "none"
        parts = self.rig.guiding.path if on_guide else self.rig.train
        index = int(chosen[0][-1]) + 1 if chosen else len(parts)
        if index == len(parts) and parts and parts[-1].kind == "camera":
            index -= 1
        return (("guiding", "path") if on_guide else ("train",)), index

    def _insert(
        self,
        list_path: DocumentPath,
        index: int,
        part: dict[str, Any],
        label: str,
        assumes: Sequence[DocumentPath] = (),
    ) -> bool:
        where = self._place(list_path)
        return self._restructure(
            lambda: edit.insert_part(self.document, where, index, part, assumes), label, part["id"]
        )

    def _place(self, list_path: DocumentPath) -> DocumentPath:
        return document_path(self.document, self.variant, list_path)

    def _everything(self) -> Rig:
        """Return a rig that holds the parts of all variants, for finding ids that none of them uses."""
        parts = {part.id: part for part in self.document.train}
        for variant in self.document.variants:
            parts |= {entry.id: entry for entry in variant.train if not isinstance(entry, str)}
        return self.document.model_copy(update={"train": tuple(parts.values())})

    def duplicate_part(self, part_id: str) -> bool:
        """Put a copy of a part behind it and choose the copy."""
        found = self.rig.find(part_id)
        if found is None:
            return False
        (*where, index), part = found
        copy = part.model_dump(mode="json", exclude_unset=True)
        copy["id"] = edit.free_id(self._everything(), part.id)
        assert isinstance(index, int)
        return self._insert(tuple(where), index + 1, copy, f"Duplicate {part.title}")

    def take_out(self, part_id: str) -> bool:
        """Take a part out and choose its neighbour."""
        found = self.rig.find(part_id)
        if found is None:
            return False
        (*where, index), part = found
        assert isinstance(index, int)
        neighbours = self.rig.train if where == ["train"] else self.rig.guiding.path
        rest = [other.id for other in neighbours if other.id != part_id]
        choose = rest[min(index, len(rest) - 1)] if rest else None
        return self._restructure(
            lambda: edit.remove_part(self.document, self._place(tuple(where)), index), f"Take out {part.title}", choose
        )

    def move_to(self, part_id: str, path: str, index: int) -> bool:
        """Move a part of the train or the guide path so that it stands before what is at ``index`` now."""
        found = self.rig.find(part_id)
        if found is None:
            return False
        (*where, at), part = found
        assert isinstance(at, int)
        if (where == ["train"]) != (path == "train"):
            self.refused.emit(f"{part.title} stays on its own path: take it out there, and add it here")
            return False
        steps = index - at - (1 if index > at else 0)
        return self.move_part(part_id, steps) if steps else False

    def drop_from_shelf(self, shelf_id: str, path: str, index: int) -> bool:
        """Put a copy of a shelf part in before ``index`` of the train or the guide path."""
        entry = self.stock.shelf.find(shelf_id)
        if entry is None:
            return False
        parts = self.rig.train if path == "train" else self.rig.guiding.path
        if parts and parts[-1].kind == "camera":
            index = min(index, len(parts) - 1)
        return self.put_in(entry.part, ("train",) if path == "train" else ("guiding", "path"), index)

    def move_part(self, part_id: str, steps: int) -> bool:
        """Move a part toward the sensor (steps > 0) or the telescope (steps < 0)."""
        found = self.rig.find(part_id)
        if found is None:
            return False
        (*where, index), part = found
        assert isinstance(index, int)
        count = len(self.rig.train if where == ["train"] else self.rig.guiding.path)
        to = min(max(index + steps, 0), count - 1)
        place = self._place(tuple(where))
        return self._restructure(lambda: edit.move_part(self.document, place, index, to), f"Move {part.title}", part_id)

    def _restructure(self, make: Any, label: str, choose: str | None) -> bool:
        try:
            rig = make()
        except InputError as error:
            self.refused.emit(str(error))
            return False
        self.chosen_part = choose
        self._push(rig, label)
        self.chosen_changed.emit()
        return True

    def undo(self) -> None:
        """Go back one edit."""
        if self.history.undo():
            self._compute()
            self.changed.emit()

    def redo(self) -> None:
        """Go forward one edit."""
        if self.history.redo():
            self._compute()
            self.changed.emit()

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

    # Spacers and variants

    def show_night(self, outcome: NightOutcome | None) -> None:
        """Show one of the nights that were played wherever the night is drawn; None for the plain one."""
        self.night = outcome
        self.night_changed.emit()

    def apply_spacers(self, result: SpacerResult, chosen: SpacerSet) -> bool:
        """Put a set of spacers in, in place of what stood in their places."""
        from wyntaxis.core.train.spacers import apply_set

        train = train_entries(self.document, self.variant, apply_set(self.rig, result, chosen))
        where = ("variants", variant_index(self.document, self.variant), "train") if self.variant else ("train",)
        try:
            rig = edit.apply(self.document, Change.of("Put spacers in", where, train))  # type: ignore[arg-type]
        except InputError as error:
            self.refused.emit(str(error))
            return False
        self._push(rig, "Put spacers in")
        return True

    def show_variant(self, name: str | None) -> None:
        """Show a variant, or the rig's own train."""
        if name != self.variant:
            self.variant = name
            self._compute()
            self.changed.emit()

    def add_variant(self) -> bool:
        """Add a variant that begins as a copy of the train shown, and show it."""
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

    def remove_variant(self) -> bool:
        """Take the variant shown out of the document, and show the rig's own train."""
        index = variant_index(self.document, self.variant)
        if index is None:
            return False
        rig = edit.apply(self.document, Change.of("Remove a variant", ("variants", index), None))
        self.variant = None
        self._push(rig, "Remove a variant")
        return True

    # Saving

    def save(self, path: Path, *, protected: bool = False, reason: str | None = None) -> tuple[str, ...]:
        """Write the rig with a line in its history, and return what could not be kept of the file that was there.

        Raises
        ------
        InputError
            In one line, when the place cannot be written.
        """
        labels, reason = self.history.unsaved_labels, reason or self.next_reason
        saved = recording.save(self.document, path, labels, reason, protected=protected)
        self.next_reason = ""
        self.sha256, self.path = saved.sha256, path
        self.history.mark_saved()
        self.saved_changed.emit()
        return saved.notes

    def take_back(self, rig: Rig, label: str) -> bool:
        """Make the document what it was at another time, as one edit that can be undone."""
        if rig == self.document:
            return False
        self._push(rig, label)
        return True

    def changed_on_disk(self) -> bool:
        """Return whether the file is no longer the one that was opened or saved here."""
        return self.path is not None and is_there(self.path) and sha256_of(self.path) != self.sha256

    # Accepting

    def accept(self, reason: str) -> bool:
        """Accept the chosen finding, with a reason and today's date."""
        finding = self.chosen_finding
        return finding is not None and self.apply(acceptance(self.evaluation, finding, reason, utc_stamp()))

    def withdraw(self) -> bool:
        """Take the acceptance of the chosen finding back."""
        finding = self.chosen_finding
        return finding is not None and self.apply(withdrawal(self.rig, finding))

    def subject_of(self, finding: Finding) -> str:
        """Return what a finding's subject is called, where its title does not say it."""
        title = subject_title(self.rig, finding.subject)
        return "" if title.casefold() in finding.title.casefold() else title

    # Choosing

    def choose_part(self, part_id: str | None) -> None:
        """Choose a part, or none; the margin turns to the gravest finding about it, if there is one."""
        if part_id == self.chosen_part:
            return
        self.chosen_part = part_id
        about = [f for f in self.evaluation.findings if part_id in f.parts(self.rig)]
        if about:
            gravest = max(about, key=lambda f: f.verdict.severity)
            self._chosen_finding = (gravest.id, gravest.subject)
        self.chosen_changed.emit()

    def choose_device(self, device_id: str) -> None:
        """Choose a device, or a supply: its card, and the gravest finding about it."""
        about = [f for f in self.evaluation.findings if f.subject == device_id]
        if about:
            self.choose_finding(max(about, key=lambda f: f.verdict.severity))
        self.device_changed.emit(device_id)

    def plug(self, device_id: str, into: str) -> bool:
        """Plug a device into a hub or the computer, or hang it, or a supply, on a supply."""
        change = plugging(self.document, device_id, into)
        if change is None:
            self.refused.emit("a line goes from a device to a hub, the computer or a supply, or from supply to supply")
            return False
        return self.apply(change)

    def choose_finding(self, finding: Finding) -> None:
        """Choose the finding that the margin tells."""
        key = (finding.id, finding.subject)
        if key != self._chosen_finding:
            self._chosen_finding = key
            self.chosen_changed.emit()

    def choose_finding_of(self, quantity_id: str) -> None:
        """Choose the gravest finding that speaks of a quantity, if one does."""
        about = [f for f in self.evaluation.findings if quantity_id in f.quantities]
        if about:
            self.choose_finding(max(about, key=lambda f: f.verdict.severity))

    @property
    def chosen_finding(self) -> Finding | None:
        """The finding chosen, as it stands now; the gravest one before any is chosen."""
        findings = self.evaluation.findings
        if self._chosen_finding is not None:
            found = next((f for f in findings if (f.id, f.subject) == self._chosen_finding), None)
            found = found or next((f for f in findings if f.id == self._chosen_finding[0]), None)
            if found is not None:
                return found
        return max(findings, key=lambda f: f.verdict.severity, default=None)

    @property
    def chosen(self) -> tuple[DocumentPath, Part] | None:
        """The chosen part and its path within the file."""
        return self.rig.find(self.chosen_part) if self.chosen_part else None

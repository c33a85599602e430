"""Edits of the train and the guide path: parts put in, moved and taken out, lengths, spacers, the kind of guiding."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.json_values import JsonObject, JsonValue
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.blank import NEW_PART_LENGTH_MM
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.parts import Part
from wyntaxis.core.rig.variants import train_entries, variant_index
from wyntaxis.core.train.next_part import open_end
from wyntaxis.desk.edited_rig import EditedRig

if TYPE_CHECKING:
    from wyntaxis.core.train.spacers import SpacerResult, SpacerSet

NEW_GUIDE_TELESCOPE = {"name": "Guide telescope", "focal_length_mm": 200, "aperture_mm": 50}


class EditedTrain(EditedRig):
    """Each edit is one step of the history; False where it was refused, or there was nothing to do."""

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
        part: JsonObject = {"id": part_id, "kind": kind, "length_mm": NEW_PART_LENGTH_MM}
        return self.insert(list_path, index, part, f"Add {kind.replace('_', ' ')}", [("length_mm",)])

    def set_guiding(self, kind: str) -> bool:
        """Change the kind of guiding; the guide path is kept wherever the new kind can hold one."""
        guiding: JsonObject = {"kind": kind}
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
        return self.insert(list_path, index, document, f"Put {part.title} in")

    def place_after_chosen(self, *, guide: bool = False) -> tuple[DocumentPath, int]:
        """Return the path and index behind the chosen part, but before the camera that ends its path."""
        chosen = self.chosen
        on_guide = chosen[0][0] == "guiding" if chosen else guide and self.rig.guiding.kind != "none"
        parts = self.rig.guiding.path if on_guide else self.rig.train
        index = int(chosen[0][-1]) + 1 if chosen else len(parts)
        if index == len(parts) and parts and parts[-1].kind == "camera":
            index -= 1
        return (("guiding", "path") if on_guide else ("train",)), index

    def insert(
        self,
        list_path: DocumentPath,
        index: int,
        part: JsonObject,
        label: str,
        assumes: Sequence[DocumentPath] = (),
    ) -> bool:
        where = self._place(list_path)
        return self._restructure(
            lambda: edit.insert_part(self.document, where, index, part, assumes), label, part["id"]
        )

    def duplicate_part(self, part_id: str) -> bool:
        """Put a copy of a part behind it and choose the copy."""
        found = self.rig.find(part_id)
        if found is None:
            return False
        (*where, index), part = found
        copy = part.model_dump(mode="json", exclude_unset=True)
        copy["id"] = edit.free_id(self._everything(), part.id)
        assert isinstance(index, int)
        return self.insert(tuple(where), index + 1, copy, f"Duplicate {part.title}")

    def take_out(self, part_id: str) -> bool:
        """Take a part out and choose its neighbour; where variants use it too, ask whether it goes out of them."""
        found = self.rig.find(part_id)
        if found is None:
            return False
        (*where, index), part = found
        assert isinstance(index, int)
        neighbours = self.rig.train if where == ["train"] else self.rig.guiding.path
        rest = [other.id for other in neighbours if other.id != part_id]
        choose = rest[min(index, len(rest) - 1)] if rest else None
        users = [own.name for own in self.document.variants if part_id in own.train] if where == ["train"] else []
        if users and self._place(tuple(where)) == ("train",):
            try:
                edit.remove_shared_part(self.document, part_id)
            except InputError as error:  # the guide branch is at it, say
                self.refused.emit(str(error))
                return False
            label = f"Take out {part.title}, of the variants too"
            names = ", ".join(f"“{name}”" for name in users)
            self.asked.emit(
                f"{part.title} is also in {names}.",
                [
                    (
                        "Take it out there too",
                        lambda: self._restructure(
                            lambda: edit.remove_shared_part(self.document, part_id), label, choose
                        ),
                    ),
                    ("Leave it in", lambda: None),
                ],
            )
            return False
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

    def _restructure(self, make: JsonValue, label: str, choose: str | None) -> bool:
        self._begin_edit()
        try:
            rig = make()
        except InputError as error:
            self.refused.emit(str(error))
            return False
        self.chosen_part = choose
        self._push(rig, label)
        self.chosen_changed.emit()
        return True

    def apply_spacers(self, result: SpacerResult, chosen: SpacerSet) -> bool:
        """Put a set of spacers in, in place of what stood in their places."""
        from wyntaxis.core.train.spacers import apply_set

        self._begin_edit()
        train = train_entries(self.document, self.variant, apply_set(self.rig, result, chosen))
        where = ("variants", variant_index(self.document, self.variant), "train") if self.variant else ("train",)
        try:
            rig = edit.apply(self.document, Change.of("Put spacers in", where, train))  # type: ignore[arg-type]
        except InputError as error:
            self.refused.emit(str(error))
            return False
        self._push(rig, "Put spacers in")
        return True

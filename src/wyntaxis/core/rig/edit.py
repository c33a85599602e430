"""Edits as values: a rig and a change give a new rig, or one line saying why not."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from wyntaxis.core.files.errors import InputError, path_text
from wyntaxis.core.json_values import JsonObject, JsonValue
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.dependencies import record_dependencies
from wyntaxis.core.rig.marks import MarkTracker, named_paths
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.store import validated


@dataclass(frozen=True)
class Change:
    """Values to set at paths within the document, all or none; None takes the key out."""

    label: str
    values: tuple[tuple[DocumentPath, JsonValue], ...]
    assumes: tuple[DocumentPath, ...] = ()
    """Paths, after the change, of values in it that nobody gave."""

    @classmethod
    def of(cls, label: str, path: Sequence[str | int], value: JsonValue) -> Change:
        return cls(label, ((tuple(path), value),))

    def for_version(self, made_for: Rig, now: Rig) -> Change:
        """Return the change for another version of the document: what has an id is found by it, wherever it stands.

        Parameters
        ----------
        made_for, now
            The version that the change's paths are of, and the one that it is to be made in.

        Raises
        ------
        InputError
            Where something that it changes is no longer there.
        """
        if made_for is now:
            return self
        before, after = _document(made_for), _document(now)
        values = tuple((place_in(before, after, path), value) for path, value in self.values)
        return Change(self.label, values, tuple(place_in(before, after, path) for path in self.assumes))


def place_in(before: JsonValue, after: JsonValue, path: DocumentPath) -> DocumentPath:
    """Return where a place of one version of a document lies in another, by the ids on the way.

    What is appended to a list goes behind what the other version has appended to it.

    Raises
    ------
    InputError
        Where what it lies in is no longer there.
    """
    (named,) = named_paths(before, [path])
    found: list[str | int] = []
    was, node = before, after
    for step, own in zip(named, path, strict=True):
        at: JsonValue = step
        if isinstance(step, int) and isinstance(node, list) and (was is None or isinstance(was, list)):
            behind = step - len(was or ())  # a list that was not there was empty
            at = len(node) + behind if behind >= 0 else step
        if isinstance(step, tuple):
            entries = node if isinstance(node, list) else []
            at = next((i for i, e in enumerate(entries) if isinstance(e, dict) and e.get("id") == step[1]), None)
            if at is None:
                raise InputError(f'{path_text(path)}: "{step[1]}" is no longer in this rig; nothing was changed')
        found.append(at)
        was, node = _within(was, own), _within(node, at)
    return tuple(found)


def _within(node: JsonValue, step: JsonValue) -> JsonValue:
    """Return what lies at a step of a node; None for nothing."""
    try:
        return node[step]
    except (LookupError, TypeError):
        return None


def apply(rig: Rig, change: Change) -> Rig:
    """Return the rig with the change made.

    Raises
    ------
    InputError
        If the result would not be a rig; the line names the path within the file.
    """
    document = _document(rig)
    marks, typed = MarkTracker(document), named_paths(document, [path for path, _ in change.values])
    for path, value in change.values:
        _set(document, path, value)
    touched = {path[0] for path, _ in change.values}
    placed = _place_dark_currents(rig, document)
    if "assumed" not in touched:
        marks.into(document, typed, (*change.assumes, *placed), carries_sources="sources" not in touched)
    _rename_in_records(rig, document)
    return record_dependencies(rig, validated(document))


def _place_dark_currents(rig: Rig, document: JsonValue) -> list[DocumentPath]:
    """Let a stated dark current stay that of the set temperature that is being changed; return what is assumed so.

    One without a temperature of its own is taken as that of the set temperature. When that is changed nobody knows what
    the current is at the new one, and so it is not verified until somebody says.
    """
    before = {device.id: device.number("set_temperature_c") for device in rig.devices}
    found: list[DocumentPath] = []
    devices = document.get("devices") or []
    for place, device in enumerate(devices if isinstance(devices, list) else []):
        settings = device.get("settings") if isinstance(device, dict) else None
        if not isinstance(settings, dict):
            continue
        reported = {key: settings.get(key) or {} for key in ("set_temperature_c", "dark_current_e_s")}
        was, now = before.get(str(device.get("id"))), reported["set_temperature_c"].get("value")
        is_stated = reported["dark_current_e_s"].get("value") is not None
        if was is not None and now is not None and was != now and is_stated and "dark_at_c" not in settings:
            settings["dark_at_c"] = {"value": was}
            found.append(("devices", place, "settings", "dark_at_c", "value"))
    return found


def _rename_in_records(rig: Rig, document: JsonValue) -> None:
    """Let the records that belong to a train follow when it is renamed."""
    before = [rig.name, *(variant.name for variant in rig.variants)]
    variants, records = document.get("variants") or [], document.get("records") or []
    if not all(
        isinstance(entries, list) and all(isinstance(entry, dict) for entry in entries)
        for entries in (variants, records)
    ):
        return  # no rig: the validation says why
    after = [document.get("name"), *(variant.get("name") for variant in variants)]
    if len(before) != len(after):
        return
    renamed = {old: new for old, new in zip(before, after, strict=True) if old != new and isinstance(new, str)}
    for record in records if renamed else []:
        if isinstance(record.get("variant"), str) and record["variant"] in renamed:
            record["variant"] = renamed[record["variant"]]


def insert_part(
    rig: Rig, list_path: DocumentPath, index: int, part: JsonObject, assumes: Sequence[DocumentPath] = ()
) -> Rig:
    """Return the rig with a part put in before ``index`` of ``train`` or ``guiding.path``.

    ``assumes`` are the paths, below the part, of what nobody gave of it.
    """
    marks = [(*list_path, index, *path) for path in assumes]
    return _with_list(rig, list_path, lambda parts: [*parts[:index], part, *parts[index:]], marks)


def remove_part(rig: Rig, list_path: DocumentPath, index: int) -> Rig:
    """Return the rig without one part."""
    return _with_list(rig, list_path, lambda parts: [*parts[:index], *parts[index + 1 :]])


def remove_shared_part(rig: Rig, part_id: str) -> Rig:
    """Return the rig without a part of its own train, which is taken out of every variant that uses it too.

    Raises
    ------
    InputError
        Where the result would be no rig, such as a variant without its guider.
    """
    document = _document(rig)
    marks = MarkTracker(document)
    document["train"] = [part for part in document["train"] if part["id"] != part_id]
    for variant in document.get("variants", []):
        variant["train"] = [entry for entry in variant["train"] if entry != part_id]
    marks.into(document)
    return record_dependencies(rig, validated(document))


def move_part(rig: Rig, list_path: DocumentPath, index: int, to: int) -> Rig:
    """Return the rig with one part moved so that it has index ``to``."""

    def moved(parts: list[JsonValue]) -> list[JsonValue]:
        rest = [*parts[:index], *parts[index + 1 :]]
        return [*rest[:to], parts[index], *rest[to:]]

    return _with_list(rig, list_path, moved)


def free_id(rig: Rig, stem: str) -> str:
    """Return the stem, or the stem with the first number that makes it an id not yet used in the rig."""
    used = {part.id for _, part in rig.parts()} | {rig.telescope.id}
    if rig.guiding.telescope is not None:
        used.add(rig.guiding.telescope.id)
    if stem not in used:
        return stem
    number = 2
    while f"{stem}_{number}" in used:
        number += 1
    return f"{stem}_{number}"


def _with_list(
    rig: Rig,
    list_path: DocumentPath,
    edit: Callable[[list[JsonValue]], list[JsonValue]],
    assumes: Sequence[DocumentPath] = (),
) -> Rig:
    document = _document(rig)
    marks = MarkTracker(document)
    holder = document
    for step in list_path[:-1]:
        holder = holder[step]
    holder[list_path[-1]] = edit(list(holder.get(list_path[-1], [])))
    marks.into(document, assumes=assumes)
    return record_dependencies(rig, validated(document))


def _document(rig: Rig) -> JsonValue:
    """Return the rig as its file holds it: plain dictionaries and lists, only the keys that were set."""
    return rig.model_dump(mode="json", exclude_unset=True)


def _set(document: JsonValue, path: DocumentPath, value: JsonValue) -> None:
    node = document
    for position, step in enumerate(path[:-1]):
        if isinstance(node, dict) and node.get(step) is None:
            node[step] = [] if isinstance(path[position + 1], int) else {}
        try:
            node = node[step]
        except (IndexError, TypeError, KeyError):
            raise InputError(f"{path_text(path[: position + 1])}: is not in this rig") from None
    last = path[-1]
    if not isinstance(node, (list, dict)):
        raise InputError(f"{path_text(path)}: is not in this rig")
    if isinstance(node, list):
        if not isinstance(last, int) or not 0 <= last <= len(node):
            raise InputError(f"{path_text(path)}: is not in this rig")
        if value is None:
            del node[last : last + 1]
        else:
            node[last : last + 1] = [value]
    elif value is None:
        node.pop(last, None)
    else:
        node[last] = value


@dataclass
class History:
    """Every version of the rig since it was opened, and where in them we stand."""

    versions: list[Rig]
    labels: list[str] = field(default_factory=list)
    at: int = 0
    saved_at: int | None = 0

    LIMIT = 500

    @property
    def rig(self) -> Rig:
        return self.versions[self.at]

    @property
    def dirty(self) -> bool:
        """Whether the rig differs from what was last saved."""
        return self.saved_at is None or self.versions[self.saved_at] != self.rig

    @property
    def undo_label(self) -> str | None:
        return self.labels[self.at - 1] if self.at > 0 else None

    @property
    def redo_label(self) -> str | None:
        return self.labels[self.at] if self.at < len(self.labels) else None

    @property
    def unsaved_labels(self) -> tuple[str, ...]:
        """What was edited, or taken back, since the last save, in words."""
        if self.saved_at is None:
            return tuple(self.labels[: self.at])
        if self.at >= self.saved_at:
            return tuple(self.labels[self.saved_at : self.at])
        return tuple(f"Undo: {label}" for label in reversed(self.labels[self.at : self.saved_at]))

    def push(self, rig: Rig, label: str) -> bool:
        """Take a new version; return False when it is no different."""
        if rig == self.rig:
            return False
        del self.versions[self.at + 1 :], self.labels[self.at :]
        if self.saved_at is not None and self.saved_at > self.at:
            self.saved_at = None
        self.versions.append(rig)
        self.labels.append(label)
        self.at += 1
        if len(self.labels) > self.LIMIT:
            del self.versions[0], self.labels[0]
            self.at -= 1
            self.saved_at = None if not self.saved_at else self.saved_at - 1
        return True

    def undo(self) -> bool:
        """Go back one version, if there is one."""
        if self.at == 0:
            return False
        self.at -= 1
        return True

    def redo(self) -> bool:
        """Go forward one version, if there is one."""
        if self.at == len(self.labels):
            return False
        self.at += 1
        return True

    def mark_saved(self, version: Rig | None = None) -> None:
        """Note that a version was saved: the present one, or one from before that is still known."""
        if version is None or version is self.rig:
            self.saved_at = self.at
        else:
            self.saved_at = next((at for at, own in enumerate(self.versions) if own is version), None)

"""The rig that is being drafted: what a source gives is taken where nothing was given, else told as a question."""

from __future__ import annotations

import copy
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from itertools import pairwise
from typing import Annotated

from pydantic import TypeAdapter, ValidationError

from wyntaxis.core.files.errors import path_text
from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.json_values import JsonObject, JsonValue
from wyntaxis.core.rig.base import DocumentPath, StrictModel
from wyntaxis.core.rig.blank import NEW_PART_LENGTH_MM
from wyntaxis.core.rig.device_settings import check_setting
from wyntaxis.core.rig.marks import MarkTracker, parse_path, value_at
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import Sensor, Telescope
from wyntaxis.core.rig.plan import Site
from wyntaxis.core.rig.store import validated

SAME_SHARE = 1e-4
"""Two numbers this close, as a share, are told by two sources as one."""


@dataclass(frozen=True)
class Question:
    """What the sources leave open, in a sentence, and the path that it is about, if one."""

    text: str
    path: str = ""


@dataclass(frozen=True)
class NotUsed:
    """A file that gave nothing, and why."""

    file: str
    why: str


@dataclass(frozen=True)
class Draft:
    """A drafted rig, what was taken from where, what is open, and what was not used."""

    rig: Rig
    taken: tuple[str, ...]
    questions: tuple[Question, ...]
    not_used: tuple[NotUsed, ...]

    def as_json(self) -> dict[str, object]:
        """Return what was drafted as ``wyntaxis draft --json`` prints it."""
        return {
            "taken": [
                {"path": path, "value": _plain(value_at(self.rig, parse_path(path))), "origin": self.rig.origin[path]}
                for path in self.taken
            ],
            "assumed": list(self.rig.assumed),
            "questions": [{"text": question.text, "path": question.path} for question in self.questions],
            "not_used": [{"file": entry.file, "why": entry.why} for entry in self.not_used],
        }


def _plain(value: JsonValue) -> JsonValue:
    return value if isinstance(value, (str, int, float, bool)) or value is None else getattr(value, "name", str(value))


@dataclass
class RigDraft:
    """A rig's document while sources are read into it, one after another."""

    document: JsonObject
    before: frozenset[str] = frozenset()
    questions: list[Question] = field(default_factory=list)
    not_used: list[NotUsed] = field(default_factory=list)

    @classmethod
    def of(cls, rig: Rig) -> RigDraft:
        """Return a book that goes on from a rig."""
        return cls(copy.deepcopy(rig.model_dump(mode="json", exclude_unset=True)), frozenset(rig.origin))

    @property
    def assumed(self) -> list[str]:
        """The paths of what nobody gave so far."""
        found: list[str] = self.document.setdefault("assumed", [])
        return found

    @property
    def origin(self) -> dict[str, str]:
        """Where each value comes from, by its path."""
        found: dict[str, str] = self.document.setdefault("origin", {})
        return found

    def held(self, path: DocumentPath) -> JsonValue:
        """Return what is at a path, None where there is nothing."""
        try:
            return value_at(self.document, path)
        except LookupError:
            return None

    def is_open(self, path: DocumentPath) -> bool:
        """Return whether nobody gave the value at a path yet."""
        return self.held(path) is None or path_text(path) in self.assumed

    def give(self, path: DocumentPath, value: JsonValue, origin: str) -> bool:
        """Take a value where none was given; return False where another was, which stays.

        What no rig can hold is left out, and told.
        """
        text = path_text(path)
        value = plain(value) if isinstance(value, str) else value
        fault = self.fault_of(path, value)
        if fault:
            self.ask(f"{origin}: {value} is left out: {fault}", path)
            return True
        if not self.is_open(path):
            return same(self.held(path), value)
        self._set(path, value)
        if text in self.assumed:
            self.assumed.remove(text)
        self.origin[text] = plain(origin)[:200]
        return True

    def fault_of(self, path: DocumentPath, value: JsonValue) -> str:
        """Return why a rig cannot hold a value at a path, empty where it can."""
        if "settings" in path and path[0] == "devices":
            device = self.held(path[:2])
            try:
                check_setting(device["kind"], str(path[3]), value)
            except ValueError as error:
                return str(error).partition(": ")[2]
            return ""
        model = next((model for key, model in _MODELS.items() if len(path) > 1 and path[-2] == key), None)
        if model is None or str(path[-1]) not in model.model_fields:
            return ""
        try:
            _adapter(model, str(path[-1])).validate_python(value)
        except ValidationError as error:
            return str(error.errors(include_url=False)[0]["msg"])
        return ""

    def assume(self, path: DocumentPath, value: float) -> None:
        """Fill a value in that nobody gave, so that the rig can stand."""
        if self.held(path) is None:
            self._set(path, value)
            self.assumed.append(path_text(path))

    def mark(self, path: DocumentPath) -> None:
        """Mark a value that stands as one that nobody gave."""
        if path_text(path) not in self.assumed:
            self.assumed.append(path_text(path))

    def ask(self, text: str, path: DocumentPath = ()) -> None:
        """Note what the sources leave open."""
        self.questions.append(Question(plain(text), path_text(path)))

    def leave_out(self, file: str, why: str) -> None:
        """Note a file that gave nothing."""
        self.not_used.append(NotUsed(plain(file), plain(why)))

    def differs(self, record_id: str, name: str, key: str, value: float) -> None:
        """Keep what a source says against the rig, as a record that the findings hold against it."""
        records = self.document.setdefault("records", [])
        record = next((entry for entry in records if entry["id"] == record_id), None)
        if record is None:
            record = {"id": record_id, "name": name, "values": {}}
            records.append(record)
        record["values"].setdefault(key, value)

    def list_of(self, key: str) -> list[JsonValue]:
        """Return one of the document's lists, to be added to."""
        found: list[JsonValue] = self.document.setdefault(key, [])
        return found

    def device(self, device_id: str) -> tuple[int, JsonObject] | None:
        """Return a device with its place."""
        return next(((i, d) for i, d in enumerate(self.list_of("devices")) if d["id"] == device_id), None)

    def add_device(self, device_id: str, kind: str, origin: str, **more: JsonValue) -> int:
        """Add a device under an id that is free, and return its place."""
        devices = self.list_of("devices")
        used = {device["id"] for device in devices}
        own, number = device_id, 2
        while own in used:
            own, number = f"{device_id}_{number}", number + 1
        devices.append({"id": own, "kind": kind})
        at = len(devices) - 1
        for key, value in more.items():
            if value is not None:
                self.give(("devices", at, key), value, origin)
        return at

    def add_part(self, list_path: DocumentPath, index: int, part_id: str, kind: str) -> DocumentPath:
        """Add a part whose length nobody gave, and return its path."""
        parts = self.held(list_path)
        marks = MarkTracker(self.document)
        parts.insert(index, {"id": part_id, "kind": kind, "length_mm": NEW_PART_LENGTH_MM})
        path = (*list_path, index)
        marks.into(self.document, assumes=[(*path, "length_mm")])
        return path

    def _set(self, path: DocumentPath, value: JsonValue) -> None:
        node: JsonValue = self.document
        for step, after in pairwise(path):
            if isinstance(node, dict) and node.get(step) is None:
                node[step] = [] if isinstance(after, int) else {}
            node = node[step]
        last = path[-1]
        if isinstance(node, list) and last == len(node):
            node.append(value)
        else:
            node[last] = value

    def take(self, rig: Rig) -> None:
        """Go on from a rig that was made of this book's."""
        self.document = copy.deepcopy(rig.model_dump(mode="json", exclude_unset=True))

    def rig(self) -> Rig:
        """Return the rig as it stands.

        Raises
        ------
        InputError
            When the sources gave what no rig can hold.
        """
        document = copy.deepcopy(self.document)
        for key in ("assumed", "origin", "devices", "records"):
            if not document.get(key):
                document.pop(key, None)
        return validated(document)

    def draft(self) -> Draft:
        """Return the draft as it stands."""
        rig = self.rig()
        taken = tuple(path for path in rig.origin if path not in self.before)
        return Draft(rig, taken, tuple(self.questions), tuple(self.not_used))


_MODELS: dict[str, type[StrictModel]] = {"telescope": Telescope, "site": Site, "sensor": Sensor}
"""What is drafted value by value, by the key that it stands under."""


@lru_cache(maxsize=64)
def _adapter(model: type[StrictModel], name: str) -> TypeAdapter[JsonValue]:
    """Return what checks one field of a model alone."""
    info = model.model_fields[name]
    kind: JsonValue = info.annotation
    for note in info.metadata:
        kind = Annotated[kind, note]
    return TypeAdapter(kind)


def same(one: JsonValue, other: JsonValue) -> bool:
    """Return whether two sources tell one value: numbers to a share of :data:`SAME_SHARE`, texts in any capitals."""
    if isinstance(one, str) and isinstance(other, str):
        return one.casefold() == other.casefold()
    if isinstance(one, (int, float)) and isinstance(other, (int, float)):
        return abs(one - other) <= SAME_SHARE * max(abs(one), abs(other))
    return bool(one == other)


def commonest(values: Sequence[tuple[JsonValue, str]]) -> list[tuple[JsonValue, int, str]]:
    """Return the distinct values of (value, file) pairs: value, count and a file that tells it, the commonest first.

    Numbers that :func:`same` takes for one are counted as one, in whichever way they are told most often.
    """
    counted: dict[JsonValue, list[JsonValue]] = {}
    for value, file in values:
        key = value.casefold() if isinstance(value, str) else value
        counted.setdefault(key, [value, 0, file])[1] += 1
    numbers = sorted((entry for entry in counted.values() if not isinstance(entry[0], str)), key=lambda own: own[0])
    found = [entry for entry in counted.values() if isinstance(entry[0], str)]
    group: list[list[JsonValue]] = []
    for entry in numbers:
        if group and not same(group[0][0], entry[0]):
            found.append(_as_one(group))
            group = []
        group.append(entry)
    found += [_as_one(group)] if group else []
    return [(value, count, file) for value, count, file in sorted(found, key=lambda own: -own[1])]


def _as_one(group: Sequence[Sequence[JsonValue]]) -> list[JsonValue]:
    value, _, file = max(group, key=lambda own: own[1])
    return [value, sum(own[1] for own in group), file]

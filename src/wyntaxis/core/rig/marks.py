"""What is marked in a rig by path: values that nobody gave (``assumed``), where drafted ones are from (``origin``), and
who gives which figure (``sources``).

A mark follows its value through edits by the ids of what it lies in, and goes when the value is given.
"""

from __future__ import annotations

import copy
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from pydantic import BaseModel

from wyntaxis.core.files.errors import path_text
from wyntaxis.core.json_values import JsonObject, JsonValue
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.device_settings import SETTINGS
from wyntaxis.core.rig.display import displayed_at

_STEP = re.compile(r"\.?(?:\[(\d{1,6})\]|([A-Za-z_][A-Za-z_0-9]*)|(\d{1,6})(?=$|[.\[])|\"([^\"]{1,140})\")")

Named = tuple[str | int | tuple[str, str], ...]
"""A path that names what it lies in: an entry of a list by its id, where it has one."""


def parse_path(text: str) -> DocumentPath:
    """Return a path from its text; the inverse of :func:`wyntaxis.core.files.errors.path_text`.

    Parameters
    ----------
    text
        Such as ``train[3].length_mm``; ``train.3.length_mm`` will do.

    Raises
    ------
    ValueError
        When it is no path.
    """
    steps: list[str | int] = []
    at = 0
    while at < len(text):
        found = _STEP.match(text, at)
        if found is None or (at == 0 and text[0] in ".["):
            raise ValueError(f'"{text}" is no path such as train[3].length_mm')
        bracket, name, bare, quoted = found.groups()
        index = bracket or bare
        steps.append(int(index) if index else name or quoted or "")
        at = found.end()
    if not steps:
        raise ValueError("a path must not be empty")
    return tuple(steps)


def value_at(node: JsonValue, path: DocumentPath) -> JsonValue:
    """Return the value at a path of a document or a model; LookupError where there is none."""
    for step in path:
        if isinstance(node, BaseModel):
            if not isinstance(step, str) or step not in type(node).model_fields:
                raise KeyError(step)
            node = getattr(node, step)
        elif isinstance(node, (dict, list, tuple)):
            if isinstance(node, dict) == isinstance(step, int):
                raise KeyError(step)
            node = node[step]  # type: ignore[index]
        else:
            raise KeyError(step)
    return node


def _named(document: JsonValue, path: DocumentPath) -> Named:
    steps: list[JsonValue] = []
    node = document
    for step in path:
        try:
            node = value_at(node, (step,))
        except LookupError:
            node = None
        is_known = isinstance(step, int) and isinstance(node, dict) and isinstance(node.get("id"), str)
        steps.append(("id", node["id"]) if is_known else step)
    return tuple(steps)


def _placed(document: JsonValue, named: Named) -> DocumentPath | None:
    """Return where a named path lies in a document, None where that has no such value."""
    path: list[str | int] = []
    node = document
    for step in named:
        at: JsonValue = step
        if isinstance(step, tuple):
            entries = node if isinstance(node, list) else []
            at = next((i for i, e in enumerate(entries) if isinstance(e, dict) and e.get("id") == step[1]), None)
        try:
            node = value_at(node, (at,))
        except (LookupError, TypeError):
            return None
        path.append(at)
    return tuple(path)


def leaves(node: JsonValue, path: DocumentPath = ()) -> Iterator[DocumentPath]:
    """Yield the path of every plain value of a document below a place, but for ids."""
    if isinstance(node, dict):
        for key, value in node.items():
            if key != "id":
                yield from leaves(value, (*path, key))
    elif isinstance(node, list):
        for index, value in enumerate(node):
            yield from leaves(value, (*path, index))
    else:
        yield path


class MarkTracker:
    """The marks of a document, to be set anew when it has been edited.

    Parameters
    ----------
    document
        The document before the edit, as its file holds it.
    """

    def __init__(self, document: Mapping[str, JsonValue]) -> None:
        self._assumed = [(_named(document, path), value) for path, value in _marked(document, document.get("assumed"))]
        self._origin = [
            (_named(document, path), value, (document.get("origin") or {})[path_text(path)])
            for path, value in _marked(document, document.get("origin"))
        ]
        self._sources = [
            (_named(document, path), (document.get("sources") or {})[path_text(path)])
            for path, _ in _marked(document, document.get("sources"))
        ]

    def into(
        self,
        document: JsonObject,
        typed: Sequence[Named] = (),
        assumes: Sequence[DocumentPath] = (),
        *,
        carries_sources: bool = True,
    ) -> None:
        """Set the marks in the document after the edit.

        Parameters
        ----------
        document
            It is changed in place.
        typed
            What the edit sets: those values are given now, the same ones too.
        assumes
            Paths of values that the edit fills in without anybody having given them.
        carries_sources
            False where the edit sets the sources itself.
        """
        kept = [path_text(path) for path in self._still_assumed(document, typed)]
        kept += [text for text in map(path_text, assumes) if text not in kept]
        _set(document, "assumed", kept)
        reported = {}
        for named, value, words in self._origin:
            path = _placed(document, named)
            if path is not None and value_at(document, path) == value and named not in typed:
                reported[path_text(path)] = words
        _set(document, "origin", reported)
        if not carries_sources:
            return
        reported = {}
        for named, sourced in self._sources:  # who gives which figure stays, whichever of them is taken
            path = _placed(document, named)
            if path is not None and value_at(document, path) is not None:
                reported[path_text(path)] = sourced
        _set(document, "sources", reported)

    def _still_assumed(self, document: JsonObject, typed: Sequence[Named]) -> Iterator[DocumentPath]:
        for named, value in self._assumed:
            path = _placed(document, named)
            if path is None:
                continue
            for leaf in leaves(value_at(document, path), path):
                own = (*named, *leaf[len(path) :])
                try:
                    is_same = value_at(value, leaf[len(path) :]) == value_at(document, leaf)
                except LookupError:
                    is_same = False
                if is_same and own not in typed:
                    yield leaf


def named_paths(document: Mapping[str, JsonValue], paths: Sequence[DocumentPath]) -> list[Named]:
    """Return paths that name what they lie in, so that they can be found again after an edit."""
    return [_named(document, path) for path in paths]


def _marked(document: Mapping[str, JsonValue], texts: JsonValue) -> Iterator[tuple[DocumentPath, JsonValue]]:
    for text in texts or ():
        try:
            path = parse_path(text)
            yield path, copy.deepcopy(value_at(document, path))
        except (ValueError, LookupError, TypeError):
            continue  # a default that the file leaves out


def _set(document: JsonObject, key: str, marks: list[str] | JsonObject) -> None:
    if marks:
        document[key] = marks
    else:
        document.pop(key, None)


def of_variant(
    texts: Sequence[str], index: int, entries: Sequence[JsonValue], own: Sequence[str], replaced: Sequence[str]
) -> dict[str, str]:
    """Return the marks of a document that hold for one of its variants, by where they lie in the document.

    Parameters
    ----------
    texts
        The marked paths of the document.
    index, entries
        Which variant, and its train as the document holds it.
    own
        Ids of the parts of the document's own train.
    replaced
        Keys of which the variant has its own, such as ``telescope``.

    Returns
    -------
    dict of str to str
        The path within the variant's rig, by the path within the document.
    """
    places = {part_id: at for at, part_id in enumerate(own)}
    found = {}
    for text in texts:
        path = parse_path(text)
        if path[:2] == ("variants", index):
            found[text] = path_text(path[2:])
        elif path[0] == "train" and len(path) > 1:
            at = next(
                (
                    i
                    for i, entry in enumerate(entries)
                    if places.get(entry if isinstance(entry, str) else "") == path[1]
                ),
                None,
            )
            if at is not None:
                found[text] = path_text(("train", at, *path[2:]))
        elif path[0] not in ("train", "variants", *replaced):
            found[text] = text
    return found


def marked_leaves(rig: BaseModel, texts: Sequence[str]) -> frozenset[str]:
    """Return the paths of the plain values that are marked, each of a group's where a group is.

    Parameters
    ----------
    rig, texts
        The rig, and the paths of its marks.

    Returns
    -------
    frozenset of str
        Paths as text.
    """
    found = set()
    for text in texts:
        value = value_at(rig, parse_path(text))
        if isinstance(value, (BaseModel, tuple)):
            plain = value.model_dump(mode="json") if isinstance(value, BaseModel) else [v.model_dump() for v in value]
            found |= {path_text(path) for path in leaves(plain, parse_path(text))}
        else:
            found.add(path_text(parse_path(text)))
    return frozenset(found)


@dataclass(frozen=True)
class MarkedField:
    """A marked value: what it lies in, its label, unit and form, its path and the value."""

    thing: str
    label: str
    unit: str
    form: str
    path: DocumentPath
    value: JsonValue
    choices: tuple[str, ...] = ()

    @property
    def title(self) -> str:
        """What it is called: ``ring: length``."""
        return f"{self.thing}: {self.label[:1].lower()}{self.label[1:]}"


def marked_field(rig: BaseModel, text: str) -> MarkedField:
    """Return a marked value with how it is shown.

    Parameters
    ----------
    rig, text
        The rig, and the path of one of its values.

    Returns
    -------
    MarkedField
        Its label made of its keys where it is shown nowhere.
    """
    path = parse_path(text)
    thing, names = "", []
    node: JsonValue = rig
    model: type[BaseModel] = type(rig)
    for step in path:
        node = value_at(node, (step,))
        if isinstance(step, str):
            names.append(step)
        title = getattr(node, "title", None)
        if isinstance(node, BaseModel) and isinstance(title, str):
            thing, model, names = title, type(node), []
    if not thing and len(path) > 1 and isinstance(path[0], str):
        thing, model, names = path[0], type(value_at(rig, path[:1])), names[1:]
    try:
        field = displayed_at(model, *names)
        label, unit, form, choices = field.label, field.unit, field.kind, field.choices
    except (KeyError, ValueError, AttributeError):  # also within what the file keeps by free names
        kind = SETTINGS.get(names[1]) if len(names) > 1 and names[0] == "settings" else None
        if kind is not None and names[2:] in ([], ["value"]):
            return MarkedField(thing, kind.label, kind.unit, "number" if kind.type == "number" else "text", path, node)
        label, unit = " ".join(name.rpartition("_")[0] or name for name in names), ""
        form, choices = "text" if isinstance(node, str) else "number", ()
    return MarkedField(thing, label, unit, form, path, node, choices)


def mark_label(rig: BaseModel, text: str) -> str:
    """Return what a marked value is called, with the value: ``ring: length 10 mm``.

    Parameters
    ----------
    rig, text
        The rig, and the path of one of its values.

    Returns
    -------
    str
        On one line.
    """
    field = marked_field(rig, text)
    is_number = isinstance(field.value, (int, float)) and not isinstance(field.value, bool)
    value = f"{field.value:g}" if is_number else str(field.value)
    if text.endswith("kind"):
        value = value.replace("_", " ")
    return f"{field.title} {value}" + (f" {field.unit}" if field.unit else "")


def numbers_below(path: DocumentPath, value: JsonValue) -> tuple[DocumentPath, ...]:
    """Return the paths of the numbers of something that is filled in at a place: those that nobody gave.

    Parameters
    ----------
    path, value
        Where it is put, and what: a plain document, or a number.

    Returns
    -------
    tuple of DocumentPath
        For :attr:`wyntaxis.core.rig.edit.Change.assumes`.
    """
    return tuple(
        leaf
        for leaf in leaves(value, path)
        if isinstance(value_at(value, leaf[len(path) :]), (int, float))
        and not isinstance(value_at(value, leaf[len(path) :]), bool)
    )

"""How a field of the document is shown and compared: declared at the field, read by cards, matrix and schema."""

from __future__ import annotations

import types
from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Annotated, Any, Literal, Union, get_args, get_origin

from pydantic import BaseModel, GetJsonSchemaHandler
from pydantic.fields import FieldInfo
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import CoreSchema

Form = Literal["number", "whole", "text", "choice", "truth", "tick", "list"]
FORMS: dict[object, Form] = {float: "number", int: "whole", str: "text", bool: "tick"}


@dataclass(frozen=True)
class Display:
    """How a field is shown: its label and unit.

    With a ``topic`` it is compared with what programs hold, under that topic and within the tolerance, half a percent
    where none is given. ``kinds`` are the kinds of part that show it, all where left out. ``always`` opens a group that
    is not in the document yet; ``listed`` takes names in commas. ``key`` is what it is compared as, the field's own
    name where left out, and ``place`` where it stands among what is compared, the least first.
    """

    label: str
    unit: str = ""
    topic: str | None = None
    tolerance: float | None = None
    decimals: int = 2
    kinds: frozenset[str] = frozenset()
    always: bool = False
    listed: bool = False
    key: str = ""
    place: int = 0

    def __get_pydantic_json_schema__(self, core_schema: CoreSchema, handler: GetJsonSchemaHandler) -> JsonSchemaValue:
        """Name the field in the JSON Schema as the window does."""
        schema = handler(core_schema)
        return schema | {"title": f"{self.label}, {self.unit}" if self.unit else self.label}


@dataclass(frozen=True)
class DisplayedField:
    """A field of the document as a card shows it: its label, its place below the card's object, and what it takes."""

    label: str
    path: tuple[str | int, ...]
    unit: str = ""
    kind: str = "number"
    choices: tuple[str, ...] = ()
    optional: bool = True
    shown: Display | None = None

    def below(self, *path: str | int) -> DisplayedField:
        """Return the field as an object above it shows it."""
        return replace(self, path=(*path, *self.path))

    def with_choices(self, choices: tuple[str, ...]) -> DisplayedField:
        """Return the field as a choice of what the rig has."""
        return replace(self, kind="choice", choices=choices)


def displayed_fields(model: type[BaseModel], held: BaseModel | None = None) -> tuple[DisplayedField, ...]:
    """Return the fields of a model that are shown, in the order in which they are declared.

    Parameters
    ----------
    model
        A model of the document.
    held
        The object itself: what it has of groups and lists is opened, and its kind says what belongs to it.

    Returns
    -------
    tuple of DisplayedField
        With their places below the object.
    """
    return tuple(_fields(model, held))


@lru_cache(maxsize=64)
def compared_fields(model: type[BaseModel]) -> tuple[tuple[DisplayedField, Display], ...]:
    """Return the fields of a model that declare a topic, each with its declaration, in the order of the comparison."""
    found = [(field, field.shown) for field in displayed_fields(model) if field.shown is not None and field.shown.topic]
    return tuple(sorted(found, key=lambda entry: entry[1].place))


def displayed_at(model: type[BaseModel], *path: str) -> DisplayedField:
    """Return one field by its place, through groups and lists; KeyError where it is not declared to be shown."""
    name, *rest = path
    info = model.model_fields[name]
    inner = _model_of(info.annotation)
    if rest and inner is not None:
        field, around = displayed_at(inner, *rest).below(name), _shown_of(info)
        return replace(field, label=_within(around, field.label))
    found = _shown_of(info)
    if found is None:
        raise KeyError(name)
    return _leaf(name, info, found)


def _fields(model: type[BaseModel], held: BaseModel | None) -> Iterator[DisplayedField]:
    kind = getattr(held, "kind", None)
    for name, info in model.model_fields.items():
        shown, inner = _shown_of(info), _model_of(info.annotation)
        if shown is None or (shown.kinds and held is not None and kind not in shown.kinds):
            continue
        value = getattr(held, name, None)
        if inner is None:
            yield _leaf(name, info, shown)
        elif isinstance(value, tuple):
            for index, entry in enumerate(value):
                number = f" {index + 1}" if len(value) > 1 else ""
                for field in _fields(inner, entry):
                    yield replace(field, label=f"{field.label}{number}").below(name, index)
        elif value is not None or shown.always:
            for field in _fields(inner, value):
                yield replace(field, label=_within(shown, field.label)).below(name)


def _within(around: Display | None, label: str) -> str:
    """Return a label with that of the group around it before it, where the group has one."""
    return f"{around.label} {label}" if around is not None and around.label else label


def _leaf(name: str, info: FieldInfo, shown: Display) -> DisplayedField:
    bare, optional = _bare(info.annotation)
    if get_origin(bare) is Literal:
        return DisplayedField(shown.label, (name,), shown.unit, "choice", get_args(bare), optional, shown)
    form: Form = "list" if shown.listed else FORMS[bare]
    if form == "tick" and optional:
        form = "truth"
    return DisplayedField(shown.label, (name,), shown.unit, form, (), optional, shown)


def _shown_of(info: FieldInfo) -> Display | None:
    return next((note for note in info.metadata if isinstance(note, Display)), None)


def _bare(annotation: Any) -> tuple[Any, bool]:
    """Return a type without its notes, and whether it may be left out."""
    optional = False
    while True:
        origin = get_origin(annotation)
        if origin is Annotated:
            annotation = get_args(annotation)[0]
        elif origin in (Union, types.UnionType):
            rest = [arg for arg in get_args(annotation) if arg is not type(None)]
            annotation, optional = rest[0], True
        else:
            return annotation, optional


def _model_of(annotation: Any) -> type[BaseModel] | None:
    """Return the model that a field holds, alone or in a list, None where it holds a plain value."""
    bare, _ = _bare(annotation)
    if get_origin(bare) is tuple:
        bare, _ = _bare(get_args(bare)[0])
    return bare if isinstance(bare, type) and issubclass(bare, BaseModel) else None

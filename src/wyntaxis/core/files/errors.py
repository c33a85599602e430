"""One clear line for everything that can be wrong with a rig file or an edit."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from wyntaxis.core.files.foreign_text import one_line, plain
from wyntaxis.core.json_values import JsonObject

if TYPE_CHECKING:
    from pydantic import BaseModel, ValidationError

SHOWN_CHARACTERS = 60
"""How much of a foreign value an error line repeats."""

_UNIT_SUFFIXES = {"_mm": "mm", "_um": "µm", "_deg": "degrees", "_arcsec": "arcsec", "_m": "m", "_g": "g", "_px": "px"}


def shown(path: Path) -> str:
    """Return a path as it may stand in an error line: printable, on one line."""
    return plain(str(path))


class InputError(ValueError):
    """Something given that cannot be read, taken or written; ``str()`` is one line: what, where and what to do.

    ``path`` is the file that it is about, if one; ``reason`` says the rest.
    """

    def __init__(self, reason: str, path: Path | None = None) -> None:
        self.reason, self.path = reason, path
        super().__init__(one_line(reason if path is None else f"{shown(path)}: {reason}"))

    def __reduce__(self) -> tuple[type[InputError], tuple[str, Path | None]]:
        return type(self), (self.reason, self.path)

    def about(self, path: Path) -> InputError:
        """Return the same error, naming the file that it is about."""
        return type(self)(self.reason, path)


class ColumnsUnknownError(InputError):
    """A table whose columns are not recognised: they can be chosen by hand."""


class CancelledError(Exception):
    """Long work was cancelled: raised out of its progress call, by whoever asked for the work."""


Progress = Callable[[int, int], None]
"""Called by long work with how much is done and how much there is; raises :class:`CancelledError` to end it."""


@contextlib.contextmanager
def in_one_line(what: str, path: Path | None) -> Iterator[None]:
    """Let arithmetic that gives out over numbers nobody foresaw (0, 5e-324, 1e308) be an error of one line.

    Raises
    ------
    InputError
        Naming the file, for a division by zero, an overflow, or a fit that does not end.
    """
    try:
        yield
    except InputError:
        raise
    except (ArithmeticError, ValueError, RuntimeError) as error:
        detail = str(error).strip().splitlines()
        raise InputError(
            f"{what}: {detail[0] if detail else type(error).__name__}; look at its numbers", path
        ) from error


def path_text(path: Sequence[str | int]) -> str:
    """Return a path within the file as text: ``("train", 3, "length_mm")`` is ``train[3].length_mm``."""
    text = ""
    for step in path:
        if isinstance(step, int):
            text += f"[{step}]"
        else:
            plain = step if step.isidentifier() else quoted(step)
            text += f".{plain}" if text else plain
    return text


def quoted(value: Any) -> str:
    """Return a foreign value as JSON on one line, cut to a readable length."""
    try:
        text = json.dumps(value, ensure_ascii=False)
    except (TypeError, ValueError, RecursionError):
        text = repr(value)
    text = plain(text)
    return text if len(text) <= SHOWN_CHARACTERS else text[: SHOWN_CHARACTERS - 1] + "…"


def describe(error: ValidationError, model: type[BaseModel]) -> str:
    """Return the first fault of a validation as one line, and how many more there are."""
    faults = error.errors(include_url=False)
    # A key that is misspelt also leaves its right name missing: the misspelling is what to tell.
    first = next((fault for fault in faults if fault["type"] == "extra_forbidden"), faults[0])
    where = path_text(first["loc"])
    line = f"{where}: {_sentence(first, model)}" if where else _sentence(first, model)
    if len(faults) > 1:
        line += f" (and {len(faults) - 1} more)"
    return line


def _unit(key: str) -> str:
    return next((unit for suffix, unit in _UNIT_SUFFIXES.items() if key.endswith(suffix)), "")


_SENTENCES = {
    "missing": "is missing",
    "finite_number": "must be a finite number, not NaN or infinity",
    "greater_than_equal": "must be at least {ge:g}, {got}",
    "greater_than": "must be above {gt:g}, {got}",
    "less_than_equal": "must be at most {le:g}, {got}",
    "less_than": "must be below {lt:g}, {got}",
    "literal_error": "must be one of {expected}, {got}",
    "string_type": "must be text, {got}",
    "string_unicode": "must not hold broken Unicode",
    "string_too_short": "must not be empty",
    "string_too_long": "must be at most {max_length} characters long",
    "bool_type": "must be true or false, {got}",
    "too_long": "must hold at most {max_length} entries",
    "value_error": "{error}",
    **dict.fromkeys(("model_type", "model_attributes_type", "dict_type"), "must be an object in braces, {got}"),
    **dict.fromkeys(("tuple_type", "list_type"), "must be a list in brackets, {got}"),
    **dict.fromkeys(("int_type", "int_from_float", "int_parsing"), "must be a whole number, {got}"),
    **dict.fromkeys(("float_type", "float_parsing"), "must be {number}, {got}"),
}
"""What pydantic's kinds of fault are in our words."""


def _sentence(fault: Any, model: type[BaseModel]) -> str:
    key = str(fault["loc"][-1]) if fault["loc"] else ""
    if fault["type"] == "extra_forbidden":
        return "unknown key" + _suggestion(key, fault["loc"][:-1], model)
    sentence = _SENTENCES.get(fault["type"])
    if sentence is None:
        return str(fault["msg"]).replace("\n", " ")
    number = f"a plain number in {_unit(key)}" if _unit(key) else "a plain number"
    return sentence.format(got=f"got {quoted(fault.get('input'))}", number=number, **fault.get("ctx", {}))


def _suggestion(key: str, path: Sequence[str | int], model: type[BaseModel]) -> str:
    import difflib

    known = _keys_at(path, model)
    near = difflib.get_close_matches(key, known, n=1, cutoff=0.6)
    return f"; did you mean {near[0]}?" if near else "; take it out, or see wyntaxis schema for the known keys"


def _keys_at(path: Sequence[str | int], model: type[BaseModel]) -> list[str]:
    """Return the keys that the model knows at a path, found through its JSON Schema."""
    schema = model.model_json_schema()
    node: JsonObject = schema
    for step in path:
        node = _resolved(node, schema)
        node = node.get("items", {}) if isinstance(step, int) else node.get("properties", {}).get(step, {})
    return list(_resolved(node, schema).get("properties", {}))


def _resolved(node: JsonObject, schema: JsonObject) -> JsonObject:
    for option in node.get("anyOf", []):
        if "$ref" in option:
            node = option
    if "$ref" in node:
        return dict(schema["$defs"][str(node["$ref"]).rsplit("/", 1)[-1]])
    return node

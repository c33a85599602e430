"""One clear line for everything that can be wrong with a rig file or an edit."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from wyntaxis.core.files.foreign_text import one_line, plain

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


def _sentence(fault: Any, model: type[BaseModel]) -> str:
    kind, value, context = fault["type"], fault.get("input"), fault.get("ctx", {})
    key = str(fault["loc"][-1]) if fault["loc"] else ""
    got = f"got {quoted(value)}"
    number = f"a plain number in {_unit(key)}" if _unit(key) else "a plain number"
    match kind:
        case "missing":
            return "is missing"
        case "extra_forbidden":
            return "unknown key" + _suggestion(key, fault["loc"][:-1], model)
        case "float_type" | "int_type" | "int_from_float" | "float_parsing" | "int_parsing":
            whole = "a whole number" if kind.startswith("int") else number
            return f"must be {whole}, {got}"
        case "finite_number":
            return "must be a finite number, not NaN or infinity"
        case "greater_than_equal":
            return f"must be at least {context['ge']:g}, {got}"
        case "greater_than":
            return f"must be above {context['gt']:g}, {got}"
        case "less_than_equal":
            return f"must be at most {context['le']:g}, {got}"
        case "less_than":
            return f"must be below {context['lt']:g}, {got}"
        case "literal_error":
            return f"must be one of {context['expected']}, {got}"
        case "string_type":
            return f"must be text, {got}"
        case "string_unicode":
            return "must not hold broken Unicode"
        case "string_too_short":
            return "must not be empty"
        case "string_too_long":
            return f"must be at most {context['max_length']} characters long"
        case "bool_type":
            return f"must be true or false, {got}"
        case "model_type" | "model_attributes_type" | "dict_type":
            return f"must be an object in braces, {got}"
        case "tuple_type" | "list_type":
            return f"must be a list in brackets, {got}"
        case "too_long":
            return f"must hold at most {context['max_length']} entries"
        case "value_error":
            return str(context["error"])
    return str(fault["msg"]).replace("\n", " ")


def _suggestion(key: str, path: Sequence[str | int], model: type[BaseModel]) -> str:
    import difflib

    known = _keys_at(path, model)
    near = difflib.get_close_matches(key, known, n=1, cutoff=0.6)
    return f"; did you mean {near[0]}?" if near else "; take it out, or see wyntaxis schema for the known keys"


def _keys_at(path: Sequence[str | int], model: type[BaseModel]) -> list[str]:
    """Return the keys that the model knows at a path, found through its JSON Schema."""
    schema = model.model_json_schema()
    node: dict[str, Any] = schema
    for step in path:
        node = _resolved(node, schema)
        node = node.get("items", {}) if isinstance(step, int) else node.get("properties", {}).get(step, {})
    return list(_resolved(node, schema).get("properties", {}))


def _resolved(node: dict[str, Any], schema: dict[str, Any]) -> dict[str, Any]:
    for option in node.get("anyOf", []):
        if "$ref" in option:
            node = option
    if "$ref" in node:
        return dict(schema["$defs"][str(node["$ref"]).rsplit("/", 1)[-1]])
    return node

"""Every row that the code asks for by its id exists: a wrong id would be read as a value that is not entered."""

import ast
from importlib import import_module
from pathlib import Path
from pkgutil import iter_modules

import pytest

import wyntaxis
from wyntaxis.core import quantities
from wyntaxis.core.quantities.rows import declared_numbers
from wyntaxis.core.quantity_kinds import QUANTITY_KINDS
from wyntaxis.core.rig.device_settings import SETTINGS

SOURCES = sorted(Path(wyntaxis.__file__).parent.rglob("*.py"))
MAPPINGS = {"rows", "quantities"}
READERS = {"computed", "measured", "stated", "proven", "value", "with_tracked", "quantity"}
HOLDERS = {"evaluator", "numbers", "evaluation", "quantities"}


def name_of(node):
    return node.attr if isinstance(node, ast.Attribute) else node.id if isinstance(node, ast.Name) else ""


def asked_ids(tree):
    """Ids of rows that a module asks for: whole ones, and the ends of those that begin with a thing's id."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Subscript) and name_of(node.value) in MAPPINGS:
            key = node.slice
        elif isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.args:
            holder = name_of(node.func.value)
            if not (
                (node.func.attr == "get" and holder in MAPPINGS) or (node.func.attr in READERS and holder in HOLDERS)
            ):
                continue
            key = node.args[0]
        else:
            continue
        if isinstance(key, ast.Constant) and isinstance(key.value, str):
            yield key.lineno, key.value
        elif isinstance(key, ast.JoinedStr) and isinstance(key.values[-1], ast.Constant):
            yield key.lineno, key.values[-1].value


@pytest.fixture(scope="module")
def known():
    for module in iter_modules(quantities.__path__):
        import_module(f"wyntaxis.core.quantities.{module.name}")
    return set(QUANTITY_KINDS), {number.key for number in declared_numbers()} | set(SETTINGS)


def test_every_row_that_is_asked_for_exists(known):
    whole, ends = known
    asked = [
        (f"{path.name}:{line}", key) for path in SOURCES for line, key in asked_ids(ast.parse(path.read_text("utf-8")))
    ]
    assert len(asked) > 10
    wrong = [(where, key) for where, key in asked if key.rpartition(".")[2] not in ends]
    assert [(where, key) for where, key in wrong if not key.startswith("weather.")] == []
    assert [(where, key) for where, key in asked if key in whole] == []  # those are asked for by their objects


def test_a_wrong_id_is_seen():
    tree = ast.parse('a = evaluation.rows.get(f"{x}.focuser_at_focus_mm")\nb = evaluator.computed("no_such")')
    assert [key for _, key in asked_ids(tree)] == [".focuser_at_focus_mm", "no_such"]

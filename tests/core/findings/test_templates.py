"""What findings say can be said: every declared case is used, every template takes its values, whatever a rig holds."""

import ast
import copy
import inspect
import random
import string
from dataclasses import dataclass

import pytest

from tests.cases import further
from tests.conftest import EXAMPLE
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.findings import registry
from wyntaxis.core.findings.message import render
from wyntaxis.core.rig.store import load, validated
from wyntaxis.demo import rig_path


@dataclass(frozen=True)
class Measured:
    value: float = 2.5
    uncertainty: float = 0.1


def templates():
    for declared in registry.in_order():
        for kind in (declared.titles, declared.remedies):
            yield from ((declared.id, text) for text in ([kind] if isinstance(kind, str) else kind.values()))


@pytest.mark.parametrize(("finding", "template"), list(templates()))
def test_every_template_is_one_clean_sentence(finding, template):
    forms = {name: form for _, name, form, _ in string.Formatter().parse(template) if name is not None}
    values = {name: Measured() if "±" in (form or "") else 2.5 if form else "text" for name, form in forms.items()}
    text = render(template, values)
    assert "{" not in text, finding
    assert "  " not in text, finding
    assert not text.endswith(" "), finding


def literals(module, *names):
    """The texts that are passed as one of some arguments anywhere in a module."""
    for call in ast.walk(ast.parse(inspect.getsource(module))):
        if isinstance(call, ast.Call):
            for keyword in call.keywords:
                if keyword.arg in names:
                    yield from (
                        own.value
                        for own in ast.walk(keyword.value)
                        if isinstance(own, ast.Constant) and isinstance(own.value, str)
                    )


def test_every_case_that_is_asked_for_is_declared():
    by_module = {}
    for declared in registry.in_order():
        module = inspect.getmodule(declared.function)
        own = by_module.setdefault(module, set())
        for kind in (declared.titles, declared.remedies):
            own |= {""} if isinstance(kind, str) else set(kind)
    for module, cases in by_module.items():
        asked = {case for case in literals(module, "case") if " " in case}
        assert asked <= cases, module.__name__


def paths(value, path=()):
    inside = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, own in inside:
        yield (*path, key)
        yield from paths(own, (*path, key))


def changed(document, draw):
    """Change a value of a document, or take it out."""
    places = [path for path in paths(document) if path[0] not in ("format", "version")]
    if not places:
        return
    *way, last = draw.choice(places)
    around = document
    for key in way:
        around = around[key]
    value = around[last]
    if isinstance(value, bool):
        around[last] = not value
    elif isinstance(value, (int, float)) and draw.random() < 0.8:
        around[last] = type(value)(value * draw.choice([0, 0.1, 0.5, 0.9, 0.98, 1.02, 1.1, 2, 5, 10, -1]))
    else:
        around.pop(last)


@pytest.mark.parametrize("seed", [0, 1, *further(2, 3)])
def test_whatever_a_rig_holds_its_findings_can_be_said(seed):
    draw = random.Random(seed)
    names = ("tarnfell-triplet-reduced", "tarnfell-triplet-native", "meadow-newtonian")
    documents = [EXAMPLE, *(load(rig_path(name)).rig.model_dump(mode="json", exclude_none=True) for name in names)]
    judged = 0
    for _ in range(120):
        document = copy.deepcopy(draw.choice(documents))
        for _ in range(draw.choice([1, 1, 2, 3, 6, 12])):
            changed(document, draw)
        try:
            rig = validated(document)
        except InputError:
            continue
        judged += 1
        for finding in evaluate(rig).findings:
            assert finding.title
            if "pattern" not in finding.title:  # a pattern of file names has braces of its own
                assert "{" not in finding.title + finding.remedy.text
    assert judged > 30

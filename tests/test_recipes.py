"""The recipes of docs/architecture.md: each example runs as it is printed there, and touches nothing else."""

import importlib
import re
from pathlib import Path

import pytest

from tests.conftest import EXAMPLE
from wyntaxis.core import quantity_kinds, steps
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.evidence.kinds import Evidence
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.findings import registry
from wyntaxis.core.quantities import evaluator
from wyntaxis.core.rig.edit import apply
from wyntaxis.core.rig.store import validated

PAGE = Path(__file__).parent.parent / "docs" / "architecture.md"


def recipes():
    """The Python of each section "To add ...", by its heading."""
    sections = re.split(r"^## ", PAGE.read_text("utf-8"), flags=re.MULTILINE)
    blocks = {part.partition("\n")[0]: re.findall(r"```python\n(.*?)```", part, re.DOTALL) for part in sections}
    return {title: "\n".join(found) for title, found in blocks.items() if title.startswith("To add")}


@pytest.fixture
def module(tmp_path, monkeypatch):
    """All recipes as one module, forgotten again after the test."""
    registry.in_order()
    evaluator._import_all()
    kept = (registry._declared, evaluator._functions, quantity_kinds.QUANTITY_KINDS, steps._steps)
    before = [dict(one) for one in kept]
    (tmp_path / "recipes_of_the_page.py").write_text("\n\n".join(recipes().values()), "utf-8")
    monkeypatch.syspath_prepend(str(tmp_path))
    yield importlib.import_module("recipes_of_the_page")
    for one, was in zip(kept, before, strict=True):
        one.clear()
        one.update(was)
    registry.in_order.cache_clear()


def test_every_recipe_has_its_example():
    assert list(recipes()) == ["To add a number", "To add a finding", "To add a kind of evidence", "To add a step"]
    assert all(recipes().values())


def test_the_recipes_give_what_they_say(module, tmp_path):
    rig = validated(EXAMPLE)
    evaluation = evaluate(rig)
    row = evaluation.quantity(module.RESOLUTION)
    assert row.computed.value == pytest.approx(1.22 * 0.55 / 104_000 * 206_265, rel=1e-9)  # 1.33 arcsec
    found = evaluation.finding("scale.resolution")
    assert (found.verdict, found.title) == ("holds", "The telescope resolves 1.33″")
    assert steps.steps()[-1].group != "Measure"
    assert module.RESOLVING in steps.steps()

    log = tmp_path / "pairs.txt"
    log.write_text("2.5 0.1\n", "utf-8")
    result = module.DOUBLE_STARS.read([log])
    assert Evidence().having(module.DOUBLE_STARS, result).of(module.DOUBLE_STARS) == result
    assert module.DOUBLE_STARS.measures(rig, result) == {"resolution_arcsec": result}
    kept = evaluate(apply(rig, module.DOUBLE_STARS.keep(rig, result))).finding("scale.resolution")
    assert kept.verdict == "fails"
    assert kept.remedy.text == "Use a larger aperture."
    log.write_text("2.5\n", "utf-8")
    with pytest.raises(InputError, match="two numbers are needed"):
        module.DOUBLE_STARS.read([log])

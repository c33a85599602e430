"""The recipes of docs/architecture.md: each example runs as it is printed there, and touches nothing else."""

import importlib
import json
import os
import re
import shutil
import subprocess
import sys
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace

import pytest

from tests.conftest import EXAMPLE
from wyntaxis.core import quantity_kinds, steps
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.evidence.kinds import Evidence
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.findings import registry
from wyntaxis.core.measuring.measuring import Request
from wyntaxis.core.quantities import evaluator
from wyntaxis.core.rig.device_kinds import DEVICE_KINDS, declarations_of
from wyntaxis.core.rig.edit import apply
from wyntaxis.core.rig.store import validated

PAGE = Path(__file__).parent.parent / "docs" / "architecture.md"
SOURCE = Path(steps.__file__).parents[1]


def recipes():
    """The Python of each section "To add ...", by its heading."""
    sections = re.split(r"^## ", PAGE.read_text("utf-8"), flags=re.MULTILINE)
    blocks = {part.partition("\n")[0]: re.findall(r"```python\n(.*?)```", part, re.DOTALL) for part in sections}
    return {title: "\n".join(found) for title, found in blocks.items() if title.startswith("To add")}


@pytest.fixture
def module(tmp_path, monkeypatch):
    """All recipes as one module, forgotten again after the test."""
    registry.in_order()
    evaluator.import_all()
    kept = (registry.DECLARED, evaluator.DECLARED, quantity_kinds.QUANTITY_KINDS, steps.DECLARED)
    before = [dict(one) for one in kept]
    (tmp_path / "recipes_of_the_page.py").write_text("\n\n".join(recipes().values()), "utf-8")
    monkeypatch.syspath_prepend(str(tmp_path))
    yield importlib.import_module("recipes_of_the_page")
    for one, was in zip(kept, before, strict=True):
        one.clear()
        one.update(was)
    registry.in_order.cache_clear()


def test_every_recipe_has_its_example():
    what = ["a number", "a finding", "a kind of evidence", "a kind of device", "a step"]
    assert list(recipes()) == [f"To add {own}" for own in what]
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
    measuring = module.MEASURING
    assert measuring.read(Request([log], evaluation)) == result
    assert measuring.report.as_json(result) == {
        "pairs": [{"resolution_arcsec": {"value": 2.5, "u": 0.1}}],
        "not_used": [],
    }
    assert measuring.report.table("pairs").as_csv(result) == "resolution ″\n2.50 ± 0.10\n"
    kept = evaluate(apply(rig, module.DOUBLE_STARS.keep(rig, result))).finding("scale.resolution")
    assert kept.verdict == "fails"
    assert kept.remedy.text == "Use a larger aperture."
    log.write_text("2.5\n", "utf-8")
    with pytest.raises(InputError, match="two numbers are needed"):
        module.DOUBLE_STARS.read([log])


NEW_KIND = """
import json, sys
from wyntaxis.core.drafting.ports import KIND_WORDS
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.rehearsal.play import FAULTS, applies
from wyntaxis.core.rehearsal.night_sky import plain_sky
from wyntaxis.core.rehearsal.setting import setting_of
from wyntaxis.core.rig.store import validated
document = json.load(open(sys.argv[1], encoding="utf-8"))
device = {"id": "eye", "kind": "seeing_monitor", "settings": {"worst_fwhm_arcsec": {"value": 3.5}}}
document["devices"] = [*document.get("devices", []), device]
rig = validated(document)
setting = setting_of(rig, plain_sky(4.0))
device["settings"]["worst_fwhm_arcsec"]["value"] = 21
try:
    validated(document)
except InputError as error:
    refused = str(error)
print(json.dumps([rig.devices[-1].number("worst_fwhm_arcsec"), applies(setting, FAULTS["seeing.bad"]),
                  ("seeing", "seeing_monitor") in KIND_WORDS, len(evaluate(rig).findings) > 0, refused]))
"""


def test_a_new_kind_of_device_is_one_module(tmp_path):
    """In a copy of the source, so that nothing has been imported yet."""
    shutil.copytree(SOURCE, tmp_path / "wyntaxis", ignore=shutil.ignore_patterns("__pycache__", "guide", "demo"))
    place = tmp_path / "wyntaxis" / "core" / "rig" / "device_kinds" / "seeing_monitor.py"
    place.write_text(recipes()["To add a kind of device"], "utf-8")
    (tmp_path / "rig.json").write_text(json.dumps(EXAMPLE), "utf-8")
    environment = os.environ | {"PYTHONPATH": str(tmp_path), "PYTHONDONTWRITEBYTECODE": "1"}
    command = [sys.executable, "-c", NEW_KIND, str(tmp_path / "rig.json")]
    done = subprocess.run(command, env=environment, cwd=tmp_path, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    *told, refused = json.loads(done.stdout)
    assert told == [3.5, True, True, True]
    assert "must lie from 0.1 to 20 ″, got 21" in refused


def test_two_kinds_of_one_name_or_setting_are_refused():
    kind = DEVICE_KINDS["rotator"]
    double = SimpleNamespace(one=kind, two=replace(kind, place=41))
    with pytest.raises(ValueError, match="rotator is declared twice"):
        declarations_of([double])
    other = replace(DEVICE_KINDS["focuser"], id="pusher", settings=(replace(kind.settings[0], label="Backwards"),))
    with pytest.raises(ValueError, match="setting reversed of rotator is declared otherwise"):
        declarations_of([SimpleNamespace(one=kind, two=other)])

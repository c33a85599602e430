"""What a new number, finding and step take: one module that declares them, and no edit anywhere else."""

import importlib
import json
import sys

import pytest

from wyntaxis import demo
from wyntaxis.cli import main
from wyntaxis.core import quantity_kinds, steps
from wyntaxis.core.findings import registry
from wyntaxis.core.quantities import evaluator, rows
from wyntaxis.desk.ledger_row import LedgerRow

TRIAL = '''
"""A trial: how far the sensor leans, of a made-up law."""

from wyntaxis.core.findings.conditions import SPACING
from wyntaxis.core.findings.registry import Proof, finding, say
from wyntaxis.core.ledger import QuantityValue, Target
from wyntaxis.core.quantities.evaluator import computed, target
from wyntaxis.core.quantities.rows import DeviceQuantity, rows
from wyntaxis.core.quantity_kinds import QuantityKind, declare_quantity
from wyntaxis.core.steps import declare_step

LEAN = declare_step("lean", "Measure", "Lean", "Does the sensor stand square to the light?")
TILT = DeviceQuantity("tilt_um", "Tilt of its chip", "µm", 1, LEAN)
LEAN_ACROSS = declare_quantity(QuantityKind("lean_um", "Lean across the sensor", "µm", 1, step=LEAN))


@computed(LEAN_ACROSS)
def lean(evaluator):
    return QuantityValue(evaluator.rig.telescope.aperture_mm / 4, 0.5)


@target(LEAN_ACROSS)
def lean_target(evaluator):
    return Target(0, 5)


@rows
def leans(numbers):
    for device in numbers.rig.devices:
        if device.kind == "camera":
            yield TILT.row(device.id, device.title, computed=QuantityValue(3.0), target=Target(high=2.0))


@finding(
    "lean.across",
    step=LEAN,
    proves=Proof(SPACING),
    source="a trial",
    titles="The sensor leans {lean:1} µm",
    remedies="Shim it.",
)
def across(evaluation):
    row = evaluation.quantity(LEAN_ACROSS)
    yield say(row.id, row, None, {"lean": row.best.value}, lines=("aperture / 4",))
'''


@pytest.fixture
def trial(tmp_path, monkeypatch):
    """A module that declares a step, a quantity and a finding, forgotten again after the test."""
    registry.in_order()
    evaluator.import_all()
    kept = (registry.DECLARED, evaluator.DECLARED, quantity_kinds.QUANTITY_KINDS, steps.DECLARED, rows.ROW_NUMBERS)
    before, functions = [dict(one) for one in kept], list(rows.ROW_FUNCTIONS)
    (tmp_path / "lean_trial.py").write_text(TRIAL, "utf-8")
    monkeypatch.syspath_prepend(str(tmp_path))
    yield importlib.import_module("lean_trial")
    for one, was in zip(kept, before, strict=True):
        one.clear()
        one.update(was)
    rows.ROW_FUNCTIONS[:] = functions
    registry.in_order.cache_clear()
    sys.modules.pop("lean_trial", None)


def test_one_module_adds_a_number_a_finding_and_a_step(trial, make_window, capsys):
    path = str(demo.rig_path("tarnfell-triplet-reduced"))
    assert main(["check", path, "--json"]) == 1
    entries = next(one for one in json.loads(capsys.readouterr().out) if one["id"] == "lean.across")
    assert (entries["verdict"], entries["remedy"]) == ("fails", "Shim it.")
    assert main(["numbers", path, "--json"]) == 0
    assert "lean_um" in {row["id"] for row in json.loads(capsys.readouterr().out)}
    main(["ready", path, "--json"])
    spacing = next(one for one in json.loads(capsys.readouterr().out) if one["id"] == "spacing")
    assert "lean.across" in spacing["findings"]

    window = make_window()
    window.files.open_demo("tarnfell-triplet-reduced")
    assert window.worklist.lines["lean"].counts == "1 fails"
    window.menus.by_name["Lean"].trigger()
    sheet = window.stack.currentWidget()
    row = sheet.findChild(LedgerRow)
    assert row is sheet.ledger.rows["lean_um"]
    assert row.isVisible()
    assert sheet.ledger.rows["main_camera.tilt_um"].quantity.verdict == "fails"
    assert [finding.id for finding in window.listed.entries][:1] == ["lean.across"]


def test_declaring_twice_is_refused(trial):
    for again in (
        lambda: steps.declare_step("lean", "Measure", "Lean", ""),
        lambda: quantity_kinds.declare_quantity(quantity_kinds.QUANTITY_KINDS["lean_um"]),
        lambda: evaluator.computed(quantity_kinds.QUANTITY_KINDS["lean_um"])(lambda _evaluator: None),
        lambda: registry.finding("lean.across", step=trial.LEAN, source="", titles="")(lambda _evaluation: ()),
    ):
        with pytest.raises(ValueError, match="declared"):
            again()

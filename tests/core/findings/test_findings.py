"""Findings: their verdict, their arithmetic with the rig's numbers, and remedies that mend what they name."""

import json

import pytest

from wyntaxis import demo
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.findings.registry import finding, in_order
from wyntaxis.core.quantity_kinds import BACK_FOCUS_ERROR
from wyntaxis.core.rig.edit import apply
from wyntaxis.core.rig.store import load, validated
from wyntaxis.core.steps import LIGHT_PATH


def findings(document):
    return {f.id: f for f in evaluate(validated(document)).findings}


def test_the_examples_findings(example):
    found = findings(example)
    assert [(f.id, str(f.verdict)) for f in found.values()] == [
        ("spacing.main", "fails"),
        ("spacing.guide", "fails"),
        ("sampling.main", "tight"),
        ("scale.guide", "holds"),
        ("coverage.image_circle", "holds"),
        ("scale.measured", "unproven"),
        ("joints.mate", "unproven"),
        ("illumination.corner", "holds"),
        ("prism.shade", "holds"),
        ("prism.light", "tight"),
        ("reach.main", "unproven"),
        ("guiding.centroid", "holds"),
        ("guiding.calibration", "unproven"),
        ("guiding.dither", "holds"),
        ("guiding.flexure", "holds"),
        ("rotation.exposure", "unproven"),
    ]
    main = found["spacing.main"]
    assert "required: 61.500 + 0.684 = 62.184 mm" in main.arithmetic
    assert "built: 17.500 + 20.000 + 12.900 + 12.500 = 62.900 mm" in main.arithmetic
    assert main.remedy.text == "Shorten ring 12.9, the spacer after Rondel 7, by 0.72 mm: 12.9 → 12.18 mm."
    guide = found["spacing.guide"]
    assert "required: X − G_main + G_guide = 54.400 − 0.684 + 0.000 = 53.716 mm" in guide.arithmetic
    assert guide.remedy.text.startswith("Set guide focuser to 29.22 mm (its range is 28 to 34 mm)")
    assert "then needs 28.50 mm" in guide.remedy.text


def test_applying_the_remedies_mends_the_rig(example):
    rig = validated(example)
    for finding_id in ("spacing.main", "spacing.guide"):
        rig = apply(rig, evaluate(rig).finding(finding_id).remedy.change)
    after = evaluate(rig)
    assert after.value(BACK_FOCUS_ERROR) == pytest.approx(0, abs=0.005)
    assert {f.id: f.verdict for f in after.findings if f.id.startswith("spacing")} == {
        "spacing.main": "holds",
        "spacing.guide": "holds",
    }


def ring(length):
    return lambda doc: doc["train"][3].update(length_mm=length)


def set_guide(low, high, at):
    return lambda doc: doc["guiding"]["path"][1].update(adjustable={"min_mm": low, "max_mm": high, "set_mm": at})


def wide_tolerance(doc):
    doc["train"][3].update(length_mm=12.3)
    doc["train"][1]["length_tolerance_mm"] = 0.4


def no_spacer(doc):
    doc["train"][3].update(kind="adapter", name="step-down")


def no_tolerance(doc):
    del doc["train"][0]["back_focus_tolerance_mm"]


def fixed_guide(doc):
    del doc["guiding"]["path"][1]["adjustable"]


def adjustable_main(doc):
    doc["train"][3]["adjustable"] = {"min_mm": 12, "max_mm": 14, "set_mm": 12.9}


def own_circle(circle):
    return lambda doc: doc["train"][0].update(image_circle_mm=circle)


def seeing(value):
    return lambda doc: doc["site"].update(seeing_fwhm_arcsec=value)


def big_guide_pixels(pixel):
    return lambda doc: doc["guiding"]["path"][2]["sensor"].update(pixel_um=pixel)


def separate(doc):
    doc["guiding"] = {
        "kind": "separate",
        "telescope": {"id": "g", "focal_length_mm": 200, "aperture_mm": 50},
        "path": doc["guiding"]["path"],
    }


@pytest.mark.parametrize(
    "change, finding_id, verdict, words",
    [
        (ring(12.18), "spacing.main", "holds", ""),
        (ring(11.5), "spacing.main", "fails", "Lengthen ring 12.9"),
        (wide_tolerance, "spacing.main", "tight", "Measure the length of Sideglance"),
        (no_spacer, "spacing.main", "fails", "Take 0.72 mm out between Aldous 0.76x and the camera"),
        (no_tolerance, "spacing.main", "unproven", "Enter the tolerance"),
        (adjustable_main, "spacing.main", "fails", "Set ring 12.9 to 12.18 mm (its range is 12 to 14 mm)"),
        (lambda doc: doc["train"].pop(0), "spacing.main", "unproven", "within the focuser's travel"),
        (lambda doc: doc["train"].pop(), "spacing.main", "unproven", "Put a camera"),
        (set_guide(28, 34, 29.216), "spacing.guide", "holds", ""),
        (set_guide(29.2, 34, 29.216), "spacing.guide", "tight", "Focus the guide camera on a star"),
        (set_guide(29.5, 34, 30), "spacing.guide", "fails", "Shorten the guide path by at least 0.28 mm"),
        (set_guide(20, 28, 28), "spacing.guide", "fails", "Add an extension of at least 1.22 mm"),
        (fixed_guide, "spacing.guide", "fails", "Shorten the guide path by 0.78 mm"),
        (separate, "spacing.guide", "unproven", "does not depend on the main train"),
        (separate, "scale.guide", "tight", "guide focal length"),
        (lambda doc: doc.update(guiding={"kind": "none"}), "spacing.guide", "unproven", "Nothing to check"),
        (lambda doc: doc.update(guiding={"kind": "none"}), "scale.guide", "unproven", "Nothing to check"),
        (big_guide_pixels(10), "scale.guide", "tight", "of 9.7 µm or less"),
        (big_guide_pixels(25), "scale.guide", "fails", "centroid error"),
        (seeing(1.2), "sampling.main", "fails", "smaller pixels"),
        (seeing(4.0), "sampling.main", "holds", ""),
        (seeing(7.0), "sampling.main", "fails", "Binning 2 gives 2.24 px/FWHM"),
        (lambda doc: doc.pop("site"), "sampling.main", "unproven", "seeing"),
        (own_circle(28.5), "coverage.image_circle", "tight", "Centre the sensor to within 0.19 mm"),
        (own_circle(27), "coverage.image_circle", "fails", "Crop to that diagonal"),
        (lambda doc: doc["telescope"].pop("image_circle_mm"), "coverage.image_circle", "unproven", "image circle"),
    ],
)
def test_verdicts_and_remedies(example, change, finding_id, verdict, words):
    change(example)
    found = findings(example)[finding_id]
    assert found.verdict == verdict
    assert words in found.remedy.text
    assert bool(found.remedy.text) == (verdict != "holds")


@pytest.mark.parametrize(
    "stated, verdict, words",
    [
        ({"value": 676, "source": "capture profile"}, "fails", "leaves Aldous 0.76x out (0.76×). Enter 513.8 mm in"),
        ({"value": 514}, "holds", ""),
        ({"value": 520, "tolerance": 1}, "fails", "Enter 513.8 mm wherever"),
    ],
)
def test_a_typed_focal_length_is_held_against_the_computed_one(example, stated, verdict, words):
    example["stated"] = {"effective_focal_length_mm": stated}
    found = findings(example)["legs.agree"]
    assert (found.verdict, found.subject) == (verdict, "effective_focal_length_mm")
    assert words in found.remedy.text


def test_a_measured_leg_of_its_own_asks_to_measure_again(example):
    example["measured"] = {"back_focus_built_mm": {"value": 61.7, "standard_uncertainty": 0.001}}
    assert "Measure again" in findings(example)["legs.agree"].remedy.text


@pytest.mark.parametrize("name", demo.RIGS)
def test_the_demo_holds_its_planted_mistakes(name):
    planted = {
        "tarnfell-triplet-reduced": {
            *("spacing.main", "spacing.guide", "legs.agree", "guiding.calibration", "wheel.leftover", "wheel.order"),
            *("records.focal_length", "records.offset", "records.driver", "records.connection", "records.direction"),
            *("records.role", "records.sides", "records.pixel", "driver.order", "plan.guide", "plan.dither"),
            *("ports.serial_name", "plan.filters", "storage.copy", "power.supply", "camera.setpoint"),
            *("power.drop", "ports.cable"),
        },
        "tarnfell-triplet-native": {"spacing.guide"},
        "meadow-newtonian": {"spacing.main", "coverage.image_circle", "joints.depth"},
    }
    found = evaluate(load(demo.rig_path(name)).rig).findings
    assert {f.id for f in found if f.verdict == "fails"} == planted[name]
    assert all(f.title and f.source for f in found)
    title = json.loads(demo.rig_path(name).read_text("utf-8"))["name"]
    assert title in demo.NOTES.read_text("utf-8")


def test_every_finding_is_declared_once_and_has_its_place():
    order = [one.id for one in in_order()]
    assert order[:3] == ["spacing.main", "spacing.guide", "sampling.main"]
    assert order[-1] == "frames.broken"
    assert len(set(order)) == len(order)
    for one in in_order():
        if one.listed.after is not None:
            assert order.index(one.listed.after) < order.index(one.id)
    with pytest.raises(ValueError, match=r"spacing.main is declared twice"):
        finding("spacing.main", step=LIGHT_PATH, source="", titles="")(lambda _: [])

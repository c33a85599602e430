"""Findings on measured values of focuser, filters and stars: each at its boundary, with the edit that cures it."""

import copy

import pytest

from tests.rigs import clean_document
from wyntaxis.core.evaluation import Evidence, evaluate
from wyntaxis.core.evidence.focus.curve import FocusCurve
from wyntaxis.core.evidence.focus.focus_model import FocusModel
from wyntaxis.core.evidence.focus.kind import FOCUS
from wyntaxis.core.evidence.focus.points import FocusPoint, FocusRun
from wyntaxis.core.evidence.focus.result import FocusOptics, FocusResult
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.quantity_kinds import DEPTH_OF_FOCUS_SEEING, FOCAL_LENGTH
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.store import validated

# The clean rig: 100 mm f/5 or so; its numbers are read where a limit follows from them.


def quantity_value(value, u=0.0):
    return {"value": value, "standard_uncertainty": u, "source": "focus runs"}


def with_focuser(**settings):
    """A rig whose focuser has these settings: a number states, a pair (value, u) measures, a triple does both."""
    document = copy.deepcopy(clean_document())
    device = next(device for device in document["devices"] if device["kind"] == "focuser")
    for key, entries in settings.items():
        if isinstance(entries, tuple):
            setting = {"measured": quantity_value(*entries[-2:])} | ({"value": entries[0]} if len(entries) == 3 else {})
        else:
            setting = {"value": entries}
        device["settings"][key] = setting
    return document


def found(document, finding_id, evidence=None):
    evaluation = evaluate(validated(document), evidence)
    return evaluation, evaluation.finding(finding_id)


@pytest.mark.parametrize(
    ("settings", "finding_id", "verdict"),
    [
        ({"position": (5200, 5600.0, 5.0)}, "focuser.best", "holds"),
        ({"position": (5200, 5800.0, 5.0)}, "focuser.best", "fails"),
        ({"step_um": (4.0, 4.05, 0.04)}, "focuser.step_size", "tight"),
        ({"step_um": (4.0, 4.5, 0.04)}, "focuser.step_size", "fails"),
        ({"step_um": (4.5, 0.04)}, "focuser.step_size", "unproven"),
        ({"compensation_steps": 20, "backlash_steps": (46.0, 1.0)}, "focuser.backlash", "fails"),
        ({"compensation_steps": 47, "backlash_steps": (46.0, 1.0)}, "focuser.backlash", "tight"),
        ({"compensation_steps": 60, "backlash_steps": (46.0, 1.0)}, "focuser.backlash", "holds"),
    ],
)
def test_measured_against_stated(settings, finding_id, verdict):
    evaluation, entries = found(with_focuser(**settings), finding_id)
    assert entries.verdict == verdict
    assert entries.arithmetic
    if verdict in ("fails", "unproven"):
        corrected = evaluate(edit.apply(evaluation.rig, entries.remedy.change))
        assert corrected.finding(finding_id).verdict == "holds"


def test_the_temperature_law_by_hand():
    evaluation, entries = found(with_focuser(temperature_slope_steps_c=(2.0, 0.1)), "focuser.temperature")
    focal = evaluation.value(FOCAL_LENGTH)
    row = evaluation.rows["glide.expansion_ppm"]
    assert row.measured.value == pytest.approx(2.0 * 4 * 1000 / focal)  # steps/°C · µm/step ÷ mm, in 1e-6
    assert entries.verdict == "holds"
    for ppm, verdict in ((39.0, "holds"), (60.0, "tight"), (231.0, "fails")):
        slope = ppm * focal / 4000
        assert found(with_focuser(temperature_slope_steps_c=(slope, 0.0)), "focuser.temperature")[1].verdict == verdict


def test_triggers_follow_from_the_measured_law():
    evaluation, _ = found(with_focuser(), "focuser.triggers")
    depth = evaluation.value(DEPTH_OF_FOCUS_SEEING) / 4
    limit = depth / 2 / 8.0
    for share, verdict in ((1.2, "holds"), (1.9, "tight"), (2.1, "fails")):
        settings = {"temperature_slope_steps_c": (8.0, 0.1), "refocus_temperature_c": round(share * limit, 4)}
        evaluation, entries = found(with_focuser(**settings), "focuser.triggers")
        assert entries.verdict == verdict
        if verdict == "fails":
            corrected = evaluate(edit.apply(evaluation.rig, entries.remedy.change))
            assert corrected.finding("focuser.triggers").verdict == "holds"


def with_offsets(*, ha=20.0, glass=2.24, stated=None):
    document = with_focuser()
    wheel = next(device for device in document["devices"] if device["kind"] == "filter_wheel")
    wheel["slots"] = [
        {"name": "L", "thickness_mm": 2.0, "index": 1.5, "focus_offset_measured": quantity_value(0.0)},
        {"name": "Ha", "thickness_mm": glass, "index": 1.5, "focus_offset_measured": quantity_value(ha, 0.5)},
    ]
    if stated is not None:
        wheel["slots"][1]["focus_offset_steps"] = stated
    return document


def test_offsets_stand_against_the_glass_and_tell_the_direction():
    # By hand: 0.24 mm (1 − 1/1.5) = 80 µm = 20 steps of 4 µm.
    evaluation, entries = found(with_offsets(), "focuser.offsets")
    row = next(row for key, row in evaluation.rows.items() if key.endswith("slot2.focus_offset_steps"))
    assert row.computed.value == pytest.approx(20)
    assert entries.verdict == "holds"
    assert evaluation.finding("focuser.direction").verdict == "holds"
    evaluation, entries = found(with_offsets(ha=-20.0), "focuser.offsets")
    assert entries.verdict == "fails"
    turned = evaluation.finding("focuser.direction")
    assert turned.verdict == "fails"
    rig = edit.apply(evaluation.rig, turned.remedy.change)
    assert next(device for device in rig.devices if device.kind == "focuser").truth("reversed") is True
    evaluation, entries = found(with_offsets(stated=0.0, ha=40.0, glass=2.48), "focuser.offsets")
    assert entries.verdict == "fails"
    rig = edit.apply(evaluation.rig, entries.remedy.change)
    wheel = next(device for device in rig.devices if device.kind == "filter_wheel")
    assert wheel.slots[1].focus_offset_steps == 40
    assert found(with_offsets(ha=0.2), "focuser.direction")[1] is None  # nothing certain is told


@pytest.mark.parametrize(
    ("settings", "verdict"),
    [
        # 30 °C · 100 steps/°C = 3000 steps about 5200 of 10000: from 3700 to 6700, 33 % left.
        ({"temperature_slope_steps_c": (100.0, 1.0)}, "holds"),
        ({"temperature_slope_steps_c": (300.0, 1.0)}, "tight"),  # to 9700: 3 % left
        ({"temperature_slope_steps_c": (330.0, 1.0)}, "fails"),  # to 10150
        ({"travel_mm": 79.0}, "holds"),  # 40 mm of 79
        ({"travel_mm": 81.0}, "tight"),
        ({"travel_mm": 801.0}, "fails"),
    ],
)
def test_the_travel_holds_what_focus_moves_by(settings, verdict):
    assert found(with_focuser(**settings), "focuser.range")[1].verdict == verdict


def focus_result(largest, saturated=0):
    points = tuple(
        FocusPoint(f"{k}", float(k), size, stars=10, saturated=saturated)
        for k, size in enumerate((largest, 2.0, largest))
    )
    curve = FocusCurve(points, best_position=Estimate(1.0), hfd_px=Estimate(2.0), slope_px_step=Estimate(0.5))
    return FocusResult((FocusRun("one", points),), (curve,), FocusModel(), FocusOptics())


@pytest.mark.parametrize(
    ("times", "verdict", "title"),
    [
        (2.7, "holds", "reach 2.7 times"),
        (1.9, "tight", "too small"),
        (1.3, "fails", "too small"),
        (5.0, "tight", "too far"),
    ],
)
def test_sampling_of_a_run(times, verdict, title):
    evidence = Evidence().having(FOCUS, focus_result(2.0 * times))
    evaluation, entries = found(with_focuser(), "focuser.sampling", evidence)
    assert entries.verdict == verdict
    assert title in entries.title
    if verdict != "holds":
        rig = edit.apply(evaluation.rig, entries.remedy.change)
        assert next(device for device in rig.devices if device.kind == "focuser").number("run_step") == 3
        # 2 px · √(2.75² − 1) / 0.5 px/step / 4 = 2.56 steps


@pytest.mark.parametrize(("stars", "verdict"), [(1, "holds"), (2, "tight"), (5, "fails")])
def test_saturated_stars_of_a_run(stars, verdict):
    evidence = Evidence().having(FOCUS, focus_result(5.4, saturated=stars))
    assert found(with_focuser(), "focuser.saturated", evidence)[1].verdict == verdict


@pytest.mark.parametrize(("times", "verdict"), [(0.6, "holds"), (1.2, "holds"), (1.4, "tight"), (2.1, "fails")])
def test_star_size_against_the_seeing(times, verdict):
    document = clean_document()
    made = evaluate(validated(document)).quantities["star_fwhm_arcsec"].computed.value
    seeing, aperture = document["site"]["seeing_fwhm_arcsec"], document["telescope"]["aperture_mm"]
    assert made == pytest.approx((seeing**2 + (1.029 * 0.55e-3 / aperture * 206264.806) ** 2) ** 0.5)
    document["measured"] = {"star_fwhm_arcsec": quantity_value(times * made, 0.01)}
    _, entries = found(document, "stars.size")
    assert entries.verdict == verdict


@pytest.mark.parametrize(("elongation", "verdict"), [(1.1, "holds"), (1.2, "tight"), (1.4, "fails")])
def test_star_roundness(elongation, verdict):
    document = clean_document() | {"measured": {"star_elongation": quantity_value(elongation, 0.005)}}
    assert found(document, "stars.round")[1].verdict == verdict

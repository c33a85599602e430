"""From a document to its numbers: the contract's example, and rigs of other make-ups worked out by hand."""

import math

import pytest

from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.rig.store import validated

CONTRACT = {
    "effective_focal_length_mm": 513.76,
    "pixel_scale_arcsec_px": 1.565775,
    "depth_of_focus_seeing_um": 47.690206,
    "glass_shift_mm": 0.684211,
    "back_focus_required_mm": 62.184211,
    "back_focus_built_mm": 62.9,
    "back_focus_error_mm": 0.715789,
    "guide_scale_arcsec_px": 1.605923,
    "guide_path_required_mm": 53.715789,
    "guide_path_built_mm": 54.5,
    "guide_path_error_mm": 0.784211,
}


def numbers(document):
    return {key: row.computed and row.computed.value for key, row in evaluate(validated(document)).quantities.items()}


def part(part_id, kind, length, **more):
    return {"id": part_id, "kind": kind, "length_mm": length, **more}


def without_guiding(document):
    document["guiding"] = {"kind": "none"}


def test_the_contracts_example(example):
    got = numbers(example)
    assert {key: pytest.approx(got[key], abs=6e-7) for key in CONTRACT} == CONTRACT
    row = evaluate(validated(example)).quantities["back_focus_built_mm"]
    assert row.computed.uncertainty == pytest.approx(0.058878, abs=5e-7)


def no_corrector(doc):
    del doc["train"][0]
    return {
        "effective_focal_length_mm": 676.0,
        "back_focus_required_mm": None,
        "back_focus_built_mm": None,
        "back_focus_error_mm": None,
        "glass_shift_mm": 2 - 2 / 1.52,
        "guide_path_required_mm": 54.4 - (2 - 2 / 1.52),
    }


def extender_after_flattener(doc):
    without_guiding(doc)
    flattener = part("flat", "corrector", 30, magnification=1.0, required_back_focus_mm=100, back_focus_tolerance_mm=1)
    extender = part("ext", "extender", 50, magnification=2.0, required_back_focus_mm=70, back_focus_tolerance_mm=1)
    before = part("drawer", "filter_drawer", 12, glass=[{"thickness_mm": 3, "index": 1.5}])
    doc["train"] = [flattener, before, extender, *doc["train"][2:]]
    # The extender is the datum: the drawer's plate lies before it. wheel 20 + ring 12.9 + camera 12.5.
    return {
        "effective_focal_length_mm": 1352.0,
        "focal_ratio": 13.0,
        "glass_shift_mm": 0.6842105263,
        "back_focus_required_mm": 70.6842105263,
        "back_focus_built_mm": 45.4,
        "guide_scale_arcsec_px": None,
        "guide_path_built_mm": None,
    }


def extender_without_a_distance(doc):
    without_guiding(doc)
    doc["train"].insert(2, part("ext", "extender", 50, magnification=1.5))
    # The reducer stays the datum, and the extender's length counts.
    return {"effective_focal_length_mm": 676 * 0.76 * 1.5, "back_focus_built_mm": 112.9}


def no_filter(doc):
    del doc["train"][2]["glass"]
    return {"glass_shift_mm": 0.0, "back_focus_error_mm": 1.4, "guide_path_required_mm": 54.4}


def glass_counted(doc):
    doc["train"][2]["glass"][0]["counted"] = True
    return {"glass_shift_mm": 0.0, "back_focus_required_mm": 61.5, "guide_path_required_mm": 54.4}


def glass_counted_in_the_correctors_distance(doc):
    doc["train"][2]["glass"][0] |= {"counted": True, "counted_in": "back_focus"}
    # The plate still stands in the main beam only, so the guide branch stays shorter by its shift.
    return {"back_focus_required_mm": 61.5, "guide_path_required_mm": 53.7157894737}


def glass_on_both_sides(doc):
    doc["guiding"]["path"][2]["glass"] = [{"thickness_mm": 1.5, "index": 1.5}]
    doc["train"][4]["glass"] = [{"thickness_mm": 3, "index": 1.5}]
    return {"glass_shift_mm": 1.6842105263, "guide_path_required_mm": 54.4 - 1.6842105263 + 0.5}


def separate_guide_telescope(doc):
    telescope = {"id": "guide_ota", "focal_length_mm": 200, "focal_length_tolerance_mm": 3, "aperture_mm": 50}
    doc["guiding"] = {"kind": "separate", "telescope": telescope, "path": doc["guiding"]["path"]}
    return {
        "guide_scale_arcsec_px": 206.26480625 * 4.0 / 200,
        "guide_to_main_ratio": 4.0 / 3.9 * 513.76 / 200,
        "guide_path_required_mm": None,
    }


def guiding_none(doc):
    without_guiding(doc)
    return dict.fromkeys(key for key in CONTRACT if key.startswith("guide"))


def binning_two(doc):
    doc["train"][4]["sensor"]["binning"] = 2
    return {"pixel_scale_arcsec_px": 2 * 1.5657753511, "field_width_deg": 2.6091745888, "guide_to_main_ratio": 2 / 3.9}


def prism_before_the_reducer(doc):
    doc["train"][0], doc["train"][1] = doc["train"][1], doc["train"][0]
    # The guide camera sees the telescope alone, and equal paths no longer mean equal focus.
    return {"guide_scale_arcsec_px": 206.26480625 * 4.0 / 676, "guide_path_required_mm": None}


def adjustable_counts_at_its_set_length(doc):
    doc["train"][3] |= {"length_mm": 99, "adjustable": {"min_mm": 10, "max_mm": 14, "set_mm": 12.2}}
    return {"back_focus_built_mm": 62.2}


def no_site(doc):
    del doc["site"]
    return {"sampling_px_per_fwhm": None, "depth_of_focus_seeing_um": None, "depth_of_focus_diffraction_um": 53.68792}


def no_camera_yet(doc):
    del doc["train"][4]
    return {"pixel_scale_arcsec_px": None, "back_focus_built_mm": None, "effective_focal_length_mm": 513.76}


@pytest.mark.parametrize(
    "variant",
    [
        no_corrector,
        extender_after_flattener,
        extender_without_a_distance,
        no_filter,
        glass_counted,
        glass_counted_in_the_correctors_distance,
        glass_on_both_sides,
        separate_guide_telescope,
        guiding_none,
        binning_two,
        prism_before_the_reducer,
        adjustable_counts_at_its_set_length,
        no_site,
        no_camera_yet,
    ],
)
def test_other_rigs(example, variant):
    expected = variant(example)
    got = numbers(example)
    assert {key: got[key] for key in expected} == {
        key: None if value is None else pytest.approx(value, rel=1e-9) for key, value in expected.items()
    }


def test_uncertainty_is_carried_to_what_follows(example):
    rows = evaluate(validated(example)).quantities
    relative = 4 / math.sqrt(3) / 676
    for key, power in {"pixel_scale_arcsec_px": 1, "focal_ratio": 1, "depth_of_focus_seeing_um": 2}.items():
        assert rows[key].computed.uncertainty == pytest.approx(power * relative * rows[key].computed.value)
    # Behind a prism the shared focal length cancels; between two telescopes it does not.
    assert rows["guide_to_main_ratio"].computed.uncertainty == 0
    separate_guide_telescope(example)
    ratio = evaluate(validated(example)).quantities["guide_to_main_ratio"].computed
    assert ratio.uncertainty / ratio.value == pytest.approx(math.hypot(relative, 3 / math.sqrt(3) / 200))


def test_a_measured_leg_is_acted_on(example):
    example["measured"] = {"back_focus_error_mm": {"value": 0.1, "standard_uncertainty": 0.05}}
    row = evaluate(validated(example)).quantities["back_focus_error_mm"]
    assert (row.best.value, row.target.judge(row.best)) == (0.1, "holds")
    assert row.verdict == "fails"  # it contradicts the computed value

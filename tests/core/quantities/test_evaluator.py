"""Laws of the evaluator: it knows what a number depends on, and computes nothing twice."""

import pytest

from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.quantities import evaluator as declared
from wyntaxis.core.quantities.evaluator import QuantityEvaluator
from wyntaxis.core.quantities.read_tracking import reads_of_value, rests_on
from wyntaxis.core.quantity_kinds import DITHER_SKY, STOP_THRESHOLD
from wyntaxis.core.rig.store import validated


def test_what_a_number_rests_on(example):
    reads = evaluate(validated(example), traced=True).evaluator.reads
    assert reads("airy_diameter_um") == {
        "stated.airy_diameter_um",
        "measured.airy_diameter_um",
        "telescope.focal_length_mm",
        "telescope.focal_length_tolerance_mm",
        "telescope.aperture_mm",
        "telescope!",
        "train!",  # which parts there are; of each whether it magnifies, and of the reducer by how much
        "train[0].magnification",
        *(f"train[{index}].kind" for index in range(5)),
    }
    assert "site.seeing_fwhm_arcsec" in reads("sampling_px_per_fwhm")
    assert "measured.pixel_scale_arcsec_px!" in reads("dither_guide_px")
    with pytest.raises(RuntimeError, match="asked to trace"):
        evaluate(validated(example)).evaluator.reads("dither_guide_px")


def test_a_traced_rig_reckons_the_same(example):
    assert evaluate(validated(example), traced=True).rows == evaluate(validated(example)).rows


@pytest.mark.parametrize(
    "path, read, rests",
    [
        ("train[2].length_mm", "train[2].length_mm", True),
        ("train[2].length_mm", "train[2]", True),
        ("train[2].length_mm", "train", True),
        ("train[2].length_mm", "train!", False),
        ("train[2].length_mm", "train[2]!", False),
        ("train[2].length_mm", "train[22].length_mm", False),
        ("train[2].length_mm", "train[2].length_tolerance_mm", False),
        ("train[2]", "train!", True),
        ("train[2]", "train[2].glass", True),
        ("telescope", "telescope!", True),
        ("telescope.rear", "telescope!", False),
    ],
)
def test_what_is_read_rests_on_a_path(path, read, rests):
    assert rests_on(read, path) == rests
    if path.endswith("_mm"):
        assert (read in reads_of_value(path)) == rests


def test_a_leg_is_worked_out_once_and_must_not_wait_for_itself(example, monkeypatch):
    asked = []
    declared.import_all()
    trial = dict(declared.DECLARED)
    monkeypatch.setattr(declared, "DECLARED", trial)
    focal = trial["computed", "effective_focal_length_mm"]
    trial["computed", "effective_focal_length_mm"] = lambda evaluator: (asked.append(1), focal(evaluator))[1]
    evaluate(validated(example))
    assert len(asked) == 1
    trial["computed", "dither_arcsec"] = lambda evaluator: evaluator.computed(STOP_THRESHOLD)
    trial["computed", "stop_threshold_main_px"] = lambda evaluator: evaluator.computed(DITHER_SKY)
    with pytest.raises(RuntimeError, match=r"dither_arcsec → .*stop_threshold_main_px → .*dither_arcsec: waits"):
        QuantityEvaluator(validated(example)).computed(DITHER_SKY)

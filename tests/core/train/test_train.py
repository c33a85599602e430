"""Joints, illumination, prism, reach, load, stack-up and variants: hand-worked cases, laws, and findings."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.findings.joints import depth
from wyntaxis.core.quantity_kinds import BACK_FOCUS_BUILT, BACK_FOCUS_ERROR, FOCAL_LENGTH, GUIDE_PATH_REQUIRED
from wyntaxis.core.rig.model import variant_rig
from wyntaxis.core.rig.parts import Joint
from wyntaxis.core.rig.shelf import STARTER, load_shelf
from wyntaxis.core.rig.store import validated
from wyntaxis.core.section import section
from wyntaxis.core.train.illumination import Beam, circles_overlap, falloff, falloff_map, openings
from wyntaxis.core.train.joints import joint_text, meet
from wyntaxis.core.train.lightpath import back_focus
from wyntaxis.core.train.mechanics import load
from wyntaxis.core.train.stackup import stack_up


def joint(thread, gender, depth_mm=None, shoulder=None):
    return Joint(thread=thread, gender=gender, depth_mm=depth_mm, shoulder=shoulder)


@pytest.mark.parametrize(
    "rear, front, mating, gap, seat",
    [
        (joint("M42x0.75", "female", 5), joint("M42x0.75", "male", 4.5), "mates", 0, "firm"),
        (joint("M42x0.75", "female", 4), joint("M42x0.75", "male", 4.5), "mates", 0.5, "firm"),
        (joint("M42x0.75", "female"), joint("M42x0.75", "male", 9), "mates", 0, "firm"),
        (joint("M42x0.75", "female"), joint("M42x1", "male"), "pitch", 0, "unknown"),
        (joint("M42x0.75", "female"), joint("M42.0x0.750", "male"), "mates", 0, "firm"),
        (joint("M42x0.75", "female"), joint("M48x0.75", "male"), "thread", 0, "unknown"),
        (joint("M42x0.75", "male"), joint("M42x0.75", "male"), "gender", 0, "unknown"),
        (joint("2in", "slip"), joint("2IN", "slip"), "mates", 0, "may tilt"),
        (joint("2in", "slip"), joint("2in", "male"), "slip", 0, "unknown"),
        (joint("2in", "slip"), joint("1.25in", "slip"), "thread", 0, "unknown"),
        (joint("2in", "slip", None, False), joint("2in", "slip"), "mates", 0, "no shoulder"),
        (joint("M48x0.75", "female"), joint("M48x0.75", "male", 3, False), "mates", 0, "no shoulder"),
        (None, joint("2in", "slip"), "unknown", 0, "unknown"),
    ],
)
def test_joints(rear, front, mating, gap, seat):
    for state in (meet(rear, front), meet(front, rear)):
        assert (state.mating, state.gap_mm, state.seat) == (mating, gap, seat)


def test_a_gap_lengthens_what_is_built_and_what_is_drawn(example):
    example["train"][3]["front"] = {"thread": "M42x0.75", "gender": "male", "depth_mm": 5.2}
    example["train"][2]["rear"] = {"thread": "M42x0.75", "gender": "female", "depth_mm": 4.5}
    evaluation = evaluate(validated(example))
    assert evaluation.value(BACK_FOCUS_BUILT) == pytest.approx(62.9 + 0.7)
    assert evaluation.value(GUIDE_PATH_REQUIRED) == pytest.approx(53.7157894737 + 0.7)
    assert (
        "built: 17.500 + 20.000 + 0.700 + 12.900 + 12.500 = 63.600 mm" in evaluation.finding("spacing.main").arithmetic
    )
    assert evaluation.finding("joints.depth").arithmetic[0].startswith("5.20 − 4.50 = 0.70 mm")
    assert section(evaluation).length_mm == pytest.approx(90.9 + 0.7)


@pytest.mark.parametrize(
    "rings, built, open_mm",
    [([], 63.6, 0.7), ([0.7], 63.6, None), ([0.5], 63.6, 0.2), ([0.9], 63.8, None), ([0.3, 0.4], 63.6, None)],
)
def test_a_ring_in_a_bottoming_joint_fills_its_gap_first(example, rings, built, open_mm):
    """The joint adds max(gap, rings): 0.7 mm of gap with a 0.7 mm shim is 0.7 mm, not 1.4 mm."""
    example["train"][3]["front"] = {"thread": "M42x0.75", "gender": "male", "depth_mm": 5.2}
    example["train"][2]["rear"] = {"thread": "M42x0.75", "gender": "female", "depth_mm": 4.5}
    for number, thickness in enumerate(rings):
        example["train"].insert(3, {"id": f"shim{number}", "kind": "spacer", "length_mm": thickness})
    evaluation = evaluate(validated(example))
    assert evaluation.value(BACK_FOCUS_BUILT) == pytest.approx(built)
    finding = evaluation.finding("joints.depth")
    assert (finding is None) is (open_mm is None)
    if finding is not None:
        assert f"a gap of {open_mm:.2f} mm" in finding.title


def test_a_thick_ring_that_is_no_thicker_than_the_gap_fills_it_too(example):
    example["train"][3]["front"] = {"thread": "M42x0.75", "gender": "male", "depth_mm": 6.0}
    example["train"][2]["rear"] = {"thread": "M42x0.75", "gender": "female", "depth_mm": 4.5}
    example["train"].insert(3, {"id": "stop", "kind": "spacer", "length_mm": 1.5})
    evaluation = evaluate(validated(example))
    assert evaluation.value(BACK_FOCUS_BUILT) == pytest.approx(62.9 + 1.5)
    assert evaluation.finding("joints.depth") is None


def test_a_gap_before_the_datum_is_not_told_as_built_length(example):
    example["telescope"]["rear"]["depth_mm"] = 4.0
    evaluation = evaluate(validated(example))
    finding = evaluation.finding("joints.depth")
    assert "before the datum, so outside the built length" in finding.arithmetic[0]
    assert "Until then" not in finding.remedy.text
    assert evaluation.value(BACK_FOCUS_BUILT) == pytest.approx(62.9)


def test_the_worst_case_holds_the_plates_too(example):
    """Ring 0.02 and guider 0.1 mm, and a plate of 2.0 ± 0.15 mm: 0.15 (1 − 1/1.52) = 0.0513 mm."""
    example["train"][2]["glass"][0]["thickness_tolerance_mm"] = 0.15
    path = back_focus(validated(example))
    assert path.worst_case_mm == pytest.approx(0.12 + 0.15 * (1 - 1 / 1.52))


def test_a_gap_before_the_datum_does_not_count(example):
    example["train"][0]["front"]["depth_mm"] = 6
    evaluation = evaluate(validated(example))
    assert evaluation.value(BACK_FOCUS_BUILT) == pytest.approx(62.9)
    assert len(list(depth(evaluation))) == 1


def test_what_does_not_mate_is_told_with_the_adapter_that_mends_it(example):
    example["train"][2]["front"] = {"thread": "M42x0.75", "gender": "female"}
    example["train"][1]["rear"] = {"thread": "M48x0.75", "gender": "male", "depth_mm": 4.5}
    rig = validated(example)
    bare, stocked = evaluate(rig), evaluate(rig, shelf=load_shelf(STARTER).parts)
    assert bare.finding("joints.mate").verdict == "fails"
    assert "the shelf has none" in bare.finding("joints.mate").remedy.text
    assert stocked.finding("joints.mate").remedy.text.startswith("Put M48 to M42 from the shelf between them")
    assert joint_text(rig.train[1].rear) == "M48×0.75 male, 4.5 mm"


def test_seats(example):
    example["train"][0]["front"] = {"thread": "2in", "gender": "slip", "shoulder": False}
    example["telescope"]["rear"] = {"thread": "2in", "gender": "slip"}
    assert evaluate(validated(example)).finding("joints.seat").verdict == "fails"
    example["train"][0]["front"]["shoulder"] = True
    assert evaluate(validated(example)).finding("joints.seat").verdict == "tight"


# Illumination


def test_beam_by_hand():
    beam = Beam(5.0)
    assert beam.opening_needed(28, 50) == pytest.approx(38)  # 28 + 50/5
    assert beam.fully_lit_circle(36, 50) == pytest.approx(26)
    assert Beam(5.0, 200).opening_needed(28, 50) == pytest.approx(31)  # 28 * 0.75 + 10
    # A half-moon: the opening's edge through the middle of a beam of radius 5, opening 28 wide.
    assert beam.fraction(14, 1e6, 50) == 1
    assert circles_overlap(1, 1, 1) == pytest.approx(2 * math.pi / 3 - math.sqrt(3) / 2)
    assert circles_overlap(1, 3, 1.5) == pytest.approx(math.pi)
    assert circles_overlap(1, 1, 2) == 0


@given(st.floats(0.5, 30), st.floats(0.5, 30), st.floats(0, 70))
def test_overlap_is_symmetric_and_bounded(one, other, apart):
    area = circles_overlap(one, other, apart)
    assert area == pytest.approx(circles_overlap(other, one, apart), rel=1e-9, abs=1e-9)
    assert -1e-9 <= area <= math.pi * min(one, other) ** 2 + 1e-9


@given(st.floats(3, 12), st.floats(20, 50), st.floats(5, 90))
def test_the_sampled_falloff_is_the_overlap_of_the_circles(ratio, diameter, distance):
    opening = openings_of_one(diameter, distance)
    beam = Beam(ratio)
    profile = falloff(beam, [opening], 40)
    exact = [beam.fraction(float(h), diameter, distance) for h in profile.heights_mm]
    assert np.abs(profile.shares - exact).max() < 0.04
    assert np.all(np.diff(exact) <= 1e-12)


def openings_of_one(diameter, distance):
    from wyntaxis.core.train.illumination import Opening

    return Opening(None, diameter, distance)


def test_the_map_has_the_sensors_shape_and_is_brightest_in_the_middle():
    profile = falloff(Beam(4.0), [openings_of_one(30, 50)], 28.1)
    share = falloff_map(profile, 23.4, 15.6)
    assert share.shape == (60, 90)
    assert share[30, 45] == share.max() == 1.0
    assert share[0, 0] == pytest.approx(share[-1, -1]) == share.min()


@pytest.mark.parametrize(
    "aperture, verdict, share",
    [(36, "holds", None), (34, "tight", "95 %"), (24, "fails", "14 %")],
)
def test_a_wheel_that_cuts_the_corner(example, aperture, verdict, share):
    """Middle of the wheel 35.4 mm before the sensor at f/4.94: 28.12 + 7.17 = 35.29 mm needed.

    The beam there has a radius of 3.58 mm; through 24 mm passes a cap of it 1.52 mm high, a seventh of its area.
    """
    example["train"][2]["clear_aperture_mm"] = aperture
    found = evaluate(validated(example)).finding("illumination.corner")
    assert found.verdict == verdict
    assert [o.distance_mm for o in openings(validated(example))] == [pytest.approx(62.9), pytest.approx(35.4)]
    assert any("28.12 + 35.4/4.94 = 35.29 mm needed" in line for line in found.arithmetic)
    if share:
        assert share in found.title


def prism(edge, height=3.0, circle=46):
    def change(doc):
        doc["train"][1]["prism"] |= {"edge_from_axis_mm": edge, "height_mm": height}
        doc["train"][0]["image_circle_mm"] = circle

    return change


@pytest.mark.parametrize(
    "change, shade, light",
    [
        (prism(14), "holds", "holds"),
        (prism(13.5), "tight", "holds"),  # light ends at 7.8 + 54.4/9.88 = 13.306
        (prism(12), "fails", "holds"),
        (prism(21), "holds", "fails"),  # 21 + 3 > 23
        (prism(19.7), "holds", "tight"),
        (lambda doc: doc["telescope"].pop("image_circle_mm"), "holds", "unproven"),
    ],
)
def test_the_prisms_place(example, change, shade, light):
    change(example)
    found = evaluate(validated(example))
    assert (found.finding("prism.shade").verdict, found.finding("prism.light").verdict) == (shade, light)
    change = found.finding("prism.shade").remedy.change
    if shade == "fails":
        assert change.values == ((("train", 1, "prism", "edge_from_axis_mm"), 13.8),)


def test_a_prism_outside_a_circle_that_is_only_estimated_is_a_doubt(example):
    """44 mm × 0.76 / 2 = 16.72 mm, the prism reaches to 22 mm; the corrector states no circle of its own."""
    found = evaluate(validated(example)).finding("prism.light")
    assert (found.verdict, found.title) == (
        "tight",
        "The prism reaches out of the image circle estimated behind the corrector",
    )
    assert "image circle's radius there: 16.72 mm" in found.arithmetic
    example["train"][0]["image_circle_mm"] = 33.44
    assert evaluate(validated(example)).finding("prism.light").verdict == "fails"


def bare_train(doc, focal_plane, travel=60):
    del doc["train"][0]
    doc["telescope"]["focuser"] = {"focal_plane_mm": focal_plane, "travel_mm": travel}


@pytest.mark.parametrize(
    "focal_plane, verdict, words",
    [
        (95, "holds", ""),  # 95 + 0.684 - 62.9 = 32.78 of 60
        (66, "tight", "Shorten the train by 26.2 mm"),
        (60, "fails", "Shorten the train by at least 2.2 mm"),
        (125, "fails", "Add an extension of at least 2.8 mm"),
    ],
)
def test_focus_reach(example, focal_plane, verdict, words):
    bare_train(example, focal_plane)
    found = evaluate(validated(example)).finding("reach.main")
    assert found.verdict == verdict
    assert words in found.remedy.text


def test_focus_reach_unknown_and_of_a_guide_telescope(example):
    del example["train"][0]
    telescope = {
        "id": "g",
        "focal_length_mm": 200,
        "aperture_mm": 50,
        "focuser": {"focal_plane_mm": 70, "travel_mm": 30},
    }
    example["guiding"] = {"kind": "separate", "telescope": telescope, "path": example["guiding"]["path"]}
    found = [f for f in evaluate(validated(example)).findings if f.id == "reach.main"]
    assert [(f.subject, f.verdict) for f in found] == [("ota", "unproven"), ("g", "holds")]  # 70 - 54.5 = 15.5


@pytest.mark.parametrize("rating, verdict", [(3000, "holds"), (1700, "tight"), (1500, "fails")])
def test_load(example, rating, verdict):
    example["telescope"]["focuser"] = {"load_rating_g": rating}
    unweighed = evaluate(validated(example)).finding("load.focuser")
    assert unweighed.verdict == "unproven"
    assert "Sideglance" in unweighed.remedy.text
    for part, mass in zip(example["train"], (310, 280, 620, 24, 326), strict=True):
        part["mass_g"] = mass
    for part in example["guiding"]["path"]:
        part["mass_g"] = 0
    found = evaluate(validated(example)).finding("load.focuser")
    # Σ m s = 310·14 + 280·36.75 + 620·55.5 + 24·71.95 + 326·84.65 = 78 363 g·mm; / 1560 g = 50.2 mm; · g = 0.77 N·m
    assert found.arithmetic[0] == "mass: 1560 g, its centre 50.2 mm behind the focuser's face"
    assert "0.77 N·m" in found.arithmetic[1]
    assert found.verdict == verdict


def test_stack_up_draws_agree_with_the_sums(example):
    example["train"][2]["length_tolerance_mm"] = 0.3
    result = stack_up(back_focus(validated(example)))
    assert result.worst_case_mm == pytest.approx(0.42)
    assert result.draws_mm.std() == pytest.approx(result.rss_mm, rel=0.01)
    assert result.draws_mm.mean() == pytest.approx(result.error_mm, abs=0.003)
    assert np.abs(result.draws_mm - result.error_mm).max() <= 0.42
    # |e| <= 0.4 needs the three uniform errors to add to less than -0.3158: 0.0104 by their volume at the corner.
    cube = (0.42 - 0.315789) ** 3 / 6 - (0.42 - 0.315789 - 0.04) ** 3 / 6
    assert result.inside == pytest.approx(cube / (0.6 * 0.2 * 0.04), abs=0.002)


# Variants


def with_variant(doc, train=None, **more):
    tube = {"id": "tube", "kind": "adapter", "length_mm": 45}
    doc["variants"] = [{"name": "native", "train": train or [tube, "oag", "wheel", "camera"], **more}]
    return doc


def test_a_variant_is_a_rig_over_shared_parts(example):
    rig = validated(with_variant(example))
    native = variant_rig(rig, "native")
    assert [part.id for part in native.train] == ["tube", "oag", "wheel", "camera"]
    assert native.train[1] == rig.train[1]
    assert native.guiding == rig.guiding
    assert evaluate(native).value(FOCAL_LENGTH) == 676
    assert variant_rig(rig, None).train == variant_rig(rig, rig.name).train == rig.train
    other = variant_rig(validated(with_variant(example, train=["reducer", "camera"])), "native")
    assert other.guiding.kind == "none"
    with pytest.raises(ValueError, match='no variant "x"; the rig has: "native"'):
        variant_rig(rig, "x")


@pytest.mark.parametrize(
    "train, more, words",
    [
        (["nothing"], {}, r'variants\[0\]\.train\[0\] names "nothing"'),
        (["camera", "oag"], {}, r"variants\[0\]: .*must be the last part"),
        (["oag"], {"name": "Tarnfell triplet, reduced"}, "is there twice"),
        (["oag", {"id": "ota", "kind": "spacer", "length_mm": 1}], {}, "is already the id of telescope"),
        (["oag", {"id": "x", "kind": "spacer", "length_mm": -1}], {}, r"variants\[0\]\.train\[1\]"),
    ],
)
def test_a_variant_that_makes_no_rig_is_refused(example, train, more, words):
    with pytest.raises(InputError, match=words) as refused:
        validated(with_variant(example, train=train, **more))
    assert "\n" not in str(refused.value)


# Filters of different thickness, a near exit pupil, and focus behind a corrector


def with_slots(document, *thicknesses):
    slots = [{"name": name, "thickness_mm": t} for name, t in zip("LRGB", thicknesses, strict=False)]
    document["devices"] = [{"id": "rondel", "kind": "filter_wheel", "part": "wheel", "slots": slots}]
    return document


def test_one_filter_of_another_thickness_is_told_by_both_spacings(example):
    """Three filters of 2 mm and one of 3.5 mm: 1.5 (1 − 1/1.52) = 0.513 mm more shift, so the sensor is 0.513 mm
    nearer than wanted, and the guide camera as much too far.
    """
    example["train"][3]["length_mm"] = 12.184
    example["guiding"]["path"][1]["adjustable"]["set_mm"] = 28.5
    even = evaluate(validated(with_slots(example, 2.0, 2.0, 2.0)))
    assert even.finding("spacing.main").verdict == "holds"
    assert "spread over the filters: 0.000 mm" in even.finding("spacing.main").arithmetic
    odd = evaluate(validated(with_slots(example, 2.0, 2.0, 3.5)))
    main, guide = odd.finding("spacing.main"), odd.finding("spacing.guide")
    assert main.verdict == "fails"
    assert "0.51 mm too close to Aldous 0.76x through the filter G" in main.title
    assert "through G: 3.5 mm of glass shift the focus by 1.197 mm, error −0.513 mm" in main.arithmetic
    assert "spread over the filters: 0.513 mm" in main.arithmetic
    assert guide.verdict == "fails"
    assert guide.title == "Through G the guide camera is 0.51 mm out of focus (allowed ±0.02 mm)"
    assert odd.value(BACK_FOCUS_ERROR) == pytest.approx(even.value(BACK_FOCUS_ERROR))


def test_a_thin_filter_within_the_tolerance_still_unfocuses_the_guide_camera(example):
    """0.2 mm of glass more is 0.068 mm: inside ±0.4 mm, but more than the guide's depth of focus of 0.048 mm."""
    example["train"][3]["length_mm"] = 12.184
    example["guiding"]["path"][1]["adjustable"]["set_mm"] = 28.5
    evaluation = evaluate(validated(with_slots(example, 2.0, 2.2)))
    assert evaluation.finding("spacing.main").verdict == "holds"
    assert evaluation.finding("spacing.guide").verdict == "fails"
    example["devices"][0]["part"] = "gone"  # a wheel that is not in this train says nothing of it
    assert evaluate(validated(example)).slots == []


@pytest.mark.parametrize("pupil, needed", [(None, 29.4), (100.0, 15.4), (40.0, 15.4 + 4.2), (50.0, 1.4 + 14)])
def test_behind_a_near_exit_pupil_the_beam_has_crossed_the_axis(pupil, needed):
    """Diagonal 28 mm, 70 mm before the sensor, f/50: 28 |1 − 70/P| + 1.4."""
    beam = Beam(50.0, pupil)
    wanted = 28 * abs(1 - 70 / pupil if pupil else 1) + 1.4
    assert beam.opening_needed(28.0, 70.0) == pytest.approx(wanted)
    assert beam.fully_lit_circle(beam.opening_needed(28.0, 70.0), 70.0) == pytest.approx(28.0)
    assert beam.fraction(14.0, beam.opening_needed(28.0, 70.0) - 0.5, 70.0) < 1


def test_a_pupil_nearer_than_an_opening_does_not_hold(example):
    example["telescope"]["exit_pupil_distance_mm"] = 12.0
    example["train"][2]["clear_aperture_mm"] = 20.0
    evaluation = evaluate(validated(example))
    assert evaluation.finding("illumination.corner").verdict in ("fails", "tight")
    assert all("−" not in line.partition("=")[2] for line in evaluation.finding("illumination.corner").arithmetic)


@pytest.mark.parametrize(
    "focal_plane, travel, verdict, words",
    [
        (150.0, 80.0, "holds", "reaches focus 39.8 mm out of 80 mm"),
        (106.0, 80.0, "tight", "in doubt"),
        (97.0, 80.0, "fails", "rack in"),
        (195.0, 80.0, "tight", "in doubt"),
        (205.0, 80.0, "fails", "rack out"),
    ],
)
def test_focus_behind_a_corrector(example, focal_plane, travel, verdict, words):
    """The 0.76x reducer 62.216 mm before the sensor: m = 1 − 62.216/256.25 = 0.75721; without it focus falls
    62.216/0.75721 = 82.165 mm behind its rear, which is 28 mm behind the focuser's face: 150 − 28 − 82.165 = 39.8 mm.
    Its principal plane may lie anywhere in its 28 mm: (1/m − 1) × 28 = 8.98 mm.
    """
    example["telescope"]["focuser"] = {"focal_plane_mm": focal_plane, "travel_mm": travel}
    found = evaluate(validated(example)).finding("reach.main")
    assert found.verdict == verdict
    assert words in found.title
    assert found.arithmetic[0].endswith("behind it (thin-lens estimate)")


def test_focus_behind_a_corrector_needs_its_figures(example):
    assert evaluate(validated(example)).finding("reach.main").verdict == "unproven"
    example["telescope"]["focuser"] = {"focal_plane_mm": 150, "travel_mm": 80}
    del example["train"][0]["magnification"]
    flattener = evaluate(validated(example)).finding("reach.main")  # without a magnification: taken as a flattener
    assert flattener.verdict == "holds"
    assert "62.22 / 1.0000 = 62.22 mm" in flattener.arithmetic[0]


def test_the_guide_path_hangs_at_its_prism(example):
    """Only the guide path has mass: 500 g at 28 + 8.5 mm behind the focuser: 0.5 × 9.80665 × 0.0365 = 0.17897 N·m."""
    for part in (*example["train"], *example["guiding"]["path"]):
        part["mass_g"] = 0
    example["guiding"]["path"][-1]["mass_g"] = 500
    hangs = load(validated(example))
    assert hangs.moment_n_m == pytest.approx(0.178971, abs=1e-6)
    assert hangs.centre_mm == pytest.approx(36.5)


def test_the_pupils_sign(example):
    """A pupil 100 mm before the image: 20 mm before the sensor the corner's beam lies at 14 (1 − 0.2) = 11.2 mm."""
    beam = Beam(5.0, 100.0)
    assert beam.centre(14.0, 20.0) == pytest.approx(11.2)
    assert beam.opening_needed(28.0, 20.0) == pytest.approx(2 * 11.2 + 4)
    assert beam.fully_lit_circle(26.4, 20.0) == pytest.approx(28.0)

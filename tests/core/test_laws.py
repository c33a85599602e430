"""Laws that hold for any rig: of the light path, the guide branch, the section, the errors and the variants."""

import copy
import json
import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import EXAMPLE
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.files.errors import InputError, path_text, quoted
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantity_kinds import (
    BACK_FOCUS_BUILT,
    BACK_FOCUS_ERROR,
    BACK_FOCUS_REQUIRED,
    GUIDE_PATH_ERROR,
    GUIDE_PATH_REQUIRED,
    QUANTITY_KINDS,
)
from wyntaxis.core.rig.model import json_schema
from wyntaxis.core.rig.store import parse, to_bytes, validated
from wyntaxis.core.rig.variants import differences, document_path, free_name, new_variant, train_entries
from wyntaxis.core.section import section
from wyntaxis.core.steps import steps
from wyntaxis.core.train.lightpath import back_focus
from wyntaxis.core.worklist import belongs

mm = st.floats(0.1, 60).map(lambda value: round(value, 3))
tolerances = st.floats(0, 0.5).map(lambda value: round(value, 3))
glasses = st.lists(st.fixed_dictionaries({"thickness_mm": st.floats(0.5, 5), "index": st.floats(1.3, 2.0)}), max_size=2)
kinds = st.sampled_from(["spacer", "adapter", "filter_drawer", "rotator", "window"])


@st.composite
def rigs(draw):
    """The example with any parts between the guider and the camera."""
    doc = copy.deepcopy(EXAMPLE)
    parts = draw(st.lists(st.tuples(kinds, mm, tolerances, glasses), max_size=6))
    middle = [
        {"id": f"p{n}", "kind": kind, "length_mm": length, "length_tolerance_mm": tolerance, "glass": glass}
        for n, (kind, length, tolerance, glass) in enumerate(parts)
    ]
    doc["train"] = [*doc["train"][:2], *middle, doc["train"][-1]]
    return doc


@given(rigs(), mm)
def test_a_longer_part_moves_the_sensor_by_as_much(doc, more):
    before = evaluate(validated(doc))
    doc["train"][1]["length_mm"] += more
    after = evaluate(validated(doc))
    for kind in (BACK_FOCUS_BUILT, BACK_FOCUS_ERROR):
        assert after.value(kind) - before.value(kind) == pytest.approx(more, abs=1e-9)
    assert after.value(BACK_FOCUS_REQUIRED) == before.value(BACK_FOCUS_REQUIRED)
    # Behind the prism the guide branch must grow by as much, so its error falls.
    assert after.value(GUIDE_PATH_ERROR) - before.value(GUIDE_PATH_ERROR) == pytest.approx(-more, abs=1e-9)


@given(rigs(), st.randoms(use_true_random=False))
def test_the_order_of_parts_behind_the_guider_changes_no_length(doc, random):
    before = evaluate(validated(doc))
    middle = doc["train"][2:-1]
    random.shuffle(middle)
    doc["train"][2:-1] = middle
    after = evaluate(validated(doc))
    for kind in (BACK_FOCUS_BUILT, BACK_FOCUS_REQUIRED, GUIDE_PATH_REQUIRED, GUIDE_PATH_ERROR):
        assert after.value(kind) == pytest.approx(before.value(kind), abs=1e-9)


@given(rigs(), st.floats(0.5, 5), st.floats(1.3, 2.0))
def test_a_plate_behind_the_prism_shortens_the_guide_branch_by_what_it_adds_to_the_back_focus(doc, thickness, index):
    before = evaluate(validated(doc))
    doc["train"][-1]["glass"] = [{"thickness_mm": thickness, "index": index}]
    after = evaluate(validated(doc))
    shift = thickness * (1 - 1 / index)
    assert after.value(BACK_FOCUS_REQUIRED) - before.value(BACK_FOCUS_REQUIRED) == pytest.approx(shift)
    assert before.value(GUIDE_PATH_REQUIRED) - after.value(GUIDE_PATH_REQUIRED) == pytest.approx(shift)


@given(rigs())
def test_spreads_of_a_stack(doc):
    path = back_focus(validated(doc))
    assert path.stack.standard_mm <= path.stack.worst_case_mm + 1e-12
    chance = path.probability_within
    assert 0 <= chance <= 1
    if abs(path.error_mm) + path.stack.worst_case_mm < 0.05:
        assert chance > 0.9


@pytest.mark.slow
@given(rigs())
def test_the_section_holds_every_part_end_to_end(doc):
    evaluation = evaluate(validated(doc))
    drawn = section(evaluation)
    assert [shape.part.id for shape in drawn.parts] == [part["id"] for part in doc["train"]]
    for one, other in zip(drawn.parts, drawn.parts[1:], strict=False):
        assert other.start_mm == pytest.approx(one.end_mm)
    assert drawn.plane.built_mm == pytest.approx(drawn.length_mm)
    assert drawn.plane.required_mm - drawn.datum_mm == pytest.approx(evaluation.value(BACK_FOCUS_REQUIRED))
    assert drawn.top_mm >= max(shape.outer_radius_mm for shape in drawn.all_parts())
    for shape in drawn.parts:
        assert 0 < shape.opening_radius_mm < shape.outer_radius_mm
        for plate in shape.plates:
            assert shape.start_mm <= plate.centre_mm - plate.thickness_mm / 2
            assert plate.centre_mm + plate.thickness_mm / 2 <= shape.end_mm + 1e-9
    # The cone never narrows toward the telescope.
    radii = [ray.axial_mm for ray in drawn.rays]
    assert radii == sorted(radii, reverse=True)


@pytest.mark.slow
@given(rigs())
def test_every_finding_is_told_at_a_step_and_written_as_json(doc):
    evaluation = evaluate(validated(doc))
    assert parse(to_bytes(evaluation.rig)) == evaluation.rig
    for found in evaluation.findings:
        assert any(belongs(step, found) for step in steps()), found.id
        assert found.title
        assert "\n" not in found.title + found.remedy.text + "".join(found.arithmetic)
        assert set(found.as_json()) == {"id", "verdict", "subject", "title", "arithmetic", "remedy", "source"}
        if found.verdict in (Verdict.FAILS, Verdict.TIGHT):
            assert found.remedy.text
    assert all(
        row.computed is None or math.isfinite(row.computed.uncertainty) for row in evaluation.quantities.values()
    )


def test_a_separate_guide_telescope_is_drawn_above_the_train(example):
    telescope = {"id": "g", "focal_length_mm": 200, "aperture_mm": 50}
    example["guiding"] = {"kind": "separate", "telescope": telescope, "path": example["guiding"]["path"]}
    drawn = section(evaluate(validated(example)))
    assert not drawn.branch.turned
    assert drawn.branch.at_mm + drawn.branch.length_mm == pytest.approx(drawn.length_mm)
    assert drawn.branch.height_mm > max(shape.outer_radius_mm for shape in drawn.parts)


@pytest.mark.parametrize(
    "path, text",
    [
        (("train", 3, "length_mm"), "train[3].length_mm"),
        (("guiding", "path", 0, "glass", 1, "index"), "guiding.path[0].glass[1].index"),
        (("a b",), '"a b"'),
        ((), ""),
    ],
)
def test_paths_as_they_are_told(path, text):
    assert path_text(path) == text


@given(st.text(max_size=300) | st.integers() | st.none() | st.lists(st.integers(), max_size=60))
def test_foreign_values_are_told_on_one_short_line(value):
    entries = quoted(value)
    assert len(entries) <= 60
    assert entries.isprintable()


def test_the_schema_names_every_unit_and_refuses_what_is_unknown():
    schema = json_schema()
    objects = [node for node in schema["$defs"].values() if node.get("type") == "object"]
    assert len(objects) >= 12
    assert all(node["additionalProperties"] is False for node in objects)
    part = schema["$defs"]["Part"]["properties"]
    assert {key for key in part if key.startswith("length")} == {"length_mm", "length_tolerance_mm", "length_basis"}


# Where an edit of a variant lands


@pytest.fixture
def document(example):
    own = {"id": "tube", "kind": "adapter", "length_mm": 45}
    own_scope = {"id": "ota", "focal_length_mm": 500, "aperture_mm": 80}
    example["variants"] = [
        {"name": "native", "train": [own, "oag", "camera"]},
        {"name": "other", "train": ["reducer", "camera"], "telescope": own_scope},
    ]
    return validated(example)


@pytest.mark.parametrize(
    "variant, path, lands",
    [
        (None, ("train", 1, "length_mm"), ("train", 1, "length_mm")),
        ("native", ("train", 0, "length_mm"), ("variants", 0, "train", 0, "length_mm")),
        ("native", ("train", 1, "length_mm"), ("train", 1, "length_mm")),
        ("native", ("train", 2, "sensor", "binning"), ("train", 4, "sensor", "binning")),
        ("native", ("telescope", "aperture_mm"), ("telescope", "aperture_mm")),
        ("native", ("telescope",), ("variants", 0, "telescope")),
        ("native", ("guiding", "path", 0, "name"), ("guiding", "path", 0, "name")),
        ("native", ("site", "elevation_m"), ("site", "elevation_m")),
        ("native", ("stated", "focal_ratio", "value"), ("variants", 0, "stated", "focal_ratio", "value")),
        ("other", ("telescope", "aperture_mm"), ("variants", 1, "telescope", "aperture_mm")),
        ("other", ("guiding", "kind"), ("variants", 1, "guiding", "kind")),
        ("native", ("train",), ("variants", 0, "train")),
        ("native", ("name",), ("variants", 0, "name")),
    ],
)
def test_where_an_edit_lands(document, variant, path, lands):
    assert document_path(document, variant, path) == lands


def test_variants_are_made_named_and_told_apart(document):
    from wyntaxis.core.rig.model import variant_rig

    native = variant_rig(document, "native")
    assert differences(document, native) == (["Aldous 0.76x", "Rondel 7", "ring 12.9"], ["tube"])
    copied = new_variant(document, variant_rig(document, "other"), free_name(document, "other"))
    assert copied["name"] == "other 2"
    assert copied["train"] == ["reducer", "camera"]
    assert copied["telescope"]["focal_length_mm"] == 500
    assert copied["guiding"] == {"kind": "none"}
    shared = document.train[1].model_dump(mode="json", exclude_unset=True)
    changed = shared | {"length_mm": 1}
    assert train_entries(document, "native", [shared, changed]) == ["oag", changed]
    assert train_entries(document, None, [shared]) == [shared]


extremes = st.sampled_from([1e-300, 1e-9, 1e-6, 1e-3, 1.0, 99.0, 1e5, 1e9, 1e300])
places = st.sampled_from(
    [
        ("telescope", "focal_length_mm"),
        ("telescope", "aperture_mm"),
        ("telescope", "focal_length_tolerance_mm"),
        ("telescope", "exit_pupil_distance_mm"),
        ("telescope", "image_circle_mm"),
        ("site", "seeing_fwhm_arcsec"),
        ("train", 0, "magnification"),
        ("train", 0, "required_back_focus_mm"),
        ("train", 0, "back_focus_tolerance_mm"),
        ("train", 1, "prism", "edge_from_axis_mm"),
        ("train", 2, "glass", 0, "thickness_mm"),
        ("train", 2, "clear_aperture_mm"),
        ("train", 4, "sensor", "pixel_um"),
        ("train", 4, "length_mm"),
        ("guiding", "path", 2, "sensor", "pixel_um"),
    ]
)


@given(
    st.lists(st.tuples(places, extremes), max_size=4),
    st.dictionaries(st.sampled_from(list(QUANTITY_KINDS)), st.sampled_from([0.0, -1.0]) | extremes, max_size=3),
)
def test_numbers_far_from_any_rig_are_refused_or_reckoned_but_never_break(changes, measured):
    doc = copy.deepcopy(EXAMPLE)
    for path, value in changes:
        node = doc
        for step in path[:-1]:
            node = node[step]
        node[path[-1]] = value
    doc["measured"] = {key: {"value": value} for key, value in measured.items()}
    try:
        rig = validated(doc)
    except InputError as error:
        line = str(error)
    else:
        line = ""
        reported_in_full(rig)
    assert "\n" not in line


def reported_in_full(rig):
    evaluation = evaluate(rig)
    json.dumps([row.as_json() for row in evaluation.quantities.values()], allow_nan=False)
    assert all(found.title for found in evaluation.findings)
    section(evaluation)


def test_correctors_cannot_multiply_beyond_reason(example):
    many = [{"id": f"x{n}", "kind": "extender", "length_mm": 1, "magnification": 50} for n in range(3)]
    example["train"] = [*many, *example["train"]]
    with pytest.raises(InputError, match="the magnifications multiply to 95000; check them"):
        validated(example)

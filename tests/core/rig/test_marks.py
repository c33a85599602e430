"""Values that nobody gave: their marks stand at a value, follow it through edits, and go when it is given."""

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wyntaxis.core.files.errors import InputError, path_text
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.marks import mark_label, parse_path
from wyntaxis.core.rig.model import variant_rig
from wyntaxis.core.rig.store import to_bytes, validated

RING, PIXEL, SEEING = "train[3].length_mm", "train[4].sensor.pixel_um", "site.seeing_fwhm_arcsec"


def marked(example, *paths, **more):
    return validated(example | {"assumed": list(paths)} | more)


@pytest.mark.parametrize(
    "text, path", [("a.b", ("a", "b")), ("train[3].x", ("train", 3, "x")), ("t.0.x", ("t", 0, "x"))]
)
def test_paths_are_read(text, path):
    assert parse_path(text) == path


@given(st.lists(st.one_of(st.integers(0, 999), st.from_regex("[a-z_]{1,8}", fullmatch=True)), min_size=1, max_size=6))
def test_a_path_and_its_text_are_one(steps):
    path = ("train", *steps)
    assert parse_path(path_text(path)) == path


@pytest.mark.parametrize(
    "text", ["", ".", "[0].x", "a..b", "a[", "a[x]", "a b", "train[9].length_mm", "telescope.mass"]
)
def test_a_mark_that_lies_nowhere_is_refused(example, text):
    with pytest.raises(InputError, match="assumed"):
        marked(example, text)


EDITS = [
    # what is done, and what is still assumed of the ring's length, the pixel and the seeing
    ("another value", lambda rig: edit.apply(rig, Change.of("x", ("train", 3, "length_mm"), 11.0)), [PIXEL, SEEING]),
    ("the same value", lambda rig: edit.apply(rig, Change.of("x", ("train", 3, "length_mm"), 12.9)), [PIXEL, SEEING]),
    ("a name beside it", lambda rig: edit.apply(rig, Change.of("x", ("train", 3, "name"), "r")), [RING, PIXEL, SEEING]),
    ("a part before", lambda rig: edit.insert_part(rig, ("train",), 1, {"id": "n", "kind": "spacer", "length_mm": 1}),
     ["train[4].length_mm", "train[5].sensor.pixel_um", SEEING]),
    ("moved", lambda rig: edit.move_part(rig, ("train",), 3, 1), ["train[1].length_mm", PIXEL, SEEING]),
    ("taken out", lambda rig: edit.remove_part(rig, ("train",), 3), ["train[3].sensor.pixel_um", SEEING]),
    ("no site", lambda rig: edit.apply(rig, Change.of("x", ("site",), None)), [RING, PIXEL]),
]  # fmt: skip


@pytest.mark.parametrize("work, left", [case[1:] for case in EDITS], ids=[case[0] for case in EDITS])
def test_marks_follow_their_values(example, work, left):
    assert list(work(marked(example, RING, PIXEL, SEEING)).assumed) == left


def test_a_marked_group_keeps_what_was_not_given_of_it(example):
    rig = edit.apply(marked(example, "train[4].sensor"), Change.of("x", ("train", 4, "sensor", "pixel_um"), 3.9))
    kept = {"train[4].sensor.width_px", "train[4].sensor.height_px", "train[4].sensor.bit_depth"}
    assert set(rig.assumed) == kept


def test_what_an_edit_fills_in_is_assumed_and_saved(example):
    part = {"id": "tube", "kind": "adapter", "length_mm": 10}
    rig = edit.insert_part(validated(example), ("train",), 2, part, [("length_mm",)])
    assert rig.assumed == ("train[2].length_mm",)
    assert json.loads(to_bytes(rig))["assumed"] == ["train[2].length_mm"]
    rig = edit.apply(rig, Change("x", ((("site", "elevation_m"), 0),), (("site", "elevation_m"),)))
    assert rig.assumed == ("train[2].length_mm", "site.elevation_m")


def test_origins_go_with_their_value(example):
    origin = {"telescope.focal_length_mm": "FOCALLEN of L_001.fits", "train[4].length_mm": "maker's sheet"}
    rig = edit.remove_part(marked(example, origin=origin), ("train",), 0)
    assert rig.origin == {"telescope.focal_length_mm": "FOCALLEN of L_001.fits", "train[3].length_mm": "maker's sheet"}
    rig = edit.apply(rig, Change.of("x", ("telescope", "focal_length_mm"), 700))
    assert "telescope.focal_length_mm" not in rig.origin


def test_a_variant_has_the_marks_of_its_own_train(example):
    own = {"id": "tube", "kind": "adapter", "length_mm": 40}
    variants = [{"name": "native", "train": ["ring", own, "camera"], "guiding": {"kind": "none"}}]
    rig = marked(example, RING, "train[0].length_mm", SEEING, "variants[0].train[1].length_mm", variants=variants)
    assert variant_rig(rig, None).assumed == (RING, "train[0].length_mm", SEEING)
    assert variant_rig(rig, "native").assumed == ("train[0].length_mm", SEEING, "train[1].length_mm")


@pytest.mark.parametrize(
    "path, words",
    [
        (RING, "ring 12.9: length 12.9 mm"),
        (PIXEL, "Pellucid Grand: pixel 3.9 µm"),
        (SEEING, "site: seeing FWHM, usual 2.6 ″"),
        ("telescope.aperture_mm", "Aldous 104: aperture 104 mm"),
        ("train[1].prism.height_mm", "Sideglance: prism height 8 mm"),
    ],
)
def test_a_marked_value_is_named(example, path, words):
    assert mark_label(validated(example), path) == words

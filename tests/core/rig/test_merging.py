"""Two sides change one document at the same time: both changes stay, value by value."""

import copy

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wyntaxis.core.rig.merging import merged_documents

BASE = {
    "name": "rig",
    "train": [{"id": "a", "length_mm": 1}, {"id": "b", "length_mm": 2, "mass_g": 5}, {"id": "c", "length_mm": 3}],
    "plan": {"exposure_s": 240, "actions": ["cool", "park"]},
}


def changed(**more):
    document = copy.deepcopy(BASE)
    for key, value in more.items():
        document[key] = value
    return document


def with_part(part_id, **more):
    document = copy.deepcopy(BASE)
    next(part for part in document["train"] if part["id"] == part_id).update(more)
    return document


@pytest.mark.parametrize(
    ("mine", "theirs", "wanted", "taken", "conflicting"),
    [
        (BASE, BASE, BASE, (), ()),
        (changed(name="mine"), BASE, changed(name="mine"), (), ()),
        (BASE, changed(name="theirs"), changed(name="theirs"), ("name",), ()),
        (changed(name="mine"), changed(name="theirs"), changed(name="mine"), (), ("name",)),
        (
            with_part("b", name="mine"), with_part("b", mass_g=9), with_part("b", name="mine", mass_g=9),
            ("train[1].mass_g",), (),
        ),
        (with_part("b", length_mm=4), with_part("c", length_mm=8), None, ("train[2].length_mm",), ()),
        (changed(plan={"exposure_s": 1}), changed(note="n"), changed(plan={"exposure_s": 1}, note="n"), ("note",), ()),
    ],
)  # fmt: skip
def test_both_changes_stay(mine, theirs, wanted, taken, conflicting):
    found = merged_documents(BASE, mine, theirs)
    assert found.document == wanted if wanted is not None else True
    assert (found.taken, found.conflicting) == (taken, conflicting)


def test_entries_are_told_by_their_ids():
    a, b, c = BASE["train"]
    new, other = {"id": "new"}, {"id": "other"}
    mine, theirs = changed(train=[a, c, new]), changed(train=[a, b, other, c])
    assert merged_documents(BASE, mine, theirs).document["train"] == [a, c, new, other]
    moved = changed(train=[c, b, a])
    assert merged_documents(BASE, moved, with_part("a", length_mm=7)).document["train"][2] == {
        "id": "a",
        "length_mm": 7,
    }
    # What one side took out and the other changed is not lost, and is told.
    found = merged_documents(BASE, changed(train=[a, c]), with_part("b", length_mm=9))
    if not found.conflicting:
        assert {"id": "b", "length_mm": 9, "mass_g": 5} in found.document["train"]


documents = st.recursive(
    st.integers(0, 3) | st.sampled_from(["x", "y"]),
    lambda own: st.dictionaries(st.sampled_from("abc"), own, max_size=3) | st.lists(own, max_size=2),
    max_leaves=8,
)


@given(documents, documents)
def test_laws(base, other):
    assert merged_documents(base, base, other).document == other
    assert merged_documents(base, other, base).document == other
    assert merged_documents(base, other, other).document == other
    assert merged_documents(base, other, other).taken == ()

"""Edits as values, and the history they make."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.edit import Change, History, apply
from wyntaxis.core.rig.store import parse, to_bytes, validated


def test_values_are_set_added_and_taken_out(example):
    rig = validated(example)
    path = ("train", 3, "length_mm")
    assert apply(rig, Change.of("", path, 12.18)).train[3].length_mm == 12.18
    assert rig.train[3].length_mm == 12.9
    plate = {"thickness_mm": 1, "index": 1.5}
    with_glass = apply(rig, Change.of("", ("train", 3, "glass", 0), plate))
    assert with_glass.train[3].glass[0].thickness_mm == 1
    assert apply(with_glass, Change.of("", ("train", 3, "glass", 0), None)).train[3].glass == ()
    stated = apply(rig, Change.of("", ("stated", "focal_ratio", "value"), 5.0))
    assert stated.stated["focal_ratio"].value == 5
    assert apply(stated, Change.of("", ("stated", "focal_ratio"), None)).stated == {}


@pytest.mark.parametrize(
    "path, value, words",
    [
        (("train", 3, "length_mm"), -1, r"train\[3\]\.length_mm: must be at least 0"),
        (("train", 3, "length_mm"), None, r"train\[3\]\.length_mm: is missing"),
        (("train", 9, "length_mm"), 1, r"train\[9\]: is not in this rig"),
        (("train", 3, "colour"), 1, "unknown key"),
        (("guiding", "path", 1, "adjustable", "set_mm"), 40, "outside the range"),
        (("name", "x"), 1, "name.x: is not in this rig"),
    ],
)
def test_an_edit_that_makes_no_rig_is_refused_with_its_place(example, path, value, words):
    with pytest.raises(InputError, match=words):
        apply(validated(example), Change.of("", path, value))


def test_parts_come_go_and_move(example):
    rig = validated(example)
    new = {"id": edit.free_id(rig, "ring"), "kind": "spacer", "length_mm": 1}
    assert new["id"] == "ring_2"
    more = edit.insert_part(rig, ("train",), 3, new)
    assert [p.id for p in more.train] == ["reducer", "oag", "wheel", "ring_2", "ring", "camera"]
    assert edit.remove_part(more, ("train",), 3) == rig
    moved = edit.move_part(more, ("train",), 3, 1)
    assert [p.id for p in moved.train][:3] == ["reducer", "ring_2", "oag"]
    with pytest.raises(InputError, match="must be the last part"):
        edit.move_part(more, ("train",), 5, 0)
    with pytest.raises(InputError, match=r"guiding\.taps"):
        edit.remove_part(rig, ("train",), 1)


@given(st.lists(st.sampled_from(["edit", "undo", "redo", "save"]), max_size=30))
def test_history_walks_like_a_tape(moves):
    rig = parse(EXAMPLE_BYTES)
    history = History([rig])
    tape, at, saved = [rig.name], 0, rig.name
    for number, move in enumerate(moves):
        if move == "edit":
            history.push(apply(history.rig, Change.of(str(number), ("name",), f"v{number}")), str(number))
            del tape[at + 1 :]
            tape.append(f"v{number}")
            at += 1
        elif move == "undo":
            assert history.undo() == (at > 0)
            at = max(at - 1, 0)
        elif move == "redo":
            assert history.redo() == (at < len(tape) - 1)
            at = min(at + 1, len(tape) - 1)
        else:
            history.mark_saved()
            saved = tape[at]
        assert history.rig.name == tape[at]
        assert history.dirty == (tape[at] != saved)
    assert not history.push(history.rig, "nothing")


def test_history_is_bounded(example):
    history = History([validated(example)])
    for number in range(History.LIMIT + 20):
        history.push(apply(history.rig, Change.of("", ("name",), str(number))), str(number))
    assert len(history.labels) == History.LIMIT
    assert history.rig.name == str(History.LIMIT + 19)
    assert history.saved_at is None


from tests.conftest import EXAMPLE  # noqa: E402

EXAMPLE_BYTES = to_bytes(validated(EXAMPLE))

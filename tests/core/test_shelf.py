"""The shelf and its CSV, and the spacer search against brute force."""

import itertools
import json

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from tests.conftest import EXAMPLE
from wyntaxis import demo
from wyntaxis.core.optics.joints import is_shim, meet
from wyntaxis.core.optics.spacers import MOST_PIECES, SearchCancelledError, apply_set, find_spacers
from wyntaxis.core.reckon import reckon
from wyntaxis.core.rig.errors import RigError
from wyntaxis.core.rig.shelf import (
    STARTER,
    Shelf,
    ShelfPart,
    from_csv,
    load_own_shelf,
    load_shelf,
    save_shelf,
    to_csv,
    validated_shelf,
)
from wyntaxis.core.rig.store import load, validated


def ring(part_id, length, front=("M42x0.75", "male"), rear=("M42x0.75", "male"), owned=1, tol=0.05):
    part = {"id": part_id, "kind": "spacer", "length_mm": length, "length_tolerance_mm": tol}
    for key, end in (("front", front), ("rear", rear)):
        if end:
            part[key] = dict(zip(("thread", "gender", "depth_mm"), end, strict=False))
    return ShelfPart.model_validate({"owned": owned, "part": part})


def test_shelf_files_round_trip(tmp_path):
    shelf = load_own_shelf(tmp_path / "none.json")
    assert shelf == load_shelf(STARTER)
    save_shelf(shelf, tmp_path / "sub" / "shelf.json")
    assert load_own_shelf(tmp_path / "sub" / "shelf.json") == shelf
    save_shelf(shelf, tmp_path / "shelf.csv")
    again = load_shelf(tmp_path / "shelf.csv")
    assert [(e.part.id, e.owned, e.part.length_mm) for e in again.parts] == [
        (e.part.id, e.owned, e.part.length_mm) for e in shelf.parts
    ]
    assert to_csv(again) == to_csv(shelf)


HEADER = "id,kind,name,owned,length_mm,front_thread,front_gender\n"


@pytest.mark.parametrize(
    "text, words",
    [
        (b"\xff\xfe", "not UTF-8"),
        (b"", "the column id is missing"),
        (b"id,kind\n", "the column length_mm is missing"),
        (b"id,kind,length_mm,colour\n", 'unknown column "colour"'),
        (b"id,id,kind,length_mm\n", "stands twice in the header"),
        (HEADER.encode() + b'a,spacer,,1,"12,5 mm",,\n', 'line 2: length_mm: must be a number, got "12,5 mm"'),
        (HEADER.encode() + b"a,spacer,,1,5,,\nb,spacr,,1,5,,\n", "line 3: kind: must be one of"),
        (HEADER.encode() + b"a,spacer,,1,-5,,\n", "line 2: length_mm: must be at least 0"),
        (HEADER.encode() + b"a,spacer,,1,nan,,\n", "line 2: length_mm: must be a finite number"),
        (HEADER.encode() + b"a,spacer,,1.5,5,,\n", "line 2: owned: must be a whole number"),
        (HEADER.encode() + b"a,spacer,,1,5,M42x0.75,\n", "line 2: front.gender: is missing"),
        (HEADER.encode() + b"a,spacer,,1,5,,,,9\n", "more cells than the header"),
        (HEADER.encode() + b"a,spacer,,1,5,,\na,spacer,,1,5,,\n", '"a" stands twice'),
        (HEADER.encode() + b'a,"spacer,,1,5,,\n', "broken CSV"),
    ],
)
def test_bad_csv_is_told_by_line(text, words):
    with pytest.raises(RigError) as refused:
        from_csv(text)
    assert words in str(refused.value)
    assert "\n" not in str(refused.value)


def test_csv_with_semicolons_and_decimal_commas():
    shelf = from_csv("\ufeffid;kind;length_mm\na;spacer;12,5\n\n".encode())
    assert shelf.parts[0].part.length_mm == 12.5
    with pytest.raises(RigError, match="is it a shelf file"):
        validated_shelf(EXAMPLE)
    with pytest.raises(RigError, match=r"parts\[0\].part.length_mm"):
        validated_shelf({"format": "wyntaxis-shelf", "parts": [{"part": {"id": "a", "kind": "spacer"}}]})


# The search


def rig_for(wanted, rear=("M42x0.75", "female"), front=("M42x0.75", "female"), tolerance=0.4, two_places=False):
    """A rig with one place (or two) whose pieces must add up to ``wanted`` mm."""

    def joint(end):
        return dict(zip(("thread", "gender", "depth_mm"), end, strict=False))

    doc = json.loads(json.dumps(EXAMPLE))
    doc["guiding"] = {"kind": "none"}
    reducer, _oag, wheel, _ring, camera = doc["train"]
    reducer |= {"required_back_focus_mm": 20 + 12.5 + wanted, "back_focus_tolerance_mm": tolerance}
    wheel |= {"glass": [], "rear": joint(rear)}
    camera["front"] = joint(front)
    if two_places:
        reducer["rear"], wheel["front"] = joint(("M48x0.75", "male")), joint(("M48x0.75", "female"))
    else:
        reducer["keep_with_next"] = True
    doc["train"] = [reducer, wheel, camera]
    return validated(doc)


def brute_force(rig, shelf, tolerance):
    """Every ordered choice of pieces over the places, judged by the joints alone; the best key of each multiset."""
    pieces = [entry.part for entry in shelf for _ in range(entry.owned)]
    numbers = [n for n, entry in enumerate(shelf) for _ in range(entry.owned)]
    chains = [p for p in rig.train if p.kind in ("corrector", "filter_wheel", "camera")]
    ends = [(a.rear, b.front) for a, b in itertools.pairwise(chains) if not a.keep_with_next]
    wanted = rig.train[0].required_back_focus_mm - 32.5
    found = {}
    for count in range(min(len(pieces), MOST_PIECES) + 1):
        for order in itertools.permutations(range(len(pieces)), count):
            total = sum(pieces[i].length_mm for i in order) - wanted
            if abs(total) > tolerance:
                continue
            for cut in range(count + 1) if len(ends) == 2 else [None]:
                parts = [order[:cut], order[cut:]] if cut is not None else [order]
                if all(closes([pieces[i] for i in part], *end) for part, end in zip(parts, ends, strict=True)):
                    key = tuple(sorted(numbers[i] for i in order))
                    worst = sum(pieces[i].length_tolerance_mm or 0 for i in order)
                    found[key] = (round(abs(total) / 1e-6), count, round(worst, 9))
    return sorted(found.values())


def closes(chain, rear, front):
    for piece in [p for p in chain if not is_shim(p)]:
        state = meet(rear, piece.front)
        if state.mating not in ("mates", "unknown") or state.gap_mm:
            return False
        rear = piece.rear
    state = meet(rear, front)
    return state.mating in ("mates", "unknown") and not state.gap_mm


threads = st.sampled_from([("M42x0.75", "male"), ("M42x0.75", "female"), ("M48x0.75", "male"), ("M48x0.75", "female")])
deep = st.sampled_from([("M42x0.75", "male", 6.0), ("M42x0.75", "female", 5.0), ("M42x0.75", "male", 4.0)])
shelf_rings = st.builds(
    ring,
    st.just("x"),
    st.integers(1, 60).map(lambda tenth: tenth / 10),
    threads | deep | st.none(),
    threads | deep | st.none(),
    st.integers(1, 2),
    st.sampled_from([0.0, 0.02, 0.1]),
)


@settings(max_examples=120)
@given(st.lists(shelf_rings, max_size=5), st.floats(0.5, 16), threads, threads, st.booleans())
def test_the_search_equals_brute_force(rings, wanted, rear, front, two_places):
    parts = [entry.part.model_copy(update={"id": f"p{n}"}) for n, entry in enumerate(rings)]
    shelf = [ShelfPart(owned=entry.owned, part=part) for entry, part in zip(rings, parts, strict=True)]
    assume(sum(entry.owned for entry in shelf) <= 6)
    rig = rig_for(round(wanted, 2), rear, front, two_places=two_places)
    result = find_spacers(rig, shelf)
    expected = brute_force(rig, shelf, 0.4)
    got = [(round(abs(s.error_mm) / 1e-6), s.count, round(s.worst_case_mm, 9)) for s in result.sets]
    assert got == expected[:10]
    for found in result.sets:
        applied = validated(rig.model_dump(mode="json", exclude_unset=True) | {"train": apply_set(rig, result, found)})
        reckoning = reckon(applied)
        assert reckoning.value("back_focus_error_mm") == pytest.approx(found.error_mm, abs=1e-9)
        assert reckoning.finding("joints.mate").verdict != "fails"
    if not result.sets and result.buy_length_mm:
        bought = brute_force(rig, [ring("b", result.buy_length_mm, opposite(rear), opposite(front))], 0.4)
        assert two_places or bought


def opposite(end):
    return (end[0], {"male": "female", "female": "male"}[end[1]])


def test_the_demos_spacing_is_mended_from_the_starter_shelf():
    for name in ("tarnfell-triplet-reduced", "meadow-newtonian"):
        rig = load(demo.rig_path(name)).rig
        result = find_spacers(rig, load_shelf(STARTER).parts)
        mended = rig.model_dump(mode="json", exclude_unset=True) | {"train": apply_set(rig, result, result.sets[0])}
        after = reckon(validated(mended))
        assert after.finding("spacing.main").verdict == "holds"
        assert after.finding("joints.mate").verdict == "holds"
        assert after.finding("joints.depth") is None


def test_when_nothing_fits_it_says_what_is_nearest_and_what_to_buy():
    result = find_spacers(rig_for(12.18), [ring("a", 9.0), ring("b", 14.0)])
    assert result.sets == ()
    assert [p.id for place in result.nearest.pieces for p in place] == ["b"]
    assert result.nearest.error_mm == pytest.approx(1.82)
    assert result.buy_length_mm == 12.18
    assert "between Rondel 7 and Pellucid 26M, M42×0.75 male in front, M42×0.75 male behind" in result.buy
    too_long = find_spacers(rig_for(-3.0), [ring("a", 9.0)])
    assert "3 mm too long: no spacer can mend that" in too_long.buy


def test_pins_places_and_cancelling():
    rig = rig_for(5.0, two_places=True)
    shelf = [ring("a", 5.0, ("M48x0.75", "female"), ("M48x0.75", "male")), ring("b", 5.0)]
    behind_wheel = find_spacers(rig, shelf, ["wheel"])
    assert [[p.id for p in place] for place in behind_wheel.sets[0].pieces] == [["b"]]
    with pytest.raises(RigError, match='"camera" is no fixed part'):
        find_spacers(rig, shelf, ["camera"])
    with pytest.raises(SearchCancelledError):
        find_spacers(rig, shelf, should_stop=lambda: True)
    pinned = rig_for(5.0).model_dump(mode="json", exclude_unset=True)
    pinned["train"][1]["keep_with_next"] = True
    with pytest.raises(RigError, match="no place for a spacer is left"):
        find_spacers(validated(pinned), shelf)


@pytest.mark.parametrize(
    "change, words",
    [
        (lambda doc: doc["train"].pop(0), "nothing to search for"),
        (lambda doc: doc["train"][0].pop("back_focus_tolerance_mm"), "state the tolerance"),
    ],
)
def test_a_rig_that_wants_nothing_is_told(change, words):
    doc = json.loads(json.dumps(EXAMPLE))
    change(doc)
    with pytest.raises(RigError, match=words):
        find_spacers(validated(doc), [])


def test_an_empty_shelf_is_a_shelf():
    assert Shelf().parts == ()
    assert Shelf().find("x") is None


def test_the_demos_guide_branch_is_brought_into_reach_from_the_starter_shelf():
    """In the native train a shelf ring behind the wheel moves the main sensor, and so the guide's focus, back."""
    rig = load(demo.rig_path("tarnfell-triplet-native")).rig
    assert reckon(rig).guide_path.reach.shortfall_mm == pytest.approx(21.315789 - 28, abs=1e-6)
    ring_from_shelf = load_shelf(STARTER).find("m42_7_5").part.model_dump(mode="json", exclude_unset=True)
    document = rig.model_dump(mode="json", exclude_unset=True)
    document["train"].insert(4, ring_from_shelf)
    after = reckon(validated(document))
    assert after.guide_path.reach.shortfall_mm == 0
    assert after.finding("joints.mate").verdict == "holds"
    assert after.finding("reach.main").verdict == "holds"
    assert after.finding("spacing.guide").remedy.text.startswith("set guide focuser to 28.82 mm")

"""The spacer search: against brute force, at its bounds, and on shelves too large for any brute force."""

import itertools
import json
import random
from dataclasses import replace

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from tests.conftest import EXAMPLE
from wyntaxis import demo
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.files.errors import CancelledError, InputError
from wyntaxis.core.quantity_kinds import BACK_FOCUS_ERROR
from wyntaxis.core.rig.shelf import STARTER, ShelfPart, load_shelf
from wyntaxis.core.rig.store import load, validated
from wyntaxis.core.train import spacer_search
from wyntaxis.core.train.joints import is_shim, meet
from wyntaxis.core.train.spacers import apply_set, find_spacers, pieces_text


def ring(part_id, length, front=("M42x0.75", "male"), rear=("M42x0.75", "male"), owned=1, tol=0.05, **more):
    part = more | {"id": part_id, "kind": "spacer", "length_mm": length, "length_tolerance_mm": tol}
    for key, end in (("front", front), ("rear", rear)):
        if end:
            part[key] = dict(zip(("thread", "gender", "depth_mm"), end, strict=False))
    return ShelfPart.model_validate({"owned": owned, "part": part})


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
    """Every ordered choice of pieces over the places, turned or not, judged by the joints alone.

    Returns the key (error, count, worst case) of each multiset of pieces that fits.
    """
    pieces = [entry.part for entry in shelf for _ in range(entry.owned)]
    numbers = [n for n, entry in enumerate(shelf) for _ in range(entry.owned)]
    chains = [p for p in rig.train if p.kind in ("corrector", "filter_wheel", "camera")]
    ends = [(a.rear, b.front) for a, b in itertools.pairwise(chains) if not a.keep_with_next]
    wanted = rig.train[0].required_back_focus_mm - 32.5
    found = {}
    for count in range(len(pieces) + 1):
        for order in itertools.permutations(range(len(pieces)), count):
            chosen = [pieces[i] for i in order]
            shift = sum(g.thickness_mm * (1 - 1 / g.index) for p in chosen for g in p.glass)
            low = sum(p.adjustable.min_mm if p.adjustable else p.length_mm for p in chosen) - shift - wanted
            high = low + sum(p.adjustable.max_mm - p.adjustable.min_mm for p in chosen if p.adjustable)
            error = max(low, min(0.0, high))
            key = tuple(sorted(numbers[i] for i in order))
            if key in found or abs(error) > tolerance + 1e-9:
                continue
            for cut in range(count + 1) if len(ends) == 2 else [None]:
                parts = [chosen[:cut], chosen[cut:]] if cut is not None else [chosen]
                if all(closes(part, *end) for part, end in zip(parts, ends, strict=True)):
                    worst = sum((p.length_tolerance_mm or 0) for p in chosen)
                    found[key] = (round(abs(error) / 1e-6), count, round(worst, 9))
    return sorted(found.values())


def closes(chain, rear, front, rings=0.0):
    """Whether a chain joins two ends, every piece turned if need be, every bottoming joint filled by its rings."""
    if not chain:
        state = meet(rear, front)
        return state.mating in ("mates", "unknown") and state.gap_mm <= rings + 1e-9
    piece, *rest = chain
    if is_shim(piece):
        return closes(rest, rear, front, rings + piece.length_mm)
    for one, other in ((piece.front, piece.rear), (piece.rear, piece.front)):
        state = meet(rear, one)
        if state.mating in ("mates", "unknown") and state.gap_mm <= rings + 1e-9 and closes(rest, other, front):
            return True
    return False


THREADS = ("M42x0.75", "M48x0.75")
threads = st.tuples(st.sampled_from(THREADS), st.sampled_from(("male", "female")))
deep = st.tuples(st.just("M42x0.75"), st.sampled_from(("male", "female")), st.sampled_from((4.0, 4.6, 5.0)))
tenths = st.integers(1, 60).map(lambda tenth: tenth / 10)
more = st.one_of(
    st.just({}),
    st.just({}),
    st.floats(0.1, 2).map(lambda t: {"glass": [{"thickness_mm": round(t, 2), "index": 1.5}]}),
    tenths.map(lambda low: {"adjustable": {"min_mm": low, "max_mm": low + 1.5, "set_mm": low}}),
)
shelf_rings = st.builds(
    lambda length, front, rear, owned, tol, extra: ring("x", length, front, rear, owned, tol, **extra),
    tenths,
    threads | deep | st.none(),
    threads | deep | st.none(),
    st.integers(1, 2),
    st.sampled_from([0.0, 0.02, 0.1]),
    more,
)
shims = st.builds(lambda length: ring("x", length, None, None, 1, 0.0), st.sampled_from((0.2, 0.4, 0.6, 1.0)))


def numbered(entries):
    parts = [entry.part.model_copy(update={"id": f"p{n}"}) for n, entry in enumerate(entries)]
    return [ShelfPart(owned=entry.owned, part=part) for entry, part in zip(entries, parts, strict=True)]


def keys(result):
    return [(round(abs(s.error_mm) / 1e-6), s.count, round(s.worst_case_mm, 9)) for s in result.sets]


@pytest.mark.slow
@settings(max_examples=200)
@given(
    st.lists(shelf_rings, max_size=5),
    st.lists(shims, max_size=2),
    st.floats(0.5, 16),
    threads | deep,
    threads | deep,
    st.booleans(),
)
def test_the_search_equals_brute_force(rings, loose, wanted, rear, front, two_places):
    shelf = numbered([*rings, *loose])
    assume(sum(entry.owned for entry in shelf) <= 6)
    rig = rig_for(round(wanted, 2), rear, front, two_places=two_places)
    result = find_spacers(rig, shelf)
    assert result.proven
    assert keys(result) == brute_force(rig, shelf, 0.4)[:10]
    for found in result.sets:
        applied = validated(rig.model_dump(mode="json", exclude_unset=True) | {"train": apply_set(rig, result, found)})
        evaluation = evaluate(applied)
        assert evaluation.value(BACK_FOCUS_ERROR) == pytest.approx(found.error_mm, abs=2e-6)
        assert evaluation.back_focus.worst_case_mm == pytest.approx(found.worst_case_mm, abs=1e-9)
        assert evaluation.back_focus.probability_within == pytest.approx(found.probability, abs=2e-6)
        assert evaluation.finding("joints.mate").verdict != "fails"
        assert evaluation.finding("joints.depth") is None
    if not result.sets and result.buy_length_mm:
        bought = brute_force(rig, [ring("b", result.buy_length_mm, opposite(rear), opposite(front))], 0.4)
        assert any((two_places, bought))


few_lengths = st.builds(
    lambda length, front, rear, tol: ring("x", length, front, rear, 1, tol),
    st.sampled_from([1.0, 2.0, 2.5, 4.0, 5.0, 7.5]),
    threads,
    threads,
    st.sampled_from([None, 0.0, 0.011, 0.05, 0.1]),
)


@pytest.mark.slow
@settings(max_examples=150)
@given(st.lists(few_lengths, min_size=2, max_size=5), st.sampled_from([7.7, 9.7, 12.2, 15.2]), threads, threads)
def test_the_nearest_set_is_the_best_of_all_where_nothing_fits(rings, wanted, rear, front):
    """Few lengths make many ties: of equal error and count, the smaller worst case comes first there too."""
    shelf = numbered(rings)
    rig = rig_for(wanted, rear, front, tolerance=0.001)
    result = find_spacers(rig, shelf)
    assume(not result.sets)
    best = brute_force(rig, shelf, 100.0)[:1]
    assert keys(replace(result, sets=(result.nearest,) if result.nearest else ())) == best


def test_of_two_nearest_sets_the_surer_one_is_taken():
    """Two rings of 5 mm where 7.2 mm are wanted: the one of ±0.011 mm is listed before the exact one."""
    ends = ("M42x0.75", "male"), ("M42x0.75", "female")
    shelf = numbered([ring("x", 5.0, *ends, 1, 0.011), ring("x", 5.0, *ends, 1, 0.0)])
    found = find_spacers(rig_for(7.2, ("M42x0.75", "female"), ("M42x0.75", "male"), tolerance=0.001), shelf).nearest
    assert (found.error_mm, found.worst_case_mm) == (pytest.approx(-2.2), 0.0)


@pytest.mark.parametrize(
    "owned, length, wanted, pieces",
    [(9, 3.0, 27.0, 9), (30, 1.0, 30.0, 30), (40, 2.5, 99.9, 40)],
)
def test_no_number_of_pieces_is_too_many(owned, length, wanted, pieces):
    loops = ring("a", length, ("M42x0.75", "male"), ("M42x0.75", "female"), owned)
    last = rig_for(wanted, ("M42x0.75", "female"), ("M42x0.75", "male"))
    result = find_spacers(last, [loops])
    assert result.sets[0].count == pieces
    assert result.proven


def test_a_tolerance_of_nothing_ends():
    rig = rig_for(12.0, ("M42x0.75", "female"), ("M42x0.75", "male"), tolerance=0.0)
    exact = [ring("a", 5.0, rear=("M42x0.75", "female")), ring("b", 7.0, rear=("M42x0.75", "female"))]
    result = find_spacers(rig, exact)
    assert [s.error_mm for s in result.sets] == [pytest.approx(0, abs=1e-9)]
    assert result.sets[0].probability == pytest.approx(0, abs=1e-3)
    none = find_spacers(rig, exact[:1])
    assert none.sets == ()
    assert none.outcome == "nothing fits"
    assert none.nearest.error_mm == pytest.approx(-7.0)


def test_a_shim_fills_the_gap_of_a_joint_that_bottoms_out():
    """A 5.7 mm male in a 5 mm female: with the 0.7 mm shim the joint adds max(0.7, 0.7), and the set is offered."""
    rig = rig_for(9.7, ("M42x0.75", "female", 5.0), ("M42x0.75", "female", 5.0))
    entry = ring("a", 9.0, ("M42x0.75", "male", 5.7), ("M42x0.75", "male", 4.0))
    assert find_spacers(rig, [entry]).sets == ()
    shim = ring("shim", 0.7, None, None)
    result = find_spacers(rig, [entry, shim])
    assert [[p.id for p in place] for place in result.sets[0].pieces] == [["shim", "a"]]
    assert result.sets[0].error_mm == pytest.approx(0, abs=1e-9)
    thin = find_spacers(rig, [entry, ring("shim", 0.6, None, None)])
    assert thin.sets == ()  # 0.1 mm would stay open
    longer = rig_for(10.4, ("M42x0.75", "female", 5.0), ("M42x0.75", "female", 5.0))
    flat = ring("flat", 0.7)  # as long, but joins no more than the entry does
    assert find_spacers(longer, [entry, shim, flat]).sets == ()  # one shim does not lie in the joint and elsewhere
    assert find_spacers(longer, [entry, ring("shim", 0.7, None, None, owned=2), flat]).sets[0].count == 2 + 1


def test_pieces_are_turned_set_and_told_to_vignette():
    rig = rig_for(9.0, ("M42x0.75", "female"), ("M48x0.75", "male"))
    turned = ring("step", 6.0, ("M48x0.75", "female"), ("M42x0.75", "male"), clear_aperture_mm=20)
    helical = ring(
        "helical", 4.0, ("M42x0.75", "male"), ("M42x0.75", "female"),
        adjustable={"min_mm": 2.5, "max_mm": 5.0, "set_mm": 4.0},
    )  # fmt: skip
    result = find_spacers(rig, [turned, helical])
    best = result.sets[0]
    assert best.turned == ("step",)
    assert dict(best.set_to) == {"helical": pytest.approx(3.0)}
    assert "step leaves the sensor's corner" in best.vignettes
    assert "step (turned round)" in pieces_text(result, best)
    train = apply_set(rig, result, best)
    step = next(part for part in train if part["id"] == "step")
    assert (step["front"]["gender"], step["rear"]["gender"]) == ("male", "female")
    helical_in = next(part for part in train if part["id"] == "helical")
    assert helical_in["adjustable"]["set_mm"] == pytest.approx(3.0)


def test_glass_of_a_piece_that_is_taken_out_no_longer_counts():
    rig = rig_for(10.0, ("M42x0.75", "female"), ("M42x0.75", "male"))
    document = rig.model_dump(mode="json", exclude_unset=True)
    old = ring("old", 8.0, rear=("M42x0.75", "female")).part.model_dump(mode="json", exclude_unset=True)
    document["train"].insert(2, old | {"glass": [{"thickness_mm": 3.0, "index": 1.5}]})
    result = find_spacers(validated(document), [ring("new", 10.0, rear=("M42x0.75", "female"))])
    assert result.wanted_mm == pytest.approx(10.0)
    assert [p.id for p in result.sets[0].pieces[0]] == ["new"]
    assert result.sets[0].error_mm == pytest.approx(0, abs=1e-9)


def many(kinds, alike, count=160, seed=1):
    """A shelf of many pieces: joints drawn among 1, 3 or 10 kinds, lengths all alike or all different."""
    draw = random.Random(seed)
    ends = [(f"M{d}x0.75", "male") for d in (42, 48, 54, 63, 68)] + [
        (f"M{d}x0.75", "female") for d in (42, 48, 54, 63, 68)
    ]
    pool = {1: [("M42x0.75", "male")], 3: ends[:2] + ends[5:6], 10: ends}[kinds]
    entries = []
    for number in range(count):
        length = 3.0 if alike else round(draw.uniform(1, 20), 3)
        front, rear = draw.choice(pool), draw.choice(pool)
        rear = ("M42x0.75", "female") if kinds == 1 else rear
        entries.append(ring(f"p{number}", length, front, rear))
    return entries


@pytest.mark.parametrize("kinds", [1, 3, 10])
@pytest.mark.parametrize("alike", [True, False])
def test_a_large_shelf_is_searched_whole(kinds, alike):
    rig = rig_for(66.123, ("M42x0.75", "female"), ("M42x0.75", "male"))
    result = find_spacers(rig, many(kinds, alike))
    assert result.proven
    assert len(result.sets) == 10
    assert abs(result.sets[0].error_mm) <= (0.124 if alike else 0.0006)


def test_out_of_time_it_says_so(monkeypatch):
    monkeypatch.setattr(spacer_search, "MAX_NODES_A_LEVEL", 3)
    rig = rig_for(66.123, ("M42x0.75", "female"), ("M42x0.75", "male"))
    result = find_spacers(rig, many(10, False), seconds=0.0)
    assert not result.proven
    assert "not proven" in result.outcome


def opposite(end):
    return (end[0], {"male": "female", "female": "male"}[end[1]])


def test_the_demos_spacing_is_mended_from_the_starter_shelf():
    for name in ("tarnfell-triplet-reduced", "meadow-newtonian"):
        rig = load(demo.rig_path(name)).rig
        result = find_spacers(rig, load_shelf(STARTER).parts)
        corrected = rig.model_dump(mode="json", exclude_unset=True) | {"train": apply_set(rig, result, result.sets[0])}
        after = evaluate(validated(corrected))
        assert after.finding("spacing.main").verdict == "holds"
        assert after.finding("joints.mate").verdict == "holds"
        assert after.finding("joints.depth") is None


def test_when_nothing_fits_it_says_what_is_nearest_and_what_to_buy():
    result = find_spacers(rig_for(12.18), [ring("a", 9.0), ring("b", 14.0)])
    assert result.sets == ()
    assert [p.id for place in result.nearest.pieces for p in place] == ["b"]
    assert result.nearest.error_mm == pytest.approx(1.82)
    assert result.buy_length_mm == 12.18
    assert "between Rondel 7 and Pellucid Grand, M42×0.75 male in front, M42×0.75 male behind" in result.buy
    too_long = find_spacers(rig_for(-3.0), [ring("a", 9.0)])
    assert "3 mm too long: no spacer can correct that" in too_long.buy


def test_pins_places_and_cancelling():
    rig = rig_for(5.0, two_places=True)
    shelf = [ring("a", 5.0, ("M48x0.75", "female"), ("M48x0.75", "male")), ring("b", 5.0)]
    behind_wheel = find_spacers(rig, shelf, ["wheel"])
    assert [[p.id for p in place] for place in behind_wheel.sets[0].pieces] == [["b"]]
    with pytest.raises(InputError, match='"camera" is no fixed part'):
        find_spacers(rig, shelf, ["camera"])
    with pytest.raises(CancelledError):
        find_spacers(rig, shelf, should_stop=lambda: True)
    pinned = rig_for(5.0).model_dump(mode="json", exclude_unset=True)
    pinned["train"][1]["keep_with_next"] = True
    with pytest.raises(InputError, match="no place for a spacer is left"):
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
    with pytest.raises(InputError, match=words):
        find_spacers(validated(doc), [])


def test_the_demos_guide_branch_is_brought_into_reach_from_the_starter_shelf():
    """In the native train a shelf ring behind the wheel moves the main sensor, and so the guide's focus, back."""
    rig = load(demo.rig_path("tarnfell-triplet-native")).rig
    assert evaluate(rig).guide_path.reach.shortfall_mm == pytest.approx(21.315789 - 28, abs=1e-6)
    ring_from_shelf = load_shelf(STARTER).find("m42_7_5").part.model_dump(mode="json", exclude_unset=True)
    document = rig.model_dump(mode="json", exclude_unset=True)
    document["train"].insert(4, ring_from_shelf)
    after = evaluate(validated(document))
    assert after.guide_path.reach.shortfall_mm == 0
    assert after.finding("joints.mate").verdict == "holds"
    assert after.finding("reach.main").verdict == "holds"
    assert after.finding("spacing.guide").remedy.text.startswith("Set guide focuser to 28.82 mm")


def test_two_copies_of_a_piece_with_glass_count_twice():
    """Two rings of 5 mm with 0.9 mm of glass of index 1.5: each shifts the focus by 0.3 mm, so both add 9.4 mm."""
    glass = {"glass": [{"thickness_mm": 0.9, "index": 1.5}]}
    entry = ring("a", 5.0, rear=("M42x0.75", "female"), owned=2, **glass)
    rig = rig_for(9.4, ("M42x0.75", "female"), ("M42x0.75", "male"), tolerance=0.01)
    result = find_spacers(rig, [entry])
    assert [s.count for s in result.sets] == [2]
    assert result.sets[0].error_mm == pytest.approx(0, abs=1e-9)

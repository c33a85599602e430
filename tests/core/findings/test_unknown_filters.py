"""A filter of which nothing is known moves the focus by nobody knows how much: then the spacing is not verified."""

import copy

import pytest

from tests.conftest import EXAMPLE
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.store import validated

# The least shift is that of 1 mm at n = 1.46, the greatest that of 3 mm at n = 1.58:
LEAST, GREATEST = 1 * (1 - 1 / 1.46), 3 * (1 - 1 / 1.58)


def train(part=None, slots=None, ring_mm=12.0, **more):
    """The example with another wheel: 61.5 mm are required, 20 + 17.5 + 12.5 mm and the ring are built."""
    document = copy.deepcopy(EXAMPLE) | more
    wheel = {"id": "wheel", "kind": "filter_wheel", "length_mm": 20} | (part or {})
    document["train"][2] = wheel
    document["train"][3]["length_mm"] = ring_mm
    if slots is not None:
        device = {"id": "wheel_device", "kind": "filter_wheel", "part": "wheel", "slots": slots}
        document["devices"] = [device]
    return document


NAMED = [{"name": "L"}, {"name": "Ha"}]
GLASS = [{"name": "filter", "thickness_mm": 2.0, "index": 1.52}]


def found(document, finding_id="spacing.main"):
    return evaluate(validated(document)).finding(finding_id)


@pytest.mark.parametrize(
    ("part", "slots", "ring_mm", "verdict"),
    [
        # Built 62.0 mm against 61.5 mm: 0.5 mm off without glass, in place with a filter of 1.5 mm.
        ({}, NAMED, 12.0, Verdict.UNPROVEN),
        ({}, NAMED, 11.5, Verdict.UNPROVEN),  # 0.000 mm without glass is no proof
        ({}, None, 11.5, Verdict.UNPROVEN),
        ({"kind": "filter_drawer"}, None, 11.5, Verdict.UNPROVEN),
        ({"kind": "filter_drawer", "no_filter": True}, None, 11.5, Verdict.HOLDS),
        ({"no_filter": True}, NAMED, 11.5, Verdict.HOLDS),
        ({"glass": GLASS}, NAMED, 12.184, Verdict.HOLDS),
        ({"glass": [GLASS[0] | {"counted": True}]}, NAMED, 11.5, Verdict.HOLDS),
        # No filter of 1 to 3 mm brings these into ±0.4 mm.
        ({}, NAMED, 11.5 + GREATEST + 0.41, Verdict.FAILS),
        ({}, NAMED, 11.5 + GREATEST + 0.39, Verdict.UNPROVEN),
        ({}, NAMED, 11.5 + LEAST - 0.41, Verdict.FAILS),
        ({}, NAMED, 11.5 + LEAST - 0.39, Verdict.UNPROVEN),
        ({}, None, 11.5 - 0.41, Verdict.FAILS),
        ({}, None, 11.5 - 0.39, Verdict.UNPROVEN),  # the wheel may be empty
        # Known by its slots alone: 2 mm shift by 0.684 mm.
        ({}, [{"name": "L", "thickness_mm": 2.0, "index": 1.52}], 12.184, Verdict.HOLDS),
        ({}, [{"name": "L", "thickness_mm": 2.0, "index": 1.52}], 11.5, Verdict.FAILS),
        ({}, [{"name": "L", "thickness_mm": 2.0, "index": 1.52}, {"name": "Ha"}], 12.184, Verdict.UNPROVEN),
        (
            {}, [{"name": "L", "thickness_mm": 2.0, "index": 1.52}, {"name": "Dark", "bandpass": "dark"}], 12.184,
            Verdict.HOLDS,
        ),
    ],
)  # fmt: skip
def test_the_spacing_with_filters_known_and_not(part, slots, ring_mm, verdict):
    document = train(part, slots, ring_mm)
    evaluation = evaluate(validated(document))
    assert evaluation.finding("spacing.main").verdict is verdict
    assert evaluation.rows["back_focus_error_mm"].verdict is verdict
    assert evaluation.rows["back_focus_built_mm"].verdict is verdict


def test_it_says_between_what_the_error_lies_and_offers_that_none_is_there():
    own = found(train({}, NAMED, 12.0))
    assert own.title.startswith("The back focus is not verified: the thickness of the filter in wheel")
    assert "1 to 3 mm of glass would shift the focus by 0.32 to 1.10 mm" in own.arithmetic[-2]
    assert own.arithmetic[-1] == "so the error lies between −0.60 and +0.18 mm"
    assert own.remedy.button == "No filter in the beam"
    rig = validated(train({}, NAMED, 11.5))
    after = edit.apply(rig, own.remedy.change)
    assert evaluate(after).finding("spacing.main").verdict is Verdict.HOLDS


def test_the_guide_branch_is_not_verified_either():
    document = train({}, NAMED, 12.9)
    document["guiding"]["path"][0]["length_mm"] = 14.5  # 53.0 mm against 54.4: no filter shifts by 1.4 mm
    assert found(document, "spacing.guide").verdict is Verdict.FAILS
    # X = 17.5 - 8.5 + 20 + 12.9 + 12.5 = 54.4; a branch of 53.9 mm is in focus with a filter that shifts by 0.5 mm.
    document["guiding"]["path"][0]["length_mm"] = 15.4
    own = found(document, "spacing.guide")
    assert own.verdict is Verdict.UNPROVEN
    assert own.arithmetic[-1] == "so the error lies between −0.18 and +0.60 mm"
    document["guiding"]["path"][0]["length_mm"] = 17.5  # 56.0 mm: too far with any
    assert found(document, "spacing.guide").verdict is Verdict.FAILS


def test_a_filter_of_unknown_thickness_is_not_judged():
    """Neither 1 mm nor an index of 1.52 is taken for it."""
    slots = [{"name": "L", "thickness_mm": 2.0}, {"name": "Ha"}]
    evaluation = evaluate(validated(train({}, slots, 12.184)))
    judged = {key: row for key, row in evaluation.rows.items() if ".filter" in key}
    assert {row.kind.label.split(":")[0] for row in judged.values()} == {"Through L"}
    row = evaluation.rows["wheel_device.filter1.back_focus_error_mm"]
    # Of 2 mm the shift is 0.630 to 0.734 mm by the index that nobody states: half of that is its half-width.
    assert row.computed.uncertainty**2 - (0.02 / 3**0.5) ** 2 - (0.1 / 3**0.5) ** 2 == pytest.approx(
        (0.052 / 3**0.5) ** 2, rel=0.05
    )

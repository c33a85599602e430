"""A finding knows which values of the document it depends on, so that an assumed or out-of-date one proves nothing."""

import copy
import json
from collections import defaultdict

import pytest

from tests.cases import further
from tests.conftest import EXAMPLE
from wyntaxis import demo
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.files.errors import InputError, path_text
from wyntaxis.core.findings.registry import all_statements
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantities.read_tracking import ReadStack, apart, enter, leave, reads_of_value
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.marks import leaves, value_at
from wyntaxis.core.rig.store import validated

DEMOS = ("tarnfell-triplet-reduced", "tarnfell-triplet-native", "meadow-newtonian")
NO_VALUES = {"format", "version", "variants", "assumed", "origin", "sources", "accepted", "photos", "note"}


def document_of(name):
    return json.loads(demo.rig_path(name).read_text("utf-8"))


def other_values(value):
    """Values that stand in for one: near it, far from it, of the other sign, none, the opposite."""
    if isinstance(value, bool):
        return [not value]
    if isinstance(value, int | float):
        return [value * 1.07, value + 1, value * 3, 0, -value, int(value) + 1, value * 0.2]
    return [value + "x"] if isinstance(value, str) else []


def changed(document, path, value):
    """The rig with another value, None where that makes none."""
    other = copy.deepcopy(document)
    value_at(other, path[:-1])[path[-1]] = value
    try:
        return validated(other)
    except InputError:
        return None


def trials(document, every, start=0):
    """Every so-manieth value of a document with one other value, each kind of change in turn."""
    own = [path for path in leaves(document) if path[0] not in NO_VALUES]
    for number, path in enumerate(own[start::every]):
        others = other_values(value_at(document, path))
        for shift in range(len(others)):
            after = changed(document, path, others[(number + shift) % len(others)])
            if after is not None:
                yield path, after
                break


def entries(findings):
    by_key = defaultdict(list)
    for finding in findings:
        by_key[finding.id, finding.subject].append((finding.verdict, finding.title, finding.arithmetic))
    return by_key


@pytest.mark.slow
@pytest.mark.parametrize(
    ("name", "every"), [*zip(DEMOS, (8, 5, 5), strict=True), *further(*zip(DEMOS, (4, 2, 2), strict=True))]
)
def test_whatever_changes_with_a_value_has_read_it(name, every):
    """Brute force: another value is set, and each finding and row that reads differently must have read it."""
    document = document_of(name)
    base = evaluate(validated(document), traced=True)
    reads, whole, before = defaultdict(set), {}, entries(base.findings)
    for found in all_statements(base):
        whole[found.declared.id] = found.reads
        for statement, own in found.statements:
            reads[found.declared.id, statement.subject] |= own
    seen = 0
    for path, rig in trials(document, every):
        after, keys = evaluate(rig), reads_of_value(path_text(path))
        now = entries(after.findings)
        for key in before.keys() | now.keys():
            if before.get(key) != now.get(key):
                seen += 1
                assert not keys.isdisjoint(reads[key] if key in before else whole[key[0]]), (path, key)
        for key in base.rows.keys() & after.rows.keys():
            one, other = base.rows[key], after.rows[key]
            if (one.values, one.verdict, one.target) != (other.values, other.verdict, other.target):
                assert not keys.isdisjoint(base.evaluator.reads(key)), (path, key)
    assert seen > (50 if every <= 4 else 15)


@pytest.mark.slow
@pytest.mark.parametrize(("name", "start"), [(DEMOS[0], 0), *further((DEMOS[1], 3), (DEMOS[2], 5))])
def test_whatever_changes_with_an_assumed_value_does_not_hold(name, start):
    document = document_of(name)
    seen, plain = 0, entries(evaluate(validated(document)).findings)
    for path, rig in trials(document, 9, start):
        try:
            marked = evaluate(validated(document | {"assumed": [path_text(path)]}))
        except InputError:
            continue  # no value that can be marked
        after = evaluate(rig)
        before, now = entries(marked.findings), entries(after.findings)
        for key in plain.keys() & now.keys():
            pairs = list(zip(plain[key], now[key], strict=len(plain[key]) == len(now[key])))
            for (one, other), (verdict, *_) in zip(pairs, before[key], strict=False):
                seen += one != other
                if verdict is Verdict.HOLDS:
                    assert one == other, (path, key)
        for one, other in zip(marked.conditions, after.conditions, strict=True):
            if one.verdict is Verdict.HOLDS:
                assert other.verdict is Verdict.HOLDS, (path, one.condition.key)
    assert seen > 3


@pytest.mark.parametrize("name", DEMOS)
def test_tracking_changes_no_finding_and_no_remedy(name):
    rig = validated(document_of(name))
    plain, tracked = evaluate(rig), evaluate(rig, traced=True)
    assert plain.findings == tracked.findings
    assert plain.rows == tracked.rows
    assert [one.verdict for one in plain.conditions] == [one.verdict for one in tracked.conditions]


PLAN = {"exposure_s": 240, "actions": ["cool", "refocus", "flip", "park"]}
MOUNT = {
    "id": "mount",
    "kind": "mount",
    "connected": True,
    "settings": {"flip_margin_min": {"value": 11}, "park_set": {"value": True}},
}
CAMERA = {
    "id": "main",
    "kind": "camera",
    "connected": True,
    "settings": {"set_temperature_c": {"value": -8}, "cooler_on": {"value": True}},
}
FOCUSER = {"id": "motor", "kind": "focuser", "connected": True}
RECORD = {"id": "one", "name": "Capture", "values": {"main.set_temperature_c": -8, "aperture_mm": 104}}


@pytest.mark.parametrize(
    ("path", "finding_id"),
    [
        ("devices[0].settings.flip_margin_min.value", "plan.flip"),
        ("devices[0].settings.park_set.value", "plan.park"),
        ("devices[1].connected", "plan.cool"),
        ("devices[2].connected", "plan.refocus"),
        ("devices[1].settings.set_temperature_c.value", "cooling.on"),
        ("devices[1].settings.cooler_on.value", "cooling.on"),
        ('records[0].values."main.set_temperature_c"', "records.temperature"),
        ("train[0].rear.thread", "joints.mate"),
        ("train[1].front.gender", "joints.mate"),
    ],
)
def test_a_finding_without_a_number_is_unproven_where_it_read_an_assumed_value(path, finding_id):
    ends = {"thread": "M48x0.75", "depth_mm": 4}
    document = copy.deepcopy(EXAMPLE) | {"plan": PLAN, "devices": [MOUNT, CAMERA, FOCUSER], "records": [RECORD]}
    document["train"] = [document["train"][0], document["train"][-1] | {"front": ends | {"gender": "female"}}]
    document["guiding"] = {"kind": "none"}
    plain = evaluate(validated(document)).finding(finding_id)
    marked = evaluate(validated(document | {"assumed": [path]})).finding(finding_id)
    assert plain.verdict is Verdict.HOLDS
    assert (marked.verdict, marked.assumed) == (Verdict.UNPROVEN, (path,))
    assert marked.remedy.text.startswith("Enter ")


def test_one_devices_assumed_value_leaves_the_others_proven():
    second = CAMERA | {"id": "second"}
    document = EXAMPLE | {"devices": [CAMERA, second], "assumed": ["devices[0].settings.cooler_on.value"]}
    for devices in ([CAMERA, second], [second, CAMERA]):
        place = devices.index(CAMERA)
        marked = document | {"devices": devices, "assumed": [f"devices[{place}].settings.cooler_on.value"]}
        found = [f for f in evaluate(validated(marked)).findings if f.id == "cooling.on"]
        assert {f.subject: f.verdict for f in found} == {"main": Verdict.UNPROVEN, "second": Verdict.HOLDS}


def test_a_condition_is_unproven_where_another_value_could_break_it():
    """No joint is drawn in question, but the wheel's list is: nothing is found, which with another name would fail."""
    wheel = {"id": "wheel", "kind": "filter_wheel", "connected": True, "slots": [{"name": "L"}, {"name": "Ha"}]}
    document = EXAMPLE | {"devices": [wheel], "plan": {"exposure_s": 240, "filters": ["L"]}}
    marked = evaluate(validated(document | {"assumed": ["devices[0].slots[0].name"]}))
    found = next(one for one in marked.conditions if one.condition.key == "filters")
    assert found.verdict is Verdict.UNPROVEN
    assert marked.finding("plan.filters").verdict is Verdict.UNPROVEN


def test_what_was_worked_out_with_an_out_of_date_measurement_is_out_of_date():
    document = copy.deepcopy(EXAMPLE)
    measured = {"value": 513.0, "standard_uncertainty": 0.4}
    rig = edit.apply(validated(document), Change.of("Measure", ("measured", "effective_focal_length_mm"), measured))
    assert evaluate(rig).rows["focal_ratio"].out_of_date is None
    moved = edit.apply(rig, Change.of("Another telescope", ("telescope", "focal_length_mm"), 700))
    rows = evaluate(moved).rows
    assert rows["effective_focal_length_mm"].out_of_date is not None
    for key in ("pixel_scale_arcsec_px", "guide_scale_arcsec_px", "dither_guide_px"):
        if rows[key].best is not None:
            assert rows[key].out_of_date is not None, key
    assert rows["back_focus_built_mm"].out_of_date is None


def test_things_apart():
    """What is read of one thing does not count for the next; after the loop, or where it is left, all of it does."""
    stack = ReadStack()
    before = enter(stack)
    try:
        stack.sets.append({"before"})
        seen = []
        for thing in apart("abc"):
            stack.note([thing])
            seen.append(set(stack.sets[-1]))
        assert seen == [{"before", "a"}, {"before", "b"}, {"before", "c"}]
        assert stack.sets[-1] == {"before", "a", "b", "c"}
        for thing in apart("de"):
            stack.note([thing])
            break
        assert stack.sets[-1] == {"before", "a", "b", "c", "d"}
    finally:
        leave(before)
    assert list(apart("ab")) == ["a", "b"]


def dark_camera(**settings):
    entries = {"read_noise_e": 2.0, "set_temperature_c": -8.0, "dark_current_e_s": 0.001} | settings
    camera = {"id": "main", "kind": "camera", "settings": {key: {"value": value} for key, value in entries.items()}}
    return validated(EXAMPLE | {"devices": [camera], "plan": {"exposure_s": 240}})


@pytest.mark.parametrize(
    ("settings", "now_c", "verdict"),
    [
        ({}, -8.0, Verdict.HOLDS),  # of the set temperature
        ({}, 5.0, Verdict.UNPROVEN),  # nobody knows what it is there
        ({}, -15.0, Verdict.UNPROVEN),
        ({"dark_at_c": -8.0}, -15.0, Verdict.HOLDS),  # no more than where it was measured
        ({"dark_at_c": -8.0}, 5.0, Verdict.UNPROVEN),
        ({"dark_at_c": -8.0, "dark_doubling_c": 6.5}, -1.5, Verdict.TIGHT),  # 0.002 e⁻/s × 240 s = 0.48 e⁻ of 0.4
        ({"dark_at_c": -8.0, "dark_doubling_c": 6.5}, -8.0, Verdict.HOLDS),
    ],
)
def test_a_dark_current_without_its_temperature_after_a_change_of_set_point(settings, now_c, verdict):
    place = ("devices", 0, "settings", "set_temperature_c", "value")
    after = edit.apply(dark_camera(**settings), Change.of("Set", place, now_c))
    assert evaluate(after).finding("camera.setpoint").verdict is verdict

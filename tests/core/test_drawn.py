"""What is drawn of a rig: the branch broken off, the wiring, the part that is still missing."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import EXAMPLE
from wyntaxis import demo
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.blank import blank_rig
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.parts import Joint, Part
from wyntaxis.core.rig.shelf import ShelfPart
from wyntaxis.core.rig.store import load, validated
from wyntaxis.core.section import section
from wyntaxis.core.train.broken_section import LEAST_DRAWN_MM, shortened, stubbed
from wyntaxis.core.train.next_part import OpenEnd, fitting, open_end
from wyntaxis.core.train.section import lay_out
from wyntaxis.core.wiring import COMPUTER, plugging, wiring

DEMO = load(demo.rig_path("tarnfell-triplet-reduced")).rig
WHOLE = section(evaluate(validated(EXAMPLE)))


@given(st.floats(0, 80))
def test_a_shortened_branch_keeps_its_order_and_its_error(most):
    drawn = shortened(WHOLE, most)
    before, after = WHOLE.branch, drawn.branch
    least = sum(min(shape.length_mm, LEAST_DRAWN_MM) for shape in before.parts)
    assert after.length_mm == pytest.approx(min(max(most, least), before.length_mm))
    assert [shape.part.id for shape in after.parts] == [shape.part.id for shape in before.parts]
    for one, other in zip(after.parts, after.parts[1:], strict=False):
        assert one.end_mm == pytest.approx(other.start_mm)
    assert after.plane.error_mm == pytest.approx(before.plane.error_mm)
    broken = [shape for shape in after.parts if shape.break_mm is not None]
    assert all(shape.start_mm < shape.break_mm < shape.end_mm for shape in broken)
    assert bool(broken) == (most < before.length_mm)
    assert drawn.parts == WHOLE.parts


def test_a_stub_is_one_part_without_a_plane():
    stub = stubbed(WHOLE).branch
    assert (len(stub.parts), stub.plane, stub.is_stub, stub.length_mm) == (1, None, True, LEAST_DRAWN_MM)
    assert stubbed(WHOLE).top_mm < WHOLE.top_mm
    separate = section(evaluate(load(demo.rig_path("meadow-newtonian")).rig))
    assert stubbed(separate) is separate
    assert shortened(separate, 0.0) is separate


def test_what_nobody_gave_is_told_of_its_part():
    marked = validated(EXAMPLE | {"assumed": ["train[3].length_mm", "guiding.path[2].sensor.pixel_um"]})
    shapes = {shape.part.id: shape.assumed for shape in section(evaluate(marked)).all_parts()}
    assert {key: kept for key, kept in shapes.items() if kept} == {
        "ring": frozenset({"length_mm"}),
        "guide_camera": frozenset({"sensor"}),
    }


def test_the_demos_wiring():
    found = wiring(evaluate(DEMO))
    assert [block.id for block in found.row("head")] == ["hut_computer", "rail_hub"]
    assert {block.id for block in found.row("supply")} == {"box", "bank"}
    lines = {(wire.carries, wire.end): wire for wire in found.wires}
    camera = lines["data", "main_camera"]
    assert (camera.start, camera.form, camera.labels, camera.verdict) == (
        "rail_hub",
        "usb",
        ("152 MB/s", "4.5 m"),
        "fails",
    )
    assert lines["data", "mount_device"].start == "hut_computer"
    mount = lines["power", "mount_device"]
    assert (mount.start, mount.labels, mount.verdict) == ("box", ("11.8 V", "2.5 A"), "fails")
    assert lines["power", "box"].start == "bank"
    bare = wiring(evaluate(validated(EXAMPLE)))
    assert [(block.id, block.title) for block in bare.blocks] == [(COMPUTER, "Computer")]


@pytest.mark.parametrize(
    "thing, into, check",
    [
        ("main_camera", "hut_computer", lambda rig: rig.devices[0].connection.hub is None),
        ("main_camera", COMPUTER, lambda rig: rig.devices[0].connection.hub is None),
        ("hut_computer", "bank", lambda rig: rig.devices[7].power.supply == "bank"),
        (
            "dew",
            "rail_hub",
            lambda rig: (rig.devices[5].connection.hub, rig.devices[5].connection.kind) == ("rail_hub", "usb"),
        ),
    ],
)
def test_a_line_is_plugged_in_elsewhere(thing, into, check):
    assert check(edit.apply(DEMO, plugging(DEMO, thing, into)))


@pytest.mark.parametrize("thing, into", [("main_camera", "roof"), ("nothing", "bank"), ("box", "rail_hub")])
def test_a_line_to_nowhere_is_none(thing, into):
    assert plugging(DEMO, thing, into) is None


def end_with(thread, gender):
    return OpenEnd("x", Joint(thread=thread, gender=gender), 1)


def shelf_part(name, thread=None, gender="male"):
    front = Joint(thread=thread, gender=gender) if thread else None
    return ShelfPart(part=Part(id=name, kind="spacer", name=name, length_mm=5, front=front))


def test_what_mates_comes_first_and_what_does_not_is_left_out():
    shelf = tuple(
        shelf_part(*given_) for given_ in (("plain",), ("m48", "M48x0.75"), ("m42", "M42x0.75"), ("b", "M48x0.75"))
    )
    names = [part.name for part in fitting(shelf, end_with("M48x0.75", "female"), frozenset({"b"}))]
    assert names == ["m48", "b", "plain"], "used ones come after others that mate"
    assert len(fitting(shelf, OpenEnd("x", None, 0))) == 4


def test_where_a_path_is_open():
    assert open_end(DEMO) is None
    assert open_end(DEMO, guide=True) is None
    rig = blank_rig()
    assert (open_end(rig).after, open_end(rig, guide=True)) == ("Telescope", None)
    rig = edit.insert_part(rig, ("train",), 0, {"id": "c", "kind": "corrector", "length_mm": 3})
    assert (open_end(rig).after, open_end(rig).index) == ("c", 1)


@pytest.mark.parametrize("name", demo.RIGS)
def test_a_rig_is_laid_out_alike_before_and_after_it_is_reckoned(name):
    rig = load(demo.rig_path(name)).rig
    bare, entries = lay_out(rig), section(evaluate(rig))
    for one, other in zip(bare.all_parts(), entries.all_parts(), strict=True):
        assert one == replace(other, verdict=None, devices=())
    assert (bare.plane, bare.datum_mm, bare.joints, bare.top_mm) == (
        entries.plane,
        entries.datum_mm,
        entries.joints,
        entries.top_mm,
    )
    if not rig.measured:
        assert bare.rays == entries.rays
    assert any(shape.verdict is not None for shape in entries.all_parts())


def test_the_light_is_drawn_at_the_focal_ratio_that_was_measured():
    measured = {"effective_focal_length_mm": {"value": 520.0, "standard_uncertainty": 0.5}}
    rig = edit.apply(DEMO, Change.of("Measure", ("measured",), measured))
    entries, bare = section(evaluate(rig)), lay_out(rig)
    end, before = (
        entries.rays[-1],
        entries.rays[-2],
    )  # back from the sensor the light widens by one over twice the ratio
    assert (before.axial_mm - end.axial_mm) / (end.at_mm - before.at_mm) == pytest.approx(104 / (2 * 520.0))
    assert bare.rays[0].axial_mm != pytest.approx(entries.rays[0].axial_mm)


def test_what_only_a_reckoned_rig_tells_is_left_open_before():
    entries = evaluate(DEMO)
    assert section(entries).branch.plane.allowed_mm == entries.quantities["guide_path_error_mm"].target.high
    assert lay_out(DEMO).branch.plane.allowed_mm is None


@pytest.mark.parametrize("order", [(Verdict.FAILS, Verdict.TIGHT), (Verdict.TIGHT, Verdict.FAILS)])
def test_a_part_has_the_mark_of_the_gravest_of_its_findings(order):
    entries = evaluate(DEMO)
    own = next(finding for finding in entries.findings if "ring" in finding.parts(DEMO))
    both = entries.with_results(findings=tuple(replace(own, verdict=verdict) for verdict in order))
    assert {s.part.id: s.verdict for s in section(both).parts}["ring"] is Verdict.FAILS


def test_a_part_tells_all_devices_that_it_carries():
    places = [at for at, device in enumerate(DEMO.devices) if device.part is not None][:2]
    rig = edit.apply(DEMO, Change("Move", tuple((("devices", at, "part"), "wheel") for at in places)))
    carried = {s.part.id: s.devices for s in section(evaluate(rig)).parts}["wheel"]
    assert len(carried) >= 2

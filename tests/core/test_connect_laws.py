"""Laws of records, ports, frames and readiness that hold for any rig: agreement with oneself, order, symmetry."""

import copy
import itertools
import json
import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.core.evidence.test_headers import header
from tests.rigs import clean_document, clean_tree
from wyntaxis.core.evaluation import Evidence, evaluate
from wyntaxis.core.evidence.headers.headers import frame_header
from wyntaxis.core.evidence.headers.partners import group_frames, missing_calibration
from wyntaxis.core.evidence.ports.kind import PORTS
from wyntaxis.core.evidence.ports.match import match_devices
from wyntaxis.core.evidence.ports.tree import PortTree, UsbDevice, read_ports
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.ledger import Verdict, worst
from wyntaxis.core.quantities.devices import device_quantity
from wyntaxis.core.quantities.numbers import numbers_of
from wyntaxis.core.records.compare import compare_value
from wyntaxis.core.records.entries import device_of, entries_of_rig, faults_within, same_device
from wyntaxis.core.records.likely_causes import likely_cause_of_list
from wyntaxis.core.records.presence import presence
from wyntaxis.core.records.quantities import comparables
from wyntaxis.core.rig.device_settings import SETTINGS, check_setting, settings_of
from wyntaxis.core.rig.devices import DEVICE_KINDS, RecordEntry
from wyntaxis.core.rig.edit import Change, apply
from wyntaxis.core.rig.store import parse, to_bytes, validated
from wyntaxis.core.rig.variants import new_variant
from wyntaxis.simulators.usb import make_demo_tree, make_tree

SERIALS = st.sampled_from([None, "A1", "a1", "B2", "C3"])
IDS = st.sampled_from([None, "1a2b:0001", "1a2b:0002"])
ROLES = st.sampled_from([None, "camera", "guide_camera"])
ENTRIES = st.lists(
    st.builds(
        RecordEntry,
        name=st.sampled_from(["one", "two", "three"]),
        role=ROLES,
        usb_id=IDS,
        serial_number=SERIALS,
        port=st.sampled_from([None, "/dev/a", "/dev/b"]),
    ),
    max_size=5,
)


def setting_values(kind):
    if kind.type == "truth":
        return st.booleans()
    if kind.type == "text":
        return st.sampled_from(kind.choices) if kind.choices else st.text("abc ", min_size=1, max_size=8)
    return st.floats(max(kind.low, -1e6), min(kind.high, 1e6), allow_nan=False)


@st.composite
def rigs(draw):
    """A clean rig whose devices have any settings that their kinds allow."""
    document = clean_document()
    for device in document["devices"]:
        kinds = draw(st.lists(st.sampled_from(settings_of(device["kind"]) or (None,)), max_size=5, unique=True))
        device.setdefault("settings", {})
        for kind in kinds:
            if kind is not None:
                device["settings"][kind.key] = {"value": draw(setting_values(kind))}
    return document


@pytest.mark.slow
@given(rigs())
def test_a_record_of_the_rig_itself_agrees_in_everything(document):
    document["records"] = []
    bare = numbers_of(validated(document))
    values = {
        key: list(item.value) if isinstance(item.value, tuple) else item.value
        for key, item in comparables(bare).items()
        if item.value is not None
    }
    document["records"] = [{"id": "mirror", "name": "mirror", "values": values}]
    rig = validated(document)
    assert parse(to_bytes(rig)) == rig
    found = evaluate(rig)
    assert {cell.state for row in found.matrix.rows for cell in row.cells} == {"agrees"}
    reported = [f for f in found.findings if f.id.startswith(("records.", "wheel.order")) and f.verdict != "holds"]
    assert reported == []


@given(rigs(), st.sampled_from([2.0, 0.5, 1000.0, -1.0]))
def test_a_number_that_is_off_differs_by_what_it_is_off(document, factor):
    rig = validated(document)
    for item in comparables(numbers_of(rig)).values():
        if item.type == "number" and item.value:
            cell = compare_value(rig, item, "x", item.value * factor)
            off = abs(item.value * (factor - 1))
            if off > item.tolerance * 1.001 + 1e-6:
                assert cell.state == "differs"
                assert cell.by
            again = compare_value(rig, item, "x", item.value)
            assert (again.state, again.by, again.story) == ("agrees", "", "")


@given(st.permutations(["L", "R", "G", "B", "Ha"]))
def test_every_other_order_of_filters_has_its_story(order):
    wanted = ("L", "R", "G", "B", "Ha")
    story = likely_cause_of_list(tuple(order), wanted)
    moved = sum(a != b for a, b in zip(order, wanted, strict=True))
    in_ring = [wanted[k:] + wanted[:k] for k in (1, 4)]
    others = "one slot too" if tuple(order) in in_ring else "same set, other order"
    assert story == "" if moved == 0 else "swapped" in story if moved == 2 else others in story


@given(ENTRIES)
def test_faults_of_a_list_do_not_depend_on_its_order(entries):
    def reported(some):
        return sorted((fault.fault, tuple(sorted(fault.names))) for fault in faults_within(some))

    assert reported(entries) == reported(entries[::-1])
    for one, other in itertools.combinations(entries, 2):
        assert same_device(one, other) == same_device(other, one)
        if same_device(one, other):
            assert one.serial_number.lower() == other.serial_number.lower()


ENTRY_CASES = [
    # name, usb id, serial number, the rig's device that it is
    ("by serial number", "3f2a:0261", "PG-1", "main"),
    ("serial number in capitals", None, "pg-1", "main"),
    ("by its kind where there is one", "3f2a:0120", None, "guide"),
    ("another of the kind", "3f2a:0120", "PP-9", None),
    ("another kind of that serial number", "ffff:0000", "PG-1", None),
    ("nothing told", None, None, None),
]


@pytest.mark.parametrize("usb_id, serial, wanted", [case[1:] for case in ENTRY_CASES], ids=[c[0] for c in ENTRY_CASES])
def test_which_device_an_entry_is(usb_id, serial, wanted):
    rig = validated(clean_document())
    entry = RecordEntry(name="x", usb_id=usb_id, serial_number=serial)
    found = device_of(entry, rig.devices)
    assert (found.id if found else None) == wanted


def test_a_rigs_own_list_has_addresses():
    reported = {entry.name: entry.port for entry in entries_of_rig(validated(clean_document()).devices)}
    assert reported["Cairn Stout"] == "cairn:4030"
    assert reported["Glide motor"] == "/dev/serial/by-id/usb-Glide-if00"
    assert reported["Pellucid Petit"] is None


PRESENCE = [
    ("not checked", {}, None, "unproven", "is not checked"),
    ("stated by hand", {"connected": True}, None, "holds", "stated by hand"),
    ("a program does not reach it", {"connected": True}, False, "fails", "not connected (capture program)"),
    ("a program reaches it", {}, True, "holds", "connected (capture program)"),
]


@pytest.mark.parametrize("change, listed, verdict, words", [row[1:] for row in PRESENCE], ids=[r[0] for r in PRESENCE])
def test_who_says_that_a_device_is_there(change, listed, verdict, words):
    document = clean_document()
    document["devices"][1] |= change
    entry = document["records"][0]["entries"][1]
    entry.pop("connected", None)
    if listed is not None:
        entry["connected"] = listed
    evaluation = evaluate(validated(document))
    found = presence(evaluation, evaluation.rig.devices[1])
    assert (found.verdict, words in found.why) == (verdict, True)


def test_the_bus_outweighs_paper(tmp_path):
    document = clean_document()
    document["devices"][1]["connected"] = True
    tree = [one for one in clean_tree() if one["name"] != "1-1"]
    seen = Evidence().having(PORTS, read_ports(make_tree(tmp_path / "a", tree)))
    evaluation = evaluate(validated(document), seen)
    assert presence(evaluation, evaluation.rig.devices[1]).verdict is Verdict.FAILS
    # A serial device without a USB identity is looked for by its port.
    document["devices"][3].pop("identity")
    evaluation = evaluate(validated(document), seen)
    assert presence(evaluation, evaluation.rig.devices[3]).why == "Glide motor: connected (its serial port)"


@st.composite
def trees(draw):
    """Devices hung on each other at random, with anything in their files."""
    names = ["usb1"]
    for _ in range(draw(st.integers(0, 8))):
        parent = draw(st.sampled_from(names))
        port = draw(st.integers(1, 4))
        names.append(f"1-{port}" if parent == "usb1" else f"{parent}.{port}")
    text = st.text(max_size=8)
    devices = []
    for name in dict.fromkeys(names):
        device = {"name": name, "class": draw(st.sampled_from(["09", "00", ""]))}
        for key in ("vendor", "product_id", "serial", "model", "speed", "version", "control", "attributes", "ports"):
            if draw(st.booleans()):
                device[key] = draw(st.one_of(text, st.integers(-5, 99999)))
        devices.append(device)
    return devices


@pytest.mark.slow
@given(trees())
def test_any_tree_is_read_whole_and_told(tmp_path_factory, devices):
    root = make_tree(tmp_path_factory.mktemp("tree") / "root", devices)
    tree = read_ports(root)
    assert {usb.name for usb in tree.devices} == {device["name"] for device in devices}
    order = [usb.name for _, usb in tree.in_order()]
    assert sorted(order) == sorted(usb.name for usb in tree.devices)
    for depth, usb in tree.in_order():
        assert depth <= len(usb.name)
        chain = tree.chain(usb)
        assert len(set(chain)) == len(chain)
        parent = tree.named(usb.parent)
        if parent is not None:
            assert order.index(parent.name) < order.index(usb.name)
    evaluation = evaluate(validated(clean_document()), Evidence().having(PORTS, tree))
    for finding in evaluation.findings:
        assert "\n" not in finding.title
        json.dumps(finding.as_json())


def usb(name, **more):
    values = {"vendor": "3f2a", "product": "0261", "serial_number": None, "maker": "", "model": "", "speed_mbit": 480.0}
    values |= {"version": None, "control": "on", "status": None, "max_power_ma": None, "self_powered": None}
    values |= {"is_hub": False, "ports": 0, "node": None}
    return UsbDevice(name=name, **(values | more))


MATCHES = [
    ("by serial number among two", [usb("1-1", serial_number="X"), usb("1-2", serial_number="PG-1")], "1-2"),
    ("without a serial number, the only one", [usb("1-1")], "1-1"),
    ("without a serial number, one of two", [usb("1-1"), usb("1-2")], None),
    ("another serial number", [usb("1-1", serial_number="X")], None),
    ("a root hub of that identity", [usb("usb1", is_hub=True)], None),
]


@pytest.mark.parametrize("devices, wanted", [row[1:] for row in MATCHES], ids=[row[0] for row in MATCHES])
def test_which_of_the_bus_a_device_is(devices, wanted):
    rig = validated(clean_document())
    found = match_devices(rig, PortTree("x", tuple(devices), (), None))[0]
    assert (found.usb.name if found.usb else None) == wanted
    assert len(found.alike) == sum(not d.is_root for d in devices) - (wanted is not None)


FRAME = st.fixed_dictionaries(
    {
        "IMAGETYP": st.sampled_from(["LIGHT", "DARK", "FLAT", "BIAS"]),
        "FILTER": st.sampled_from(["L", "R"]),
        "EXPTIME": st.sampled_from([60.0, 300.0]),
        "GAIN": st.sampled_from([0, 100]),
        "SET_TEMP": st.sampled_from([-10.0, -5.0, None]),
    }
)


@pytest.mark.slow
@given(st.lists(FRAME, max_size=12), st.randoms(use_true_random=False))
def test_groups_and_lacks_do_not_depend_on_the_order_of_files(frames, chance):
    reported = [frame_header(header(**frame), f"{index:02}.fits") for index, frame in enumerate(frames)]
    shuffled = reported[:]
    random.Random(chance.random()).shuffle(shuffled)

    def summary(some):
        groups = group_frames(some)
        kinds = sorted((g.title, g.count) for g in groups)
        return kinds, sorted((lack.lights.title, lack.kind) for lack in missing_calibration(groups))

    assert summary(reported) == summary(shuffled)
    groups = group_frames(reported)
    assert sum(group.count for group in groups) == len(reported)
    # What has a partner keeps it when more frames come in.
    more = [*reported, frame_header(header(IMAGETYP="DARK"), "more.fits")]
    assert len(missing_calibration(group_frames(more))) <= len(missing_calibration(groups))


@pytest.mark.slow
@given(rigs(), st.integers(0, 3))
def test_a_condition_is_as_bad_as_its_worst_finding(document, frame_problem):
    if frame_problem:
        document["records"][0]["values"]["main.gain"] = 7 * frame_problem
    found = evaluate(validated(document)).conditions
    for one in found:
        assert one.verdict is (worst(f.verdict for f in one.findings) if one.findings else Verdict.UNPROVEN)
        assert one.why
        assert one.as_json()["id"] == one.condition.key


@pytest.mark.parametrize("kind", DEVICE_KINDS)
def test_every_setting_takes_its_bounds_and_nothing_beyond(kind):
    document = clean_document()
    for setting in settings_of(kind):
        if setting.type != "number":
            continue
        for value in (setting.low, setting.high):
            check_setting(kind, setting.key, value)
        for value in (setting.low - 1, setting.high * 2 + 1):
            with pytest.raises(ValueError, match="must lie from"):
                check_setting(kind, setting.key, value)
        document["devices"] = [{"id": "d", "kind": kind, "settings": {setting.key: {"value": setting.high}}}]
        row = device_quantity(validated(document).devices[0], setting.key)
        assert row.id == f"d.{setting.key}"
        assert row.stated.value == setting.high
    with pytest.raises(ValueError, match="is no setting of kind"):
        check_setting(kind, "no_such_setting", 1.0)
    assert all(kind in SETTINGS[s.key].kinds for s in settings_of(kind))


@given(st.data())
def test_a_damaged_document_is_refused_in_one_line_or_stands(data):
    """Any value anywhere in devices, supplies and records replaced by something else."""
    document = clean_document()
    places = []

    def walk(node, path):
        items = node.items() if isinstance(node, dict) else enumerate(node) if isinstance(node, list) else ()
        for key, value in items:
            places.append((*path, key))
            walk(value, (*path, key))

    for part in ("devices", "supplies", "records", "plan"):
        walk(document[part], (part,))
    *way, last = data.draw(st.sampled_from(places))
    odd = st.one_of(
        st.none(), st.booleans(), st.integers(-10**12, 10**12), st.floats(), st.text(max_size=5), st.lists(st.none()),
        st.dictionaries(st.text(max_size=3), st.none(), max_size=1),
    )  # fmt: skip
    node = document
    for key in way:
        node = node[key]
    node[last] = data.draw(odd)
    try:
        rig = validated(document)
    except InputError as error:
        lines = str(error).splitlines()
        assert [bool(line) for line in lines] == [True]
        return
    for finding in evaluate(rig).findings:
        assert "\n" not in finding.title
    assert parse(to_bytes(rig)) == rig


def test_devices_and_records_are_shared_by_variants():
    rig = validated(clean_document())
    both = apply(rig, Change.of("Variant", ("variants", 0), new_variant(rig, rig, "other")))
    from wyntaxis.core.rig.model import variant_rig

    other = variant_rig(both, "other")
    assert (other.devices, other.records, other.supplies) == (rig.devices, rig.records, rig.supplies)
    shorter = copy.deepcopy(clean_document())
    shorter["variants"] = [{"name": "no wheel", "train": ["reducer", "ring", "camera"]}]
    found = evaluate(variant_rig(validated(shorter), "no wheel"))
    reported = {f.subject: f for f in found.findings if f.id == "devices.parts"}
    assert reported["rondel"].title == "Rondel 7 is at the part “wheel”, which is not in this train"
    assert {f.verdict.value for f in reported.values()} == {"unproven"}  # another variant has them


def test_the_demos_ports_hold_what_its_notes_plant(tmp_path):
    from wyntaxis import demo
    from wyntaxis.core.rig.store import load

    tree = read_ports(make_demo_tree(tmp_path / "root", "tarnfell"))
    found = evaluate(load(demo.rig_path("tarnfell-triplet-reduced")).rig, Evidence().having(PORTS, tree)).findings
    planted = {"suspend", "speed", "hub", "cable", "traffic", "usbfs_memory", "serial_name", "permission"}
    assert {f.id for f in found if f.id.startswith("ports.") and f.verdict == "fails"} == {
        f"ports.{p}" for p in planted
    }

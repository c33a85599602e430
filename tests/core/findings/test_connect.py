"""Devices, records, ports and readiness: a rig in order gives no alarm, and each planted mistake its finding."""

import json
from dataclasses import replace

import pytest

from tests.rigs import clean_document, clean_tree
from wyntaxis.core.evaluation import Evidence, evaluate
from wyntaxis.core.evidence.ports.kind import PORTS
from wyntaxis.core.evidence.ports.tree import read_ports
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.findings.conditions import declared_conditions, overall
from wyntaxis.core.findings.finding import NO_REMEDY, Finding
from wyntaxis.core.findings.registry import in_order
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.store import parse, to_bytes, validated
from wyntaxis.core.worklist import tallies
from wyntaxis.simulators.usb import make_tree

CONNECT = ("records.", "wheel.", "driver.", "devices.", "cooling.", "focuser.", "plan.", "storage.", "power.", "ports.")


def computed_now(document, tree=None, tmp_path=None, memory=256):
    ports = read_ports(make_tree(tmp_path / "root", tree, usbfs_memory_mb=memory)) if tree is not None else None
    return evaluate(validated(document), Evidence().having(PORTS, ports))


def faults(evaluation):
    return {f.id: f for f in evaluation.findings if f.verdict in (Verdict.FAILS, Verdict.TIGHT)}


def test_a_rig_in_order_gives_no_alarm(tmp_path):
    evaluation = computed_now(clean_document(), clean_tree(), tmp_path)
    assert {key: f.title for key, f in faults(evaluation).items() if key.startswith(CONNECT)} == {}
    reported = {f.id for f in evaluation.findings if f.verdict is Verdict.HOLDS}
    assert reported >= {"records.focal_length", "wheel.order", "wheel.leftover", "ports.suspend", "ports.usbfs_memory"}
    stands = {one.condition.key: one.verdict for one in evaluation.conditions if one.applies}
    # No frames were read, the image scale was not measured, no joints are described: these are on paper only.
    unproven = {key for key, verdict in stands.items() if verdict is Verdict.UNPROVEN}
    assert unproven == {"calibration", "focal_length", "spacing"}
    assert {verdict for key, verdict in stands.items() if key not in unproven} == {Verdict.HOLDS}
    assert overall(evaluation.conditions) == "Nothing fails; of 19 conditions 3 unproven"


def test_a_bare_rig_says_nothing_of_devices_and_is_not_ready(example):
    evaluation = computed_now(example)
    assert not [f for f in evaluation.findings if f.id.startswith(CONNECT)]
    stands = {one.condition.key: one.verdict for one in evaluation.conditions}
    assert set(stands.values()) == {Verdict.FAILS, Verdict.UNPROVEN}
    applying = {one.condition.key for one in evaluation.conditions if one.applies}
    # It has a branch, a wheel in the train; no devices, records, supplies, plan or mount.
    assert applying == {"spacing", "filters", "guiding"}


def device(document, key):
    return next(one for one in document["devices"] if one["id"] == key)


def values(document, record=0):
    return document["records"][record]["values"]


def entries(document):
    return document["records"][0]["entries"]


SLOTS = ["L", "R", "G", "B", "Ha", "OIII"]
PLANTS = [
    (
        "two entries for one camera",
        lambda d: entries(d).append({"name": "Main 2", "role": "camera", "serial_number": "PG-1"}),
        "records.duplicate",
        "“Main” and “Main 2” are one device",
    ),
    (
        "the guide camera picked as the main one",
        lambda d: entries(d)[0].update(usb_id="3f2a:0120", serial_number="PP-1"),
        "records.role",
        "the rig's guide camera, is taken as camera",
    ),
    (
        "two devices on one port",
        lambda d: (entries(d)[0].update(port="/dev/a"), entries(d)[1].update(port="/dev/a")),
        "records.port",
        "share the port /dev/a",
    ),
    (
        "the serial number of another camera",
        lambda d: values(d).update({"main.serial_number": "PP-1"}),
        "records.connection",
        "that is Pellucid Petit, the guide camera",
    ),
    (
        "driver after plugging in",
        lambda d: device(d, "main")["driver"].update(installed="2026-09-02T19:00:00Z"),
        "driver.order",
        "after it was plugged in",
    ),
    (
        "driver overwritten by an update",
        lambda d: values(d).update({"main.driver_version": "2.6"}),
        "records.driver",
        "an update may have overwritten it",
    ),
    (
        "wheel in its other mode",
        lambda d: values(d).update({"rondel.mode": "serial"}),
        "records.connection",
        "connection mode: capture program has serial",
    ),
    ("slot left over", lambda d: values(d).update({"rondel.slots": [*SLOTS, "Filter 7"]}), "wheel.leftover", "slot 7"),
    ("blank slot", lambda d: values(d).update({"rondel.slots": [*SLOTS, " "]}), "wheel.leftover", "slot 7 is blank"),
    (
        "named twice",
        lambda d: device(d, "rondel")["slots"][1].update(name="L"),
        "wheel.leftover",
        "“L” is listed 2 times",
    ),
    (
        "a filter that is not there",
        lambda d: d["plan"]["filters"].append("SII"),
        "plan.filters",
        "asks for SII",
    ),
    (
        "filters in another order",
        lambda d: values(d).update({"rondel.slots": ["L", "G", "R", "B", "Ha", "OIII"]}),
        "wheel.order",
        "order of R and G swapped",
    ),
    (
        "focal length without the reducer",
        lambda d: values(d).update(effective_focal_length_mm=676),
        "records.focal_length",
        "1.316 times, 1/0.76: the reducer Aldous 0.76x is missing",
    ),
    (
        "focal length in m",
        lambda d: values(d).update(effective_focal_length_mm=0.51376),
        "records.focal_length",
        "unit: m for mm",
    ),
    ("binned pixel", lambda d: values(d).update(pixel_um=7.8), "records.pixel", "2 times: the binned pixel size"),
    (
        "default gain",
        lambda d: values(d).update({"main.gain": 0}),
        "records.gain",
        "gain: capture program has 0, the rig 100",
    ),
    (
        "default offset",
        lambda d: values(d).update({"main.offset": 10}),
        "records.offset",
        "offset: capture program has 10, the rig 50",
    ),
    (
        "another site",
        lambda d: values(d).update({"site.latitude_deg": -47.3}),
        "records.site",
        "the sign is the other way round",
    ),
    (
        "a set temperature nobody reached",
        lambda d: device(d, "main")["settings"]["set_temperature_c"]["measured"].update(value=-4.2),
        "cooling.setpoint",
        "was not reached: −4.2 °C",
    ),
    (
        "cooler forgotten",
        lambda d: device(d, "main")["settings"].update(cooler_on={"value": False}),
        "cooling.on",
        "the cooler is off",
    ),
    (
        "gain measured otherwise",
        lambda d: device(d, "main")["settings"]["gain"].update(measured={"value": 120}),
        "devices.measured",
        "disagree",
    ),
    ("dither without a guider", lambda d: entries(d)[1].update(connected=False), "plan.dither", "lacks a device"),
    ("guiding without a mount", lambda d: d["devices"].remove(device(d, "cairn")), "plan.guide", "lacks mount"),
    ("park without a mount", lambda d: device(d, "cairn").update(connected=False), "plan.park", "lacks a device"),
    (
        "no park position",
        lambda d: device(d, "cairn")["settings"].update(park_set={"value": False}),
        "plan.park",
        "lacks",
    ),
    (
        "server and client differ",
        lambda d: values(d, 1).update({"main.gain": 120}),
        "records.sides",
        "differ in 1 of 2 values",
    ),
    (
        "serial port by its number",
        lambda d: device(d, "glide")["connection"].update(port="/dev/ttyUSB0"),
        "ports.serial_name",
        "may change at the next start",
    ),
    (
        "motor reversed",
        lambda d: values(d).update({"glide.reversed": True}),
        "records.direction",
        "the other way round",
    ),
    (
        "focuser at the end",
        lambda d: device(d, "glide")["settings"]["position"].update(value=9800),
        "focuser.travel",
        "98 % of its travel, at the end of it",
    ),
    (
        "coarse focuser",
        lambda d: device(d, "glide")["settings"]["step_um"].update(value=60),
        "focuser.step",
        "0.8 steps",
    ),
    (
        "more USB traffic than allowed",
        lambda d: values(d).update({"main.traffic_percent": 100}),
        "records.traffic",
        "100 %, the rig 80 %",
    ),
    ("one place only", lambda d: device(d, "hut")["storage"].pop(), "storage.copy", "one place only"),
    (
        "no room",
        lambda d: device(d, "hut")["storage"][0].update(free_gb=4),
        "storage.space",
        "4 GB free; the night takes 5.3 GB",
    ),
    (
        "too much current",
        lambda d: device(d, "main")["power"].update(peak_a=11),
        "power.supply",
        "feeds 11.0 A of its 10 A",
    ),
    ("battery too small", lambda d: d["supplies"][0].update(capacity_ah=15), "power.battery", "lasts 6.0 h"),
    (
        "settling under the noise",
        lambda d: d["guiding"]["settings"].update(settle_px=0.1),
        "guiding.settle",
        "tighter than the noise",
    ),
]


@pytest.mark.parametrize("plant, finding_id, words", [row[1:] for row in PLANTS], ids=[row[0] for row in PLANTS])
def test_each_planted_mistake_is_found(plant, finding_id, words):
    document = clean_document()
    plant(document)
    found = faults(computed_now(document))
    assert finding_id in found
    assert words in found[finding_id].title
    assert found[finding_id].remedy.text
    reported = {one.condition.key for one in computed_now(document).conditions if one.verdict is Verdict.FAILS}
    assert reported, "each mistake keeps the night from being ready"


def usb(tree, name):
    return next(one for one in tree if one["name"] == name)


PORT_PLANTS = [
    ("dropped off", lambda t: t.remove(usb(t, "1-1")), "ports.present", "Pellucid Petit is not on the bus", ""),
    (
        "may sleep",
        lambda t: usb(t, "2-1").update(control="auto"),
        "ports.suspend",
        "Pellucid Grand may be put to sleep",
        'ATTR{idVendor}=="3f2a", ATTR{idProduct}=="0261", TEST=="power/control", ATTR{power/control}="on"',
    ),
    (
        "slow link",
        lambda t: usb(t, "2-1").update(name="1-3", speed=480, version=" 2.10"),
        "ports.speed",
        "480 Mbit/s, on a link that is too slow",
        "5000 Mbit/s port",
    ),
    (
        "one slow hub",
        lambda t: (usb(t, "2-1").update(name="1-2.3", speed=480), usb(t, "1-1").update(name="1-2.4")),
        "ports.hub",
        "Pellucid Grand and Pellucid Petit share",
        "port of its own",
    ),
    # 190 MB/s × 80 % + 35 MB/s × 60 % = 173 MB/s
    (
        "too much traffic",
        lambda t: usb(t, "2-1").update(name="1-3", speed=480),
        "ports.traffic",
        "ask for 173 MB/s of 40 MB/s",
        "Limit the traffic of each to 21 %",
    ),
    (
        "starved hub",
        lambda t: (usb(t, "1-2").update(attributes="a0"), usb(t, "1-2.1").update(max_power=400)),
        "ports.power",
        "feeds 498 mA of 400 mA",
        "a supply of its own",
    ),
    (
        "one identity twice",
        lambda t: t.append({"name": "1-4", "vendor": "3f2a", "product_id": "0120", "serial": "PP-1", "speed": 480}),
        "ports.identity",
        "3f2a:0120 PP-1",
        "Identify them",
    ),
    ("closed node", lambda t: usb(t, "2-1").update(mode="600"), "ports.permission", "may not open its node", "uaccess"),
    (
        "serial port gone",
        lambda t: usb(t, "1-2.2").update(by_id="usb-Other-if00"),
        "ports.serial_name",
        "does not exist now",
        "usb-Other-if00",
    ),
]


@pytest.mark.parametrize(
    "plant, finding_id, words, remedy", [row[1:] for row in PORT_PLANTS], ids=[row[0] for row in PORT_PLANTS]
)
def test_each_fault_of_the_ports_is_found(plant, finding_id, words, remedy, tmp_path):
    tree = clean_tree()
    plant(tree)
    found = faults(computed_now(clean_document(), tree, tmp_path))
    assert finding_id in found
    assert words in found[finding_id].title
    assert remedy in found[finding_id].remedy.text


@pytest.mark.parametrize("memory, verdict", [(16, "fails"), (64, "tight"), (128, "holds"), (0, "holds")])
def test_the_kernels_usb_memory(memory, verdict, tmp_path):
    # 6000 × 4000 × 2 B = 45.8 MiB and 1280 × 960 × 2 B = 2.3 MiB: two of each want 96 MiB.
    evaluation = computed_now(clean_document(), clean_tree(), tmp_path, memory)
    assert evaluation.finding("ports.usbfs_memory").verdict == verdict


def test_a_numbered_port_is_mended_by_its_remedy(tmp_path):
    from wyntaxis.core.rig.edit import apply

    document = clean_document()
    device(document, "glide")["connection"]["port"] = "/dev/ttyUSB0"
    evaluation = computed_now(document, clean_tree(), tmp_path)
    corrected = apply(evaluation.rig, evaluation.finding("ports.serial_name").remedy.change)
    assert corrected.devices[3].connection.port == "/dev/serial/by-id/usb-Glide-if00"


def test_a_tree_is_read_as_it_is_and_nothing_beyond_it(tmp_path):
    root = make_tree(tmp_path / "root", clean_tree())
    tree = read_ports(root)
    assert read_ports(root / "sys") == type(tree)(str(root / "sys"), tree.devices, tree.serial, 16)
    camera = tree.named("2-1")
    assert (camera.usb_id, camera.speed_mbit, camera.version, camera.max_power_ma) == ("3f2a:0261", 5000, 3.2, 800)
    assert [hub.name for hub in tree.chain(tree.named("1-2.1"))] == ["1-2", "usb1"]
    assert [(depth, usb.name) for depth, usb in tree.in_order()][:3] == [(0, "usb1"), (1, "1-1"), (1, "1-2")]
    assert [(port.name, port.by_id, port.usb_name) for port in tree.serial] == [("ttyUSB0", "usb-Glide-if00", "1-2.2")]
    folder = root / "sys" / "devices" / "host2" / "2-1"
    (folder / "speed").write_bytes(b"\xff\xfe" + b"x" * 100_000)
    (folder / "serial").unlink()
    (folder / "serial").mkdir()
    (folder / "version").unlink()
    import os

    os.mkfifo(folder / "version")  # a pipe that nobody writes to must not hang the reader
    camera = read_ports(root).named("2-1")
    assert (camera.speed_mbit, camera.serial_number, camera.version) == (None, None, None)
    with pytest.raises(InputError, match="no USB bus"):
        read_ports(tmp_path / "nowhere")


@pytest.mark.parametrize("where", ["below its device", "in the tty class", "by its stable name alone"])
def test_serial_ports_are_found_however_the_tree_tells_them(tmp_path, where):
    tree = [one for one in clean_tree() if one["name"] != "1-2.2"]
    converter = {"name": "1-2.2", "vendor": "1a5e", "product_id": "7523"}
    root = make_tree(tmp_path / "root", [*tree, converter])
    sysfs = root / "sys"
    device = sysfs / "devices" / "host1" / "1-2.2"
    if where == "below its device":
        (device / "1-2.2:1.0" / "ttyUSB3").mkdir(parents=True)
    elif where == "in the tty class":
        (device / "odd" / "1-2.2:1.0" / "tty" / "ttyUSB3").mkdir(parents=True)
        (sysfs / "class" / "tty").mkdir(parents=True)
        (sysfs / "class" / "tty" / "ttyUSB3").symlink_to(device / "odd" / "1-2.2:1.0" / "tty" / "ttyUSB3")
    (root / "dev" / "serial" / "by-id").mkdir(parents=True)
    (root / "dev" / "serial" / "by-id" / "usb-Glide-if00").symlink_to("../../ttyUSB3")
    found = read_ports(root).serial
    owner = None if where == "by its stable name alone" else "1-2.2"
    assert [(port.name, port.by_id, port.usb_name) for port in found] == [("ttyUSB3", "usb-Glide-if00", owner)]


def test_a_usb_device_without_an_identity_is_unproven(tmp_path):
    document = clean_document()
    document["devices"].append({"id": "box", "kind": "power_box", "connection": {"kind": "usb"}})
    found = computed_now(document, clean_tree(), tmp_path).findings
    reported = next(f for f in found if f.id == "ports.present" and f.subject == "box")
    assert (reported.verdict, reported.title) == ("unproven", "box is on USB, but its vendor:product is not entered")


def test_devices_are_kept_and_refused_by_name():
    document = clean_document()
    rig = validated(document)
    assert parse(to_bytes(rig)) == rig
    cases = [
        (lambda d: d["devices"].append({"id": "main", "kind": "mount"}), 'devices[6].id: "main" is there twice'),
        (lambda d: device(d, "main")["power"].update(supply="sun"), 'names "sun", which is no supply'),
        (lambda d: device(d, "main")["settings"].update(gian={"value": 1}), "did you mean gain?"),
        (lambda d: device(d, "main")["settings"]["gain"].update(value="high"), "must be a plain number"),
        (lambda d: device(d, "main")["settings"]["gain"].update(value=float("nan")), "gain"),
        (lambda d: device(d, "cairn").update(slots=[{"name": "L"}]), '"slots" belongs to a filter_wheel'),
        (lambda d: device(d, "main")["identity"].update(usb_id="3F2A-1"), "vendor:product"),
        (lambda d: device(d, "main")["driver"].update(installed="last week"), "must be a date"),
    ]
    for change, words in cases:
        document = clean_document()
        change(document)
        with pytest.raises(InputError) as reported:
            validated(document)
        assert words in str(reported.value)
        assert "\n" not in str(reported.value)


def test_conditions_name_findings_that_exist_and_json_is_whole(tmp_path):
    assert {one.proves.condition for one in in_order() if one.proves is not None} == set(declared_conditions())
    rows = [one.as_json() for one in computed_now(clean_document(), clean_tree(), tmp_path).conditions]
    assert json.loads(json.dumps(rows)) == rows
    assert {row["verdict"] for row in rows} <= {"holds", "tight", "fails", "unproven"}


def plan(document, **changes):
    document["plan"] |= changes


UNPROVEN = [
    (
        "power",
        "the camera's power",
        lambda d: device(d, "main").pop("power"),
        "What Pellucid Grand draws is not entered",
    ),
    ("power", "the supply's rating", lambda d: d["supplies"][0].pop("rated_a"), "battery has no rating"),
    (
        "power",
        "a figure on the supply",
        lambda d: device(d, "glide").update(power={"supply": "battery"}),
        "Glide motor draws",
    ),
    ("storage", "planned frames", lambda d: d["plan"].pop("frames"), "the planned number of frames not entered"),
    ("storage", "free space", lambda d: device(d, "hut")["storage"][0].pop("free_gb"), "the free space of the disks"),
    ("mount", "the flip's margin", lambda d: device(d, "cairn")["settings"].pop("flip_margin_min"), "is not verified"),
    ("mount", "the flip at all", lambda d: plan(d, actions=["cool", "guide", "park"]), "the plan does not say whether"),
    ("focuser", "the position", lambda d: device(d, "glide")["settings"].pop("position"), "is not known"),
    (
        "focuser",
        "the step",
        lambda d: device(d, "glide")["settings"].pop("step_um"),
        "the focuser's step is not entered",
    ),
    ("drivers", "the driver's date", lambda d: device(d, "main")["driver"].pop("installed"), "when its driver was"),
    (
        "drivers",
        "when it was plugged in",
        lambda d: device(d, "main")["connection"].pop("plugged_in"),
        "when it was plugged",
    ),
    ("gain", "the gain on file", lambda d: [values(d, n).pop("main.gain") for n in (0, 1)], "no program's gain"),
    ("gain", "the offset on file", lambda d: values(d).pop("main.offset"), "no program's offset"),
    ("settings", "the site on file", lambda d: values(d).pop("site.latitude_deg"), "no program's site"),
    ("focal_length", "any record", lambda d: d.update(records=[]), "the rig has no program's record"),
    (
        "filters",
        "the order on file",
        lambda d: [values(d, n).pop("rondel.slots") for n in (0, 1)],
        "no program's",
    ),
    (
        "cooling",
        "a set temperature",
        lambda d: device(d, "main")["settings"].pop("set_temperature_c"),
        "no set temperature",
    ),
]


@pytest.mark.parametrize("key, lacks, take, words", UNPROVEN, ids=[row[1] for row in UNPROVEN])
def test_a_condition_without_one_of_its_proofs_is_unproven(tmp_path, key, lacks, take, words):
    document = clean_document()
    document["measured"] = {"pixel_scale_arcsec_px": {"value": 1.5658, "standard_uncertainty": 0.002}}
    sure = {one.condition.key: one for one in computed_now(document, clean_tree(), tmp_path).conditions}
    assert sure[key].verdict is Verdict.HOLDS, sure[key].why
    take(document)
    found = {one.condition.key: one for one in computed_now(document, clean_tree(), tmp_path / "again").conditions}[key]
    assert found.verdict is Verdict.UNPROVEN
    assert words in found.why


def test_an_alt_azimuth_mount_makes_no_flip(tmp_path):
    document = clean_document()
    document["mount"] = {"kind": "alt_azimuth"}
    found = faults(computed_now(document, clean_tree(), tmp_path))["plan.flip"]
    assert "does not make" in found.title
    corrected = edit.apply(validated(document), found.remedy.change)
    assert corrected.plan.actions == ("cool", "guide", "dither", "refocus", "park")
    stands = {one.condition.key: one for one in evaluate(corrected).conditions}
    assert all("flip" not in f.id for f in stands["mount"].findings)
    assert "flip" not in stands["mount"].why


def test_dithering_goes_through_the_mount_without_a_guide_camera(tmp_path):
    document = clean_document()
    document["devices"].remove(device(document, "guide"))
    document["guiding"] = {"kind": "none"}
    plan(document, actions=["dither"])
    found = computed_now(document).finding("plan.dither")
    assert found.verdict == "holds"
    assert "the mount itself dithers" in found.arithmetic[-1]
    document["devices"].remove(device(document, "cairn"))
    assert computed_now(document).finding("plan.dither").verdict == "fails"


LIMITS = [
    ("glide", {"backlash_steps": 500}, "focuser.backlash", "holds"),
    ("glide", {"backlash_steps": 501}, "focuser.backlash", "tight"),
    ("glide", {"backlash_steps": 1000}, "focuser.backlash", "tight"),
    ("glide", {"backlash_steps": 1001}, "focuser.backlash", "fails"),
    ("glide", {"backlash_steps": 8000}, "focuser.backlash", "fails"),
    ("glide", {"refocus_temperature_c": 5.0}, "focuser.triggers", "holds"),
    ("glide", {"refocus_temperature_c": 5.1}, "focuser.triggers", "fails"),
    ("glide", {"refocus_temperature_c": 20.0, "refocus_after_min": 90}, "focuser.triggers", "tight"),
    ("glide", {"refocus_after_min": 240}, "focuser.triggers", "holds"),
    ("glide", {"refocus_after_min": 600}, "focuser.triggers", "fails"),
    ("turner", {"lowest_deg": 0, "highest_deg": 180, "position_deg": 180}, "rotator.range", "holds"),
    ("turner", {"lowest_deg": 0, "highest_deg": 180, "position_deg": 300}, "rotator.range", "fails"),
]


@pytest.mark.parametrize("where, reported, finding_id, verdict", LIMITS)
def test_settings_that_no_rig_can_have(where, reported, finding_id, verdict):
    document = clean_document()
    document["devices"].append({"id": "turner", "kind": "rotator"})
    settings = device(document, where).setdefault("settings", {})
    settings |= {key: {"value": value} for key, value in reported.items()}
    assert computed_now(document).finding(finding_id).verdict == verdict


@pytest.mark.parametrize(
    "hours, frames, verdict",
    [
        (1, 24, "fails"),
        (2, 26, "fails"),
        (2, 25, "unproven"),
        (2, 24, "unproven"),
        (2, 21, "holds"),
        (2, 22, "unproven"),
    ],
)
def test_the_frames_must_fit_into_the_night(hours, frames, verdict):
    """24 × 300 s are 2.0 h; up to 90 % of the night they fit for certain, above 105 % never."""
    document = clean_document()
    plan(document, hours=hours, frames=frames)
    assert computed_now(document).finding("plan.night").verdict == verdict


@pytest.mark.parametrize(
    "plant",
    [
        lambda d: device(d, "main").update(name="Camera Simulator"),
        lambda d: device(d, "cairn").update(driver={"name": "dummy mount"}),
        lambda d: entries(d).append({"name": "CCD Simulator", "role": "camera"}),
    ],
)
def test_a_simulated_device_in_a_real_role_is_told(plant):
    document = clean_document()
    assert computed_now(document).finding("devices.simulated") is None
    plant(document)
    assert computed_now(document).finding("devices.simulated").verdict == "fails"


@pytest.mark.parametrize(
    "usb_version, speed, kind, verdict",
    [
        (" 2.00", 480, "camera", "tight"),
        (" 2.00", 12, "camera", "fails"),
        (" 2.00", 12, "guide_camera", "fails"),
        (" 2.00", 480, "guide_camera", "holds"),
        (" 2.10", 480, "guide_camera", "tight"),
        (" 1.10", 12, "guide_camera", "holds"),
        (" 3.20", 480, "camera", "fails"),
        (" 3.20", 481, "camera", "holds"),
        (" 3.20", 5000, "camera", "holds"),
    ],
)
def test_each_camera_is_judged_by_its_own_link(tmp_path, usb_version, speed, kind, verdict):
    document, tree = clean_document(), clean_tree()
    device(document, "main")["kind"] = kind
    usb(tree, "2-1").update(speed=speed, version=usb_version)
    document["devices"] = [device(document, "main")]
    assert computed_now(document, tree, tmp_path).finding("ports.speed").verdict == verdict


def test_a_camera_on_a_slow_link_of_its_own_asks_too_much(tmp_path):
    document, tree = clean_document(), clean_tree()
    usb(tree, "2-1").update(speed=12)
    found = faults(computed_now(document, tree, tmp_path))["ports.traffic"]
    assert "ask for 152 MB/s of 1 MB/s" in found.title


def test_a_link_into_nothing_is_no_device(tmp_path):
    root = make_tree(tmp_path / "root", clean_tree())
    (root / "sys" / "bus" / "usb" / "devices" / "1-9").symlink_to(tmp_path / "gone")
    assert "1-9" not in {usb.name for usb in read_ports(root).devices}


@pytest.mark.parametrize("free, verdict", [(7.92, "holds"), (7.919, "tight"), (5.28, "tight"), (5.279, "fails")])
def test_room_for_the_night_and_half_as_much_again(free, verdict):
    """100 frames × 48 MB × 1.1 = 5.28 GB; half as much again is 7.92 GB."""
    document = clean_document()
    device(document, "hut")["storage"][0]["free_gb"] = free
    assert computed_now(document).finding("storage.space").verdict == verdict


@pytest.mark.parametrize("speed, verdict", [(480, "fails"), (481, "holds")])
def test_a_hub_is_slow_up_to_480(tmp_path, speed, verdict):
    tree = clean_tree()
    usb(tree, "1-2").update(speed=speed)
    usb(tree, "2-1").update(name="1-2.3", speed=480)
    usb(tree, "1-1").update(name="1-2.4")
    assert computed_now(clean_document(), tree, tmp_path).finding("ports.hub").verdict == verdict


@pytest.mark.parametrize(
    "verdicts, stands",
    [
        ([], None),
        (["unproven", "unproven"], "unproven"),
        (["unproven", "holds"], "holds"),
        (["holds", "tight", "unproven"], "tight"),
        (["fails", "unproven", "holds"], "fails"),
    ],
)
def test_a_step_is_unproven_only_where_nothing_is_proven(verdicts, stands):
    bare = computed_now(clean_document())
    reported = tuple(Finding("ports.speed", Verdict(v), "main", "t", (), NO_REMEDY, "s") for v in verdicts)
    tally = next(t for t in tallies(replace(bare, findings=reported)) if t.step.key == "ports")
    assert tally.verdict == stands

"""A rig drafted from evidence: what each source told, what nobody did, what disagrees."""

import json
from dataclasses import replace

import pytest

from tests.core.evidence.test_headers import entries, header
from tests.rigs import clean_tree
from wyntaxis.cli import main
from wyntaxis.core.drafting.draft import Sources, draft, read_sources
from wyntaxis.core.drafting.rig_draft import commonest
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.evidence.foreign.keymap import KeyMap, KeyMaps, KeyRule
from wyntaxis.core.evidence.ports.tree import read_ports
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.marks import parse_path, value_at
from wyntaxis.core.rig.model import variant_rig
from wyntaxis.core.rig.store import document_of, validated
from wyntaxis.simulators.camera import SimulatedCamera
from wyntaxis.simulators.usb import make_tree

SHORT = {"TELESCOP": "Aldous 104", "SITELAT": 47.3, "SITELONG": 11.1, "APTDIA": None}


def sized(frames, width=6000, height=4000):
    """Headers as if read of frames of that size; the tests' headers have no axes."""
    read = entries(*frames)
    sizes = [(width // (frame.binning or 1), height // (frame.binning or 1)) for frame in read.frames]
    found = (replace(f, width_px=w, height_px=h) for f, (w, h) in zip(read.frames, sizes, strict=True))
    return replace(read, frames=tuple(found))


def frame(**changes):
    return header(**(SHORT | changes))


def drafted(*frames, **sources):
    return draft(Sources(headers=(sized(frames),), **sources))


def held(rig, quantity):
    return evaluate(rig).rows[quantity]


def test_what_frames_tell_is_taken_with_its_origin():
    found = drafted(frame(), frame(FILTER="R"), frame(IMAGETYP="DARK", FILTER=None, TELESCOP=None))
    rig = found.rig
    assert (rig.name, rig.telescope.name, rig.telescope.focal_length_mm) == (
        "Aldous 104, Pellucid Grand",
        "Aldous 104",
        513.8,
    )
    camera = rig.train[-1]
    assert (camera.name, camera.sensor.width_px, camera.sensor.height_px, camera.sensor.pixel_um) == (
        "Pellucid Grand",
        6000,
        4000,
        3.9,
    )
    device = rig.devices[0]
    assert {key: device.number(key) for key in ("gain", "offset", "set_temperature_c")} == {
        "gain": 100,
        "offset": 50,
        "set_temperature_c": -10,
    }
    assert [slot.name for slot in rig.devices[1].slots] == ["L", "R"]
    assert (rig.site.latitude_deg, rig.site.longitude_deg) == (47.3, 11.1)
    assert rig.origin["telescope.focal_length_mm"] == "FOCALLEN of 0.fits"
    assert rig.origin["devices[0].settings.gain.value"] == "GAIN of 0.fits"
    assert set(rig.assumed) == {"telescope.aperture_mm", "train[0].length_mm", "train[1].length_mm"}
    assert held(rig, "pixel_scale_arcsec_px").computed.value == pytest.approx(1.565654, abs=1e-5)
    assert held(rig, "focal_ratio").verdict is Verdict.UNPROVEN  # fmt: skip


def test_an_aperture_that_no_header_gives_is_assumed_and_one_that_is_given_is_taken():
    assert "telescope.aperture_mm" in drafted(frame()).rig.assumed
    found = drafted(frame(APTDIA=104)).rig
    assert "telescope.aperture_mm" not in found.assumed
    assert (found.telescope.aperture_mm, found.origin["telescope.aperture_mm"]) == (104, "APTDIA of 0.fits")
    bare = drafted(frame(FOCALLEN=None, XPIXSZ=None)).rig
    assert {"telescope.focal_length_mm", "train[0].sensor.pixel_um"} <= set(bare.assumed)
    assert held(bare, "pixel_scale_arcsec_px").verdict is Verdict.UNPROVEN


@pytest.mark.parametrize(
    "other, finding",
    [
        ({"FOCALLEN": 676.0}, "records.focal_length"),
        ({"XPIXSZ": 7.8}, "records.pixel"),
        ({"SITELAT": 40.0}, "records.site"),
    ],
)
def test_frames_that_disagree_are_told_by_a_finding_and_a_question(other, finding):
    found = drafted(frame(), frame(), frame(**other))
    assert evaluate(found.rig).finding(finding).verdict is Verdict.FAILS
    assert any("2 of 3 frames" in text for text in found.rig.origin.values())
    assert any(next(iter(other)) in question.text for question in found.questions)


def test_settings_that_change_are_taken_as_most_have_them_and_told():
    found = drafted(frame(GAIN=125), frame(GAIN=125), frame(GAIN=0))
    assert found.rig.devices[0].number("gain") == 125
    assert any(question.text == "GAIN: 125 is taken; the frames also hold 0 in 1" for question in found.questions)


@pytest.mark.parametrize("binnings, size, assumed", [((1, 2), 6000, False), ((2,), 6000, True)])
def test_binned_frames_tell_the_whole_sensor(binnings, size, assumed):
    found = drafted(*(frame(XBINNING=b, XPIXSZ=3.9 * b) for b in binnings))
    sensor = found.rig.sensor
    assert (sensor.width_px, sensor.pixel_um) == (size, pytest.approx(3.9))
    assert any(path.endswith("sensor.pixel_um") for path in found.rig.assumed) == assumed


def test_values_that_are_one_are_counted_as_one():
    reported_values = [(3.9, "a"), (3.90001, "b"), (3.90001, "c"), (7.8, "d"), ("Lum", "e"), ("lum", "f")]
    assert commonest(reported_values) == [(3.90001, 3, "b"), ("Lum", 2, "e"), (7.8, 1, "d")]
    many = [(float(step), "x") for step in range(20_000)]
    assert len(commonest(many)) > 9_000  # in a moment: positions differ from frame to frame


def test_another_telescope_or_camera_becomes_a_variant():
    more = [frame(TELESCOP="Meadow 203", INSTRUME="Pellucid Vast", FOCALLEN=792.0, XPIXSZ=3.3) for _ in range(2)]
    found = drafted(*(frame() for _ in range(3)), *more)
    other = variant_rig(found.rig, "Meadow 203, Pellucid Vast")
    assert (other.telescope.name, other.telescope.focal_length_mm, other.sensor.pixel_um) == ("Meadow 203", 792, 3.3)
    assert {"telescope.aperture_mm", "train[0].length_mm"} <= set(other.assumed)
    assert any("that is a variant here" in question.text for question in found.questions)
    assert found.rig.telescope.name == "Aldous 104"


@pytest.mark.parametrize(
    "card, value",
    [("FOCALLEN", 1e9), ("FOCALLEN", -5.0), ("XPIXSZ", -1.0), ("GAIN", -5), ("SITELAT", 95.0), ("SET_TEMP", 900.0)],
)
def test_what_no_rig_can_hold_is_left_out_and_told(card, value):
    found = drafted(frame(**{card: value}), frame(**{card: value}))
    assert found.rig.train
    if card != "SITELAT":
        assert any(question.text.startswith(card.replace("_", "-")) for question in found.questions)
    assert not any(words.startswith(card.replace("_", "-")) for words in found.rig.origin.values())


def test_foreign_names_are_taken_as_text():
    read = sized([frame(TELESCOP="A<b>", INSTRUME="C &")])
    odd = replace(
        read,
        frames=(
            replace(read.frames[0], path="b\udcff\x1b.fits", camera="Cam\x07era", filter="R\u202e"),
            read.frames[0],
        ),
    )
    rig = draft(Sources(headers=(odd,))).rig
    json.dumps(rig.model_dump(mode="json")).encode("utf-8")
    assert all(words.isprintable() for words in rig.origin.values())
    assert rig.train


def test_ports_give_devices_with_identity_and_stable_port(tmp_path):
    models = {"1-1": "Petit", "2-1": "Grand"}
    listed = [
        usb | ({"maker": "Pellucid", "model": models[usb["name"]]} if usb["name"] in models else {})
        for usb in clean_tree()
    ]
    tree = read_ports(make_tree(tmp_path, listed))
    rig = draft(Sources(ports=tree), drafted(frame()).rig).rig
    camera = rig.devices[0]
    assert (camera.identity.usb_id, camera.identity.serial_number) == ("3f2a:0261", "PG-1")
    guide = next(device for device in rig.devices if device.kind == "guide_camera")
    assert guide.identity.usb_id == "3f2a:0120"
    hubs = {device.id for device in rig.devices if device.kind == "hub"}
    assert guide.connection.hub in {*hubs, None}
    alone = draft(Sources(ports=tree))
    asked = alone.questions
    kinds = {device.identity.usb_id: device.kind for device in alone.rig.devices}
    assert kinds["3f2a:0261"] == kinds["1a5e:7523"] == "other"
    assert alone.rig.assumed[-1].endswith(".kind")
    serial = next(d for d in alone.rig.devices if d.connection is not None and d.connection.kind == "serial")
    assert serial.connection.port == "/dev/serial/by-id/usb-Glide-if00"
    then = draft(Sources(headers=(sized([frame()]),)), alone.rig).rig
    camera = next(device for device in then.devices if device.kind == "camera")
    assert (camera.identity.usb_id, camera.part, camera.number("gain")) == ("3f2a:0261", "camera", 100)
    assert any("usb-Glide" in question.text and "which device is it?" in question.text for question in asked)


def test_a_programs_file_fills_what_frames_left_open_and_is_held_against_the_rest(tmp_path):
    path = tmp_path / "profile.json"
    path.write_text(json.dumps({"optics": {"focal": 676, "aperture": 104}, "gain": 99}), "utf-8")
    rules = [
        ("optics.focal", "effective_focal_length_mm"),
        ("optics.aperture", "aperture_mm"),
        ("gain", "main_camera.gain"),
    ]
    made = KeyMap(name="capture program", form="json", rules=tuple(KeyRule(path=p, quantity=q) for p, q in rules))
    maps = KeyMaps(format="wyntaxis-key-maps", version=1, maps=(made,))
    other = tmp_path / "other.json"
    other.write_text('{"nothing": 1}', "utf-8")
    found = draft(Sources((sized([frame()]),), None, (path, other), maps))
    assert found.rig.telescope.aperture_mm == 104
    assert found.rig.origin["telescope.aperture_mm"] == "capture program: profile.json"
    assert "telescope.aperture_mm" not in found.rig.assumed
    evaluation = evaluate(found.rig)
    assert [evaluation.finding(f"records.{key}").verdict for key in ("focal_length", "gain")] == [Verdict.FAILS] * 2
    assert [entry.file for entry in found.not_used] == ["other.json"]


def test_what_was_given_before_stays_and_the_rest_is_filled():
    first = drafted(frame()).rig
    typed = edit.apply(first, Change.of("x", ("telescope", "aperture_mm"), 100.0))  # the assumed value itself
    again = draft(Sources(headers=(sized([frame(APTDIA=104, FOCALLEN=514.2)]),)), typed)
    assert (again.rig.telescope.aperture_mm, again.rig.telescope.focal_length_mm) == (100, 513.8)
    assert any("APTDIA" in question.text for question in again.questions)
    assert len(again.rig.train) == len(first.train)


def test_the_command_writes_a_rig_and_no_other(tmp_path, capsys, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    camera, frames = SimulatedCamera(width=60, height=40), tmp_path / "frames"
    camera.write(frames / "a.fits", 1, "light", exposure_s=240.0, gain=125.0, filter="L")
    camera.write(frames / "b.fits", 2, "light", exposure_s=240.0, gain=125.0, filter="R")
    (frames / "broken.fits").write_bytes(b"SIMPLE  =")
    out = tmp_path / "new.rig.json"
    tree = make_tree(tmp_path / "root", clean_tree())
    assert main(["draft", str(frames), "--sysfs", str(tree), "--out", str(out), "--json"]) == 0
    printed = json.loads(capsys.readouterr().out)
    assert "telescope.aperture_mm" in printed["assumed"]
    assert {"path": "train[1].sensor.width_px", "value": 60, "origin": "NAXIS1 of a.fits"} in printed["taken"]
    slots = [entry["value"] for entry in printed["taken"] if ".slots[" in entry["path"]]
    assert {"L", "R"} <= set(slots), "slots are told by name"
    assert [entry["file"] for entry in printed["not_used"]] == ["broken.fits"]
    assert main(["check", str(out)]) in (0, 1)
    capsys.readouterr()
    before = out.read_bytes()
    assert main(["draft", str(frames), "--out", str(out)]) == 2
    assert "is there already" in capsys.readouterr().err
    assert out.read_bytes() == before
    assert main(["draft", "--out", str(tmp_path / "x.rig.json")]) == 2
    assert main(["draft", str(frames / "a.fits"), "--out", str(tmp_path / "y.rig.json")]) == 0
    assert "not given yet" in capsys.readouterr().out
    assert read_sources([frames / "a.fits"], None, KeyMaps(format="wyntaxis-key-maps", version=1)).headers[0].frames


@pytest.mark.parametrize(
    ("cards", "sensor", "asked"),
    [
        ({}, (6000, 4000), None),
        ({"XORGSUBF": 0, "YORGSUBF": 0, "LTV1": 0.0}, (6000, 4000), None),
        ({"XORGSUBF": 100}, None, "cut out of more by its XORGSUBF"),
        ({"YORGSUBF": 7}, None, "cut out of more by its YORGSUBF"),
        ({"CNPIX2": 4100}, None, "cut out of more by its CNPIX2"),
        ({"LTV1": 0.25}, (6000, 4000), None),
        ({"LTV1": -56.0}, None, "cut out of more by its LTV1"),
        ({"HISTORY": "Cropped to 6000x4000"}, None, "cut out of more by its HISTORY"),
        ({"HISTORY": "microprocessor acropolis"}, (6000, 4000), None),
        ({"DETSIZE": "[1:9576,1:6388]"}, (9576, 6388), None),
        ({"DETSIZE": "[1:6000,1:4000]", "XORGSUBF": 0}, (6000, 4000), None),
        ({"TRIMSEC": "[25:5984,1:4000]"}, (5960, 4000), None),
        ({"DATASEC": "[1:6000,11:4000]"}, (6000, 3990), None),
        ({"TRIMSEC": "all of it"}, (6000, 4000), None),
    ],
)  # fmt: skip
def test_what_was_cut_out_of_a_sensor_is_not_taken_for_it(cards, sensor, asked):
    found = drafted(frame(NAXIS1=6000, NAXIS2=4000, **cards))
    own = found.rig.train[-1].sensor
    path = f"train[{len(found.rig.train) - 1}].sensor"
    assumed = f"{path}.width_px" in found.rig.assumed, f"{path}.height_px" in found.rig.assumed
    assert assumed == ((True, True) if sensor is None else (False, False))
    if sensor is not None:
        assert (own.width_px, own.height_px) == sensor
    told = [question.text for question in found.questions if "how many px" in question.text]
    assert (asked is None and not told) or asked in told[0]


def test_the_detector_of_a_binned_frame_is_counted_once():
    """3000 × 2000 px at binning 2 are the whole of 6000 × 4000 px, and half of 12000 × 4000 px."""
    for detector, sensor in (("[1:6000,1:4000]", (6000, 4000)), ("[1:12000,1:4000]", (12000, 4000))):
        found = drafted(frame(NAXIS1=3000, NAXIS2=2000, XBINNING=2, YBINNING=2, DETSIZE=detector))
        own = found.rig.train[-1].sensor
        assert (own.width_px, own.height_px) == sensor


def test_one_whole_frame_beside_cut_ones_tells_the_sensor():
    cut = sized([frame(XORGSUBF=5)] * 3, 9000, 9000)
    found = draft(Sources(headers=(replace(cut, frames=(*cut.frames, *sized([frame()]).frames)),)))
    own = found.rig.train[-1].sensor
    assert (own.width_px, own.height_px) == (6000, 4000)


def test_nothing_readable_makes_no_rig(tmp_path, capsys):
    (tmp_path / "broken.fits").write_bytes(b"SIMPLE  =")
    out = tmp_path / "new.rig.json"
    assert main(["draft", str(tmp_path / "broken.fits"), "--out", str(out)]) == 2
    said = capsys.readouterr().err
    assert "no value of a rig was found: broken.fits: is no readable FITS file" in said
    assert not out.exists()


SOLVED = {"CTYPE1": "RA---TAN", "CTYPE2": "DEC--TAN", "CD1_1": -1.565654 / 3600, "CD2_2": 1.565654 / 3600}
"""What 3.9 µm behind 513.8 mm make."""


def solved(**cards):
    found = frame(**{key: value for key, value in cards.items() if key not in SOLVED})
    found.update({key: value for key, value in cards.items() if key in SOLVED})
    return found


@pytest.mark.parametrize(
    ("cards", "path", "value", "question"),
    [
        ({"FOCALLEN": 0.676}, "telescope.focal_length_mm", 676, "676 mm is assumed, as if it were in m"),
        ({"FOCALLEN": 67.6}, "telescope.focal_length_mm", 67.6, "67.6 mm is assumed, or 676 mm if it is in cm"),
        ({"FOCALLEN": 67.6, "APTDIA": 104}, "telescope.focal_length_mm", 676, "as if it were in cm"),
        ({"FOCALLEN": 51.38, **SOLVED}, "telescope.focal_length_mm", 513.8, "513.8 mm is assumed, as if it were in cm"),
        ({"XPIXSZ": 0.0039}, "train[0].sensor.pixel_um", 3.9, "3.9 µm is assumed, as if it were in mm"),
        ({"XPIXSZ": 3900}, "train[0].sensor.pixel_um", 3.9, "3.9 µm is assumed, as if it were in nm"),
    ],
)
def test_a_value_in_another_unit_is_assumed_and_asked(cards, path, value, question):
    found = drafted(solved(**cards), solved(**cards)) if "CD1_1" in cards else drafted(frame(**cards), frame(**cards))
    assert path in found.rig.assumed
    assert path not in found.rig.origin
    assert value_at(found.rig, parse_path(path)) == pytest.approx(value)
    assert [entry.path for entry in found.questions if question in entry.text] == [path]
    assert held(found.rig, "pixel_scale_arcsec_px").verdict is Verdict.UNPROVEN


@pytest.mark.parametrize(("focal", "entries"), [(513.8, False), (520.0, False), (530.0, True), (676.0, True)])
def test_solved_frames_of_another_scale_than_their_focal_length_are_asked(focal, entries):
    found = drafted(solved(FOCALLEN=focal, **SOLVED), solved(FOCALLEN=focal, **SOLVED))
    assert any("the solved frames’ scale makes 513.8 mm" in question.text for question in found.questions) is entries
    assert any(record.id == "frames" for record in found.rig.records) is entries


def test_a_short_lens_that_solved_frames_bear_out_is_taken():
    scale = 206.264806 * 3.9 / 50 / 3600
    cards = SOLVED | {"CD1_1": -scale, "CD2_2": scale, "FOCALLEN": 50.0}
    found = drafted(solved(**cards))
    assert found.rig.origin["telescope.focal_length_mm"] == "FOCALLEN of 0.fits"


@pytest.mark.parametrize("first", [True, False])
def test_guide_frames_that_are_called_lights_are_no_main_camera(first):
    lights = [frame(EXPTIME=240.0) for _ in range(8)]
    guides = [frame(INSTRUME="Pellucid Mite", FILTER=None, EXPTIME=2.0, XPIXSZ=2.9) for _ in range(60)]
    found = drafted(*(guides + lights if first else lights + guides))
    assert found.rig.devices[0].name == "Pellucid Grand"
    assert [(d.name, d.kind) for d in found.rig.devices if d.kind == "guide_camera"] == [
        ("Pellucid Mite", "guide_camera")
    ]
    assert found.rig.devices[0].number("gain") == 100
    assert not found.rig.variants
    assert any("60 frames such as" in question.text for question in found.questions)


def test_frames_of_a_guide_camera_alone_are_a_rig_of_its_own():
    found = drafted(*(frame(FILTER=None, EXPTIME=2.0) for _ in range(5)))
    assert found.rig.devices[0].kind == "camera"


def test_filters_by_two_of_their_names_are_one_slot():
    found = drafted(*(frame(FILTER=name) for name in ("Lum", "H-alpha", "L", "Ha", "Lum", "ha", "OIII")))
    wheel = next(device for device in found.rig.devices if device.kind == "filter_wheel")
    assert [slot.name for slot in wheel.slots] == ["Lum", "H-alpha", "OIII"]


@pytest.mark.parametrize("suffix", [" (mode 1)", " [Readout 2]", " (16 bit)"])
def test_a_cameras_mode_makes_no_variant(suffix):
    found = drafted(frame(), frame(INSTRUME=f"Pellucid Grand{suffix}"), frame())
    assert not found.rig.variants
    assert found.rig.sensor.pixel_um == 3.9


@pytest.mark.parametrize(("place", "entries"), [((0.0, 0.0), False), ((0.0, 11.1), True), ((47.3, 0.0), True)])
def test_a_site_that_was_never_set_is_left_out(place, entries):
    found = drafted(frame(SITELAT=place[0], SITELONG=place[1]))
    assert (found.rig.site is not None) is entries
    assert any("both 0" in question.text for question in found.questions) is not entries


@pytest.mark.parametrize(
    ("cards", "gain"),
    [
        ({"GAIN": 0.25, "EGAIN": 0.25}, None),
        ({"GAIN": (1, "[e-/ADU] conversion")}, None),
        ({"GAIN": (120, "electrons per ADU x 100")}, None),
        ({"GAIN": 0.775}, None),
        ({"GAIN": 12.5}, 12.5),
        ({"GAIN": (120, "setting of the sensor")}, 120),
    ],
)
def test_a_gain_in_electrons_is_no_setting(cards, gain):
    found = drafted(frame(**cards), frame(**cards))
    setting = found.rig.devices[0].settings.get("gain")
    assert (setting.value if setting else None) == gain


def test_what_lacks_something_else_first_keeps_its_own_remedy():
    """Without a corrector no assumed value settles the spacing: the remedy says what is missing."""
    rig = drafted(frame(), frame(FILTER="R")).rig
    marked = validated(document_of(rig) | {"assumed": [*rig.assumed, "devices[0].kind", "devices[1].kind"]})
    own = next(f for f in evaluate(marked).findings if f.title.startswith("No corrector states a required distance"))
    assert own.verdict is Verdict.UNPROVEN
    assert " as assumed" not in own.title
    assert not own.remedy.text.startswith("enter Pellucid")

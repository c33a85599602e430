"""Raw frames of camera bodies, written as DNG by the simulator: their metadata, their pixels, the bench."""

import json

import numpy as np
import pytest

from wyntaxis import cli, demo
from wyntaxis.core.evidence.headers.folder import find_frames, read_folder
from wyntaxis.core.evidence.headers.partners import group_frames, missing_calibration
from wyntaxis.core.evidence.sensor.strips import open_frame
from wyntaxis.core.evidence.stars.frame_stars import read_stars
from wyntaxis.core.files import camera_raw
from wyntaxis.core.files.errors import InputError
from wyntaxis.simulators.camera import SimulatedCamera
from wyntaxis.simulators.raw_frames import write_dng

CODES = np.arange(64 * 96, dtype=np.uint16).reshape(64, 96) + 500


@pytest.fixture
def without_library(monkeypatch):
    camera_raw.can_read.cache_clear()
    monkeypatch.setattr("importlib.util.find_spec", lambda _name: None)
    yield
    camera_raw.can_read.cache_clear()


@pytest.mark.parametrize("mosaic", ["RGGB", "GBRG", "BGGR", "GRBG"])
def test_what_a_body_says_of_its_frame(tmp_path, mosaic):
    write_dng(tmp_path / "a.dng", CODES, iso=800, exposure_s=0.5, model="Body", mosaic=mosaic, air_c=-3.5)
    facts = camera_raw.facts_of(tmp_path / "a.dng")
    assert facts == camera_raw.RawFacts(96, 64, mosaic, 800, 0.5, "Body", "2026-02-10T21:14:05", -3.5)


def test_pixels_are_what_the_body_read_out_strip_by_strip(tmp_path):
    write_dng(tmp_path / "a.dng", CODES)
    with open_frame(tmp_path / "a.dng") as frame:
        assert (frame.width, frame.height) == (96, 64)
        assert (frame.rows(10, 20) == CODES[10:20]).all()
        assert (frame.plane((0, 1)).rows(0, 4) == CODES[0:8:2, 1::2]).all()


@pytest.mark.parametrize(
    ("name", "kind"),
    [
        ("IMG_0007.dng", "light"),
        ("darks/IMG_0007.dng", "dark"),
        ("dark/flat_0007.dng", "flat"),
        ("lights/night/IMG_1.dng", "light"),
        ("Bias/IMG_1.dng", "bias"),
        ("biases/IMG_1.dng", "bias"),
        ("flathead/IMG_1.dng", "light"),
    ],
)
def test_names_tell_the_kind_that_no_body_knows(tmp_path, name, kind):
    write_dng(tmp_path / name, CODES)
    (frame,) = read_folder(tmp_path).frames
    assert (frame.path, frame.kind, frame.gain, frame.camera, frame.exposure_s) == (
        name,
        kind,
        1600,
        "Hollow Body 7",
        60,
    )


def test_partners_of_raw_lights_are_found_by_iso_and_exposure(tmp_path):
    for name, iso, exposure in (("lights/a", 800, 120), ("darks/b", 800, 120), ("lights/c", 1600, 120)):
        write_dng(tmp_path / f"{name}.dng", CODES, iso=iso, exposure_s=exposure)
    headers = read_folder(tmp_path)
    missing = missing_calibration(group_frames(headers.frames, headers.names), headers.names)
    assert {entry.lights.gain for entry in missing if entry.kind == "dark"} == {1600}


def test_without_the_library_it_is_said_how_to_get_it(tmp_path, without_library):
    write_dng(tmp_path / "a.dng", CODES)
    with pytest.raises(InputError, match=r"1 camera-raw files are there.*wyntaxis\[raw\]"):
        find_frames(tmp_path)
    with pytest.raises(InputError, match=r"library that reads those is missing.*pip install"):
        camera_raw.facts_of(tmp_path / "a.dng")


BROKEN = (b"", b"II*\0", b"II*\0\xff\xff\xff\x7f", b"no raw frame", b"MM\0*\0\0\0\x08\0\x01" + b"\1" * 40)


@pytest.mark.parametrize("broken", BROKEN)
def test_a_broken_raw_frame_is_one_line(tmp_path, broken):
    (tmp_path / "a.dng").write_bytes(broken)
    with pytest.raises(InputError, match="is no readable raw frame"):
        camera_raw.facts_of(tmp_path / "a.dng")
    assert len(read_folder(tmp_path).broken) == 1


@pytest.mark.parametrize("cut", [*range(20, 600, 53), 6000, -1])
def test_of_a_raw_frame_that_is_cut_short_no_pixel_is_taken(tmp_path, cut, capfd):
    write_dng(tmp_path / "a.dng", CODES)
    (tmp_path / "a.dng").write_bytes((tmp_path / "a.dng").read_bytes()[:cut])
    with pytest.raises(InputError), open_frame(tmp_path / "a.dng") as frame:
        frame.rows(0, 1)
    assert len(read_folder(tmp_path).broken) == 1
    assert capfd.readouterr().err == ""


def test_the_bench_measures_a_colour_body_plane_by_plane(tmp_path, capsys):
    camera = SimulatedCamera(color=True, gain_e_adu=2.4, bits=14, width=240, height=160, hot_share=0, pattern=0.005)
    shots = [("bias", 0.0, 0.001, 6)] + [("flats", level, 1.0, 2) for level in (800, 2500, 5000, 9000, 14000, 20000)]
    number = 0
    for kind, light, exposure, count in shots:
        for _ in range(count):
            number += 1
            codes = camera.frame(number, light_e_s=light, exposure_s=exposure, offset=60, temperature_c=10)
            write_dng(tmp_path / kind / f"{number:03}.dng", codes, iso=400, exposure_s=exposure + light * 1e-7)
    assert cli.main(["sensor", str(demo.rig_path("meadow-newtonian")), str(tmp_path), "--json"]) == 0
    entries = json.loads(capsys.readouterr().out)
    gains = [entry["conversion_gain_e_adu"]["value"] for entry in entries["gains"]]
    assert gains
    for gain in gains:
        assert gain == pytest.approx(2.4, rel=0.05)


def test_stars_of_a_raw_frame_are_measured_behind_its_mosaic(tmp_path):
    y, x = np.mgrid[0:200, 0:300]
    codes = np.full((200, 300), 600.0)
    places = [(60.0, 50.0), (150.0, 100.0), (240.0, 150.0), (60.0, 150.0), (240.0, 40.0)]
    for left, top in places:
        codes += 9000 * np.exp(-((x - left) ** 2 + (y - top) ** 2) / (2 * 3.0**2))
    noisy = np.random.default_rng(3).normal(codes, 12).clip(0, 16383).astype(np.uint16)
    write_dng(tmp_path / "a.dng", noisy)
    found = read_stars(tmp_path / "a.dng", mosaic=True)
    assert found.shapes.x.size == len(places)
    assert np.median(found.shapes.fwhm) == pytest.approx(3.0 * 2.3548, rel=0.08)

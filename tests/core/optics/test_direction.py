"""Directions in a picture: all combinations of angle, mirror and row order by hand, and against astropy's own WCS."""

import json
import math
import warnings

import numpy as np
import pytest
from astropy.io import fits
from astropy.wcs import WCS

from tests.rigs import clean_document
from wyntaxis.cli import main
from wyntaxis.core.optics.direction import AltAzDirections, PictureDirections

# By hand. Top of the picture toward north (0), east (90), south (180), west (270); as the sky is seen east lies to the
# left of north. The telescope moves toward what lies on the other side of where the target is to go.
BY_HAND = [
    # angle, mirrored, north, east, left, right, up, down
    (0, False, 90, 180, "W", "E", "S", "N"),
    (90, False, 0, 90, "N", "S", "W", "E"),
    (180, False, 270, 0, "E", "W", "N", "S"),
    (270, False, 180, 270, "S", "N", "E", "W"),
    (0, True, 90, 0, "E", "W", "S", "N"),
    (90, True, 180, 90, "S", "N", "W", "E"),
    (180, True, 270, 180, "W", "E", "N", "S"),
    (270, True, 0, 270, "N", "S", "E", "W"),
]


@pytest.mark.parametrize("beside", [0, 20, -20, 44])
@pytest.mark.parametrize("row", BY_HAND)
def test_every_quadrant_by_hand(row, beside):
    angle, mirrored, north, east, left, right, up, down = row
    found = PictureDirections(angle + beside, mirrored)
    turned = beside if mirrored else -beside
    assert found.north_deg == pytest.approx((north + turned) % 360)
    assert found.east_deg == pytest.approx((east + turned) % 360)
    assert [found.move(side) for side in ("left", "right", "up", "down")] == [left, right, up, down]
    assert found.off_axis_deg("left") == pytest.approx(abs(beside))
    # Shown with the first row on top: up and down change, left and right stay.
    shown = found.seen_from_top()
    assert [shown.move(side) for side in ("left", "right", "up", "down")] == [left, right, down, up]
    assert shown.north_deg == pytest.approx(-found.north_deg % 360)


@pytest.mark.parametrize(
    ("angle", "planned", "turn", "words"),
    [
        (20, 65, 45, "by 45.0° counter-clockwise"),
        (350, 20, 30, "by 30.0° counter-clockwise"),
        (20, 350, -30, "by 30.0° clockwise"),
        (10, 200, -170, "by 10.0° counter-clockwise"),  # the picture upside down is nearer
        (30, 30, 0, "leave the camera"),
        (30, 210, 180, "leave the camera"),
    ],
)
def test_the_camera_is_turned_the_short_way(angle, planned, turn, words):
    found = PictureDirections(angle, mirrored=False)
    assert found.turn_to(planned) == pytest.approx(turn)
    assert words in found.turn_words(planned).split(", or")[0]
    swapped = (
        words.replace("counter-clockwise", "?").replace("clockwise", "counter-clockwise").replace("?", "clockwise")
    )
    assert swapped in PictureDirections(angle, mirrored=True).turn_words(planned).split(", or")[0]


@pytest.mark.parametrize("side", ["left", "right", "up", "down"])
def test_an_alt_azimuth_mount_moves_by_the_zenith(side):
    # On the meridian in the south north is the zenith: up in a picture with north up; azimuth grows to the west, right.
    south = AltAzDirections(PictureDirections(0.0, mirrored=False), 0.0)
    assert south.zenith_deg == 90
    assert south.move(side) == {"left": "right", "right": "left", "up": "down", "down": "up"}[side]
    mirrored = AltAzDirections(PictureDirections(0.0, mirrored=True), 0.0)
    assert mirrored.move(side) == {"left": "left", "right": "right", "up": "down", "down": "up"}[side]
    # With the zenith to the left (parallactic angle 90): to move the target left one goes toward the horizon.
    east = AltAzDirections(PictureDirections(0.0, mirrored=False), 90.0)
    assert east.zenith_deg == 180
    assert east.move(side) == {"left": "down", "right": "up", "up": "left", "down": "right"}[side]


def solved(path, angle, *, mirrored=False, rows=None):
    """A frame whose WCS is made by rotating the axes, not by our formulas: CD = scale · flip · rotation."""
    turn, scale = math.radians(angle), 1.5 / 3600
    rotation = np.array([[math.cos(turn), -math.sin(turn)], [math.sin(turn), math.cos(turn)]])
    cd = scale * rotation @ np.diag([1.0 if mirrored else -1.0, 1.0])
    header = fits.Header()
    header["CTYPE1"], header["CTYPE2"] = "RA---TAN", "DEC--TAN"
    header["CRVAL1"], header["CRVAL2"], header["CRPIX1"], header["CRPIX2"] = 50.0, 30.0, 51.0, 41.0
    header["CD1_1"], header["CD1_2"], header["CD2_1"], header["CD2_2"] = cd.ravel()
    header["DATE-OBS"] = "2026-11-26T22:00:00"
    if rows:
        header["ROWORDER"] = rows
    fits.PrimaryHDU(np.zeros((81, 101), np.uint16), header).writeto(path)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        return WCS(header)


def run(tmp_path, capsys, frame, *more, **rig):
    path = tmp_path / "a.rig.json"
    path.write_text(json.dumps(clean_document() | rig), "utf-8")
    assert main(["direction", str(path), str(frame), *more, "--json"]) == 0
    return json.loads(capsys.readouterr().out)


@pytest.mark.parametrize("mirrored", [False, True])
@pytest.mark.parametrize("angle", [0.0, 33.0, 90.0, 147.0, 201.0, 270.0, 315.0])
def test_a_solved_frame_against_where_its_wcs_puts_a_moved_star(tmp_path, capsys, angle, mirrored):
    wcs = solved(tmp_path / "f.fits", angle, mirrored=mirrored)
    told = run(tmp_path, capsys, tmp_path / "f.fits", "--angle", "0")
    assert told["mirrored"] is mirrored
    x0, y0 = 50.0, 40.0
    for key, (da, dd) in (("north_deg", (0.0, 0.005)), ("east_deg", (0.005 / math.cos(math.radians(30)), 0.0))):
        x, y = wcs.all_world2pix([[50.0 + da, 30.0 + dd]], 0)[0]
        seen = math.degrees(math.atan2(y - y0, x - x0)) % 360
        assert abs((told[key] - seen + 180) % 360 - 180) < 0.1
    # The telescope moves as it is told: the target, which stays in the sky, goes to that side of the picture.
    step = {
        "N": (0, 0.01),
        "S": (0, -0.01),
        "E": (0.01 / math.cos(math.radians(30)), 0),
        "W": (-0.01 / math.cos(math.radians(30)), 0),
    }
    for side, toward in (("left", (-1, 0)), ("right", (1, 0)), ("up", (0, 1)), ("down", (0, -1))):
        da, dd = step[told["move"][side]]
        x, y = wcs.all_world2pix([[50.0 - da, 30.0 - dd]], 0)[0]  # as if the picture's middle had moved by (da, dd)
        along = ((x - x0) * toward[0] + (y - y0) * toward[1]) / math.hypot(x - x0, y - y0)
        assert along > math.cos(math.radians(46))
    assert (told["turn_camera_deg"] + told["angle_deg"]) % 360 == pytest.approx(0, abs=1e-3) or told[
        "turn_camera_deg"
    ] + told["angle_deg"] == pytest.approx(360, abs=1e-3)


def test_row_order_the_plan_and_the_mount_count(tmp_path, capsys):
    solved(tmp_path / "a.fits", 0.0)
    solved(tmp_path / "b.fits", 0.0, rows="TOP-DOWN")
    framing = {"framing": {"ra_deg": 50, "dec_deg": 30, "position_angle_deg": 30}}
    plain = run(tmp_path, capsys, tmp_path / "a.fits", **framing)
    assert plain["turn_camera_deg"] == pytest.approx(30, abs=0.01)
    assert plain["first_row"] == "bottom"
    shown = run(tmp_path, capsys, tmp_path / "b.fits", **framing)
    assert (shown["first_row"], shown["mirrored"]) == ("top", True)
    assert (plain["move"]["up"], shown["move"]["up"]) == ("S", "N")
    assert plain["move_altaz"] is None
    fork = run(tmp_path, capsys, tmp_path / "a.fits", mount={"kind": "alt_azimuth"})
    assert set(fork["move_altaz"]) == {"left", "right", "up", "down"}
    assert run(tmp_path, capsys, tmp_path / "a.fits")["turn_camera_deg"] is None, "no angle is planned"
    fits.PrimaryHDU(np.zeros((9, 9), np.uint16)).writeto(tmp_path / "c.fits")
    assert main(["direction", str(tmp_path / "a.rig.json"), str(tmp_path / "c.fits")]) == 2
    assert "solve the frame first" in capsys.readouterr().err

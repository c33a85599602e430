"""The sky: coordinates, projection against astropy.wcs, footprints, panels, objects, the horizon and the night."""

import datetime
import math
from dataclasses import replace

import numpy as np
import pytest
from astropy.wcs import WCS
from hypothesis import given
from hypothesis import strategies as st

from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.quantities.fields import footprint, optics_of
from wyntaxis.core.rig.plan import Site
from wyntaxis.core.rig.store import validated
from wyntaxis.core.sky import horizon
from wyntaxis.core.sky.coordinates import coordinates_text, parse_coordinates, separation_deg
from wyntaxis.core.sky.footprint import Field, Footprint, Optics, angle_caveat, corners_csv, mosaic, stc_s
from wyntaxis.core.sky.gnomonic import clip_to_convex, signed_area, to_plane, to_sky, turned
from wyntaxis.core.sky.horizon import horizon_altitude, parse_horizon
from wyntaxis.core.sky.objects import SkyObject, find_object, objects_near

anywhere = st.tuples(st.floats(0, 359.999), st.floats(-90, 90))


@pytest.mark.parametrize(
    "text, ra, dec",
    [
        ("22 15 09 +49 54 00", 333.7875, 49.9),
        ("22h15m09s, −49°54′00″", 333.7875, -49.9),
        ("22:15:09 -00:30:00", 333.7875, -0.5),
        ("333.7875 49.9", 333.7875, 49.9),
        ("333.7875, -49.9", 333.7875, -49.9),
        ("22h -5", 330, -5),
        ("22 15.15 49 54", 333.7875, 49.9),
        ("0 0 0 +90", 0, 90),
    ],
)
def test_coordinates_as_people_type_them(text, ra, dec):
    assert parse_coordinates(text) == pytest.approx((ra, dec))


@pytest.mark.parametrize(
    "text, words",
    [
        ("", "no pair"), ("12", "no pair"), ("nonsense", "no pair"), ("1 2 3 4 5 6 7", "no pair"), ("nan 5", "no pair"),
        ("25h 0", "right ascension"), ("400 5", "right ascension"), ("10 -91", "declination"),
        ("10 61 0 +5", "under 60"), ("10.5 30 0 +5", "may have decimals"),
    ],
)  # fmt: skip
def test_what_is_no_place_says_how_to_write_one(text, words):
    with pytest.raises(ValueError, match=words):
        parse_coordinates(text)


@given(anywhere)
def test_coordinates_round_trip(place):
    back = parse_coordinates(coordinates_text(*place))
    assert separation_deg(place, back) * 3600 < 0.2
    assert "60." not in coordinates_text(*place)


OPTICS = Optics("rig", Field(0, 0, math.tan(math.radians(1.5)), math.tan(math.radians(1.0))), None, False)


@given(anywhere, st.floats(0, 360))
def test_corners_are_astropys_anywhere(center, angle):
    """A TAN header with the same centre and angle puts the frame's corners where the footprint does, to 0.1″."""
    wcs = WCS(naxis=2)
    wcs.wcs.ctype, wcs.wcs.crval, wcs.wcs.crpix = ["RA---TAN", "DEC--TAN"], center, [1, 1]
    wcs.wcs.lonpole = 180  # its default jumps to 0 at exactly +90°; everywhere else it is 180
    turn, step = math.radians(angle), 1e-3
    wcs.wcs.cd = step * np.array([[-math.cos(turn), math.sin(turn)], [math.sin(turn), math.cos(turn)]])
    frame = Footprint(OPTICS, center, angle)
    half = [math.degrees(OPTICS.main.half_width) / step, math.degrees(OPTICS.main.half_height) / step]
    for corner, (x, y) in zip(frame.corners(), ((-1, 1), (1, 1), (1, -1), (-1, -1)), strict=True):
        ra, dec = (float(v) for v in wcs.wcs_pix2world(x * half[0], y * half[1], 0))
        assert separation_deg(corner, (ra, dec)) * 3600 < 0.1
        back = to_plane(center, *corner)
        assert np.hypot(*back) == pytest.approx(math.hypot(OPTICS.main.half_width, OPTICS.main.half_height))
    assert np.isnan(to_plane(center, (center[0] + 180) % 360, -center[1])).all()


def test_the_frame_faces_the_way_it_says():
    north_up = Footprint(OPTICS, (100.0, 0.0), 0)
    (left, top), (right, _), *_ = north_up.corners()
    assert left > 100 > right
    assert top > 0
    turned = Footprint(OPTICS, (100.0, 0.0), 90).corners()
    assert turned[0][0] > 100  # the top side lies east
    assert turned[1][0] > 100
    assert north_up.size_deg == pytest.approx((3, 2))


def test_the_examples_footprint_and_guide_field(example):
    evaluation = evaluate(validated(example))
    frame = footprint(evaluation, (333.785, 49.9), 20)
    # Prism: 14 + 8/2 = 18 mm off the axis, atan(18/513.76) = 2.0066° toward the frame's top.
    assert frame.guide_place() == pytest.approx((2.00659, 20), abs=1e-4)
    found = frame.as_json()
    assert (found["width_deg"], found["height_deg"]) == pytest.approx((2.60917, 1.73962), abs=1e-4)
    assert found["objects"][0]["name"] == "NGC 7243"
    assert len(found["guide"]["corners"]) == 4
    assert stc_s([frame.corners()]).startswith("Polygon ICRS 335.189584 48.627977 ")
    assert stc_s([frame.corners()] * 2).count("Polygon") == 2
    lines = corners_csv([frame]).splitlines()
    assert lines[1] == "Tarnfell triplet\u002c reduced,centre,333.785000,49.900000,20.000".replace(
        "Tarnfell triplet, reduced", '"Tarnfell triplet, reduced"'
    )
    example["train"][1]["prism"] |= {"beside": "short_side"}
    assert footprint(evaluate(validated(example)), (0, 0), 0).guide_place()[1] == pytest.approx(90)
    example["telescope"]["exit_pupil_distance_mm"] = 540.0
    wide = footprint(evaluate(validated(example)), (0, 0), 0).guide_place()[0]
    assert wide == pytest.approx(math.degrees(math.atan(18 / (1 - 54.4 / 540) / 513.76)), abs=1e-6)
    example["train"].pop()
    assert footprint(evaluate(validated(example)), (0, 0), 0) is None


@pytest.mark.parametrize(
    "pixels, half_mm",
    [((1280, 960), (2.56, 1.92)), ((2000, 2000), (4.0, 4.0)), ((4000, 3000), (4.0, 4.0)), ((16000, 16000), (4.0, 4.0))],
)
def test_a_guide_sensor_sees_no_more_than_its_prism(example, pixels, half_mm):
    """Pixels of 4 µm behind a prism of 8 × 8 mm: from 2000 px on the prism alone bounds the field."""
    sensor = example["guiding"]["path"][-1]["sensor"]
    sensor["width_px"], sensor["height_px"] = pixels
    guide = optics_of(evaluate(validated(example))).guide
    assert (guide.half_width * 513.76, guide.half_height * 513.76) == pytest.approx(half_mm, abs=1e-9)


def a_target(major, minor=None, angle=0.0, place=(10.0, 85.0)):
    return SkyObject("X1", "Nebula", *place, major, minor, angle, None)


def test_shares_of_objects():
    frame = Footprint(OPTICS, (10.0, 85.0), 0)
    assert frame.covered_share(a_target(30)) == pytest.approx(1)
    # A circle of 5° holds the whole frame: 3° × 2° of 19.6 square degrees.
    assert frame.covered_share(a_target(300)) == pytest.approx(6 / (math.pi * 25 / 4), rel=0.01)
    half = a_target(60, place=tuple(float(v) for v in to_sky((10.0, 85.0), (0.0, math.tan(math.radians(1))))))
    assert frame.covered_share(half) == pytest.approx(0.5, abs=0.01)
    assert frame.covered_share(a_target(None)) == 1
    assert frame.covered_share(a_target(None, place=(190.0, -85.0))) == 0


def test_panels_cover_the_object_with_the_overlap():
    frame = Footprint(OPTICS, (10.0, 85.0), 30)
    assert mosaic(frame, a_target(100), 0.15).count == 1
    wide = mosaic(frame, a_target(480, 90, angle=120), 0.15)
    assert (wide.columns, wide.rows) == (3, 1)  # 8° along the width: (8 − 3)/(3 · 0.85) = 1.96 more than one
    outline = a_target(480, 90, angle=120).outline()
    sky = to_sky((10.0, 85.0), outline)
    half = np.array([OPTICS.main.half_width, OPTICS.main.half_height]) + 1e-6
    for ra, dec in sky:
        places = (turned(to_plane(p.center, ra, dec), -p.position_angle_deg) for p in wide.panels)
        assert any((np.abs(place) <= half).all() for place in places)
    one, other = (panel.center for panel in wide.panels[:2])
    assert separation_deg(one, other) == pytest.approx(3 * 0.85, rel=0.02)
    with pytest.raises(ValueError, match="panels"):
        mosaic(frame, a_target(7000), 0.5)


@given(st.lists(st.tuples(st.floats(-3, 3), st.floats(-3, 3)), min_size=3, max_size=8))
def test_clipping_never_adds(points):
    square = np.array([(-1, -1), (1, -1), (1, 1), (-1, 1)])
    clipped = clip_to_convex(np.array(points), square)
    assert (np.abs(clipped) <= 1 + 1e-6).all()
    assert abs(signed_area(clip_to_convex(square, square))) == pytest.approx(4)


def test_the_catalogue_is_found_by_name_and_place():
    target = find_object("ngc07243")
    assert (target.label, target.kind) == ("NGC 7243", "Open Cluster")
    assert find_object("C 16").name == "NGC7243"
    assert find_object("nothing such") is None
    assert find_object("") is None
    near = objects_near((333.8, 49.9), 0.5)
    assert near[0].name == "NGC7243"
    assert all(separation_deg((333.8, 49.9), (o.ra_deg, o.dec_deg)) < 0.7 for o in near)
    assert any(o.name == "NGC3172" for o in objects_near((0.0, 90.0), 2))


@pytest.mark.parametrize(
    "text, points",
    [
        ("az,alt\n0,5\n90,10.5\n", ((0, 5), (90, 10.5))),
        ("# a site\n90;10,5\n0;5\n", ((0, 5), (90, 10.5))),
        ("0 5\n\n359.5 7\n", ((0, 5), (359.5, 7))),
    ],
)
def test_horizon_files(text, points):
    assert horizon.parse_horizon(text.encode()) == points


@pytest.mark.parametrize(
    "data, words",
    [
        (b"", "fewer than two"), (b"0,5\n", "fewer than two"), (b"0,5\nx,y\n", "line 2 holds no two numbers"),
        (b"0,5\n400,7\n", "line 2: azimuth"), (b"0,5\n10,nan\n", "line 2"), (b"\xff\xfe\x00", "not UTF-8"),
        (b"".join(b"%f,1\n" % (i / 50) for i in range(5000)), "thin it out"),
    ],
)  # fmt: skip
def test_horizon_files_that_are_none(data, words, tmp_path, example):
    path = tmp_path / "horizon.csv"
    path.write_bytes(data)
    with pytest.raises(InputError, match=words):
        horizon.with_horizon(validated(example), path)


@pytest.mark.slow
def test_the_night_of_a_star_at_the_pole_and_of_one_that_rises():
    site = Site(latitude_deg=47.3, longitude_deg=11.1, horizon=((0.0, 10.0), (90.0, 40.0), (180.0, 10.0)))
    assert horizon.horizon_altitude(site, [45, 270]) == pytest.approx([25, 10])
    night = horizon.night_path(site, 0.0, 90.0, datetime.date(2026, 11, 24))
    assert night.altitude_deg == pytest.approx(47.3, abs=0.2)  # the pole of date has moved by precession
    assert night.hours_up == pytest.approx(24)
    assert night.hours_up_and_dark == night.hours_dark == pytest.approx(11.4, abs=0.3)
    rising = horizon.night_path(site, 90.0, 0.0, datetime.date(2026, 11, 24))
    flat = horizon.night_path(Site(latitude_deg=47.3, longitude_deg=11.1), 90.0, 0.0, datetime.date(2026, 11, 24))
    assert flat.hours_up == pytest.approx(12, abs=0.15)  # on the equator, half a day
    assert rising.hours_up < flat.hours_up
    assert flat.highest[0] == pytest.approx(90 - 47.3, abs=0.1)
    assert sum(b - a for a, b in flat.spans()) / 3600 == pytest.approx(flat.hours_up_and_dark, abs=0.1)


def test_dates_beyond_the_calendar_in_use_are_refused():
    with pytest.raises(ValueError, match="1973 to 2100"):
        horizon.night_path(Site(latitude_deg=0, longitude_deg=0), 0, 0, datetime.date(1900, 1, 1))


@pytest.mark.parametrize(
    "text, words",
    [
        ("Sh2-155", "not in the catalogue"),
        ("Fen 12", "not in the catalogue"),
        ("5.588 -5.39h", "the mark h belongs to the right ascension"),
        ("5.588 5.39h", "the mark h belongs to the right ascension"),
    ],
)
def test_names_and_marks_in_the_wrong_place(text, words):
    with pytest.raises(ValueError, match=words):
        parse_coordinates(text)


def test_an_object_without_a_catalogued_angle_has_a_caveat(example):
    frame = footprint(evaluate(validated(example)), (100.0, 40.0), 0.0)
    long = SkyObject("X1", "Galaxy", 100.0, 40.0, 240.0, 12.0, None, None)
    low, high = frame.share_range(long)
    assert low < high
    assert low <= frame.covered_share(long) <= high
    assert "its angle is not catalogued" in angle_caveat(frame, long)
    for known in (replace(long, angle_deg=10.0), replace(long, minor_arcmin=240.0), replace(long, major_arcmin=None)):
        assert angle_caveat(frame, known) == ""


def test_a_wall_of_two_points_at_one_azimuth_stands():
    points = parse_horizon(b"90, 5\n120, 5\n120, 40\n200, 40\n200, 10\n350, 10\n")
    assert points == ((90, 5), (120, 5), (120, 40), (200, 40), (200, 10), (350, 10))
    site = Site(latitude_deg=47, longitude_deg=11, horizon=points)
    wanted = {119.9: 5, 120.1: 40, 199.9: 40, 200.1: 10, 20.0: 8.5, 0.0: 10 - 5 * 10 / 100, 360.0: 9.5, 720.0: 9.5}
    for azimuth, altitude in wanted.items():
        assert float(horizon_altitude(site, azimuth)) == pytest.approx(altitude, abs=0.01), azimuth

"""Laws of the sky above the rig: footprints anywhere, shares, panels, horizons, scales and guiding."""

import math

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.optics import field_rotation, guiding, imaging
from wyntaxis.core.quantities.fields import footprint
from wyntaxis.core.rig.parts import Sensor
from wyntaxis.core.rig.plan import Site
from wyntaxis.core.rig.store import validated
from wyntaxis.core.sky.coordinates import coordinates_text, parse_coordinates, separation_deg
from wyntaxis.core.sky.footprint import Field, Footprint, Optics, corners_csv, mosaic, stc_s
from wyntaxis.core.sky.gnomonic import clip_to_convex, signed_area, to_plane, to_sky, turned
from wyntaxis.core.sky.horizon import horizon_altitude, horizon_csv, parse_horizon
from wyntaxis.core.sky.objects import SkyObject
from wyntaxis.core.train.sampling import binning_rows, match_advice, match_factors, plate_solving_hints, sampling_word

PLACES = st.tuples(st.floats(0, 359.999), st.floats(-90, 90))
ANGLES = st.floats(0, 360)
HALVES = st.tuples(st.floats(1e-3, 0.05), st.floats(1e-3, 0.05))


def frame_at(center=(100.0, 20.0), angle=0.0, half=(0.02, 0.01), guide=None):
    return Footprint(Optics("rig", Field(0, 0, *half), guide, True), center, angle)


def target(major, minor=None, angle=0.0, at=(100.0, 20.0)):
    return SkyObject("X 1", "Nebula", *at, major, minor, angle, None)


@given(PLACES, ANGLES, HALVES)
def test_sides_and_diagonals_of_a_frame_are_its_own_anywhere(center, angle, half):
    a, b, c, d = frame_at(center, angle, half).corners()
    # Opposite sides, and both diagonals, span the same angles wherever the frame lies.
    assert separation_deg(a, b) == pytest.approx(separation_deg(d, c), abs=1e-7)
    assert separation_deg(b, c) == pytest.approx(separation_deg(a, d), abs=1e-7)
    assert separation_deg(a, c) == pytest.approx(separation_deg(b, d), abs=1e-7)
    radius = math.degrees(math.atan(math.hypot(*half)))
    assert separation_deg(center, a) == pytest.approx(radius, abs=1e-7)
    assert frame_at(center, angle, half).radius_deg == pytest.approx(radius)


@given(PLACES, ANGLES, HALVES)
def test_half_a_turn_swaps_the_corners(center, angle, half):
    here = frame_at(center, angle, half).corners()
    there = frame_at(center, angle + 180, half).corners()
    for one, other in zip(here, there[2:] + there[:2], strict=True):
        assert separation_deg(one, other) < 1e-7


@given(PLACES, st.floats(0, 0.3), ANGLES)
def test_plane_and_sky_undo_each_other(center, distance, angle):
    point = np.array([distance * math.sin(math.radians(angle)), distance * math.cos(math.radians(angle))])
    ra, dec = to_sky(center, point)
    assert to_plane(center, ra, dec) == pytest.approx(point, abs=1e-9)
    assert separation_deg(center, (float(ra), float(dec))) == pytest.approx(math.degrees(math.atan(distance)), abs=1e-7)


def test_beyond_a_right_angle_there_is_no_plane():
    assert np.isnan(to_plane((0.0, 0.0), 120.0, 0.0)).all()
    assert np.isnan(to_plane((0.0, 90.0), 0.0, -10.0)).all()


@given(ANGLES, st.tuples(st.floats(-1, 1), st.floats(-1, 1)))
def test_turning_keeps_lengths_and_turns_back(angle, point):
    there = turned(np.array(point), angle)
    assert np.hypot(*there) == pytest.approx(math.hypot(*point), abs=1e-12)
    assert turned(there, -angle) == pytest.approx(np.array(point), abs=1e-12)


@given(st.floats(0.5, 60), st.floats(0.1, 1), ANGLES, ANGLES, st.floats(0.2, 3))
def test_shares_lie_between_nothing_and_all_and_grow_with_the_frame(major, ratio, angle, turn, larger):
    found = target(major, major * ratio, angle)
    small, large = frame_at(angle=turn, half=(0.004, 0.003)), frame_at(angle=turn, half=(0.004 + larger / 100, 0.02))
    one, other = small.covered_share(found), large.covered_share(found)
    assert 0 <= one <= other + 1e-9 <= 1 + 2e-9


@pytest.mark.parametrize(
    "major, minor, half, share",
    [
        # A circle of 20′ in a frame of 2.3° is wholly on it.
        (20.0, None, (0.02, 0.01), 1.0),
        # A circle of 4° across (R = 2°) on a square of 2 · 0.5°: 1 / (π 4) of it.
        (240.0, None, (math.tan(math.radians(0.5)),) * 2, 1.0 / (4 * math.pi)),
        # An ellipse of 2° by 1°, cut along its long axis to the middle half: (2/π)(asin ½ + ½ √¾).
        (120.0, 60.0, (0.2, math.tan(math.radians(0.5))), 2 / math.pi * (math.asin(0.5) + 0.5 * math.sqrt(0.75))),
    ],
)
def test_shares_by_hand(major, minor, half, share):
    # The outline is a polygon of 72 points, and the sky is not flat.
    assert frame_at(half=half).covered_share(target(major, minor)) == pytest.approx(share, rel=5e-3)


def test_objects_without_a_size_are_on_the_frame_or_off():
    assert frame_at().covered_share(target(None)) == 1.0
    assert frame_at().covered_share(target(None, at=(100.0, 25.0))) == 0.0
    assert frame_at().covered_share(target(None, at=(280.0, -20.0))) == 0.0


@given(st.floats(10, 200), st.floats(0.3, 1), ANGLES, ANGLES, st.floats(0, 0.5))
def test_panels_hold_the_object_and_overlap_as_asked(major, ratio, angle, turn, overlap):
    frame = frame_at(angle=turn, half=(0.012, 0.008))
    try:
        found = mosaic(frame, target(major, major * ratio, angle), overlap)
    except ValueError:
        assume(False)
    outline = target(major, major * ratio, angle).outline()
    corners = [turned(np.array([point]), -turn)[0] for point in outline]
    width = 0.024 * (1 + (found.columns - 1) * (1 - overlap))
    height = 0.016 * (1 + (found.rows - 1) * (1 - overlap))
    assert max(abs(c[0]) for c in corners) <= width / 2 + 1e-9
    assert max(abs(c[1]) for c in corners) <= height / 2 + 1e-9
    # One column or row less would not do.
    if found.columns > 1:
        less = 0.024 * (1 + (found.columns - 2) * (1 - overlap))
        assert max(abs(c[0]) for c in corners) > less / 2 - 1e-9
    assert len(found.panels) == found.count == found.columns * found.rows


@given(st.lists(st.tuples(st.floats(-2, 2), st.floats(-2, 2)), min_size=3, max_size=8))
def test_what_is_clipped_lies_in_the_window(points):
    window = np.array([(1, 1), (-1, 1), (-1, -1), (1, -1)], dtype=float)
    found = clip_to_convex(points, window)
    assert (np.abs(found) <= 1 + 1e-9).all()
    assert abs(signed_area(clip_to_convex(window, window[::-1]))) == pytest.approx(4)


def test_forms_to_copy():
    frame = frame_at(guide=Field(0.0, 0.03, 0.002, 0.001))
    text = stc_s([frame.corners()])
    numbers = [float(word) for word in text.split()[2:]]
    assert text.startswith("Polygon ICRS ")
    assert len(numbers) == 8
    # Counterclockwise on the sky: east of the centre first comes last of the corners read backwards.
    assert numbers[:2] == pytest.approx(frame.corners()[3], abs=1e-6)
    assert stc_s([frame.corners(), frame.guide_corners()]).startswith("Union ICRS ( Polygon ")
    lines = corners_csv([frame]).splitlines()
    assert len(lines) == 1 + 1 + 4 + 4
    assert lines[1].startswith("rig,centre,100.000000,20.000000")
    assert frame.guide_place() == (pytest.approx(math.degrees(math.atan(0.03))), pytest.approx(0))


@pytest.mark.parametrize("angle, wanted", [(0, 0), (90, 90), (200, 200), (359, 359)])
def test_the_guide_field_turns_with_the_frame(angle, wanted):
    frame = frame_at(angle=angle, guide=Field(0.0, 0.03, 0.002, 0.001))
    assert frame.guide_place()[1] == pytest.approx(wanted)


@given(st.floats(0, 359.99), st.floats(-89.9, 89.9))
def test_texts_of_places_are_read_back(ra, dec):
    again = parse_coordinates(coordinates_text(ra, dec))
    assert separation_deg((ra, dec), again) < 0.3 / 3600


@given(st.lists(st.tuples(st.integers(0, 359), st.floats(-5, 80)), min_size=2, max_size=12, unique_by=lambda p: p[0]))
def test_horizons_are_read_back_and_closed_over_north(points):
    ordered = tuple(sorted((float(a), round(h, 3)) for a, h in points))
    site = Site(latitude_deg=47.3, longitude_deg=11.1, horizon=ordered)
    assert parse_horizon(horizon_csv(site).encode()) == ordered
    for azimuth, altitude in ordered:
        assert float(horizon_altitude(site, azimuth)) == pytest.approx(altitude)
        assert float(horizon_altitude(site, azimuth + 360)) == pytest.approx(altitude)
    everywhere = horizon_altitude(site, np.arange(0.0, 360.0))
    heights = [height for _, height in ordered]
    assert everywhere.min() >= min(heights) - 1e-9
    assert everywhere.max() <= max(heights) + 1e-9


@given(st.floats(0.5, 8), st.floats(0.3, 6))
def test_scale_sampling_and_match_hang_together(seeing, sampling):
    scale = seeing / sampling
    assert imaging.sampling(seeing, scale) == pytest.approx(sampling)
    low, high = match_factors(sampling)
    assert imaging.MATCHED_FROM <= sampling * low * 1.0000001 <= sampling * high <= imaging.MATCHED_TO * 1.0000001
    word, advice = sampling_word(sampling), match_advice(sampling)
    assert (advice == "matched as it is") == (imaging.MATCHED_FROM <= sampling <= imaging.MATCHED_TO)
    assert ("undersampled" in word) == (sampling < imaging.MATCHED_FROM)
    assert advice.startswith("extender") == (sampling < imaging.MATCHED_FROM)


@given(st.floats(0.2, 20), st.floats(50, 5000), st.integers(1, 4), st.floats(0, 0.3))
def test_the_search_range_holds_the_scale(pixel, focal, binning, relative):
    sensor = Sensor(width_px=4000, height_px=3000, pixel_um=pixel, binning=binning)
    scale = imaging.pixel_scale(pixel, binning, focal)
    found = plate_solving_hints(sensor, scale, focal, relative)
    assert found.low_arcsec_px < scale < found.high_arcsec_px
    assert found.share >= max(0.05, 2 * relative) - 1e-12
    assert found.binned_pixel_um == pytest.approx(pixel * binning)
    assert 0 < found.radius_deg < 90
    assert ("binned" in found.text) == (binning > 1)


@given(st.floats(-85, 85), st.floats(0, 360), st.floats(0, 89), st.floats(100, 5000))
def test_rotation_is_even_about_the_meridian_and_stands_still_due_east(latitude, azimuth, altitude, radius):
    here = float(field_rotation.rotation_rate(latitude, azimuth, altitude))
    mirrored = float(field_rotation.rotation_rate(latitude, 360 - azimuth, altitude))
    assert here == pytest.approx(mirrored, abs=1e-15)
    assert float(field_rotation.rotation_rate(latitude, 90, altitude)) == pytest.approx(0, abs=1e-15)
    longest = float(field_rotation.rotation_exposure(here, radius))
    assert float(field_rotation.rotation_exposure(here, 2 * radius)) == pytest.approx(longest / 2)
    assert float(field_rotation.rotation_exposure(here, radius, 2.0)) == pytest.approx(2 * longest)


@given(st.floats(1, 100), st.floats(0.2, 10), st.integers(1, 40), st.floats(0.1, 1), st.floats(-80, 80))
def test_a_calibration_pulse_moves_the_star_as_far_as_asked(distance, scale, pulses, rate, declination):
    pulse = guiding.calibration_pulse_ms(distance, scale, pulses, rate, declination)
    moved = pulses * pulse / 1000 * 15.041 * rate * math.cos(math.radians(declination)) / scale
    assert moved == pytest.approx(distance)
    assert guiding.pulses_needed(pulse, pulse, pulses) == pytest.approx(pulses)
    assert pulse >= guiding.calibration_pulse_ms(distance, scale, pulses, rate, 0.0) - 1e-9


@given(st.floats(0.9, 1.1), st.floats(0, 0.01))
def test_a_measured_focal_length_moves_the_footprint_as_it_must(factor, spread):
    import json
    from pathlib import Path

    document = json.loads((Path(__file__).parents[2] / "example.rig.json").read_text("utf-8"))
    wanted = 513.76 * factor
    document["measured"] = {"effective_focal_length_mm": {"value": wanted, "standard_uncertainty": spread * wanted}}
    evaluation = evaluate(validated(document))
    frame = footprint(evaluation, (10.0, 10.0), 0.0)
    assert frame.size_deg[0] == pytest.approx(2 * math.degrees(math.atan(23.4 / 2 / wanted)))
    assert frame.guide_place()[0] == pytest.approx(math.degrees(math.atan(18 / wanted)))
    rows = binning_rows(evaluation.rig, wanted)
    assert rows[0].scale_arcsec_px == pytest.approx(206.264806 * 3.9 / wanted)
    assert [row.binning for row in rows] == [1, 2, 3, 4]

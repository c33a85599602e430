"""Formulas against numbers worked out by hand, and the laws they obey."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wyntaxis.core.optics import focus, imaging, uniform_sum
from wyntaxis.core.optics.uniform_sum import probability_inside

lengths = st.floats(50, 5000)


@pytest.mark.parametrize(
    "got, by_hand",
    [
        (imaging.effective_focal_length(676, [0.76]), 513.76),
        (imaging.effective_focal_length(400, [1.0, 2.0]), 800.0),
        (imaging.focal_ratio(513.76, 104), 4.94),
        (imaging.pixel_scale(3.9, 1, 513.76), 1.565775),  # 206.264806 * 3.9 / 513.76
        (imaging.pixel_scale(3.76, 2, 1000), 1.551111),
        (imaging.field_angle(36, 500), 4.123515),  # 2 atan(0.036) = 2 * 2.0617577
        (imaging.airy_diameter(5), 6.71),  # 2.44 * 0.55 * 5
        (imaging.sampling(2.6, 1.3), 2.0),
        (focus.depth_of_focus_diffraction(5), 55.0),  # 4 * 0.55 * 25
        (focus.depth_of_focus_seeing(4.94, 513.76, 2.6), 47.690206),
        (focus.plate_focus_shift(2, 1.52), 0.684211),
        (focus.plate_focus_shift(3, 1.5), 1.0),
        (focus.plate_focus_shift_marginal(3, 1.5, 2.0), 1.033843),  # θ = 14.036°: 3 (1 - .970143 / 1.480262)
        (probability_inside(0.716, [], 0.4), 0.0),
        (probability_inside(0.4, [0.0], 0.4), 1.0),  # the limit is inside
        (probability_inside(0.1 + 0.3, [], 0.4), 1.0),
        (probability_inside(0.401, [], 0.4), 0.0),
        (probability_inside(0.0, [0.4], 0.4), 1.0),  # one rectangle, never beyond its ends
        (probability_inside(0.2, [0.4], 0.4), 0.75),
        (probability_inside(0.4, [0.1], 0.4), 0.5),
        (probability_inside(0.6, [0.1], 0.4), 0.0),
        (probability_inside(0.0, [0.3, 0.3], 0.3), 0.75),  # the triangle's middle half
        (probability_inside(0.0, [1, 1, 1], 1), 2 / 3),  # 1 − 2 · 2³/(3! · 2³)
        (probability_inside(0.0, [0.4], 0.0), 0.0),
    ],
)
def test_hand_worked(got, by_hand):
    assert got == pytest.approx(by_hand, rel=2e-6)


@given(lengths, st.floats(1, 20), st.integers(1, 4))
def test_scale_halves_as_focal_length_doubles_and_field_is_the_pixels_sum(focal, pixel, binning):
    assert imaging.pixel_scale(pixel, binning, 2 * focal) == pytest.approx(
        imaging.pixel_scale(pixel, binning, focal) / 2
    )
    # On the axis a single pixel's field is its scale.
    field = imaging.field_angle(pixel * binning / 1000, focal) * 3600
    assert field == pytest.approx(imaging.pixel_scale(pixel, binning, focal), rel=1e-6)


@given(st.floats(0.1, 50), lengths)
def test_field_slope_is_the_derivative(side, focal):
    step = focal * 1e-5
    numeric = (imaging.field_angle(side, focal - step) - imaging.field_angle(side, focal + step)) / (2 * step)
    assert imaging.field_angle_slope(side, focal) == pytest.approx(numeric, rel=1e-5)


@given(st.floats(0, 20), st.floats(1, 3), st.floats(1.5, 30))
def test_plate_shift_is_additive_and_the_marginal_ray_shifts_more(thickness, index, ratio):
    shift = focus.plate_focus_shift(thickness, index)
    assert 0 <= shift <= thickness
    assert focus.plate_focus_shift(2 * thickness, index) == pytest.approx(2 * shift)
    assert focus.plate_focus_shift_marginal(thickness, index, ratio) >= shift - 1e-12
    assert focus.plate_focus_shift_marginal(thickness, index, 1e6) == pytest.approx(shift, abs=1e-9)


@pytest.mark.parametrize("thickness, index", [(-1, 1.5), (1, 0.99)])
def test_impossible_plates_are_refused(thickness, index):
    with pytest.raises(ValueError, match="a plate needs"):
        focus.plate_focus_shift(thickness, index)


@given(st.floats(2, 20), lengths, st.floats(0.5, 8))
def test_seeing_zone_widens_the_star_by_its_share(ratio, focal, seeing):
    """At the zone's edge the FWHM has grown by τ, to first order in τ."""
    half_mm = focus.depth_of_focus_seeing(ratio, focal, seeing, growth=0.001) / 2000
    blur = 0.60 * math.degrees(half_mm / ratio / focal) * 3600
    assert math.hypot(seeing, blur) / seeing == pytest.approx(1.001, abs=1e-6)


@given(st.lists(st.floats(0.001, 0.4), min_size=3, max_size=6), st.floats(-0.5, 0.5), st.floats(0, 0.6))
def test_both_ways_to_the_sum_of_rectangles_agree(widths, error, tolerance):
    exact = probability_inside(error, widths, tolerance)
    assert 0 <= exact <= 1
    assert exact == pytest.approx(probability_inside(-error, widths, tolerance), abs=1e-9)
    whole = tuple(sorted(round(width * 1e6) for width in widths))
    low, high = (round(limit * 1e6) - round(error * 1e6) for limit in (-tolerance, tolerance))
    if low < sum(whole) and high > -sum(whole):
        assert uniform_sum.edgeworth_series(low, high, whole, sum(whole)) == pytest.approx(exact, abs=2e-5)


def test_the_sum_of_many_rectangles_is_close_to_draws():
    rng = np.random.default_rng(5)
    widths = rng.uniform(0.01, 0.2, 25)
    draws = 0.13 + sum(rng.uniform(-w, w, 400_000) for w in widths)
    assert probability_inside(0.13, widths, 0.4) == pytest.approx(float(np.mean(np.abs(draws) <= 0.4)), abs=0.003)

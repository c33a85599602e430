"""Fits and scatters: hand-worked numbers, laws, and another library's results."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from wyntaxis.core import fitting

LINE = np.column_stack([np.ones(4), [0.0, 1.0, 2.0, 3.0]])


@pytest.mark.parametrize(
    ("values", "scatter"),
    [([], 0.0), ([5.0], 0.0), ([1, 2, 3, 4, 5], 1.4826), ([0, 0, 0, 100], 0.0), ([-1, 1], 1.4826)],
)
def test_scatter_by_hand(values, scatter):
    assert fitting.mad_scatter(values) == pytest.approx(scatter, abs=1e-4)


def test_scatter_about_zero_does_not_take_the_median_off():
    assert fitting.scatter_about_zero([2, 2, 2]) == pytest.approx(2 * 1.4826, abs=1e-4)
    assert fitting.mad_scatter([2, 2, 2]) == 0


def test_robust_scatters_are_those_of_normal_values():
    rng = np.random.default_rng(4)
    values = rng.normal(7, 3, 200_000)
    assert fitting.mad_scatter(values) == pytest.approx(3, rel=0.01)
    assert fitting.mad_scatter(values) == pytest.approx(stats.median_abs_deviation(values, scale="normal"), rel=1e-9)
    medians = [np.median(part) for part in values.reshape(2000, 100)]
    assert fitting.median_error(values[:100]) == pytest.approx(np.std(medians), rel=0.3)
    picture = rng.normal(0, 2, (400, 400)) + np.linspace(0, 500, 400)[:, None] + np.linspace(0, 90, 400)
    assert fitting.pixel_scatter(picture) == pytest.approx(2, rel=0.02)


@pytest.mark.parametrize("free", [-2, 0, 1, 2, 4, 9, 30, 1000])
def test_student_factor_is_half_of_students_t(free):
    assert fitting.student_factor(free) == pytest.approx(stats.t.ppf(0.97725, max(free, 1)) / 2, rel=1e-4)


def test_student_factor_by_the_table():
    # JCGM 100:2008, table G.2, p = 95.45 %.
    table = {1: 13.97, 2: 4.53, 3: 3.31, 5: 2.65, 10: 2.28, 20: 2.13, 50: 2.05}
    assert {free: round(2 * fitting.student_factor(free), 2) for free in table} == table


def test_a_line_by_hand():
    # Taylor, 8.2: through (0, 1), (1, 3), (2, 5), (3, 7) but for +0.2 and −0.2 at the ends.
    fit = fitting.weighted_fit(LINE, np.array([1.2, 3, 5, 6.8]))
    assert fit.parameters == pytest.approx([1.18, 1.88])
    assert fit.residuals == pytest.approx([0.02, -0.06, 0.06, -0.02])
    assert fit.free == 2
    assert fit.variance == pytest.approx(0.004)
    assert fit.standard == pytest.approx([math.sqrt(0.004 * 0.7), math.sqrt(0.004 * 0.2)])


def test_a_weighted_line_is_that_of_another_library():
    rng = np.random.default_rng(1)
    x, own = np.linspace(-1, 4, 30), rng.uniform(0.1, 2, 30)
    y = 3 - 2 * x + rng.normal(0, own)
    fit = fitting.weighted_fit(np.column_stack([x, np.ones(30)]), y, 1 / own**2)
    there, covariance = np.polyfit(x, y, 1, w=1 / own, cov="unscaled")
    assert fit.parameters == pytest.approx(there)
    assert fit.inverse == pytest.approx(covariance)


def test_a_weight_of_zero_leaves_a_value_out():
    y = np.array([1.0, 3, 5, 900])
    fit = fitting.weighted_fit(LINE, y, np.array([1.0, 1, 1, 0]))
    assert fit.parameters == pytest.approx([1, 2])
    assert fit.free == 1


def test_shapes_that_do_not_belong_together_are_refused():
    for design, values in ((LINE, np.ones(3)), (np.ones(4), np.ones(4))):
        with pytest.raises(ValueError, match="a fit needs a design"):
            fitting.weighted_fit(design, values)


def outliers(count=60, bad=6):
    rng = np.random.default_rng(11)
    x = np.linspace(0, 10, count)
    y = 2 + 0.5 * x + rng.normal(0, 0.1, count)
    y[rng.choice(count, bad, replace=False)] += 30
    return np.column_stack([np.ones(count), x]), y


@pytest.mark.parametrize("fit", [fitting.huber_fit, fitting.clipped_fit])
def test_outliers_hardly_move_a_robust_fit(fit):
    design, y = outliers()
    plain, robust = fitting.weighted_fit(design, y).parameters, fit(design, y).parameters
    assert np.abs(plain - [2, 0.5]).max() > 0.3
    assert robust == pytest.approx([2, 0.5], abs=0.1)


def test_what_is_clipped_has_no_weight():
    design, y = outliers()
    fit = fitting.clipped_fit(design, y)
    assert (fit.weights == 0).sum() >= 6
    assert np.abs(fit.residuals[fit.weights > 0]).max() < 1
    assert fit.free == int(fit.weights.sum()) - 2


def test_huber_weights_are_one_within_the_turn():
    fit = fitting.huber_fit(LINE, np.array([1.0, 3, 5, 7]))
    assert fit.weights == pytest.approx(np.ones(4))


@given(st.floats(-50, 50), st.floats(0.1, 20), st.integers(0, 1000))
def test_fits_move_and_stretch_with_their_values(shift, factor, seed):
    rng = np.random.default_rng(seed)
    design = np.column_stack([np.ones(12), np.arange(12.0)])
    y = rng.normal(0, 1, 12)
    for fit in (fitting.weighted_fit, fitting.huber_fit, fitting.clipped_fit):
        base, moved = fit(design, y), fit(design, factor * y + shift)
        assert moved.parameters == pytest.approx(factor * base.parameters + [shift, 0], rel=1e-6, abs=1e-6)
        assert moved.standard == pytest.approx(factor * base.standard, rel=1e-5, abs=1e-9)


@given(st.integers(0, 1000))
def test_the_order_of_values_changes_no_fit(seed):
    rng = np.random.default_rng(seed)
    design, y = outliers(20, 2)
    order = rng.permutation(20)
    for fit in (fitting.weighted_fit, fitting.huber_fit, fitting.clipped_fit):
        assert fit(design[order], y[order]).parameters == pytest.approx(fit(design, y).parameters, abs=1e-9)


def test_uncertainties_cover_planted_values():
    rng = np.random.default_rng(3)
    x = np.linspace(-1, 1, 8)
    design, inside = np.column_stack([np.ones(8), x]), 0
    for _ in range(400):
        fit = fitting.weighted_fit(design, 1 + 2 * x + rng.normal(0, 0.3, 8))
        inside += abs(fit.parameters[1] - 2) <= 2 * fit.standard[1] * fitting.student_factor(fit.free)
    assert 0.92 < inside / 400 < 0.985


def test_uneven_scatter_grows_the_uncertainty_and_even_scatter_hardly():
    rng = np.random.default_rng(8)
    x = np.linspace(-1, 1, 60)
    design = np.column_stack([np.ones(60), x])

    def growth(own):
        fit = fitting.weighted_fit(design, rng.normal(0, own))
        return fitting.hc3_growth(design, fit.inverse, fit.residuals, fit.variance)

    even = np.mean([growth(np.ones(60))[1, 1] for _ in range(50)])
    uneven = np.mean([growth(0.1 + 3 * x**4)[1, 1] for _ in range(50)])
    assert 1 <= even < 1.4
    assert uneven > 1.8
    assert growth(np.ones(60)).min() >= 1


def test_extra_variance_by_hand():
    # Two values 4 apart with u = 1: χ² = 16/(2 (1 + v)) is 1 at v = 7.
    def chi(extra):
        return 16 / (2 * (1 + extra))

    assert fitting.extra_variance(1, chi, 100) == pytest.approx(7)
    assert fitting.extra_variance(1, chi, 5) == 5
    assert fitting.extra_variance(20, chi, 100) == 0
    assert fitting.extra_variance(0, chi, 100) == 0

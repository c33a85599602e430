"""Values, targets and verdicts."""

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wyntaxis.core import wording
from wyntaxis.core.ledger import (
    Quantity,
    QuantityValue,
    Target,
    Verdict,
    compare,
    rectangular,
    rss,
    stated_value,
    worst,
)
from wyntaxis.core.quantity_kinds import QUANTITY_KINDS

V = Verdict


@pytest.mark.parametrize(
    "one, other, verdict",
    [
        (QuantityValue(10), QuantityValue(10), V.HOLDS),
        (QuantityValue(10, tolerance=0.5), QuantityValue(10.5), V.HOLDS),
        (QuantityValue(12.9, tolerance=0.4), QuantityValue(12.5), V.HOLDS),  # 12.9 - 12.5 is a hair over 0.4 in binary
        (QuantityValue(10, tolerance=0.5), QuantityValue(10.51), V.FAILS),
        (QuantityValue(10, 0.3), QuantityValue(10.5, 0.0), V.HOLDS),  # within 2u, no tolerance stated
        (QuantityValue(10, 0.3, tolerance=0.1), QuantityValue(10.5), V.TIGHT),  # only the uncertainty lends agreement
        (QuantityValue(10, 0.3), QuantityValue(10.9, 0.4), V.HOLDS),  # 2 * 0.5 = 1.0
        (QuantityValue(10, 0.3), QuantityValue(11.1, 0.4), V.FAILS),
    ],
)
def test_compare(one, other, verdict):
    assert compare(one, other) is compare(other, one) is verdict


@pytest.mark.parametrize(
    "target, quantity_value, verdict",
    [
        (Target(-0.4, 0.4), QuantityValue(0.1, 0.05), V.HOLDS),
        (Target(-0.4, 0.4), QuantityValue(0.35, 0.05), V.TIGHT),  # 0.35 + 0.10 > 0.40
        (Target(-0.4, 0.4), QuantityValue(0.41, 0.05), V.FAILS),
        (Target(1.5, 4, 2, 3), QuantityValue(1.66), V.TIGHT),
        (Target(1.5, 4, 2, 3), QuantityValue(2.5), V.HOLDS),
        (Target(1.5, 4, 2, 3), QuantityValue(1.49), V.FAILS),
    ],
)
def test_target(target, quantity_value, verdict):
    assert target.judge(quantity_value) is verdict


def test_one_leg_alone_proves_nothing_and_the_gravest_counts():
    kind = QUANTITY_KINDS["focal_ratio"]
    assert Quantity(kind).verdict is V.UNPROVEN
    assert Quantity(kind, computed=QuantityValue(5)).verdict is V.UNPROVEN
    assert Quantity(kind, computed=QuantityValue(5), stated=stated_value(5.01, None)).verdict is V.HOLDS
    assert Quantity(kind, computed=QuantityValue(5), stated=stated_value(6, None)).verdict is V.FAILS
    row = Quantity(kind, computed=QuantityValue(5), measured=QuantityValue(9, 0.1), target=Target(4, 6))
    assert row.best == QuantityValue(9, 0.1)
    assert row.verdict is V.FAILS
    assert worst([]) is V.UNPROVEN
    assert worst([V.HOLDS, V.UNPROVEN, V.TIGHT]) is V.TIGHT


@given(st.lists(st.floats(0, 100), max_size=8))
def test_rss_lies_between_the_largest_and_the_sum(values):
    total = rss(values)
    assert max(values, default=0) - 1e-9 <= total <= math.fsum(values) + 1e-9
    assert rss(rectangular(v) for v in values) == pytest.approx(total / math.sqrt(3))


@pytest.mark.parametrize(
    "got, text",
    [
        (wording.number(-0.7158, 2), "−0.72"),
        (wording.number(-0.0001, 2), "0.00"),
        (wording.number(-math.inf, 1), "−∞"),
        (wording.signed(0.7158, 3), "+0.716"),
        (wording.signed(0.0, 1), "0.0"),
        (wording.short(12.90, 3), "12.9"),
        (wording.short(30.0), "30"),
        (wording.terms([17.5, 20, -0.25], 2), "17.50 + 20.00 − 0.25"),
        (wording.terms([], 1), "0.0"),
        (wording.plus_minus(13.3812, 0.02, 2), "13.381 ± 0.020"),  # the uncertainty's two digits
        (wording.plus_minus(0.008065, 0.0000003, 2), "0.00806500 ± 0.00000030"),
        (wording.plus_minus(1234.5, 99.6, 1), "1230 ± 100"),  # rounds up to three digits
        (wording.plus_minus(-12347.0, 123.0, 1), "−12350 ± 120"),
        (wording.plus_minus(2.5, 0.0, 1), "2.5 ± 0.0"),
        (wording.plus_minus(49.4912, 0.0021, 2), "49.4912 ± 0.0021"),  # 0.00 would claim certainty
        (wording.plus_minus(-1.25, 0.0, 1), "−1.2 ± 0.0"),
    ],
)
def test_numbers_as_written(got, text):
    assert got == text


@pytest.mark.parametrize(
    "value, u, verdict",
    [(1.0, 0.0, "holds"), (-1.0, 0.0, "holds"), (1.0001, 0.0, "fails"), (0.9, 0.05, "holds"), (0.9, 0.051, "tight")],
)
def test_the_limits_of_a_target_are_inside_it(value, u, verdict):
    assert Target(-1.0, 1.0).judge(QuantityValue(value, u)) == verdict

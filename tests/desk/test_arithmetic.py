"""Sums and other units in fields: by hand, against Python's own arithmetic, and what must not be read."""

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QToolTip

from wyntaxis.desk.numbers_in import parse_number, understood
from wyntaxis.desk.value_field import ValueField

READ = [
    ("23.4 mm / 6000", "µm", 3.9), ("2 in", "mm", 50.8), ("2in", "mm", 50.8), ("12.9 cm", "mm", 129.0),
    ("12.9 + 0.5", "mm", 13.4), ("12.9 mm + 0.5", "mm", 13.4), ("1 in + 4 mm", "mm", 29.4),
    ("(12,9 − 0,5) × 2", "mm", 24.8), ("-3 + 1", "", -2.0), ("2 * (3 + 4) / 7", "", 2.0), ("f/4.9", "", 4.9),
    ("F/5", "", 5.0), ("676 / 104", "", 6.5), ("676 mm / 104 mm", "", 6.5), ("5 min", "s", 300.0),
    ("0.5 h", "min", 30.0), ("14 °F", "°C", -10.0), ("1.5′", "″", 90.0), ("0.76 × 676", "mm", 513.76),
    ("1 m", "mm", 1000.0), ("3900 nm", "µm", 3.9),
]  # fmt: skip


@pytest.mark.parametrize(("text", "unit", "value"), READ)
def test_what_is_worked_out(text, unit, value):
    if text == "676 mm / 104 mm":
        with pytest.raises(ValueError, match="is not a number"):
            parse_number(text, unit)  # a field without a unit knows of no lengths
        return
    assert parse_number(text, unit) == pytest.approx(value, rel=1e-12)


@pytest.mark.parametrize(
    "text",
    [
        "1 / 0", "2 mm * 3 mm", "2 / 3 mm", "5 kg", "5 s", "((1)", "1 +", "+", "mm 5", "5 mm mm", "1 2", "__import__",
        "1e308 * 1e308", "(" * 60 + "1" + ")" * 60, "f/4.9", "5; 6", "2**3",
    ],
)  # fmt: skip
def test_what_means_no_length_is_refused_in_the_fields_words(text):
    with pytest.raises(ValueError, match="is not a number in mm"):
        parse_number(text, "mm")


@pytest.mark.parametrize(("text", "unit"), [("1,000 / 2", "mm"), ("1,000 cm", "mm"), ("2 × 12,500", "")])
def test_a_number_that_can_be_read_in_two_ways_is_refused_in_a_sum_too(text, unit):
    with pytest.raises(ValueError, match="can be read as"):
        parse_number(text, unit)


@pytest.mark.parametrize("text", ["20 °F + 1", "3 K × 2"])
def test_temperatures_of_another_zero_are_not_summed(text):
    with pytest.raises(ValueError, match="is not a number in °C"):
        parse_number(text, "°C")


NUMBERS = st.floats(0.01, 1000).map(lambda value: f"{value:.3f}")


@given(st.lists(st.tuples(NUMBERS, st.sampled_from("+-*/")), min_size=1, max_size=6), NUMBERS)
def test_sums_are_those_of_python(pairs, last):
    text = "".join(f"{value} {sign} " for value, sign in pairs) + last
    wanted = eval(text)
    assert parse_number(text, "mm") == pytest.approx(wanted, rel=1e-9, abs=1e-9)
    assert math.isfinite(wanted)


def test_a_field_shows_what_it_understood(qtbot):
    field = ValueField(("sensor", "pixel_um"), "Pixel", "µm")
    qtbot.addWidget(field)
    entered = []
    field.entered.connect(lambda _path, value: entered.append(value))
    field.show()
    QTest.keyClicks(field, "23.4 mm / 6000")
    assert QToolTip.text() == "= 3.9 µm"
    field.finish()
    assert entered == [3.9]
    assert understood("12.9", "mm") == understood("12.9 mm", "mm") == understood("nonsense", "mm") == ""
    assert understood("2 in", "mm") == "= 50.8 mm"

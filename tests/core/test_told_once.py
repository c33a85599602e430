"""Rows that say the same of several filters stand once."""

from dataclasses import replace

import pytest

from wyntaxis.core.ledger import QuantityValue, Target
from wyntaxis.core.quantities.filters import BACK_FOCUS, GUIDE_FOCUS
from wyntaxis.core.quantities.rows import told_once
from wyntaxis.core.steps import LIGHT_PATH


def row(name, value=0.7, u=0.06, high=0.2, **more):
    found = BACK_FOCUS.row(
        f"wheel.{name}", f"Through {name}", computed=QuantityValue(value, u), target=Target(high=high)
    )
    return replace(found, **more)


def labels(rows):
    return [found.kind.label for found in told_once(rows)]


@pytest.mark.parametrize(
    ("rows", "expected"),
    [
        ([], []),
        ([row("L")], ["Through L: back focus error"]),
        ([row("L"), row("R"), row("Ha")], ["Back focus error, through L, R and Ha"]),
        ([row("L"), row("R", 0.8)], ["Through L: back focus error", "Through R: back focus error"]),
        ([row("L"), row("R", u=0.05)], ["Through L: back focus error", "Through R: back focus error"]),
        ([row("L"), row("R", high=0.3)], ["Through L: back focus error", "Through R: back focus error"]),
        # each filter has its own assumed values: their paths may differ, but all must have some or none
        (
            [row("L", assumed=("a",)), row("R", assumed=("b",))],
            ["Back focus error, through L and R"],
        ),
        ([row("L", assumed=("a",)), row("R")], ["Through L: back focus error", "Through R: back focus error"]),
        (
            [row("L"), row("R", 0.8), row("G")],
            ["Through L: back focus error", "Through R: back focus error", "Through G: back focus error"],
        ),
    ],
)
def test_what_differs_in_nothing_but_the_filter_stands_once(rows, expected):
    assert labels(rows) == expected


def test_rows_of_other_things_and_other_numbers_stay_apart():
    guide = GUIDE_FOCUS.row("wheel.L", "Through L", computed=QuantityValue(0.7, 0.06))
    things = [BACK_FOCUS.row(name, name, computed=QuantityValue(0.7, 0.06)) for name in ("Wheel", "Prism")]
    assert labels([row("L"), guide, *things]) == [
        "Through L: back focus error",
        "Through L: guide path error",
        "Wheel: back focus error",
        "Prism: back focus error",
    ]


def test_the_first_ones_id_stays_and_every_path_is_named():
    (found,) = told_once([row("L", assumed=("a", "b")), row("R", assumed=("b", "c"))])
    assert found.id == "wheel.L.back_focus_error_mm"
    assert found.assumed == ("a", "b", "c")
    assert found.kind.step is LIGHT_PATH

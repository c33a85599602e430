"""A short round of the long trials (``make soak``): hostile inputs, kills, a monkey."""

import pytest

from tests.cases import further
from tests.soak.fuzz import fuzz
from tests.soak.kills import kill_rounds
from tests.soak.monkey import play

SEED = 20261126
LONG_S = 400
"""The rounds end by their number: no slow machine ends them before."""


@pytest.mark.slow
@pytest.mark.parametrize("most, kinds", [(30, 12), *further((70, 20))])
def test_hostile_inputs(most, kinds):
    tried = fuzz(LONG_S, SEED, most=most)
    assert tried.total == most
    assert len(tried.count) > kinds
    assert tried.failures == []


@pytest.mark.slow
def test_kills():
    killed = kill_rounds(LONG_S, SEED, saves=5, windows=1)
    assert (killed.saves, killed.windows, killed.failures) == (5, 1, [])


@pytest.mark.slow
@pytest.mark.parametrize("most", [50, *further(100)])
def test_a_monkey_at_the_window(most):
    played = play(LONG_S, SEED, most=most)
    assert played.failures == []
    assert played.actions == most

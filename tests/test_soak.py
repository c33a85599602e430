"""A short round of the long trials (``make soak``): hostile inputs, kills, a monkey."""

import pytest

from tests.soak.fuzz import fuzz
from tests.soak.kills import kill_rounds
from tests.soak.monkey import play

SEED = 20261126


@pytest.mark.slow
def test_hostile_inputs():
    tried = fuzz(60, SEED, most=30)
    assert tried.total == 30
    assert len(tried.count) > 12
    assert tried.failures == []


@pytest.mark.slow
def test_kills():
    killed = kill_rounds(60, SEED, saves=5, windows=1)
    assert (killed.saves, killed.windows, killed.failures) == (5, 1, [])


@pytest.mark.slow
def test_a_monkey_at_the_window():
    played = play(60, SEED, most=50)
    assert played.failures == []
    assert played.actions == 50

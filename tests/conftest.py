"""What the tests share: the contract's example rig, and a window that keeps its state in a temporary folder."""

import copy
import gc
import json
import os
from itertools import count
from pathlib import Path

import pytest
from hypothesis import settings

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # the workers share the cores already
settings.register_profile("thorough", deadline=None, max_examples=45, derandomize=True)
settings.register_profile("suite", settings.get_profile("thorough"), max_examples=25)
settings.register_profile("fast", settings.get_profile("suite"), max_examples=10)
settings.load_profile(os.environ.get("HYPOTHESIS_PROFILE", "suite"))


def pytest_addoption(parser):
    parser.addoption("--thorough", action="store_true", help="try all cases of each law")


@pytest.fixture
def seeds(pytestconfig):
    """How many seeds of so many a law is tried with: a third, but for ``--thorough``."""
    return (
        (lambda count: range(count)) if pytestconfig.getoption("--thorough") else (lambda count: range(-(-count // 3)))
    )


TESTS_PER_LOOK = 40
_windows = count(1)


@pytest.fixture(autouse=True)
def garbage_is_looked_for_between_tests(request):
    """Where Python does not look for it by itself, since a test with a window has run in this process.

    Everything is looked through only now and then, and only for windows: these are what may stay.
    """
    yield
    if not gc.isenabled():
        has_window = "qtbot" in request.fixturenames
        gc.collect(2 if has_window and next(_windows) % TESTS_PER_LOOK == 0 else 1)


SLOW_TESTS = Path(__file__).parent / "slow_tests.txt"
"""Made from ``pytest --durations=0``: one test a line, without its parameters."""
EXAMPLE = json.loads((Path(__file__).parent / "example.rig.json").read_text("utf-8"))


@pytest.fixture
def example():
    """A fresh copy of the contract's example as a document."""
    return copy.deepcopy(EXAMPLE)


@pytest.fixture
def example_file(tmp_path, example):
    path = tmp_path / "example.rig.json"
    path.write_text(json.dumps(example), "utf-8")
    return path


def pytest_collection_modifyitems(config, items):
    """Leave the further cases of laws out, unless all are asked for, and let slow tests begin first.

    What is left for the end is short, so that both workers end together. Tests that were measured to take over an
    eighth of a second are slow, too, whatever their marks: ``make test-fast`` leaves them out.
    """
    measured = set(SLOW_TESTS.read_text("utf-8").split())
    for item in items:
        if item.nodeid.partition("[")[0] in measured:
            item.add_marker("slow")
    if not config.getoption("--thorough"):
        left = [item for item in items if item.get_closest_marker("thorough") is not None]
        config.hook.pytest_deselected(items=left)
        items[:] = [item for item in items if item.get_closest_marker("thorough") is None]
    items.sort(key=lambda item: item.get_closest_marker("slow") is None)

"""What the tests share: the contract's example rig, and a window that keeps its state in a temporary folder."""

import copy
import json
import os
from pathlib import Path

import pytest
from hypothesis import settings

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
settings.register_profile("suite", deadline=None, max_examples=45, derandomize=True)
settings.register_profile("fast", settings.get_profile("suite"), max_examples=10)
settings.load_profile(os.environ.get("HYPOTHESIS_PROFILE", "suite"))

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


def pytest_collection_modifyitems(items):
    """Let slow tests begin first: what is left for the end is short, and both workers end together."""
    items.sort(key=lambda item: item.get_closest_marker("slow") is None)

"""Why a finding matters, from the guide."""

import json
from types import SimpleNamespace

import pytest

from wyntaxis.core import guide


@pytest.fixture
def told(monkeypatch, tmp_path):
    """A guide that holds these words on one finding."""

    def tell(words):
        entry = {"page": "reference/findings", "place": "finding.stars.soft", "title": "stars.soft", "words": words}
        (tmp_path / "search.json").write_text(json.dumps([entry]), "utf-8")
        monkeypatch.setattr(guide, "FOLDER", tmp_path)

    return tell


@pytest.mark.parametrize(
    ("words", "why"),
    [
        ("Told at Stars. Why: soft frames blur the sum. Do: leave them out.", "Soft frames blur the sum."),
        ("Why: one line.", "One line."),
        ("Nothing of the kind.", ""),
    ],
)
def test_the_reason_lies_between_why_and_do(told, words, why):
    told(words)
    assert guide.why_of(SimpleNamespace(id="stars.soft")) == why
    assert guide.why_of(SimpleNamespace(id="stars.other")) == ""


def test_without_the_guide_there_is_none(monkeypatch, tmp_path):
    monkeypatch.setattr(guide, "FOLDER", tmp_path / "none")
    assert guide.why_of(SimpleNamespace(id="stars.soft")) == ""

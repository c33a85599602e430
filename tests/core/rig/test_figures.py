"""Makers' figures that differ: noted, chosen with a reason, carried through edits, told on the rows that rest on it."""

import pytest

from tests.rigs import clean_document
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.rig import edit, figures
from wyntaxis.core.rig.model import variant_rig
from wyntaxis.core.rig.store import document_of, parse, to_bytes, validated

PATH = "train[0].required_back_focus_mm"


@pytest.fixture
def rig():
    document = clean_document()
    assert document["train"][0]["required_back_focus_mm"] > 0
    return validated(document)


def noted(rig, value=57.2, source="a dealer's page"):
    return edit.apply(rig, figures.add_figure(rig, PATH, value, source))


def test_another_figure_is_noted_and_told_on_the_rows_that_rest_on_it(rig):
    own = rig.train[0].required_back_focus_mm
    entries = noted(rig)
    assert figures.spread_of(entries, PATH) == (min(own, 57.2), max(own, 57.2))
    rows = evaluate(entries).rows
    (conflicting,) = rows["back_focus_error_mm"].conflicting
    assert "57.2 mm (a dealer's page)" in conflicting.words
    assert (conflicting.low, conflicting.high, conflicting.unit) == (57.2, own, "mm")
    assert rows["back_focus_error_mm"].as_json()["disputed"] == [conflicting.words]
    assert rows["pixel_scale_arcsec_px"].conflicting == ()
    before = evaluate(rig).rows["back_focus_error_mm"]
    assert rows["back_focus_error_mm"].verdict is before.verdict, "a spread is told, and judges nothing"
    assert parse(to_bytes(entries)) == entries


def test_the_chosen_figure_says_why_and_the_other_one_is_kept(rig):
    own = rig.train[0].required_back_focus_mm
    entries = noted(rig)
    chosen = edit.apply(entries, figures.choose_figure(entries, PATH, 0, "measured by two others"))
    assert chosen.train[0].required_back_focus_mm == 57.2
    entry = chosen.sources[PATH]
    assert (entry.source, entry.reason) == ("a dealer's page", "measured by two others")
    assert entry.date is not None
    assert [(other.value, other.source) for other in entry.others] == [(own, "as it was")]
    assert "taken because measured by two others" in figures.conflict_words(chosen, PATH)
    back = edit.apply(chosen, figures.choose_figure(chosen, PATH, 0, "no"))
    assert back.train[0].required_back_focus_mm == own


def test_the_note_follows_its_value_and_goes_with_it(rig):
    entries = noted(rig)
    moved = edit.move_part(entries, ("train",), 0, 1)
    assert set(moved.sources) == {"train[1].required_back_focus_mm"}
    typed = edit.apply(entries, edit.Change.of("Type", ("train", 0, "required_back_focus_mm"), 60.0))
    assert set(typed.sources) == {PATH}, "another value keeps what others give"
    assert edit.remove_part(entries, ("train",), 0).sources == {}
    dropped = edit.apply(entries, figures.drop_figure(entries, PATH, 0))
    assert document_of(dropped) == document_of(rig) | ({"sources": {}} if "sources" in document_of(dropped) else {})


def test_a_variant_has_the_notes_of_its_own_train(rig):
    document = document_of(noted(rig))
    ids = [part["id"] for part in document["train"]]
    document["variants"] = [{"name": "turned", "train": [ids[1], ids[0], *ids[2:]]}, {"name": "bare", "train": ids[1:]}]
    whole = validated(document)
    assert set(variant_rig(whole, "turned").sources) == {"train[1].required_back_focus_mm"}
    assert variant_rig(whole, "bare").sources == {}


def test_a_reason_without_other_figures(rig):
    entries = edit.apply(rig, figures.give_reason(rig, PATH, "leaflet", "flat to the corner"))
    assert (entries.sources[PATH].source, entries.sources[PATH].reason) == ("leaflet", "flat to the corner")
    assert evaluate(entries).rows["back_focus_error_mm"].conflicting == ()
    again = edit.apply(entries, figures.give_reason(entries, PATH, "", ""))
    assert PATH not in again.sources


@pytest.mark.parametrize(
    ("work", "words"),
    [
        (lambda rig: figures.add_figure(rig, PATH, 57.2, " "), "say who gives"),
        (lambda rig: figures.add_figure(noted(rig), PATH, 57.2, "a dealer's page"), "noted already"),
        (lambda rig: figures.choose_figure(noted(rig), PATH, 1, "x"), "no such figure"),
        (lambda rig: figures.choose_figure(noted(rig), PATH, 0, ""), "say why"),
        (lambda rig: figures.drop_figure(rig, PATH, 0), "no such figure"),
        (lambda rig: edit.apply(rig, figures.add_figure(rig, "train[0].name", 1.0, "x")), "no number of this rig"),
        (
            lambda rig: edit.apply(rig, figures.add_figure(rig, "train[99].length_mm", 1.0, "x")),
            "no number of this rig",
        ),
    ],
)
def test_what_cannot_be_noted_is_refused(rig, work, words):
    with pytest.raises(InputError, match=words):
        work(rig)

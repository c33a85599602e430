"""A telescope without corrector that states where the sensor belongs: its rear is the datum of the spacing."""

import pytest

from tests.rigs import clean_document
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.rig.shelf import STARTER, load_shelf
from wyntaxis.core.rig.store import validated
from wyntaxis.core.section import section
from wyntaxis.core.train.flat_spacers import wanting
from wyntaxis.core.train.lightpath import back_focus
from wyntaxis.core.train.spacers import apply_set, find_spacers


def bare(ring=12.9, **telescope):
    document = clean_document()
    document["train"] = document["train"][1:]
    document["telescope"] |= {"rear": {"thread": "M48x0.75", "gender": "male", "depth_mm": 4.5}}
    document["telescope"] |= {"required_back_focus_mm": 61.5, "back_focus_tolerance_mm": 0.4} | telescope
    document["train"][2]["length_mm"] = ring
    return document


def test_the_spacing_counts_from_the_rear_of_the_telescope():
    """17.5 + 20 + 12.9 + 12.5 = 62.9 mm; 61.5 mm and 2 mm of glass of n = 1.52 want 62.184 mm."""
    found = evaluate(validated(bare()))
    rows = found.rows
    assert rows["back_focus_required_mm"].best.value == pytest.approx(61.5 + 2 * (1 - 1 / 1.52))
    assert rows["back_focus_built_mm"].best.value == pytest.approx(62.9)
    assert rows["back_focus_error_mm"].best.value == pytest.approx(0.716, abs=1e-3)
    spacing = found.finding("spacing.main")
    assert spacing.verdict is Verdict.FAILS
    assert "0.72 mm too far from Aldous 104" in spacing.title
    assert "12.9 → 12.18 mm" in spacing.remedy.text
    assert evaluate(validated(bare(12.184))).finding("spacing.main").verdict is Verdict.HOLDS
    drawn = section(found)
    assert drawn.datum_mm == 0.0
    assert drawn.plane is not None


def test_a_corrector_with_a_distance_takes_the_datum_and_none_leaves_it_open():
    document = clean_document()
    document["telescope"]["required_back_focus_mm"] = 99.0
    assert back_focus(validated(document)).corrector.id == "reducer"
    document = bare(required_back_focus_mm=None)
    assert back_focus(validated(document)) is None
    assert evaluate(validated(document)).finding("spacing.main").verdict is Verdict.UNPROVEN


def test_spacers_are_found_and_put_in_and_the_telescope_is_no_part_of_the_train():
    rig = validated(bare())
    found = find_spacers(rig, load_shelf(STARTER).parts)
    assert found.sets
    train = apply_set(rig, found, found.sets[0])
    assert rig.telescope.id not in {part["id"] for part in train}
    again = back_focus(validated(bare() | {"train": train}))
    assert abs(again.error_mm) == pytest.approx(abs(found.sets[0].error_mm), abs=1e-9)
    assert abs(again.error_mm) <= 0.4
    with pytest.raises(InputError, match="state the tolerance"):
        find_spacers(validated(bare(back_focus_tolerance_mm=None)), ())


def test_another_distance_is_wanted_of_the_telescope():
    rig = wanting(validated(bare()), 70.0)
    assert back_focus(rig).required_mm == pytest.approx(70.0)

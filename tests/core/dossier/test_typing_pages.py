"""What to type where: each value in the unit and form that a program wants, differences marked."""

import pytest

from tests.rigs import clean_document
from wyntaxis.core.dossier.typing_pages import to_unit, typing_pages
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.evidence.foreign.units import convert, units_for
from wyntaxis.core.rig.store import validated

FOCAL = "effective_focal_length_mm"


def line(quantity, has, form, **sensor):
    """The line of a program that has a value on file, and wants it in a form. Focal length 676 × 0.76 = 513.76 mm."""
    document = clean_document()
    document["train"][-1]["sensor"] |= sensor
    document["records"] = [
        {"id": "program", "name": "Program", "values": {quantity: has}, "forms": {quantity: form} if form else {}}
    ]
    (page,) = typing_pages(evaluate(validated(document)))
    (found,) = page.lines
    assert page.differing == (found.mark == "differs")
    return found


FORMS = [
    # quantity, on file (in our unit), form, binning; what to type, its unit, what is there in that form, how it stands
    (FOCAL, 513.76, {}, 1, "513.76", "mm", "513.76", "agrees"),
    (FOCAL, 676, {}, 1, "513.76", "mm", "676", "differs"),
    (FOCAL, 676, {"reducer": "out"}, 1, "676", "mm", "676", "agrees"),
    (FOCAL, 513.76, {"reducer": "out"}, 1, "676", "mm", "513.76", "differs"),
    (FOCAL, 513.76, {"reducer": "in"}, 1, "513.76", "mm", "513.76", "agrees"),
    (FOCAL, 513.76, {"unit": "m"}, 1, "0.51376", "m", "0.51376", "agrees"),
    (FOCAL, 676, {"unit": "in", "reducer": "out"}, 1, "26.6142", "in", "26.6142", "agrees"),
    ("pixel_um", 3.9, {}, 1, "3.9", "µm", "3.9", "agrees"),
    ("pixel_um", 7.8, {"binned": True}, 2, "7.8", "µm", "7.8", "agrees"),
    ("pixel_um", 3.9, {"binned": True}, 2, "7.8", "µm", "3.9", "differs"),
    ("pixel_um", 3.9, {"binned": False}, 2, "3.9", "µm", "3.9", "agrees"),
    ("pixel_um", 7.8, {"unit": "mm", "binned": True}, 2, "0.0078", "mm", "0.0078", "agrees"),
    ("pixel_scale_arcsec_px", 3.13155, {}, 2, "3.13155", "″/px", "3.13155", "agrees"),
    ("pixel_scale_arcsec_px", 1.565775, {"binned": False}, 2, "1.56578", "″/px", "1.56577", "agrees"),
    ("main.set_temperature_c", -10, {"unit": "K"}, 1, "263.15", "K", "263.15", "agrees"),
    ("main.set_temperature_c", -10, {"unit": "°F"}, 1, "14", "°F", "14", "agrees"),
]


@pytest.mark.parametrize(("quantity", "has", "form", "binning", "expected"), [(*row[:4], row[4:]) for row in FORMS])
def test_each_form(quantity, has, form, binning, expected):
    found = line(quantity, has, form, binning=binning)
    assert (found.type_this, found.unit, found.there_now, found.mark) == expected


def test_the_form_is_told_in_words():
    assert line(FOCAL, 676, {"reducer": "out", "unit": "m"}).note == "of the bare telescope, ÷ 0.76, in m"
    assert line("pixel_um", 7.8, {"binned": True}, binning=2).note == "the binned pixel, × 2"
    assert "reducer" in line(FOCAL, 676, {}).note, "the likely cause of a difference"


SLOTS = ["L", "R", "G", "B", "Ha", "OIII"]


@pytest.mark.parametrize(
    ("form", "typed"),
    [
        ({}, "1: L, 2: R, 3: G, 4: B, 5: Ha, 6: OIII"),
        ({"first_slot": 0}, "0: L, 1: R, 2: G, 3: B, 4: Ha, 5: OIII"),
    ],
)
def test_slots_in_order(form, typed):
    found = line("rondel.slots", SLOTS, form)
    assert (found.type_this, found.mark) == (typed, "agrees")
    swapped = line("rondel.slots", ["R", "L", *SLOTS[2:]], form)
    assert (swapped.mark, swapped.note) == ("differs", "order of L and R swapped")


def test_empty_slots_are_left_out_where_the_program_has_none():
    document = clean_document()
    wheel = next(device for device in document["devices"] if device["kind"] == "filter_wheel")
    wheel["slots"] = [{"name": "L"}, {"name": ""}, {"name": "Ha"}]
    bare = {"empty_slots": False}
    document["records"] = [
        {"id": "p", "name": "P", "values": {"rondel.slots": ["L", "", "Ha"]}, "forms": {"rondel.slots": bare}}
    ]
    (page,) = typing_pages(evaluate(validated(document)))
    assert page.lines[0].type_this == "1: L, 3: Ha"


def test_a_value_that_is_not_on_file_but_wanted_has_a_line():
    document = clean_document()
    document["records"] = [{"id": "p", "name": "P", "values": {"pixel_um": 3.9}, "forms": {FOCAL: {"unit": "m"}}}]
    document["records"].append({"id": "q", "name": "Q", "values": {FOCAL: 513.76}})
    first, second = typing_pages(evaluate(validated(document)))
    entries = {own.quantity: (own.type_this, own.there_now, own.mark) for own in first.lines}
    assert entries[FOCAL] == ("0.51376", "–", "missing")
    assert [own.quantity for own in second.lines] == [FOCAL]


@pytest.mark.parametrize("unit", ["mm", "µm", "°", "″/px", "s", "%", "°C", "MB/s"])
def test_to_a_programs_unit_and_back(unit):
    for wanted in units_for(unit):
        for value in (0.0, 1.0, -12.5, 513.76):
            assert convert(to_unit(value, unit, wanted), wanted, unit) == pytest.approx(value, abs=1e-9)
    with pytest.raises(ValueError, match="furlongs cannot be given in"):
        to_unit(3.0, unit, "furlongs")


@pytest.mark.parametrize("unit", ["mm", "s", "furlongs"])
def test_a_unit_without_a_way_to_it_is_refused(unit):
    """12,900 steps are no 12,900 mm, whatever the record's form says."""
    document = clean_document()
    key = "glide.position"
    document["records"] = [{"id": "p", "name": "P", "values": {key: 12_900}, "forms": {key: {"unit": unit}}}]
    focuser = next(device for device in document["devices"] if device["id"] == "glide")
    focuser.setdefault("settings", {})["position"] = {"value": 12_900}
    (page,) = typing_pages(evaluate(validated(document)))
    (line,) = page.lines
    assert (line.type_this, line.there_now, line.mark) == ("–", "–", "unknown")
    assert line.note == f"a number in steps cannot be given in {unit}: correct the form’s unit"

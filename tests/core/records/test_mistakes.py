"""Mistakes planted in programs' files of every form are named by their arithmetic; right values never are."""

import json

import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.rigs import clean_document
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.evidence.foreign.keymap import KeyRule
from wyntaxis.core.evidence.foreign.readers import read_foreign
from wyntaxis.core.records.compare import matrix
from wyntaxis.core.records.likely_causes import likely_cause_of_list
from wyntaxis.core.records.mapping import apply_map
from wyntaxis.core.records.quantities import comparables
from wyntaxis.core.rig.store import validated

KEY = "value"
WRITERS = {
    "a.json": lambda text: json.dumps({"page": {KEY: text}}),
    "b.ini": lambda text: f"[page]\n{KEY} = {text}\n",
    "c.xml": lambda text: f"<page><{KEY}>{text}</{KEY}></page>",
    "d.csv": lambda text: f'key,value\npage.{KEY},"{text}"\n',
    "e.toml": lambda text: f'[page]\n{KEY} = "{text}"\n',
    "f.yaml": lambda text: yaml.safe_dump({"page": {KEY: text}}),
}
PATHS = {"c.xml": "page.value", "d.csv": '"page.value"'}

# Tarnfell triplet: 676 mm and f/6.5 bare, 513.76 mm with 0.76×, f/4.94; sensor 6000 × 4000 of 3.9 µm, guide pixel 4 µm;
# 47.3° north, 11.1° west; gain 100, offset 50, −10 °C; guide rate 0.5; 104 mm with a third obstructed.
MISTAKES = [
    ("site.latitude_deg", "-11.1", "latitude and longitude are exchanged"),
    ("site.longitude_deg", "47.3", "latitude and longitude are exchanged"),
    ("site.latitude_deg", "11.1", "exchanged, and the sign"),
    ("site.latitude_deg", "-47.3", "the sign is the other way round"),
    ("site.longitude_deg", "11.1", "east counts above 0"),
    ("site.longitude_deg", "348.9", "the same place, counted from 0° to 360°"),
    ("width_px", "4000", "width and height are exchanged"),
    ("height_px", "6000", "width and height are exchanged"),
    ("width_px", "3000", "binned 2"),
    ("main.gain", "50", "gain and offset are exchanged"),
    ("main.offset", "100", "gain and offset are exchanged"),
    ("main.set_temperature_c", "14", "°F for °C"),
    ("aperture_mm", "52", "half: the radius for the diameter"),
    ("guiding.exposure_s", "2000", "unit: ms for s"),
    ("effective_focal_length_mm", "4.9", "f/4.9: the focal ratio"),
    ("effective_focal_length_mm", "6.5", "the bare telescope’s focal ratio"),
    ("effective_focal_length_mm", "676", "the reducer Aldous 0.76x is missing"),
    ("effective_focal_length_mm", "20.227", "unit: inches for mm"),
    ("guide_pixel_um", "3.9", "the main camera’s pixel"),
    ("pixel_um", "4.0", "the guide camera’s pixel"),
    ("guide_focal_length_mm", "676", "is missing: the prism sits behind it"),
    ("guiding.rate_sidereal", "50", "% of the sidereal rate"),
    ("guiding.rate_sidereal", "7.52", "″/s for × sidereal"),
    ("obstruction_ratio", "34.3", "diameter in mm"),
    ("obstruction_ratio", "0.1089", "share of the area"),
    ("obstruction_ratio", "33", "% for a share"),
    ("glide.position", "20.8", "in mm: 5200 steps of 4 µm"),
    ("rondel.slots", "; L; R; G; B; Ha", "one slot too late"),
    ("rondel.slots", "R; G; B; Ha; OIII; L", "one slot too early"),
]


def rig_document():
    document = clean_document()
    document["site"] |= {"latitude_deg": 47.3, "longitude_deg": -11.1}
    document["telescope"]["obstruction_ratio"] = 0.33
    return document


@pytest.fixture(scope="module")
def known():
    return comparables(evaluate(validated(rig_document())))


def compared(values):
    document = rig_document()
    document["records"] = [{"id": "program", "name": "Program", "values": values}]
    return {row.item.id: row.cells[0] for row in matrix(evaluate(validated(document))).rows}


@pytest.mark.parametrize("name", WRITERS)
def test_planted_mistakes_are_named_in_every_form_of_file(name, tmp_path, known):
    for quantity, text, words in MISTAKES:
        path = tmp_path / name
        path.write_text(WRITERS[name](text), "utf-8")
        flat = read_foreign(path)
        (where,) = [key for key in flat.values if key.strip('"').endswith(KEY) and flat.values[key] == text]
        found = apply_map([KeyRule(path=where, quantity=quantity, separator="semicolon")], flat.values, known)
        assert not found.faults, (quantity, found.faults)
        cell = compared({k: list(v) if isinstance(v, tuple) else v for k, v in found.values.items()})[quantity]
        assert cell.state == "differs", (quantity, text)
        assert words in cell.story, (quantity, text, cell.story)


@settings(max_examples=100, deadline=None)
@given(st.data())
def test_a_right_record_is_called_no_mistake(known, data):
    values = {}
    for key, item in known.items():
        if item.value is None:
            continue
        value = list(item.value) if isinstance(item.value, tuple) else item.value
        if item.type == "number" and item.tolerance:
            value = item.value + 0.99 * item.tolerance * data.draw(st.sampled_from((-1, -0.5, 0, 0.5, 1)))
        values[key] = value
    for key, cell in compared(values).items():
        assert (cell.state, cell.story) == ("agrees", ""), (key, values[key], cell)


@pytest.mark.parametrize(
    ("has", "story"),
    [
        (("", "L", "R"), "late"), (("G", "L", "R"), "late"), (("R", "G", ""), "early"), (("R", "G", "L"), "early"),
        (("", "L", "R", "G"), "late"), (("R", "G"), "without L"), (("Filter 1", "L", "R"), "late"),
        (("X", "L", "R"), "without G; with X"),
    ],
)  # fmt: skip
def test_names_one_slot_beside_their_own(has, story):
    assert story in likely_cause_of_list(has, ("L", "R", "G"))


@pytest.mark.parametrize(
    ("quantity", "written", "unit"),
    [
        ("effective_focal_length_mm", "5.2 kg", ""),
        ("guiding.exposure_s", "2", "mm"),
        ("main.set_temperature_c", "-10 px", ""),
    ],
)
def test_a_unit_that_leads_nowhere_is_refused_and_never_agrees(quantity, written, unit, known):
    found = apply_map([KeyRule(path="a", quantity=quantity, unit=unit or None)], {"a": written}, known)
    assert quantity not in found.values
    assert len(found.faults) == 1

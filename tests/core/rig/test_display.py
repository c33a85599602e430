"""The document declares how it is shown: cards, comparison and schema follow the field."""

import json

import pytest
from pydantic import BaseModel

from tests.rigs import clean_document
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.records.quantities import comparables
from wyntaxis.core.rig.devices import Connection, Device, RecordEntry, Slot, Storage, Supply
from wyntaxis.core.rig.display import displayed_at, displayed_fields
from wyntaxis.core.rig.model import Rig, json_schema
from wyntaxis.core.rig.parts import Part, Sensor, Telescope
from wyntaxis.core.rig.plan import GuideSettings, Plan, Site
from wyntaxis.core.rig.store import validated

MODELS = (Part, Sensor, Telescope, Site, Plan, GuideSettings, Device, Connection, Slot, Storage, Supply, RecordEntry)


@pytest.fixture(scope="module")
def rig():
    return validated(clean_document())


@pytest.mark.parametrize("model", MODELS)
def test_every_field_shown_has_a_label_of_its_own_and_a_place(model: type[BaseModel]):
    fields = displayed_fields(model)
    assert fields
    assert len({field.path for field in fields}) == len(fields)
    assert len({field.label for field in fields}) == len(fields)
    for field in fields:
        assert displayed_at(model, *field.path) == field
        assert field.label == field.label.strip() != ""


@pytest.mark.parametrize(
    ("part", "labels", "not_shown"),
    [
        ("reducer", {"Magnification", "Required distance"}, {"Prism height", "Pixel", "Pinned in the search"}),
        ("oag", {"Prism from front", "Prism beside the sensor's"}, {"Magnification", "Image circle"}),
        ("camera", {"Pixels across", "Binning"}, {"Front thread", "Shortest"}),
        ("ring", {"Pinned in the search"}, {"Magnification"}),
    ],
)
def test_a_part_shows_what_belongs_to_its_kind(rig, part, labels, not_shown):
    found = next(one for one in rig.train if one.id == part or (part == "ring" and one.kind == "spacer"))
    shown = {field.label for field in displayed_fields(Part, found)}
    assert labels <= shown
    assert not shown & not_shown


def test_plates_and_joints_are_numbered_and_named():
    part = Part.model_validate(
        {
            "id": "p",
            "kind": "adapter",
            "length_mm": 5,
            "front": {"thread": "M48x0.75", "gender": "male"},
            "glass": [{"thickness_mm": 2, "index": 1.5}, {"thickness_mm": 3, "index": 1.5}],
        }
    )
    fields = {field.label: field for field in displayed_fields(Part, part)}
    assert fields["Thickness 2"].path == ("glass", 1, "thickness_mm")
    assert (fields["Front gender"].kind, fields["Front gender"].optional) == ("choice", False)
    assert fields["Front thread"].path == ("front", "thread")
    assert "Rear thread" not in fields


def test_a_field_with_a_topic_is_compared(rig):
    found = comparables(evaluate(rig))
    for key, topic, unit in (
        ("guiding.settle_s", "guiding", "s"),
        ("site.elevation_m", "site", "m"),
        ("main.driver_version", "driver", ""),
        ("glide.baud", "connection", ""),
        ("pixel_um", "pixel", "µm"),
    ):
        assert (found[key].topic, found[key].unit) == (topic, unit)
    assert found["glide.baud"].value == 9600
    assert found["glide.baud"].label == "Glide motor: baud rate"
    assert found["site.latitude_deg"].tolerance == 0.05


def test_the_schema_names_the_fields_as_the_window_does():
    schema = json_schema()
    assert schema["$defs"]["GuideSettings"]["properties"]["settle_px"]["title"] == "Settled within, guide px"
    json.dumps(schema, allow_nan=False)
    assert displayed_at(Rig, "mount", "kind").choices == ("equatorial", "alt_azimuth")
    with pytest.raises(KeyError):
        displayed_at(Part, "id")

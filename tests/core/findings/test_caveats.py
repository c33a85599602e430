"""What rests on a value that nobody gave is unproven; what is accepted is counted apart, and lapses with its number."""

import json

import pytest

from tests.core.evidence.test_headers import entries, header
from tests.rigs import clean_document
from wyntaxis.cli import main
from wyntaxis.core.evaluation import Evidence, evaluate
from wyntaxis.core.evidence.headers.kind import HEADERS
from wyntaxis.core.findings.acceptance import acceptance, withdrawal
from wyntaxis.core.findings.conditions import overall
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.rig.store import validated
from wyntaxis.core.steps import LIGHT_PATH
from wyntaxis.core.worklist import tallies

RING = ("train", 3, "length_mm")


@pytest.mark.parametrize(
    "path, rests, stands",
    [
        (
            "train[3].length_mm",
            {"back_focus_built_mm", "back_focus_error_mm"},
            {"pixel_scale_arcsec_px", "glass_shift_mm"},
        ),
        (
            "train[4].sensor.pixel_um",
            {"pixel_scale_arcsec_px", "field_width_deg"},
            {"focal_ratio", "back_focus_error_mm"},
        ),
        ("telescope.aperture_mm", {"focal_ratio", "airy_diameter_um"}, {"pixel_scale_arcsec_px"}),
        ("site.seeing_fwhm_arcsec", {"sampling_px_per_fwhm", "depth_of_focus_seeing_um"}, {"focal_ratio"}),
        ("train[2].glass[0].thickness_mm", {"glass_shift_mm", "back_focus_required_mm"}, {"pixel_scale_arcsec_px"}),
    ],
)
def test_what_rests_on_an_assumed_value_is_unproven_and_nothing_else(example, path, rests, stands):
    before, rig = evaluate(validated(example)), validated(example | {"assumed": [path]})
    rows = evaluate(rig).rows
    assert {key for key in rests if rows[key].assumed == (path,)} == rests
    assert all(rows[key].verdict is Verdict.UNPROVEN for key in rests)
    assert all(rows[key] == before.rows[key] for key in stands)


def test_a_finding_says_what_it_rests_on_and_offers_no_edit(example):
    found = evaluate(validated(example | {"assumed": ["train[3].length_mm"]})).finding("spacing.main")
    assert (found.verdict, found.remedy.change) == (Verdict.UNPROVEN, None)
    assert found.title.endswith("if ring 12.9: length 12.9 mm is as assumed")
    assert "Enter ring 12.9: length 12.9 mm" in found.remedy.text
    assert found.as_json()["assumed"] == ["train[3].length_mm"]
    tally = next(
        one
        for one in tallies(evaluate(validated(example | {"assumed": ["train[3].length_mm"]})))
        if one.step is LIGHT_PATH
    )
    assert tally.verdict is Verdict.UNPROVEN


def test_an_accepted_finding_is_told_apart_and_lapses_with_its_number(example, tmp_path, capsys):
    rig = validated(example)
    for one in [f for f in evaluate(rig).findings if f.verdict is Verdict.FAILS]:
        rig = edit.apply(rig, acceptance(evaluate(rig), one, "bent corners are cropped", "2026-11-26"))
    evaluation = evaluate(rig)
    found = evaluation.finding("spacing.main")
    assert (found.verdict, found.accepted, found.is_open) == (Verdict.FAILS, "bent corners are cropped", False)
    spacing = evaluation.conditions[0]
    assert (spacing.verdict, len(spacing.accepted)) == (Verdict.UNPROVEN, 2)  # joints are not described
    assert overall(evaluation.conditions).endswith("2 findings accepted")
    tally = next(one for one in tallies(evaluation) if one.step is LIGHT_PATH)
    assert (tally.accepted, tally.counts.get(Verdict.FAILS)) == (1, None)
    path = tmp_path / "a.rig.json"
    path.write_text(json.dumps(rig.model_dump(mode="json", exclude_unset=True)), "utf-8")
    assert main(["check", str(path)]) == 0
    assert "accepted on 2026-11-26: bent corners are cropped" in capsys.readouterr().out
    # Half a hundredth off its two decimals it is another number.
    other = evaluate(edit.apply(rig, Change.of("x", RING, 12.91)))
    assert other.finding("spacing.main").accepted == ""
    assert "no longer accepted, as it is 0.73 now" in other.finding("spacing.main").arithmetic[-1]
    same = evaluate(edit.apply(rig, Change.of("x", RING, 12.9001)))
    assert same.finding("spacing.main").accepted
    back = edit.apply(rig, withdrawal(rig, found))
    assert evaluate(back).finding("spacing.main").accepted == ""
    assert len(back.accepted) == 1


def test_a_rig_with_nothing_optional_becomes_ready():
    document = {
        "format": "wyntaxis-rig",
        "version": 1,
        "name": "plain",
        "telescope": {"id": "ota", "focal_length_mm": 500, "aperture_mm": 80},
        "train": [
            {
                "id": "camera",
                "kind": "camera",
                "length_mm": 12.5,
                "sensor": {"width_px": 900, "height_px": 600, "pixel_um": 4},
            }
        ],
        "mount": {"kind": "equatorial"},
        "plan": {"exposure_s": 240, "actions": ["flip", "park"]},
        "devices": [
            {
                "id": "mount",
                "kind": "mount",
                "driver": {"name": "cairn", "version": "1"},
                "connection": {"kind": "network", "host": "cairn"},
                "connected": True,
                "settings": {"flip_margin_min": {"value": 11}, "park_set": {"value": True}},
            }
        ],
    }
    conditions = evaluate(validated(document)).conditions
    assert {one.condition.key for one in conditions if one.applies} == {"mount", "calibration"}
    assert all(one.why.startswith("the rig has no ") for one in conditions if not one.applies)
    # Lights need their darks, whatever the rig: those are proven by frames alone.
    assert overall(conditions) == "Nothing fails; of 2 conditions 1 unproven"
    headers = entries(
        *(header(IMAGETYP=kind, FILTER=None, FOCALLEN=500.0, XPIXSZ=4.0) for kind in ("LIGHT", "DARK", "BIAS", "FLAT"))
    )
    with_frames = Evidence().having(HEADERS, headers)
    assert overall(evaluate(validated(document), with_frames).conditions) == "Ready: all 2 conditions hold"
    for key in ("devices", "mount", "plan"):
        del document[key]
    bare = evaluate(validated(document)).conditions
    assert not [one for one in bare if one.applies]
    assert overall(bare) == "No condition of the night applies to this rig yet"


@pytest.mark.parametrize(
    "key, without",
    [
        (
            "filters",
            lambda d: (
                d["devices"].remove(next(one for one in d["devices"] if one["kind"] == "filter_wheel")),
                d["plan"].pop("filters"),
                d["train"].remove(next(p for p in d["train"] if p["kind"] == "filter_wheel")),
            ),
        ),
        ("sides", lambda d: [record.pop("pair", None) for record in d["records"]]),
        ("focal_length", lambda d: d.pop("records")),
        ("power", lambda d: (d.pop("supplies"), [one.pop("power", None) for one in d["devices"]])),
        (
            "storage",
            lambda d: (
                d["devices"].remove(next(one for one in d["devices"] if one["kind"] == "computer")),
                d["plan"].pop("frames"),
            ),
        ),
    ],
)
def test_a_condition_of_what_is_not_there_does_not_apply(key, without):
    document = clean_document()
    assert next(one for one in evaluate(validated(document)).conditions if one.condition.key == key).applies
    without(document)
    entries = next(one for one in evaluate(validated(document)).conditions if one.condition.key == key)
    assert (entries.applies, entries.as_json()["applies"]) == (False, False)

"""Nothing of a rig's file is missing on paper: every value and every finding is told, or left out with a reason."""

import json
from fnmatch import fnmatchcase
from html.parser import HTMLParser
from itertools import pairwise
from pathlib import Path

import pytest

from wyntaxis import demo
from wyntaxis.core.dossier.dossier import as_csv, dossier_of
from wyntaxis.core.dossier.dossier_input import DossierInput
from wyntaxis.core.dossier.printing import dossier_html
from wyntaxis.core.dossier.rest_chapter import EXCEPTIONS, is_left_out, is_reported, leaves_of
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.evidence.kinds import Evidence
from wyntaxis.core.files.errors import path_text
from wyntaxis.core.rehearsal.kind import REHEARSAL, rehearse
from wyntaxis.core.rig.marks import parse_path
from wyntaxis.core.rig.store import document_of, load, validated

RIGS = sorted(path.name.removesuffix(".rig.json") for path in Path(demo.__file__).parent.glob("*.rig.json"))


def paper(rig, **given):
    return dossier_of(DossierInput(evaluate(rig), **given))


@pytest.fixture(scope="module", params=RIGS)
def rig(request):
    return load(demo.rig_path(request.param)).rig


@pytest.fixture(scope="module")
def found(rig):
    return paper(rig)


def rest_rows(found):
    chapter = next((own for own in found.chapters if own.key == "rest"), None)
    return {row[1]: row[2] for block in chapter.blocks for row in block.rows} if chapter else {}


def test_every_value_is_told_or_left_out_with_a_reason(rig, found):
    document, rows, text = document_of(rig), rest_rows(found), f"{found.rig}\n{as_csv(found)}"
    assumed = document.pop("assumed", [])
    for path, value in leaves_of(document):
        where = path_text(path)
        if is_left_out(path) or where in rows:
            continue
        typed = path[0] == "records" and path[2] == "values"
        if not typed:
            assert is_reported(document, path), where
        if isinstance(value, str):
            words = (value, value.replace("_", " "), json.dumps(value, ensure_ascii=False)[1:-1])
            assert any(word in text for word in words), (where, value)
    assert set(assumed) <= set(rows)
    assert all(reason for reason in EXCEPTIONS.values())


REPORTED_VALUES = {
    "note": ("Zq1 note", "Zq1 note"),
    "telescope.mass_g": (7654, "7654"),
    "telescope.focuser.load_rating_g": (8123, "rated for 8123 g"),
    "telescope.focuser.moment_rating_n_m": (7.77, "7.77 N·m"),
    "telescope.focuser.focal_plane_mm": (147.31, "focal plane 147.31 mm"),
    "telescope.focuser.travel_mm": (61.23, "travel 61.23 mm"),
    "train[1].mark": ("Zq2 mark", "Zq2 mark"),
    "train[1].mass_g": (4321, "4321"),
    "train[3].length_tolerance_mm": (0.037, "± 0.037"),
    "mount.worm_period_s": (431.5, "worm turns in 431.5 s"),
    "mount.payload_rating_kg": (17.3, "carries 17.3 kg"),
    "devices[0].identity.usb_id": ("abcd:1234", "abcd:1234"),
    "devices[0].identity.firmware": ("Zq3", "Zq3"),
    "devices[0].driver.version": ("9.8.7", "9.8.7"),
    "devices[0].settings.gain.tolerance": (0.731, "± 0.73"),
    "supplies[1].capacity_ah": (61.7, "61.7"),
    "framing": (
        {"name": "Zq4 target", "ra_deg": 123.4567, "dec_deg": 12.3456, "position_angle_deg": 45.6},
        "Zq4 target, RA 123.4567°, Dec 12.3456°, position angle 45.6°",
    ),
    "plan.steps[3].pause_s": (37.5, "37.5"),
    "plan.steps[12].exposure_s": (187.5, "187.5"),
    "plan.file_names": ("{target}_Zq5_{number}", "Zq5"),
    "variants[0].name": ("Zq6 train", "Zq6 train"),
    "records[0].version": ("Zq7", "Zq7"),
    "site.elevation_m": (1357, "1357 m"),
}


def test_what_is_said_to_be_told_elsewhere_is():
    """Values that stand nowhere else in the file, each looked for on paper."""
    document = document_of(load(demo.rig_path("tarnfell-triplet-reduced")).rig)
    for where, (value, _) in REPORTED_VALUES.items():
        node, path = document, parse_path(where)
        for step in path[:-1]:
            node = node.setdefault(step, {}) if isinstance(node, dict) else node[step]
        node[path[-1]] = value
    rig = validated(document)
    found = paper(rig)
    text, rows = as_csv(found).replace('""', '"'), rest_rows(found)
    missing = [where for where, (_, shown) in REPORTED_VALUES.items() if shown not in text or where in rows]
    assert missing == []


def test_every_finding_is_on_paper(rig, found):
    night = Evidence()
    if rig.plan is not None and rig.plan.steps:
        night = night.having(REHEARSAL, rehearse(rig))
    evaluation = evaluate(rig, night)
    text = as_csv(found).replace('""', '"')
    missing = [finding.id for finding in evaluation.findings if finding.title not in text]
    assert missing == []
    if rig.plan is not None and rig.plan.steps:
        assert {finding.id for finding in evaluation.findings if finding.id.startswith("night.")}


def test_headings_go_down_one_level_at_a_time(found):
    levels = []

    class Headings(HTMLParser):
        def handle_starttag(self, tag, attrs):
            if fnmatchcase(tag, "h[1-6]"):
                levels.append(int(tag[1]))

    Headings().feed(dossier_html(found))
    assert levels[0] == 1
    assert all(after <= before + 1 for before, after in pairwise(levels))


def test_a_private_dossier_tells_the_rest_without_what_is_private():
    rig = load(demo.rig_path("tarnfell-triplet-reduced")).rig
    text = as_csv(paper(rig, private=True))
    assert "obstruction ratio" in text
    for secret in ("cairn.tarnfell", "PG-00417", "47.3"):
        assert secret not in text

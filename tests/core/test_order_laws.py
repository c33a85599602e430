"""The order in which things are listed changes no result: devices, supplies, records, pieces, frames, runs."""

import json
import random
from dataclasses import replace

import pytest

from tests.core.evidence.test_headers import entries, header
from tests.rigs import clean_document
from wyntaxis import demo
from wyntaxis.core.evaluation import Evidence, evaluate
from wyntaxis.core.evidence.focus.result import measured as measured_focus
from wyntaxis.core.evidence.headers.folder import FolderHeaders
from wyntaxis.core.evidence.headers.kind import HEADERS
from wyntaxis.core.rig.marks import MarkTracker
from wyntaxis.core.rig.store import document_of, load, validated

RIGS = ("meadow-newtonian", "tarnfell-triplet-native", "tarnfell-triplet-reduced")
LISTS = ("devices", "supplies", "records", "variants")


def results_of(evaluation):
    """Findings and numbers by what they are of, whatever their order; a title may name things as they are listed."""
    findings = sorted(
        (f.id, f.subject, str(f.verdict), sorted(f.title.replace(",", "").split())) for f in evaluation.findings
    )
    numbers = {
        key: {name: (quantity_value.value, quantity_value.uncertainty) for name, quantity_value in row.values.items()}
        for key, row in evaluation.rows.items()
    }
    return findings, numbers


def shuffled(document, key, seed):
    """A document whose list of one kind is in another order, its marks carried along."""
    changed = json.loads(json.dumps(document))
    marks = MarkTracker(changed)
    random.Random(seed).shuffle(changed[key])
    marks.into(changed)
    return changed


@pytest.mark.slow
@pytest.mark.parametrize("key", LISTS)
@pytest.mark.parametrize("name", RIGS)
def test_the_order_of_a_list_changes_no_result(name, key):
    rig = load(demo.rig_path(name)).rig
    document = document_of(rig)
    if len(document.get(key, ())) < 2:
        return
    before, numbers = results_of(evaluate(rig))
    for seed in range(3):
        after, found = results_of(evaluate(validated(shuffled(document, key, seed))))
        assert after == before
        for row, values in numbers.items():
            for quantity_value, (value, uncertainty) in values.items():
                assert found[row][quantity_value] == (pytest.approx(value), pytest.approx(uncertainty)), row


ODD = {
    "gain": {"GAIN": 200},
    "temperature": {"CCD_TEMP": 4.0},
    "focal length": {"FOCALLEN": 676.0},
    "pixel": {"XPIXSZ": 7.8},
    "binning": {"XBINNING": 2, "XPIXSZ": 7.8},
    "site": {"SITELAT": "40 00 00"},
    "filter": {"FILTER": "Qx"},
}


@pytest.mark.parametrize("odd", ODD, ids=str)
def test_the_odd_frame_is_told_alike_first_in_the_middle_and_last(odd):
    """Twelve frames, one of them odd, wherever it stands in the folder; darks go with both ends."""
    rig = validated(clean_document())
    results = []
    for place in (0, 6, 12):
        cards = [header() for _ in range(12)]
        cards.insert(place, header(**ODD[odd]))
        cards.append(header(IMAGETYP="DARK", FILTER=None))
        frames = entries(*cards)
        # The odd one is called alike wherever it stands.
        names = [*(f"light {n}" for n in range(12)), "dark"]
        names.insert(place, "odd")
        kept = tuple(replace(frame, path=name) for frame, name in zip(frames.frames, names, strict=True))
        evaluation = evaluate(rig, Evidence().having(HEADERS, FolderHeaders("f", kept, ())))
        results.append(sorted((f.id, f.subject, str(f.verdict)) for f in evaluation.findings))
    assert results[0] == results[1] == results[2]


def test_the_order_of_focus_runs_changes_no_number():
    from tests.core.evidence.test_focus import OPTICS, moved, run_points
    from wyntaxis.core.evidence.focus.runs import runs_of

    points = []
    for number, (name, best) in enumerate([("L", 10_000), ("Ha", 10_020), ("L", 10_002), ("OIII", 9_990)]):
        points += moved(run_points(best, seed=number, filter=name), 3000 * number)
    runs, _ = runs_of(points, in_order=True)
    wanted = None
    for seed in range(6):
        own = list(runs)
        random.Random(seed).shuffle(own)
        result = measured_focus(own, OPTICS)
        reported_of = (
            round(result.step_um.value, 9),
            result.model.reference,
            {entry.name: round(entry.offset.value, 6) for entry in result.offsets if entry.offset},
        )
        wanted = wanted or reported_of
        assert reported_of == wanted

"""Combinations of the shelf: against formulas written out here, and against the rigs made of them."""

import json
import math

import pytest

from wyntaxis.cli import main
from wyntaxis.core.chooser import SHOWN, choices_of, combinations, sorted_by
from wyntaxis.core.dossier.bundle import Unpacked, with_lacking
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.files.errors import CancelledError, InputError
from wyntaxis.core.quantities.numbers import numbers_of
from wyntaxis.core.rig.shelf import Shelf, load_shelf, save_shelf, validated_shelf
from wyntaxis.core.rig.store import document_of, validated
from wyntaxis.core.sky.objects import find_object
from wyntaxis.demo import CHOOSING_SHELF

TELESCOPES = {"aldous_104": (676, 104), "aldous_72": (432, 72), "meadow_200": (1000, 200)}
CORRECTORS = {
    None: (1.0, None, 0),
    "reducer_076": (0.76, 61.5, 0.4),
    "flattener": (1.0, 55, 1),
    "coma": (1.05, 55, 0.5),
}
CAMERAS = {"grand": (6000, 4000, 3.9, 12.5), "petite": (3800, 2600, 2.9, 17.5)}
LENGTHS = {
    "ring_48_10": 10, "ring_48_12": 12.2, "ring_48_20": 20, "ring_48_5": 5, "m48_m42": 2, "m54_m48": 3, "shim_05": 0.5,
}  # fmt: skip
THREADS = {"aldous_104": "M63", "aldous_72": "M63", "meadow_200": "M54"}
OF = {"reducer_076": "M63", "flattener": "M63", "coma": "M54"}


@pytest.fixture(scope="module")
def shelf():
    return load_shelf(CHOOSING_SHELF)


@pytest.fixture(scope="module")
def every(shelf):
    return combinations(choices_of(shelf))


def test_each_combination_is_there_once_with_the_numbers_of_the_formulas(every):
    guides = (None, "peep_32+petit", "sideglance+petit")
    wanted = {(t, c, k, g) for t in TELESCOPES for c in CORRECTORS for k in CAMERAS for g in guides}
    assert {(own.telescope, own.corrector, own.camera, own.guide) for own in every} == wanted
    assert len(every) == len(wanted) == 72
    for own in every:
        focal, aperture = TELESCOPES[own.telescope]
        factor, required, allowed = CORRECTORS[own.corrector]
        width, height, pixel, flange = CAMERAS[own.camera]
        if own.corrector is None and own.telescope == "meadow_200":
            required, allowed = 56, 6  # from its own rear
        focal *= factor
        near = pytest.approx
        assert own.numbers["effective_focal_length_mm"] == near(focal)
        assert own.numbers["focal_ratio"] == near(focal / aperture)
        scale = 206.264806 * pixel / focal
        assert own.numbers["pixel_scale_arcsec_px"] == near(scale, rel=1e-6)
        field = math.degrees(2 * math.atan(width * pixel / 2000 / focal))
        assert own.numbers["field_width_deg"] == near(field, rel=1e-6)
        assert own.numbers["sensor_diagonal_mm"] == near(math.hypot(width, height) * pixel / 1000)
        assert own.numbers["sampling_usual"] == near(3.0 / scale)
        assert own.numbers["data_mb_h"] == near(width * height * 2 / 1e6 * 12)
        if own.guide == "peep_32+petit":
            assert own.numbers["guide_to_main_ratio"] == near(206.264806 * 4 / 120 / scale, rel=1e-6)
        if required is not None and own.pieces:
            built = sum(LENGTHS[piece] for piece in own.pieces) + flange
            built += 17.5 if own.guide is not None and "sideglance" in own.guide else 0
            assert own.numbers["back_focus_error_mm"] == near(built - required, abs=1e-6)
            assert abs(built - required) <= allowed + 1e-9
        joins = own.corrector is not None and THREADS[own.telescope] == OF[own.corrector]
        if own.corrector is not None and not joins:
            assert own.mates is False
        if own.mates:
            assert own.why == ""
            assert joins or own.telescope == "meadow_200"


def test_every_row_is_that_of_the_rig_made_of_it(every):
    for own in every[::5]:
        rig = validated(json.loads(json.dumps(document_of(own.rig))))
        numbers = numbers_of(rig).quantities
        for key in SHOWN:
            best = numbers[key].best
            assert own.numbers.get(key) == (best.value if best is not None else None), key
        failing = {finding.id for finding in evaluate(rig).findings if finding.verdict == "fails"}
        assert ("joints.mate" in failing) <= (own.mates is False)
        if own.mates:
            assert not failing & {"spacing.main", "joints.mate"}


def test_pieces_that_must_be_in_stand_in_every_train(shelf):
    found = combinations(choices_of(shelf, ["rondel_7", "sideglance", "aldous_104", "reducer_076", "grand"]))
    (own,) = found
    assert [part.id for part in own.rig.train if part.kind != "spacer"] == [
        "reducer_076",
        "sideglance",
        "rondel_7",
        "grand",
    ]
    # 61.5 + 0.684 of glass − 17.5 − 20 − 12.5 = 12.184, and the ring has 12.2.
    assert (own.mates, own.pieces) == (True, ("ring_48_12",))
    assert own.numbers["back_focus_error_mm"] == pytest.approx(12.2 - 12.184, abs=0.001)
    assert own.numbers["cost"] == 2900 + 520 + 350 + 600 + 2600 + 300 + 25


def test_of_several_correctors_asked_for_each_is_tried(shelf):
    found = combinations(choices_of(shelf, ["reducer_076", "flattener", "aldous_72", "grand"]))
    assert {own.corrector for own in found} == {"reducer_076", "flattener"}


def test_what_is_not_owned_is_left_out_unless_it_is_asked_for(shelf):
    document = shelf.model_dump(mode="json", exclude_unset=True) | {"format": "wyntaxis-shelf"}
    next(entry for entry in document["parts"] if entry["part"]["id"] == "grand")["owned"] = 0
    fewer = validated_shelf(document)
    assert {own.camera for own in combinations(choices_of(fewer))} == {"petite"}
    assert {own.camera for own in combinations(choices_of(fewer, ["grand"]))} == {"grand"}


def test_joints_that_are_not_described_leave_it_open(shelf):
    document = shelf.model_dump(mode="json", exclude_unset=True) | {"format": "wyntaxis-shelf"}
    document["telescopes"][1]["telescope"].pop("rear")
    found = combinations(choices_of(validated_shelf(document), ["aldous_72", "flattener", "grand"]))
    assert {own.mates for own in found} == {None}
    assert "is not described" in found[0].why


def test_each_bare_telescope_has_the_pieces_of_its_own_distance(shelf):
    document = shelf.model_dump(mode="json", exclude_unset=True) | {"format": "wyntaxis-shelf"}
    other = json.loads(json.dumps(document["telescopes"][2]))
    other["telescope"] |= {"id": "other_200", "required_back_focus_mm": 66}
    document["telescopes"].append(other)
    found = combinations(choices_of(validated_shelf(document), ["grand"]))
    for own in found:
        wanted = {"meadow_200": 56, "other_200": 66}.get(own.telescope)
        if wanted is not None and own.corrector is None and own.guide is None:
            assert own.numbers["back_focus_error_mm"] == pytest.approx(
                sum(LENGTHS[piece] for piece in own.pieces) + 12.5 - wanted
            )


def test_an_object_in_the_field_and_the_order(shelf):
    target = find_object("NGC 7243")
    found = combinations(choices_of(shelf, ["aldous_104", "flattener", "grand"]), target)
    share = 100 * target.major_arcmin / 60 / found[0].numbers["field_width_deg"]
    other = 100 * (target.minor_arcmin or target.major_arcmin) / 60 / found[0].numbers["field_height_deg"]
    assert found[0].numbers["object_share_percent"] == pytest.approx(max(share, other))
    every = combinations(choices_of(shelf))
    ratios = [own.numbers["focal_ratio"] for own in sorted_by(every, "focal_ratio")]
    assert ratios == sorted(ratios)
    order = [own.mates for own in every]
    assert order == sorted(order, key=[True, None, False].index)


@pytest.mark.parametrize(
    ("wanted", "words"),
    [
        (["nothing"], "is not on the shelf"), (["ring_48_10"], "is a loose piece"),
        (["petit", "peep_32", "sideglance"], "no guide telescope or prism goes"),
    ],
)  # fmt: skip
def test_what_cannot_be_asked_for_is_one_line(shelf, wanted, words):
    with pytest.raises(InputError, match=words):
        choices_of(shelf, wanted)


def test_shelves_without_enough_orders_without_a_number_and_cancelling(shelf):
    with pytest.raises(InputError, match="no telescope"):
        choices_of(Shelf(parts=shelf.parts))
    with pytest.raises(InputError, match="no camera"):
        choices_of(Shelf(telescopes=shelf.telescopes))
    with pytest.raises(InputError, match="there is no number"):
        sorted_by([], "nothing")

    def progress(done, _of):
        if done == 3:
            raise CancelledError

    with pytest.raises(CancelledError):
        combinations(choices_of(shelf), progress=progress)


def test_telescopes_stay_on_a_shelf_whatever_becomes_of_its_parts(shelf, tmp_path):
    assert shelf.with_parts(shelf.parts[:1]).telescopes == shelf.telescopes
    document = shelf.model_dump(mode="json", exclude_unset=True) | {"format": "wyntaxis-shelf"}
    document["telescopes"][0]["telescope"]["id"] = "grand"
    with pytest.raises(InputError, match="is twice on the shelf"):
        validated_shelf(document)
    save_shelf(shelf, tmp_path / "theirs.json")
    came = with_lacking(Unpacked(tmp_path / "a.rig.json", tmp_path / "theirs.json", None), Shelf())
    assert (came.parts, came.telescopes) == (shelf.parts, shelf.telescopes)


def test_the_command(capsys):
    shelf = str(CHOOSING_SHELF)
    assert main(["choose", "--shelf", shelf, "--json", "--sort", "cost"]) == 0
    found = json.loads(capsys.readouterr().out)
    assert len(found) == 72
    assert set(found[0]) == {"telescope", "corrector", "camera", "guide", "pieces", "numbers", "mates", "why"}
    assert [own["numbers"]["cost"] for own in found] == sorted(own["numbers"]["cost"] for own in found)
    assert main(["choose", "--shelf", shelf, "--with", "aldous_72", "--object", "NGC 7243"]) == 0
    assert "aldous_104" not in capsys.readouterr().out
    for wrong in (["--object", "Nowhere 1"], ["--sort", "nothing"], ["--with", "nothing"], ["--shelf", "nowhere.json"]):
        assert main(["choose", "--shelf", shelf, *wrong]) == 2
        assert capsys.readouterr().err.count("\n") == 1

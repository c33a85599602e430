"""A carried rig: what a set-up makes not verified, conditions of one's own, and what stays as it is."""

import datetime
import json

import pytest

from tests.rigs import clean_document
from wyntaxis.cli import main
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.findings.conditions import own_conditions
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantity_kinds import QUANTITY_KINDS, SET_UP
from wyntaxis.core.records.setting_up import done, is_met, setup_json, started
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.device_settings import SETTINGS
from wyntaxis.core.rig.out_of_date import calibration_from_earlier_setup, confirmation, from_earlier_setup
from wyntaxis.core.rig.setup import USUAL_CONDITIONS, Setup, usual_conditions
from wyntaxis.core.rig.store import validated
from wyntaxis.core.run_up import confirmed as confirm_step
from wyntaxis.core.run_up import run_up

BEGUN, BEFORE, AFTER = "2026-11-20T18:00:00Z", "2026-10-20T21:00:00Z", "2026-11-20T19:00:00Z"
NOW = datetime.datetime(2026, 11, 20, 20, tzinfo=datetime.UTC)
HOLD_FOR_ONE = {"polar_error_arcmin", "guide_rms_arcsec", "star_fwhm_arcsec", "glide.position"}
STAY = {"effective_focal_length_mm", "guide_scale_arcsec_px", "glide.step_um", "main.conversion_gain_e_adu"}


def measured(value, date):
    return {"value": value, "evidence": {"method": "typed", "date": date} if date else {"method": "typed"}}


def document(kind="carried", date=BEFORE, begun=BEGUN):
    found = clean_document()
    found["setup"] = {"kind": kind} | ({"date": begun} if begun else {})
    values = {"polar_error_arcmin": 3, "guide_rms_arcsec": 0.7, "star_fwhm_arcsec": 3}
    values |= {"effective_focal_length_mm": 513, "guide_scale_arcsec_px": 1.6}
    found["measured"] = {key: measured(value, date) for key, value in values.items()}
    settings = (("glide", "position", 5200), ("glide", "step_um", 4), ("main", "conversion_gain_e_adu", 0.8))
    for device, key, value in settings:
        own = next(d for d in found["devices"] if d["id"] == device)
        own["settings"].setdefault(key, {})["measured"] = measured(value, date)
    return found


@pytest.mark.parametrize(
    ("more", "invalid"),
    [
        ({}, HOLD_FOR_ONE),
        ({"date": None}, HOLD_FOR_ONE),  # of unknown date: it may be older
        ({"date": AFTER}, set()),
        ({"date": BEGUN}, set()),
        ({"kind": "permanent"}, set()),
        ({"kind": "covered"}, set()),
        ({"begun": None}, set()),
    ],
)
def test_a_set_up_makes_exactly_what_holds_for_one_not_verified(more, invalid):
    rig = validated(document(**more))
    assert {entry.row_id for entry in from_earlier_setup(rig)} == invalid
    rows = evaluate(rig).rows
    for key in HOLD_FOR_ONE | STAY:
        if key in rows:
            assert (rows[key].out_of_date is not None) == (key in invalid), key
            if key in invalid:
                assert rows[key].verdict is Verdict.UNPROVEN
                assert "earlier set-up" in rows[key].out_of_date.what[0]


def test_each_kind_declares_whether_a_set_up_ends_it():
    """All of the pole, of flexure, of stars and of guided runs; where the focuser and the rotator stood."""
    begins = ("polar_", "flexure", "star_", "guide_rms", "guide_drift", "guide_settle", "guide_lost", "guide_over")
    declared = {key for key, kind in QUANTITY_KINDS.items() if SET_UP in kind.invalidated_by}
    # What is allowed, and what is computed alone, is measured by nothing.
    assert {key for key in QUANTITY_KINDS if key.startswith(begins)} - declared == {
        "flexure_budget_arcsec_s",
        "polar_smear_px",
    }
    assert declared <= {key for key in QUANTITY_KINDS if key.startswith(begins)}
    assert {key for key, kind in SETTINGS.items() if SET_UP in kind.invalidated_by} == {"position", "position_deg"}


@pytest.mark.parametrize(
    ("kind", "words"), [("permanent", "stands permanently"), ("covered", "stays outside under a cover")]
)
def test_a_rig_that_stays_is_not_set_up(kind, words, tmp_path, capsys):
    rig = validated(document(kind=kind))
    with pytest.raises(ValueError, match=words):
        started(rig)
    path = tmp_path / "own.rig.json"
    path.write_text(json.dumps(document(kind=kind)), "utf-8")
    main(["setup", str(path)])
    assert f"The rig {words}" in capsys.readouterr().out


def test_the_cover_is_a_condition_of_each_night_and_the_tripod_stands():
    covered = {own.id: own.when for own in usual_conditions(Setup(kind="covered"))}
    assert covered["rain_cover_off"] == "night"
    assert "levelled" not in covered
    assert usual_conditions(None) == usual_conditions(Setup(kind="carried")) == USUAL_CONDITIONS


def calibrated(date, confirmed=None):
    entries = document()
    entries["guiding"]["calibration"] = {"date": date, "binning": 1, **({"confirmed": confirmed} if confirmed else {})}
    return validated(entries)


@pytest.mark.parametrize(
    ("date", "confirmed", "is_earlier"),
    [
        (BEFORE, None, True),
        (BEGUN, None, False),
        (AFTER, None, False),
        (BEFORE, {"reason": "same place", "date": AFTER}, False),
        (BEFORE, {"reason": "same place", "date": BEFORE}, True),
    ],
)
def test_a_calibration_of_an_earlier_set_up_is_confirmed_at_its_step(date, confirmed, is_earlier):
    rig = calibrated(date, confirmed)
    assert (calibration_from_earlier_setup(rig) is not None) is is_earlier
    steps = {step.id.rpartition(".")[2]: step for step in run_up(evaluate(rig), NOW)}
    named = [entry.row_id for entry in steps["calibrate"].earlier]
    assert ("guiding.calibration" in named) is is_earlier
    words = " ".join(evaluate(rig).finding("guiding.calibration_age").arithmetic)
    assert ("earlier set-up" in words) is is_earlier
    if is_earlier:
        again = edit.apply(rig, confirm_step(rig, steps["calibrate"]))
        assert calibration_from_earlier_setup(again) is None
        assert "confirmed on 20" in " ".join(evaluate(again).finding("guiding.calibration_age").arithmetic)
    else:
        assert ("confirmed on 2026-11-20: same place" in words) is (confirmed is not None)


def test_what_is_confirmed_or_measured_again_counts():
    rig = validated(document())
    path = ("measured", "polar_error_arcmin")
    confirmed = edit.apply(rig, edit.Change("x", confirmation(rig, path, "stood on its marks")))
    assert "polar_error_arcmin" not in {entry.row_id for entry in from_earlier_setup(confirmed)}
    again = edit.apply(rig, edit.Change.of("x", path, measured(2, AFTER)))
    assert {entry.row_id for entry in from_earlier_setup(again)} == HOLD_FOR_ONE - {"polar_error_arcmin"}
    # A later set-up makes both old again.
    later = edit.apply(again, edit.Change.of("x", ("setup", "date"), "2026-12-20T18:00:00Z"))
    assert {entry.row_id for entry in from_earlier_setup(later)} == HOLD_FOR_ONE


@pytest.mark.parametrize(
    ("when", "ticked", "met"),
    [
        ("setup", "2026-11-20T18:30:00Z", True), ("setup", "2026-11-20T17:30:00Z", False),
        ("night", "2026-11-20T02:00:00Z", True), ("night", "2026-11-20T01:59:00Z", False),
        ("monthly", "2026-10-20T20:00:00Z", True), ("monthly", "2026-10-20T19:59:00Z", False),
        ("swap", "2026-11-20T18:30:00Z", True), ("setup", "never", False),
    ],
)  # fmt: skip
def test_a_tick_counts_until_it_comes_up_again(when, ticked, met):
    found = document()
    found["conditions"] = [{"id": "level", "text": "Levelled", "when": when}]
    found["setup"]["done"] = [{"condition": "level", "date": ticked}, {"condition": "other", "date": AFTER}]
    rig = validated(found)
    assert is_met(rig, rig.conditions[0], NOW) is met
    (entry,) = own_conditions(rig, NOW)
    assert entry.verdict is (Verdict.HOLDS if met else Verdict.UNPROVEN)


def test_optional_ones_do_not_weigh_and_required_ones_do():
    found = document(date=AFTER)
    found["conditions"] = [own.model_dump(mode="json") for own in USUAL_CONDITIONS]
    entries = {entry.condition.key: entry for entry in own_conditions(validated(found), NOW)}
    assert len(entries) == 10
    assert entries["own.red_lamp"].applies is False
    assert entries["own.levelled"].applies is True
    told = [entry.condition.key for entry in evaluate(validated(found)).conditions]
    assert told[-10:] == list(entries), "they come behind the computed ones"


def test_a_permanent_rig_is_not_set_up_and_an_unknown_condition_not_ticked():
    with pytest.raises(ValueError, match="stands permanently"):
        started(validated(document(kind="permanent")))
    with pytest.raises(ValueError, match="there are: none"):
        done(validated(document()), "gone")
    bare = validated(clean_document() | {"conditions": [{"id": "a", "text": "A"}]})
    ticked = edit.apply(bare, done(bare, "a", 2.5))
    assert (ticked.setup.kind, ticked.setup.done[0].minutes) == ("permanent", 2.5)
    begun = edit.apply(bare, started(bare))
    assert begun.setup.kind == "carried"
    assert setup_json(ticked, datetime.datetime.now(datetime.UTC))["conditions"][0]["done"] is True


def test_the_command_begins_ticks_and_prints(tmp_path, capsys):
    path = tmp_path / "a.rig.json"
    found = document(begun=None) | {"conditions": [{"id": "level", "text": "Levelled"}]}
    path.write_text(json.dumps(found), "utf-8")
    assert main(["setup", str(path), "--json"]) == 1, "a condition is open"
    assert json.loads(capsys.readouterr().out)["not_verified"] == []
    assert main(["setup", str(path), "--start", "--json"]) == 1
    told = json.loads(capsys.readouterr().out)
    assert (told["kind"], set(told["not_verified"])) == ("carried", HOLD_FOR_ONE)
    main(["setup", str(path), "--done", "level", "--json"])
    assert [own["done"] for own in json.loads(capsys.readouterr().out)["conditions"]] == [True]
    assert main(["setup", str(path)]) == 1
    assert "to be measured again: polar_error_arcmin" in capsys.readouterr().out
    assert main(["setup", str(path), "--done", "gone"]) == 2
    assert "there is no condition gone; there are: level" in capsys.readouterr().err


def test_a_calibration_of_an_earlier_set_up_is_not_verified():
    found = document()
    found["guiding"]["calibration"] = {"date": BEFORE, "binning": 1}
    (entry,) = [f for f in evaluate(validated(found)).findings if f.id == "guiding.calibration_age"] or [None]
    assert entry is not None
    assert any("earlier set-up" in line for line in entry.arithmetic)
    assert entry.verdict is not Verdict.HOLDS

"""Pieces of the window that need no window: numbers as typed, palettes, scales, settings, the section's geometry."""

import math

import pytest

from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.ledger import Quantity, QuantityValue, Target
from wyntaxis.core.quantity_kinds import QUANTITY_KINDS
from wyntaxis.core.rig.store import validated
from wyntaxis.core.section import section
from wyntaxis.core.worklist import tallies
from wyntaxis.desk.ledger_row import scale_range, value_text
from wyntaxis.desk.numbers_in import parse_number
from wyntaxis.desk.palette import PALETTES, contrast
from wyntaxis.desk.window_state import WindowState


@pytest.mark.parametrize(
    "text, unit, value",
    [
        ("12.9", "mm", 12.9),
        (" 12,9 mm ", "mm", 12.9),
        ("\N{MINUS SIGN}0.5", "", -0.5),
        ("2.6″", "″", 2.6),
        ("3.9 um", "µm", 3.9),
        ("1e2", "", 100.0),
        ("", "mm", None),
        ("mm", "mm", None),
    ],
)
def test_numbers_as_people_type_them(text, unit, value):
    assert parse_number(text, unit) == value


@pytest.mark.parametrize("text", ["12.9 kg", "nan", "inf", "1_000", "1,000.5", "1,2,3", "0x10", "twelve"])
def test_what_is_no_number_is_refused(text):
    with pytest.raises(ValueError, match="is not a number in mm"):
        parse_number(text, "mm")


@pytest.mark.parametrize("palette", PALETTES.values(), ids=PALETTES.keys())
def test_every_text_colour_reads_on_every_ground(palette):
    texts = ("ink", "faded", "accent", "holds", "tight", "fails", "unproven")
    grounds = ("paper", "panel", "field", "chosen")
    poor = [
        (text, ground, round(contrast(getattr(palette, text), getattr(palette, ground)), 2))
        for text in texts
        for ground in grounds
        if contrast(getattr(palette, text), getattr(palette, ground)) < 4.5
    ]
    assert poor == []


def test_contrast_by_hand():
    assert contrast("#000000", "#ffffff") == pytest.approx(21)
    assert contrast("#777777", "#ffffff") == pytest.approx(4.48, abs=0.005)


def test_a_rows_scale_holds_every_leg_and_the_target():
    row = Quantity(QUANTITY_KINDS["back_focus_error_mm"], computed=QuantityValue(0.7, 0.05), target=Target(-0.4, 0.4))
    low, high = scale_range(row)
    assert low < -0.4
    assert high > 0.8
    assert value_text(row) == "computed +0.700 ± 0.050   allowed ±0.400"
    low, high = scale_range(Quantity(QUANTITY_KINDS["glass_shift_mm"], computed=QuantityValue(0)))
    assert low < 0 < high


def test_settings_survive_what_is_not_theirs(tmp_path):
    for broken in (b"", b"[]", b"{", b"\xff", b'{"text_scale": "x", "recent": 5, "split": "%%", "palette": 3}'):
        (tmp_path / "window.json").write_bytes(broken)
        settings = WindowState(tmp_path)
        assert settings.number("text_scale", 1.0, 0.8, 2.0) == 1.0
        assert settings.recent == []
        assert settings.state("split") is None
        assert settings.word("palette", "day") == "day"
    for number in range(12):
        settings.add_recent(tmp_path / f"{number}.rig.json")
    settings.put("split", b"\x00\xff")
    settings.put("text_scale", 9.0)
    settings.write()
    again = WindowState(tmp_path)
    assert [path.name for path in again.recent][:2] == ["11.rig.json", "10.rig.json"]
    assert len(again.recent) == 9
    assert again.state("split") == b"\x00\xff"
    assert again.number("text_scale", 1.0, 0.8, 2.0) == 2.0


def test_the_section_is_to_scale(example):
    evaluation = evaluate(validated(example))
    drawn = section(evaluation)
    assert [(s.start_mm, s.end_mm) for s in drawn.parts][:3] == [(0, 28), (28, 45.5), (45.5, 65.5)]
    assert drawn.datum_mm == 28
    assert drawn.plane.built_mm - drawn.datum_mm == pytest.approx(62.9)
    assert drawn.plane.error_mm == pytest.approx(0.715789, abs=1e-6)
    assert (drawn.branch.at_mm, drawn.branch.height_mm, drawn.branch.length_mm) == (36.5, 18.0, 54.5)
    # Behind the reducer the axial cone has slope 1/2N; it ends in a point at the sensor.
    last, middle = drawn.rays[-1], drawn.rays[-2]
    assert last.axial_mm == 0
    assert middle.axial_mm == pytest.approx((90.9 - 14) / (2 * 4.94))
    assert last.corner_mm == pytest.approx(28.1233 / 2, abs=1e-4)
    assert drawn.rays[0].axial_mm == pytest.approx(middle.axial_mm + 14 / (2 * 6.5))
    assert math.isclose(drawn.length_mm, 90.9)


def test_the_worklist_counts(example):
    by_step = {tally.step.key: (tally.verdict, tally.text) for tally in tallies(evaluate(validated(example)))}
    assert by_step == {
        "light_path": ("fails", "2 fail"),
        "shelf": (None, "parts, spacer search"),
        "guide_branch": ("fails", "2 fail, 3 hold"),
        "scales": ("tight", "1 tight, 1 holds"),
        "footprint": (None, "sky, panels, horizon"),
        "devices": (None, "no devices yet"),
        "records": (None, "programs, frame headers"),
        "ports": (None, "USB and serial"),
        "sensor": (None, "gain, noise, dark current"),
        "cooling": (None, "runs, model, ramp"),
        "filters": (None, "flats, dust, wheel"),
        "field": (None, "tilt, curvature"),
        "stars": (None, "frames, star sizes"),
        "travel": (None, "focus runs, backlash"),
        "guide_log": (None, "runs, calibration"),
        "ready": ("fails", "1 fails, 2 unproven"),
        "proofs": (None, "what to measure next"),
        "rehearsal": (None, "the night, simulated by day"),
        "dossier": (None, "on paper, and its history"),
    }

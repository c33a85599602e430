"""Which frames are accepted: how fields lie against each other, and what is told of each bad frame."""

import csv
import io
import json
from dataclasses import replace

import numpy as np
import pytest

from tests.rigs import clean_document
from wyntaxis.cli import main
from wyntaxis.core.evidence.headers.headers import FrameHeader
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.evidence.stars.frame_grading import judge_frames
from wyntaxis.core.evidence.stars.frame_stars import FrameStars
from wyntaxis.core.evidence.stars.kind import STARS, read
from wyntaxis.core.evidence.stars.measuring import Shapes
from wyntaxis.core.evidence.stars.registration import Shift, shift_between
from wyntaxis.core.evidence.stars.report import FRAMES
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.rig.store import validated
from wyntaxis.simulators.observing import write_night


def field(count=40, seed=1):
    return np.random.default_rng(seed).uniform(0, 1000, (count, 2))


@pytest.mark.parametrize("by", [(0.0, 0.0), (4.5, -3.25), (-420.0, 77.0)])
def test_a_shift_is_found_among_stars_that_come_and_go(by):
    stars = field()
    other = np.concatenate([stars[:30] + by + np.random.default_rng(2).normal(0, 0.1, (30, 2)), field(10, seed=5)])
    found = shift_between(stars, other, (1000, 1000))
    assert not found.flipped
    assert (found.x, found.y) == pytest.approx(by, abs=0.2)
    assert found.length_px == pytest.approx(np.hypot(*by), abs=0.3)


def test_half_a_turn_is_told_from_a_shift_and_strangers_from_both():
    stars = field()
    found = shift_between(stars, np.array([999, 999]) - stars + (7.0, -2.0), (1000, 1000))
    assert found.flipped
    assert (found.x, found.y) == pytest.approx((7, -2), abs=0.2)
    assert shift_between(stars, field(seed=9), (1000, 1000)) is None
    assert shift_between(stars[:4], stars[:4], (1000, 1000)) is None
    assert Shift(3.0, 4.0).length_px == 5


@pytest.fixture(scope="module")
def night(tmp_path_factory):
    folder = tmp_path_factory.mktemp("night")
    write_night(folder)
    return folder


@pytest.fixture(scope="module")
def measured(night):
    return read([night])


def test_each_spoiled_frame_is_told_by_what_spoiled_it(measured):
    faults = {entry.frame.file: entry.fault for entry in measured.grades}
    entries = {int(name[6:9]): fault for name, fault in faults.items() if fault}
    assert {k: entries.get(k) for k in (4, 6, 7, 8, 11, 12, 18)} == {
        4: "trailed", 6: "soft", 7: "soft", 8: "soft", 11: "cloud", 12: "cloud", 18: "moved",
    }  # fmt: skip
    assert {entries[k] for k in (23, 24, 25)} <= {"dew", "soft"}
    assert not set(entries) & {0, 1, 2, 3, 5, 9, 10, 13, 14, 15, 16, 17, 19, 20}
    marks = {int(entry.frame.file[6:9]): entry.marks for entry in measured.grades}
    assert "refocus" in marks[9]
    assert "filter Ha" in marks[14]
    assert "flip" in marks[16]
    assert "dither" in marks[1]
    assert marks[0] == ()


def frame(minute, light, count=60, **header):
    """A frame of stars at the same places, their flux ``light`` times that of the first."""
    rng = np.random.default_rng(ord(header.get("target", "Field A")[-1].upper()))
    x, y = rng.uniform(20, 980, (2, count))
    flux, ones = light * np.linspace(9e4, 1e4, count), np.ones(count)
    shapes = Shapes(x, y, flux, flux / 9, 3 * ones, 3 * ones, 1.1 * ones, 0 * ones, 50 * ones, ones > 1)
    given = {
        "kind": "light",
        "width_px": 1000,
        "height_px": 1000,
        "target": "Field A",
        "filter": "L",
        "exposure_s": 60.0,
    }
    told = FrameHeader(f"{minute:03d}.fits", date=f"2026-11-01T20:{minute:02d}:00", **(given | header))
    return FrameStars(told.path, shapes, (), Estimate(100.0), Estimate(5.0), header=told)


@pytest.mark.parametrize(
    "other",
    [
        {"target": "Field B"}, {"exposure_s": 20.0}, {"filter": "Ha"}, {"binning": 2},
        {"width_px": 500, "height_px": 500}, {"gain": 0.0}, {"camera": "Other"},
    ],
    ids=lambda other: next(iter(other)),
)  # fmt: skip
def test_frames_are_compared_with_their_like_alone(other):
    # A third of the light and half the stars: nothing, where the setting is another; cloud, where it is the same.
    frames = [frame(k, 1.0) for k in range(6)] + [frame(10 + k, 0.33, 30, **other) for k in range(5)]
    assert [entry.fault for entry in judge_frames(frames)] == [""] * 11
    clouded = [*frames, frame(20, 0.33), frame(21, 0.33 * 0.5, 30, **other)]
    assert [entry.fault for entry in judge_frames(clouded)][-2:] == ["cloud", "cloud"]


def test_another_target_is_marked_and_not_moved():
    frames = [frame(k, 1.0) for k in range(3)] + [frame(5 + k, 1.0, target="Field B") for k in range(3)]
    frames += [frame(10, 1.0, target="field  a")]
    graded = judge_frames(frames)
    assert [entry.fault for entry in graded] == [""] * 7
    assert [entry.marks for entry in graded][3:] == [("target Field B",), (), (), ("target field  a",)]


def test_the_next_panel_of_a_mosaic_is_not_moved():
    panels = [frame(k, 1.0) for k in range(3)] + [frame(5 + k, 1.0, target="Field A, panel 2") for k in range(3)]
    for k in range(3, 6):  # the same stars, a third of the frame beside
        shapes = panels[k].shapes
        panels[k] = replace(panels[k], shapes=replace(panels[0].shapes, x=panels[0].shapes.x - 300, flux=shapes.flux))
    assert [entry.fault for entry in judge_frames(panels)] == [""] * 6
    same = [replace(one, header=replace(one.header, target="Field A")) for one in panels]
    assert [entry.fault for entry in judge_frames(same)][3] == "moved", "of one target it is"


def test_the_limit_is_the_users_to_move(measured):
    strict = replace(measured, limit_px=2.0)
    assert not any(entry.keep for entry in strict.grades)
    loose = replace(measured, factor=3.0)
    assert not any(entry.fault == "soft" for entry in loose.grades)
    with pytest.raises(ValueError, match="no frame is accepted"):
        STARS.keep(validated(clean_document()), strict)
    rows = list(csv.reader(io.StringIO(FRAMES.as_csv(measured))))
    assert rows[0][:3] == ["frame", "keep", "stars"]
    assert len(rows) == 1 + len(measured.frames)


def test_a_night_is_kept_in_the_rig(night, tmp_path, capsys):
    rig = tmp_path / "good.rig.json"
    rig.write_text(json.dumps(clean_document()), "utf-8")
    assert main(["stars", str(rig), str(night), "--every", "5", "--json", "--keep"]) in (0, 1)
    entries = json.loads(capsys.readouterr().out)
    assert len(entries["frames"]) == 6
    assert {finding["id"] for finding in entries["findings"]} == {"stars.size", "stars.round"}
    kept = validated(json.loads(rig.read_text("utf-8"))).measured
    good = [frame["fwhm_arcsec"]["value"] for frame in entries["frames"] if frame["keep"]]
    assert kept["star_fwhm_arcsec"].value == pytest.approx(float(np.median(good)), rel=1e-4)
    assert kept["star_elongation"].value == pytest.approx(1.01, abs=0.02)
    for given in (["--every", "0"], ["--every", "x"]):
        with pytest.raises(SystemExit):
            main(["stars", str(night), *given])
    assert main(["stars", str(night), "--keep"]) == 2
    assert "name it before the frames" in capsys.readouterr().err
    (tmp_path / "empty").mkdir()
    with pytest.raises(InputError, match="holds no FITS files"):
        read([tmp_path / "empty"])


def test_medians_stay_those_of_all_stars_when_few_are_kept(night):
    whole, few = (read([night / "light_000.fits"], condensed=flag).frames[0] for flag in (False, True))
    small = few.shapes.brightest(10)
    assert len(small.x) == 10
    assert small.flux.min() >= np.sort(few.shapes.flux)[-10]
    assert whole.hfd_px == few.hfd_px
    assert whole.count == few.count
    assert whole.position_angle_deg == few.position_angle_deg
    assert whole.saturated == few.saturated

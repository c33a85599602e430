"""Guide logs: tables of any columns are read, planted errors come back, and what is broken is told in one line."""

import json
import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.rigs import clean_document
from wyntaxis.cli import main
from wyntaxis.core.evidence.foreign.keymap import KeyRule
from wyntaxis.core.evidence.guide_log.calibration import calibration_of
from wyntaxis.core.evidence.guide_log.corrections import unguided, with_backlash
from wyntaxis.core.evidence.guide_log.headings import columns_of, is_calibration, is_guiding
from wyntaxis.core.evidence.guide_log.kind import GUIDE_LOG, read, share_percent
from wyntaxis.core.evidence.guide_log.periods import periodogram_of
from wyntaxis.core.evidence.guide_log.preview import log_headings, preview_text
from wyntaxis.core.evidence.guide_log.report import REPORT, summary_lines
from wyntaxis.core.evidence.guide_log.result import GuideResult, measured, predicted_elongation
from wyntaxis.core.evidence.guide_log.run import GuideOptics, GuideRun, LogFacts, facts_of, runs_of_section
from wyntaxis.core.evidence.guide_log.settling import settling_of
from wyntaxis.core.evidence.guide_log.statistics import (
    about_running_line,
    lag_one_autocorrelation,
    scatter_of,
)
from wyntaxis.core.evidence.guide_log.table import sections_of
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.store import validated
from wyntaxis.simulators.guided_mount import SimulatedMount, write_demo_logs, write_guide_log

OPTICS = GuideOptics(
    scale_arcsec_px=1.6,
    pixel_um=4.0,
    main_scale_arcsec_px=1.5,
    rate_sidereal=0.5,
    rate_is_stated=True,
    declination_deg=0.0,
    calibration_declination_deg=0.0,
    stop_limit_arcsec=3.0,
    settle_arcsec=1.5,
    settle_s=6.0,
    star_fwhm_arcsec=2.8,
)
COUNT = 300
RNG = np.random.default_rng(5)
TIME = np.arange(COUNT) * 2.0
RA, DEC = RNG.normal(0, 0.5, COUNT), RNG.normal(0, 0.4, COUNT)


def table(head, row, count=COUNT):
    """A log: its headings, and a row for each frame made of time, errors and number."""
    return head + "\n" + "".join(row(TIME[k], RA[k], DEC[k], k) + "\n" for k in range(count))


def run_of(ra, dec=None, time=None, **more):
    """A run of errors in arcsec, a frame every 2 s."""
    ra = np.asarray(ra, float)
    dec = np.zeros(len(ra)) if dec is None else np.asarray(dec, float)
    time = np.arange(len(ra)) * 2.0 if time is None else np.asarray(time, float)
    entries = {"ra_moved": None, "dec_moved": None, "lost": np.isnan(ra), "stretch": np.zeros(len(ra), int)} | more
    return GuideRun("run", "run.csv", time, ra, dec, **entries)


def assert_one_line(text):
    assert text
    assert "\n" not in text


# Reading


@pytest.mark.parametrize(
    ("heading", "key", "unit"),
    [
        ("RA error [px]", "guide.ra", "px"),
        ("RARawError_arcsec", "guide.ra", "″"),
        ('dRA (")', "guide.ra", "″"),
        ("right ascension, arcseconds", "guide.ra", "″"),
        ("Dec err", "guide.dec", ""),
        ("δ [as]", "guide.dec", "″"),
        ("RA pulse (ms)", "guide.ra_pulse", "ms"),
        ("DecCorrection_px", "guide.dec_pulse", "px"),
        ("RADirection", "guide.ra_way", ""),
        ("elapsed [min]", "guide.time", "min"),
        ("Time_ms", "guide.time", "ms"),
        ("timestamp", "guide.time", "s"),
        ("Frame", "guide.frame", ""),
        ("SNR", "guide.strength", ""),
        ("star lost", "guide.lost", ""),
        ("dithered", "guide.dither", ""),
        ("dx [px]", "guide.x", "px"),
        ("status", "guide.mark", ""),
    ],
)
def test_headings_are_understood(heading, key, unit):
    places = columns_of(["something", heading])
    assert places[key].index == 1
    assert places[key].unit == unit


def test_the_better_of_two_columns_is_taken_and_a_rule_before_all():
    assert columns_of(["RA", "RA raw error", "RA pulse"])["guide.ra"].index == 1
    ruled = columns_of(["a", "RA raw error"], [KeyRule(path="a", quantity="guide.ra", unit="px")])
    assert (ruled["guide.ra"].index, ruled["guide.ra"].unit) == (0, "px")
    assert is_guiding(columns_of(["time", "RA"]))
    assert not is_guiding(columns_of(["RA", "Dec"]))
    assert is_calibration(columns_of(["direction", "step", "x", "y"]))
    assert not is_calibration(columns_of(["direction", "step", "x"]))


LOGS = {
    "plain": table("time_s,ra_arcsec,dec_arcsec", lambda t, a, b, k: f"{t},{a:.5f},{b:.5f}"),
    "decimal commas": table("time;ra_arcsec;dec_arcsec", lambda t, a, b, k: f"{t};{a:.5f};{b:.5f}".replace(".", ",")),
    "units mixed": table(
        "Time (min)\tRA error (px)\tDec error (arcsec)", lambda t, a, b, k: f"{t / 60:.6f}\t{a / 1.6:.5f}\t{b:.5f}"
    ),
    "blanks": "# made by a guider\n"
    + table("# time ra_arcsec dec_arcsec", lambda t, a, b, k: f"  {t} {a:.5f} {b:.5f}"),
    "over midnight": table(
        'clock,RA ("),Dec (")',
        lambda t, a, b, k: (
            f"{int(86_200 + t) // 3600 % 24:02d}:{int(86_200 + t) // 60 % 60:02d}:"
            f"{int(86_200 + t) % 60:02d},{a:.5f},{b:.5f}"
        ),
    ),
    "dates": table(
        "utc,ra_arcsec,dec_arcsec", lambda t, a, b, k: f"2026-11-14T20:{int(t) // 60:02d}:{int(t) % 60:02d}Z,{a},{b}"
    ),
    "quoted": table('"time","ra, arcsec","dec, arcsec"', lambda t, a, b, k: f'"{t}","{a:.5f}","{b:.5f}"'),
    "cut in its last row": table("time_s,ra_arcsec,dec_arcsec", lambda t, a, b, k: f"{t},{a:.5f},{b:.5f}")
    + "600.0,0.1",
    "clock set ahead": table(
        "frame,time_s,ra_arcsec,dec_arcsec", lambda t, a, b, k: f"{k},{t + 3600 * (k > 150)},{a:.5f},{b:.5f}"
    ),
    "clock set back": table("time_s,ra_arcsec,dec_arcsec", lambda t, a, b, k: f"{t - 900 * (k > 150)},{a:.5f},{b:.5f}"),
    "windows' line ends": table("time_s,ra_arcsec,dec_arcsec", lambda t, a, b, k: f"{t},{a:.5f},{b:.5f}\r"),
}


@pytest.mark.parametrize("name", LOGS)
def test_logs_of_many_forms_hold_the_same_run(tmp_path, name):
    path = tmp_path / "log.csv"
    path.write_text(LOGS[name], "utf-8")
    (own,) = read([path], OPTICS).runs
    assert len(own.run.time_s) == COUNT
    assert own.run.seconds == pytest.approx(2.0 * (COUNT - 1))
    assert own.run.ra == pytest.approx(RA, abs=2e-5)
    assert own.run.dec == pytest.approx(DEC, abs=2e-5)
    assert own.lost_share == 0
    assert ("clock was set" in " ".join(own.run.notes)) == name.startswith("clock")


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("", "is empty"),
        ("time_s,ra_arcsec,dec_arcsec\n", "holds no row under its headings"),
        ("hello\nthese are words\n", "no line of headings with a time and an error on an axis"),
        ("1,2,3\n4,5,6\n", "no line of headings"),
        ("time,ra,dec\n1,2\x00,3\n", "NUL bytes"),
        ("time,ra_arcsec,dec_arcsec\n1,2,3\n2,3,4\n", "a guided run needs 8"),
        ("ra_arcsec,frame,dec_arcsec\n" + "1,2,3\n" * 20, "has no times"),
        (table("time,ra,dec", lambda t, a, b, k: f"{t:.1f},{a:.3f},{b:.3f}".replace(".", ",")), "both decimal point"),
        (table("time_s,ra_arcsec,dec_arcsec", lambda t, a, b, k: f"{t},nan,nan"), "frames of the star"),
        (table("time_s,ra_arcsec,dec_arcsec,lost", lambda t, a, b, k: f"{t},{a},{b},1"), "frames of the star"),
    ],
)
def test_what_is_no_log_is_told_in_one_line(tmp_path, text, why):
    path = tmp_path / "log.csv"
    path.write_text(text, "utf-8")
    with pytest.raises(InputError, match=why) as entries:
        read([path], OPTICS)
    assert "\n" not in str(entries.value)
    assert "log.csv" in str(entries.value)


@pytest.mark.parametrize("axis", ["ra", "dec"])
def test_one_axis_alone_and_a_star_that_stands_still_are_no_trouble(tmp_path, axis):
    path = tmp_path / "log.csv"
    path.write_text(table(f"time_s,{axis}_arcsec", lambda t, a, b, k: f"{t},{a}"), "utf-8")
    (own,) = read([path], OPTICS).runs
    entries = {"ra": own.rms_ra, "dec": own.rms_dec}
    assert entries.pop(axis).value == pytest.approx(np.std(RA), rel=0.05)
    assert list(entries.values()) == [None]
    path.write_text(table("time_s,ra_arcsec,dec_arcsec", lambda t, a, b, k: f"{t},0,0"), "utf-8")
    still = read([path], OPTICS)
    assert still.last.rms.value == 0
    assert edit.apply(validated(clean_document()), GUIDE_LOG.keep(validated(clean_document()), still)).measured


def test_px_need_a_scale(tmp_path):
    text = table("time_s,ra_px,dec_px", lambda t, a, b, k: f"{t},{a},{b}")
    (tmp_path / "log.csv").write_text(text, "utf-8")
    with pytest.raises(InputError, match="no scale is known"):
        read([tmp_path / "log.csv"], GuideOptics())
    (tmp_path / "log.csv").write_text("pixel scale = 2.0 arcsec/px\n" + text, "utf-8")
    (own,) = read([tmp_path / "log.csv"], GuideOptics()).runs
    assert own.run.ra == pytest.approx(2 * RA)
    assert "as the log says" in own.run.notes[0]


def test_sections_events_and_lost_frames(tmp_path):
    rows = [f"{k},{2 * k},{RA[k]:.4f},{DEC[k]:.4f},ok,0" for k in range(60)]
    rows[10] = "10,20,,,star lost,0"
    rows[20] = "20,40,0.1,0.1,ok,1"
    rows[31:31] = ["INFO: dither by 3.0, 1.2"]
    rows[50:50] = ["x,nothing,of,this,is,a row"]
    text = "declination = -12.5\nframe,time_s,ra_arcsec,dec_arcsec,state,dither\n" + "\n".join(rows)
    again = "\n\nnext night\nTime [s];RA [arcsec];Dec [arcsec]\n" + "".join(f"{2 * k};0.5;-0.5\n" for k in range(20))
    path = tmp_path / "log.txt"
    path.write_text(text + again, "utf-8")
    first, second = read([path], OPTICS).runs
    assert first.run.dithers == (20, 31)
    assert np.flatnonzero(first.run.lost).tolist() == [10]
    assert first.run.facts.declination_deg == -12.5
    assert len(first.run.time_s) == 60
    assert second.name == "log, run 2"
    assert second.run.ra.tolist() == [0.5] * 20


def test_a_pause_parts_a_run_and_hours_make_another():
    time = [*(2.0 * np.arange(40)), *(1000 + 2.0 * np.arange(40)), *(40_000 + 2.0 * np.arange(40))]
    rows = "".join(f"{t},0.1,0.2\n" for t in time)
    (section,) = sections_of(b"time_s,ra_arcsec,dec_arcsec\n" + rows.encode())
    one, other = runs_of_section(section, "a.csv", "a", OPTICS)
    assert sorted(set(one.stretch.tolist())) == [0, 1]
    assert one.seconds == pytest.approx(2 * 78.0)
    assert (len(one.time_s), len(other.time_s)) == (80, 40)


def test_facts_beside_the_rows():
    entries = {"exposure": "2500 ms", "dec": "47,5", "pier side": "Pier West", "binning": "2", "hour angle": "-3.2 h"}
    assert facts_of(entries | {"pulse": "500"}) == LogFacts(
        exposure_s=2.5, declination_deg=47.5, pier_side="west", binning=2, hour_angle_h=-3.2, pulse_ms=500.0
    )


@given(st.binary(max_size=400))
def test_whatever_bytes_are_read_or_refused_in_one_line(data):
    for text in (data, b"time_s,ra_px,dec_px\n" + data, b"direction;step;x;y;pulse\n" + data):
        try:
            found = sections_of(text)
        except InputError as error:
            found, entries = [], str(error)
            assert_one_line(entries)
        assert all(section.rows > 0 for section in found)


def test_a_key_map_points_at_columns_and_a_preview_tells_them(tmp_path):
    path = tmp_path / "log.csv"
    path.write_text("some words\n" + table("a,b,c", lambda t, a, b, k: f"{t},{a},{b}"), "utf-8")
    rules = [KeyRule(path=p, quantity=f"guide.{q}", unit=u) for p, q, u in (("a", "time", "s"), ("b", "ra", "″"))]
    rules.append(KeyRule(path="c", quantity="guide.dec", unit="px"))
    assert log_headings(path) == ["a", "b", "c"]
    (own,) = read([path], OPTICS, rules=lambda _path: rules).runs
    assert own.run.dec == pytest.approx(1.6 * DEC)
    entries = preview_text([path], lambda _path: rules)
    assert "“c” is error in declination in px" in entries
    with pytest.raises(InputError, match="point columns at them"):
        preview_text([path], lambda _path: ())


# Numbers by hand


def test_the_running_line_takes_drift_away_and_gives_back_what_it_took():
    time = np.arange(400) * 2.0
    rest, share = about_running_line(time, 3.0 + 0.05 * time, np.zeros(400, int))
    assert np.abs(rest).max() < 1e-6
    assert share.sum() == pytest.approx(2, abs=0.2)  # a line over all of it: two numbers
    # Two values 1 apart at each time: their line leaves ±1/2.
    level, _ = about_running_line(time, np.tile([0.5, -0.5], 200), np.zeros(400, int))
    assert np.sqrt(np.mean(level**2)) == pytest.approx(0.5, rel=0.01)


def test_scatter_of_white_noise_comes_back_within_twice_its_uncertainty():
    inside = 0
    for seed in range(40):
        values = np.random.default_rng(seed).normal(0, 0.7, 500)
        found = scatter_of(*about_running_line(np.arange(500) * 2.0, values, np.zeros(500, int)))
        inside += abs(found.value - 0.7) <= 2 * found.standard
    assert inside >= 36
    assert scatter_of(np.zeros(2), np.zeros(2)) is None


@pytest.mark.parametrize(("keep_share", "expected"), [(0.0, 0.0), (0.8, 0.8), (-0.5, -0.5)])
def test_neighbours_are_alike_as_they_were_made(keep_share, expected):
    rng, values = np.random.default_rng(8), [0.0]
    for _ in range(2000):
        values.append(keep_share * values[-1] + rng.normal())
    found = lag_one_autocorrelation(np.array(values), np.zeros(2001, int))
    assert found.value == pytest.approx(expected, abs=3 * found.standard)


@pytest.mark.parametrize(
    ("steps", "slack", "left"),
    [
        ([1, 2, 3], 1.5, [1, 2, 3]),
        ([1, -2, -2, 5], 1.5, [1, -0.5, -2, 3.5]),
        # A turn within the play takes up only what had been gone of it.
        ([1, -1, 1], 1.5, [1, 0, 0]),
        ([1, 0, -1], 0.0, [1, 0, -1]),
    ],
)
def test_play_takes_what_turns_round(steps, slack, left):
    assert with_backlash(np.array(steps, float), slack).tolist() == left


def test_corrections_are_counted_back_in_whatever_their_sign():
    # The star drifts by 1 a frame; each correction takes all of the error that it saw away.
    errors, moved = np.ones(50), np.ones(50)
    for sign in (1, -1):
        assert unguided(errors, sign * moved) == pytest.approx(1 + np.arange(50))


@pytest.mark.parametrize("frames", [2, 3, 4, 6])
def test_a_few_frames_say_as_a_whole_which_way_corrections_count(frames):
    errors = np.random.default_rng(frames).normal(0, 1, frames)
    assert unguided(errors, -0.7 * errors) == pytest.approx(unguided(errors, 0.7 * errors))


def test_noise_hardly_reaches_the_line_that_it_may_reach():
    """The line is what noise reaches anywhere in 3 of 1000 runs; for one frequency alone it would be half as high."""
    time = np.arange(3000) * 2.0
    runs = [periodogram_of(time, np.random.default_rng(seed).normal(0, 0.4, 3000), 2.0) for seed in range(20)]
    assert not any((run.amplitude > run.limit).any() for run in runs)
    half = [run for run in runs if (run.amplitude**2 > 0.5 * run.limit**2).any()]
    assert half


@pytest.mark.parametrize("turns", [2.2, 8.4])
def test_a_period_is_found_and_noise_has_none(turns):
    rng, time = np.random.default_rng(1), np.arange(900) * 2.0
    period = 1800 / turns
    wave = 0.5 * np.sin(2 * np.pi * time / period) + rng.normal(0, 0.4, 900)
    found = periodogram_of(time, wave, 2.0).found
    assert found.period_s.value == pytest.approx(period, abs=2 * found.period_s.standard)
    assert found.amplitude_arcsec.value == pytest.approx(0.5, abs=0.06)
    noise = [periodogram_of(time, np.random.default_rng(s).normal(0, 0.4, 900), 2.0).found for s in range(20)]
    assert noise.count(None) >= 19
    assert periodogram_of(time[:20], wave[:20], 2.0) is None


def test_settling_by_hand():
    # Off the lock at 8, 4, 2, 1.5 (the limit itself counts), 1, 2, 1, 1, 1, 1 ″ after the dither in row 2.
    ra = [0, 0, 8, 4, 2, 1.5, 1, 2, 1, 1, 1, 1, 1]
    found = settling_of(run_of(ra, dithers=(2,)), 1.5, 6.0)
    (entry,) = found.dithers
    # Inside for good from row 8, 12 s after the dither; six seconds more until it counts.
    assert (entry.inside_s, entry.settled_s) == (12.0, 18.0)
    assert settling_of(run_of(ra, dithers=(2,)), 1.5, 0.0).dithers[0].settled_s == 6.0
    assert settling_of(run_of(ra, dithers=(2,)), 0.5, 0.0).never == 1
    assert settling_of(run_of(ra), 1.5, 0.0) is None
    marked = settling_of(run_of(ra, dithers=(2,), settled=(9,)), 1.5, 0.0, by_marks=True)
    assert marked.dithers[0].settled_s == 14.0


def test_predicted_elongation_by_hand():
    # FWHM 3, guiding 1/2.3548 and 0: sqrt(9 + 1) over 3.
    assert predicted_elongation(Estimate(1 / 2.3548), Estimate(0), 3.0) == pytest.approx(math.sqrt(10) / 3)
    assert predicted_elongation(None, Estimate(0), 3.0) is None


def test_a_run_tells_peak_limit_and_lost_frames():
    ra = np.zeros(200)
    ra[50], ra[60] = 4.0, np.nan
    lost = np.isnan(ra)
    (own,) = measured([run_of(ra, lost=lost)], [], OPTICS).runs
    assert own.over_limit_share == pytest.approx(1 / 199)
    assert own.peak_arcsec == pytest.approx(4.0, abs=0.05)
    assert own.lost_share == pytest.approx(1 / 200)
    assert share_percent(0.0, 200).standard == pytest.approx(0.5)


# Calibration


def calibration_text(pulse="pulse [ms]", step=lambda k: 500, back=(0, 0, 1, 2, 3, 4)):
    """A star sent west by 5 px a pulse along (0.8, 0.6), and north by 6 px along (−0.6, 0.8), with play of 500 ms."""
    rows, at = [], np.array([100.0, 200.0])
    for way, along, speed, moves in (
        ("west", (0.8, 0.6), 5.0, (0, 1, 2, 3, 4, 5)),
        ("north", (-0.6, 0.8), 6.0, (0, 1, 2, 3, 4, 5)),
        ("south", (0.6, -0.8), 6.0, back),
    ):
        for k, moved in enumerate(moves):
            x, y = at + moved * speed * np.array(along)
            rows.append(f"{way};{k};{step(k)};{x:.4f};{y:.4f}")
        at = at + moves[-1] * speed * np.array(along)
    return f"declination = 60 deg, binning = 2\ndirection;step;{pulse};x [px];y [px]\n" + "\n".join(rows) + "\n"


@pytest.mark.parametrize(
    "text",
    [
        calibration_text(),
        calibration_text("total pulse [ms]", lambda k: 500 * k),
        calibration_text("pulse_s", lambda k: 0.5),
    ],
)
def test_a_calibration_by_hand(text):
    (section,) = sections_of(text.encode())
    found = calibration_of(section, "a.csv", replace(OPTICS, pixel_um=3.0))
    # 15.041 × 0.5 × cos 60° = 3.76025 ″/s over 10 px/s; declination 7.5205 ″/s over 12 px/s differs, and is left out.
    assert found.guide_scale_arcsec_px.value == pytest.approx(0.376025, rel=1e-4)
    assert found.guide_focal_length_mm.value == pytest.approx(206.264806 * 3.0 * 2 / 0.376025, rel=1e-4)
    assert found.angle_deg.value == pytest.approx(36.8699, abs=0.01)
    assert found.not_square_deg.value == pytest.approx(0, abs=0.01)
    assert found.backlash_ms.value == pytest.approx(500, abs=5)
    assert "slowed by play" in " ".join(found.notes)


def test_a_calibration_that_tells_less_says_why():
    cut = "direction;step;x;y\nwest;0;1;1\nwest;1;3;1\nwest;2;5;1\n"
    (section,) = sections_of(cut.encode())
    found = calibration_of(section, "a.csv", OPTICS)
    assert found.guide_scale_arcsec_px is None
    assert "neither pulses" in found.notes[0]
    (section,) = sections_of(("pulse = 1000 ms\n" + cut).encode())
    found = calibration_of(section, "a.csv", replace(OPTICS, calibration_declination_deg=None, rate_is_stated=False))
    assert found.ra_rate_px_s.value == pytest.approx(2.0)
    assert {"the declination is not known", "guide rate not stated"} <= {
        note[:29].rstrip(":") for note in found.notes
    } | {note.split(":")[0] for note in found.notes}
    (section,) = sections_of(calibration_text(back=(0, 0, 0, 0, 0, 0)).encode())
    assert "never followed back" in " ".join(calibration_of(section, "a.csv", OPTICS).notes)


# A simulated mount


@pytest.fixture(scope="module")
def guided(tmp_path_factory):
    """An hour guided by the simulated mount, with its calibration."""
    mount = SimulatedMount(scale_arcsec_px=1.6, seed=21)
    path = write_guide_log(tmp_path_factory.mktemp("logs") / "night.csv", mount)
    return mount, read([path], replace(OPTICS, declination_deg=35.0))


def test_planted_numbers_come_back(guided):
    mount, result = guided
    (own,) = result.runs
    for found, planted in (
        (own.period_s, mount.worm_period_s),
        (own.drift_dec.rate, mount.drift_dec),
        (own.drift_ra.rate, 0.0),
        (result.calibration.guide_focal_length_mm, 206.264806 * 4 / 1.6),
        (result.calibration.backlash_ms, mount.backlash_ms),
        (result.calibration.angle_deg, mount.angle_deg),
    ):
        assert abs(found.value - planted) <= 3 * found.standard
    assert own.drift_dec.guided
    assert abs(own.drift_dec.own.value) < 0.02
    assert len(own.run.dithers) == 5
    entries = REPORT.as_json(result)
    assert set(entries) == {"answer", "runs", "comparisons", "calibration", "without_gusts", "polar", "not_used"}
    assert entries["runs"][0]["settle_s"]["dithers"] == 5
    assert any("guide focal length" in line for line in summary_lines(result))


@pytest.mark.parametrize(("eagerness", "low", "high"), [(1.4, -1, -0.2), (0.1, 0.6, 1)])
def test_too_eager_and_too_weak_show(tmp_path, eagerness, low, high):
    mount = SimulatedMount(seconds=1500, eagerness=eagerness, dither_every_s=0, seed=3)
    (own,) = read([write_guide_log(tmp_path / "a.csv", mount, in_px=False)], OPTICS).runs
    assert low < own.alike_ra.value < high


def test_an_unguided_drift_is_told_by_the_errors_themselves(tmp_path):
    mount = SimulatedMount(seconds=1800, eagerness=0, dither_every_s=0, drift_dec=-0.7, seed=2)
    (own,) = read([write_guide_log(tmp_path / "a.csv", mount)], replace(OPTICS, scale_arcsec_px=1.606)).runs
    assert not own.drift_dec.guided
    assert own.drift_dec.rate.value == pytest.approx(-0.7, abs=0.01)


def test_a_star_that_goes_though_it_is_corrected_is_told_by_its_errors():
    time = np.arange(400) * 2.0
    errors = 0.02 * time + RNG.normal(0, 0.2, 400)  # 1.2 ″/min, over 13 minutes far beyond its scatter
    (own,) = measured([run_of(np.zeros(400), errors, dec_moved=0.5 * errors)], [], OPTICS).runs
    assert not own.drift_dec.guided
    assert own.drift_dec.rate.value == pytest.approx(1.2, abs=0.02)


def test_the_pole_by_two_hour_angles(guided):
    _, result = guided
    (own,) = result.runs
    runs = []
    for hour in (0.0, 6.0):
        # 0.2625 ″/min · 4′ · sin(H − 2 h)
        rate = 0.26251497 * 4 * math.sin(math.radians(15 * (hour - 2)))
        drift = replace(own.drift_dec, rate=Estimate(rate, 0.01))
        runs.append(replace(own, drift_dec=drift, run=replace(own.run, facts=LogFacts(hour_angle_h=hour))))
    found = GuideResult(tuple(runs), None, OPTICS).polar
    assert found.error_arcmin.value == pytest.approx(4.0, abs=1e-6)
    assert found.error_arcmin.standard == pytest.approx(0.01 / 0.2625, rel=0.3)
    assert found.hour_angle_h == pytest.approx(2.0)
    assert GuideResult(tuple(runs[:1]), None, OPTICS).polar is None


# The rig and the command


def test_what_was_measured_is_kept(guided):
    _, result = guided
    rig = validated(clean_document())
    entries = GUIDE_LOG.measures(rig, result)
    assert {"guide_rms_arcsec", "guide_period_s", "guide_scale_arcsec_px", "guide_settle_s"} <= set(entries)
    kept = edit.apply(rig, GUIDE_LOG.keep(rig, result))
    assert kept.measured["guide_rms_arcsec"].evidence.method == "guide_log"
    assert kept.guiding.calibration.pier_side == "west"
    assert kept.guiding.calibration.date.startswith("2026-11-14T20:12")
    with pytest.raises(ValueError, match="no number to keep"):
        GUIDE_LOG.keep(rig, GuideResult((), None, OPTICS))


def test_the_command(tmp_path, capsys):
    rig = tmp_path / "a.rig.json"
    document = clean_document()
    document["mount"]["worm_period_s"] = 479
    rig.write_text(json.dumps(document), "utf-8")
    logs = write_demo_logs(tmp_path / "logs", 1.6059)
    assert main(["guide", str(rig), str(tmp_path / "logs"), "--json", "--keep"]) in (0, 1)
    entries = json.loads(capsys.readouterr().out)
    assert [run["file"] for run in entries["runs"]] == [path.name for path in logs]
    assert entries["calibration"]["guide_focal_length_mm"]["value"] == pytest.approx(513.8, abs=6)
    assert "guide_rms_arcsec" in json.loads(rig.read_text("utf-8"))["measured"]
    assert main(["guide", str(rig), str(logs[0])]) in (0, 1)
    assert "guiding.period" in capsys.readouterr().out
    assert main(["guide", str(rig), str(tmp_path / "none.csv")]) == 2
    assert main(["guide", str(rig), str(logs[0]), "--map", "nobody"]) == 2
    assert "no key map" in capsys.readouterr().err

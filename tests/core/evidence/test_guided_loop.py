"""What guiding errors are made of, gusts, the lag of corrections, replays, and runs held against each other."""

import math
from dataclasses import replace

import numpy as np
import pytest

from tests.core.evidence.guided import DRIFT, guided_run, mount
from tests.rigs import clean_document
from wyntaxis.core.evaluation import Evidence, evaluate
from wyntaxis.core.evidence.guide_log.comparisons import Comparison, comparisons_of
from wyntaxis.core.evidence.guide_log.corrections import OwnPath
from wyntaxis.core.evidence.guide_log.gusts import gusts_of
from wyntaxis.core.evidence.guide_log.kind import GUIDE_LOG, read
from wyntaxis.core.evidence.guide_log.loop import centroid_noise, frame_noise, less_noise
from wyntaxis.core.evidence.guide_log.replay import Setting, logged_setting, replayed
from wyntaxis.core.evidence.guide_log.report import REPORT
from wyntaxis.core.evidence.guide_log.result import measured, measured_run
from wyntaxis.core.evidence.guide_log.run import GuideOptics, LogFacts
from wyntaxis.core.evidence.guide_log.sentences import advice_text, run_lines
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.rig.store import validated

OPTICS = GuideOptics(
    scale_arcsec_px=1.6, main_scale_arcsec_px=1.5, settle_arcsec=1.5, settle_s=5, declination_deg=0.0,
    star_fwhm_arcsec=2.8,
)  # fmt: skip
DAY_S = 86_400.0
EVENING_S = 1_763_151_120.0
"""2025-11-14, 20:12 UTC."""


def test_noise_and_what_the_loop_leaves_lie_within_2u(seeds):
    inside = []
    for seed in seeds(30):
        seeing = (0.2, 0.5, 1.0)[seed % 3]
        own = measured_run(guided_run(seed, seconds=3600, seeing=seeing, gap=1.5, dither_s=300), OPTICS)
        for axis in own.axes.values():
            noise = axis.shares.noise
            inside.append(abs(noise.value - seeing) <= 2 * noise.standard)
            assert axis.shares.loop.value < axis.rms.value
    assert np.mean(inside) >= 0.9


def test_the_mount_left_alone_strays_as_its_worm_and_drift_say():
    own = measured_run(guided_run(seconds=4300, seeing=0.2, worm=3.0), OPTICS)
    # A sine of 3″ is 3/√2 RMS; a line of 0.76 ″/min over 71.7 min, 54.5″, is 54.5/√12; seeing adds nothing that shows.
    assert own.axes["ra"].shares.alone == pytest.approx(3 / math.sqrt(2), rel=0.02)
    assert own.axes["dec"].shares.alone == pytest.approx(DRIFT * 4297.5 / 60 / math.sqrt(12), rel=0.03)


def test_white_noise_is_noise_and_a_smooth_path_has_none():
    rng, parts = np.random.default_rng(3), np.zeros(2000, int)
    good = np.ones(2000, bool)
    white = frame_noise(rng.normal(0, 0.5, 2000), good, parts)
    assert abs(white.value - 0.5) <= 2 * white.standard < 0.1
    assert frame_noise(3 * np.sin(np.arange(2000) / 30), good, parts) is None
    assert frame_noise(rng.normal(0, 0.5, 2000), good & (np.arange(2000) < 119), parts) is None


@pytest.mark.parametrize(
    ("whole", "part", "left"), [(5.0, 3.0, 4.0), (13.0, 12.0, 5.0), (3.0, 3.0, 0.0), (1.0, 2.0, 0.0)]
)
def test_parts_come_off_in_quadrature(whole, part, left):
    assert less_noise(Estimate(whole, 0.1), Estimate(part, 0.1)).value == pytest.approx(left)


def test_centroid_noise_by_hand():
    # 2.355″ wide at a ratio of 20: 0.05″; ratios of 10 and ∞ have a mean square of 1/200 between them.
    assert centroid_noise(np.full(9, 20.0), 2.3548) == pytest.approx(0.05, rel=1e-3)
    assert centroid_noise(np.array([10.0, 1e9, np.nan, 0.0]), 2.3548) == pytest.approx(math.sqrt(1 / 200), rel=1e-3)
    assert centroid_noise(np.array([np.nan, 0.0]), 2.0) is None


@pytest.mark.parametrize(("lag", "share"), [(0, 0.6), (1, 0.35), (2, 0.35)])
def test_the_lag_of_corrections_is_seen_behind_dithers(lag, share):
    inside = []
    for seed in range(20):
        own = measured_run(guided_run(seed, seconds=2400, dither_s=120, lag=lag, share=share), OPTICS)
        inside.append(abs(own.lag.value - lag) <= 2 * own.lag.standard)
        assert own.axes["ra"].own.lag == lag
    assert np.mean(inside) >= 0.9
    words = " ".join(run_lines(own))
    assert ("frames late: the guider measures before" in words) == (lag > 0)


def test_without_far_dithers_the_lag_is_not_told():
    assert measured_run(guided_run(seconds=2400), OPTICS).lag is None


# Gusts


def test_gusts_are_named_and_left_out_on_request():
    quiet = measured_run(guided_run(4), OPTICS)
    own = measured_run(guided_run(4, gusts=((200, 4, 9.0), (500, 3, -7.0))), OPTICS)
    assert not quiet.gusts
    assert [round(gust.at_s / 2.5) for gust in own.gusts] == [200, 500]
    assert own.gusts[0].peak_arcsec == pytest.approx(9, abs=1.5)
    assert own.rms_ra.value > 1.5 * quiet.rms_ra.value
    assert own.calm_rms.value == pytest.approx(quiet.rms.value, rel=0.05)
    result = measured([own.run], [], OPTICS).leaving_gusts(out=True)
    without = result.runs[0]
    assert without.rms.value == own.calm_rms.value
    assert int(without.used.sum()) == int(own.used.sum()) - sum(len(gust.rows) for gust in own.gusts)
    assert "in gusts" in run_lines(without)[0]
    again = result.leaving_gusts(out=False).runs[0]
    assert again.rms.value == own.rms.value
    assert "2 jolts as by gusts of wind" in " ".join(run_lines(again))


def test_noise_has_no_gusts_and_a_run_that_always_strays_has_none():
    rng = np.random.default_rng(8)
    time, rows = np.arange(3000) * 2.0, np.arange(3000)
    assert gusts_of(time, rng.normal(0, 0.5, 3000), rng.normal(0, 0.4, 3000), rows) == ()
    wild = np.where(rng.random(3000) < 0.25, 9.0, 0.5) * rng.normal(0, 1, 3000)
    assert gusts_of(time, wild, rng.normal(0, 0.4, 3000), rows) == ()
    assert gusts_of(time[:10], np.zeros(10), np.zeros(10), rows[:10]) == ()


# Replays


def slowly(path, setting, slack, lag, most):
    """A replay step by step, of one setting."""
    motor = axis = path[0]
    waiting, seen, errors = [0.0] * lag, [], []
    for row, place in enumerate(path):
        errors.append(place - axis)
        seen.append(place - axis)
        step = 0.0
        if (row + 1) % setting.frames == 0:
            mean = sum(seen) / len(seen)
            step = max(min(setting.share * mean, most), -most) if abs(mean) >= setting.smallest else 0.0
            seen = []
        waiting.append(step)
        motor += waiting.pop(0)
        axis = motor if axis < motor else min(axis, motor + slack)
    return errors


@pytest.mark.parametrize("lag", [0, 1])
@pytest.mark.parametrize("slack", [0.0, 1.2])
@pytest.mark.parametrize("frames", [1, 3])
def test_replays_side_by_side_are_those_of_one_by_one(lag, slack, frames):
    path = np.cumsum(np.random.default_rng(2).normal(0, 0.5, 200))
    settings = [Setting(0.3, 0.0, frames), Setting(0.9, 0.4, frames)]
    found = replayed(OwnPath(path, np.zeros(200), slack, lag), settings, 1.0)
    for setting, errors in zip(settings, found, strict=True):
        assert errors == pytest.approx(slowly(path.tolist(), setting, slack, lag, 1.0), abs=1e-9)


@pytest.mark.parametrize(("share", "smallest"), [(0.3, 0.0), (0.7, 0.0), (0.6, 0.25), (0.95, 0.5)])
def test_how_it_was_corrected_is_read_from_the_corrections(share, smallest):
    own = measured_run(guided_run(share=share, smallest=smallest), OPTICS).axes["ra"]
    found = logged_setting(own.values, own.own.steps, own.good)
    assert found.share == pytest.approx(share, rel=0.02)
    assert found.smallest == pytest.approx(smallest, abs=0.03)


@pytest.mark.parametrize("share", [0.15, 0.95])
def test_what_a_replay_advises_guides_better_in_another_night(share, seeds):
    for seed in seeds(6):
        advice = measured_run(guided_run(seed, seconds=3600, share=share, smallest=0.0), OPTICS).axes["ra"].advice
        assert advice.reproduces
        assert advice.best is not None
        before, after = (
            measured_run(guided_run(seed + 500, seconds=3600, share=own.share, smallest=own.smallest), OPTICS).rms_ra
            for own in (advice.logged, advice.best)
        )
        assert advice.best.frames == 1
        assert before.value - after.value == pytest.approx(advice.gain.value, abs=4 * advice.gain.standard + 0.03)
        assert after.value < before.value


def test_good_settings_are_left_and_a_guider_of_another_kind_is_not_advised():
    good = measured_run(guided_run(5, seconds=3600, share=0.6, smallest=0.0), OPTICS).axes["ra"].advice
    assert good.best is None
    assert "as good as any" in advice_text(good)
    run = guided_run(5, seconds=3600, share=0.6, smallest=0.0)
    # Corrections written twice as large as they were: what is counted back is no path of this mount.
    other = measured_run(replace(run, ra_moved=2 * run.ra_moved), OPTICS).axes["ra"].advice
    assert other is None or not other.reproduces or other.best is None


def test_short_runs_and_runs_without_corrections_are_not_replayed():
    assert measured_run(guided_run(seconds=500), OPTICS).axes["ra"].advice is None
    run = replace(guided_run(seconds=1800), ra_moved=None)
    assert set(measured_run(run, OPTICS).axes) == {"dec"}


def test_the_finding_says_what_to_set():
    result = measured([guided_run(2, seconds=3600, share=0.95, smallest=0.0)], [], OPTICS)
    found = [
        own
        for own in evaluate(validated(clean_document()), Evidence({GUIDE_LOG.key: result})).findings
        if own.id.startswith("guiding.other_settings")
    ]
    assert found
    assert found[0].remedy.text.startswith("Correct ")


# Held against each other


@pytest.mark.parametrize(
    ("first", "second", "significance", "differs"),
    [
        (Estimate(1.0, 0.3), Estimate(2.0, 0.4), 2.0, False),
        (Estimate(1.0, 0.3), Estimate(2.01, 0.4), 2.02, True),
        (Estimate(1.0, 0.0), Estimate(1.0, 0.0), 0.0, False),
        (Estimate(1.0, 0.0), Estimate(1.1, 0.0), math.inf, True),
    ],
)
def test_a_difference_counts_beyond_twice_its_uncertainty(first, second, significance, differs):
    own = Comparison("", None, None, "RMS", "″", first, second)
    assert own.significance == pytest.approx(significance)
    assert own.differs is differs


def test_flips_and_nights_are_held_against_each_other():
    sides = LogFacts(pier_side="east"), LogFacts(pier_side="west")
    runs = [
        guided_run(1, name="before", start_s=EVENING_S, facts=sides[0]),
        guided_run(2, name="after", start_s=EVENING_S + 7200, facts=sides[1], seconds=2500),
        guided_run(3, name="next night", start_s=EVENING_S + DAY_S, facts=sides[1], seeing=0.9),
    ]
    rows = list(comparisons_of(measured(runs, [], OPTICS)))
    pairs = {(row.why, row.before.name, row.after.name) for row in rows}
    assert pairs == {
        ("before and after the flip, east to west", "before", "after"),
        ("night against night", "after", "next night"),
    }
    rms = {row.after.name: row for row in rows if row.what == "RMS"}
    assert rms["next night"].differs
    assert rms["next night"].difference.value > 0.4
    assert not rms["after"].differs


def test_runs_without_a_date_are_held_against_none():
    runs = [guided_run(seed, name=str(seed)) for seed in (1, 2)]
    assert not list(comparisons_of(measured(runs, [], OPTICS)))


def test_every_run_has_its_sentences_and_counted_frames():
    result = measured([guided_run(seed, name=f"run {seed}") for seed in (1, 2)], [], OPTICS)
    lines = list(REPORT.lines(result))
    for seed in (1, 2):
        assert any(line.startswith(f"run {seed}: ") and "frames count" in line for line in lines)
        assert any(line.startswith(f"run {seed}: ") and "replayed with other settings" in line for line in lines)
    entries = REPORT.as_json(result)["runs"][0]
    assert entries["counted"] == 720
    assert entries["drift_dec_kind"] == "mount"


def test_the_axis_that_limits_is_named():
    run = guided_run(7)
    assert "Neither axis limits" in " ".join(run_lines(measured_run(run, OPTICS)))
    worse = measured_run(replace(run, dec=3 * run.dec), OPTICS)
    assert "Declination limits" in " ".join(run_lines(worse))


# A saturated star


@pytest.mark.parametrize(
    ("heading", "strength", "told"),
    [
        ("peak", lambda k: 65535 if k % 3 else 61000 + k, "strength is 65535"),
        ("peak", lambda k: 61000 + k, ""),
        ("peak", lambda k: 4095, ""),
        ("SNR", lambda k: 300 if k % 3 else 280 + k % 7, ""),
        ("mass", lambda k: 12 if k % 3 else 11, ""),
    ],
)
def test_a_star_at_its_highest_may_be_saturated(tmp_path, heading, strength, told):
    rows, _ = mount(seconds=600)
    path = tmp_path / "log.csv"
    lines = [f"{row[0]:.1f},{row[1]:.3f},{row[2]:.3f},{strength(k)}" for k, row in enumerate(rows)]
    path.write_text("\n".join([f"time (s),ra (arcsec),dec (arcsec),{heading}", *lines]) + "\n", "utf-8")
    notes = " ".join(read([path], OPTICS).runs[0].run.notes)
    assert ("saturated" in notes) == bool(told)
    assert told in notes


def test_a_log_that_says_saturated_is_believed(tmp_path):
    rows, _ = mount(seconds=600)
    path = tmp_path / "log.csv"
    lines = [
        f"{row[0]:.1f},{row[1]:.3f},{row[2]:.3f},{'star saturated' if k % 50 == 3 else ''}"
        for k, row in enumerate(rows)
    ]
    path.write_text("\n".join(["time (s),ra (arcsec),dec (arcsec),event", *lines]) + "\n", "utf-8")
    own = read([path], OPTICS).runs[0]
    assert "says in 5 places that the star is saturated" in " ".join(own.run.notes)
    assert not own.run.lost.any()

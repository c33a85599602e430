"""Focus runs: curves with planted numbers, wild and one-sided ones, runs parted, the law of all, tables and frames."""

import datetime
import json
import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.rigs import clean_document
from wyntaxis.cli import main
from wyntaxis.core.evidence.focus.advice import advice_of, run_step
from wyntaxis.core.evidence.focus.curve import FocusCurve, fit_curve
from wyntaxis.core.evidence.focus.focus_model import fit_focus_model
from wyntaxis.core.evidence.focus.kind import FOCUS, read
from wyntaxis.core.evidence.focus.points import BY_HAND, FocusPoint, FocusRun
from wyntaxis.core.evidence.focus.result import FocusFilter, FocusOptics, measured
from wyntaxis.core.evidence.focus.runs import runs_of, runs_to_and_fro
from wyntaxis.core.evidence.focus.table import read_focus_table
from wyntaxis.core.evidence.headers.names import DEFAULT_FILTER_NAMES
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.places import own_filter_names_path
from wyntaxis.core.optics.blurred_disc import MAX_DIAMETER, annulus_hfd_share, blurred_annulus_hfd
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.store import validated
from wyntaxis.simulators.telescope import Run, SimulatedTelescope

START = datetime.datetime(2026, 11, 20, 20, tzinfo=datetime.UTC)
OPTICS = FocusOptics(pixel_um=4.0, focal_ratio=5.0, depth_um=48.0, step_um=4.0)
SHARPEST, DISC = 2.5, 0.2
"""px, and px/step: a step of 0.2 · 4 µm · 5 = 4 µm."""


def run_points(best=10_000.0, step=20, count=9, noise=0.01, seed=1, obstruction=0.0, **more):
    """Points of a run about its best position, with scatter of a share of their size."""
    rng, side = np.random.default_rng(seed), (count - 1) / 2
    positions = best - 3 + step * (np.arange(count) - side)
    sizes = SHARPEST * blurred_annulus_hfd(DISC * (positions - best) / SHARPEST, obstruction)
    sizes = sizes * (1 + noise * rng.standard_normal(count))
    return [
        FocusPoint(f"{k}.fits", float(x), float(h), **more)
        for k, (x, h) in enumerate(zip(positions, sizes, strict=True))
    ]


# By hand: no annulus leaves the sharpest; a large one its own half-flux diameter; ε = 0.35 gives √(1.1225/2).
def test_the_blurred_annulus_lies_between_its_ends():
    for profile in ("gaussian", "moffat"):
        assert blurred_annulus_hfd(0.0, 0.35, profile) == pytest.approx(1.0, abs=1e-6)
        wide = 10 * MAX_DIAMETER
        assert blurred_annulus_hfd(wide, 0.35, profile) == pytest.approx(wide * math.sqrt(1.1225 / 2), rel=2e-4)
        # Under the quadrature sum by some 6 % near three times the sharpest (drawn and counted photon by photon).
        assert blurred_annulus_hfd(3.0, 0.0, "gaussian") == pytest.approx(2.217, rel=2e-3)
    assert blurred_annulus_hfd(3.0, 0.35, "moffat") == pytest.approx(2.391, rel=2e-3)
    with pytest.raises(ValueError, match="below 1"):
        annulus_hfd_share(1.0)


@given(st.floats(0, 40), st.floats(0, 40), st.sampled_from((0.0, 0.2, 0.35, 0.5)))
def test_a_wider_annulus_is_never_smaller(one, other, obstruction):
    low, high = sorted((one, other))
    assert blurred_annulus_hfd(low, obstruction) <= blurred_annulus_hfd(high, obstruction) + 1e-6


@pytest.mark.parametrize("obstruction", [0.0, 0.35])
def test_a_run_gives_back_what_was_planted(obstruction):
    curve = fit_curve(run_points(obstruction=obstruction), obstruction)
    assert curve.best_position.value == pytest.approx(10_000, abs=2 * curve.best_position.standard)
    assert curve.best_position.standard < 2
    assert curve.hfd_px.value == pytest.approx(SHARPEST, abs=2 * curve.hfd_px.standard)
    assert curve.disc_px_step.value == pytest.approx(DISC, abs=2 * curve.disc_px_step.standard)
    assert curve.disc_px_step.standard < 0.03 * DISC
    # The hyperbola's slope lies under the disc's share of it, within its own uncertainty.
    slope = DISC * annulus_hfd_share(obstruction)
    assert curve.slope_px_step.value < slope
    assert curve.slope_px_step.value == pytest.approx(slope, abs=2 * curve.slope_px_step.standard)
    assert curve.symmetry.value == pytest.approx(1.0, abs=2.5 * curve.symmetry.standard)
    assert not curve.characterises
    assert curve.far is None


def test_a_wild_point_is_left_out_with_its_reason_and_may_be_restored():
    points = run_points()
    points[2] = replace(points[2], hfd_px=2.2 * points[2].hfd_px)
    curve = fit_curve(points)
    assert [point.file for point in curve.points if not point.used] == ["2.fits"]
    assert "times the scatter of the others" in curve.points[2].why
    assert curve.best_position.value == pytest.approx(10_000, abs=2 * curve.best_position.standard)
    result = measured([FocusRun("one", tuple(points), "out")], OPTICS)
    restored = result.with_point("2.fits", used=True)
    assert restored.curves[0].points[2].used
    assert restored.curves[0].best_position.standard > result.curves[0].best_position.standard
    left = result.with_point("5.fits", used=False)
    assert left.curves[0].points[5].why == BY_HAND
    assert left.with_point("5.fits", used=True).curves[0].points[5].used


@pytest.mark.parametrize(
    ("points", "entries"),
    [
        (run_points()[:5], "one-sided: too few points lie further out"),
        (run_points()[4:], "one-sided: too few points lie further in"),
        (run_points(step=2), "flat: star sizes go from"),
        (run_points()[:4], "it has 4 usable points, and a curve needs 5"),
        (run_points(count=5)[:3] * 3, "its points are at 3 positions"),
    ],
)
def test_what_gives_no_best_position_is_told_in_words(points, entries):
    curve = fit_curve(points)
    assert curve.best_position is None
    assert curve.why.startswith(entries)


def test_a_run_far_out_characterises_and_its_lines_meet_at_focus():
    curve = fit_curve(run_points(count=25, step=24, noise=0.003))
    assert curve.characterises
    assert curve.reach > 10
    assert curve.far.meet_at.value == pytest.approx(10_000, abs=3 * curve.far.meet_at.standard)
    for side in (curve.far.inner_px_step, curve.far.outer_px_step):
        assert side.value == pytest.approx(DISC * math.sqrt(0.5), rel=0.06)


def moved(points, seconds, every=10, **more):
    return [
        replace(
            point, time=START + datetime.timedelta(seconds=seconds + every * k), file=f"{seconds}-{point.file}", **more
        )
        for k, point in enumerate(points)
    ]


def test_runs_are_parted_by_direction_filter_pause_and_jump():
    out = run_points()
    inward = out[::-1]
    points = [
        *moved(out, 0, filter="L"),
        *moved(inward, 90, filter="L"),  # turns on the position where the other ended
        *moved(out, 200, filter="L"),
        *moved(out, 300, filter="Ha"),
        *moved(out, 9000, filter="Ha"),
        *moved(out[4:5], 30_000, filter="Ha"),
    ]
    runs, left = runs_of(points, "night", in_order=False)
    assert [(run.filter, run.direction, len(run.points)) for run in runs] == [
        ("L", "out", 9), ("L", "in", 9), ("L", "out", 9), ("Ha", "out", 9), ("Ha", "out", 9),
    ]  # fmt: skip
    assert [run.name for run in runs] == [f"night {k}" for k in range(1, 6)]
    assert "one position is no run" in left[0].why
    assert runs[0].lasted_s == pytest.approx(90)
    again, _ = runs_of([replace(point, time=None) for point in moved(out, 0)], in_order=False)
    assert again[0].direction is None  # nobody tells the order
    mixed, _ = runs_of(
        [replace(point, binning=2 if k == 3 else 1) for k, point in enumerate(moved(out, 0))], in_order=False
    )
    assert mixed[0].points[3].why == "binned 2, the run's frames 1"


def steps(first, step, count=9):
    return [first + step * k for k in range(count)]


NARROW, WIDE = steps(6900, 11), steps(6000, 200, 11)


@pytest.mark.parametrize(
    ("runs", "found"),
    [
        (
            [NARROW, NARROW, WIDE, NARROW],
            [(6900, 9), (6900, 9), (6000, 11), (6900, 9)],
        ),  # a wide one beside narrow ones
        ([[7000, *NARROW]], [(6900, 9)]),  # from the last best position to where the run begins
        ([[6000, *NARROW]], [(6900, 9)]),
        ([[*NARROW, 6945]], [(6900, 9)]),  # and back to the best
        ([[*NARROW, *NARROW[::-1]]], [(6900, 9), (6988, 9)]),
        ([[6900, 6911, 6922, 6955, 6966, 6977]], [(6900, 6)]),  # two frames failed
        ([[6900, 6940, 6970, 6985, 6995, 7005, 7020, 7050, 7090]], [(6900, 9)]),  # finer near focus
        ([[place for place in NARROW for _ in range(3)]], [(6900, 27)]),  # three frames at each
        ([steps(6900, 11, 4), steps(9000, 11, 4)], [(6900, 4), (9000, 4)]),
    ],
)
def test_a_run_is_parted_by_its_own_moves(runs, found):
    places = [place for run in runs for place in run]
    at = [START + datetime.timedelta(seconds=20 * k) for k in range(len(places))]
    points = [FocusPoint(f"{k}", place, 3.0, time=at[k]) for k, place in enumerate(places)]
    entries, left = runs_of(points, in_order=True)
    assert [(run.points[0].position, len(run.points)) for run in entries] == found
    assert sum(len(run.points) for run in entries) + len(left) == len(points), "nothing is lost without a word"


@pytest.mark.parametrize(
    "places", [[6900, 6950, 6910, 6940, 6920, 6930, 6960], [6900, 6930, 6940, 6950, 6910, 6960, 6920]]
)
def test_a_focuser_moved_to_and_fro_by_hand_makes_one_run(places):
    points = [
        FocusPoint(f"{k}", place, 3.0, time=START + datetime.timedelta(seconds=30 * k))
        for k, place in enumerate(places)
    ]
    (run,), left = runs_to_and_fro(points, "a", DEFAULT_FILTER_NAMES)
    assert (len(run.points), run.direction, left) == (7, None, [])
    # Frames of a night, each by itself, stay what they are.
    apart = [replace(point, time=START + datetime.timedelta(hours=k)) for k, point in enumerate(points)]
    assert all(run.direction for run in runs_to_and_fro(apart, "a", DEFAULT_FILTER_NAMES)[0])


def test_frames_named_one_by_one_make_the_run_of_their_folder(tmp_path):
    places = [6990 + 5 * k for k in range(5)]
    SimulatedTelescope().write_run(tmp_path / "a", places)
    files = sorted((tmp_path / "a").iterdir())
    (whole,) = read([tmp_path / "a"], OPTICS).runs
    (named,) = read(files, OPTICS).runs
    assert [point.position for point in named.points] == [point.position for point in whole.points]
    assert len(named.points) == 5


def model_runs(table):
    """Runs whose best positions are given: (best, u, °C, direction, filter)."""
    return [
        (
            FocusRun(str(k), (FocusPoint("f", 0.0, 1.0, filter=name, temperature_c=celsius),), way),
            FocusCurve((), best_position=Estimate(best, u)),
        )
        for k, (best, u, celsius, way, name) in enumerate(table)
    ]


def test_the_law_of_all_runs_by_hand():
    # best = 1000 + 5 (T − 6) + 12 for Ha, ±10 by direction: exact numbers come back.
    model = fit_focus_model(
        model_runs(
            [
                (1040, 1, 12, "out", "L"), (1020, 1, 12, "in", "L"), (1010, 1, 6, "out", "L"), (990, 1, 6, "in", "lum"),
                (1027, 1, 7, "out", "Ha"),
            ]
        )
    )  # fmt: skip
    assert model.reference == "L"
    assert model.slope.value == pytest.approx(5)
    assert model.backlash.value == pytest.approx(20)
    assert model.offsets["Ha"].value == pytest.approx(12)
    assert model.scatter_steps == pytest.approx(0, abs=1e-6)
    assert model.why == {}


@pytest.mark.parametrize(
    ("table", "key", "entries"),
    [
        ([(1000, 1, 5, "out", "L"), (1001, 1, 5.4, "out", "L")], "backlash", "every run goes out"),
        ([(1000, 1, 5, "out", "L"), (1001, 1, 5.4, "out", "L")], "slope", "span 0.4 °C"),
        ([(1000, 1, 5, None, "L"), (1001, 1, None, None, "L")], "slope", "not every run has a temperature"),
        ([(1000, 1, 5, "out", "L"), (1040, 1, 12, "out", "Ha")], "slope", "together with something else"),
        ([(1000, 1, 5, None, "L")], "backlash", "no run has a known focuser direction"),
    ],
)
def test_what_runs_cannot_tell_apart_is_left_open(table, key, entries):
    assert entries in fit_focus_model(model_runs(table)).why[key]


def test_scatter_between_runs_widens_what_is_told():
    quiet = fit_focus_model(model_runs([(1000 + d, 1, 5, "out", "L") for d in (0, 0.5, -0.5, 0.2)]))
    loud = fit_focus_model(model_runs([(1000 + d, 1, 5, "out", "L") for d in (0, 20, -20, 8)]))
    assert loud.best_now.standard > 5 * quiet.best_now.standard
    assert loud.scatter_steps == pytest.approx(np.std([0, 20, -20, 8], ddof=1))


def write_table(path, heading="position,hfd_px,temperature_c,filter,run,time"):
    """A table of five runs: backlash 30, 6 steps/°C, Ha 20 steps off; half a step of scatter."""
    rows, seconds = [heading], 0
    for name, celsius, way, off in (
        ("L", 10, 1, 0),
        ("L", 10, -1, 0),
        ("L", 4, 1, 0),
        ("L", 4, -1, 0),
        ("Ha", 6, 1, 20),
    ):
        best = 10_000 + 6 * (celsius - 7) + off + 15 * way
        for point in run_points(best)[::way]:
            seconds += 10
            stamp = (START + datetime.timedelta(seconds=seconds)).isoformat()
            rows.append(f"{point.position},{point.hfd_px:.4f},{celsius},{name},{name}{celsius}{way},{stamp}")
        seconds += 3000
    path.write_text("\n".join(rows) + "\n", "utf-8")
    return path


def test_a_table_gives_step_backlash_slope_and_offsets(tmp_path):
    optics = replace(OPTICS, filters=(FocusFilter("L", 2.0, 1.5), FocusFilter("Ha", 2.24, 1.5)))
    result = read([write_table(tmp_path / "runs.csv")], optics)
    assert [run.direction for run in result.runs] == ["out", "in", "out", "in", "out"]
    assert result.step_um.value == pytest.approx(4.0, abs=2 * result.step_um.standard)
    assert result.model.backlash.value == pytest.approx(30, abs=2 * result.model.backlash.standard + 0.5)
    assert result.model.slope.value == pytest.approx(6, abs=2 * result.model.slope.standard + 0.1)
    ha = result.offsets[0]
    assert ha.offset.value == pytest.approx(20, abs=2 * ha.offset.standard + 0.5)
    # By hand: 0.24 mm · (1 − 1/1.5) = 0.08 mm = 80 µm, in steps of the measured size.
    assert ha.expected_steps == pytest.approx(80 / result.step_um.value)
    assert result.depth_steps == pytest.approx(48 / result.step_um.value)
    entries = {advice.key: advice.value for advice in advice_of(result)}
    assert entries["compensation_steps"] == 40
    assert entries["refocus_temperature_c"] == pytest.approx(1.0)  # 12 steps / 2 / 6
    assert entries["refocus_on_filter"] is True
    # 2.75 times the sharpest lies 2.5 · √6.5625 / slope from focus; a quarter of that is a step.
    slope = result.curves[0].slope_px_step.value
    assert run_step(result.curves[0]) == pytest.approx(2.5 * math.sqrt(2.75**2 - 1) / slope / 4, rel=0.03)
    without = result.without_run(4)
    assert without.offsets == ()


def test_a_table_of_radii_and_a_sorted_one(tmp_path):
    path = tmp_path / "r.csv"
    path.write_text("counter;HFR\n" + "\n".join(f"{p.position};{p.hfd_px / 2:.4f}" for p in run_points()), "utf-8")
    runs, _ = read_focus_table(path)
    assert runs[0].points[0].hfd_px == pytest.approx(run_points()[0].hfd_px, abs=1e-3)
    assert runs[0].direction is None


@pytest.mark.parametrize(
    ("text", "entries"),
    [
        ("position,size_px\n", "holds no row"),
        ("a,b\n1,2\n", "no column for position"),
        ("position,hfd_px\n1,x\n,3\n", "has no"),
        ("\x00\x01", "NUL"),
    ],
)
def test_bad_tables_get_one_line(tmp_path, text, entries, capsys):
    (tmp_path / "bad.csv").write_text(text, "utf-8")
    rig = tmp_path / "good.rig.json"
    rig.write_text(json.dumps(clean_document()), "utf-8")
    main(["focus", str(rig), str(tmp_path / "bad.csv"), "--json"])
    out = capsys.readouterr()
    assert entries in (json.dumps(json.loads(out.out)["not_used"]) if out.out else out.err)
    assert len(out.err.strip().splitlines()) <= 1


SCOPE = SimulatedTelescope(step_um=4.2, focal_ratio=4.94, best_position=7000, stars=9, width=240, height=180, seed=3)


def test_frames_are_read_kept_and_told(tmp_path, capsys):
    step = 11
    for name, way, at in (("out", 1, 0), ("in", -1, 100)):
        start = START + datetime.timedelta(hours=at)
        scope = replace(SCOPE, backlash_steps=24.0)
        middle = round(scope.best("L", 10.0, name))
        positions = [middle + way * step * k for k in range(-4, 5)]
        scope.write_run(tmp_path / "f" / name, positions, run=Run(filter_name="L", start=start, number=at))
    SCOPE.write_run(tmp_path / "f" / "lost", [7000], run=Run(cards={"FOCUSPOS": "near"}))
    SCOPE.write_run(tmp_path / "f" / "empty", [7000, 7010], run=Run(brightness=1e-6, number=500))
    document = clean_document()
    rig_path = tmp_path / "good.rig.json"
    rig_path.write_text(json.dumps(document), "utf-8")
    code = main(["focus", str(rig_path), str(tmp_path / "f"), "--json", "--keep"])
    assert code in (0, 1)
    entries = json.loads(capsys.readouterr().out)
    assert {run["direction"] for run in entries["runs"]} == {"in", "out"}
    assert entries["backlash_steps"]["value"] == pytest.approx(24, abs=2 * entries["backlash_steps"]["u"] + 0.5)
    reasons = " ".join(entry["why"] for entry in entries["not_used"])
    assert "has no focus position as a number" in reasons
    assert "no run: it takes 4" in reasons
    rig = validated(json.loads(rig_path.read_text("utf-8")))
    focuser = next(device for device in rig.devices if device.kind == "focuser")
    assert focuser.measured("backlash_steps").value == pytest.approx(entries["backlash_steps"]["value"], rel=1e-4)
    assert focuser.measured("step_um").evidence.method == "focus_run"
    assert main(["focus", str(rig_path), str(tmp_path / "f")]) in (0, 1)
    assert "backlash: " in capsys.readouterr().out
    assert main(["focus", str(rig_path), str(tmp_path / "gone")]) == 2


def test_saturated_stars_are_left_out_of_a_run(tmp_path):
    bright = replace(SCOPE, faintest_adu=3e6, brightest_adu=6e6)
    bright.write_run(tmp_path, [6956 + 11 * k for k in range(9)])
    result = read([tmp_path], OPTICS)
    assert any(point.why.startswith(("saturated", "no star is unsaturated")) for point in result.curves[0].points)


def test_without_a_focuser_nothing_is_kept(tmp_path):
    result = read([write_table(tmp_path / "runs.csv")], OPTICS)
    document = clean_document()
    document["devices"] = [device for device in document["devices"] if device["kind"] != "focuser"]
    rig = validated(document)
    assert FOCUS.measures(rig, result) == {}
    with pytest.raises(ValueError, match="no focuser"):
        FOCUS.keep(rig, result)
    with pytest.raises(InputError, match="is not there"):
        read([tmp_path / "gone"], OPTICS)
    rig = validated(clean_document())
    kept = edit.apply(rig, FOCUS.keep(rig, result))
    for key, estimate in FOCUS.measures(rig, result).items():
        device_id, setting = key.split(".")
        device = next(device for device in kept.devices if device.id == device_id)
        assert device.measured(setting).value == pytest.approx(estimate.value, rel=1e-5)
    assert "glide.step_um" in FOCUS.measures(rig, result)


@pytest.mark.parametrize("at", [0, 4, 8])
def test_a_frame_of_another_binning_changes_no_step_wherever_it_stands(at):
    """Binned 2, stars are half as large in px; the step is 0.2 px · 4 µm · 5 = 4 µm all the same."""
    points = run_points()
    points[at] = replace(points[at], hfd_px=points[at].hfd_px / 2, binning=2)
    runs, _ = runs_of(points, in_order=True)
    result = measured(runs, OPTICS)
    assert result.step_um.value == pytest.approx(4.0, abs=2 * result.step_um.standard)
    assert [point.why for point in result.curves[0].points if not point.used] == ["binned 2, the run's frames 1"]
    again = result.with_point(points[at].file, used=True)
    assert all(point.used for point in again.curves[0].points)
    assert again.step_um.value == pytest.approx(4.0, abs=2 * again.step_um.standard)


def test_runs_of_binned_frames_tell_the_same_step():
    points = [replace(point, hfd_px=point.hfd_px / 2, binning=2) for point in run_points()]
    result = measured(runs_of(points, in_order=True)[0], OPTICS)
    assert result.step_um.value == pytest.approx(4.0, abs=2 * result.step_um.standard)


@pytest.mark.parametrize("through", ["kind", "command"])
def test_the_imagers_own_filter_names_stay_whatever_is_left_out(tmp_path, capsys, through):
    """Luminance is also "Klar" here: two runs of L, two of Klar, three of Ha. L is the reference."""
    names = {"format": "wyntaxis-filter-names", "version": 1, "names": {"L": ["Klar"]}}
    path = own_filter_names_path()
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(json.dumps(names), "utf-8")
    table = tmp_path / "runs.csv"
    rows = ["position,hfd_px,filter,run"]
    for number, name in enumerate(["L", "Klar", "Ha", "Ha", "Klar", "L", "Ha"]):
        off = 20 if name == "Ha" else 0
        rows += [f"{p.position + off},{p.hfd_px:.4f},{name},{number}" for p in run_points(seed=number)]
    table.write_text("\n".join(rows) + "\n", "utf-8")
    result = read([table], OPTICS)
    assert result.model.reference == "L"
    if through == "command":
        rig = tmp_path / "a.rig.json"
        rig.write_text(json.dumps(clean_document()), "utf-8")
        main(["focus", str(rig), str(table), "--json"])
        assert [entry["filter"] for entry in json.loads(capsys.readouterr().out)["filters"]] == ["Ha"]
        return
    first = result.runs[0].points[0].file
    for again in (result.with_point(first, used=False), result.without_run(3)):
        assert again.model.reference == "L"
        assert [entry.name for entry in again.offsets] == ["Ha"]


@pytest.mark.parametrize("where", ["heading", "row below"])
@pytest.mark.parametrize(
    ("clock", "seconds", "degrees", "written"),
    [
        ("s", 1, "°C", lambda c: c),
        ("ms", 1e-3, "K", lambda c: c + 273.15),
        ("minutes", 60, "°F", lambda c: 32 + 1.8 * c),
        ("hours", 3600, "celsius", lambda c: c),
    ],
)
def test_a_table_reads_alike_in_any_unit(tmp_path, clock, seconds, degrees, written, where):
    """Two runs half an hour apart, 10 °C and 4 °C: one table would be one run if hours were taken as seconds."""
    rows = []
    for number, celsius in enumerate((10, 4)):
        for n, point in enumerate(run_points(seed=number)):
            at = (1800 * number + 10 * n) / seconds
            rows.append(f"{at:.9f},{point.position},{point.hfd_px:.4f},{written(celsius):.6f}")
    head = f"elapsed time ({clock}),position,hfd,temperature ({degrees})"
    if where == "row below":
        head = f"elapsed time,position,hfd,temperature\n{clock},steps,px,{degrees}"
    path = tmp_path / "runs.csv"
    path.write_text("\n".join([head, *rows]) + "\n", "utf-8")
    runs, left = read_focus_table(path)
    assert left == []
    assert [round(run.temperature_c, 6) for run in runs] == [10, 4]
    assert (runs[1].time - runs[0].time).total_seconds() == pytest.approx(1800, abs=0.01)

"""Field sweeps: planted surfaces come back, screws take a tilt away, spacings tell where it is flat, and why."""

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
from wyntaxis.core.evidence.field.causes import causes, matters
from wyntaxis.core.evidence.field.kind import FIELD, read
from wyntaxis.core.evidence.field.report import REPORT, summary_lines
from wyntaxis.core.evidence.field.result import (
    FieldOptics,
    FieldResult,
    MeasuredSweep,
    PlateScrews,
    measured_sweep,
)
from wyntaxis.core.evidence.field.shape import FieldShape, corner_spots, shape_of
from wyntaxis.core.evidence.field.shares import relation_of, screws_for_all, screws_in, tilt_shares
from wyntaxis.core.evidence.field.spacing import flat_spacing
from wyntaxis.core.evidence.field.surface import Surface, surface_of
from wyntaxis.core.evidence.field.sweep import FieldSweep, SweepFrame, spacing_in_name
from wyntaxis.core.evidence.field.zones import Zone, ZonedSweep, zoned
from wyntaxis.core.evidence.focus.points import FocusPoint
from wyntaxis.core.evidence.focus.runs import run_in_any_order
from wyntaxis.core.evidence.headers.headers import FrameHeader
from wyntaxis.core.evidence.headers.names import DEFAULT_FILTER_NAMES
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.evidence.stars.frame_stars import read_stars
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.optics.tilt_plate import clock_position, screw_turns, tilt_of_turns
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.store import validated
from wyntaxis.core.train.flat_spacers import wanting
from wyntaxis.core.train.lightpath import back_focus
from wyntaxis.simulators.telescope import START, Run, SimulatedFocalSurface, SimulatedTelescope

SIZE = (420, 300)
HALF_MM = math.hypot(*SIZE) / 2 * 3.9 / 1000
SCOPE = SimulatedTelescope(
    width=SIZE[0], height=SIZE[1], stars=44, faintest_adu=9e3, brightest_adu=1.5e5, seeing_scatter=0.03, seed=11
)
OPTICS = FieldOptics(pixel_um=3.9, step_um=Estimate(4.2), depth_um=47.7, focal_ratio=4.94, built_mm=62.9)
POSITIONS = [7000 + 11 * k for k in range(-4, 5)]


def planted(tilt_um, towards_deg, curvature_um, **more):
    turn = math.radians(towards_deg)
    slope = (tilt_um / HALF_MM * math.cos(turn), tilt_um / HALF_MM * math.sin(turn))
    return SimulatedFocalSurface(slope, curvature_um / HALF_MM**2, **more)


@pytest.fixture(scope="module")
def swept(tmp_path_factory):
    """A sweep with 60 µm of tilt toward 130° and −40 µm of bowl, and the rig's folder for it."""
    folder = tmp_path_factory.mktemp("field") / "sweep 62.9 mm"
    replace(SCOPE, over_field=planted(60, 130, -40)).write_run(folder, POSITIONS, run=Run(cards={"XPIXSZ": 3.9}))
    return folder, read([folder], OPTICS)


def within(found, value, factor=2.0, share=0.0):
    return abs(found.value - value) <= max(factor * found.standard, share * abs(value))


def test_a_planted_surface_comes_back(swept):
    _folder, result = swept
    (entry,) = result.sweeps
    assert within(entry.tilt_um, 60, 3, 0.1)
    assert entry.azimuth_deg.value == pytest.approx(130, abs=10)
    assert within(entry.curvature_um, -40, 3, 0.15)
    assert within(entry.best_position, 7000, 3)
    # 60 µm over the half diagonal of 1.0063 mm are 3.412°, 204.7′.
    assert entry.tilt_arcmin.value == pytest.approx(math.degrees(math.atan(entry.tilt_um.value / HALF_MM / 1000)) * 60)
    assert entry.sweep.spacing_mm == 62.9, "the folder's name tells it"
    assert sum(zone.stars for zone in entry.zoned.zones) > 30
    reported = REPORT.as_json(result)
    assert reported["tilt_um_corner"]["value"] == entry.tilt_um.value
    assert reported["zones"][0].keys() >= {"x_px", "y_px", "best_position", "stars"}
    assert reported["spacing"]["flat_at_mm"] is None
    assert "two spacings" in reported["spacing"]["why"]
    assert [cause.key for cause in causes(result)] == ["tilt", "spacing"]


def test_what_the_counter_means_is_told(swept):
    _folder, result = swept
    (entry,) = result.sweeps
    away = replace(entry, step_um=Estimate(-4.2))  # reversed: the counter rises inward
    assert away.azimuth_deg.value == pytest.approx((entry.azimuth_deg.value + 180) % 360)
    assert away.curvature_um.value == -entry.curvature_um.value
    assert away.tilt_um.value == entry.tilt_um.value
    assert away.slope_um_mm == pytest.approx([-value for value in entry.slope_um_mm])
    unsure = replace(entry, step_um=Estimate(4.2, 0.42)).tilt_um
    assert unsure.standard > 0.099 * entry.tilt_um.value, "the step's own uncertainty counts"
    assert replace(entry, step_um=None).tilt_um is None
    turned = measured_sweep(entry.sweep, replace(OPTICS, reversed=True))
    assert turned.curvature_um.value == pytest.approx(-entry.curvature_um.value)


@pytest.mark.parametrize(
    ("stated", "is_stated", "own"), [(None, True, True), (7.0, True, True), (7.0, False, False), (4.4, True, False)]
)
def test_a_step_that_discs_contradict_is_the_drawtubes(swept, stated, is_stated, own):
    _folder, result = swept
    step = None if stated is None else Estimate(stated)
    entry = measured_sweep(result.sweeps[0].sweep, replace(OPTICS, step_um=step, step_is_stated=is_stated))
    assert entry.step_is_measured is own
    assert entry.step_um.value == pytest.approx(4.2 if own else stated, rel=0.06)


# A surface in steps by hand: 5 + 20 x − 10 y + 8 r², x and y in half diagonals.
def zones_of(noise=0.0, seed=1, extra=()):
    rng = np.random.default_rng(seed)
    found = []
    for x in np.linspace(20, 400, 5):
        for y in np.linspace(20, 280, 4):
            half = math.hypot(*SIZE) / 2
            u, v = (x - 209.5) / half, (y - 149.5) / half
            best = 5 + 20 * u - 10 * v + 8 * (u**2 + v**2) + noise * rng.standard_normal()
            found.append(Zone(x, y, (u**2 + v**2) * half**2, 9, (), Estimate(best, 0.1)))
    return [*found, *extra]


def test_a_surface_is_fitted_whatever_one_zone_says():
    clean = surface_of(zones_of(), SIZE)
    assert clean.middle.value == pytest.approx(5)
    assert clean.plane == pytest.approx((20, -10))
    assert clean.curvature.value == pytest.approx(8)
    assert clean.tilt.value == pytest.approx(math.hypot(20, 10))
    assert clean.azimuth_deg.value == pytest.approx(math.degrees(math.atan2(-10, 20)) % 360)
    assert clean.vertex == pytest.approx((-20 / 16, 10 / 16))
    assert clean.at(0.5, 0.0) == pytest.approx(5 + 10 + 2)
    outlier = surface_of(zones_of(0.1, extra=[Zone(210, 150, 0.0, 9, (), Estimate(90, 0.1))]), SIZE)
    assert outlier.plane == pytest.approx((20, -10), abs=0.8)
    assert abs(outlier.residuals[-1]) > 50, "what lies far off is told"
    left_out = surface_of(zones_of(extra=[Zone(1, 1, 1.0, 9, (), None, "flat")]), SIZE)
    assert math.isnan(left_out.residuals[-1])
    shared = surface_of(zones_of(), SIZE, np.full((20, 1), 3.0))
    assert shared.middle.standard == pytest.approx(3.0, rel=1e-6), "what moves all zones alike is the middle's"


@pytest.mark.parametrize(
    ("zones", "why"),
    [
        (zones_of()[:5], "5 zones have a best position; it takes 6"),
        ([replace(zone, x=200 + k, y=150.0 + k % 3) for k, zone in enumerate(zones_of())], "too close together"),
    ],
)
def test_too_few_zones_tell_no_surface(zones, why):
    assert why in surface_of(zones, SIZE).why


def test_noise_is_no_tilt():
    lengths = []
    for seed in range(40):
        rng = np.random.default_rng(seed)
        level = [replace(zone, best_position=Estimate(rng.standard_normal(), 1.0)) for zone in zones_of()]
        found = surface_of(level, SIZE)
        lengths.append(found.tilt.value <= 2 * found.tilt.standard)
        if lengths[-1]:
            assert found.azimuth_deg is None
    assert sum(lengths) >= 36


def test_uncertain_zones_make_an_uncertain_surface():
    within = []
    for seed in range(120):
        rng = np.random.default_rng(seed)
        zones = []
        for zone in zones_of()[:12]:
            true = 0.1 * math.exp(0.35 * rng.standard_normal())
            reported = true * math.sqrt(rng.chisquare(8) / 8)
            best = zone.best_position.value + true * rng.standard_normal()
            zones.append(replace(zone, best_position=Estimate(best, reported)))
        found = surface_of(zones, SIZE)
        within.append(abs(found.tilt.value - math.hypot(20, 10)) <= 2 * math.hypot(*found.plane_standard))
        within.append(abs(found.curvature.value - 8) <= 2 * found.curvature.standard)
    assert sum(within) >= 0.9 * len(within)


def sweep_with(hfd, x, y, positions=POSITIONS):
    header = FrameHeader("a.fits", "light", width_px=SIZE[0], height_px=SIZE[1])
    frames = tuple(SweepFrame(f"{k}.fits", float(at)) for k, at in enumerate(positions))
    sharpest = type("Sharpest", (), {"header": header})()
    return FieldSweep(
        "s", frames, sharpest, SIZE, 1, np.asarray(x, float), np.asarray(y, float), np.asarray(hfd, float)
    )


def hyperbolas(best, seeing=1.0):
    at = np.array(POSITIONS, float)[:, None]
    return np.hypot(2.5 * np.asarray(seeing, float).reshape(-1, 1), 0.15 * (at - np.asarray(best)[None, :]))


def test_zones_find_their_best_focus_and_what_the_seeing_did():
    best = 7000 + np.linspace(-15, 15, 20)
    x, y = np.linspace(10, 400, 20), np.linspace(280, 20, 20)
    calm = zoned(sweep_with(hyperbolas(best), x, y))
    assert [zone.best_position.value for zone in calm.zones] == pytest.approx(list(best), abs=0.05)
    seeing = np.array([1, 1.2, 1, 0.9, 1, 1.1, 0.85, 1, 1.15])
    restless = zoned(sweep_with(hyperbolas(best, seeing), x, y))
    assert [zone.best_position.value for zone in restless.zones] == pytest.approx(list(best), abs=0.4)
    inner = slice(2, 7)  # far out the seeing hardly shows
    assert np.corrcoef(restless.seeing[inner], seeing[inner])[0, 1] > 0.95
    hfd = hyperbolas(np.array([7000.0, 7000, 7000, 7000, 7000, 7000, 7090, 7000]))
    hfd[:, 1] = 3.0
    hfd[4:, 2] = np.nan
    reported = zoned(sweep_with(hfd, np.linspace(10, 400, 8), np.linspace(20, 280, 8))).zones
    assert len(reported) == 7, "a star at four positions is in no zone"
    assert "flat" in reported[1].why
    assert "outside the sweep" in reported[5].why
    assert zoned(sweep_with(np.full((9, 3), np.nan), [1, 2, 3], [1, 2, 3])).zones == ()


# By hand: −40 at 61 and +20 at 64 cross zero at 63.
def test_the_flat_spacing_is_where_the_line_crosses():
    found = flat_spacing([(64.0, Estimate(20, 1)), (61.0, Estimate(-40, 1))])
    assert found.flat_at_mm.value == pytest.approx(63.0)
    assert found.slope_um_mm.value == pytest.approx(20)
    # u of the zero: the line's ordinate there, √((2/3)² + (1/3)²) = 0.745, over the slope 20.
    assert found.flat_at_mm.standard == pytest.approx(0.745 / 20, rel=1e-3)
    three = flat_spacing([(61.0, Estimate(-40, 1)), (62.5, Estimate(-8, 1)), (64.0, Estimate(20, 1))])
    assert three.flat_at_mm.standard > found.flat_at_mm.standard, "points off the line make it less certain"
    assert "two spacings" in flat_spacing([(62.0, Estimate(3, 1)), (62.04, Estimate(9, 1))]).why
    assert "farther" in flat_spacing([(62.0, Estimate(3, 5)), (63.0, Estimate(9, 5))]).why
    assert "no sweep has its spacing" in flat_spacing([]).why


@pytest.mark.parametrize(
    ("name", "spacing"),
    [
        ("sweep 61.5 mm", 61.5),
        ("61,5mm", 61.5),
        ("spacing_62_1", 62.1),
        ("spacing-62", 62.0),
        ("sweep 3", None),
        ("f5.3", None),
    ],
)
def test_a_folder_may_tell_its_spacing(name, spacing):
    assert spacing_in_name(name) == spacing


# By hand: 10 µm a mm toward +x, radius 40 mm, pitch 0.5 mm: 400 µm at 0° are 0.8 turns.
def test_screws_follow_a_plane():
    assert screw_turns((10, 0), 40, (0, 120, 240), 0.5) == pytest.approx((0.8, -0.4, -0.4))
    assert screw_turns((0, 10), 40, (0, 90, 180, 270), 0.5) == pytest.approx((0, 0.8, 0, -0.8), abs=1e-12)
    with pytest.raises(ValueError, match="three screws"):
        screw_turns((1, 0), 40, (0, 360, 120), 0.5)
    with pytest.raises(ValueError, match="above 0"):
        tilt_of_turns((1, 0, 0), 40, (0, 120, 240), 0.0)


@given(st.floats(-20, 20), st.floats(-20, 20), st.integers(3, 6), st.floats(0, 90))
def test_turns_give_the_tilt_that_asked_for_them_and_keep_the_middle(x, y, count, first):
    azimuths = [first + 360 / count * k for k in range(count)]
    turns = screw_turns((x, y), 38, azimuths, 0.35)
    assert tilt_of_turns(turns, 38, azimuths, 0.35) == pytest.approx((x, y), abs=1e-9)
    assert sum(turns) == pytest.approx(0, abs=1e-9)


@pytest.mark.parametrize(
    ("azimuth", "mirrored", "hour"),
    [(90, False, 12), (0, False, 3), (180, False, 9), (270, False, 6), (30, True, 10), (60, False, 1)],
)
def test_an_azimuth_is_an_hour_seen_from_behind(azimuth, mirrored, hour):
    assert clock_position(azimuth, mirrored=mirrored) == hour


def test_screws_are_told_in_plain_words(swept):
    entry = swept[1].sweeps[0]
    level = replace(
        entry, surface=replace(entry.surface, plane=(10.0, 0.0), tilt=Estimate(10, 0.1), azimuth_deg=Estimate(0, 1))
    )
    push = PlateScrews("plate", 20.0, 0.5, (0.0, 120.0, 240.0), True, False, (2, None, None))
    # 42 µm over 1.0063 mm are 41.7 µm a mm; 20 mm out 835 µm, 1.67 turns.
    advice = screws_in(FieldResult((level,), replace(OPTICS, screws=push)))
    assert advice.turns[0].turns == pytest.approx(42 / HALF_MM * 20 / 500)
    assert advice.turns[0].words.startswith("the screw at 2 o’clock seen from behind: 1 turn and 240° in")
    assert "away from the telescope" in advice.turns[0].words
    assert " out, that side moves toward" in advice.turns[1].words
    spring = screws_in(FieldResult((level,), replace(OPTICS, screws=replace(push, inward_moves_away=False))))
    assert "240° out, that side moves away" in spring.turns[0].words
    assert advice.left_um < 0.1 * 42
    assert screws_in(FieldResult((entry,), OPTICS)) is None
    unsure = replace(level, surface=replace(level.surface, azimuth_deg=None))
    certain_only = FieldResult((unsure,), replace(OPTICS, screws=push))
    assert screws_in(certain_only) is None, "a tilt that is not certain moves no screw"


# Causes, with surfaces made by hand


def entry(plane=(0.0, 0.0), curvature=0.0, *, best=7000.0, u=0.2, header=None, shape=None, **more):
    header = header or {}
    frame = FrameHeader("a.fits", "light", width_px=SIZE[0], height_px=SIZE[1], **header)
    sharpest = type(
        "Sharpest", (), {"file": "a.fits", "header": frame, "brightest": more.get("stars", np.zeros((0, 2)))}
    )()
    frames = (SweepFrame("a.fits", 1.0, None, frame),)
    sweep = FieldSweep("s", frames, sharpest, SIZE, 1, None, None, np.zeros((1, 0)), more.get("spacing"))
    covariance = tuple(tuple(u**2 if i == j else 0.0 for j in range(4)) for i in range(4))
    length = math.hypot(*plane)
    azimuth = Estimate(math.degrees(math.atan2(plane[1], plane[0])) % 360, 1.0) if length > 2 * u else None
    surface = Surface("", Estimate(best, u), plane, Estimate(length, u), azimuth, Estimate(curvature, u), covariance)
    shape = shape or FieldShape("a.fits")
    return MeasuredSweep(sweep, ZonedSweep((), ()), surface, shape, Estimate(best, u), Estimate(4.2), False, 3.9)


def keys(*entries, relation=None):
    return [cause.key for cause in causes(FieldResult(entries, OPTICS, relation=relation))]


def words(*entries, relation=None):
    return " / ".join(cause.words for cause in causes(FieldResult(entries, OPTICS, relation=relation)))


def test_one_sweep_tells_what_it_can():
    assert keys(entry()) == ["flat"]
    assert keys(entry((20.0, 0.0))) == ["tilt"]
    assert "cannot show whether" in words(entry((20.0, 0.0)))
    assert keys(entry(curvature=-10.0)) == ["spacing"]
    # 5 steps are 21 µm: certain, and inside half the depth of 23.85 µm.
    assert keys(entry((5.0, 0.0), 5.0)) == ["flat"]
    tails = FieldShape("a", tail=Estimate(0.2, 0.01), tail_deg=40.0)
    assert keys(entry(shape=tails)) == ["collimation"]
    long = FieldShape("a", alike=Estimate(0.2, 0.01), alike_deg=10.0)
    assert keys(entry(shape=long)) == ["guiding"]
    assert causes(FieldResult((), OPTICS)) == ()


@pytest.mark.parametrize(
    ("first", "second", "reported"),
    [
        ((20.0, 0.0), (20.0, 0.0), "camera’s side is tilted"),
        ((20.0, 0.0), (-20.0, 0.0), "telescope’s side is tilted"),
        ((20.0, 20.0), (20.0, -20.0), "both are tilted"),
    ],
)
def test_a_turned_camera_tells_whose_the_tilt_is(first, second, reported):
    assert reported in words(entry(first), entry(second), relation="turned")


def turned_stars(angle_deg, shift=(0.0, 0.0), count=25, seed=3, noise=0.2, lost=4):
    """Places of stars before and after the image turned about a place beside the middle, by complex numbers."""
    rng = np.random.default_rng(seed)
    there = rng.uniform(-150, 150, count) + 1j * rng.uniform(-150, 150, count)
    after = there * np.exp(1j * math.radians(angle_deg)) + complex(*shift)
    after += noise * (rng.standard_normal(count) + 1j * rng.standard_normal(count))
    middle = complex(*SIZE) / 2
    return [np.stack([(z + middle).real, (z + middle).imag], axis=-1) for z in (there[lost:], rng.permutation(after))]


@pytest.mark.parametrize("angle", [31.0, 47.3, 90.0, 121.5, 164.0, -35.0, -90.0, -150.2])
def test_stars_show_by_how_much_the_camera_was_turned_and_whose_the_tilt_is(angle):
    camera, telescope, u = 12 - 7j, -5 + 16j, 0.05
    seen = telescope * np.exp(1j * math.radians(angle))
    first, second = camera + telescope, camera + seen
    stars = turned_stars(angle, (9.0, -6.0))
    sweeps = (
        entry((first.real, first.imag), stars=stars[0], u=u),
        entry((second.real, second.imag), stars=stars[1], u=u),
    )
    result = FieldResult(sweeps, replace(OPTICS, screws=PlateScrews("plate", 20.0, 0.5, (0.0, 120.0, 240.0))))
    assert relation_of(*sweeps) == "turned"
    assert relation_of(*sweeps, field_follows=False) == "repeat", "an alt-azimuth mount turns the sky by itself"
    (shares,) = tilt_shares(result)
    assert shares.turn_deg == pytest.approx(angle, abs=0.2)
    found = shares.camera, shares.telescope
    for plane, planted_plane in zip(found, (camera, seen), strict=True):
        # A step is 4.2 µm; by the angle's own error of 0.2° a plane of 17 steps moves by 0.06 steps.
        assert abs(complex(plane.x, plane.y) / 4.2 - planted_plane) < 3 * u / math.sin(math.radians(abs(angle) / 2))
    # The plate's screws take the camera's share away, and no more.
    advice = screws_in(result)
    planted_slope = 4.2 * camera / HALF_MM
    assert advice.turns[0].turns == pytest.approx(planted_slope.real * 20 / 500, abs=0.1)
    whole = screws_for_all(result)
    assert whole.turns[0].turns == pytest.approx(4.2 * second.real / HALF_MM * 20 / 500)
    reported = REPORT.as_json(result)
    assert reported["camera_turn"]["by"] == "stars"
    assert len(reported["screws_for_all"]) == 3
    assert "as the stars show" in causes(result)[0].evidence[1]


def test_a_share_of_no_tilt_moves_no_screw_and_its_u_grows_as_the_turn_shrinks():
    # All of it is the telescope's: 20 steps, turned by 90°.
    stars = turned_stars(90.0)
    sweeps = entry((20.0, 0.0), stars=stars[0]), entry((0.0, 20.0), stars=stars[1])
    optics = replace(OPTICS, screws=PlateScrews("plate", 20.0, 0.5, (0.0, 120.0, 240.0)))
    result = FieldResult(sweeps, optics)
    assert "telescope’s side is tilted" in causes(result)[0].words
    assert screws_in(result) is None
    assert screws_for_all(result) is not None
    assert any("all of the tilt" in line for line in summary_lines(result))
    u = {}
    for angle in (30.0, 90.0, 180.0):
        headers = ({"rotation_deg": 0.0}, {"rotation_deg": angle})
        pair = [entry((20.0, 0.0), u=1.0, header=header) for header in headers]
        u[angle] = tilt_shares(FieldResult(tuple(pair), OPTICS))[0].camera.u_x / 4.2
    # 1/(2 sin(θ/2)) of each sweep's u, √2 for two: 0.7071 at half a turn.
    for angle, found in u.items():
        assert found == pytest.approx(math.sqrt(2) / 2 / math.sin(math.radians(angle) / 2))


def test_what_nothing_shows_is_not_claimed():
    headers = ({"rotation_deg": 0.0}, {"rotation_deg": 90.0})
    sweeps = [entry(plane, header=header) for plane, header in zip(((20, 0), (0, 20)), headers, strict=True)]
    result = FieldResult(tuple(sweeps), OPTICS)
    # One way round it is all the telescope's, the other all the camera's and more.
    assert "nothing shows which way" in causes(result)[0].words
    assert len(tilt_shares(result)) == 2
    same = FieldResult(tuple(entry((20.0, 0.0), header=header) for header in headers), OPTICS)
    assert "camera’s side is tilted" in causes(same)[0].words, "either way"
    said = FieldResult((entry((20.0, 0.0)), entry((20.0, 0.0))), OPTICS, relation="turned")
    assert causes(said)[0].words.endswith("if the camera was turned by half a turn")
    # Half a turn of the stars alone may be a flip; a flip takes half a turn off.
    half = turned_stars(180.0)
    flip = [{"pier_side": "EAST"}, {"pier_side": "WEST"}]
    assert relation_of(entry(stars=half[0]), entry(stars=half[1])) == "flip"
    pair = entry((20, 0), stars=half[0]), entry((0, 15), stars=half[1])
    assert "nothing shows which" in words(*pair), "neither loose nor flexure is claimed"
    assert keys(*pair) == ["tilt"]
    assert keys(*pair, relation="flip") == ["flexure"], "said so, it is one"
    assert "camera" in words(*pair, relation="turned")
    assert relation_of(*(entry(stars=s, header=h) for s, h in zip(half, flip, strict=True))) == "flip"
    quarter = turned_stars(90.0)
    pair = [entry((9, 0), stars=s, header=h) for s, h in zip(quarter, flip, strict=True)]
    assert tilt_shares(FieldResult(tuple(pair), OPTICS))[0].turn_deg == pytest.approx(-90, abs=0.2)
    strangers = turned_stars(90.0)[0], turned_stars(0.0, seed=9)[0]
    assert relation_of(*(entry(stars=s) for s in strangers)) == "repeat", "other stars show no turn"


def test_frames_of_a_turned_camera_part_the_tilt(tmp_path):
    camera, telescope, angle = 45 * np.exp(1j * math.radians(20)), 55 * np.exp(1j * math.radians(200)), 75.0
    for name, turn in (("a", 0.0), ("b", angle)):
        whole = camera + telescope * np.exp(1j * math.radians(turn))
        surface = planted(abs(whole), math.degrees(np.angle(whole)), 0.0)
        scope = replace(SCOPE, over_field=surface, turned_deg=turn, stars=60)
        run = Run(start=START if name == "a" else START + datetime.timedelta(hours=1))
        scope.write_run(tmp_path / name, POSITIONS, run=run)
    result = read([tmp_path / "a", tmp_path / "b"], OPTICS)
    (shares,) = tilt_shares(result)
    assert shares.turn_deg == pytest.approx(angle, abs=0.5)
    for plane, planted_plane in (
        (shares.camera, camera),
        (shares.telescope, telescope * np.exp(1j * math.radians(75))),
    ):
        error = complex(plane.x, plane.y) - planted_plane
        assert abs(error) < 3 * math.hypot(plane.u_x, plane.u_y) + 0.1 * abs(planted_plane)


def test_what_moves_by_itself_is_flexure_or_loose():
    assert keys(entry((20.0, 0.0)), entry((0.0, 15.0)), relation="altitude") == ["flexure"]
    assert keys(entry((20.0, 0.0)), entry((0.0, 15.0)), relation="flip") == ["flexure"]
    assert keys(entry((20.0, 0.0)), entry((0.0, 15.0)), relation="repeat") == ["loose"]
    assert "stays the same" in words(entry((20.0, 0.0)), entry((20.0, 0.1)), relation="day")
    assert keys(entry(), entry(best=7040.0), relation="repeat") == ["focuser"]
    assert keys(entry(), entry(best=7005.0), relation="repeat") == ["flat"]
    assert keys(entry(spacing=61.0), entry(curvature=20.0, spacing=62.0)) == ["spacing"]


@pytest.mark.parametrize(
    ("one", "other", "relation"),
    [
        ({"rotation_deg": 4.0}, {"rotation_deg": 184.0}, "turned"),
        ({"rotation_deg": 4.0}, {"rotation_deg": 34.0}, "turned"),
        ({"rotation_deg": 350.0}, {"rotation_deg": 19.9}, "repeat"),
        ({"rotation_deg": 4.0, "pier_side": "EAST"}, {"rotation_deg": 184.0, "pier_side": "WEST"}, "turned"),
        ({"pier_side": "EAST"}, {"pier_side": "WEST"}, "flip"),
        ({"altitude_deg": 70.0}, {"altitude_deg": 30.0}, "altitude"),
        ({"altitude_deg": 70.0}, {"altitude_deg": 56.0}, "repeat"),
        ({"date": "2026-11-01T20:00:00"}, {"date": "2026-11-02T20:00:00"}, "day"),
        ({"date": "2026-11-01T20:00:00"}, {"date": "2026-11-01T22:00:00"}, "repeat"),
    ],
)
def test_headers_tell_how_two_sweeps_differ(one, other, relation):
    assert relation_of(entry(header=one), entry(header=other)) == relation
    assert relation_of(entry(header=one, spacing=61.0), entry(header=other, spacing=62.0)) == "spacing"


@pytest.mark.parametrize(
    ("value", "u", "half", "reported"),
    [(24, 1, 23.85, True), (23, 1, 23.85, False), (-24, 1, 23.85, True), (24, 12.1, 23.85, False), (3, 1, None, True)],
)
def test_what_matters_is_certain_and_over_half_the_depth(value, u, half, reported):
    assert matters(Estimate(value, u), half) is reported


# The shape of stars


@pytest.mark.parametrize(
    ("made", "key"), [({"coma_px": (0.9, 0.0)}, "tail"), ({}, ""), ({"astigmatism_um_mm2": 40.0}, "radial")]
)
def test_a_frames_stars_tell_coma_and_astigmatism(tmp_path, made, key):
    scope = replace(SCOPE, over_field=SimulatedFocalSurface(**made), stars=60)
    (path,) = scope.write_run(tmp_path, [7004])
    frame = replace(read_stars(path), path=path)
    shape = shape_of(frame, SIZE)
    assert not shape.why
    assert len(shape.zones) == 9
    tail = shape.tail.value > 0.06 and shape.tail_deg is not None
    assert tail is (key == "tail")
    if tail:
        assert abs((shape.tail_deg + 180) % 360 - 180) < 15, "toward +x"
    assert (abs(shape.radial.value) > 0.05 and abs(shape.radial.value) > 4 * shape.radial.standard) is (key == "radial")
    assert corner_spots(frame, SIZE)[4] is not None
    assert "12" in shape_of(replace(frame, shapes=frame.shapes.brightest(5)), SIZE).why


# Reading, keeping, the command


def rig_with_plate():
    document = clean_document()
    plate = {
        "id": "plate", "kind": "tilt_plate", "length_mm": 0.0,
        "screws": {"radius_mm": 38, "pitch_mm": 0.35, "at": [{"azimuth_deg": a} for a in (80, 200, 320)]},
    }  # fmt: skip
    document["train"].insert(-1, plate)
    document["devices"] = [{"id": "motor", "kind": "focuser", "settings": {"step_um": {"value": 4.2}}}]
    return document


def test_the_command_prints_the_contract_and_keeps_it(swept, tmp_path, capsys):
    folder, _result = swept
    rig = tmp_path / "plate.rig.json"
    rig.write_text(json.dumps(rig_with_plate()))
    assert main(["field", str(rig), str(folder), "--json", "--keep"]) == 1
    reported = json.loads(capsys.readouterr().out)
    assert len(reported["screws"]) == 3
    assert all(entry.keys() >= {"azimuth_deg", "turns", "words"} for entry in reported["screws"])
    assert reported["tilt_left_um_corner"] < 0.1 * reported["tilt_um_corner"]["value"]
    assert {f["id"] for f in reported["findings"]} == {"field.tilt", "field.curvature"}
    kept = json.loads(rig.read_text())["measured"]
    assert kept["field_tilt_um"]["value"] == pytest.approx(reported["tilt_um_corner"]["value"], rel=1e-4)
    assert main(["field", str(rig), "--at", f"61.2:{folder}", "--relation", "day"]) == 1
    assert "61.20" in capsys.readouterr().out
    with pytest.raises(SystemExit):
        main(["field", str(rig), "--at", "x:y"])
    assert "MM:FOLDER" in capsys.readouterr().err
    assert main(["field", str(rig)]) == 2
    assert "name folders of sweeps" in capsys.readouterr().err


@pytest.mark.parametrize("cards", [{}, {"DATE-OBS": "?"}])
def test_a_sweep_may_be_taken_in_any_order(tmp_path, cards):
    shuffled = [POSITIONS[k] for k in (4, 0, 8, 2, 6, 1, 7, 3, 5)]
    SCOPE.write_run(tmp_path / "s", shuffled, run=Run(cards=cards))
    result = read([tmp_path / "s"], OPTICS)
    assert len(result.sweeps) == 1
    assert list(result.sweeps[0].sweep.positions) == POSITIONS
    assert result.last.best_position.value == pytest.approx(7000, abs=2)
    point = FocusPoint("a", 1.0, None, time=START)
    apart = [replace(point, position=float(k), time=START + datetime.timedelta(hours=k)) for k in range(6)]
    assert run_in_any_order(apart, "s", DEFAULT_FILTER_NAMES) == [], "a night's focus positions are no sweep"


def test_single_frames_are_a_hint_and_the_rest_is_told(tmp_path):
    paths = SCOPE.write_run(tmp_path / "few", [7000, 7010])
    result = read([tmp_path / "few"], OPTICS)
    assert result.last is None
    assert [shape.file for shape in result.singles] == [path.name for path in paths]
    reported = REPORT.as_json(result)
    assert reported["tilt_arcmin"] is None
    assert "FOCUSPOS at four" in reported["why"]
    assert reported["single_frames"][0]["zones"]
    with pytest.raises(ValueError, match="no number"):
        FIELD.keep(validated(rig_with_plate()), result)
    (tmp_path / "none").mkdir()
    with pytest.raises(InputError, match="holds no FITS files"):
        read([tmp_path / "none"], OPTICS)


def test_spacings_give_a_measured_back_focus_and_what_the_shelf_is_asked_for():
    rig = validated(rig_with_plate())
    entries = [entry(curvature=(s - 62.0) * 15, spacing=s) for s in (61.0, 63.0)]
    result = FieldResult(tuple(entries), replace(OPTICS, built_mm=62.9))
    flat = FIELD.measures(rig, result)["back_focus_required_mm"]
    assert flat.value == pytest.approx(62.0)
    assert any(line.startswith("flat at 62.00") for line in summary_lines(result))
    kept = edit.apply(rig, FIELD.keep(rig, result))
    assert kept.measured["back_focus_required_mm"].value == pytest.approx(62.0)
    # Another sweep's spacing may be told by hand, and taken back.
    other = result.with_spacing("s", None)
    assert other.flat.flat_at_mm is None
    assert back_focus(wanting(rig, 62.0)).required_mm == pytest.approx(62.0)
    with pytest.raises(ValueError, match="leaves nothing"):
        wanting(rig, 0.1)


def test_the_brightest_stars_alone_may_be_measured(tmp_path):
    (path,) = SCOPE.write_run(tmp_path, [7000])
    whole, few = read_stars(path), read_stars(path, most=10)
    assert few.count == 10
    brightest = whole.shapes.brightest(10)
    assert set(few.shapes.flux) == set(brightest.flux), "measured as all are, with the others as neighbours"
    assert read_stars(path, most=1000).count == whole.count


def test_sweeps_join_those_that_are_there(swept, tmp_path):
    folder, result = swept
    later = START + datetime.timedelta(hours=2)
    SCOPE.write_run(tmp_path / "sweep 62.9 mm", POSITIONS, run=Run(start=later, number=40))
    both = read([tmp_path / "sweep 62.9 mm"], OPTICS, before=result)
    assert [entry.sweep.name for entry in both.sweeps] == ["sweep 62.9 mm", "sweep 62.9 mm (2)"]
    again = read([folder], OPTICS, before=both)
    assert len(again.sweeps) == 2, "frames read anew replace their sweep"
    assert len(both.without(0).sweeps) == 1

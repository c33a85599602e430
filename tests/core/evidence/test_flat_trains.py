"""Flats drawn from the geometry of a train, by nothing that measures them: light, dust, shift, and old flats."""

import math
from dataclasses import replace

import numpy as np
import pytest

from tests.cases import further
from wyntaxis.core.evidence.filters.dust import light_of
from wyntaxis.core.evidence.filters.flats import read_flats, sets_of
from wyntaxis.core.evidence.filters.repeatability import repeat_verdict
from wyntaxis.core.evidence.filters.result import FlatOptics, measured
from wyntaxis.core.evidence.filters.smooth_light import smooth_light
from wyntaxis.core.evidence.headers.names import DEFAULT_FILTER_NAMES
from wyntaxis.core.optics import blurred_disc
from wyntaxis.core.train.surfaces import DustSurface
from wyntaxis.simulators import star_light
from wyntaxis.simulators.flat_field import lens_area
from wyntaxis.simulators.flat_train import FlatTrain, Grain, Opening, shared_area
from wyntaxis.simulators.observing import DEMO_FLATS

WINDOW, FILTER, CORRECTOR = 2.0, 7.0, 12.0
SURFACES = (
    DustSurface("window", "window", 1.5, 2.5),
    DustSurface("filter", "filter", 5.5, 8.5, True),
    DustSurface("corrector", "corrector", 10.8, 13.2),
)
GRAINS = (
    Grain(-1.6, 0.9, WINDOW, 0.04),
    Grain(1.5, 1.2, FILTER, 0.16, "L"),
    Grain(-1.2, -1.1, FILTER, 0.12, "L"),
    Grain(1.1, -0.8, CORRECTOR, 0.22),
)
CLIPPED = Opening(60.0, 3.3, 0.15, -0.1)
TRAIN = FlatTrain(width=640, height=440, grains=GRAINS, gradient=(0.02, -0.01), pattern=0.008)


def place_of(grain, train=TRAIN):
    x, y = ((side - 1) / 2 + at * 1000 / train.pixel_um for side, at in ((640, grain.x_mm), (440, grain.y_mm)))
    width_mm = grain.distance_mm / train.focal_ratio / (1 - grain.distance_mm / train.pupil_mm)
    return x, y, width_mm * 1000 / train.pixel_um


def test_the_light_of_a_train_is_that_of_its_geometry():
    """cos⁴ of 2 mm off at 400 mm; half the beam is left where its middle meets the edge of a wide opening."""
    bare = replace(TRAIN, grains=(), gradient=(0.0, 0.0), width=501, height=3, pixel_um=8.0)
    light = bare.light("L")
    assert light[1, 250] == pytest.approx(1, abs=1e-6)
    assert light[1, 500] == pytest.approx(math.cos(math.atan(2 / 400)) ** 4, abs=1e-5)
    # At 60 mm of 400 the middle of the beam of a px 2 mm off lies 1.7 mm off; the opening's edge passes there, far
    # from straight: the share is that of two circles.
    half = replace(bare, openings=(Opening(60.0, 50.0, -48.3),)).light("L")[1, 500]
    beam = 60 / 7 / 2
    wanted = float(lens_area(50.0, beam, np.array([50.0]))[0]) / (math.pi * beam**2)
    assert half / light[1, 500] == pytest.approx(wanted, abs=0.01)
    assert 0.45 < wanted < 0.5


@pytest.mark.parametrize(("one", "other"), [(1.0, 1.0), (3.0, 0.4), (0.5, 2.0)])
def test_shared_areas_by_counting(one, other):
    side = np.linspace(-4, 4, 2001)
    x, y = np.meshgrid(side, side)
    cell = (side[1] - side[0]) ** 2
    for apart in (0.0, 0.3, 0.9, 1.7, 2.6, 3.39, 5.0):
        counted = ((x**2 + y**2 <= one**2) & ((x - apart) ** 2 + y**2 <= other**2)).sum() * cell
        assert shared_area(one, other, np.array([apart]))[0] == pytest.approx(counted, abs=0.01)


@pytest.mark.parametrize("obstruction", [0.0, 0.35])
def test_stars_of_the_simulators_agree_with_the_optics(obstruction):
    """Summed ring by ring there, closed formulas here: neither knows of the other."""
    k = np.linspace(0, 6, 200)
    for diameter in (0.5, 1.0, 9.0):
        drawn = star_light.annulus_transfer(k, diameter, obstruction)
        assert drawn == pytest.approx(blurred_disc.annulus_transfer(k, diameter, obstruction), abs=2e-6)
    for profile in blurred_disc.PROFILES:
        drawn = star_light.seeing_transfer(k, profile)
        assert drawn == pytest.approx(blurred_disc.seeing_transfer(k, profile), abs=2e-6)


@pytest.mark.parametrize("openings", [(CLIPPED,), *further(((),))])
def test_dust_is_found_in_clipped_light_and_its_corner_is_told(openings):
    train = replace(TRAIN, openings=openings)
    flat = np.mean([train.frame("L", k) - 400.0 for k in range(4)], axis=0)
    found = light_of(flat, 1)
    assert len(found.shadows) == len(GRAINS)
    for grain in GRAINS:
        x, y, across = place_of(grain)
        near = min(found.shadows, key=lambda shadow: math.hypot(shadow.x - x, shadow.y - y))
        assert math.hypot(near.x - x, near.y - y) < 3
        assert near.outer_px.value == pytest.approx(across, abs=2 * near.outer_px.standard + 1)
    clean = replace(train, grains=()).light("L")
    corner = clean[[0, 0, -1, -1], [0, -1, 0, -1]].mean() / clean[220, 320]
    assert abs(found.corner.value - corner) <= 2 * found.corner.standard, "of its outermost px, not of its last cell"
    assert found.corner.standard < 0.005
    assert found.smooth.falls == bool(openings)


@pytest.mark.parametrize("name", ["OIII", *further("Ha")])
def test_every_grain_of_the_demo_is_found_and_no_other(name):
    """In Ha a shadow of half the frame's short side lies over the middle of the light, which could take it in.

    At 35.4 mm behind f/4.94 the beam is 7.166 mm wide, 459 px of 15.6 µm; at 3.4 mm 0.688 mm, 44 px. The middle lies
    74 px off, by which the mean of the corners is 1 − 0.17·(1 + 74.3²/901²) of the frame's middle 1 − 0.17·74.3²/901².
    """
    flat = np.mean([DEMO_FLATS.frame(name, number) - 360.0 for number in range(3)], axis=0)
    found = light_of(flat, 1)
    wanted = [mote for mote in DEMO_FLATS.motes if mote.filter in (None, name)]
    assert len(found.shadows) == len(wanted)
    for mote in wanted:
        near = min(found.shadows, key=lambda shadow: math.hypot(shadow.x - mote.x, shadow.y - mote.y))
        assert math.hypot(near.x - mote.x, near.y - mote.y) < 3
        assert near.outer_px.value == pytest.approx(459 if mote.distance_mm > 10 else 44.1, rel=0.02)
    assert found.smooth.corner_share == pytest.approx((0.83 - 0.00116) / (1 - 0.00116), abs=0.005)


def test_the_corner_is_its_outermost_px_not_its_last_cell():
    """Light that falls by half from the middle to the corner, evenly: a cell of 9 px ends 1 % short of the corner."""
    y, x = np.mgrid[0:600, 0:900].astype(float)
    radius = np.hypot(x - 449.5, y - 299.5) / math.hypot(450, 300)
    plane = 0.5**radius
    share = smooth_light(plane, np.zeros_like(plane)).corner_share
    wanted = plane[[0, 0, -1, -1], [0, -1, 0, -1]].mean()
    assert share == pytest.approx(wanted, abs=0.002)


@pytest.mark.parametrize(
    "plane", [np.full((120, 160), 900.0), np.full((40, 40), 1.0), np.linspace(1, 2, 30_000).reshape(150, 200)]
)
def test_light_without_noise_is_no_fault(plane):
    found = light_of(plane, 1)
    assert not found.shadows
    assert math.isfinite(found.corner.value)
    assert math.isfinite(found.corner.standard)


def test_a_bias_that_nobody_knows_is_in_the_corners_uncertainty(tmp_path):
    """At 5,500 ADU of light a bias of 360 that is left in brightens a corner of 0.83 to (0.83·5500 + 360) / 5860."""
    flats = replace(DEMO_FLATS, motes=(), width=600, height=400, centre_off_px=(0.0, 0.0), gain_e_adu=30.0)
    flats.write(tmp_path, ["OIII"], each=3)
    read, _ = read_flats([tmp_path], 0.0, 16)
    (level,) = measured(sets_of(read, DEFAULT_FILTER_NAMES), FlatOptics(bits=16)).levels
    assert level.corner.value == pytest.approx((0.83 * 5460 + 360) / 5820, abs=0.004)
    assert abs(level.corner.value - 0.83) <= 2 * level.corner.standard
    assert "the bias is not known" in level.why
    known = measured(sets_of(read, DEFAULT_FILTER_NAMES), FlatOptics(bits=16, bias_adu=0.0)).levels[0]
    assert known.corner.standard < level.corner.standard / 3


def test_three_wide_shadows_that_overlap_in_the_middle():
    """Each takes a part of the light's middle; together they look like light that falls inward."""
    wide = (Grain(-0.9, -0.1, FILTER, 0.125), Grain(0.7, 0.2, FILTER, 0.125), Grain(0.0, 0.0, CORRECTOR, 0.21))
    train = replace(TRAIN, grains=wide, gradient=(0.0, 0.0), pattern=0.004)
    found = light_of(np.mean([train.frame("L", k) - 400.0 for k in range(4)], axis=0), 1)
    assert len(found.shadows) == len(wide)
    for grain in wide:
        x, y, across = place_of(grain)
        near = min(found.shadows, key=lambda shadow: math.hypot(shadow.x - x, shadow.y - y))
        assert math.hypot(near.x - x, near.y - y) < 4
        assert near.outer_px.value == pytest.approx(across, rel=0.04)


@pytest.mark.parametrize(("stop", "verdict"), [(0.0, "holds"), *further((1.0, "tight"), (3.0, "tight"))])
def test_the_wheel_in_clipped_light(tmp_path, stop, verdict):
    """Two filters by turns; the first comes back so far off, mostly across."""
    off = (0.8 * stop, 0.6 * stop)
    train = replace(TRAIN, openings=(CLIPPED,))
    train.write(tmp_path, [("L", (0.0, 0.0)), ("R", (0.0, 0.0)), ("L", off)], each=3)
    flats, left = read_flats([tmp_path], 400.0, 16)
    assert not left
    optics = FlatOptics(pixel_um=8.0, focal_ratio=7.0, pupil_mm=400.0, bias_adu=400.0, bits=16, surfaces=SURFACES)
    result = measured(sets_of(flats, DEFAULT_FILTER_NAMES), optics)
    (repeat,) = [repeat for repeat in result.repeats if repeat.filter == "L"]
    shift = repeat.pair.shift_px
    assert abs(shift.value - stop) <= max(2 * shift.standard, 0.02)
    assert str(repeat_verdict(repeat)) == verdict
    surfaces = {dust.surface.part_id for dust in result.dust if dust.surface is not None}
    assert surfaces == {"window", "filter", "corrector"}


def test_a_shadow_wider_by_the_exit_pupil_is_no_farther(tmp_path):
    """At 100 mm of exit pupil a grain 12 mm off shades 12/7/0.88 = 1.948 mm; as if from afar that is 13.64 mm off."""
    near = replace(TRAIN, pupil_mm=100.0, grains=(Grain(0.1, 0.2, 12.0, 0.2),))
    near.write(tmp_path, [("L", (0.0, 0.0))], each=4)
    flats, _ = read_flats([tmp_path], 400.0, 16)
    sets = sets_of(flats, DEFAULT_FILTER_NAMES)
    optics = FlatOptics(pixel_um=8.0, focal_ratio=7.0, bias_adu=400.0, bits=16, surfaces=SURFACES)
    (known,) = measured(sets, replace(optics, pupil_mm=100.0)).dust
    assert known.shadow.outer_px.value * 0.008 == pytest.approx(1.948, rel=0.02)
    assert known.distance_mm.value == pytest.approx(12.0, rel=0.02)
    (unknown,) = measured(sets, optics).dust
    assert unknown.distance_mm.value == pytest.approx(13.64, rel=0.02)
    assert abs(unknown.distance_mm.value - 12.0) < 2.5 * unknown.distance_mm.standard, "the pupil's distance is unknown"

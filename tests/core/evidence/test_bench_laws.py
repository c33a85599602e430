"""Laws of the bench: exact curves give exact numbers, order and scale change nothing, findings by hand."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.evidence.test_headers import header
from tests.rigs import clean_document
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.evidence.cooling.cooler import CoolingLog, CoolingMeasured, fit_cooler, run_figures, steepest_rate
from wyntaxis.core.evidence.cooling.kind import COOLING, CoolingRuns, measured_runs
from wyntaxis.core.evidence.cooling.log import parse_cooling_log
from wyntaxis.core.evidence.cooling.ramp import usual_inputs
from wyntaxis.core.evidence.headers.folder import FolderHeaders
from wyntaxis.core.evidence.headers.headers import frame_header
from wyntaxis.core.evidence.measured import Estimate, camera_index
from wyntaxis.core.evidence.sensor.dark import DarkPoint, dark_model, dark_point
from wyntaxis.core.evidence.sensor.dark_scaling import at_temperature, dark_current_at
from wyntaxis.core.evidence.sensor.flats import falloff
from wyntaxis.core.evidence.sensor.offset import offset_line
from wyntaxis.core.evidence.sensor.planes import PLANES, plane_name
from wyntaxis.core.evidence.sensor.sorting import corrected, settings_in, sort_frames
from wyntaxis.core.evidence.sensor.tiles import TileStats, tile_size
from wyntaxis.core.evidence.sensor.transfer import BiasLevel, bias_level, photon_transfer, unity_gain
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.plan import FrameCorrection
from wyntaxis.core.rig.store import validated
from wyntaxis.simulators.camera import SimulatedCamera, cooling_csv, cooling_run

TILES = (6, 8)
GAIN, NOISE_ADU, BIAS = 1.25, 2.4, 400.0


def stats_of(signal, *, gain=GAIN, noise=NOISE_ADU, bias=BIAS, count=4096.0, highest=None, at_highest=0):
    """Tile statistics of an ideal pair: each tile at its signal, with exactly the variance that belongs to it."""
    signal = np.broadcast_to(np.asarray(signal, dtype=float), TILES)
    mean = bias + signal
    return TileStats(
        mean=mean,
        shift=np.zeros(TILES),
        variance=noise**2 + signal / gain + 1 / 12,
        count=np.full(TILES, count),
        outliers=np.zeros(TILES),
        highest=np.full(TILES, highest) if highest is not None else mean + 5 * np.sqrt(noise**2 + signal / gain),
        at_highest=at_highest,
        step=1,
        tile_px=64,
        size=(512, 384),
    )


def ideal_bias():
    return bias_level([stats_of(0.0), stats_of(0.0)])


SLOPE = np.linspace(0.7, 1.0, TILES[0] * TILES[1]).reshape(TILES)  # vignetting
LEVELS = (800, 2000, 6000, 12000, 20000, 30000, 38000)


def ideal_flats():
    return [stats_of(level * SLOPE) for level in LEVELS]


def test_an_exact_curve_gives_exact_numbers():
    found = photon_transfer(ideal_flats(), ideal_bias(), list(LEVELS))
    assert found.conversion_gain.value == pytest.approx(GAIN, rel=1e-9)
    assert found.read_noise.value == pytest.approx(GAIN * NOISE_ADU, rel=1e-6)
    assert found.full_well is None  # nothing was bright enough to tell
    assert found.linearity_percent.value == pytest.approx(0, abs=1e-6)
    assert found.bias_adu == BIAS


@pytest.mark.slow
@given(st.permutations(range(len(LEVELS))))
def test_the_order_of_flats_changes_nothing(order):
    flats = ideal_flats()
    one, other = photon_transfer(flats, ideal_bias()), photon_transfer([flats[i] for i in order], ideal_bias())
    assert one.conversion_gain.value == pytest.approx(other.conversion_gain.value, rel=1e-9)
    assert one.conversion_gain.standard == pytest.approx(other.conversion_gain.standard, rel=1e-6)


def test_a_clipped_flat_tells_the_full_well_and_stays_out_of_the_fit():
    full = stats_of(50_000.0)
    clipped = TileStats(**(vars(full) | {"variance": np.full(TILES, 0.2), "highest": np.full(TILES, 50_400.0)}))
    by_well = photon_transfer([*ideal_flats(), clipped], ideal_bias())
    assert by_well.saturation_adu == pytest.approx(50_000)
    assert by_well.full_well.value == pytest.approx(50_000 * GAIN)
    assert by_well.conversion_gain.value == pytest.approx(GAIN, rel=1e-6)
    piled = TileStats(**(vars(clipped) | {"at_highest": 512 * 384}))
    by_converter = photon_transfer([*ideal_flats(), piled], ideal_bias())
    assert by_converter.saturation_adu == pytest.approx(50_000)
    assert "clipped" in {point.rejected for point in by_converter.points}
    # log2(62 500 / 3.0) = 14.35 stops
    assert by_converter.dynamic_range.value == pytest.approx(math.log2(62_500 / (GAIN * NOISE_ADU)), abs=0.01)


def test_one_odd_tile_or_pair_does_not_move_the_fit():
    flats = ideal_flats()
    odd = flats[3].variance.copy()
    odd[2, 3] *= 40
    flats[3] = TileStats(**(vars(flats[3]) | {"variance": odd}))
    found = photon_transfer(flats, ideal_bias())
    assert found.conversion_gain.value == pytest.approx(GAIN, rel=1e-6)
    flats[4] = TileStats(**(vars(flats[4]) | {"variance": flats[4].variance * 1.5}))  # a lamp that flickered
    found = photon_transfer(flats, ideal_bias())
    assert found.conversion_gain.value == pytest.approx(GAIN, rel=0.02)
    assert "outlier" in {point.rejected for point in found.points}


def test_too_few_flats_are_refused():
    with pytest.raises(ValueError, match="needs a pair of flats"):
        photon_transfer([], ideal_bias())
    one = photon_transfer([stats_of(500.0)], ideal_bias())  # one pair and the bias: two points, one line
    assert one.conversion_gain.value == pytest.approx(GAIN, rel=1e-6)
    assert (one.full_well, one.dynamic_range) == (None, None)
    bright = [stats_of(40_000.0), stats_of(41_000.0)]
    with pytest.raises(ValueError, match="fewer than three levels"):
        photon_transfer(bright, ideal_bias())


def test_noise_that_does_not_grow_is_no_light():
    same = [TileStats(**(vars(s) | {"variance": np.full(TILES, 900.0) - s.mean / 100})) for s in ideal_flats()]
    with pytest.raises(ValueError, match="does not grow"):
        photon_transfer(same, ideal_bias())
    with pytest.raises(ValueError, match="no pair of bias"):
        bias_level([])


def test_the_bias_level_by_hand():
    found = ideal_bias()
    # The converter's step adds 1/12 ADU², which is taken out again.
    assert found.variance_adu2 == pytest.approx(NOISE_ADU**2 + 1 / 12)
    assert found.noise_adu.value == pytest.approx(NOISE_ADU)
    # √(2/n) · σ² / 2σ with n = 2 · 48 · 4095
    n = 2 * 48 * 4095
    assert found.noise_adu.standard == pytest.approx(math.sqrt(2 / n) * (NOISE_ADU**2 + 1 / 12) / (2 * NOISE_ADU))


@given(st.floats(0.05, 5), st.floats(0.2, 4), st.floats(0, 200))
def test_unity_gain_lies_where_one_electron_is_one_adu(low, ratio, start):
    high = low * 2 ** -(ratio + 2)
    found = unity_gain([(start, Estimate(low, 0.01 * low)), (start + 100, Estimate(high, 0.01 * high))])
    if not high < 1 < low:
        assert found is None
        return
    share = math.log(low) / math.log(low / high)
    assert found.value == pytest.approx(start + 100 * share)
    assert start <= found.value <= start + 100
    assert found.standard > 0


def test_a_dark_point_by_hand():
    bias = BiasLevel(np.full(TILES, BIAS), BIAS, 9.0, 1e6, 1)
    signal = np.full(TILES, 12.0)
    signal[0, 0] = 900.0  # glow in one corner does not count
    stats = stats_of(0.0)
    frames = [TileStats(**(vars(stats) | {"mean": BIAS + signal}))] * 2
    point = dark_point(frames, bias, Estimate(1.5, 0.015), 300.0, -10.0)
    # 12 ADU · 1.5 e⁻/ADU / 300 s
    assert point.current.value == pytest.approx(0.06)
    assert point.current.standard == pytest.approx(0.0006, rel=1e-6)
    with pytest.raises(ValueError, match="exposure above 0"):
        dark_point(frames, bias, Estimate(1.5), 0.0, -10.0)


@given(st.floats(0.4, 1.0), st.floats(1e-3, 1.0), st.floats(-25, 5))
def test_arrhenius_law_is_found_exactly_and_turned_round(energy_ev, at_zero, wanted):
    def current(celsius):
        return at_zero * math.exp(-energy_ev / 8.617333262e-5 * (1 / (celsius + 273.15) - 1 / 273.15))

    points = [DarkPoint(t, Estimate(current(t), 1e-3 * current(t)), 300, 2) for t in (-20.0, -10.0, 0.0, 10.0)]
    model = dark_model(points, Estimate(1.0))
    assert model.energy_ev.value == pytest.approx(energy_ev, rel=1e-6)
    assert model.current(wanted).value == pytest.approx(current(wanted), rel=1e-6)
    assert model.warmest(model.current(wanted).value).value == pytest.approx(wanted, abs=1e-6)
    rise = model.doubling(wanted).value
    # The doubling is that of the slope at the temperature: over the whole step the law bends a little.
    assert current(wanted + rise) / current(wanted) == pytest.approx(2, rel=0.06)


@pytest.mark.parametrize("dx, dy", [(0.0, 0.0), (0.3, 0.0), (0.0, -0.4), (0.25, 0.25)])
def test_the_centre_of_the_falloff_is_found(dx, dy):
    down, across = 40, 60
    y, x = np.mgrid[-1 : 1 : down * 1j, -1 : 1 : across * 1j] * np.array([down, across])[:, None, None]
    away = (x - dx * across) ** 2 + (y - dy * down) ** 2
    share, centre = falloff(1000 - 0.05 * away)
    wanted = 100 * math.hypot(dx * across, dy * down) / math.hypot(across, down)
    assert centre == pytest.approx(wanted, abs=0.5)
    assert share < 100
    assert falloff(np.full((40, 60), 7.0))[1] == 0


@pytest.mark.parametrize(
    "mosaic, names",
    [
        ("RGGB", ["R", "G1", "G2", "B"]),
        ("BGGR", ["B", "G1", "G2", "R"]),
        ("GRBG", ["G1", "R", "B", "G2"]),
        (None, [""] * 4),
    ],
)
def test_names_of_colour_planes(mosaic, names):
    assert [plane_name(mosaic, plane) for plane in PLANES] == names


@given(st.integers(16, 20_000), st.integers(16, 20_000))
def test_tiles_are_powers_of_two_and_about_fifty_across(width, height):
    side = tile_size(width, height)
    assert side in (16, 32, 64, 128)
    if side not in (16, 128):  # the smallest and the largest
        assert max(width, height) / side >= 48


def frames(*changes):
    entries = tuple(
        frame_header(header(**({"NAXIS1": 100, "NAXIS2": 80} | change)), f"{index}.fits")
        for index, change in enumerate(changes)
    )
    return FolderHeaders("bench", entries, ())


def test_sets_are_made_of_what_is_alike():
    found = sort_frames(
        frames(
            {"IMAGETYP": "BIAS", "EXPTIME": 0.0},
            {"IMAGETYP": "BIAS", "EXPTIME": 0.001},  # a bias is a bias whatever its exposure
            {"IMAGETYP": "DARK", "EXPTIME": 300.0},
            {"IMAGETYP": "DARK", "EXPTIME": 300.0, "CCD_TEMP": -9.6},
            {"IMAGETYP": "DARK", "EXPTIME": 300.0, "SET_TEMP": 0.0, "CCD_TEMP": 0.1},
            {"IMAGETYP": "FLAT", "EXPTIME": 2.0},
            {"IMAGETYP": "FLAT", "EXPTIME": 2.0, "FILTER": "R"},
            {"IMAGETYP": "FLAT", "EXPTIME": 2.0, "GAIN": 0},
        ),
        {},
    )
    assert [(one.kind, len(one.frames)) for one in found.sets] == [
        ("bias", 2),
        ("dark", 2),
        ("dark", 1),
        ("flat", 1),
        ("flat", 1),
        ("flat", 1),
    ]
    darks = found.of("dark")
    assert [round(one.temperature_c, 2) for one in darks] == [-9.75, 0.1]
    assert darks[0].pairs() == [("2.fits", "3.fits")]
    assert darks[1].pairs() == []
    assert settings_in(found.sets) == [(0.0, 50.0), (100.0, 50.0)]


@given(
    st.fixed_dictionaries(
        {},
        optional={
            "kind": st.sampled_from(["light", "dark", "flat", "bias"]),
            "gain": st.floats(0, 500),
            "exposure_s": st.floats(0.1, 900),
            "temperature_c": st.floats(-30, 20),
            "filter": st.sampled_from(["L", "R"]),
        },
    )
)
def test_a_correction_says_what_it_says_and_no_more(entries):
    frame = frame_header(header(), "a.fits")
    now = corrected(frame, FrameCorrection(**entries))
    for key in ("kind", "gain", "exposure_s", "filter", "temperature_c"):
        assert getattr(now, key) == entries.get(key, getattr(frame, key))
    assert now.offset == frame.offset
    assert corrected(frame, None) is frame


CAMERA = SimulatedCamera()


@pytest.mark.slow
@settings(max_examples=20)
@given(st.floats(-20, 20), st.floats(0, 5000))
def test_neither_the_zero_of_temperature_nor_that_of_time_moves_the_cooler(warmer, later):
    log = parse_cooling_log(
        cooling_csv(cooling_run(CAMERA, ambient_c=18, target_c=-10, full_power=True, minutes=15)).encode(), "x"
    )
    moved = CoolingLog("y", log.time_s + later, log.sensor_c + warmer, log.power, log.ambient_c + warmer)
    one, other = fit_cooler([log]), fit_cooler([moved])
    assert other.tau_min == pytest.approx(one.tau_min, rel=1e-4)
    assert other.pull_c_min == pytest.approx(one.pull_c_min, rel=1e-4)
    figures, shifted = run_figures(log, -10.0), run_figures(moved, -10.0 + warmer)
    assert shifted.to_target_min == pytest.approx(figures.to_target_min, abs=1e-6)
    assert steepest_rate(moved) == pytest.approx(steepest_rate(log), abs=1e-6)


def test_the_simulated_camera_keeps_its_word():
    camera = SimulatedCamera(width=200, height=160, vignetting=0, pattern=0, hot_share=0, seed=3)
    one = camera.frame(1, light_e_s=1000, exposure_s=10, gain=100)
    assert (one == camera.frame(1, light_e_s=1000, exposure_s=10, gain=100)).all()
    assert (one != camera.frame(2, light_e_s=1000, exposure_s=10, gain=100)).any()
    # 10 000 e⁻ and 0.18 e⁻ of dark current at 1.0119 e⁻/ADU on 500 ADU
    assert float(one.mean()) == pytest.approx(500 + 10_000.18 / camera.gain_at(100), abs=3)
    full = camera.frame(3, light_e_s=1e6, exposure_s=10)
    assert int(full.max()) <= 65535
    assert camera.dark_current(0.0) == camera.dark_e_s
    assert camera.dark_current(6.4) == pytest.approx(2 * camera.dark_e_s, rel=0.1)
    padded = SimulatedCamera(bits=12, padded_to_16=True).frame(1)
    assert set(np.unique(padded % 16)) == {0}


def camera_rig(**entries):
    document = clean_document()
    document["devices"][0]["settings"] |= entries
    return document


def measured(value, spread=0.0):
    return {"measured": {"value": value, "standard_uncertainty": spread}}


FINDINGS = [
    # 40 − 6 · 3 = 22 ADU above nothing
    ({"bias_mean_adu": measured(40), "bias_noise_adu": measured(3)}, "camera.offset", "holds", "22.0 ADU"),
    ({"bias_mean_adu": measured(17), "bias_noise_adu": measured(3)}, "camera.offset", "fails", "−1.0 ADU"),
    (
        {"bias_mean_adu": measured(40), "bias_noise_adu": measured(3), "pile_up_share": measured(2e-4)},
        "camera.offset",
        "fails",
        "2.0e-04",
    ),
    ({"read_noise_e": {"value": 3, **measured(3.2, 0.01)}}, "camera.read_noise", "holds", "+0.20"),
    ({"read_noise_e": {"value": 3, **measured(3.4, 0.01)}}, "camera.read_noise", "fails", "+0.40"),
    ({"read_noise_e": {"value": 3, "tolerance": 0.5, **measured(3.4, 0.01)}}, "camera.read_noise", "holds", "±0.50"),
    ({"read_noise_e": {"value": 3}}, "camera.read_noise", "unproven", "stated: 3.00"),
    ({"full_well_e": measured(49_000, 100)}, "camera.full_well", "unproven", "49000 ± 100"),
    ({"linearity_percent": measured(0.5, 0.1)}, "camera.linearity", "holds", "0.50 ± 0.10 %"),
    ({"linearity_percent": measured(2.0, 0.1)}, "camera.linearity", "tight", "allowed 1 %"),
    ({"linearity_percent": measured(5.0, 0.1)}, "camera.linearity", "fails", "5.00"),
    ({"flat_level_percent": measured(45)}, "flats.level", "holds", "45.0 %"),
    ({"flat_level_percent": measured(25)}, "flats.level", "tight", "25.0 %"),
    ({"flat_level_percent": measured(90)}, "flats.level", "fails", "90.0 %"),
    # 0.002 · 300 = 0.6 e⁻ against 0.1 · 3² = 0.9 e⁻
    ({"dark_current_e_s": measured(0.002), "read_noise_e": measured(3)}, "camera.setpoint", "holds", "0.90 e⁻"),
    # told at 0 °C and doubling in 6 °C: 0.0063 · 2^(−10/6) = 0.00198 at −10 °C
    (
        {
            "dark_current_e_s": measured(0.0063),
            "dark_at_c": measured(0),
            "dark_doubling_c": measured(6),
            "read_noise_e": measured(3),
        },
        "camera.setpoint",
        "holds",
        "0.00198 e⁻/s × 300 s = 0.60 e⁻",
    ),
    ({"dark_current_e_s": measured(0.006), "read_noise_e": measured(3)}, "camera.setpoint", "tight", "1.80 e⁻"),
    ({"dark_current_e_s": measured(0.06), "read_noise_e": measured(3)}, "camera.setpoint", "fails", "18.00 e⁻"),
    # stated 0.004 at 0 °C is 0.00126 at −10 °C, where 0.0013 was measured
    (
        {
            "dark_current_e_s": {"value": 0.004, **measured(0.0013, 1e-5)},
            "dark_at_c": {"value": 0, **measured(-10)},
            "dark_doubling_c": measured(6),
        },
        "camera.dark_current",
        "holds",
        "stated: 0.00126",
    ),
    ({"scatter_c": measured(0.05, 0.01)}, "cooling.stability", "holds", "0.050"),
    ({"scatter_c": measured(0.2, 0.01)}, "cooling.stability", "tight", "0.25 (half the tolerance)"),
    ({"scatter_c": measured(0.4, 0.01)}, "cooling.stability", "fails", "0.400"),
]


@pytest.mark.parametrize("entries, finding_id, verdict, words", FINDINGS)
def test_findings_of_the_camera_by_hand(entries, finding_id, verdict, words):
    found = evaluate(validated(camera_rig(**entries))).finding(finding_id)
    assert found.verdict == verdict
    assert any(words in line for line in found.arithmetic), found.arithmetic
    assert bool(found.remedy.text) >= (verdict != "holds")


def test_a_current_told_at_another_temperature():
    assert at_temperature(0.01, -10, 2, 6) == pytest.approx(0.04)
    assert at_temperature(0.01, -10, 2, None) == 0.01
    device = validated(camera_rig(dark_current_e_s={"value": 0.01})).devices[0]
    assert dark_current_at(device) == dark_current_at(device, 20.0) == 0.01
    entries = {"dark_current_e_s": {"value": 0.01}, "dark_at_c": {"value": 0}, "dark_doubling_c": {"value": 5}}
    device = validated(camera_rig(**entries)).devices[0]
    # −10 °C is two doublings below 0 °C.
    assert dark_current_at(device) == pytest.approx(0.0025)


def test_which_camera_is_measured(example):
    assert camera_index(validated(example)) is None
    rig = validated(clean_document())
    assert (camera_index(rig), camera_index(rig, "guide"), camera_index(rig, "cairn")) == (0, 1, None)
    log = parse_cooling_log(cooling_csv(cooling_run(CAMERA, ambient_c=18, target_c=-10)).encode(), "x")
    runs = measured_runs([log], -10.0)
    with pytest.raises(ValueError, match="no camera among its devices"):
        COOLING.keep(validated(example), runs)
    with pytest.raises(ValueError, match="no number to keep"):
        COOLING.keep(rig, CoolingRuns((), CoolingMeasured((), None, "no run")))
    kept = edit.apply(rig, COOLING.keep(rig, runs))
    assert kept.devices[0].measured("cooler_tau_min").value == pytest.approx(9, rel=0.01)
    assert kept.devices[1].measured("cooler_tau_min") is None  # the guide camera's cooler is another one
    assert usual_inputs(validated(example), []).ambient_c == 20


@pytest.mark.parametrize(
    "variance, step, resolved",
    [(0.24, 1, True), (0.2399, 1, False), (0.1, 1, False), (60.0, 16, False), (61.5, 16, True)],
)
def test_noise_under_half_a_step_has_only_a_bound(variance, step, resolved):
    bias = BiasLevel(np.full(TILES, BIAS), BIAS, variance, 1e6, step)
    assert bias.resolved is resolved
    found = photon_transfer(ideal_flats(), bias)
    assert found.conversion_gain.value == pytest.approx(GAIN, rel=0.03)
    assert (found.read_noise is None) is not resolved
    if not resolved:
        assert found.read_noise_below_e == pytest.approx(0.40 * step * found.conversion_gain.value)
        assert found.dynamic_range is None
        assert bias.noise_adu.value == pytest.approx(0.2 * step)


def test_the_gains_uncertainty_and_the_scale_of_chi_square():
    """One pair at μ = 10 000 ADU and a bias, n tiles of 4096 px: var(slope) = 2σ⁴/(Σ(n−1))/μ²; a fit that scatters χ²
    times as far is so much less certain.
    """
    flat, bias = stats_of(10_000.0), ideal_bias()
    found = photon_transfer([flat], bias)
    sigma2, degrees = NOISE_ADU**2 + 10_000 / GAIN + 1 / 12, 48 * 4095
    slope_u = math.sqrt(2 / degrees) * sigma2 / 10_000
    assert found.conversion_gain.standard == pytest.approx(slope_u * GAIN**2, rel=0.01)
    rng = np.random.default_rng(3)
    rough = []
    for each in ideal_flats():
        spread = np.sqrt(2 / each.count) * each.variance
        rough.append(TileStats(**(vars(each) | {"variance": each.variance + 3 * spread * rng.standard_normal(TILES)})))
    calm = photon_transfer(ideal_flats(), ideal_bias())
    outlier = photon_transfer(rough, ideal_bias())
    assert outlier.chi_square > 4
    ratio = outlier.conversion_gain.standard / calm.conversion_gain.standard
    assert ratio == pytest.approx(math.sqrt(outlier.chi_square), rel=0.25)


def test_dark_current_carries_its_scatter_and_the_gains_uncertainty():
    """Tiles at 12 ± 1 ADU: MAD 1, scatter 1.4826, 48 tiles: 1.2533 × 1.4826/√48 = 0.26820 ADU; gain 1.5 ± 0.3."""
    bias = BiasLevel(np.full(TILES, BIAS), BIAS, 9.0, 1e6, 1)
    signal = np.where(np.arange(48).reshape(TILES) % 2, 11.0, 13.0)
    stats = stats_of(0.0)
    frames = [TileStats(**(vars(stats) | {"mean": BIAS + signal}))]
    point = dark_point(frames, bias, Estimate(1.5, 0.3), 300.0, -10.0)
    assert point.current.standard == pytest.approx(math.hypot(0.26820 * 1.5 / 300, 12 * 1.5 / 300 * 0.2), rel=1e-4)


def test_the_gain_lifts_the_level_of_arrhenius_law_and_not_its_slope():
    def model(spread):
        points = [
            DarkPoint(t, Estimate(v, v * math.hypot(0.01, spread)), 300.0, 2)
            for t, v in ((-20.0, 0.001), (-10.0, 0.0035), (0.0, 0.0113))
        ]
        return dark_model(points, Estimate(1.0, spread))

    sure, unsure = model(0.0), model(0.2)
    assert unsure.energy_ev.standard == pytest.approx(sure.energy_ev.standard, rel=1e-3)
    at = sure.at_c
    wanted = math.hypot(sure.current(at).standard / sure.current(at).value, 0.2)
    assert unsure.current(at).standard / unsure.current(at).value == pytest.approx(wanted, rel=1e-3)


@pytest.mark.parametrize(
    "mean, share, verdict",
    [(18.0, 0.0, "fails"), (18.001, 0.0, "holds"), (40.0, 9.99e-6, "holds"), (40.0, 1e-5, "fails")],
)
def test_the_offsets_boundaries(mean, share, verdict):
    """Noise 3 ADU: mean − 6σ must be above 0; at the lowest code fewer than 1e-5."""
    entries = {"bias_mean_adu": measured(mean), "bias_noise_adu": measured(3), "pile_up_share": measured(share)}
    assert evaluate(validated(camera_rig(**entries))).finding("camera.offset").verdict == verdict


@pytest.mark.parametrize(
    "slope, start, least", [(10.0, 0.0, 2), (9.0, 0.0, 3), (18.0, 0.0, 2), (18.0, 0.01, 1), (5.0, 20.0, 0)]
)
def test_the_smallest_offset_leaves_more_than_six_sigma(slope, start, least):
    """Noise 3 ADU: 18 ADU just reached is not enough, the next whole offset is."""
    line = offset_line([(n, start + slope * n) for n in (5.0, 10.0)], 3.0, [False, False])
    assert line.least_offset == least
    if least != 0:
        assert start + slope * least > 18

"""Photon transfer, offset and dark current of simulated cameras, against what was planted in them."""

import json
import math

import numpy as np
import pytest
from astropy.io import fits
from hypothesis import given
from hypothesis import strategies as st

from tests.rigs import clean_document
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.evidence.headers.folder import read_folder
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.evidence.sensor.bench import measure_bench
from wyntaxis.core.evidence.sensor.camera_values import worst_flats
from wyntaxis.core.evidence.sensor.dark import DarkPicture, DarkPoint, dark_model, dark_picture, setpoint_current
from wyntaxis.core.evidence.sensor.exposure import (
    added_share,
    peak_share,
    saturating_star_e_s,
    sky_limited_exposure,
    total_noise,
)
from wyntaxis.core.evidence.sensor.kind import SENSOR, SensorBench
from wyntaxis.core.evidence.sensor.offset import BiasHistogram, margin_sigma, offset_line
from wyntaxis.core.evidence.sensor.report import REPORT
from wyntaxis.core.evidence.sensor.strips import open_frame
from wyntaxis.core.evidence.sensor.tiles import CODES, code_step, frame_stats, pair_stats, tile_size
from wyntaxis.core.evidence.sensor.transfer import BiasLevel, unity_gain
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.rig import edit
from wyntaxis.core.rig.plan import FrameCorrection
from wyntaxis.core.rig.store import validated
from wyntaxis.simulators.camera import BenchSession, SimulatedCamera, make_bench


def near(estimate, planted, sigmas=4.0):
    """Whether a measured value lies where it was planted; the coverage benchmark holds it to two standard errors."""
    return abs(estimate.value - planted) <= sigmas * estimate.standard


def write(path, data, **header):
    fits.PrimaryHDU(data, fits.Header(header)).writeto(path)
    return path


@pytest.fixture(scope="module")
def bench(tmp_path_factory):
    """A camera with gradients, hot pixels, fixed pattern and clipping, its folder and what was measured there."""
    folder = tmp_path_factory.mktemp("bench")
    camera = SimulatedCamera(vignetting=0.5, pattern=0.02, hot_share=3e-3, seed=11)
    make_bench(camera, folder, (0.0, 60.0, 140.0))
    more = BenchSession(camera, folder, made=800)
    more.add("light", 2, gain=60.0, exposure_s=120.0, light_e_s=2.0, filter="L")
    more.add("dark", 1, gain=140.0, exposure_s=300.0, temperature_c=-10.0, light_e_s=0.5)
    return camera, folder, measure_bench(read_folder(folder), {})


@pytest.mark.slow
@pytest.mark.parametrize("gain", [0.0, 60.0, 140.0])
def test_the_planted_camera_comes_back(bench, gain):
    camera, _, result = bench
    found = result.gain_at(gain).transfer
    assert near(found.conversion_gain, camera.gain_at(gain))
    assert near(found.read_noise, camera.noise_at(gain))
    # At gain 140 the converter ends before the well is full: (65535 − 500) ADU.
    full = min(camera.full_well_e, camera.gain_at(gain) * (65535 - 500))
    assert near(found.full_well, full)
    assert found.dynamic_range.value == pytest.approx(math.log2(full / camera.noise_at(gain)), abs=0.02)
    assert found.linearity_percent.value < 0.05
    assert {p.rejected for p in found.points} >= {"", "above 70 %"}
    assert 0.3 < found.chi_square < 2


def test_unity_gain_offset_and_dark_law_come_back(bench):
    camera, _, result = bench
    assert near(result.unity, 200 * math.log10(camera.gain_e_adu))
    line = result.offsets[140.0]
    assert line.adu_per_unit == pytest.approx(10, abs=0.05)
    # 6 σ of 3 e⁻ at 0.638 e⁻/ADU are 28.2 ADU: three units of 10 ADU.
    assert line.least_offset == 3
    assert near(result.model.energy_ev, camera.dark_energy_ev)
    for temperature in (-15.0, -10.0, 5.0):
        # Headers round what the sensor had to 0.05 °C: half a per cent of the current.
        assert result.model.current(temperature).value == pytest.approx(camera.dark_current(temperature), rel=0.03)
    kelvin = 263.15
    assert result.model.doubling(-10).value == pytest.approx(
        math.log(2) * 8.617333e-5 * kelvin**2 / camera.dark_energy_ev, rel=0.03
    )
    assert result.picture.hot_share.value == pytest.approx(camera.hot_share, rel=0.2)


def test_misfits_flats_sky_and_json(bench):
    _, folder, result = bench
    leaks = [frame.why for frame in result.rejected if "light leak" in frame.why]
    assert len(leaks) == 1
    assert "ADU above the faintest dark" in leaks[0]
    assert {flat.filter for flat in result.flats} == {"L"}
    worst = worst_flats(result)
    assert 40 < worst.level_percent < 50
    # Vignetting 0.5: the corner has 1 − 0.5 (1 + 1)/2 of the light, the tiles there a little more.
    assert 50 < worst.corner_percent < 65
    assert worst.centre_off_percent < 1
    # Vignetting is 1 − 0.5 r²/2: half of the tiles lie beyond r² of about 0.6.
    assert result.skies[0].sky.value == pytest.approx(2.0 * 0.85, rel=0.03)
    entries = REPORT.as_json(SensorBench(read_folder(folder), result))
    assert json.loads(json.dumps(entries))["size_px"] == [320, 240]


def test_what_was_measured_is_kept_and_judged(bench):
    camera, folder, result = bench
    document = clean_document()
    settings = document["devices"][0]["settings"]
    settings |= {"gain": {"value": 60}, "read_noise_e": {"value": 1.5}, "conversion_gain_e_adu": {"value": 1.6}}
    settings |= {"full_well_e": {"value": 50000}, "offset": {"value": 50}}
    rig = validated(document)
    measured = SensorBench(read_folder(folder), result)
    kept = edit.apply(rig, SENSOR.keep(rig, measured))
    noise = kept.devices[0].settings["read_noise_e"]
    assert (noise.value, noise.measured.evidence.method, noise.measured.evidence.file) == (1.5, "bench", folder.name)
    assert noise.measured.value == pytest.approx(camera.read_noise_e, rel=0.02)
    assert kept.plan.sky_e_s["L"] == pytest.approx(1.7, rel=0.03)
    found = {f.id: f for f in evaluate(kept).findings}
    assert found["camera.gain"].verdict is Verdict.HOLDS
    assert found["camera.full_well"].verdict is Verdict.HOLDS
    assert found["camera.read_noise"].verdict is Verdict.FAILS
    assert found["camera.offset"].verdict is Verdict.HOLDS
    assert found["camera.linearity"].verdict is Verdict.HOLDS
    assert found["camera.dark_current"].verdict is Verdict.UNPROVEN
    assert found["flats.level"].verdict is Verdict.HOLDS
    setpoint = found["camera.setpoint"]
    assert setpoint.verdict is Verdict.FAILS
    change = setpoint.remedy.change
    colder = {f.id: f for f in evaluate(edit.apply(kept, change)).findings}["camera.setpoint"]
    assert change.values[0][1] < -20
    assert colder is not setpoint
    lost = edit.apply(kept, edit.Change.of("Gain", ("devices", 0, "settings", "gain", "value"), 20.0))
    with pytest.raises(ValueError, match="no frames at the camera's gain 20; measured: 0, 60, 140"):
        SENSOR.keep(lost, measured)


@pytest.mark.slow
def test_corrections_change_what_a_frame_is(bench):
    _, folder, before = bench
    flat = next(one for one in before.sorted.of("flat") if one.gain == 60.0 and one.exposure_s == 5.0)
    corrections = {
        flat.paths[0]: FrameCorrection(kind="dark"),
        flat.paths[1]: FrameCorrection(left_out=True),
    }
    after = measure_bench(read_folder(folder), corrections)
    assert {m.path: m.why for m in after.rejected}[flat.paths[1]] == "left out by hand"
    assert flat.paths[0] not in {path for one in after.sorted.of("flat") for path in one.paths}
    assert len(after.gain_at(60.0).transfer.points) < len(before.gain_at(60.0).transfer.points)


@pytest.mark.slow
def test_padded_data_are_recognised(tmp_path):
    camera = SimulatedCamera(bits=12, padded_to_16=True, gain_e_adu=6.0, full_well_e=90_000, seed=5)
    make_bench(camera, tmp_path, (0.0,))
    result = measure_bench(read_folder(tmp_path), {})
    assert result.step == 16
    found = result.gain_at(0.0).transfer
    assert near(found.conversion_gain, camera.gain_at(0) / 16)
    assert near(found.read_noise, camera.read_noise_e)


@pytest.mark.slow
def test_colour_planes_are_measured_each(tmp_path):
    camera = SimulatedCamera(color=True, seed=6)
    make_bench(camera, tmp_path, (0.0,))
    result = measure_bench(read_folder(tmp_path), {})
    assert [one.plane for one in result.gains] == ["R", "G1", "G2", "B"]
    assert all(near(one.transfer.conversion_gain, camera.gain_at(0)) for one in result.gains)


@pytest.mark.slow
def test_a_bent_sensor_is_told(tmp_path):
    camera = SimulatedCamera(linearity_error=0.06, seed=8)
    make_bench(camera, tmp_path, (0.0,))
    found = measure_bench(read_folder(tmp_path), {}).gain_at(0.0).transfer
    assert found.linearity_percent.value > 0.8


@pytest.mark.parametrize(
    "offset, verdict, words", [(0.3, "fails", "clips the bias"), (5.0, "holds", "the bias is clear of the lowest code")]
)
def test_an_offset_that_clips_is_found_with_its_remedy(tmp_path, offset, verdict, words):
    camera = SimulatedCamera(seed=9)
    session = BenchSession(camera, tmp_path)
    for each in (offset, 20.0, 40.0):
        session.add("bias", 2, gain=100.0, offset=each)
    document = clean_document()
    document["devices"][0]["settings"]["offset"]["value"] = offset
    rig = validated(document)
    headers = read_folder(tmp_path)
    result = measure_bench(headers, {})
    kept = edit.apply(rig, SENSOR.keep(rig, SensorBench(headers, result)))
    finding = evaluate(kept).finding("camera.offset")
    assert (finding.verdict, words in finding.title) == (verdict, True)
    if verdict == "fails":
        assert result.bias_at((100.0, offset)).histogram.piled_share > 1e-5
        # 6 × 2.96 ADU are 17.8 ADU: two units of 10 ADU.
        assert finding.remedy.change.values[0][1] == 2


def test_frames_that_do_not_belong_are_named(tmp_path):
    camera = SimulatedCamera(width=96, height=96)
    session = BenchSession(camera, tmp_path)
    session.add("bias", 4)
    session.add("flat", 2, exposure_s=1.0, light_e_s=9000.0)
    session.add("dark", 2, exposure_s=60.0)
    write(tmp_path / "small.fits", np.zeros((40, 40), np.uint16), IMAGETYP="BIAS")
    write(tmp_path / "what.fits", np.zeros((96, 96), np.uint16), EXPTIME=1.0)
    write(tmp_path / "untimed.fits", np.zeros((96, 96), np.uint16), IMAGETYP="FLAT")
    warm = fits.Header()
    warm.update({"IMAGETYP": "DARK", "EXPTIME": 60.0, "SET-TEMP": -10.0, "CCD-TEMP": -3.0, "GAIN": 0.0, "OFFSET": 50.0})
    fits.PrimaryHDU(np.zeros((96, 96), np.uint16), warm).writeto(tmp_path / "warm.fits")
    bright = np.full((96, 96), 65000, np.uint16)
    write(tmp_path / "sunlit.fits", bright, IMAGETYP="DARK", EXPTIME=60.0, GAIN=0.0, OFFSET=50.0)
    for name in ("dawn_1.fits", "dawn_2.fits"):
        write(tmp_path / name, bright, IMAGETYP="BIAS", GAIN=7.0, OFFSET=50.0)
    (tmp_path / "torn.fits").write_bytes((tmp_path / "what.fits").read_bytes()[:5000])
    write(tmp_path / "real.fits", np.full((96, 96), 0.5, np.float32), IMAGETYP="DARK", EXPTIME=60.0, GAIN=0, OFFSET=50)
    result = measure_bench(read_folder(tmp_path), {})
    why = {frame.path: frame.why for frame in result.rejected}
    assert why["small.fits"] == "has 40 × 40 px, the others 96 × 96"
    assert "what kind of frame" in why["what.fits"]
    assert why["untimed.fits"] == "no other flat has its level, and no exposure is recorded"
    assert why["warm.fits"] == "temperature off: -3.0 °C where -10.0 °C was set"
    assert "cut short" in why["torn.fits"]
    assert why["dawn_1.fits, dawn_2.fits"] == "saturated: 65000 ADU in the middle; was the cap on?"
    assert not any("photon transfer" in note for note in result.notes)  # one pair of flats and bias suffice


@pytest.mark.parametrize(
    "make, words",
    [
        (lambda d: None, "holds no FITS files"),
        (lambda d: (d / "a.fits").write_bytes(b"noise"), "holds no frame of a known kind"),
        (lambda d: write(d / "a.fits", np.zeros((9, 9), np.uint16)), "holds no frame of a known kind"),
    ],
)
def test_a_folder_without_bench_frames_gets_one_line(tmp_path, make, words):
    make(tmp_path)
    with pytest.raises(InputError, match=words):
        measure_bench(read_folder(tmp_path), {})


def test_the_measurement_can_be_ended(bench):
    _, folder, _ = bench

    class EndedError(Exception):
        pass

    def end(done, _of):
        if done > 3:
            raise EndedError

    with pytest.raises(EndedError):
        measure_bench(read_folder(folder), {}, end)


def test_pixels_are_read_as_codes(tmp_path):
    codes = np.arange(64 * 48, dtype=np.uint16).reshape(48, 64) * 21
    forms = {
        "unsigned": fits.PrimaryHDU(codes),
        "signed": fits.PrimaryHDU((codes // 3).astype(np.int16)),
        "wide": fits.PrimaryHDU(codes.astype(np.int32)),
        "whole floats": fits.PrimaryHDU(codes.astype(np.float32)),
        "packed": fits.CompImageHDU(codes),
    }
    for name, hdu in forms.items():
        path = tmp_path / f"{name}.fits"
        hdu.writeto(path)
        with open_frame(path) as frame:
            seen = np.concatenate([frame.rows(a, b) for a, b in frame.strips(16)])
            plane = frame.plane((1, 0)).rows(0, 24)
        wanted = codes // 3 if name == "signed" else codes
        assert seen.dtype == np.uint16, name
        assert (seen == wanted).all(), name
        assert (plane == wanted[1::2, 0::2]).all(), name
    bad = {
        "negative": (np.full((32, 32), -5, np.int16), "outside 0 to 65535"),
        "cube": (np.zeros((2, 32, 32), np.uint16), "no two-dimensional image"),
        "nan": (np.full((32, 32), np.nan, np.float32), "no raw frame"),
    }
    for name, (data, words) in bad.items():
        path = write(tmp_path / f"{name}.fits", data)
        with pytest.raises(InputError, match=words):
            frame_stats(path)


def test_tile_statistics_leave_defects_out(tmp_path):
    rng = np.random.default_rng(3)
    base = 1000 + 3 * np.arange(256)[None, :] + 100 * rng.standard_normal((256, 256))  # gradient and fixed pattern
    frames = [np.rint(base + 8 * rng.standard_normal(base.shape)) for _ in range(2)]
    frames[0][rng.integers(0, 256, 300), rng.integers(0, 256, 300)] = 30000  # struck in one frame only
    one, other = (write(tmp_path / f"{i}.fits", f.astype(np.uint16)) for i, f in enumerate(frames))
    stats = pair_stats(one, other)
    assert stats.tile_px == tile_size(256, 256) == 16
    assert int(stats.outliers.sum()) == pytest.approx(300, abs=3)
    assert float(stats.variance.mean()) == pytest.approx(64, rel=0.02)
    assert float(stats.mean[0, 0]) == pytest.approx(base[:16, :16].mean(), abs=1)
    with pytest.raises(InputError, match="the frames of a pair must be equal in size"):
        pair_stats(one, write(tmp_path / "other.fits", np.zeros((128, 256), np.uint16)))
    with pytest.raises(InputError, match="at least"):
        frame_stats(write(tmp_path / "tiny.fits", np.zeros((4, 4), np.uint16)))


@given(st.sampled_from([1, 2, 4, 16, 64]), st.lists(st.integers(0, 900), min_size=12, max_size=60, unique=True))
def test_the_step_of_multiplied_codes(step, values):
    occupied = np.zeros(CODES, bool)
    odd = np.array(values) * 2 + 1
    occupied[np.concatenate([odd, odd + 1]) * step % CODES] = True
    assert code_step(occupied) == step


def test_histograms_pile_up_or_fall_off():
    counts = np.zeros(CODES, int)
    counts[0:5] = (900, 30, 50, 40, 30)
    assert BiasHistogram(counts).piled_share == pytest.approx(900 / 1050)
    counts[0:5] = (1, 4, 30, 90, 200)
    assert BiasHistogram(counts).piled_share == 0
    codes, low = BiasHistogram(counts).low_end(3)
    assert (codes.tolist(), low.tolist()) == ([0, 1, 2], [1, 4, 30])
    assert margin_sigma(30, 5) == 6


def test_offset_lines_by_hand():
    # 8 ADU a unit from 4 ADU: 6 × 2.5 = 15 ADU are passed at 2 units, 20 ADU.
    line = offset_line([(10, 84), (20, 164)], 2.5, [False, False])
    assert (line.adu_per_unit, line.at_zero_adu, line.least_offset) == (pytest.approx(8), pytest.approx(4), 2)
    assert offset_line([(10, 84)], 2.5, [False]) is None
    assert offset_line([(10, 84), (20, 84)], 2.5, [False, False]) is None


def test_exposures_by_hand():
    # 3² / ((1.05² − 1) · 0.9) = 9 / 0.09225 = 97.56 s
    assert sky_limited_exposure(3, 0.8, 0.1) == pytest.approx(97.561, abs=1e-3)
    assert float(added_share(97.561, 3, 0.8, 0.1)) == pytest.approx(0.05, abs=1e-6)
    assert math.isinf(sky_limited_exposure(3, 0, 0))
    # FWHM of 2 px: erf(0.8326/2)² = 0.4440² = 0.1971 of the light in the middle pixel.
    assert total_noise(100, [3, 0], 0.8, 0.11).tolist() == pytest.approx([10.0, math.sqrt(91)])  # 80 + 11 + 3²
    assert peak_share(2.0) == pytest.approx(0.1971, abs=1e-4)
    assert float(saturating_star_e_s(100, 50_000, 5, 0, 2.0)) == pytest.approx(49_500 / 19.71, rel=1e-3)
    assert float(saturating_star_e_s(20_000, 50_000, 5, 0, 2.0)) == 0
    # 0.1 · 3² / 300 s
    assert setpoint_current(3, 300) == pytest.approx(0.003)


def test_laws_of_dark_current_and_unity_gain():
    points = [DarkPoint(t, Estimate(0.01 * 2 ** (t / 6), 1e-4), 300, 2) for t in (-12.0, -6.0, 0.0, 6.0)]
    model = dark_model(points, Estimate(1.0, 0.001))
    assert model.doubling(0.0).value == pytest.approx(6.1, abs=0.3)
    assert model.warmest(0.01).value == pytest.approx(0, abs=0.3)
    assert near(model.current(model.warmest(0.005).value), 0.005)
    with pytest.raises(ValueError, match="three temperatures"):
        dark_model(points[:2], Estimate(1.0, 0.001))
    with pytest.raises(ValueError, match="does not rise"):
        dark_model([DarkPoint(-p.temperature_c, p.current, 300, 2) for p in points], Estimate(1.0, 0.001))
    found = unity_gain([(0, Estimate(4, 0.01)), (100, Estimate(0.25, 0.01))])
    assert found.value == pytest.approx(50)
    assert unity_gain([(0, Estimate(4)), (100, Estimate(2))]) is None


def test_one_stray_bias_frame_is_named_and_ruins_nothing(tmp_path):
    camera = SimulatedCamera(width=128, height=128)
    session = BenchSession(camera, tmp_path)
    session.add("bias", 8)
    for exposure in (0.5, 1.0, 2.0, 3.0):
        session.add("flat", 2, exposure_s=exposure, light_e_s=9000.0)
    clean = measure_bench(read_folder(tmp_path), {})
    stray = sorted(tmp_path.glob("*bias*"))[3]
    noise = clean.biases[0].level.noise_adu.value
    with fits.open(stray, mode="update") as hdus:
        hdus[0].data = (hdus[0].data.astype(int) + round(25 * noise)).astype(np.uint16)
    result = measure_bench(read_folder(tmp_path), {})
    why = {frame.path: frame.why for frame in result.rejected}
    assert "σ off the other bias frames" in why[stray.name]
    assert list(why) == [stray.name]
    level = result.biases[0].level
    assert level.mean_adu == pytest.approx(clean.biases[0].level.mean_adu, abs=0.2)
    assert near(level.noise_adu, noise)
    assert near(result.gain_at(0.0).transfer.conversion_gain, camera.gain_at(0.0))


def test_two_flats_and_two_biases_suffice_for_a_gain(tmp_path):
    camera = SimulatedCamera(width=160, height=160, vignetting=0.0)
    session = BenchSession(camera, tmp_path)
    session.add("bias", 2)
    session.add("flat", 2, exposure_s=2.0, light_e_s=9000.0)
    result = measure_bench(read_folder(tmp_path), {}, bits=16)
    assert near(result.gain_at(0.0).transfer.conversion_gain, camera.gain_at(0.0))
    assert result.flats[0].level_of == "the converter's end, 16 bits"
    planted = 100 * 18_000 / camera.gain_at(0.0) / (65_535 - result.biases[0].level.mean_adu)
    assert result.flats[0].level_percent == pytest.approx(planted, rel=0.02)


def test_flats_without_an_exposure_are_paired_by_their_light(tmp_path):
    camera = SimulatedCamera(width=160, height=160)
    session = BenchSession(camera, tmp_path)
    session.add("bias", 4)
    for light in (3000.0, 9000.0, 15_000.0):
        session.add("flat", 2, exposure_s=2.0, light_e_s=light)
    for path in tmp_path.glob("*flat*"):
        with fits.open(path, mode="update") as hdus:
            del hdus[0].header["EXPTIME"]
    result = measure_bench(read_folder(tmp_path), {})
    assert near(result.gain_at(0.0).transfer.conversion_gain, camera.gain_at(0.0))
    assert result.rejected == ()


@pytest.mark.parametrize("glow, verdict", [(0.0, "holds"), (0.004, "holds"), (0.02, "tight"), (0.5, "fails")])
def test_glow_is_a_figure_with_a_verdict(glow, verdict):
    """In 300 s at a read noise of 3 e⁻: 0.9 e⁻ are allowed, above 9 e⁻ it drowns the noise."""
    document = clean_document()
    settings = document["devices"][0]["settings"]
    settings["glow_e_s"] = {"measured": {"value": glow, "standard_uncertainty": 1e-4}}
    settings["read_noise_e"] = {"value": 3.0}
    assert pytest.approx(0.1 * 3**2) == 300 * 0.003
    found = evaluate(validated(document)).finding("camera.glow")
    assert found.verdict == (verdict if glow != 0.004 else "tight")
    picture = DarkPicture(Estimate(0.0), np.where(np.arange(600).reshape(20, 30) % 30 > 26, 1.0 + glow, 1.0))
    assert picture.glow.value == pytest.approx(glow, abs=1e-12)


@pytest.mark.parametrize("above, hot", [(59, 0), (60, 0), (61, 1), (200, 1)])
def test_a_hot_pixel_has_five_times_the_typical_signal(tmp_path, above, hot):
    """Typical 15 ADU above a bias of 100: hot is what has 4 × 15 = 60 ADU more than its tile, and 6 σ of 3 ADU."""
    data = np.full((64, 64), 115, np.uint16)
    data[40, 40] += above
    path = write(tmp_path / "dark.fits", data)
    stats = frame_stats(path)
    bias = BiasLevel(np.full(stats.mean.shape, 100.0), 100.0, 1.0, 1e6, 1)
    found = dark_picture(path, stats, bias, 15.0, 300.0)
    assert found.hot_share.value * 64 * 64 == pytest.approx(hot)


@pytest.mark.parametrize("order", ["rlggg", "glrgg", "gggrl", "lgrgg"])
def test_frames_left_out_are_named_wherever_they_stand_in_their_set(tmp_path, order):
    """A dark that cannot be read (r) and one with a light leak (l) among good ones (g)."""
    camera = SimulatedCamera(width=96, height=96, hot_share=1e-3)
    session = BenchSession(camera, tmp_path)
    session.add("bias", 4)
    for exposure in (0.5, 1.0, 1.5, 2.0):
        session.add("flat", 2, exposure_s=exposure, light_e_s=9000.0)
    wrong = {}
    for letter in order:
        session.add("dark", 1, exposure_s=60.0, temperature_c=-10.0, **({"light_e_s": 40.0} if letter == "l" else {}))
        path = tmp_path / f"dark_{session.made:03}.fits"
        if letter == "r":
            with fits.open(path) as opened:
                data, header = opened[0].data.astype(np.float32) + 0.5, opened[0].header.copy()
            for key in ("BSCALE", "BZERO"):
                header.remove(key, ignore_missing=True)
            fits.PrimaryHDU(data, header).writeto(path, overwrite=True)
        if letter != "g":
            wrong[letter] = path.name
    result = measure_bench(read_folder(tmp_path), {})
    why = {frame.path: frame.why for frame in result.rejected}
    assert set(why) == set(wrong.values()), result.notes
    assert "light leak" in why[wrong["l"]]
    assert result.picture.hot_share.value < 0.02


# FITS 4.0, section 4.4.2: physical value = BZERO + BSCALE · stored.
@pytest.mark.parametrize(
    ("stored", "cards", "code"),
    [
        (np.float32(3092), {"BZERO": 32768.0}, 35860),
        (np.float64(3092), {"BZERO": 32768.0, "BSCALE": 1.0}, 35860),
        (np.float32(0.5), {"BSCALE": 65000.0}, 32500),
        (np.float32(35860), {}, 35860),
        (np.int16(3092), {"BZERO": 32768}, 35860),
        (np.uint8(200), {}, 200),
        (np.int32(60000), {}, 60000),
    ],
)
def test_codes_are_what_the_header_makes_of_the_stored_numbers(tmp_path, stored, cards, code):
    path, pixels = tmp_path / "a.fits", np.full((24, 32), stored)
    hdu = fits.PrimaryHDU(pixels)
    raw = hdu.data.astype(hdu.data.dtype.newbyteorder(">")).tobytes()
    hdu.header.update(cards)
    size = len(raw)
    path.write_bytes(hdu.header.tostring().encode() + raw + b"\0" * (-size % 2880))
    with open_frame(path) as frame:
        assert set(frame.rows(0, 24).ravel().tolist()) == {code}


@pytest.mark.parametrize(
    ("stored", "cards"),
    [
        (np.float32(0.25), {}),
        (np.float32(-5), {}),
        (np.float32(40000), {"BZERO": 32768.0}),
        (np.int16(4), {"BSCALE": 0.5}),
        (np.int16(4), {"BZERO": 0.5}),
        (np.float32(np.nan), {}),
    ],
)
def test_what_makes_no_code_is_refused_in_one_line(tmp_path, stored, cards):
    path, pixels = tmp_path / "a.fits", np.full((24, 32), stored)
    hdu = fits.PrimaryHDU(pixels)
    raw = hdu.data.astype(hdu.data.dtype.newbyteorder(">")).tobytes()
    hdu.header.update(cards)
    path.write_bytes(hdu.header.tostring().encode() + raw + b"\0" * (-len(raw) % 2880))
    with pytest.raises(InputError, match="raw"), open_frame(path) as frame:
        frame.rows(0, 24)


OVERSCAN = np.full((12, 20), 300, np.uint16)
OVERSCAN[2:11, 5:19] = 1000 + np.arange(14)


@pytest.mark.parametrize(
    ("cards", "size"),
    [
        ({"TRIMSEC": "[6:19,3:11]"}, (14, 9)),
        ({"DATASEC": " [6:19, 3:11] "}, (14, 9)),
        ({"TRIMSEC": "[6:19,3:11]", "DATASEC": "[1:20,1:12]"}, (14, 9)),
        ({"TRIMSEC": "[1:20,1:12]"}, (20, 12)),
        ({"TRIMSEC": "[6:21,3:11]"}, (20, 12)),  # beyond the frame: believed in nothing
        ({"TRIMSEC": "[0:19,3:11]"}, (20, 12)),
        ({"TRIMSEC": "[19:6,3:11]"}, (20, 12)),
        ({"TRIMSEC": "[6:19]"}, (20, 12)),
        ({"TRIMSEC": 7}, (20, 12)),
        ({"TRIMSEC": "[21:30,3:11]", "DATASEC": "[6:19,3:11]"}, (14, 9)),
        ({}, (20, 12)),
    ],
)
def test_a_border_of_overscan_is_left_out(tmp_path, cards, size):
    header = fits.Header()
    header.update(cards)
    fits.PrimaryHDU(OVERSCAN, header).writeto(tmp_path / "a.fits")
    with open_frame(tmp_path / "a.fits") as frame:
        assert (frame.width, frame.height) == size
        pixels = np.concatenate([frame.rows(0, 4), frame.rows(4, frame.height)])
    wanted = OVERSCAN[2:11, 5:19] if size == (14, 9) else OVERSCAN
    assert (pixels == wanted).all()

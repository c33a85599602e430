"""Stars measured on drawn fields: what was drawn is found and measured, and what is no star is refused, with why."""

import csv
import json
import math

import numpy as np
import pytest
from astropy.io import fits
from scipy import ndimage
from scipy.special import erf

from tests.cases import further
from tests.core.evidence.test_headers import header
from tests.rigs import clean_document
from wyntaxis.cli import main
from wyntaxis.core.evidence.sensor.strips import open_frame
from wyntaxis.core.evidence.stars import detection
from wyntaxis.core.evidence.stars.background import background_mesh
from wyntaxis.core.evidence.stars.detection import find_spots
from wyntaxis.core.evidence.stars.frame_stars import read_stars
from wyntaxis.core.evidence.stars.measuring import measure
from wyntaxis.core.files.errors import InputError
from wyntaxis.simulators.sky_field import StarShape, Taken, draw_field

EMPTY = ((), (), ())


def grid(count, size, margin, seed=3):
    """Places of stars on a jittered grid, none nearer to the edge than the margin."""
    rng, side = np.random.default_rng(seed), math.ceil(math.sqrt(count))
    at = np.arange(count)
    across = margin + (at % side + 0.5) * (size[1] - 2 * margin) / side + rng.uniform(-3, 3, count)
    down = margin + (at // side + 0.5) * (size[0] - 2 * margin) / side + rng.uniform(-3, 3, count)
    return across, down


def drawn(shape, count=64, size=(640, 800), flux=(2e4, 2e5), margin=40, **options):
    x, y = grid(count, size, margin)
    light = np.exp(np.random.default_rng(5).uniform(*np.log(flux), count))
    return x, y, draw_field(shape, x, y, light, size, **options)


def measured(pixels, full=65535.0):
    mesh = background_mesh(pixels)
    spots = find_spots(pixels, mesh)
    star = np.array([not why for why in spots.why], bool)
    return measure(pixels, mesh, (spots.x[star], spots.y[star], spots.spread[star]), full), spots


def matched(shapes, x, y):
    """What share of the drawn was found, and how many found stars nobody drew."""
    if not len(shapes.x):
        return 0.0, 0
    apart = np.hypot(shapes.x[:, None] - x, shapes.y[:, None] - y)
    return (apart.min(axis=0) < 3).mean(), int((apart.min(axis=1) >= 3).sum())


# The half of a Gaussian's flux lies within its FWHM; of a Moffat's within 2α√(2^(1/(β−1)) − 1),
# α = FWHM / 2√(2^(1/β) − 1); of an even ring of outer diameter D and inner εD within D √((1 + ε²)/2).
@pytest.mark.parametrize(
    ("shape", "hfd", "share"),
    [
        (StarShape(fwhm_px=2.5), 2.5, 0.02),
        (StarShape(fwhm_px=4.0), 4.0, 0.02),
        (StarShape(fwhm_px=3.5, beta=4.0), 3.5 * math.sqrt((2 ** (1 / 3) - 1) / (2 ** (1 / 4) - 1)), 0.02),
        (StarShape(fwhm_px=6.0, beta=4.0), 6.0 * math.sqrt((2 ** (1 / 3) - 1) / (2 ** (1 / 4) - 1)), 0.02),
        (StarShape(fwhm_px=1.8), 1.8, 0.04),
    ],
)
def test_what_was_drawn_is_measured(shape, hfd, share):
    x, y, pixels = drawn(shape)
    found, _ = measured(pixels)
    assert matched(found, x, y) == (1.0, 0)
    good = found.snr > 50
    assert np.median(found.hfd[good]) == pytest.approx(hfd, rel=share)
    assert np.median(found.fwhm[good]) == pytest.approx(shape.fwhm_px, rel=0.03)
    assert np.median(found.elongation[good]) == pytest.approx(1.0, abs=0.05)
    apart = np.hypot(found.x[:, None] - x, found.y[:, None] - y).min(axis=1)
    assert np.median(apart) < 0.05, "places are of a fraction of a pixel"


@pytest.mark.parametrize(("elongation", "angle"), [(1.3, 100), (1.6, 160), (2.0, 45), (1.3, 2)])
def test_elongation_and_its_direction(elongation, angle):
    found, _ = measured(drawn(StarShape(fwhm_px=3.5, elongation=elongation, angle_deg=angle))[2])
    assert np.median(found.elongation) == pytest.approx(elongation, abs=0.05)
    off = (found.angle - angle + 90) % 180 - 90
    assert abs(np.median(off)) < 3


@pytest.mark.parametrize(("disc", "obstruction"), [(20, 0.0), (40, 0.35), (80, 0.35), (140, 0.4)])
def test_discs_far_out_of_focus(disc, obstruction):
    shape = StarShape(fwhm_px=3, disc_px=disc, obstruction=obstruction)
    x, y, pixels = drawn(shape, count=9, size=(800, 900), flux=(3e5, 1e6), margin=60)
    found, _ = measured(pixels)
    assert matched(found, x, y)[0] == 1.0
    assert len(found.x) == 9
    assert np.median(found.hfd) == pytest.approx(disc * math.sqrt((1 + obstruction**2) / 2), rel=0.02)


def test_faint_stars_are_found_and_noise_is_none():
    # A Gaussian of FWHM 3 px peaks at 0.0981 of its flux: 1,200 ADU are some eleven times the noise of 10.
    x, y, pixels = drawn(StarShape(fwhm_px=3), count=225, size=(900, 1000), flux=(1150, 1250))
    found, _ = measured(pixels)
    share, false = matched(found, x, y)
    assert share >= 0.98
    assert false <= 2
    for seed in range(4):
        empty, spots = measured(draw_field(StarShape(), *EMPTY, (900, 1000), seed=seed))
        assert len(empty.x) == 0
        assert not any(spots.why)


def debayered(frame):
    """One colour of a mosaic, bilinearly: every other pixel the mean of its four neighbours."""
    rows, columns = np.indices(frame.shape)
    own = (rows + columns) % 2 == 1
    kernel = np.array([[0, 1, 0], [1, 0, 1], [0, 1, 0]]) / 4
    return np.where(own, frame, ndimage.convolve(np.where(own, frame, 0.0), kernel, mode="mirror"))


RESAMPLED = {
    "turned by 1.3°": lambda frame: ndimage.rotate(frame, 1.3, reshape=False, order=1, mode="reflect"),
    "moved by a fraction": lambda frame: ndimage.shift(frame, (0.4, 0.3), order=3, mode="reflect"),
    "twice as large": lambda frame: ndimage.zoom(frame, 2, order=1),
    "half as large again": lambda frame: ndimage.zoom(frame, 1.5, order=3),
    "debayered": debayered,
    "smoothed": lambda frame: ndimage.gaussian_filter(frame, 2.0),
}


@pytest.mark.parametrize("how", [*list(RESAMPLED)[::3], *further(*(how for i, how in enumerate(RESAMPLED) if i % 3))])
def test_noise_that_neighbours_share_makes_no_stars(how):
    """A blank sky, and the same upside down: every star of either is false. Real stars are still found."""
    blank = draw_field(StarShape(), *EMPTY, (800, 1000), seed=8).astype(float)
    made = RESAMPLED[how](blank)
    for sky in (made, 2 * np.median(made) - made):
        found, _ = measured(np.rint(sky).astype(np.uint16))
        assert len(found.x) == 0
    _, _, starry = drawn(StarShape(fwhm_px=3.5), count=64, size=(800, 1000), flux=(8e3, 8e4), margin=60)
    found, _ = measured(np.rint(RESAMPLED[how](starry.astype(float))).astype(np.uint16))
    assert 62 <= len(found.x) <= 64


def test_pixels_of_their_own_noise_share_none():
    assert background_mesh(draw_field(StarShape(), *EMPTY, (800, 1000), seed=8)).shared == 1.0
    noise = np.random.default_rng(3).normal(0, 20, (640, 640))
    # The mean of two neighbours: their differences keep half of its variance, √2 of the noise in all.
    assert background_mesh(1000 + (noise + np.roll(noise, 1, 1)) / 2).shared == pytest.approx(math.sqrt(2), rel=0.05)


@pytest.mark.parametrize("share", [0.05, 0.2, 0.4, 0.8])
def test_pixels_are_joined_as_neighbours_corners_too(share):
    rng = np.random.default_rng(7)
    for _ in range(12):
        height, width = rng.integers(1, 40), rng.integers(2, 40)
        bright = rng.random((height, width)) < share
        flat = np.flatnonzero(bright)
        ones = np.ones(len(flat), np.float32)
        joined = detection.joined_pixels(flat, ones, 9 * ones, width)
        label, count = ndimage.label(bright, np.ones((3, 3)))
        assert sorted(joined.count) == sorted(np.bincount(label.ravel(), minlength=count + 1)[1:])


def test_a_sky_that_rises_changes_no_star():
    shape = StarShape(fwhm_px=3)
    x, y, pixels = drawn(shape, taken=Taken(slope_adu=3000))
    found, _ = measured(pixels)
    assert matched(found, x, y) == (1.0, 0)
    assert np.median(found.hfd) == pytest.approx(3.0, rel=0.02)


@pytest.mark.parametrize(
    ("frame_problem", "reason"),
    [
        (lambda p: p.__setitem__((300, 411), 30000), None),
        (lambda p: p.__setitem__((slice(300, 302), slice(400, 402)), [[9000, 30000], [300, 9000]]), "a "),
        (lambda p: p.__setitem__((slice(0, 640), 333), 4000), "a bad column or row"),
        (lambda p: p.__setitem__((slice(100, 400), 333), 4000), "a bad column or row"),
        (lambda p: [p.__setitem__((300 + k // 4, 400 + k), 20000) for k in range(14)], "a "),
        (lambda p: p.__setitem__((slice(300, 304), slice(0, 4)), 9000), "touches the edge"),
    ],
)
def test_what_is_no_star_is_refused(frame_problem, reason):
    pixels = draw_field(StarShape(), *EMPTY, (640, 800))
    frame_problem(pixels)
    found, spots = measured(pixels)
    assert len(found.x) == 0
    if reason is not None:
        assert spots.why
        assert all(reason in why for why in spots.why)


def test_saturated_stars_are_marked():
    x, y = grid(25, (500, 500), 40)
    light = np.where(np.arange(25) < 5, 3e6, 1e5)
    for full in (65535, 16383):
        light = np.where(np.arange(25) < 5, 20.0 * full, 3.0 * full)
        pixels = draw_field(StarShape(fwhm_px=4), x, y, light, (500, 500), taken=Taken(full_adu=full))
        found, _ = measured(pixels, full)
        apart = np.hypot(found.x[:, None] - x, found.y[:, None] - y)
        assert set(apart.argmin(axis=1)[found.saturated]) == {0, 1, 2, 3, 4}


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    """Frames as a night leaves them: a star field, a dark, an empty sky, a broken file, one colour mosaic."""
    root = tmp_path_factory.mktemp("stars")
    _, _, pixels = drawn(StarShape(fwhm_px=4), size=(512, 512), count=36)

    def write(name, data, **changes):
        fits.PrimaryHDU(data, header(**({"XBINNING": 1} | changes))).writeto(root / name)

    write("field.fits", pixels)
    write("dark.fits", pixels, IMAGETYP="Dark")
    write("empty.fits", draw_field(StarShape(), *EMPTY, (512, 512)))
    write("small.fits", pixels[:10, :10])
    (root / "broken.fits").write_bytes(b"SIMPLE  = junk")
    # 14 bit in steps of four, and each colour seen through its own filter.
    mosaic = drawn(StarShape(fwhm_px=6), size=(512, 512), count=16, flux=(1e5, 1e7), taken=Taken(full_adu=50000))[
        2
    ].astype(float)
    mosaic[1::2, 1::2] = (mosaic[1::2, 1::2] - 1000) * 0.6 + 1000
    write("mosaic.fits", mosaic.astype(np.uint16), BAYERPAT="RGGB")
    return root


def test_a_folder_of_frames_as_json_and_csv(folder, tmp_path, capsys):
    assert main(["stars", str(folder), "--json", "--each", str(tmp_path / "each.csv")]) == 0
    entries = json.loads(capsys.readouterr().out)
    by_name = {frame["file"].rsplit("/", 1)[-1]: frame for frame in entries["frames"]}
    assert set(by_name) == {"field.fits", "empty.fits", "mosaic.fits"}
    field = by_name["field.fits"]
    assert field["stars"] == 36
    assert field["saturated"] == 0
    assert field["hfd_px"]["value"] == pytest.approx(4.0, rel=0.02)
    assert 0 < field["hfd_px"]["u"] < 0.1
    assert field["sky_adu"]["value"] == pytest.approx(1000, abs=2)
    assert field["noise_adu"]["value"] == pytest.approx(10, rel=0.05)
    assert by_name["empty.fits"]["stars"] == 0
    assert by_name["empty.fits"]["hfd_px"] is None
    assert by_name["empty.fits"]["why"] == "no star was found"
    mosaic = by_name["mosaic.fits"]
    assert mosaic["stars"] == 16
    assert mosaic["hfd_px"]["value"] == pytest.approx(6.0, rel=0.06)
    assert mosaic["saturated"] > 0, "one colour at its end is saturated, though the mean of four is not"
    why = {entry["file"].rsplit("/", 1)[-1]: entry["why"] for entry in entries["not_used"]}
    assert set(why) == {"dark.fits", "small.fits", "broken.fits"}
    assert "is a dark by its header" in why["dark.fits"]
    assert "too small" in why["small.fits"]
    rows = list(csv.DictReader((tmp_path / "each.csv").read_text("utf-8").splitlines()))
    assert len(rows) == 36 + 16
    assert {"x_px", "y_px", "hfd_px", "snr", "saturated"} < set(rows[0])


def test_the_scale_comes_from_the_rig_else_from_the_header(folder, tmp_path, capsys):
    rig = tmp_path / "good.rig.json"
    rig.write_text(json.dumps(clean_document()), "utf-8")
    frame = str(folder / "field.fits")
    assert main(["numbers", str(rig), "--json"]) in (0, 1)
    scale = next(row for row in json.loads(capsys.readouterr().out) if row["id"] == "pixel_scale_arcsec_px")["computed"]
    assert main(["stars", str(rig), frame, "--json"]) in (0, 1)
    entries = json.loads(capsys.readouterr().out)["frames"][0]
    assert entries["hfd_arcsec"]["value"] == pytest.approx(entries["hfd_px"]["value"] * scale)
    assert main(["stars", frame, "--json"]) == 0
    entries = json.loads(capsys.readouterr().out)["frames"][0]
    h = header()
    by_header = 206.264806 * h["XPIXSZ"] / h["FOCALLEN"]
    assert entries["hfd_arcsec"]["value"] == pytest.approx(entries["hfd_px"]["value"] * by_header)
    assert main(["stars", frame]) == 0
    assert "field.fits" in capsys.readouterr().out


def test_bad_paths_get_one_line(folder, tmp_path, capsys, monkeypatch):
    (tmp_path / "notes.txt").write_text("x", "utf-8")
    for given, said in (
        ([str(tmp_path / "gone")], "is not there"),
        ([str(tmp_path / "notes.txt")], "is no FITS file by its name"),
        ([str(folder / "field.fits"), "--each", str(tmp_path / "no" / "each.csv")], "no/each.csv"),
    ):
        assert main(["stars", *given]) == 2
        entries = capsys.readouterr()
        assert said in entries.err
        assert len(entries.err.strip().splitlines()) == 1
    data = (folder / "field.fits").read_bytes()
    card = data.index(b"IMAGETYP")
    spoiled = data[:card] + b"BSCALE  = NaN".ljust(80) + data[card + 80 :]
    (tmp_path / "card.fits").write_bytes(spoiled)
    with pytest.raises(InputError, match="Unparsable card"):
        read_stars(tmp_path / "card.fits")
    with pytest.raises(InputError, match="too small"):
        read_stars(folder / "small.fits")
    monkeypatch.setattr(detection, "MAX_BRIGHT_PX", 1000)
    assert main(["stars", str(folder / "field.fits"), "--json"]) == 2, "no frame was measured"
    entries = capsys.readouterr()
    assert "pixels over the noise" in json.loads(entries.out)["not_used"][0]["why"]
    assert entries.err == "wyntaxis: nothing was measured, since no file could be used\n"


def test_a_star_beside_another_is_measured_without_it():
    """Discs of 12 px in pairs 20 px apart, where the aperture of each reaches 22 px."""
    shape, light = StarShape(fwhm_px=3.0, disc_px=12.0), np.full(72, 2e5)
    x, y = grid(36, (700, 900), 70)
    pixels = draw_field(shape, np.concatenate([x, x + 20]), np.concatenate([y, y]), light, (700, 900))
    shapes, _ = measured(pixels)
    alone, _ = measured(draw_field(shape, x, y, light[:36], (700, 900)))
    assert (len(shapes.x), len(alone.x)) == (72, 36)
    assert np.median(shapes.hfd) == pytest.approx(np.median(alone.hfd), rel=0.02)
    assert np.percentile(shapes.hfd, 90) < 1.05 * np.median(alone.hfd)
    assert np.median(shapes.flux) == pytest.approx(np.median(alone.flux), rel=0.03)


def moffat_sky(kind, seed, size=(900, 1200), count=120):
    """Stars drawn by the Moffat law itself, and what lies among them; in ADU of one electron, with photon noise."""
    rng, beta, fwhm = np.random.default_rng(seed), 3.5, 3.0
    down, across = np.mgrid[: size[0], : size[1]]
    x, y = rng.uniform(40, size[1] - 40, count), rng.uniform(40, size[0] - 40, count)
    core2 = (fwhm / 2) ** 2 / (2 ** (1 / beta) - 1)
    light = np.zeros(size)
    for at_x, at_y, flux in zip(x, y, np.exp(rng.uniform(np.log(5e3), np.log(2e5), count)), strict=True):
        own = np.s_[max(int(at_y) - 25, 0) : int(at_y) + 26, max(int(at_x) - 25, 0) : int(at_x) + 26]
        r2 = (across[own] - at_x) ** 2 + (down[own] - at_y) ** 2
        light[own] += flux * (beta - 1) / (np.pi * core2) * (1 + r2 / core2) ** -beta
    spoilt = np.zeros(size, bool)
    if kind == "trail":
        away = np.abs((across - 60) * np.sin(0.6) - (down - 40) * np.cos(0.6))
        light += 2000 * np.exp(-(away**2) / 8)
        spoilt = away < 14
    elif kind == "galaxy":
        r = np.hypot((across - 600) / 200, (down - 450) / 90)
        light += 6000 * np.exp(-4 * r)
        spoilt = r < 0.45
    elif kind == "nebula":
        for at in ((200, 200), (600, 250), (950, 600), (400, 650)):  # clumps that join with the stars on them
            light += 1500 * np.exp(-(((across - at[0]) / 110) ** 2) - ((down - at[1]) / 90) ** 2)
    elif kind == "bleeding column":
        light[200:, 420:424] += 30_000
        spoilt[200:, 400:444] = True
    clear = ~spoilt[y.astype(int), x.astype(int)]
    frame = rng.poisson(light + 600) + 5 * rng.standard_normal(size)
    return np.clip(np.rint(frame), 0, 65535).astype(np.uint16), x[clear], y[clear]


@pytest.mark.parametrize("kind", ["nothing", "trail", "galaxy", "nebula", "bleeding column"])
@pytest.mark.parametrize("seed", [1, *further(2, 3)])
def test_one_long_or_large_thing_spoils_only_the_stars_on_its_own_pixels(tmp_path, kind, seed):
    pixels, x, y = moffat_sky(kind, seed)
    fits.PrimaryHDU(pixels).writeto(tmp_path / "a.fits")
    frame = read_stars(tmp_path / "a.fits")
    shapes = frame.shapes
    away = np.hypot(shapes.x[:, None] - x, shapes.y[:, None] - y)
    assert (away.min(axis=0) < 2).mean() > (0.9 if kind == "trail" else 0.94)
    assert shapes.elongation.max() < 20
    # A star of FWHM 3 px and β 3.5 has half of its light within 1.81 px.
    assert frame.hfd_px.value == pytest.approx(3.62, rel=0.03)
    assert frame.fwhm_px.value == pytest.approx(3.0, rel=0.03)
    if kind in ("nothing", "trail", "galaxy"):
        everywhere = moffat_sky("nothing", seed)
        lone = np.hypot(shapes.x[:, None] - everywhere[1], shapes.y[:, None] - everywhere[2]).min(axis=1)
        assert (lone > 3).sum() <= (3 if kind == "galaxy" else 1)
    else:
        assert any("larger than any disc" in spot.why for spot in frame.refused)


# A Gaussian summed over each pixel is a product of differences of error functions.
@pytest.mark.parametrize("fwhm", [0.8, 1.0, 1.2, 1.5, 2.0, 3.0])
def test_sizes_of_undersampled_stars_are_within_their_uncertainty(tmp_path, fwhm):
    rng, sigma, size = np.random.default_rng(3), fwhm / 2.3548, (500, 600)
    light = np.zeros(size)

    def shares(count, middle):
        edges = (np.arange(count + 1) - 0.5 - middle) / (sigma * math.sqrt(2))
        return np.diff(erf(edges)) / 2

    for _ in range(80):
        x, y = rng.uniform(20, 580), rng.uniform(20, 480)
        light += rng.uniform(1e4, 6e4) * np.outer(shares(size[0], y), shares(size[1], x))
    frame = rng.poisson(light + 500) + 5 * rng.standard_normal(size)
    fits.PrimaryHDU(np.rint(frame).astype(np.uint16)).writeto(tmp_path / "a.fits")
    stars = read_stars(tmp_path / "a.fits")
    for found in (stars.fwhm_px, stars.hfd_px):
        assert abs(found.value - fwhm) <= 2 * found.standard
        assert found.standard < (0.25 if fwhm < 1.1 else 0.1) * found.value


def taken_apart(path, frame, low, unit, **cards):
    """Write a frame as numbers of another kind: calibrated, as shares, or with gaps."""
    hdu = fits.PrimaryHDU(((frame - low) * unit).astype(cards.pop("kind", np.float32)))
    hdu.header["IMAGETYP"] = "LIGHT"
    hdu.writeto(path, overwrite=True)
    return read_stars(path)


@pytest.mark.parametrize(
    ("low", "unit", "kind", "sky"),
    [
        (0.0, 1 / 65535, np.float32, 1000.0),  # shares of the range
        (1000.0, 1.0, np.float32, 0.0),  # background taken off
        (1000.0, 1.0, np.int16, 0.0),  # the same in whole numbers
        (0.0, 1.0, np.float64, 1000.0),
        (0.0, 40.0, np.int32, 40_000.0),  # a sum of forty
        (0.0, 0.01, np.float32, 10.0),  # electrons a second
    ],
)
def test_calibrated_and_stacked_frames_are_measured_as_their_raw_ones(tmp_path, low, unit, kind, sky):
    *_, raw = drawn(StarShape(fwhm_px=3.0))
    fits.PrimaryHDU(raw.astype(np.uint16)).writeto(tmp_path / "raw.fits")
    wanted = read_stars(tmp_path / "raw.fits")
    found = taken_apart(tmp_path / "own.fits", raw.astype(float), low, unit, kind=kind)
    assert len(found.shapes.x) == len(wanted.shapes.x)
    assert np.median(found.shapes.hfd) == pytest.approx(np.median(wanted.shapes.hfd), rel=0.003)
    offset = (wanted.sky_adu.value - low) * unit * (65535 if unit < 1e-4 else 1)
    assert found.sky_adu.value == pytest.approx(offset, abs=0.3 * found.noise_adu.value)
    assert offset == pytest.approx(sky, abs=30 * max(unit, 1.0))


def test_gaps_outliers_and_empty_frames_of_numbers(tmp_path):
    *_, raw = drawn(StarShape(fwhm_px=3.0))
    frame = raw.astype(float)
    usual = taken_apart(tmp_path / "a.fits", frame, 0.0, 1 / 65535)
    frame[:30] = np.nan
    frame[300, 400], frame[310, 400] = 1e9, -1e9
    gaps = taken_apart(tmp_path / "b.fits", frame, 0.0, 1.0)
    assert abs(len(gaps.shapes.x) - len(usual.shapes.x)) <= 4
    assert np.median(gaps.shapes.hfd) == pytest.approx(np.median(usual.shapes.hfd), rel=0.005)
    for empty in (np.full((200, 200), np.nan), np.full((200, 200), 0.5)):
        with pytest.raises(InputError, match="one value all over"):
            taken_apart(tmp_path / "c.fits", empty, 0.0, 1.0)


@pytest.mark.parametrize("values", [(-1e308, 1e308), (0.0, 1e-310), (np.inf, 1.0), (-np.inf, np.inf)])
def test_numbers_that_are_no_light_get_one_line(tmp_path, values):
    frame = np.where(np.arange(200 * 200).reshape(200, 200) % 7 == 0, values[0], values[1])
    fits.PrimaryHDU(frame.astype(np.float64)).writeto(tmp_path / "odd.fits")
    with pytest.raises(InputError, match=r"one value all over|too large or too small"):
        read_stars(tmp_path / "odd.fits")


def test_the_bench_still_wants_a_converters_own_codes(tmp_path):
    fits.PrimaryHDU(np.full((64, 64), 0.25, np.float32)).writeto(tmp_path / "share.fits")
    with pytest.raises(InputError, match="no raw frame"), open_frame(tmp_path / "share.fits") as frame:
        frame.rows(0, 64)

"""Stars told from galaxies by size, and saturation told where its level scatters, on frames drawn by convolution."""

from __future__ import annotations

import numpy as np
import pytest
from astropy.io import fits
from scipy.signal import fftconvolve
from scipy.special import j0

from wyntaxis.core.evidence.stars import populations
from wyntaxis.core.evidence.stars.frame_stars import read_stars
from wyntaxis.core.evidence.stars.measuring import Shapes
from wyntaxis.core.evidence.stars.populations import broader_than_stars, commonest, piled_up
from wyntaxis.core.evidence.stars.sampling import corrected_fwhm, fwhm_share, hfd_share

SIDE, FINE, SKY, NOISE = 900, 4, 800.0, 5.0


def turbulence(fwhm_px, half=120):
    """Long-exposure seeing on pixels a quarter as wide: the transform of exp(−3.44 (λf/r0)^{5/3}), by quadrature.

    The constant 0.976 of FWHM = 0.976 λ/r0 is the standard one.
    """
    r0 = 0.976 / fwhm_px
    frequency = np.linspace(0, 3 * r0, 1500)
    kernel = np.exp(-3.44 * (frequency / r0) ** (5 / 3)) * frequency
    radius = np.linspace(0, 1.5 * half / FINE, 600)
    argument = 2 * np.pi * radius[:, None] * frequency
    light = (kernel * j0(argument)).sum(axis=1)
    y, x = np.mgrid[-half : half + 1, -half : half + 1] / FINE
    found = np.interp(np.hypot(x, y), radius, light)
    return np.clip(found, 0, None) / np.clip(found, 0, None).sum()


def disc(half_light_px, flattening, angle, half=120):
    """An exponential disc, seen from aside; half of its light lies within 1.678 scale lengths."""
    y, x = np.mgrid[-half : half + 1, -half : half + 1] / FINE
    along, across = x * np.cos(angle) + y * np.sin(angle), (y * np.cos(angle) - x * np.sin(angle)) / flattening
    found = np.exp(-1.678 * np.hypot(along, across) / half_light_px)
    return found / found.sum()


def drawn(path, stars, galaxies, seed, fwhm_px=3.2, top=None, scatter=0.0):
    """Draw stars and galaxies (n, 3: x, y, light) with photon noise; the sizes of galaxies are drawn by the seed."""
    rng = np.random.default_rng(seed)
    light = np.full((SIDE, SIDE), SKY)
    seeing = turbulence(fwhm_px)
    galaxies_seen = [
        fftconvolve(seeing, disc(rng.uniform(2, 6), rng.uniform(0.3, 1), rng.uniform(0, np.pi)), "same")
        for _ in galaxies
    ]
    for profile, (x, y, flux) in zip([seeing] * len(stars) + galaxies_seen, [*stars, *galaxies], strict=True):
        # Shift by whole fine pixels, then sum the fine pixels of each pixel: light is collected over its area.
        fine_x, fine_y = round(x * FINE), round(y * FINE)
        left, lower = fine_x // FINE - 25, fine_y // FINE - 25
        at_x, at_y = fine_x - FINE * left, fine_y - FINE * lower
        stamp = np.zeros((FINE * 60, FINE * 60))
        cut = profile[120 - 96 : 120 + 97, 120 - 96 : 120 + 97]
        stamp[at_y - 96 : at_y + 97, at_x - 96 : at_x + 97] = cut
        stamp = stamp.reshape(60, FINE, 60, FINE).sum(axis=(1, 3))
        light[lower : lower + 60, left : left + 60] += flux * stamp
    codes = rng.poisson(light) + rng.normal(0, NOISE, light.shape)
    if top is not None:
        codes = np.minimum(codes, top + rng.normal(0, scatter, codes.shape) if scatter else top)
    fits.PrimaryHDU(np.clip(codes, 0, 65535).astype(np.uint16)).writeto(path)
    return path


def places(rng, count, least, most):
    return np.column_stack(
        [rng.uniform(40, SIDE - 40, (count, 2)), np.exp(rng.uniform(np.log(least), np.log(most), count))]
    )


@pytest.mark.parametrize("seed", range(3))
def test_galaxies_do_not_widen_the_stars(tmp_path, seed):
    """As many bright galaxies as stars, of 2 to 6 px: without them and with them, one size."""
    rng = np.random.default_rng(seed)
    stars, galaxies = places(rng, 120, 4e3, 3e5), places(rng, 90, 3e4, 3e5)
    alone = read_stars(drawn(tmp_path / "a.fits", stars, (), seed))
    among = read_stars(drawn(tmp_path / "b.fits", stars, galaxies, seed))
    assert alone.count >= 110
    assert sum("galaxy" in spot.why for spot in alone.refused) <= 3
    assert among.fwhm_px.value == pytest.approx(alone.fwhm_px.value, rel=0.02)
    assert among.hfd_px.value == pytest.approx(alone.hfd_px.value, rel=0.03)
    refused = [(spot.x, spot.y) for spot in among.refused if "galaxy" in spot.why]
    found = np.hypot(*(np.array(refused)[:, None] - galaxies[None, :, :2]).transpose(2, 0, 1)).min(axis=0) < 3
    assert found.mean() > 0.85, "galaxies are named as such"


@pytest.mark.parametrize("scatter", [0.0, 60.0, 200.0])
def test_saturation_is_found_whether_its_level_scatters_or_not(tmp_path, scatter):
    rng = np.random.default_rng(7)
    stars = places(rng, 150, 4e3, 2e6)
    found = read_stars(drawn(tmp_path / "a.fits", stars, (), 7, top=20_000.0, scatter=scatter))
    # A star of that seeing has 7.1 % of its light in the middle pixel, 6 % where it lies between pixels.
    certain = (0.85 * 0.06 * stars[:, 2] > 20_000 - SKY).sum()
    possible = (1.15 * 0.071 * stars[:, 2] > 20_000 - SKY).sum()
    assert certain > 30
    assert certain <= found.saturated + 3
    assert found.saturated <= possible
    assert found.fwhm_px.value == pytest.approx(
        read_stars(drawn(tmp_path / "b.fits", stars, (), 7)).fwhm_px.value, rel=0.02
    )


def test_no_frame_of_whole_stars_is_called_saturated(tmp_path):
    for seed in range(4):
        stars = places(np.random.default_rng(seed), 150, 4e3, 4e5)
        assert read_stars(drawn(tmp_path / f"{seed}.fits", stars, (), seed)).saturated == 0


def shapes(hfd, fwhm=None, x=None, y=None, flux=None, snr=100.0):
    count = len(hfd)
    rng = np.random.default_rng(0)
    x = rng.uniform(0, 4000, count) if x is None else x
    y = rng.uniform(0, 3000, count) if y is None else y
    ones = np.ones(count)
    flux = 1e5 * ones if flux is None else flux
    fwhm = np.array(hfd) if fwhm is None else fwhm
    return Shapes(x, y, flux, ones, np.array(hfd), fwhm, ones, ones, snr * ones, np.zeros(count, bool))


def test_stars_that_grow_across_the_field_are_all_stars():
    """Twice as large in one corner as in the other, with 3 % of noise: only the one galaxy among them is refused."""
    rng = np.random.default_rng(1)
    x, y = rng.uniform(0, 4000, 400), rng.uniform(0, 3000, 400)
    size = 2.5 * (1 + 0.5 * (x / 4000 + y / 3000)) * rng.normal(1, 0.03, 400)
    size[17] *= 1.8
    broad = broader_than_stars(shapes(size, x=x, y=y), np.ones(400, bool))
    assert broad[17]
    assert broad.sum() <= 3


def test_the_limits_of_what_is_told():
    size = np.full(populations.ENOUGH_STARS, 3.0)
    size[-1] = 3.0 * 1.5
    every = np.ones(len(size), bool)
    assert list(np.flatnonzero(broader_than_stars(shapes(size), every))) == [len(size) - 1]
    assert not broader_than_stars(shapes(size[1:]), every[1:]).any(), "one star too few"
    assert not broader_than_stars(shapes(size, fwhm=np.full(len(size), 3.0)), every).any(), "by its neighbour's light"
    small = np.where(size > 3, 3.0 * np.exp(populations.LEAST_BROADER - 0.01), size)
    assert not broader_than_stars(shapes(small), every).any()


def test_the_commonest_value_is_of_the_fullest_window():
    assert commonest(np.array([1.0, 2.0, 2.01, 2.02, 5.0, 5.01]), 0.05) == pytest.approx(2.01)
    assert commonest(np.array([4.0, 1.0]), 0.05) == 1.0


@pytest.mark.parametrize(
    ("peaks", "flux", "piled"),
    [
        ([100.0] * 8 + [50.0] * 20, [1.0] * 4 + [2.0] * 4 + [0.5] * 20, 8),
        ([100.0] * 7 + [50.0] * 20, [1.0] * 4 + [2.0] * 3 + [0.5] * 20, 0),
        ([100.0] * 8 + [50.0] * 20, [1.0] * 8 + [0.5] * 20, 0),
        ([100.0] * 8 + [85.0] * 4, [1.0] * 4 + [2.0] * 4 + [0.5] * 4, 8),
        ([100.0] * 8 + [85.0] * 5, [1.0] * 4 + [2.0] * 4 + [0.5] * 5, 0),
        ([-1.0] * 9, [1.0] * 9, 0),
    ],
)  # fmt: skip
def test_peaks_pile_up_or_do_not(peaks, flux, piled):
    found = piled_up(shapes([3.0] * len(peaks), flux=np.array(flux)), np.array(peaks))
    assert found.sum() == piled


@pytest.mark.parametrize("fwhm_px", [1.3, 1.6, 2.0, 2.6, 4.0])
def test_small_stars_are_of_their_own_size_with_and_without_a_mosaic(tmp_path, fwhm_px):
    stars = places(np.random.default_rng(5), 150, 2e4, 4e5)
    path = drawn(tmp_path / "a.fits", stars, (), 5, fwhm_px=fwhm_px)
    plain = read_stars(path)
    assert abs(plain.fwhm_px.value - fwhm_px) < 2 * plain.fwhm_px.standard
    assert plain.fwhm_px.value == pytest.approx(fwhm_px, rel=0.03)
    if fwhm_px >= 2.6:
        joined = read_stars(path, mosaic=True)
        assert abs(joined.fwhm_px.value - fwhm_px) < 2 * joined.fwhm_px.standard
        assert joined.fwhm_px.value == pytest.approx(fwhm_px, rel=0.03)
        assert joined.fwhm_px.standard > plain.fwhm_px.standard, "two pixels in a row tell less"


@pytest.mark.parametrize(
    ("measured", "corrected"), [(1.0, 0.8726), (1.25, 1.0908), (1.42, 1.298), (1.77, 1.697), (2.5, 2.5), (9.0, 9.0)]
)
def test_the_correction_of_widths_by_hand(measured, corrected):
    assert corrected_fwhm(np.array([measured]))[0] == pytest.approx(corrected, abs=5e-4)


def test_what_stays_uncertain_grows_for_smaller_stars():
    shares = [fwhm_share(width) for width in (0.5, 1.0, 1.2, 1.6, 2.0, 3.0, 5.0)]
    assert shares == sorted(shares, reverse=True)
    assert shares[-1] == 0.01
    assert shares[0] == pytest.approx(0.065 + 0.8 * (1.25 / 1.146 - 0.5))
    assert hfd_share(1.2) == pytest.approx(0.01 + 0.18 * 0.5)
    assert hfd_share(1.7) == hfd_share(9.0) == 0.01

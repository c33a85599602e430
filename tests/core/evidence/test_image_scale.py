"""The measured image scale: every WCS form, two stars, typed; and what the rig makes of it."""

import hashlib
import math

import numpy as np
import pytest
from astropy.io import fits
from astropy.wcs import WCS

from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.evidence.headers.headers import frame_header
from wyntaxis.core.evidence.scale.image_scale import (
    keep_reading,
    read_solved_frame,
    scale_of_header,
    two_star_scale,
    typed_scale,
)
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.optics.imaging import pixel_scale
from wyntaxis.core.quantity_kinds import FOCAL_LENGTH
from wyntaxis.core.rig.edit import apply
from wyntaxis.core.rig.store import validated

SCALE = 1.5


def header(scale=SCALE, angle=0.0, *, mirrored=False, crpix=None, form="CD", size=(600, 400), dec=49.9):
    """A solved header: square pixels of a scale in arcsec, the frame's top at a position angle."""
    found = fits.Header()
    found["SIMPLE"], found["BITPIX"], found["NAXIS"] = True, 8, 2
    found["NAXIS1"], found["NAXIS2"] = size
    found["CTYPE1"], found["CTYPE2"] = "RA---TAN", "DEC--TAN"
    found["CRVAL1"], found["CRVAL2"] = 333.8, dec
    found["CRPIX1"], found["CRPIX2"] = crpix or ((size[0] + 1) / 2, (size[1] + 1) / 2)
    step, turn, side = scale / 3600, math.radians(angle), 1 if mirrored else -1
    cd = np.array([[side * math.cos(turn), math.sin(turn)], [-side * math.sin(turn), math.cos(turn)]])
    if form == "CD":
        for (i, j), value in np.ndenumerate(cd):
            found[f"CD{i + 1}_{j + 1}"] = step * value
    elif form == "PC":
        found["CDELT1"], found["CDELT2"] = step, step
        for (i, j), value in np.ndenumerate(cd):
            found[f"PC{i + 1}_{j + 1}"] = value
    else:
        found["CDELT1"], found["CDELT2"], found["CROTA2"] = side * step, step, -angle * side
    return found


def without_cd(found):
    for i, j in ((1, 1), (1, 2), (2, 1), (2, 2)):
        found.pop(f"CD{i}_{j}")
    return found


def with_sip(found):
    found["CTYPE1"], found["CTYPE2"] = "RA---TAN-SIP", "DEC--TAN-SIP"
    found["A_ORDER"], found["B_ORDER"], found["A_3_0"], found["B_0_3"] = 3, 3, 2e-8, 2e-8
    found["A_1_2"], found["B_2_1"] = 2e-8, 2e-8
    return found


@pytest.mark.parametrize(
    "found",
    [
        header(),
        header(angle=37),
        header(angle=200, mirrored=True),
        header(form="PC", angle=-65),
        header(form="CROTA", angle=20),
        header(crpix=(-2000, 3000), angle=12),
        header(dec=89.999, angle=12),
        with_sip(header(angle=37)),
    ],
    ids=["cd", "rotated", "mirrored", "pc", "crota", "off-centre", "pole", "sip"],
)
def test_the_scale_of_every_form(found):
    reading = scale_of_header(found)
    wcs = WCS(found)
    x, y = (found["NAXIS1"] - 1) / 2, (found["NAXIS2"] - 1) / 2
    corners = wcs.all_pix2world([[x - 0.5, y - 0.5], [x + 0.5, y - 0.5], [x + 0.5, y + 0.5], [x - 0.5, y + 0.5]], 0)
    # The middle pixel's area on the sky by spherical geometry, the long way round.
    vectors = [
        np.array([math.cos(d) * math.cos(a), math.cos(d) * math.sin(a), math.sin(d)]) for a, d in np.radians(corners)
    ]
    diagonals = np.cross(vectors[2] - vectors[0], vectors[3] - vectors[1])
    by_area = math.degrees(math.sqrt(np.linalg.norm(diagonals) / 2)) * 3600
    assert reading.scale_arcsec_px == pytest.approx(by_area, rel=1e-6)
    if found["CRPIX1"] > 0:
        assert reading.scale_arcsec_px == pytest.approx(SCALE, rel=1e-7)
    else:  # 0.03 rad off the tangent point, a pixel spans less sky: cos^1.5 of the angle
        off = math.radians(math.hypot(found["CRPIX1"] - 300.5, found["CRPIX2"] - 200.5) * SCALE / 3600)
        assert reading.scale_arcsec_px == pytest.approx(SCALE * math.cos(math.atan(off)) ** 1.5, rel=1e-6)


def test_angle_mirror_and_distortion_are_told():
    plain = scale_of_header(header(angle=37))
    assert plain.position_angle_deg == pytest.approx(37, abs=1e-6)
    assert not plain.mirrored
    assert plain.center_deg == pytest.approx((333.8, 49.9))
    assert scale_of_header(header(angle=37, mirrored=True)).mirrored
    assert "at the corner the scale is" in scale_of_header(with_sip(header())).notes[-1]


@pytest.mark.parametrize(
    "change, words",
    [
        (lambda h: h.update(CTYPE1="FREQ", CTYPE2="STOKES"), "not one of the sky"),
        (lambda h: h.update(CD1_1=0.0, CD1_2=0.0), "a scale of 0"),
        (lambda h: h.update(CD1_1=2.0, CD2_2=2.0), "no telescope has"),
        (lambda h: h.pop("NAXIS1"), "does not give the frame's size"),
        (without_cd, "neither a CD matrix nor CDELT"),
        (lambda h: h.update({f"CD{i}_{j}": 0.0 for i in (1, 2) for j in (1, 2)}), "a scale of 0"),
        (lambda h: h.update(PC1_1=1.0, PC2_2=1.0), "a PC matrix that disagree"),
        (lambda h: h.update(PC1_2=1.0, CDELT1=SCALE / 3600, CDELT2=SCALE / 3600), "a PC matrix that disagree"),
        (
            lambda h: without_cd(h).update(CDELT1=0.0, CDELT2=0.0),
            "a scale of 0",
        ),
    ],
)
def test_what_is_no_solution_is_refused(change, words):
    found = header()
    change(found)
    with pytest.raises(ValueError, match=words):
        scale_of_header(found)


def test_matrices_side_by_side_that_tell_one_scale_are_taken():
    both = header(angle=37)
    both.update({key: value for key, value in header(angle=37, form="PC").items() if key.startswith(("PC", "CDELT"))})
    assert scale_of_header(both).scale_arcsec_px == pytest.approx(SCALE)
    assert frame_header(both, "a").scale_arcsec_px == pytest.approx(SCALE)
    both["PC1_1"] *= 1.01
    assert frame_header(both, "a").scale_arcsec_px is None


def test_a_frame_on_disk_is_kept_with_its_evidence(tmp_path, example):
    path = tmp_path / "solved.fits"
    hdus = fits.HDUList([fits.PrimaryHDU(), fits.ImageHDU(np.zeros((400, 600), np.uint8))])
    hdus[1].header.update({k: v for k, v in header().items() if not k.startswith(("NAXIS", "SIMPLE", "BITPIX"))})
    hdus[1].header["XBINNING"] = 2
    hdus.writeto(path)
    rig = validated(example)
    reading = read_solved_frame(path, rig.sensor)
    assert (reading.binning, reading.sha256) == (2, hashlib.sha256(path.read_bytes()).hexdigest())
    assert "header says binning 2, the frame's size is that of binning 10" in reading.notes[0]
    rig = apply(rig, keep_reading(rig, reading))
    kept = rig.measured["pixel_scale_arcsec_px"]
    assert (kept.evidence.file, kept.evidence.method, kept.value) == ("solved.fits", "wcs", pytest.approx(SCALE))
    # Measured at binning 2, told for the binning in use, 1.
    assert evaluate(rig).quantities["pixel_scale_arcsec_px"].measured.value == pytest.approx(SCALE / 2)
    assert evaluate(rig).value(FOCAL_LENGTH) == pytest.approx(206.264806 * 3.9 * 2 / SCALE)


@pytest.mark.parametrize(
    "content, words",
    [
        (b"", "no readable FITS"),
        (b"\x00" * 5000, "no readable FITS"),
        (b"SIMPLE  =", "no readable FITS"),
        (None, "cannot be read"),
    ],
)
def test_files_that_are_no_frames_get_one_line(tmp_path, content, words):
    path = tmp_path / "broken.fits"
    if content is not None:
        path.write_bytes(content)
    with pytest.raises(InputError, match=words) as caught:
        read_solved_frame(path)
    assert "\n" not in str(caught.value)
    fits.PrimaryHDU(np.zeros((4, 4), np.uint8)).writeto(tmp_path / "unsolved.fits")
    with pytest.raises(InputError, match="holds no solved field"):
        read_solved_frame(tmp_path / "unsolved.fits")


def test_two_stars_give_the_scale_that_astropy_has():
    """Two pixels far apart in a wide frame: the separation on the sky is not the plane's distance times the scale."""
    wcs = WCS(header(scale=60, size=(1200, 900)))
    one, other = (40.0, 30.0), (1150.0, 860.0)
    (ra1, dec1), (ra2, dec2) = np.radians(wcs.all_pix2world([one, other], 0))
    cosine = math.sin(dec1) * math.sin(dec2) + math.cos(dec1) * math.cos(dec2) * math.cos(ra1 - ra2)
    separation = math.degrees(math.acos(cosine)) * 3600
    reading = two_star_scale(one, other, separation, middle_px=(599.5, 449.5))
    assert reading.scale_arcsec_px == pytest.approx(60, rel=1e-8)
    assert separation / math.dist(one, other) < 59.5
    assert reading.relative == pytest.approx(math.sqrt(2) * 0.3 / math.dist(one, other))
    with pytest.raises(ValueError, match="one pixel apart"):
        two_star_scale(one, one, 100)
    with pytest.raises(ValueError, match="120 degrees"):
        two_star_scale(one, other, 0)
    with pytest.raises(ValueError, match="above 0"):
        typed_scale(0, 0.1)


@pytest.mark.parametrize("planted_mm", [-3.0, -0.5, 0.0, 0.716, 4.0])
def test_a_planted_spacing_error_comes_back(example, planted_mm):
    """f_r = 61.5/0.24 = 256.25 mm; e mm too far makes m = 0.76 − e/256.25."""
    focal = 676 * (0.76 - planted_mm / 256.25)
    scale = pixel_scale(3.9, 1, focal)
    rig = validated(example)
    rig = apply(rig, keep_reading(rig, typed_scale(scale, scale * 2e-4)))
    row = evaluate(rig).quantities["spacing_error_by_scale_mm"].measured
    # u(f0) = 4/√3 mm dominates: 256.25 × 0.76 × 2.309/676 = 0.665 mm.
    assert row.value == pytest.approx(planted_mm, abs=1e-6)
    assert row.uncertainty == pytest.approx(0.667, rel=0.03)


@pytest.mark.parametrize(
    "focal, verdict, words",
    [
        (512.0, Verdict.HOLDS, ""),
        (676.0, Verdict.FAILS, "taken without Aldous 0.76x"),
        (513.76 / 2, Verdict.FAILS, "binned 2 times more"),
        (513.76 * 3, Verdict.FAILS, "binned 3 times less"),
        (505.0, Verdict.FAILS, "suggests a train 2.6 mm longer"),
    ],
)
def test_the_finding_and_its_story(example, focal, verdict, words):
    example["measured"] = {"effective_focal_length_mm": {"value": focal, "standard_uncertainty": 0.2}}
    found = evaluate(validated(example)).finding("scale.measured")
    assert found.verdict is verdict
    assert words in found.remedy.text
    assert not [f for f in evaluate(validated(example)).findings if f.id == "legs.agree"]


def test_without_a_tolerance_the_focal_length_is_taken_as_rounded(example):
    del example["telescope"]["focal_length_tolerance_mm"]
    example["measured"] = {"effective_focal_length_mm": {"value": 512.0}}
    assert evaluate(validated(example)).finding("scale.measured").verdict is Verdict.HOLDS
    example["train"][0]["magnification"] = 1
    example["measured"] = {"effective_focal_length_mm": {"value": 676}}
    found = evaluate(validated(example)).finding("scale.measured")
    assert "says nothing about the spacing" in found.arithmetic[-1]


def test_more_axes_than_the_frame_has():
    found = header()
    found["WCSAXES"] = 3
    found["CTYPE3"] = "STOKES"
    assert scale_of_header(found).scale_arcsec_px == pytest.approx(SCALE, rel=1e-6)


def test_declination_first_and_galactic_frames_give_the_same_place():
    plain = scale_of_header(header(angle=30.0))
    swapped = header(angle=30.0)
    swapped["CTYPE1"], swapped["CTYPE2"] = "DEC--TAN", "RA---TAN"
    swapped["CRVAL1"], swapped["CRVAL2"] = 49.9, 333.8
    rows = {(i, j): swapped[f"CD{i}_{j}"] for i in (1, 2) for j in (1, 2)}
    for j in (1, 2):
        swapped[f"CD1_{j}"], swapped[f"CD2_{j}"] = rows[2, j], rows[1, j]
    found = scale_of_header(swapped)
    assert found.center_deg == pytest.approx(plain.center_deg)
    assert found.position_angle_deg == pytest.approx(30.0)
    assert found.mirrored is plain.mirrored
    galactic = header()
    galactic["CTYPE1"], galactic["CTYPE2"] = "GLON-TAN", "GLAT-TAN"
    galactic["CRVAL1"], galactic["CRVAL2"] = 122.93192, 27.12825  # the north celestial pole, J2000
    found = scale_of_header(galactic)
    assert found.center_deg[1] == pytest.approx(90.0, abs=1e-3)
    assert found.scale_arcsec_px == pytest.approx(SCALE, rel=1e-6)


def test_behind_a_prism_the_guide_focal_length_is_measured_with_the_main_one(example):
    """0.5 % longer than computed: the guide scale 1.605923 becomes 1.597933, the guide focal length 516.329 mm."""
    example["measured"] = {"effective_focal_length_mm": {"value": 513.76 * 1.005, "standard_uncertainty": 0.2}}
    evaluation = evaluate(validated(example))
    row = evaluation.quantities["guide_scale_arcsec_px"]
    assert row.measured.value == pytest.approx(1.605923 / 1.005, rel=1e-6)
    assert row.measured.uncertainty == pytest.approx(1.605923 / 1.005 * 0.2 / 516.3288, rel=1e-3)
    assert evaluation.guide_focal_length.value == pytest.approx(516.3288)


def test_pixels_that_are_not_square_make_the_scale_less_certain():
    """Across 1.5 ″, down 1.56 ″: their half-difference as a rectangle, 0.06/(2√3) = 0.01732 ″/px, on top."""
    square, long = header(), header()
    long["CD2_2"] *= 1.04
    plain, found = scale_of_header(square), scale_of_header(long)
    own = plain.standard_arcsec_px * found.scale_arcsec_px / plain.scale_arcsec_px
    assert found.standard_arcsec_px == pytest.approx(math.hypot(own, 0.06 / (2 * math.sqrt(3))), rel=1e-4)

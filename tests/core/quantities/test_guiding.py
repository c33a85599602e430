"""Sampling, field solving and guiding: numbers worked by hand, and what their findings say."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.optics import field_rotation, guiding
from wyntaxis.core.rig.store import validated
from wyntaxis.core.train import sampling


def test_hand_worked_numbers():
    # 25 px of 1.605923″ in 12 pulses at 0.5× and 60°: 1000·40.148/(12·15.041·0.5·0.5) = 889.747 ms
    assert guiding.calibration_pulse_ms(25, 1.605923, 12, 0.5, 60) == pytest.approx(889.747, abs=1e-3)
    assert guiding.pulses_needed(400, 800, 12) == 24
    assert guiding.flexure_budget(1, 1.016, 180) == pytest.approx(0.0056444, abs=1e-7)
    # φ = 47.3°, due south at 50°: 7.2921e-5 · 0.678160 / 0.642788 = 7.6934e-5 rad/s
    assert abs(field_rotation.rotation_rate(47.3, 180, 50)) == pytest.approx(7.6934e-5, rel=1e-4)
    assert field_rotation.rotation_exposure(7.6934e-5, 3605.55) == pytest.approx(3.605, abs=1e-3)
    assert field_rotation.rotation_rate(47.3, 90, 50) == pytest.approx(0, abs=1e-18)
    assert guiding.culmination_altitude(47.3, 60) == pytest.approx(77.3)
    with pytest.raises(ValueError, match="pole"):
        guiding.calibration_pulse_ms(25, 1.6, 12, 0.5, 90)


@given(st.floats(-80, 80), st.floats(0, 360), st.floats(1, 85))
def test_the_rotation_is_that_of_the_parallactic_angle(latitude, azimuth, altitude):
    """The rate is d q/d t of the parallactic angle: compared with a finite difference in hour angle."""

    def parallactic(hour):
        return math.atan2(math.sin(hour), math.tan(phi) * math.cos(dec) - math.sin(dec) * math.cos(hour))

    phi, az, alt = (math.radians(v) for v in (latitude, azimuth, altitude))
    sine = math.sin(phi) * math.sin(alt) + math.cos(phi) * math.cos(alt) * math.cos(az)
    dec = math.asin(max(-1.0, min(1.0, sine)))
    if math.cos(dec) < 0.05:
        return
    hour = math.atan2(
        -math.sin(az) * math.cos(alt), math.cos(phi) * math.sin(alt) - math.sin(phi) * math.cos(alt) * math.cos(az)
    )
    step = 1e-5
    turned = (parallactic(hour + step) - parallactic(hour - step) + math.pi) % (2 * math.pi) - math.pi
    rate = turned / (2 * step) * guiding.EARTH_RATE_RAD_S
    assert abs(field_rotation.rotation_rate(latitude, azimuth, altitude)) == pytest.approx(
        abs(rate), rel=1e-4, abs=1e-9
    )


def test_the_map_has_the_standstill_due_east():
    azimuths, altitudes, longest = field_rotation.rotation_map(47.3, 3605.55)
    assert longest.shape == (altitudes.size, azimuths.size)
    assert azimuths[np.argmax(longest[20, :180])] == 90
    assert longest[25, 180] == pytest.approx(3.605, abs=1e-3)


@pytest.mark.parametrize("exposure_s", [5.0, 10.0, 300.0])
def test_the_line_of_an_exposure_lies_where_the_map_says_so(exposure_s):
    latitude, radius = 47.3, 3605.55
    azimuths, altitudes = field_rotation.exposure_line(latitude, radius, 1.0, exposure_s)
    inside = azimuths > 0.01  # the end at the meridian is the steep one
    found = field_rotation.rotation_exposure(
        field_rotation.rotation_rate(latitude, azimuths[inside], altitudes[inside]), radius
    )
    assert found == pytest.approx(exposure_s, rel=1e-6)
    # 1/(3605.55 · 7.2921e-5 · cos 47.3°) = 5.609 s is the longest at the meridian: cos h = 5 s/5.609 s, h = 26.94°.
    assert altitudes[0] == pytest.approx(26.94 if exposure_s == 5 else 0.0, abs=0.02)


@pytest.mark.parametrize(("latitude", "exposure_s"), [(47.3, 0.0), (47.3, -10.0), (90.0, 10.0)])
def test_no_line_for_no_time_or_where_nothing_turns(latitude, exposure_s):
    azimuths, altitudes = field_rotation.exposure_line(latitude, 3605.55, 1.0, exposure_s)
    assert azimuths.size == altitudes.size == 0


def test_binnings_sampling_and_advice(example):
    example["site"] |= {"seeing_good_arcsec": 1.8, "seeing_poor_arcsec": 3.6}
    rows = sampling.binning_rows(validated(example), 513.76)
    assert [row.binning for row in rows] == [1, 2, 3, 4]
    assert (rows[0].in_use, rows[1].in_use) == (True, False)
    assert rows[0].scale_arcsec_px == pytest.approx(1.565775, abs=1e-6)
    assert rows[1].sampling_usual == pytest.approx(0.83026, abs=1e-5)
    assert (rows[0].sampling_good, rows[0].sampling_poor) == pytest.approx((1.14959, 2.29919), abs=1e-5)
    assert rows[0].advice == "extender 1.20× to 1.81×"
    assert sampling.match_advice(5) == "reducer 0.40× to 0.60×"
    words = [sampling.sampling_word(value) for value in (1.4, 1.7, 2.5, 3.5, 4.5)]
    assert words == ["undersampled", "a little undersampled", "matched", "a little oversampled", "oversampled"]


def test_the_search_range_is_at_least_five_percent(example):
    rig = validated(example)
    found = evaluate(rig).search
    assert (found.low_arcsec_px, found.high_arcsec_px) == pytest.approx((1.487486, 1.644064), abs=1e-6)
    assert found.radius_deg == pytest.approx(1.56783, abs=1e-4)
    wide = sampling.plate_solving_hints(rig.sensor, 1.5, 500, 0.04)
    assert wide.share == pytest.approx(0.08)
    example["train"][4]["sensor"]["binning"] = 2
    text = evaluate(validated(example)).search.text
    assert "binned pixel size 7.800 µm, or pixel size 3.900 µm with binning 2" in text
    assert "scale 2.9750 to 3.2881 arcsec/px" in text


@pytest.mark.parametrize(
    "site, words",
    [
        ({"seeing_good_arcsec": 3.0}, "seeing must not fall"),
        ({"horizon": [[10, 5], [0, 6]]}, "azimuths must not fall"),
        ({"horizon": [[0, 95]]}, "horizon"),
    ],
)
def test_a_site_that_cannot_be_is_refused(example, site, words):
    example["site"] |= site
    with pytest.raises(InputError, match=words):
        validated(example)


def guided(**settings):
    return lambda doc: doc["guiding"].update(settings=settings)


def separate(exposure=180, drift=None, **guiding_settings):
    def change(doc):
        telescope = {"id": "g", "focal_length_mm": 200, "aperture_mm": 50}
        doc["guiding"] = {"kind": "separate", "telescope": telescope, "path": doc["guiding"]["path"]}
        if exposure:
            doc["plan"] = {"exposure_s": exposure}
        if drift is not None:
            doc["measured"] = {"flexure_arcsec_s": {"value": drift}}

    return change


def alt_azimuth(exposure, dec=20.0):
    def change(doc):
        doc |= {"mount": {"kind": "alt_azimuth"}, "plan": {"exposure_s": exposure}}
        doc["framing"] = {"ra_deg": 10.0, "dec_deg": dec}

    return change


def without_guiding(doc):
    doc["guiding"] = {"kind": "none"}


@pytest.mark.parametrize(
    "change, finding_id, verdict, words",
    [
        (guided(centroid_error_px=0.1), "guiding.centroid", "holds", ""),
        (guided(centroid_error_px=0.6), "guiding.centroid", "fails", "0.49 guide px or less"),
        (guided(), "guiding.calibration", "unproven", "Set 445 ms"),
        (guided(calibration_pulse_ms=450), "guiding.calibration", "holds", ""),
        (guided(calibration_pulse_ms=700), "guiding.calibration", "tight", "Set 445 ms"),
        (guided(calibration_pulse_ms=200), "guiding.calibration", "fails", "Set 445 ms"),
        (guided(calibration_pulse_ms=2000), "guiding.calibration", "fails", "Set 445 ms"),
        (
            guided(calibration_pulse_ms=1700, calibration_declination_deg=75),
            "guiding.calibration", "tight", "nearer the celestial equator than 75°",
        ),
        (guided(dither_main_px=0.3), "guiding.dither", "fails", "at least 0.6 main px"),
        (guided(dither_main_px=20, search_region_px=10), "guiding.dither", "fails", "at most 10.3 main px"),
        (separate(exposure=None), "guiding.flexure", "unproven", "planned exposure"),
        (separate(), "guiding.flexure", "unproven", "Guide for an hour"),
        (separate(drift=0.004), "guiding.flexure", "holds", ""),
        (separate(drift=-0.02), "guiding.flexure", "fails", "no longer than 78 s"),
        (alt_azimuth(2), "rotation.exposure", "holds", ""),
        (alt_azimuth(60), "rotation.exposure", "fails", "no longer than 2.5 s on the meridian"),
        (lambda doc: doc.update(mount={"kind": "alt_azimuth"}), "rotation.exposure", "unproven", "framing"),
        (lambda doc: doc.update(mount={"kind": "equatorial"}), "rotation.exposure", "holds", ""),
    ],
)  # fmt: skip
def test_findings(example, change, finding_id, verdict, words):
    change(example)
    found = evaluate(validated(example)).finding(finding_id)
    assert found.verdict == verdict
    assert words in found.remedy.text
    assert bool(words) == bool(found.remedy.text)


def test_without_guiding_there_is_nothing_to_say_of_it(example):
    without_guiding(example)
    assert not [f for f in evaluate(validated(example)).findings if f.id.startswith("guiding.")]


def test_the_ways_to_guide():
    rows = guiding.guide_rows([("prism", 513.76, True), ("telescope", 200, False)], 4.0, 2, 1.565775)
    assert [(row.way, row.binning) for row in rows if row.in_use] == [("prism", 2)]
    assert rows[0].ratio == pytest.approx(4 / 3.9, rel=1e-6)
    assert rows[3].scale_arcsec_px == pytest.approx(4.125296, abs=1e-6)
    assert rows[3].poor_main_px == pytest.approx(0.2 * 4.125296 / 1.565775, abs=1e-6)

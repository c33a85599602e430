"""What guide logs prove: each finding at both sides of its limits, with its arithmetic."""

import datetime
from dataclasses import replace

import pytest

from tests.core.evidence.test_guide_log import run_of
from tests.rigs import clean_document
from wyntaxis.core.evaluation import Evidence, evaluate
from wyntaxis.core.evidence.guide_log.kind import GUIDE_LOG
from wyntaxis.core.evidence.guide_log.result import GuideResult, measured
from wyntaxis.core.evidence.guide_log.run import GuideOptics
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.optics import field_rotation, guiding
from wyntaxis.core.quantities.guide_log import guide_log_optics, guide_star_px
from wyntaxis.core.quantities.numbers import numbers_of
from wyntaxis.core.rig.store import validated

TODAY = datetime.datetime.now(datetime.UTC)


def quantity_value(value, standard=0.001):
    return {"value": value, "standard_uncertainty": standard, "source": "guide log night"}


def rig(measured=None, settings=None, mount=None, calibration=None, plan=None, **more):
    """The rig in order with measured numbers of the guiding, and settings besides."""
    document = clean_document() | more
    document["framing"] = {"ra_deg": 10.0, "dec_deg": 40.0, "position_angle_deg": 20.0}
    document["measured"] = {
        key: quantity_value(*(value if isinstance(value, tuple) else (value,)))
        for key, value in (measured or {}).items()
    }
    document["guiding"]["settings"] |= {"stop_threshold_arcsec": 3.0, **(settings or {})}
    document["mount"] |= mount or {}
    document["plan"] |= plan or {}
    if calibration is not None:
        document["guiding"]["calibration"] = calibration
    return validated(document)


# FWHM 2.6″ seeing and the aperture's diffraction: 2.832″, so sigma is 1.2027″ and half of it 0.6014″. The main scale is
# 1.5658 ″/px, an exposure 300 s with 1 px of drift: 0.3132 ″/min.
CASES = [
    ("guiding.rms", {"measured": {"guide_rms_arcsec": 0.59}}, Verdict.HOLDS),
    ("guiding.rms", {"measured": {"guide_rms_arcsec": 0.62}}, Verdict.TIGHT),
    ("guiding.rms", {"measured": {"guide_rms_arcsec": 1.21}}, Verdict.FAILS),
    ("guiding.rms", {}, None),
    ("guiding.drift", {"measured": {"guide_drift_dec_arcsec_min": 0.30}}, Verdict.HOLDS),
    ("guiding.drift", {"measured": {"guide_drift_dec_arcsec_min": -0.32}}, Verdict.FAILS),
    ("guiding.drift", {"measured": {"guide_drift_ra_arcsec_min": (0.30, 0.02)}}, Verdict.TIGHT),
    ("guiding.period", {"measured": {"guide_period_s": (479, 2)}}, Verdict.UNPROVEN),
    ("guiding.period", {"measured": {"guide_period_s": (479, 2)}, "mount": {"worm_period_s": 488.0}}, Verdict.HOLDS),
    ("guiding.period", {"measured": {"guide_period_s": (462, 9)}, "mount": {"worm_period_s": 479.0}}, Verdict.TIGHT),
    ("guiding.period", {"measured": {"guide_period_s": (239.5, 1)}, "mount": {"worm_period_s": 479.0}}, Verdict.FAILS),
    ("guiding.aggression", {"measured": {"guide_autocorrelation": 0.3}}, Verdict.HOLDS),
    ("guiding.aggression", {"measured": {"guide_autocorrelation": -0.18}}, Verdict.TIGHT),
    ("guiding.aggression", {"measured": {"guide_autocorrelation": -0.21}}, Verdict.FAILS),
    ("guiding.aggression", {"measured": {"guide_autocorrelation": 0.61}}, Verdict.FAILS),
    ("guiding.settling", {"measured": {"guide_settle_s": 20}}, Verdict.UNPROVEN),
    ("guiding.settling", {"measured": {"guide_settle_s": 20}, "settings": {"settle_allowed_s": 20.1}}, Verdict.HOLDS),
    ("guiding.settling", {"measured": {"guide_settle_s": 20.2}, "settings": {"settle_allowed_s": 20.1}}, Verdict.FAILS),
    ("guiding.limit", {"measured": {"guide_rms_arcsec": 0.9, "guide_over_limit_percent": 0.2}}, Verdict.HOLDS),
    ("guiding.limit", {"measured": {"guide_rms_arcsec": 1.01}}, Verdict.TIGHT),
    ("guiding.limit", {"measured": {"guide_rms_arcsec": 0.9, "guide_over_limit_percent": 1.1}}, Verdict.FAILS),
    (
        "guiding.limit",
        {"measured": {"guide_rms_arcsec": 0.5}, "settings": {"stop_threshold_arcsec": 3.2}},
        Verdict.TIGHT,
    ),
    ("guiding.scale_measured", {"measured": {"guide_scale_arcsec_px": (1.60, 0.006)}}, Verdict.HOLDS),
    ("guiding.scale_measured", {"measured": {"guide_scale_arcsec_px": (1.22, 0.006)}}, Verdict.FAILS),
    ("guiding.darks", {"settings": {"dark_exposures_s": [1, 2]}}, Verdict.HOLDS),
    ("guiding.darks", {"settings": {"dark_exposures_s": [1, 3]}}, Verdict.TIGHT),
    ("guiding.darks", {"settings": {"dark_exposures_s": [1]}}, Verdict.FAILS),
    ("guiding.darks", {}, None),
]


@pytest.mark.parametrize(("finding", "entries", "verdict"), CASES)
def test_a_finding_at_its_limits(finding, entries, verdict):
    found = evaluate(rig(**entries)).finding(finding)
    assert (found.verdict if found is not None else None) is verdict
    if found is not None:
        assert found.arithmetic
        assert found.source
        assert bool(found.remedy.text) == (verdict is not Verdict.HOLDS)


def test_words_of_findings():
    eager = evaluate(rig({"guide_autocorrelation": -0.4})).finding("guiding.aggression")
    weak = evaluate(rig({"guide_autocorrelation": 0.8})).finding("guiding.aggression")
    assert "too strong" in eager.title
    assert "too weak" in weak.title
    half = evaluate(rig({"guide_period_s": (239.5, 1)}, mount={"worm_period_s": 479.0})).finding("guiding.period")
    assert "2 times as fast" in half.title
    scale = evaluate(rig({"guide_scale_arcsec_px": (1.22, 0.006)})).finding("guiding.scale_measured")
    assert "24.0 % below" in scale.title
    limit = evaluate(rig({"guide_rms_arcsec": 0.9})).finding("guiding.limit")
    assert limit.arithmetic[0] == "3″ / 1.566 ″/px = 1.92 main px"


def days_ago(days):
    return (TODAY - datetime.timedelta(days=days)).strftime("%Y-%m-%dT%H:%M:%SZ")


@pytest.mark.parametrize(
    ("calibration", "settings", "verdict"),
    [
        ({"date": days_ago(3)}, {}, Verdict.HOLDS),
        ({"date": days_ago(70)}, {}, Verdict.TIGHT),
        ({"date": days_ago(400)}, {}, Verdict.FAILS),
        ({"binning": 1}, {}, Verdict.HOLDS),
        ({"binning": 2}, {}, Verdict.FAILS),
        ({"declination_deg": 69.0}, {}, Verdict.HOLDS),
        ({"declination_deg": 9.0}, {}, Verdict.TIGHT),
        ({"declination_deg": -21.0}, {}, Verdict.FAILS),
        ({"date": days_ago(3), "camera_angle_deg": 16.0}, {}, Verdict.HOLDS),
        ({"date": days_ago(3), "camera_angle_deg": -344.0}, {}, Verdict.HOLDS),
        ({"date": days_ago(3), "camera_angle_deg": 10.0}, {}, Verdict.TIGHT),
        ({"date": days_ago(3), "camera_angle_deg": 359.0}, {}, Verdict.FAILS),
        ({"pier_side": "west"}, {}, Verdict.TIGHT),
        ({"pier_side": "west"}, {"turns_calibration": True}, Verdict.HOLDS),
        ({"pier_side": "west"}, {"turns_calibration": False}, Verdict.FAILS),
        ({"date": days_ago(3), "not_square_deg": -11.0}, {}, Verdict.TIGHT),
        ({"angle_deg": 22.0}, {}, Verdict.UNPROVEN),
    ],
)
def test_whether_a_calibration_still_serves(calibration, settings, verdict):
    found = evaluate(rig(calibration=calibration, settings=settings)).finding("guiding.calibration_age")
    assert found.verdict is verdict


def test_dithers_that_never_settle_fail():
    ra = [0.0] * 20 + [9.0] * 40
    result = GuideResult(
        (measured([run_of(ra, dithers=(20,))], [], GuideOptics(settle_arcsec=1.0)).runs[0],), None, GuideOptics()
    )
    found = evaluate(rig(), Evidence().having(GUIDE_LOG, result)).finding("guiding.settling")
    assert found.verdict is Verdict.FAILS
    assert "never settles after 1 dither" in found.title


# The pole


def test_the_polar_error_by_hand():
    # 15.041 ″/s · 60 s · (1′ in radians) = 0.26251 ″/min.
    assert guiding.polar_error_at_least(-0.525) == pytest.approx(2.0, rel=1e-4)
    error, direction = guiding.polar_error_of([0.26251497 * 3.0, 0.0], [6.0, 0.0])
    assert (error, direction % 24) == (pytest.approx(3.0), pytest.approx(0.0))
    # 5′ at the equator: 7.2921e-5 · 5/60 · π/180 = 1.0606e-7 rad/s; 4000 px in 300 s.
    assert guiding.polar_smear(5.0, 0.0, 4000.0, 300.0) == pytest.approx(0.12727, rel=1e-4)
    assert guiding.polar_smear(5.0, 60.0, 4000.0, 300.0) == pytest.approx(0.25455, rel=1e-4)


def test_what_the_pole_smears():
    # Corner 3605.6 px from the middle, the guide star (14 + 4) mm / 3.9 µm = 4615 px more; declination 40°, 300 s.
    assert guide_star_px(numbers_of(rig()).evaluator) == pytest.approx(4615.38, abs=0.01)
    near, far = (evaluate(rig({"polar_drift_arcsec_min": (drift, 0.01)})) for drift in (0.3, -3.0))
    assert near.rows["polar_error_arcmin"].best.value == pytest.approx(0.3 / 0.26251497)
    assert near.finding("mount.polar").verdict is Verdict.HOLDS
    smear = 8220.9 * 7.2921e-5 * (3.0 / 0.26251497) / 60 * 3.14159265 / 180 / 0.7660444 * 300
    assert far.rows["polar_smear_px"].best.value == pytest.approx(smear, rel=1e-3)
    found = far.finding("mount.polar")
    assert found.verdict is Verdict.TIGHT
    assert "11.4′ at least" in found.title
    assert evaluate(rig({"polar_error_arcmin": (25.0, 0.5)})).finding("mount.polar").verdict is Verdict.FAILS
    assert evaluate(rig()).finding("mount.polar") is None


def test_a_turning_field_over_the_session():
    # At latitude 45° on the equator tan q = sin H: from −45° to 45° that is twice 35.264°. At the pole nothing turns.
    assert field_rotation.field_turn(45.0, 0.0, 6.0) == pytest.approx(70.5288, abs=1e-3)
    # At declination 20°: tan q = 0.70711 / (0.93969 − 0.34202 · 0.70711), so q = 45.376°.
    assert field_rotation.field_turn(45.0, 20.0, 6.0) == pytest.approx(90.752, abs=0.01)
    assert field_rotation.field_turn(90.0, 40.0, 6.0) == pytest.approx(0.0, abs=1e-9)
    assert field_rotation.common_share(6000, 4000, 0) == 1
    # By 90°: in two quarters the circle of 2000 px, in the other two the square; by 180° the circle alone.
    assert field_rotation.common_share(6000, 4000, 90) == pytest.approx((2 * 3.14159 + 8) * 1e6 / 24e6, rel=0.01)
    assert field_rotation.common_share(6000, 4000, 180) == pytest.approx(4 * 3.14159 * 1e6 / 24e6, rel=0.01)
    found = evaluate(rig(mount={"kind": "alt_azimuth"}))
    assert found.finding("mount.polar").verdict is Verdict.FAILS
    short = evaluate(rig(mount={"kind": "alt_azimuth"}, plan={"hours": 0.1}))
    assert short.rows["rotation_lost_percent"].best.value < found.rows["rotation_lost_percent"].best.value
    assert found.rows["rotation_recentre_min"].best.value > 0


def test_what_logs_are_told_of_the_rig():
    optics = guide_log_optics(numbers_of(rig(mount={"corrects": "ra"}, settings={"settle_s": 8.0})))
    assert optics.settle_arcsec == pytest.approx(0.5 * 1.605923, rel=1e-5)
    assert (optics.settle_s, optics.one_axis) == (8.0, True)
    assert optics.star_fwhm_arcsec == pytest.approx(2.832, abs=0.001)
    assert replace(optics, declination_deg=None).rate_is_stated


def test_stars_are_as_long_as_guiding_makes_them():
    entries = {"guide_rms_ra_arcsec": 1.2, "guide_rms_dec_arcsec": 0.3}
    row = evaluate(rig(entries)).rows["guide_elongation"]
    # sqrt(2.832² + (2.3548·1.2)²) / sqrt(2.832² + (2.3548·0.3)²) = 4.0017 / 2.9186
    assert row.computed.value == pytest.approx(1.3711, abs=0.001)
    assert row.verdict is Verdict.FAILS
    assert evaluate(rig(entries | {"star_elongation": (1.5, 0.02)})).rows["guide_elongation"].measured.value == 1.5
